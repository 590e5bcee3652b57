package test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"innerladder/test/foreign"
	"innerladder/test/poll"

	"innerladder/internal/client"
	"innerladder/internal/core/access"
	"innerladder/internal/wire"
)

// provider starts the real provider of sign-ins and returns its address.
func provider(t *testing.T, back string) (address string, groups io.Writer) {
	t.Helper()
	node := foreign.Program(t, "node")
	modules, err := filepath.Abs("../web/node_modules")
	must(t, err)
	if _, err := os.Stat(filepath.Join(modules, "oidc-provider")); err != nil {
		t.Skip("the console's packages are not installed")
	}
	cmd := exec.Command(node, "oidc/provider.mjs", modules, back)
	log := &poll.Buffer{}
	cmd.Stderr = log
	in, err := cmd.StdinPipe()
	must(t, err)
	out, err := cmd.StdoutPipe()
	must(t, err)
	must(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		if t.Failed() {
			t.Logf("log of the provider:\n%s", log)
		}
	})
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		if strings.HasPrefix(lines.Text(), "http://") {
			go func() { _, _ = io.Copy(io.Discard, out) }()
			return lines.Text(), in
		}
	}
	t.Fatalf("the provider did not start: %s", log)
	return "", nil
}

// visitor is a browser without scripts: it keeps cookies and sends forms.
type visitor struct {
	t *testing.T
	*http.Client
	at   *url.URL
	page string
}

func visit(t *testing.T, address string) *visitor {
	jar, err := cookiejar.New(nil)
	must(t, err)
	v := &visitor{t: t, Client: &http.Client{Jar: jar}}
	v.take(v.Get(address))
	return v
}

func (v *visitor) take(res *http.Response, err error) {
	v.t.Helper()
	must(v.t, err)
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	must(v.t, err)
	v.at, v.page = res.Request.URL, string(b)
}

// send fills in and sends the form of the page.
func (v *visitor) send(fields url.Values) {
	v.t.Helper()
	action := regexp.MustCompile(`<form[^>]*action="([^"]+)"`).FindStringSubmatch(v.page)
	if action == nil {
		v.t.Fatalf("there is no form at %s:\n%s", v.at, v.page)
	}
	for _, hidden := range regexp.MustCompile(`<input type="hidden" name="([^"]+)" value="([^"]*)"`).
		FindAllStringSubmatch(v.page, -1) {
		fields.Set(hidden[1], hidden[2])
	}
	to, err := v.at.Parse(action[1])
	must(v.t, err)
	v.take(v.PostForm(to.String(), fields))
}

// Sign-in through OpenID Connect, with a real provider.
func TestSigningInByTheProvider(t *testing.T) {
	h := &house{t: t, data: filepath.Join(t.TempDir(), "data")}
	address := freeAddress(t)
	issuer, groups := provider(t, "http://"+address+"/api/v1/session/provider/back")
	secret := filepath.Join(t.TempDir(), "provider.secret")
	must(t, os.WriteFile(secret, []byte("a secret of sixteen bytes and more\n"), 0o600))
	h.listen, h.options = address,
		[]string{
			"-oidc-issuer", issuer, "-oidc-client-id", "inner-ladder", "-oidc-client-secret-file", secret,
			"-oidc-title", "Tarnholm", "-oidc-group", "heat-engineers=operator@default",
			"-oidc-group", "heat-engineers=approver@nowhere", "-oidc-group", "desk=author@default",
		}
	h.start()
	for _, name := range []string{"tove", "odd"} {
		_, err := h.runa.AddPerson(t.Context(),
			wire.NewPerson{
				Name: name, Email: name + "@tarnholm.example",
				Memberships: []access.Membership{{Project: "default", Role: "reader"}},
			})
		must(t, err)
	}
	signIn := func(as string) *visitor {
		t.Helper()
		v := visit(t, h.server+"/api/v1/session/provider")
		v.send(url.Values{"login": {as}, "password": {"x"}})
		if strings.Contains(v.page, "<form") { // consent
			v.send(url.Values{})
		}
		return v
	}
	me := func(v *visitor) string {
		t.Helper()
		v.take(v.Get(h.server + "/api/v1/session"))
		return v.page
	}
	v := signIn("tove")
	if !strings.Contains(v.page, "On to the console") || !strings.Contains(me(v), `"name":"tove"`) {
		t.Fatalf("tove came to %s:\n%s", v.at, v.page)
	}
	if again := me(signIn("tove")); !strings.Contains(again, `"name":"tove"`) {
		t.Errorf("again: %s", again)
	}
	for as, why := range map[string]string{
		"mallory":        "verified e-mail address", // known to the provider, not here
		"odd-unverified": "verified e-mail address", // says that it is odd
		"tove-2":         "verified e-mail address", // another with tove's address
	} {
		if v := signIn(as); !strings.Contains(v.page, why) || strings.Contains(me(v), `"name"`) {
			t.Errorf("%s came in: %s", as, v.page)
		}
	}
	// Groups give roles and take them away, and leave alone what people gave.
	roles := func(v *visitor) (all []string) {
		t.Helper()
		var who wire.Me
		must(t, json.Unmarshal([]byte(me(v)), &who))
		for _, m := range who.Memberships {
			all = append(all, m.Role+"@"+m.Project)
		}
		slices.Sort(all)
		return all
	}
	for _, c := range []struct{ groups, want string }{
		{"heat-engineers desk unknown", "author@default operator@default reader@default"},
		{"desk", "author@default reader@default"},
		{"", "reader@default"},
	} {
		_, err := io.WriteString(groups, strings.TrimSpace("odd "+c.groups)+"\n")
		must(t, err)
		await(t, "the roles of "+c.groups, 10*time.Second, func() bool {
			return strings.Join(roles(signIn("odd")), " ") == c.want
		})
	}
	log, err := h.runa.Audit(t.Context(), map[string]string{"subject": "odd"}, client.Part{Limit: 20})
	must(t, err)
	if said := fmt.Sprint(log.Items); !strings.Contains(said, "became operator of default, by their groups") ||
		!strings.Contains(said, "no longer author of default, by their groups") {
		t.Error(said)
	}
	// a code that this browser did not ask for
	stranger := visit(t, h.server+"/api/v1/session/provider/back?code=abc&state=xyz")
	if !strings.Contains(stranger.page, "did not begin the sign-in") {
		t.Errorf("a foreign code: %s", stranger.page)
	}
	out := true
	_, err = h.runa.EditPerson(t.Context(), "tove", wire.PersonEdit{Disabled: &out})
	must(t, err)
	if v := signIn("tove"); strings.Contains(me(v), `"name":"tove"`) {
		t.Error("who is shut out came in by the provider")
	}
}
