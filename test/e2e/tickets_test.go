package e2e

import (
	"crypto/tls"

	"tollgate.example/key/internal/web/client"
)

func newTickets() tls.ClientSessionCache { return tls.NewLRUClientSessionCache(4) }

func loadPair(base string) (*tls.Certificate, error) {
	pair, err := tls.LoadX509KeyPair(base+".pem", base+".key")
	return &pair, err
}

var ifMatchAny = client.IfMatch("*")
