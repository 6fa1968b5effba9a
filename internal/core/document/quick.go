package document

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"reflect"
	"regexp"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"tollgate.example/key/internal/core/config"
)

// quick reads a part of a long text several times as fast as the reader that can tell what is wrong and where. It takes
// only what both are sure to read alike, and leaves everything else to that one: ok is false.
func quick(text []byte) (in written, lists map[string]any, comments int, ok bool) {
	var root yaml.Node
	decoder := yaml.NewDecoder(bytes.NewReader(text))
	if decoder.Decode(&root) != nil || !errors.Is(decoder.Decode(new(yaml.Node)), io.EOF) || len(root.Content) != 1 ||
		root.Content[0].Kind != yaml.MappingNode {
		return in, nil, 0, false
	}
	w := &quickWriter{comments: countComments(&root)}
	if !w.mapping(root.Content[0], "", false) {
		return in, nil, 0, false
	}
	strict := json.NewDecoder(&w.out)
	strict.DisallowUnknownFields()
	if strict.Decode(&in) != nil {
		return in, nil, 0, false
	}
	lists = map[string]any{}
	for i := 0; i < len(root.Content[0].Content); i += 2 {
		lists[root.Content[0].Content[i].Value] = true
	}
	return in, lists, w.comments, true
}

// quickWriter writes what was parsed as JSON.
type quickWriter struct {
	out      bytes.Buffer
	comments int
}

func countComments(n *yaml.Node) (count int) {
	for _, text := range []string{n.HeadComment, n.LineComment, n.FootComment} {
		for _, line := range strings.Split(text, "\n") {
			if line != "" {
				count++
			}
		}
	}
	return count
}

// value writes a value that stands under a key; on tells that it is an object that is enabled unless it says otherwise.
func (w *quickWriter) value(n *yaml.Node, key string, on bool) bool {
	w.comments += countComments(n)
	flow := n.Style&yaml.FlowStyle != 0 && len(n.Content) > 0
	if n.Anchor != "" || n.Style&yaml.TaggedStyle != 0 || flow {
		return false
	}
	switch n.Kind {
	case yaml.MappingNode:
		return w.mapping(n, key, on)
	case yaml.SequenceNode:
		w.out.WriteByte('[')
		for i, entry := range n.Content {
			if i > 0 {
				w.out.WriteByte(',')
			}
			if !w.value(entry, "", switchedOn[key]) {
				return false
			}
		}
		w.out.WriteByte(']')
		return true
	case yaml.ScalarNode:
		return w.scalar(n)
	}
	return false
}

func (w *quickWriter) mapping(n *yaml.Node, under string, on bool) bool {
	w.out.WriteByte('{')
	seen := make(map[string]bool, len(n.Content)/2)
	for i := 0; i+1 < len(n.Content); i += 2 {
		key := n.Content[i]
		w.comments += countComments(key)
		if key.Kind != yaml.ScalarNode || key.ShortTag() != "!!str" || key.Anchor != "" || seen[key.Value] ||
			!plainKey.MatchString(key.Value) || under != "tags" && !fieldNames[key.Value] {
			return false
		}
		seen[key.Value] = true
		if i > 0 {
			w.out.WriteByte(',')
		}
		w.text(key.Value)
		w.out.WriteByte(':')
		if !w.value(n.Content[i+1], key.Value, false) {
			return false
		}
	}
	if on && !seen["enabled"] {
		if len(seen) > 0 {
			w.out.WriteByte(',')
		}
		w.out.WriteString(`"enabled":true`)
	}
	w.out.WriteByte('}')
	return true
}

// Parsers differ about what is hardly ever written.
var (
	plainKey  = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]*$`)
	plainText = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9 _./:@+=,"()-]*$`)
)

var wholeNumber = regexp.MustCompile(`^(0|-?[1-9][0-9]{0,17})$`)

func (w *quickWriter) scalar(n *yaml.Node) bool {
	switch tag := n.ShortTag(); {
	case n.Style == 0 && !plainText.MatchString(n.Value):
		return false
	case tag == "!!str" || tag == "!!timestamp":
		w.text(n.Value)
	case tag == "!!int" && wholeNumber.MatchString(n.Value), tag == "!!bool" &&
		(n.Value == "true" || n.Value == "false"):
		w.out.WriteString(n.Value)
	default:
		return false
	}
	return true
}

func (w *quickWriter) text(s string) {
	if plainText.MatchString(s) && !strings.Contains(s, `"`) {
		w.out.WriteByte('"')
		w.out.WriteString(s)
		w.out.WriteByte('"')
		return
	}
	quoted, _ := json.Marshal(s)
	w.out.Write(quoted)
}

// fieldNames are the names of all fields of a document. Others are left to the other reader, for JSON takes no notice
// of upper and lower case.
var fieldNames = namesOf(reflect.TypeFor[written](), map[string]bool{})

func namesOf(t reflect.Type, out map[string]bool) map[string]bool {
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice {
		t = t.Elem()
	}
	if t.Kind() != reflect.Struct || t == reflect.TypeFor[time.Time]() {
		return out
	}
	for i := range t.NumField() {
		field := t.Field(i)
		if field.Type != reflect.TypeFor[config.Config]() {
			out[nameOf(field)] = true
		}
		namesOf(field.Type, out)
	}
	return out
}
