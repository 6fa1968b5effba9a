package api

import (
	"encoding/json"
	"testing"

	"tollgate.example/key/internal/manage/operator"
)

// Every call of the OpenAPI document is in the table of rights, and the table has no other.
func TestEveryCallNeedsARight(t *testing.T) {
	text, err := OpenAPI()
	if err != nil {
		t.Fatal(err)
	}
	var doc struct {
		Paths map[string]map[string]struct {
			OperationID string `json:"operationId"`
		} `json:"paths"`
	}
	if err := json.Unmarshal(text, &doc); err != nil {
		t.Fatal(err)
	}
	seen := map[string]bool{}
	for path, methods := range doc.Paths {
		for method, call := range methods {
			seen[call.OperationID] = true
			if calls[call.OperationID] == operator.Nothing {
				t.Errorf("%s %s (%s) is not in the table of rights", method, path, call.OperationID)
			}
		}
	}
	for id := range calls {
		if !seen[id] {
			t.Errorf("the table of rights has %s, which is no call", id)
		}
	}
}

func TestRoles(t *testing.T) {
	for _, role := range append(operator.Roles, "", "root") {
		if role.May(operator.Nothing) || role.May(operator.Right(200)) || role.May(operator.Own) !=
			(role == operator.Owner) {
			t.Errorf("%q may what it should not", role)
		}
	}
	if got := operator.Configure.Holders(); got != "owner, engineer" {
		t.Errorf("%s", got)
	}
}

// What a role allows is asked at each call: it costs next to nothing.
func BenchmarkRight(b *testing.B) {
	b.ReportAllocs()
	for b.Loop() {
		if !operator.Engineer.May(calls["change-client"]) {
			b.Fatal("an engineer may change clients")
		}
	}
}
