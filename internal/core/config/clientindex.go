package config

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"
)

// ClientIndex checks the clients of one configuration after another, and looks only at those that are others than in
// the one before. It is not safe for concurrent use; the zero value is ready.
type ClientIndex struct {
	at []*Client
	// How many clients have a name, a prefix, a name in a certificate, a tag; names are in lower case.
	names, proofs, tags map[string]int
	prefixes            map[netip.Prefix]int
	// taken counts what is there more than once, of names, prefixes and names in certificates.
	taken int
	// faults are the problems of clients that have any; bound are those that refer to certificates or trust lists.
	faults map[*Client][]Problem
	bound  map[*Client]bool
	// fresh and gone are how the clients differ from those checked before.
	fresh, gone []*Client
}

// Check checks the clients of a configuration.
func (x *ClientIndex) Check(c *Config) []Problem {
	if x.names == nil {
		n := len(c.Clients)
		x.names, x.proofs, x.tags = make(map[string]int, n), map[string]int{}, map[string]int{}
		x.prefixes, x.faults, x.bound = make(map[netip.Prefix]int, n), map[*Client][]Problem{}, map[*Client]bool{}
	}
	x.fresh, x.gone = Fresh(x.at, c.Clients)
	x.at = c.Clients
	for _, client := range x.gone {
		x.count(client, -1)
		delete(x.faults, client)
		delete(x.bound, client)
	}
	for _, client := range x.fresh {
		x.count(client, 1)
		if found := checkClient(client); len(found) > 0 {
			x.faults[client] = found
		}
		if client.TLSCertificate != "" || client.TLSTrust != "" || len(client.TLSNames) > 0 {
			x.bound[client] = true
		}
	}
	var out []Problem
	for _, found := range x.faults {
		out = append(out, found...)
	}
	k := &checker{}
	for client := range x.bound {
		k.on("client", client.Name, client.ID)
		c.checkBound(k, client)
	}
	out = append(out, k.problems...)
	slices.SortStableFunc(out, func(a, b Problem) int { return strings.Compare(a.ID+a.Field, b.ID+b.Field) })
	if x.taken > 0 {
		out = append(out, c.checkTaken()...)
	}
	return out
}

// Changed are the clients that were not in the configuration checked before the last one, and those that were in it and
// are no longer.
func (x *ClientIndex) Changed() (fresh, gone []*Client) { return x.fresh, x.gone }

// Taken reports whether a name or an address belongs to several of the clients.
func (x *ClientIndex) Taken() bool { return x.taken > 0 }

// Tags are the names of the tags that clients carry.
func (x *ClientIndex) Tags() []string { return slices.Sorted(maps.Keys(x.tags)) }

// count adds a client, or takes it out.
func (x *ClientIndex) count(client *Client, n int) {
	tally(x.names, strings.ToLower(client.Name), n, &x.taken)
	for _, text := range client.Addresses {
		if prefix, err := ParsePrefix(text); err == nil {
			tally(x.prefixes, prefix, n, &x.taken)
		}
	}
	for _, name := range client.TLSNames {
		tally(x.proofs, strings.ToLower(name), n, &x.taken)
	}
	for tag := range client.Tags {
		tally(x.tags, tag, n, nil)
	}
}

// tally counts a key, and in taken how many have been counted more than once.
func tally[K comparable](in map[K]int, key K, n int, taken *int) {
	before := in[key]
	if in[key] = before + n; in[key] == 0 {
		delete(in, key)
	}
	if taken == nil {
		return
	}
	if before > 1 {
		*taken -= before - 1
	}
	if before+n > 1 {
		*taken += before + n - 1
	}
}

// checkTaken finds the names and prefixes that several clients have.
func (c *Config) checkTaken() []Problem {
	k := &checker{}
	names, proofs, owner := map[string]bool{}, map[string]string{}, map[netip.Prefix]string{}
	for _, client := range c.Clients {
		k.on("client", client.Name, client.ID)
		lower := strings.ToLower(client.Name)
		if names[lower] && lower != "" {
			k.fail("name", Taken, "Choose a different name.", "another client has this name")
		}
		names[lower] = true
		for j, text := range client.Addresses {
			prefix, err := ParsePrefix(text)
			if err != nil {
				continue
			}
			if other, taken := owner[prefix]; taken {
				k.fail(
					fmt.Sprintf("addresses[%d]", j),
					Taken,
					"Remove it from one of the two; a longer prefix inside "+
						"another client's prefix is fine.",
					"%s already belongs to client %q",
					FormatPrefix(prefix),
					other,
				)
				continue
			}
			owner[prefix] = client.Name
		}
		for j, name := range client.TLSNames {
			key := strings.ToLower(name)
			if other := proofs[key]; other != "" {
				k.fail(fmt.Sprintf("tlsNames[%d]", j), Taken, "Remove it from one of the two.",
					"the name %s already belongs to client %q", name, other)
			}
			proofs[key] = client.Name
		}
	}
	return k.problems
}

// checkClient checks what a client says of itself.
func checkClient(client *Client) []Problem {
	k := &checker{}
	k.on("client", client.Name, client.ID)
	k.name("client", false)
	if len(client.Addresses) == 0 {
		k.fail("addresses", Required, "Add the source address of the device, or a prefix.", "no address")
	}
	if len(client.Addresses) > maxList {
		k.fail("addresses", TooMany, "Use a prefix.", "%d addresses, at most %d are allowed",
			len(client.Addresses), maxList)
	}
	for j, text := range client.Addresses {
		field := fmt.Sprintf("addresses[%d]", j)
		prefix, err := ParsePrefix(text)
		if err != nil {
			k.fail(field, Malformed, "Correct the address.", "%s", err)
			continue
		}
		if prefix.Bits() == 0 {
			k.warn(field, EveryAddress, "Use the prefix that the devices are really in.",
				"every address in the world belongs to this client")
		}
	}
	if !client.Secret.Set() && !client.TACACSSecret.Set() && !client.TACACSPlain && !client.TACACSByAddress &&
		len(client.TLSNames) == 0 {
		k.fail("secret", Required, "Enter the secret that is set on the device, or generate one.",
			"no shared secret")
	}
	client.checkTACACS(k)
	client.Sessions.check(k)
	client.checkChangeTLS(k)
	if client.Previous.Set() && client.PreviousUntil.IsZero() {
		k.fail("previousUntil", Required, "Set the date until which it is accepted.",
			"the previous secret has no end date")
	}
	switch client.MessageAuthenticator {
	case Require, Auto:
	case Off:
		k.warn("messageAuthenticator", NoMessageAuthenticator,
			"Enable it on the device, then choose require here.",
			"Message-Authenticator is off: anyone on the path can forge requests and replies of this client")
	default:
		k.fail("messageAuthenticator", Unknown, "Use require, auto or off.", "%q is not a mode",
			client.MessageAuthenticator)
	}
	for key, value := range client.Tags {
		if !isWord(key) {
			k.fail("tags", Malformed, "Use a word such as site.",
				"tag name %q has characters other than letters, digits and -", key)
		}
		if ReservedTag(key) {
			k.fail("tags", Conflict, "Choose another name.", "tag name %q is the name of a field in conditions",
				key)
		}
		if len(value) > maxName {
			k.fail("tags", TooLong, "Shorten it.", "the value of tag %q is longer than %d octets", key, maxName)
		}
	}
	if len(client.Tags) > 50 {
		k.fail("tags", TooMany, "Remove some.", "more than 50 tags")
	}
	return k.problems
}

// Rotate gives a client another shared secret. Until a moment that is not zero, the one that the device has is accepted
// beside it: that of the running client, which may be nil, since one that was only ever in the draft is on no device.
func (c *Client) Rotate(next Secret, running *Client, until time.Time) {
	have := c.Secret
	if running != nil && running.Secret.Set() {
		have = running.Secret
	}
	c.Secret, c.Previous, c.PreviousUntil = rotated(next, have, until)
}

// RotateTACACS is Rotate for the TACACS+ secret.
func (c *Client) RotateTACACS(next Secret, running *Client, until time.Time) {
	have := c.TACACSSecret
	if running != nil && running.TACACSSecret.Set() {
		have = running.TACACSSecret
	}
	c.TACACSSecret, c.TACACSPrevious, c.TACACSPreviousUntil = rotated(next, have, until)
}

func rotated(next, have Secret, until time.Time) (secret, previous Secret, previousUntil time.Time) {
	if !have.Set() || until.IsZero() {
		return next, "", time.Time{}
	}
	return next, have, until
}

// Faults brings a client into its canonical form and lists what is wrong with it, without what other clients have.
func (c *Client) Faults() []Problem {
	c.normalise()
	return slices.DeleteFunc(checkClient(c), func(p Problem) bool { return p.Warning })
}
