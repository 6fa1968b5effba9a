package e2e

import (
	"context"
	"net/http"
	"slices"
	"strings"
	"testing"

	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/web/apitype"
)

// What another node changes in the store is in effect once this node is told, and not before.
func TestRecordsChangedElsewhere(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	ctx := context.Background()
	other, err := store.Open(ctx, w.dir)
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	told := func(kind, id string) {
		t.Helper()
		if err := w.app.Changed(ctx, kind, id); err != nil {
			t.Fatal(err)
		}
	}
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	admitted := func() bool {
		reply, err := w.ask(nil)
		must(err)
		return reply.Accepted
	}
	if !admitted() {
		t.Fatal("nobody is admitted to begin with")
	}
	// An account is disabled, and comes back.
	list, err := other.Accounts(ctx)
	must(err)
	row := list[0]
	row.Enabled, row.Version = false, row.Version+1
	must(other.SaveAccount(ctx, row))
	if !admitted() {
		t.Error("a change elsewhere counts before this node was told")
	}
	told("account", row.ID)
	if admitted() {
		t.Error("an account that was disabled elsewhere is admitted")
	}
	row.Enabled = true
	must(other.SaveAccount(ctx, row))
	told("account", row.ID)
	if !admitted() {
		t.Error("an account that was enabled elsewhere is refused")
	}
	must(other.RemoveAccount(ctx, row.ID))
	told("account", row.ID)
	if admitted() {
		t.Error("an account that was removed elsewhere is admitted")
	}
	// A device appears and goes.
	must(other.SaveDevices(ctx, []store.Device{{ID: "0ANZWGNKR0001", Match: "02-00-5E-10-00-77", Name: "a printer",
		Tags: []byte("{}"), Enabled: true}}))
	told("device", "0ANZWGNKR0001")
	var page apitype.Page[apitype.Device]
	w.do(http.MethodGet, "/devices", nil, &page)
	if len(page.Items) != 1 || page.Items[0].Name != "a printer" {
		t.Errorf("devices: %+v", page.Items)
	}
	must(other.RemoveDevice(ctx, "0ANZWGNKR0001"))
	told("device", "0ANZWGNKR0001")
	if w.do(http.MethodGet, "/devices", nil, &page); len(page.Items) != 0 {
		t.Errorf("devices: %+v", page.Items)
	}
	// A lease is taken.
	must(other.SaveLeases(ctx, []store.Lease{{Address: "192.0.2.77", Pool: "cabins", Who: "ann", Client: "np-switch-1",
		Until: 1 << 45}}, nil))
	told("lease", "192.0.2.77")
	var leases apitype.Page[apitype.Lease]
	w.do(http.MethodGet, "/leases", nil, &leases)
	if len(leases.Items) != 1 || leases.Items[0].Who != "ann" {
		t.Errorf("leases: %+v", leases.Items)
	}
	// A revision is published.
	_, n := w.running()
	var clients apitype.Page[apitype.Client]
	w.do(http.MethodGet, "/clients", nil, &clients)
	r, err := other.Revision(ctx, n)
	must(err)
	r.Number, r.Note = n+1, "elsewhere"
	objects, err := other.Objects(ctx, n)
	must(err)
	at := slices.IndexFunc(objects, func(o store.Object) bool { return o.ID == clients.Items[0].ID })
	objects[at].Body = []byte(strings.Replace(string(objects[at].Body), clients.Items[0].Name, "renamed-elsewhere", 1))
	must(other.Publish(ctx, r, objects[at:at+1]))
	told("configuration", "")
	w.do(http.MethodGet, "/clients", nil, &clients)
	if _, m := w.running(); m != n+1 || clients.Items[0].Name != "renamed-elsewhere" {
		t.Errorf("revision %d runs, the client is %s", m, clients.Items[0].Name)
	}
	for _, bad := range [][2]string{{"issued", "none"}, {"machine-account", `X\Y`}, {"lease", "nonsense"},
		{"smoke", ""}} {
		if err := w.app.Changed(ctx, bad[0], bad[1]); err == nil {
			t.Errorf("%v is taken for a change", bad)
		}
	}
	told("factor", "none") // removed elsewhere before this node knew of it
}
