package lab

import (
	"os"
	"path/filepath"
)

// theme is how the pages for people look and speak in the demo.
const theme = `{
  "name": "Lantern Ferries",
  "texts": {
    "en": {"help": "Questions? Network desk, extension 47."},
    "de": {"help": "Fragen? Netzbetreuung, Nebenstelle 47."}
  }
}
`

func writeTheme(dir string) error {
	return os.WriteFile(filepath.Join(dir, "theme.json"), []byte(theme), 0o600)
}
