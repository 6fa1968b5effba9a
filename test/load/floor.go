package main

import (
	"net"
	"runtime"

	"tollgate.example/key/internal/wire/radius"
)

// floor is the cheapest responder: it checks the Message-Authenticator, opens the password, signs an Access-Accept.
type floor struct{ conn *net.UDPConn }

func startFloor() (*floor, error) {
	conn, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		return nil, err
	}
	conn.SetReadBuffer(4 << 20)
	f := &floor{conn}
	key := radius.NewKey([]byte(secret))
	for range min(2, runtime.GOMAXPROCS(0)) {
		go f.serve(key)
	}
	return f, nil
}

func (f *floor) Addr() string { return f.conn.LocalAddr().String() }
func (f *floor) Close()       { f.conn.Close() }

func (f *floor) serve(key *radius.Key) {
	buf, out := make([]byte, radius.MaxSize), make([]byte, 0, 256)
	var clear [radius.MaxPassword]byte
	for {
		n, from, err := f.conn.ReadFromUDPAddrPort(buf)
		if err != nil {
			return
		}
		p, err := radius.Decode(buf[:n])
		if err != nil || !key.VerifyMessageAuthenticator(&p) {
			continue
		}
		if got, err := key.OpenPassword(clear[:0], p.Get(radius.UserPassword), p.Authenticator); err != nil ||
			string(got) != password {
			continue
		}
		reply, err := radius.NewReply(out, radius.AccessAccept, p.Identifier).SignReply(key, p.Authenticator)
		if err == nil {
			f.conn.WriteToUDPAddrPort(reply, from)
		}
	}
}
