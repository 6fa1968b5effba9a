package portal

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
)

// Theme has the pages look and speak like the house that they are of.
type Theme struct {
	// Name stands above each page.
	Name string `json:"name"`
	// Colours are those by day, Dark those at night, as #rrggbb; what is left out stays as it is.
	Colours map[string]string `json:"colours"`
	Dark    map[string]string `json:"dark"`
	// Texts replace texts of the pages, by language.
	Texts map[string]map[string]string `json:"texts"`
}

const (
	maxTheme     = 256 << 10
	maxThemeName = 60
	maxThemeText = 1000
	// leastContrast is what WCAG 2.2 success criterion 1.4.3 asks of text.
	leastContrast = 4.5
)

// variables are the colours that can be set, as the style sheet calls them.
var variables = map[string]string{"page": "paper", "sheet": "sheet", "text": "ink", "quiet": "soft", "line": "hair",
	"accent": "brass", "wrong": "out", "right": "in"}

// The colours of the style sheet.
var (
	byDay = map[string]string{"page": "#f3f5f4", "sheet": "#ffffff", "text": "#16211f", "quiet": "#51605d",
		"line": "#cfd8d6", "accent": "#8f640f", "wrong": "#b3261e", "right": "#0f6b5c"}
	atNight = map[string]string{"page": "#111817", "sheet": "#18211f", "text": "#e6eeec", "quiet": "#a3b2af",
		"line": "#34423f", "accent": "#d9a441", "wrong": "#ff8a80", "right": "#6fd3bf"}
)

var hexColour = regexp.MustCompile(`^#[0-9a-fA-F]{6}$`)

// ReadTheme reads a theme as JSON. It refuses what it does not know, and colours on which text could not be read.
func ReadTheme(text []byte) (*Theme, error) {
	if len(text) > maxTheme {
		return nil, fmt.Errorf("it has %d octets, more than %d", len(text), maxTheme)
	}
	d := json.NewDecoder(bytes.NewReader(text))
	d.DisallowUnknownFields()
	var t Theme
	if err := d.Decode(&t); err != nil {
		return nil, err
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return nil, errors.New("something follows the object")
	}
	if t.Name = strings.TrimSpace(t.Name); len([]rune(t.Name)) > maxThemeName || !printable(t.Name) {
		return nil, fmt.Errorf(
			"name: it is longer than %d characters, or has some that cannot be shown",
			maxThemeName,
		)
	}
	if err := checkColours("colours", t.Colours, byDay); err != nil {
		return nil, err
	}
	if err := checkColours("dark", t.Dark, atNight); err != nil {
		return nil, err
	}
	return &t, t.checkTexts()
}

func printable(text string) bool {
	return !strings.ContainsFunc(text, func(r rune) bool { return !unicode.IsPrint(r) })
}

func checkColours(field string, set, usual map[string]string) error {
	for _, name := range slices.Sorted(maps.Keys(set)) {
		if variables[name] == "" {
			return fmt.Errorf("%s.%s: there is no such colour; there are %s", field, name,
				strings.Join(slices.Sorted(maps.Keys(variables)), ", "))
		}
		if !hexColour.MatchString(set[name]) {
			return fmt.Errorf("%s.%s: %q is no colour; write one as #0f6b5c", field, name, set[name])
		}
	}
	all := maps.Clone(usual)
	maps.Copy(all, set)
	for _, pair := range [][2]string{{"text", "sheet"}, {"text", "page"}, {"quiet", "sheet"}, {"accent", "sheet"},
		{"wrong", "sheet"}, {"right", "sheet"}} {
		if got := contrast(all[pair[0]], all[pair[1]]); got < leastContrast {
			return fmt.Errorf(
				"%s: %s %s on %s %s has a contrast of %.1f, and people need %.1f to read it",
				field,
				pair[0],
				all[pair[0]],
				pair[1],
				all[pair[1]],
				got,
				leastContrast,
			)
		}
	}
	return nil
}

// contrast is that of two colours (WCAG 2.2, contrast ratio).
func contrast(a, b string) float64 {
	x, y := luminance(a), luminance(b)
	return (max(x, y) + 0.05) / (min(x, y) + 0.05)
}

func luminance(colour string) float64 {
	n, _ := strconv.ParseUint(colour[1:], 16, 32) // six digits
	out := 0.0
	for i, weight := range [...]float64{0.2126, 0.7152, 0.0722} {
		c := float64(n>>(16-8*i)&0xff) / 255
		if c <= 0.04045 {
			c /= 12.92
		} else {
			c = math.Pow((c+0.055)/1.055, 2.4)
		}
		out += weight * c
	}
	return out
}

var placeholder = regexp.MustCompile(`%[sd]|\{[a-z]+\}`)

// checkTexts wants texts that there are, with what is filled in.
func (t *Theme) checkTexts() error {
	for _, language := range slices.Sorted(maps.Keys(t.Texts)) {
		known := texts[language]
		if known == nil {
			return fmt.Errorf("texts.%s: there is no such language; there are de and en", language)
		}
		for _, name := range slices.Sorted(maps.Keys(t.Texts[language])) {
			text := t.Texts[language][name]
			usual, ok := known[name]
			switch {
			case !ok:
				return fmt.Errorf("texts.%s: there is no text %q", language, name)
			case len([]rune(text)) > maxThemeText || !printable(text) || text == "" && usual != "":
				return fmt.Errorf(
					"texts.%s.%s: it is empty, longer than %d characters, or has some that cannot be shown",
					language,
					name,
					maxThemeText,
				)
			}
			want, got := placeholder.FindAllString(usual, -1), placeholder.FindAllString(text, -1)
			if slices.Sort(want); !slices.Equal(want, slices.Sorted(slices.Values(got))) ||
				strings.Count(text, "%") != strings.Count(usual, "%") {
				return fmt.Errorf(
					"texts.%s.%s: of %%, %%s and {words} it holds others than the usual text %q",
					language,
					name,
					usual,
				)
			}
		}
	}
	return nil
}

// css sets the colours.
func (t *Theme) css() []byte {
	var b bytes.Buffer
	block := func(before string, set map[string]string, after string) {
		if len(set) == 0 {
			return
		}
		b.WriteString(before + ":root{")
		for _, name := range slices.Sorted(maps.Keys(set)) {
			fmt.Fprintf(&b, "--%s:%s;", variables[name], set[name])
		}
		b.WriteString("}" + after + "\n")
	}
	block("@media (prefers-color-scheme: light){", t.Colours, "}")
	block("@media (prefers-color-scheme: dark){", t.Dark, "}")
	return b.Bytes()
}

// accent is the colour that browsers paint around the page.
func (s *server) accent() string {
	if own := s.Theme.Colours["accent"]; own != "" {
		return own
	}
	return "#0f6b5c"
}

// words are the texts of the pages by language, with those of the theme.
func (t *Theme) words() map[string]map[string]string {
	out := map[string]map[string]string{}
	for language, list := range texts {
		out[language] = maps.Clone(list)
		maps.Copy(out[language], t.Texts[language])
	}
	return out
}
