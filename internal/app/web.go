package app

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"syscall"
	"time"
)

// webCertificate loads the given certificate, or makes a self-signed one in the data directory at the first start.
func webCertificate(o *Options) (*tls.Config, error) {
	certFile, keyFile := o.TLSCert, o.TLSKey
	if certFile == "" {
		certFile, keyFile = filepath.Join(o.Data, "web-cert.pem"), filepath.Join(o.Data, "web-key.pem")
		if _, err := os.Stat(certFile); errors.Is(err, fs.ErrNotExist) {
			if err := selfSign(certFile, keyFile); err != nil {
				return nil, fmt.Errorf("making a certificate for the console: %w", err)
			}
		}
	}
	certificate, err := tls.LoadX509KeyPair(certFile, keyFile)
	if err != nil {
		return nil, fmt.Errorf("the certificate of the console: %w", err)
	}
	return &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{certificate}}, nil
}

func selfSign(certFile, keyFile string) error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return err
	}
	host, _ := os.Hostname()
	template := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: "Tollgate Key console"},
		NotBefore: time.Now().Add(-time.Hour),
		NotAfter:  time.Now().AddDate(2, 0, 0), DNSNames: []string{"localhost", host},
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	addrs, _ := net.InterfaceAddrs()
	for _, a := range addrs {
		if n, ok := a.(*net.IPNet); ok {
			template.IPAddresses = append(template.IPAddresses, n.IP)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		return err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	if err := os.WriteFile(keyFile, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}),
		0o600); err != nil {
		return err
	}
	return os.WriteFile(certFile, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600)
}

// lockPatience is how long a start waits for the process before it to let go of the data directory: one that is
// ending, or a child of it that has not become another program yet.
const lockPatience = 2 * time.Second

// lock makes sure that one process at a time uses a data directory.
func lock(path string) (unlock func(), err error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	for end := time.Now().Add(lockPatience); ; time.Sleep(20 * time.Millisecond) {
		if err = syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err == nil {
			break
		} else if time.Now().After(end) {
			f.Close()
			return nil, err
		}
	}
	return func() { f.Close() }, nil
}
