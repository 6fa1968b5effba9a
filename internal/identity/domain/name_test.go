package domain

import (
	"context"
	"testing"

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/store"
)

// nowhere keeps machine accounts in memory alone.
type nowhere struct{}

func (nowhere) MachineAccounts(context.Context) ([]store.MachineAccount, error) { return nil, nil }

func (nowhere) MachineAccountOf(context.Context, string, string) (store.MachineAccount, error) {
	return store.MachineAccount{}, store.ErrNotFound
}

func (nowhere) SaveMachineAccount(context.Context, store.MachineAccount) error { return nil }

// The node that joined first keeps its name, whatever its number; others have theirs, which fits.
func TestEachNodeHasItsOwnMachineAccount(t *testing.T) {
	m, err := OpenMachineAccounts(t.Context(), nowhere{}, seal.New(make([]byte, 32)))
	if err != nil {
		t.Fatal(err)
	}
	if got := m.Name("LANTERN", "HARBOUR"); got != "HARBOUR" {
		t.Errorf("a single node is %s", got)
	}
	m.SetNode(1)
	for computer, want := range map[string]string{"HARBOUR": "HARBOUR-1", "HARBOURHOUSE-01": "HARBOURHOUSE--1",
		"": ""} {
		if got := m.Name("LANTERN", computer); got != want {
			t.Errorf("%s is %s on the second node", computer, got)
		}
	}
	if err := m.Set(t.Context(), "LANTERN", "HARBOUR", "secret", ""); err != nil {
		t.Fatal(err)
	}
	if got := m.Name("LANTERN", "HARBOUR"); got != "HARBOUR" {
		t.Errorf("the node that joined first is %s", got)
	}
}
