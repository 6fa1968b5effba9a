package radius

import (
	"net"
	"net/netip"
	"syscall"
)

// socket is a UDP socket that answers from the address it was asked at, also when it listens on all addresses.
type socket struct {
	*net.UDPConn
	wildcard bool
}

// route is the control message that came with a packet and sends the reply back the same way.
type route []byte

func openSocket(address string) (*socket, error) {
	udp, err := net.ResolveUDPAddr("udp", address)
	if err != nil {
		return nil, err
	}
	c, err := net.ListenUDP("udp", udp)
	if err != nil {
		return nil, err
	}
	c.SetReadBuffer(bufferSize) // as far as the system allows
	c.SetWriteBuffer(bufferSize)
	s := &socket{UDPConn: c, wildcard: udp.IP == nil || udp.IP.IsUnspecified()}
	if s.wildcard {
		raw, err := c.SyscallConn()
		if err == nil {
			err = raw.Control(func(fd uintptr) {
				syscall.SetsockoptInt(int(fd), syscall.IPPROTO_IP, syscall.IP_PKTINFO, 1)
				syscall.SetsockoptInt(int(fd), syscall.IPPROTO_IPV6, syscall.IPV6_RECVPKTINFO, 1)
			})
		}
		if err != nil {
			c.Close()
			return nil, err
		}
	}
	return s, nil
}

func (s *socket) receive(buf []byte) (int, netip.AddrPort, route, error) {
	if !s.wildcard {
		n, from, err := s.ReadFromUDPAddrPort(buf)
		return n, from, nil, err
	}
	var control [128]byte
	n, size, _, from, err := s.ReadMsgUDPAddrPort(buf, control[:])
	return n, from, append(route(nil), control[:size]...), err
}

// send ignores errors: the client asks again if the reply is lost, for whatever reason.
func (s *socket) send(data []byte, to netip.AddrPort, back route) {
	if len(back) == 0 {
		s.WriteToUDPAddrPort(data, to)
		return
	}
	s.WriteMsgUDPAddrPort(data, back, to)
}
