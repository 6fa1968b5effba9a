//go:build !linux

package radius

import (
	"net"
	"net/netip"
)

type socket struct{ *net.UDPConn }

type route struct{}

func openSocket(address string) (*socket, error) {
	udp, err := net.ResolveUDPAddr("udp", address)
	if err != nil {
		return nil, err
	}
	c, err := net.ListenUDP("udp", udp)
	if err != nil {
		return nil, err
	}
	c.SetReadBuffer(bufferSize)
	return &socket{c}, nil
}

func (s *socket) receive(buf []byte) (int, netip.AddrPort, route, error) {
	n, from, err := s.ReadFromUDPAddrPort(buf)
	return n, from, route{}, err
}

func (s *socket) send(data []byte, to netip.AddrPort, _ route) { s.WriteToUDPAddrPort(data, to) }
