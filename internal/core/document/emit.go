package document

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strings"

	"github.com/goccy/go-yaml"
)

// The text is written here and not by the library, so that it keeps its form, and its octets, whatever version of the
// library there is. It is the part of YAML that needs no thought: block maps and lists, double quotes as in JSON where
// there is any doubt, and blocks for texts of several lines.

// bare are texts that no version of YAML takes for anything but a text.
var bare = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_./@-]*( [A-Za-z0-9_./@-]+)*$`)

// words are bare texts that some version of YAML takes for something else.
var words = map[string]bool{"y": true, "n": true, "yes": true, "no": true, "on": true, "off": true, "true": true,
	"false": true, "null": true}

func emit(b *strings.Builder, value any, indent string) {
	switch v := value.(type) {
	case yaml.MapSlice:
		for _, item := range v {
			b.WriteString(indent)
			emitItem(b, item, indent)
		}
	case []any:
		for i, element := range v {
			if fields, ok := element.(yaml.MapSlice); ok && len(fields) > 0 {
				if i > 0 && indent == "" { // a line between objects
					b.WriteByte('\n')
				}
				b.WriteString(indent + "- ")
				emitItem(b, fields[0], indent+"  ")
				emit(b, fields[1:], indent+"  ")
				continue
			}
			b.WriteString(indent + "- " + scalar(element) + "\n")
		}
	}
}

func emitItem(b *strings.Builder, item yaml.MapItem, indent string) {
	b.WriteString(scalar(item.Key) + ":")
	switch v := item.Value.(type) {
	case yaml.MapSlice:
		if len(v) == 0 {
			b.WriteString(" {}\n")
			return
		}
		b.WriteByte('\n')
		emit(b, v, indent+"  ")
	case []any:
		if len(v) == 0 {
			b.WriteString(" []\n")
			return
		}
		b.WriteByte('\n')
		emit(b, v, indent)
	case string:
		if block(v) {
			b.WriteString(map[bool]string{true: " |\n", false: " |-\n"}[strings.HasSuffix(v, "\n")])
			for _, line := range strings.SplitAfter(strings.TrimSuffix(v, "\n"), "\n") {
				b.WriteString(indent + "  " + line)
			}
			b.WriteByte('\n')
			return
		}
		b.WriteString(" " + scalar(v) + "\n")
	default:
		b.WriteString(" " + scalar(v) + "\n")
	}
}

// block reports whether a text of several lines can stand as a block: it ends with one line end or none, and has lines
// that are not empty and are like those of a certificate in PEM.
func block(text string) bool {
	if strings.Count(text, "\n") < 2 {
		return false
	}
	for _, line := range strings.Split(strings.TrimSuffix(text, "\n"), "\n") {
		if !blockLine.MatchString(line) {
			return false
		}
	}
	return true
}

var blockLine = regexp.MustCompile(`^[A-Za-z0-9+/-][A-Za-z0-9+/=:,. -]*$`)

func scalar(value any) string {
	text, ok := value.(string)
	if !ok {
		return fmt.Sprint(value)
	}
	if bare.MatchString(text) && !words[strings.ToLower(text)] {
		return text
	}
	var out strings.Builder
	encoder := json.NewEncoder(&out)
	encoder.SetEscapeHTML(false)
	if encoder.Encode(text) != nil {
		return `""`
	}
	return strings.TrimSuffix(out.String(), "\n")
}
