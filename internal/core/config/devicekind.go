package config

import (
	"fmt"
	"strconv"
	"strings"
)

// DeviceKind says by what is seen of a device which kind it is. Whatever it lists, one of each list has to fit.
type DeviceKind struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	// Kind is what conditions see as device.kind.
	Kind string `json:"kind"`
	// Order is 1 for what decides first, up to 99.
	Order int `json:"order"`
	// MACs are beginnings of addresses. Fingerprints are parameter request lists (RFC 2132 section 9.8), VendorClasses
	// vendor class identifiers (section 9.13), and Hosts host names, the last two with * for any characters.
	MACs          []string `json:"macs"`
	Fingerprints  []string `json:"fingerprints"`
	VendorClasses []string `json:"vendorClasses"`
	Hosts         []string `json:"hosts"`
	Note          string   `json:"note,omitempty"`
}

const (
	// usualOrder is the order of those that do not say.
	usualOrder = 50
	maxOrder   = 99
	// maxMACs bounds the beginnings of addresses, which are looked up at once; maxTraits bounds the lines of the other
	// lists, which are compared one by one, and maxTrait one line, in octets.
	maxMACs   = 2000
	maxTraits = 200
	maxTrait  = 512
)

func (k *DeviceKind) Ident() string      { return k.ID }
func (k *DeviceKind) Label() string      { return k.Name }
func (k *DeviceKind) Identify(id string) { k.ID = id }

// Asks counts the kinds of traits that it asks for.
func (k *DeviceKind) Asks() (n int) {
	for _, list := range [][]string{k.MACs, k.Fingerprints, k.VendorClasses, k.Hosts} {
		if len(list) > 0 {
			n++
		}
	}
	return n
}

func (k *DeviceKind) normalise() {
	trim(&k.Name, &k.Kind, &k.Note)
	k.Kind = strings.ToLower(k.Kind)
	if k.Order == 0 {
		k.Order = usualOrder
	}
	for _, list := range []*[]string{&k.MACs, &k.Fingerprints, &k.VendorClasses, &k.Hosts} {
		for i, text := range *list {
			(*list)[i] = strings.ToLower(strings.TrimSpace(text))
		}
	}
	for i, text := range k.MACs {
		k.MACs[i] = strings.NewReplacer(":", "-", ".", "-").Replace(text)
	}
	for i, text := range k.Fingerprints {
		k.Fingerprints[i] = strings.ReplaceAll(text, " ", "")
	}
	for _, list := range []*[]string{&k.MACs, &k.Fingerprints, &k.VendorClasses, &k.Hosts} {
		*list = unique(*list)
	}
}

func (c *Config) checkDeviceKinds(k *checker) {
	for _, o := range c.DeviceKinds {
		k.on("device-kind", o.Name, o.ID)
		switch {
		case o.Kind == "":
			k.fail("kind", Required, "Write what conditions are to see, such as printer.", "it names no kind")
		case len(o.Kind) > 64 || strings.ContainsAny(o.Kind, "\"\\") || strings.ContainsFunc(o.Kind, func(r rune) bool {
			return r < ' '
		}):
			k.fail("kind", Malformed, "Use a short word, such as printer.", "%q is no name of a kind", o.Kind)
		}
		if o.Order < 1 || o.Order > maxOrder {
			k.fail("order", OutOfRange, "Use 1 for what decides first, up to 99.", "an order of %d does not exist",
				o.Order)
		}
		if o.Asks() == 0 {
			k.fail("macs", Required, "Add the beginning of an address, a fingerprint, a vendor class or a host name.",
				"it asks for nothing, so that every device would be of this kind")
		}
		o.checkTraits(k)
	}
}

func (o *DeviceKind) checkTraits(k *checker) {
	list := func(field string, lines []string, remedy string, wrong func(text string) bool) {
		most := maxTraits
		if field == "macs" {
			most = maxMACs
		}
		if len(lines) > most {
			k.fail(field, TooMany, "Make another rule of some of them.", "%d lines, at most %d are allowed",
				len(lines), most)
			return
		}
		for i, text := range lines {
			if len(text) > maxTrait || wrong(text) {
				k.fail(fmt.Sprintf("%s[%d]", field, i), Malformed, remedy, "%q cannot fit what is meant", shorten(text))
			}
		}
	}
	all := func(text string) bool { return strings.Trim(text, "*") == "" }
	list("macs", o.MACs, "Write the beginning of an address, such as 02-00-5e.",
		func(text string) bool { return !macStart(text) })
	list("fingerprints", o.Fingerprints, "Write the numbers of the options that the device asks for, such as 1,3,6,15.",
		func(text string) bool {
			for number := range strings.SplitSeq(text, ",") {
				if n, err := strconv.Atoi(number); err != nil || n < 0 || n > 255 || strconv.Itoa(n) != number {
					return true
				}
			}
			return false
		})
	list("vendorClasses", o.VendorClasses, "Write more than *, such as acme-printer*.", all)
	list("hosts", o.Hosts, "Write more than *, such as cam-*.", all)
}

// shorten bounds what a message shows of a text.
func shorten(text string) string {
	if len(text) > 60 {
		return strings.ToValidUTF8(text[:60], "") + "…"
	}
	return text
}
