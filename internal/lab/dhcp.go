package lab

import (
	"net"
	"net/netip"

	"tollgate.example/key/internal/web/apitype"
)

// dhcpTraits are what a device says of itself to a DHCP server: the options that it asks for, and its vendor class.
type dhcpTraits struct {
	asks  []byte
	class string
}

// The devices of the ferry company.
var (
	desktop = dhcpTraits{[]byte{1, 3, 6, 15, 31, 33, 43, 44, 46, 47, 119, 121, 249, 252}, "quay-desktop 11"}
	laptop  = dhcpTraits{[]byte{1, 121, 3, 6, 15, 108, 114, 119, 252}, ""}
	printer = dhcpTraits{[]byte{6, 3, 1, 15, 66, 67, 13, 44, 12, 81}, "harbour-print 4"}
	camera  = dhcpTraits{[]byte{1, 3, 6, 12, 15, 28, 42}, "udhcp 1.36"}
)

// deviceKinds are the rules that tell them apart.
var deviceKinds = []apitype.DeviceKindFields{
	{Name: "label and page printers", Kind: "printer", Order: 20, MACs: []string{"02-00-99"}, Fingerprints: []string{},
		VendorClasses: []string{"harbour-print*"}, Hosts: []string{}},
	{Name: "quay cameras", Kind: "camera", Order: 20, MACs: []string{"02-00-98"}, Fingerprints: []string{},
		VendorClasses: []string{}, Hosts: []string{"cam-*"}},
	{Name: "desktops of the house", Kind: "desktop", Order: 50, MACs: []string{},
		Fingerprints: []string{"1,3,6,15,31,33,43,44,46,47,119,121,249,252"}, VendorClasses: []string{},
		Hosts: []string{}},
}

// dhcp sends the copies of a request and of its acknowledgement (RFC 2131).
func (p *player) dhcp(given netip.Addr, mac, host string, t dhcpTraits) {
	device, err := net.ParseMAC(mac)
	if err != nil {
		return
	}
	message := func(op, kind byte, options ...byte) []byte {
		b := make([]byte, 240, 400)
		b[0], b[1], b[2] = op, 1, 6
		copy(b[28:], device)
		copy(b[236:], []byte{99, 130, 83, 99})
		b = append(append(b, 53, 1, kind), options...)
		return append(append(append(b, 12, byte(len(host))), host...), 255)
	}
	asks := append([]byte{50, 4}, given.AsSlice()...)
	asks = append(append(asks, 55, byte(len(t.asks))), t.asks...)
	if t.class != "" {
		asks = append(append(asks, 60, byte(len(t.class))), t.class...)
	}
	send(relayAddress, p.o.DHCP, message(1, 3, asks...))
	ack := message(2, 5, 51, 4, 0, 0, 0x70, 0x80)
	copy(ack[16:], given.AsSlice())
	send(relayAddress, p.o.DHCP, ack)
}
