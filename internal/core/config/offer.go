package config

// offered are the methods that a new lane offers where nobody has chosen any, the strongest first: those that devices
// bring along, and that need nothing weak.
var offered = []string{"eap-tls", "peap-mschapv2", "peap-gtc", "ttls-pap"}

// bare are those where no server certificate is there to run TLS with.
var bare = []string{"mschapv2", "pap"}

// Offer lists the methods that a lane of a realm could offer, the strongest first: those that can be checked for
// everybody whom the realm may find. An empty realm is all of them. local is what is kept of local accounts.
func (c *Config) Offer(realm string, local Keeps) []string {
	list := offered
	if len(c.Certificates) == 0 {
		list = bare
	}
	var out []string
	for _, name := range list {
		m := FindMethod(name)
		if m.Needs == NeedsCertificate && len(c.Trusts) == 0 || !c.serves(realm, m.Needs, local) {
			continue
		}
		out = append(out, name)
	}
	return out
}

// serves reports whether every store of a realm keeps what a method needs.
func (c *Config) serves(realm string, needs Needs, local Keeps) bool {
	found := false
	for _, r := range c.Realms {
		if realm != "" && r.Name != realm {
			continue
		}
		found = true
		for _, step := range r.Lookup {
			kept := local
			if d, at := Find(c.Directories, step.Store); at >= 0 {
				kept = KeepsHash
				if d.Member() {
					kept = KeepsNTHash
				}
			}
			if !kept.Serves(needs) {
				return false
			}
		}
	}
	return found || local.Serves(needs)
}
