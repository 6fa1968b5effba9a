package revision

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/store"
)

// note tells the audit what an edit changes in the draft.
func note(ctx context.Context, from, to *config.Config) {
	e := audit.Of(ctx)
	if e == nil {
		return
	}
	changes := Differences(from, to)
	if changes.Count() == 1 {
		c := changes.List[0]
		e.On(c.Kind, c.ID, c.Object).Say(fmt.Sprintf("%s %s %s in the draft", c.What, c.Kind, c.Object))
	}
	e.Listed(words(changes), bodies(to, from), bodies(from, to))
}

// words are changes as the audit lists them.
func words(changes Changes) (out []audit.Change) {
	for _, c := range changes.List {
		field := c.Kind + " " + c.Object
		if own := ofItself(c); len(own.Lines) > 0 || len(c.Parts) == 0 {
			out = append(out, audit.Change{Field: field, After: inWords(own)})
		}
		for _, p := range c.Parts {
			out = append(out, audit.Change{Field: field + ", " + p.Kind + " " + p.Object, After: inWords(p)})
		}
	}
	if changes.More > 0 {
		out = append(out, audit.Change{Field: "…", After: fmt.Sprintf("%d more", changes.More)})
	}
	return out
}

// ofItself is a change of a lane without what changes in its policies, which are parts.
func ofItself(c config.Change) config.Change {
	if len(c.Parts) > 0 {
		c.Lines = slices.DeleteFunc(slices.Clone(c.Lines), func(line string) bool {
			return strings.HasPrefix(line, policyKind+" ")
		})
	}
	return c
}

func inWords(c config.Change) string {
	if len(c.Lines) == 0 {
		return c.What
	}
	return c.What + ": " + strings.Join(c.Lines, "; ")
}

// maxBodies is how many objects are kept as they were and as they are.
const maxBodies = 50

// bodies are the objects of a configuration that are others in another one, as they are stored.
func bodies(from, to *config.Config) any {
	rows, err := delta(from, to)
	if err != nil || len(rows) > maxBodies {
		return nil
	}
	out := map[string]json.RawMessage{}
	for _, r := range rows {
		if r.Body != nil && r.Kind != orderKind {
			out[key(r)] = r.Body
		}
	}
	if len(out) == 0 {
		return nil
	}
	return out
}

func key(o store.Object) string { return o.Kind + " " + o.ID }
