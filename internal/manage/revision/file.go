package revision

import (
	"fmt"
	"slices"
	"strings"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/document"
)

// clearMark begins a secret that stands in a file as it is; it is sealed when the file is applied.
const clearMark = "clear:"

// FileError tells why a file cannot be put over a configuration, and what to do.
type FileError struct{ Detail, Remedy string }

func (e *FileError) Error() string { return e.Detail }

func fileError(detail, remedy string) error { return &FileError{detail, remedy} }

// inFile is the place of a secret in a file, where objects have names and no identifiers.
func inFile(at config.Place, path string) config.Place {
	return config.Place{Purpose: "file " + at.Purpose, Object: strings.ToLower(path)}
}

// ForFile seals the secrets of a configuration for a file, each for the object of its name; the same secret comes out
// the same.
func (k *Keeper) ForFile(c *config.Config) (*config.Config, error) {
	out := c.Copy()
	err := out.Secrets(func(at config.Place, path string, secret config.Secret) (config.Secret, error) {
		clear, err := k.box.Open(at, secret)
		if err != nil {
			return "", fmt.Errorf("%s: %w", path, err)
		}
		return k.box.SealAlike(inFile(at, path), clear), nil
	})
	return out, err
}

// Over puts a file over a configuration, and seals its secrets for the objects they belong to there: those that stand
// in it as they are, and those that were sealed for a file. Secrets that did not change stay as they were.
func (k *Keeper) Over(doc *document.Document, base *config.Config, newID func() string) (*config.Config, error) {
	next := doc.Over(base, newID)
	before := map[config.Place][]config.Secret{}
	_ = base.Secrets(func(at config.Place, _ string, secret config.Secret) (config.Secret, error) {
		before[at] = append(before[at], secret)
		return secret, nil
	})
	err := next.Secrets(func(at config.Place, path string, secret config.Secret) (config.Secret, error) {
		if slices.Contains(before[at], secret) {
			return secret, nil
		}
		clear, plain := strings.CutPrefix(string(secret), clearMark)
		if !plain {
			var err error
			if clear, err = k.box.Open(inFile(at, path), secret); err != nil {
				return "", fileError(path+" cannot be opened: it was sealed by the key file of another server, for "+
					"another object, or is not sealed", "Nothing was changed. Leave it out to keep the present one, "+
					"or write "+clearMark+" in front of the secret itself.")
			}
		}
		for _, old := range before[at] {
			if was, err := k.box.Open(at, old); err == nil && was == clear {
				return old, nil
			}
		}
		return k.box.Seal(at, clear), nil
	})
	if err != nil {
		return nil, err
	}
	for i := range next.Directories { // a stored password goes to no other servers than it was given for
		d := next.Directories[i]
		if old, at := config.Find(base.Directories, d.ID); at >= 0 && d.BindPassword.Set() &&
			d.BindPassword == old.BindPassword && d.Destination() != old.Destination() {
			return nil, fileError(fmt.Sprintf("directory %q gets other servers, TLS, authority or DNS than those "+
				"that its stored password was given for", d.Name), "Nothing was changed. Write the password into the "+
				"file, as bindPassword: \""+clearMark+"…\".")
		}
	}
	return next, nil
}
