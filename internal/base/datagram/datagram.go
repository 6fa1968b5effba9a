// Package datagram is how DTLS is spoken here, by servers and clients alike: version 1.2 (RFC 6347) with forward
// secrecy, authenticated encryption and the extended master secret, over a share of a socket.
package datagram

import "github.com/pion/dtls/v3"

// Options are what both sides ask for. They serve as dtls.ServerOption and dtls.ClientOption.
func Options() []dtls.Option {
	return []dtls.Option{dtls.WithCipherSuites(dtls.TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384,
		dtls.TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256, dtls.TLS_ECDHE_RSA_WITH_AES_256_GCM_SHA384,
		dtls.TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256),
		dtls.WithExtendedMasterSecret(dtls.RequireExtendedMasterSecret)}
}
