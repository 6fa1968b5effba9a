package api

import (
	"strings"
	"testing"

	"tollgate.example/key/internal/manage/attention"
	"tollgate.example/key/internal/manage/sources"
)

// Every item is said in words, from its parameters alone.
func TestAttentionInWords(t *testing.T) {
	for _, c := range []struct {
		item        attention.Item
		title, text string
	}{
		{attention.Item{Code: attention.ClientFault, Kind: "client", ID: "1",
			Params: map[string]string{"fault": string(sources.WrongSecret), "client": "np-switch-1",
				"address": "192.0.2.1", "since": "09:30", "count": "7"}},
			"np-switch-1 ", "7 requests from 192.0.2.1 since 09:30. "},
		{attention.Item{Code: attention.StrangerAsks, Kind: "client",
			Params: map[string]string{"fault": string(sources.UnknownClient), "address": "192.0.2.9", "since": "09:30",
				"count": "2"}}, "192.0.2.9 ", "2 requests from 192.0.2.9"},
		{attention.Item{Code: attention.EmergencyUsed, Kind: "account",
			Params: map[string]string{"account": "break-glass", "at": "2026-03-01 10:00", "client": "hh-core-1",
				"count": "3"}}, "Emergency account break-glass was used", "on hh-core-1, 3 times"},
		{attention.Item{Code: attention.RecordsLost, Kind: "attempt", Params: map[string]string{"count": "12",
			"records": "attempts"}}, "12 attempts are lost", "disk"},
		{attention.Item{Code: attention.RecordsFail, Kind: "journal", Params: map[string]string{"records": "journal",
			"since": "09:30", "refused": "4", "error": "recording in journal.db: disk full"}},
			"The entries of the gear journal cannot be recorded since 09:30", "refused meanwhile: 4 so far"},
		{attention.Item{Code: attention.RecordsHeld, Kind: "attempt", Params: map[string]string{"records": "attempts",
			"count": "900", "oldest": "2026-03-01", "until": "2026-09-01"}}, "900 attempts are older",
			"-remove-old-now"},
		{attention.Item{Code: attention.RecordsDamaged, Kind: "attempt",
			Params: map[string]string{"records": "attempts",
				"file": "attempts.db.damaged"}}, "The file of the attempts was damaged", "kept as attempts.db.damaged"},
		{attention.Item{Code: attention.ClockSet, Params: map[string]string{"at": "2026-03-01 10:00:00", "by": "1h0m0s",
			"way": "back", "stopped": "true"}}, "The clock was set back by 1h0m0s", "While the service was stopped"},
		{attention.Item{Code: attention.DiskLow, Params: map[string]string{"free": "9 GB", "percent": "18.0",
			"lasts": "12 days"}}, "The disk has 9 GB left (18.0 %)", "that lasts for 12 days"},
		{attention.Item{Code: attention.DiskSheds, Params: map[string]string{"free": "90 MB", "percent": "1.9",
			"shed": "512"}}, "The disk is nearly full: 90 MB left", "512 so far"},
		{attention.Item{Code: attention.CheckFailed, Kind: "checkup", Params: map[string]string{"subject": "LANTERN",
			"title": "Bind", "detail": "refused", "remedy": "Set the password."}}, "LANTERN: Bind",
			"refused. Set the password."},
		{attention.Item{Code: attention.CertificateEnds, Kind: "trust", ID: "5",
			Params: map[string]string{"name": "laptops", "days": "10", "subject": "CN=x", "until": "2026-04-01"}},
			"The trust list laptops expires in 10 days", "CN=x, valid until 2026-04-01"},
		{attention.Item{Code: attention.CertificateEnded, Kind: "certificate", ID: "2",
			Params: map[string]string{"name": "radius", "subject": "CN=x", "until": "2026-02-01"}},
			"The certificate radius has expired", "replace it now"},
		{attention.Item{Code: attention.WeakMethods, Kind: "lane", Params: map[string]string{"count": "2",
			"lanes": "A, B"}}, "2 lanes allow weak methods", "A, B"},
		{attention.Item{Code: attention.Problem, Kind: "pool", ID: "9", Params: map[string]string{"object": "cabins",
			"message": "small", "remedy": "Add addresses."}}, "cabins: small", "Add addresses."},
	} {
		v := attentionView(&c.item)
		if !strings.HasPrefix(v.Title, c.title) || !strings.Contains(v.Text, c.text) ||
			(v.Action == "") != (c.item.Kind == "") ||
			v.Kind != c.item.Kind || v.ID != c.item.ID || v.Code != string(c.item.Code) {
			t.Errorf("%s is said as %+v", c.item.Code, v)
		}
	}
}
