package tunnel

import (
	"crypto/tls"

	"tollgate.example/key/internal/wire/eap"
)

// SessionKey derives the master session key of a method: RFC 5216 section 2.3 and RFC 5281 section 8 for TLS up to 1.2,
// RFC 9190 section 2.3 and RFC 9427 section 2 for TLS 1.3, where 128 octets are exported and the first 64 count. For
// TEAP it is the session_key_seed of 40 octets (RFC 7170 section 5.1).
func (t *Tunnel) SessionKey(kind eap.Type) ([]byte, error) {
	label, n, context := "client EAP encryption", 64, []byte(nil)
	switch {
	case kind == eap.TEAP:
		label, n = "EXPORTER: teap session key seed", 40
	case t.State().Version >= tls.VersionTLS13:
		label, n, context = "EXPORTER_EAP_TLS_Key_Material", 128, []byte{byte(kind)}
	case kind == eap.TTLS:
		label = "ttls keying material"
	}
	key, err := t.Export(label, context, n)
	if err != nil {
		return nil, err
	}
	return key[:min(n, 64)], nil
}
