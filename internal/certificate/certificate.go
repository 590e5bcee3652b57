// Package certificate keeps the certificate by which our listeners speak TLS, and reads its files again when they
// change, so that a renewed one is in force without a restart.
package certificate

import (
	"crypto/tls"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"sync"
	"time"
)

// pace is how often the files are looked at, at most, and only while somebody connects.
const pace = time.Second

// soon is how long before its end a certificate is said to end.
const soon = 14 * 24 * time.Hour

// Keeper holds a certificate with its key.
type Keeper struct {
	certificate, key string
	log              *slog.Logger

	mu     sync.Mutex
	holds  *tls.Certificate
	read   [2]fs.FileInfo // the files as they were when holds was read
	looked time.Time
	// said is what was logged last about files that cannot be used, so that it is said once.
	said string
}

// Open reads a certificate, with those that lead to its authority, and its key, both PEM.
func Open(certificate, key string, log *slog.Logger) (*Keeper, error) {
	k := &Keeper{certificate: certificate, key: key, log: log}
	files, err := k.stat()
	if err == nil {
		err = k.load(files, time.Now())
	}
	return k, err
}

// Config is how a listener speaks TLS with the certificate: version 1.2 or later, and HTTP/1.1.
func (k *Keeper) Config() *tls.Config {
	return &tls.Config{
		MinVersion: tls.VersionTLS12, NextProtos: []string{"http/1.1"},
		GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return k.current(time.Now()), nil },
	}
}

// current is the certificate in force. Files that cannot be used, such as a new certificate whose key is not there yet,
// leave the one before in force.
func (k *Keeper) current(now time.Time) *tls.Certificate {
	k.mu.Lock()
	defer k.mu.Unlock()
	if now.Sub(k.looked) < pace {
		return k.holds
	}
	k.looked = now
	files, err := k.stat()
	if err == nil && same(files[0], k.read[0]) && same(files[1], k.read[1]) {
		k.said = ""
		return k.holds
	}
	if err == nil {
		err = k.load(files, now)
	}
	if err != nil && err.Error() != k.said {
		k.said = err.Error()
		k.log.Error("the certificate's files changed and cannot be used; the one before stays in force", "error", err)
	}
	return k.holds
}

func same(a, b fs.FileInfo) bool {
	return os.SameFile(a, b) && a.ModTime().Equal(b.ModTime()) && a.Size() == b.Size()
}

func (k *Keeper) stat() (files [2]fs.FileInfo, err error) {
	for i, path := range []string{k.certificate, k.key} {
		if files[i], err = os.Stat(path); err != nil {
			return files, fmt.Errorf("reading the certificate: %w", err)
		}
	}
	return files, nil
}

// load reads the files, which were looked at before: what changes meanwhile is read again.
func (k *Keeper) load(files [2]fs.FileInfo, now time.Time) error {
	pair, err := tls.LoadX509KeyPair(k.certificate, k.key)
	if err != nil {
		return fmt.Errorf("reading the certificate %s with the key %s: %w", k.certificate, k.key, err)
	}
	tell := k.log.Info
	if pair.Leaf.NotAfter.Before(now.Add(soon)) {
		tell = k.log.Warn // the listener would be refused by whoever connects
	}
	tell("certificate in force", "names", pair.Leaf.DNSNames, "addresses", pair.Leaf.IPAddresses,
		"until", pair.Leaf.NotAfter)
	k.holds, k.read, k.said = &pair, files, ""
	return nil
}
