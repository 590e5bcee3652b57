package test

import (
	"crypto/tls"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"innerladder/test/pki"
)

// manyCalls makes calls on one connection, as Python's own client does.
const manyCalls = `
import http.client, json, ssl, sys
address, ca, path, body, n = sys.argv[1:6]
c = http.client.HTTPSConnection(address, context=ssl.create_default_context(cafile=ca), timeout=30)
for i in range(int(n)):
    c.request("POST" if body else "GET", path, body or None, {"Content-Type": "application/json"})
    r = c.getresponse()
    text = r.read().decode()
    if r.status != 200: sys.exit("%d %s" % (r.status, text))
print(text)
`

// serial is the number of the certificate that a listener shows, and the version of TLS.
func serial(t *testing.T, address string, a *pki.Authority) (string, uint16) {
	t.Helper()
	c, err := tls.Dial("tcp", strings.TrimPrefix(address, "https://"), &tls.Config{RootCAs: a.Pool})
	must(t, err)
	defer c.Close()
	state := c.ConnectionState()
	return state.PeerCertificates[0].SerialNumber.String(), state.Version
}

// Console, API and gateway speak TLS to clients that nobody here made; a renewed certificate is in force without a
// restart, and connections that are open go on.
func TestEveryListenerSpeaksTLS(t *testing.T) {
	t.Parallel()
	h := open(t)
	h.twoVersions()
	must(t, h.stop(syscall.SIGTERM))
	authority, dir := pki.New(t), t.TempDir()
	certificate, key, ca := filepath.Join(dir, "tls.crt"), filepath.Join(dir, "tls.key"), filepath.Join(dir, "ca.pem")
	authority.Write(t, certificate, key, 60*24*time.Hour, "ladder.test")
	must(t, os.WriteFile(ca, authority.PEM(), 0o600))
	h.options = []string{"-tls-certificate", certificate, "-tls-key", key}
	h.start()
	if !strings.HasPrefix(h.server, "https://") || !strings.HasPrefix(h.gateway, "https://") {
		t.Fatal(h.server, h.gateway)
	}
	ask := func(address, path, body, n string) string {
		t.Helper()
		at := strings.TrimPrefix(address, "https://")
		out, err := exec.Command("python3", "-c", manyCalls, at, ca, path, body, n).CombinedOutput()
		if err != nil {
			t.Fatalf("%s %s: %v: %s", address, path, err, out)
		}
		return string(out)
	}
	const asks = `{"inputs":[{"name":"x","shape":[1],"datatype":"FP64","data":[1]}]}`
	const path = "/v2/models/demand-hourly/infer"
	if got := ask(h.gateway, path, asks, "300"); !strings.Contains(got, `"model_version":"heat-demand@1"`) {
		t.Error(got)
	}
	large := strings.Replace(asks, `"inputs"`, `"id":"`+strings.Repeat("x", 300<<10)+`","inputs"`, 1)
	file := filepath.Join(dir, "large.json")
	must(t, os.WriteFile(file, []byte(large), 0o600))
	curl := func(args ...string) (string, error) {
		args = append([]string{"-sS", "--cacert", ca, "-w", "\n%{http_code} %{http_version}"}, args...)
		out, err := exec.Command("curl", args...).CombinedOutput()
		return string(out), err
	}
	got, err := curl("--data-binary", "@"+file, "-H", "Content-Type: application/json", h.gateway+path)
	if err != nil || !strings.HasSuffix(got, "\n200 1.1") {
		t.Errorf("%v %.200s", err, got)
	}
	if got := ask(h.server, "/readyz", "", "50"); !strings.Contains(got, "ready") {
		t.Error(got)
	}
	if got, err := curl("-i", "-H", "Origin: "+h.server, "-H", "Sec-Fetch-Site: same-origin", "--json",
		`{"name":"runa","password":"`+password+`"}`, h.server+"/api/v1/session"); err != nil ||
		!strings.Contains(strings.ToLower(got), "; secure") ||
		!strings.Contains(strings.ToLower(got), "strict-transport-security") {
		t.Errorf("%v %s", err, got)
	}
	for _, address := range []string{h.server, h.gateway} {
		if got, err := curl("--tls-max", "1.1", address+"/readyz"); err == nil {
			t.Errorf("TLS 1.1 is spoken: %s", got)
		}
		if got, err := exec.Command("curl", "-sS", address+"/readyz").CombinedOutput(); err == nil {
			t.Errorf("an authority that nobody knows is trusted: %s", got)
		}
		if res, err := http.Get("http" + strings.TrimPrefix(address, "https") + "/readyz"); err == nil {
			_ = res.Body.Close()
			if res.StatusCode == http.StatusOK {
				t.Error("a plain call is answered")
			}
		}
	}
	h.renews(authority, certificate, key)
	cmd := exec.Command(binary, "whoami", "-server", h.server, "-token-file", h.runaFile)
	cmd.Env = append(os.Environ(), "SSL_CERT_FILE="+ca, "HOME="+dir)
	if out, err := cmd.CombinedOutput(); err != nil || !strings.Contains(string(out), "runa") {
		t.Errorf("%v %s", err, out)
	}
}

// renews writes another certificate while a connection is open: the next connection has it, the open one goes on.
func (h *house) renews(a *pki.Authority, certificate, key string) {
	h.t.Helper()
	for _, address := range []string{h.server, h.gateway} {
		before, version := serial(h.t, address, a)
		if version != tls.VersionTLS13 {
			h.t.Errorf("%s speaks version %x", address, version)
		}
		transport := &http.Transport{TLSClientConfig: &tls.Config{RootCAs: a.Pool}}
		kept := &http.Client{Transport: transport, Timeout: 30 * time.Second}
		get := func() {
			h.t.Helper()
			res, err := kept.Get(address + "/v2/health/ready")
			must(h.t, err)
			must(h.t, res.Body.Close())
		}
		get()
		a.Write(h.t, certificate, key, 60*24*time.Hour, "ladder.test")
		await(h.t, "the new certificate", 30*time.Second, func() bool {
			after, _ := serial(h.t, address, a)
			return after != before
		})
		get()
		transport.CloseIdleConnections()
	}
}

// What cannot be is said before anything is opened.
func TestCertificatesThatAreNone(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	certificate, key := filepath.Join(dir, "a.crt"), filepath.Join(dir, "a.key")
	for says, args := range map[string][]string{
		"go together":               {"-tls-certificate", certificate},
		"a.crt: no such file":       {"-tls-certificate", certificate, "-tls-key", key},
		"-tls-certificate and -tls": {"-tls-key", key},
	} {
		out, err := exec.Command(binary, append([]string{
			"serve", "-data", filepath.Join(dir, "data"), "-listen", "127.0.0.1:0", "-gateway", "127.0.0.1:0",
		}, args...)...).CombinedOutput()
		if err == nil || !strings.Contains(string(out), says) {
			t.Errorf("%v: %v %s", args, err, out)
		}
	}
}
