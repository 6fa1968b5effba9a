package api

import (
	"fmt"
	"net/http"

	"tollgate.example/key/internal/manage/operator"
	"tollgate.example/key/internal/web/apitype"
)

// calls is the one table of who may call what: each call by the right that it needs. A call that is not here is allowed
// to nobody.
var calls = byRight(map[operator.Right][]string{
	operator.Anyone: {
		"about",
		"set-up",
		"sign-in",
		"ask-for-key",
		"begin-provider-sign-in",
		"end-provider-sign-in",
	},
	operator.Enrol: {"sign-out", "begin-own-factor", "confirm-own-factor", "begin-own-key", "confirm-own-key",
		"list-own-factors"},
	operator.Self: {"list-tokens", "add-token", "remove-token", "change-own-password", "renew-own-recovery-codes",
		"remove-own-factor", "list-operator-sessions", "end-operator-session"},
	operator.Watch: {"get-now", "list-attempts", "follow-attempts", "get-attempt", "list-sessions", "get-session",
		"follow-sessions", "export-sessions", "list-accounts", "get-account", "get-account-import", "list-devices",
		"get-device", "list-unknown-devices", "list-factors", "get-factor", "get-factor-readiness",
		"get-factor-report", "export-factor-report", "export-factor-readiness", "find-person",
		"list-held-back",
		"list-leases", "list-contacts", "list-presence", "list-seen-devices", "get-presence", "list-sightings",
		"get-presence-state", "list-presence-changes", "get-presence-person", "search", "list-reasons",
		"list-methods", "list-fields"},
	operator.Assist: {"add-account", "change-account", "remove-account", "import-accounts", "add-device",
		"change-device", "remove-device", "import-devices", "enrol-factor", "confirm-factor",
		"renew-recovery-codes", "give-temporary-code", "end-temporary-code", "invite-factors", "import-factors",
		"release-factor", "remove-factor", "ask-session", "ask-sessions", "add-sighting", "release-held-back",
		"release-lease",
		"forget-people"},
	operator.Read: {"list-clients", "get-client", "list-directories", "get-directory", "list-realms", "get-realm",
		"list-lanes", "get-lane", "list-passes", "get-pass", "list-pools", "get-pool", "list-calendars",
		"get-calendar", "list-overrides", "get-override", "list-remotes", "get-remote", "list-feeds", "get-feed",
		"list-sources", "get-source", "list-scopes", "get-scope", "list-device-kinds", "get-device-kind",
		"check-device-kind",
		"list-subscribers", "get-subscriber", "check-readers",
		"list-vendors", "get-vendor", "list-command-lists", "get-command-list", "list-expectations",
		"get-expectation", "list-authorities", "get-authority", "list-certificates", "get-certificate",
		"list-trusts", "get-trust", "list-issued", "download-authorities", "download-certificates", "get-draft",
		"get-first-hour", "analyse-draft", "analyse-lane", "list-revisions", "diff-revision", "get-rehearsal",
		"get-checkup",
		"list-hits", "list-uses", "list-completions", "list-dictionary", "export-file", "compare-file",
		"export-sample", "export-clients",
		"explain-delegation", "get-directory-entry", "list-directory-entries", "list-directory-groups",
		"list-picked-groups", "list-copied-people", "check-condition", "check-expectations", "dry-run",
		"preview-pass", "try-commands", "supplicant-settings", "list-differing-sessions", "list-journal",
		"get-journal-entry", "follow-journal", "export-journal", "list-operators", "list-audit", "get-audit-line",
		"get-audit-head", "get-operator-settings", "list-nodes", "verify-audit", "export-audit", "follow-audit"},
	operator.Configure: {"add-client", "change-client", "change-clients", "import-clients",
		"remove-client", "unlearn-client", "add-directory",
		"change-directory", "remove-directory", "join-domain", "leave-domain", "rotate-machine-password",
		"pick-group", "copy-people", "test-directory", "discover-directory", "add-realm", "change-realm",
		"remove-realm", "add-lane", "change-lane", "remove-lane", "order-lanes", "add-pass", "change-pass",
		"remove-pass", "add-pool", "change-pool", "remove-pool", "add-calendar", "change-calendar",
		"remove-calendar", "add-override", "change-override", "remove-override", "add-remote", "change-remote",
		"remove-remote", "add-feed", "change-feed", "remove-feed", "test-feed", "add-source", "change-source",
		"remove-source", "add-scope",
		"change-scope", "remove-scope", "add-device-kind", "change-device-kind", "remove-device-kind",
		"add-subscriber", "change-subscriber", "remove-subscriber", "add-vendor",
		"change-vendor",
		"remove-vendor", "add-command-list", "change-command-list", "remove-command-list", "add-expectation",
		"change-expectation", "remove-expectation", "add-authority", "change-authority", "remove-authority",
		"issue-certificate", "revoke-certificate", "add-certificate", "change-certificate", "remove-certificate",
		"add-trust", "change-trust", "remove-trust", "seal-account", "discard-draft", "discard-part", "publish",
		"ask-to-publish", "withdraw-ask",
		"return-to-revision", "apply-file", "rehearse", "roll-out-factor", "make-first-certificate",
		"make-first-results", "put-off-first-step", "run-checkup", "forget-contact", "try", "try-gear"},
	operator.Own: {"add-operator", "change-operator", "remove-operator", "remove-operator-factor",
		"change-operator-settings", "make-backup", "invite-node", "remove-node", "recover-nodes",
		"change-node-settings"},
})

func byRight(table map[operator.Right][]string) map[string]operator.Right {
	out := map[string]operator.Right{}
	for right, ids := range table {
		for _, id := range ids {
			if _, twice := out[id]; twice {
				panic("the table of rights has " + id + " twice")
			}
			out[id] = right
		}
	}
	return out
}

// forbidden says what a role does not allow, and which do.
func forbidden(w operator.Who, right operator.Right) *apitype.Problem {
	if w.Enrolling && w.Role.May(right) {
		return &apitype.Problem{Code: "factor.needed", Title: http.StatusText(http.StatusForbidden),
			Status: http.StatusForbidden, Detail: fmt.Sprintf("the role %s needs a second factor", w.Role),
			Remedy: "Enrol one in the console; it asks for it right after the sign-in."}
	}
	if w.Scope != "" && w.Role.May(right) {
		return &apitype.Problem{Title: http.StatusText(http.StatusForbidden), Status: http.StatusForbidden,
			Detail: fmt.Sprintf("this token of %s has the scope %s, which does not allow this", w.Name, w.Scope),
			Remedy: "Use a token with a wider scope."}
	}
	return &apitype.Problem{Title: http.StatusText(http.StatusForbidden), Status: http.StatusForbidden,
		Detail: fmt.Sprintf("%s has the role %s, which does not allow this", w.Name, w.Role),
		Remedy: "Ask somebody with one of these roles: " + right.Holders() + "."}
}
