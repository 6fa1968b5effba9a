package api

import (
	"cmp"
	"context"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/manage/operator"
	"tollgate.example/key/internal/web/apitype"
)

// quiet are the calls that need a right to change something, and change nothing that is kept.
var quiet = set("discover-directory", "test-feed", "run-checkup", "rehearse")

// own are the calls about oneself that are recorded.
var own = set(
	"sign-out",
	"add-token",
	"remove-token",
	"change-own-password",
	"begin-own-factor",
	"confirm-own-factor",
	"confirm-own-key",
	"remove-own-factor",
	"renew-own-recovery-codes",
	"end-operator-session",
)

// entering are the calls of strangers that are recorded, by what they come to.
var entering = set("set-up", "sign-in", "ask-for-key", "end-provider-sign-in")

// looks are the calls that change nothing and are recorded before they are answered, since what they show is sensitive
// or leaves the house.
var looks = map[string]string{
	"get-factor":      "looked at the second factor of",
	"export-sessions": "exported sessions",
	"export-journal":  "exported the gear journal",
	"export-file":     "exported the configuration",
	"export-sample":   "exported a sample of attempts",
	"export-audit":    "exported the audit",
	"make-backup":     "made a backup",
	"test-directory":  "tested a directory",
}

// phrases are what calls do, in words, where the name of the call does not say it.
var phrases = map[string]string{
	"set-up":                  "created the first operator",
	"sign-in":                 "signed in",
	"ask-for-key":             "signed in",
	"sign-out":                "signed out",
	"publish":                 "published the draft",
	"discard-draft":           "took back the whole draft",
	"discard-part":            "took back a change of the draft",
	"apply-file":              "made the draft what a file says",
	"return-to-revision":      "returned to a revision",
	"order-lanes":             "put the lanes into another order",
	"ask-session":             "asked for a change of a session",
	"ask-sessions":            "asked for changes of sessions",
	"issue-certificate":       "issued a certificate",
	"revoke-certificate":      "revoked a certificate",
	"seal-account":            "sealed an emergency account",
	"join-domain":             "joined a domain",
	"leave-domain":            "left a domain",
	"rotate-machine-password": "changed the password of the machine account",
	"forget-people":           "forgot what is remembered of people",
	"forget-contact":          "forgot a source address",
	"release-held-back":       "released a name that was held back",
	"release-lease":           "released an address",
	"enrol-factor":            "began to enrol a second factor",
	"confirm-factor":          "confirmed a second factor",
	"renew-recovery-codes":    "made new recovery codes",
	"release-factor":          "released a second factor",
	"unlearn-client":          "forgot what was learned of a client",
	"invite-node":             "invited a node",
	"recover-nodes":           "went on with this node alone",
	"add-sighting":            "reported who is where",
}

func set(names ...string) map[string]bool {
	out := map[string]bool{}
	for _, name := range names {
		out[name] = true
	}
	return out
}

// past are the verbs of calls, as something that was done.
var past = map[string]string{"add": "added", "change": "changed", "remove": "removed", "import": "imported",
	"copy": "copied", "pick": "picked", "end": "ended", "begin": "began", "confirm": "confirmed", "renew": "renewed"}

// phrase says in words what a call does.
func phrase(call string) string {
	if text := phrases[call] + looks[call]; text != "" {
		return text
	}
	verb, rest, _ := strings.Cut(call, "-")
	return cmp.Or(past[verb], verb) + " " + strings.ReplaceAll(rest, "-", " ")
}

// recorded reports whether a call that ends well leaves a line by itself.
func recorded(call string, right operator.Right) bool {
	switch right {
	case operator.Assist, operator.Configure, operator.Own:
		return !quiet[call]
	}
	return own[call]
}

// actor is who makes a call, as the audit has it.
func actor(ctx huma.Context, w *operator.Who, from string) audit.Actor {
	out := audit.Actor{From: from, How: "console"}
	agent := ctx.Header("User-Agent")
	command := strings.HasPrefix(agent, "tollgate/")
	switch {
	case w == nil && command:
		out.How = "command"
	case w == nil && !strings.HasPrefix(agent, "Mozilla/"):
		out.How = "program"
	case w != nil && w.Kind == "token" && command:
		out.How = "command, token " + w.Token
	case w != nil && w.Kind == "token":
		out.How = "token " + w.Token
	}
	if w != nil {
		out.Who, out.Role = w.Name, string(w.Role)
	}
	return out
}

// begun is the line of a call.
func begun(ctx huma.Context, w *operator.Who, from string) audit.Line {
	call := ctx.Operation().OperationID
	line := audit.Line{Actor: actor(ctx, w, from), Call: call, What: phrase(call), Result: audit.Done}
	for _, name := range []string{"ref", "id", "number", "address"} {
		if value := ctx.Param(name); value != "" {
			line.What += " " + value
			break
		}
	}
	return line
}

// audited makes a call with its entry of the audit.
func (s *server) audited(ctx huma.Context, w *operator.Who, from string, right operator.Right,
	next func(huma.Context)) {
	call := ctx.Operation().OperationID
	_, look := looks[call]
	changes := recorded(call, right)
	if !look && !changes && !entering[call] {
		next(ctx)
		return
	}
	inner, entry := s.Audit.Begin(ctx.Context(), begun(ctx, w, from), look || changes)
	if look {
		if err := entry.Now(ctx.Context()); err != nil {
			s.refuse(ctx, unrecorded(err))
			return
		}
	}
	next(huma.WithContext(ctx, inner))
	switch failed := ctx.Status() >= http.StatusBadRequest; {
	case failed && look:
		entry.Failed()
	case failed:
		return
	}
	// what was done stays done: if it cannot be recorded now, the line waits, and Now says so
	_ = entry.Close(context.WithoutCancel(ctx.Context()))
}

// unrecorded refuses what may not go on without a line in the audit.
func unrecorded(err error) *apitype.Problem {
	return &apitype.Problem{
		Title:  http.StatusText(http.StatusServiceUnavailable),
		Status: http.StatusServiceUnavailable,
		Detail: "This is not done, since it cannot be recorded in the audit: " + err.Error(),
		Remedy: "See whether the disk has room.",
	}
}
