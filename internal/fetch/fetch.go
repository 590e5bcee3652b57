// Package fetch reads files from addresses that people give, and nothing that they were
// not meant to reach: no private networks and no files of this machine, unless the
// operator allows them.
package fetch

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"innerladder/internal/core/fault"
)

// Fetcher opens addresses. Its zero value reaches public https addresses only.
type Fetcher struct {
	// Private lists ranges of addresses that are not public and may be reached all the
	// same; http without TLS is allowed to them.
	Private []netip.Prefix
	// Folders are the folders whose files file:// may name.
	Folders []string
	// Largest is how many bytes of one file are read; 0 is 64 GiB.
	Largest int64
}

const (
	// wait is how long a server may take to begin its answer.
	wait = 30 * time.Second
	// mostRedirects is how often a server may point elsewhere.
	mostRedirects = 5
	// largest is the default of Fetcher.Largest.
	largest = 64 << 30
)

func refused(code, detail string, args ...any) *fault.Fault {
	return fault.New(fault.Refused, code, detail, args...).In("from")
}

func invalid(detail string, args ...any) *fault.Fault {
	return fault.New(fault.Invalid, "from.address", detail, args...).In("from").
		Do("give an https:// or file:// address")
}

// Open opens an address and says what its file is called.
func (f *Fetcher) Open(ctx context.Context, address string) (r io.ReadCloser, name string, err error) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme == "" {
		return nil, "", invalid("%q is no address", address)
	}
	if u.User != nil {
		return nil, "", invalid("the address of %s carries credentials, which would be written down", u.Host)
	}
	name = path.Base(u.Path)
	if name == "/" || name == "." {
		name = u.Hostname()
	}
	switch u.Scheme {
	case "file":
		r, err = f.openFile(u)
	case "https", "http":
		r, err = f.openHTTP(ctx, u)
	default:
		return nil, "", invalid("%s:// cannot be read from", u.Scheme)
	}
	if err != nil {
		return nil, "", err
	}
	limit := f.Largest
	if limit == 0 {
		limit = largest
	}
	return &limited{r, limit, limit, address}, name, nil
}

// limited fails after so many bytes.
type limited struct {
	io.ReadCloser
	left, limit int64
	address     string
}

func (l *limited) Read(p []byte) (int, error) {
	n, err := l.ReadCloser.Read(p)
	if l.left -= int64(n); l.left < 0 {
		return 0, fault.New(fault.TooLarge, "from.too_large", "%s is larger than %d bytes", l.address, l.limit).
			In("from").Do("ask the operator for a higher -fetch-largest, or upload it")
	}
	if err != nil && err != io.EOF {
		err = refused("from.cut", "%s breaks off: %v", l.address, err).Do("try again")
	}
	return n, err
}

// openFile opens a file below one of the folders; links that lead out are not followed.
func (f *Fetcher) openFile(u *url.URL) (io.ReadCloser, error) {
	if u.Host != "" && u.Host != "localhost" {
		return nil, invalid("file://%s/… is on another machine", u.Host)
	}
	file := filepath.Clean(filepath.FromSlash(u.Path))
	for _, folder := range f.Folders {
		rel, err := filepath.Rel(folder, file)
		if err != nil || !filepath.IsLocal(rel) {
			continue
		}
		root, err := os.OpenRoot(folder)
		if err != nil {
			return nil, refused("from.unreadable", "%s cannot be opened", folder).
				Do("ask the operator to check -fetch-folder")
		}
		defer root.Close()
		opened, err := root.Open(rel)
		if err == nil {
			var info fs.FileInfo
			if info, err = opened.Stat(); err == nil && !info.Mode().IsRegular() {
				err = errors.New("it is no file")
			}
			if err != nil {
				_ = opened.Close()
			}
		}
		if err != nil {
			return nil, refused("from.unreadable", "%s cannot be read: %v", file, reason(err)).
				Do("check the path; it is read by the service, on its machine")
		}
		return opened, nil
	}
	return nil, refused("from.folder", "%s is in no folder that may be read", file).
		Do("ask the operator to allow it with -fetch-folder, or upload the file")
}

func reason(err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err
	}
	return err
}

var errPrivate = errors.New("not a public address")

// openHTTP asks a server. Which addresses may be reached is decided when the connection
// is made, after the name was looked up, so that neither names nor redirects lead in.
func (f *Fetcher) openHTTP(ctx context.Context, u *url.URL) (io.ReadCloser, error) {
	secure := u.Scheme == "https" // whether the address in turn is asked with TLS
	client := f.client(&secure)
	client.CheckRedirect = func(req *http.Request, via []*http.Request) error {
		if len(via) > mostRedirects {
			return fmt.Errorf("more than %d redirects", mostRedirects)
		}
		if req.URL.Scheme != "https" && req.URL.Scheme != "http" {
			return fmt.Errorf("a redirect to %s://", req.URL.Scheme)
		}
		secure = req.URL.Scheme == "https"
		return nil
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, u.String(), nil)
	if err != nil {
		return nil, invalid("%q is no address", u)
	}
	res, err := client.Do(req)
	if errors.Is(err, errPrivate) {
		return nil, refused("from.private", "%s is in a private range", u.Host).
			Do("ask the operator to allow it with -fetch-private, or upload the file")
	}
	if err != nil {
		return nil, refused("from.unreachable", "%s cannot be fetched: %v", u.Redacted(), bare(err)).
			Do("check the address; it is fetched by the service, from its machine")
	}
	if res.StatusCode != http.StatusOK {
		_ = res.Body.Close()
		return nil, refused("from.status", "%s answered %s", u.Redacted(), res.Status).Do("check the address")
	}
	return res.Body, nil
}

// bare is an error without the address, which is told already.
func bare(err error) error {
	var wrapped *url.Error
	if errors.As(err, &wrapped) {
		return wrapped.Err
	}
	return err
}

// Check refuses an address that nothing could be posted to.
func (f *Fetcher) Check(address string) error {
	u, err := url.Parse(address)
	if err != nil || (u.Scheme != "https" && u.Scheme != "http") || u.Host == "" || u.User != nil || u.Fragment != "" {
		return fault.New(fault.Invalid, "webhook.address", "%q is no address that can be told", address).In("address").
			Do("give an https:// address without credentials")
	}
	if a, err := netip.ParseAddr(u.Hostname()); (err == nil && !f.private(a) && !public(a)) ||
		(err != nil && u.Scheme == "http" && len(f.Private) == 0) {
		return fault.New(fault.Refused, "webhook.private", "%s is in a private range, or would be told without TLS",
			u.Host).In("address").Do("ask the operator to allow it with -fetch-private")
	}
	return nil
}

// answerRead is how much of an answer to a post is read.
const answerRead = 2 << 10

// Post sends a body and returns the status and the beginning of the answer. Redirects are
// not followed: what is sent is meant for nobody else.
func (f *Fetcher) Post(ctx context.Context, address string, header http.Header,
	body []byte,
) (status int, answer string, err error) {
	if err := f.Check(address); err != nil {
		return 0, "", err
	}
	secure := strings.HasPrefix(address, "https:")
	client := f.client(&secure)
	client.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, bytes.NewReader(body))
	if err != nil {
		return 0, "", err
	}
	req.Header = header
	res, err := client.Do(req)
	if err != nil {
		return 0, "", bare(err)
	}
	defer res.Body.Close()
	b, err := io.ReadAll(io.LimitReader(res.Body, answerRead))
	return res.StatusCode, string(b), err
}

// client makes a client that refuses to connect to addresses that are not allowed. Secure says
// whether the address that is asked is asked with TLS.
func (f *Fetcher) client(secure *bool) *http.Client {
	dialer := &net.Dialer{Timeout: wait}
	dialer.Control = func(_, address string, _ syscall.RawConn) error {
		at, err := netip.ParseAddrPort(address)
		if err != nil {
			return err
		}
		if f.private(at.Addr()) {
			return nil
		}
		if !public(at.Addr()) {
			return errPrivate
		}
		if !*secure {
			return fmt.Errorf("%s without TLS", at.Addr())
		}
		return nil
	}
	return &http.Client{Transport: &http.Transport{
		DialContext: dialer.DialContext, TLSHandshakeTimeout: wait,
		ResponseHeaderTimeout: wait, DisableKeepAlives: true, DisableCompression: true,
	}}
}

func (f *Fetcher) private(a netip.Addr) bool {
	a = a.Unmap()
	for _, p := range f.Private {
		if p.Contains(a) {
			return true
		}
	}
	return false
}

// notPublic are ranges that Addr's own methods do not tell: shared address space,
// protocol assignments, benchmarking, documentation, reserved, and translations to
// IPv4.
var notPublic = func() (out []netip.Prefix) {
	for _, p := range strings.Fields("0.0.0.0/8 100.64.0.0/10 192.0.0.0/24 192.0.2.0/24 192.88.99.0/24 198.18.0.0/15 " +
		"198.51.100.0/24 203.0.113.0/24 240.0.0.0/4 64:ff9b::/96 64:ff9b:1::/48 100::/64 2001::/23 2001:db8::/32 " +
		"2002::/16") {
		out = append(out, netip.MustParsePrefix(p))
	}
	return out
}()

// public reports whether an address is on the open internet.
func public(a netip.Addr) bool {
	a = a.Unmap()
	if a.IsLoopback() || a.IsPrivate() || a.IsLinkLocalUnicast() || a.IsMulticast() || a.IsUnspecified() ||
		!a.IsGlobalUnicast() || a.Zone() != "" {
		return false
	}
	for _, p := range notPublic {
		if p.Contains(a) {
			return false
		}
	}
	return true
}
