package certificate

import (
	"crypto"
	"crypto/x509"
	"errors"
	"fmt"

	"software.sslmate.com/src/go-pkcs12"
)

// ReadPKCS12 opens a PKCS #12 file (RFC 7292): the key, and the certificates with the leaf first.
func ReadPKCS12(data []byte, password string) (crypto.Signer, []*x509.Certificate, error) {
	key, leaf, others, err := pkcs12.DecodeChain(data, password)
	if errors.Is(err, pkcs12.ErrIncorrectPassword) {
		return nil, nil, errors.New("the password does not open the PKCS #12 file")
	}
	if err != nil {
		return nil, nil, fmt.Errorf("the PKCS #12 file cannot be read: %w", err)
	}
	signer, ok := key.(crypto.Signer)
	if !ok {
		return nil, nil, errors.New("the key in the PKCS #12 file is of an unknown kind")
	}
	return signer, append([]*x509.Certificate{leaf}, others...), nil
}

// WritePKCS12 makes a PKCS #12 file for a device. The legacy form is for devices that know only the old ciphers.
func WritePKCS12(key crypto.Signer, chain []*x509.Certificate, password string, legacy bool) ([]byte, error) {
	encoder := pkcs12.Modern2023
	if legacy {
		encoder = pkcs12.LegacyDES
	}
	return encoder.Encode(key, chain[0], chain[1:], password)
}
