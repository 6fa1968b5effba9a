package cluster

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"time"

	"tollgate.example/key/internal/base/seal"
)

// Certificates of nodes are not looked at for their time but at the start of each way between nodes: ten years, since a
// node whose certificate ran out would be cut off for good.
const validity = 10 * 365 * 24 * time.Hour

// identity is the certificate of a node, with its key and the authority that issued it, as PEM.
type identity struct {
	CA, Certificate, Key []byte
}

// nameOf is the name that the certificate of a node has.
func nameOf(node string) string { return node + ".node.tollgate" }

func newSerial() *big.Int {
	n, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		panic(err)
	}
	return n
}

// newAuthority makes an authority: certificate and key as PEM.
func newAuthority() (certificate, key []byte, err error) {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	template := &x509.Certificate{
		SerialNumber:          newSerial(),
		Subject:               pkix.Name{CommonName: "Nodes of Tollgate Key"},
		NotBefore:             time.Now().Add(-24 * time.Hour),
		NotAfter:              time.Now().Add(2 * validity),
		IsCA:                  true,
		BasicConstraintsValid: true,
		MaxPathLenZero:        true,
		KeyUsage:              x509.KeyUsageCertSign,
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, private.Public(), private)
	if err != nil {
		return nil, nil, err
	}
	key, err = keyPEM(private)
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), key, err
}

func keyPEM(key *ecdsa.PrivateKey) ([]byte, error) {
	der, err := x509.MarshalPKCS8PrivateKey(key)
	return pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), err
}

func parseCertificate(text []byte) (*x509.Certificate, error) {
	block, _ := pem.Decode(text)
	if block == nil || block.Type != "CERTIFICATE" {
		return nil, errors.New("this is no certificate in PEM")
	}
	return x509.ParseCertificate(block.Bytes)
}

// request makes a key for a node, and what its authority signs.
func request(node string) (csr, key []byte, err error) {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	csr, err = x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{
		Subject: pkix.Name{CommonName: node}}, private)
	if err != nil {
		return nil, nil, err
	}
	key, err = keyPEM(private)
	return csr, key, err
}

// issue signs the request of a node that is reached at some hosts.
func issue(ca, caKey, csr []byte, node string, hosts ...string) ([]byte, error) {
	authority, err := tls.X509KeyPair(ca, caKey)
	if err != nil {
		return nil, fmt.Errorf("the authority of the nodes: %w", err)
	}
	asked, err := x509.ParseCertificateRequest(csr)
	if err == nil {
		err = asked.CheckSignature()
	}
	if err != nil {
		return nil, fmt.Errorf("the request for a certificate: %w", err)
	}
	parent, err := parseCertificate(ca)
	if err != nil {
		return nil, err
	}
	template := &x509.Certificate{SerialNumber: newSerial(), Subject: pkix.Name{CommonName: node},
		NotBefore: time.Now().Add(-24 * time.Hour), NotAfter: time.Now().Add(validity),
		DNSNames: []string{nameOf(node)}, KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}}
	for _, host := range hosts {
		if ip := net.ParseIP(host); ip != nil {
			template.IPAddresses = append(template.IPAddresses, ip)
		} else {
			template.DNSNames = append(template.DNSNames, host)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, template, parent, asked.PublicKey, authority.PrivateKey)
	if err != nil {
		return nil, fmt.Errorf("issuing the certificate of node %s: %w", node, err)
	}
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), nil
}

// fingerprint is the SHA-256 of a certificate, in hexadecimal.
func fingerprint(c *x509.Certificate) string {
	sum := sha256.Sum256(c.Raw)
	return hex.EncodeToString(sum[:])
}

func (i *identity) files(dir string) (ca, certificate, key string) {
	return filepath.Join(
			dir,
			"node-ca.pem",
		), filepath.Join(
			dir,
			"node-cert.pem",
		), filepath.Join(
			dir,
			"node-key.pem",
		)
}

// save writes the identity into the data directory.
func (i *identity) save(dir string) error {
	ca, certificate, key := i.files(dir)
	for path, text := range map[string][]byte{ca: i.CA, certificate: i.Certificate, key: i.Key} {
		if err := seal.WriteFile(path, text); err != nil {
			return fmt.Errorf("keeping the certificate of this node: %w", err)
		}
	}
	return nil
}

func loadIdentity(dir string) (*identity, error) {
	i := &identity{}
	ca, certificate, key := i.files(dir)
	for path, into := range map[string]*[]byte{ca: &i.CA, certificate: &i.Certificate, key: &i.Key} {
		text, err := os.ReadFile(path)
		if err != nil {
			return nil, fmt.Errorf("reading the certificate of this node: %w", err)
		}
		*into = text
	}
	return i, nil
}

// tls is how this node meets others: certificates of the same authority, of nodes that known tells. A server lets in
// those that have no certificate yet: they may ask to join and nothing else.
func (i *identity) tls(known func(fingerprint string) bool) (*tls.Config, error) {
	own, err := tls.X509KeyPair(i.Certificate, i.Key)
	if err != nil {
		return nil, fmt.Errorf("the certificate of this node: %w", err)
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(i.CA) {
		return nil, errors.New("the certificate of the authority of the nodes is damaged")
	}
	block, _ := pem.Decode(i.CA)
	own.Certificate = append(own.Certificate, block.Bytes) // who joins knows the authority by its fingerprint
	return &tls.Config{MinVersion: tls.VersionTLS13, Certificates: []tls.Certificate{own}, RootCAs: pool,
		ClientCAs: pool, ClientAuth: tls.VerifyClientCertIfGiven,
		VerifyConnection: func(s tls.ConnectionState) error {
			if len(s.PeerCertificates) > 0 && !known(fingerprint(s.PeerCertificates[0])) {
				return errors.New("this node was removed, or never joined")
			}
			return nil
		}}, nil
}

// pinned is how a joiner meets the node that invited it: by the fingerprint of the authority, and the name.
func pinned(authority []byte, node string) *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS13, InsecureSkipVerify: true, // VerifyConnection does, by the pin
		VerifyConnection: func(s tls.ConnectionState) error {
			for _, c := range s.PeerCertificates[1:] {
				if sum := sha256.Sum256(c.Raw); bytes.Equal(sum[:], authority) {
					pool := x509.NewCertPool()
					pool.AddCert(c)
					_, err := s.PeerCertificates[0].Verify(x509.VerifyOptions{Roots: pool, DNSName: nameOf(node)})
					return err
				}
			}
			return errors.New("who answers there is no node of those that invite")
		}}
}
