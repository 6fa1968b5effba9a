package config

import (
	"slices"
	"testing"
)

func TestOfferedMethods(t *testing.T) {
	certificate := []*Certificate{{Name: "radius"}}
	member := []*Directory{{Name: "LANTERN", Kind: ActiveDirectory, Computer: "TOLLGATE"}}
	realm := []*Realm{
		{Name: "shore", Lookup: []Lookup{{Store: "LANTERN"}}},
		{Name: "here", Lookup: []Lookup{{Store: "local"}}},
	}
	for _, c := range []struct {
		what, realm string
		of          Config
		local       Keeps
		want        []string
	}{
		{"nothing to run TLS with", "", Config{}, KeepsHash, []string{"pap"}},
		{"the same, with NT hashes", "", Config{Realms: realm, Directories: member}, KeepsNTHash,
			[]string{"mschapv2", "pap"}},
		{"a directory that is not joined", "shore", Config{Realms: realm, Certificates: certificate,
			Directories: []*Directory{{Name: "LANTERN"}}}, KeepsNTHash, []string{"peap-gtc", "ttls-pap"}},
		{"a joined one", "shore", Config{Realms: realm, Certificates: certificate, Directories: member}, KeepsHash,
			[]string{"peap-mschapv2", "peap-gtc", "ttls-pap"}},
		{"everybody, of whom some have no NT hash", "", Config{Realms: realm, Certificates: certificate,
			Directories: member}, KeepsHash, []string{"peap-gtc", "ttls-pap"}},
		{"client certificates", "shore", Config{Realms: realm, Certificates: certificate, Trusts: []*Trust{{}},
			Directories: member}, KeepsHash, []string{"eap-tls", "peap-mschapv2", "peap-gtc", "ttls-pap"}},
	} {
		if got := c.of.Offer(c.realm, c.local); !slices.Equal(got, c.want) {
			t.Errorf("%s: %v, not %v", c.what, got, c.want)
		}
	}
}
