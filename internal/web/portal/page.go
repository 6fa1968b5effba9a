package portal

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"html/template"
	"net/http"
	"strings"

	"golang.org/x/text/language"
)

//go:embed style.css
var sheet []byte

//go:embed pages.html
var layout string

// view is what a page shows.
type view struct {
	Words map[string]string
	Lang  string
	// House is whose pages these are.
	House string
	// Token is an invitation, Pass what the next step needs.
	Token, Pass   string
	Name, Display string
	// Named asks for the name as well.
	Named bool
	// Wrong names what is wrong, "" for nothing.
	Wrong     string
	Seed, URI string
	Rows      []string
	Codes     []string
	// Pair is the address that pairs a phone, "" where no lane takes approvals; PairRows is a picture of it.
	Pair     string
	PairRows []string
	// Owned are the devices of a person, Recovery is how many recovery codes are left.
	Owned    []owned
	Recovery int
	// Said are the texts of the script.
	Said map[string]string
}

// Texts are those of the script.
func (v view) Texts() (template.JS, error) {
	text, err := json.Marshal(v.Said) // escapes what would end the element
	return template.JS(text), err
}

// Greeting is how the person is called.
func (v view) Greeting() string {
	if v.Display != "" {
		return v.Display
	}
	return v.Name
}

// Groups are the letters of the seed in groups of four, as one copies them.
func (v view) Groups() string {
	var b strings.Builder
	for i, c := range v.Seed {
		if i > 0 && i%4 == 0 {
			b.WriteByte(' ')
		}
		b.WriteRune(c)
	}
	return b.String()
}

// picture is a QR code, row by row.
type picture struct {
	Rows  []string
	Words map[string]string
}

// Picture is the QR code for an authenticator, PairPicture that of the address for a phone.
func (v view) Picture() picture     { return picture{v.Rows, v.Words} }
func (v view) PairPicture() picture { return picture{v.PairRows, v.Words} }

// Size is how many squares a side of the QR code has.
func (p picture) Size() int { return len(p.Rows) }

// Path draws the dark squares of the QR code.
func (p picture) Path() string {
	var b strings.Builder
	for y, row := range p.Rows {
		for x, c := range row {
			if c == '1' {
				fmt.Fprintf(&b, "M%d %dh1v1h-1z", x, y)
			}
		}
	}
	return b.String()
}

// Title is that of the page.
func (v view) Title() string {
	switch {
	case v.Said != nil:
		return v.Words["phone.title"]
	case v.Owned != nil:
		return v.Words["mine.title"]
	}
	return v.Words["title"]
}

// Mine tells that somebody may have meant the page of the own devices.
func (v view) Mine() bool { return v.Wrong == "invitation" || v.Wrong == "has" }

// Faults are those that the script of security keys may tell.
func (v view) Faults() []string {
	return []string{"mine", "again", "many", "later", "slower", "touched", "site"}
}

// Fault is what is wrong, in words.
func (v view) Fault() string { return v.Words["wrong."+v.Wrong] }

// URL is the key URI as an address to open on a phone.
func (v view) URL() template.URL { return template.URL(v.URI) } // ours, made from a seed of ours

var pages = template.Must(template.New("").Parse(layout))

var matcher = language.NewMatcher([]language.Tag{language.English, language.German})

func languageOf(r *http.Request) string {
	tags, _, _ := language.ParseAcceptLanguage(r.Header.Get("Accept-Language")) // none is English
	if _, at, _ := matcher.Match(tags...); at == 1 {
		return "de"
	}
	return "en"
}

func (s *server) words(r *http.Request) map[string]string { return s.texts[languageOf(r)] }

// allow adds to what the page may do.
func allow(w http.ResponseWriter, what string) {
	h := w.Header()
	h.Set("Content-Security-Policy", strings.Replace(h.Get("Content-Security-Policy"), "default-src 'none';",
		"default-src 'none'; "+what, 1))
}

func (s *server) page(w http.ResponseWriter, r *http.Request, status int, name string, v view) {
	v.Lang = languageOf(r)
	v.Words, v.House = s.texts[v.Lang], s.Theme.Name
	if name == "enter" || name == "mine" || name == "done" { // a security key takes a script
		allow(w, "script-src 'self'; connect-src 'self';")
	}
	var b strings.Builder
	if err := pages.ExecuteTemplate(&b, name, v); err != nil {
		s.Log.Error("a page of the portal", "page", name, "error", err)
		http.Error(w, "this page cannot be shown", http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	_, _ = w.Write([]byte(b.String())) // whoever went away needs it no longer
}
