package portal

import (
	"strings"
	"testing"
)

func TestThemes(t *testing.T) {
	theme, err := ReadTheme([]byte(`{"name": " Lantern Ferries ", "colours": {"accent": "#7a1f5c"},
		"dark": {"accent": "#f0a0d8"}, "texts": {"en": {"help": "Questions: extension 47", "hello": "Ahoy, %s!"}}}`))
	if err != nil || theme.Name != "Lantern Ferries" {
		t.Fatalf("%+v, %v", theme, err)
	}
	if css := string(theme.css()); css != "@media (prefers-color-scheme: light){:root{--brass:#7a1f5c;}}\n"+
		"@media (prefers-color-scheme: dark){:root{--brass:#f0a0d8;}}\n" {
		t.Error(css)
	}
	if w := theme.words(); w["en"]["hello"] != "Ahoy, %s!" || w["en"]["next"] != "Next" || texts["en"]["help"] != "" ||
		w["de"]["hello"] != texts["de"]["hello"] {
		t.Errorf("%q", w["en"])
	}
	for text, says := range map[string]string{
		`{`:                    "unexpected EOF",
		`{} {}`:                "follows",
		`{"nme": "x"}`:         "nme",
		`{"name": "a\u0007b"}`: "cannot be shown",
		`{"name": "` + strings.Repeat("x", 61) + `"}`:                      "longer than 60",
		`{"colours": {"brand": "#000000"}}`:                                "there is no such colour",
		`{"colours": {"accent": "red;}body{display:none"}}`:                "is no colour",
		`{"colours": {"accent": "#ffee00"}}`:                               "contrast of 1.2",
		`{"dark": {"text": "#303030"}}`:                                    "dark: text",
		`{"texts": {"fr": {}}}`:                                            "no such language",
		`{"texts": {"en": {"helo": "x"}}}`:                                 `no text "helo"`,
		`{"texts": {"en": {"next": ""}}}`:                                  "empty",
		`{"texts": {"en": {"hello": "Ahoy"}}}`:                             "others than the usual text",
		`{"texts": {"en": {"next": "%d"}}}`:                                "others than the usual text",
		`{"texts": {"en": {"hello": "%s at 100%"}}}`:                       "others than the usual text",
		`{"texts": {"en": {"phone.where": "at {server}"}}}`:                "others than the usual text",
		`{"name": "` + strings.Repeat(" ", maxTheme) + `"}`:                "octets",
		`{"texts": {"en": {"next": "` + strings.Repeat("x", 1001) + `"}}}`: "longer than 1000",
	} {
		if _, err := ReadTheme([]byte(text)); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%.60s gives %v, wanted %q", text, err, says)
		}
	}
	// The usual colours keep to what themes have to, and the languages have the same texts.
	if err := checkColours("usual", nil, byDay); err != nil {
		t.Error(err)
	}
	if err := checkColours("usual", nil, atNight); err != nil {
		t.Error(err)
	}
	for name := range texts["en"] {
		if _, ok := texts["de"][name]; !ok {
			t.Errorf("%q is not in German", name)
		}
	}
	for name, variable := range variables {
		for _, set := range []map[string]string{byDay, atNight} {
			short := strings.ReplaceAll(set[name], "#ffffff", "#fff")
			if !strings.Contains(string(sheet), "--"+variable+": "+short+";") {
				t.Errorf("the sheet has another %s than %s", name, short)
			}
		}
	}
}

func FuzzReadTheme(f *testing.F) {
	f.Add([]byte(`{"name": "x", "colours": {"accent": "#7a1f5c"}, "texts": {"en": {"help": "x"}}}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		if theme, err := ReadTheme(text); err == nil {
			if css := string(theme.css()); strings.ContainsAny(css, "<>\\") {
				t.Errorf("%q", css)
			}
		}
	})
}
