package certificate

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"innerladder/test/pki"
)

// shown is the certificate that a listener shows to whoever trusts an authority.
func shown(t *testing.T, k *Keeper, trusted *x509.CertPool) (*x509.Certificate, error) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() {
		c, err := tls.NewListener(l, k.Config()).Accept()
		if err == nil {
			_ = c.(*tls.Conn).Handshake()
			_ = c.Close()
		}
	}()
	c, err := tls.Dial("tcp", l.Addr().String(), &tls.Config{RootCAs: trusted, ServerName: "ladder.test"})
	if err != nil {
		return nil, err
	}
	defer c.Close()
	return c.ConnectionState().PeerCertificates[0], nil
}

// A renewed certificate is in force at the next connection; one that cannot be used never is.
func TestFilesThatChange(t *testing.T) {
	authority := pki.New(t)
	dir := t.TempDir()
	certificate, key := filepath.Join(dir, "tls.crt"), filepath.Join(dir, "tls.key")
	authority.Write(t, certificate, key, time.Hour, "ladder.test")
	var log bytes.Buffer
	k, err := Open(certificate, key, slog.New(slog.NewTextHandler(&log, nil)))
	if err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(log.String(), "WARN") {
		t.Errorf("a certificate that ends in an hour is not warned of: %s", log.String())
	}
	first, err := shown(t, k, authority.Pool)
	if err != nil {
		t.Fatal(err)
	}
	again := func() *x509.Certificate {
		k.looked = time.Time{}
		c, err := shown(t, k, authority.Pool)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	for name, spoil := range map[string]func() error{
		"cut short":      func() error { return os.Truncate(certificate, 100) },
		"gone":           func() error { return os.Remove(key) },
		"of another key": func() error { return pki.New(t).WriteCertificate(certificate, time.Hour, "ladder.test") },
	} {
		if err := spoil(); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		said := strings.Count(log.String(), "ERROR")
		for range 2 {
			if !again().Equal(first) {
				t.Errorf("%s: another certificate is shown", name)
			}
		}
		if n := strings.Count(log.String(), "ERROR") - said; n != 1 {
			t.Errorf("%s: said %d times: %s", name, n, log.String())
		}
		authority.Write(t, certificate, key, time.Hour, "ladder.test")
		if next := again(); next.Equal(first) {
			t.Errorf("after %s the new certificate is not in force", name)
		} else {
			first = next
		}
	}
}

func TestNoCertificate(t *testing.T) {
	dir := t.TempDir()
	if _, err := Open(filepath.Join(dir, "no.crt"), filepath.Join(dir, "no.key"),
		slog.New(slog.DiscardHandler)); err == nil || !strings.Contains(err.Error(), "no.crt") {
		t.Errorf("%v", err)
	}
}
