// Package pki makes certificates for tests.
package pki

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"math/big"
	"net"
	"os"
	"testing"
	"time"
)

// Authority signs certificates.
type Authority struct {
	own *x509.Certificate
	key *ecdsa.PrivateKey
	// Pool trusts it.
	Pool *x509.CertPool
}

// New makes an authority.
func New(t testing.TB) *Authority {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	own := &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "an authority of tests"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour),
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign,
	}
	der, err := x509.CreateCertificate(rand.Reader, own, own, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	a := &Authority{own: own, key: key, Pool: x509.NewCertPool()}
	if a.own, err = x509.ParseCertificate(der); err != nil {
		t.Fatal(err)
	}
	a.Pool.AddCert(a.own)
	return a
}

// PEM is the authority's own certificate.
func (a *Authority) PEM() []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: a.own.Raw})
}

// make makes a certificate with a new key for names, for 127.0.0.1 and for localhost.
func (a *Authority) make(lasts time.Duration, names []string) (certificate, key []byte, err error) {
	own, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	number, err := rand.Int(rand.Reader, big.NewInt(1<<62))
	if err != nil {
		return nil, nil, err
	}
	der, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{
		SerialNumber: number, Subject: pkix.Name{CommonName: "tests"}, DNSNames: append(names, "localhost"),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
		NotBefore:   time.Now().Add(-time.Hour), NotAfter: time.Now().Add(lasts),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}, a.own, &own.PublicKey, a.key)
	if err != nil {
		return nil, nil, err
	}
	private, err := x509.MarshalPKCS8PrivateKey(own)
	if err != nil {
		return nil, nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}), nil
}

// Write writes a certificate of the authority and its key.
func (a *Authority) Write(t testing.TB, certificate, key string, lasts time.Duration, names ...string) {
	t.Helper()
	c, k, err := a.make(lasts, names)
	if err == nil {
		err = errors.Join(os.WriteFile(certificate, c, 0o600), os.WriteFile(key, k, 0o600))
	}
	if err != nil {
		t.Fatal(err)
	}
}

// WriteCertificate writes a certificate of the authority alone, whose key nobody has.
func (a *Authority) WriteCertificate(certificate string, lasts time.Duration, names ...string) error {
	c, _, err := a.make(lasts, names)
	if err != nil {
		return err
	}
	return os.WriteFile(certificate, c, 0o600)
}
