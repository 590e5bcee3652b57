package test

import (
	"context"
	"errors"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"innerladder/test/browser"

	"github.com/chromedp/chromedp"
)

// terminal runs commands as one person with a configuration of their own, as the README
// tells a new organisation to.
type terminal struct {
	t    *testing.T
	home string
}

func (c terminal) run(stdin string, args ...string) (int, string) {
	c.t.Helper()
	cmd := exec.Command(binary, args...)
	cmd.Env = append(os.Environ(), "HOME="+c.home, "XDG_CONFIG_HOME=", "INNERLADDER_TOKEN=", "INNERLADDER_SERVER=")
	cmd.Stdin = strings.NewReader(stdin)
	out, _ := cmd.CombinedOutput()
	return cmd.ProcessState.ExitCode(), strings.TrimSpace(string(out))
}

func (c terminal) must(args ...string) string {
	c.t.Helper()
	code, out := c.run("", args...)
	if code != 0 {
		c.t.Fatalf("innerladder %s: exit %d: %s", strings.Join(args, " "), code, out)
	}
	return out
}

// From first start to three people with different roles, by the command line alone.
func TestANewOrganisation(t *testing.T) {
	p := run(t, "serve", "-data", filepath.Join(t.TempDir(), "data"), "-listen", "127.0.0.1:0", "-gateway",
		"127.0.0.1:0")
	last := func() string { s := p.line(); return s[strings.LastIndex(s, " ")+1:] }
	_, _, link := last(), last(), last()
	sif, runa, tove := terminal{t, t.TempDir()}, terminal{t, t.TempDir()}, terminal{t, t.TempDir()}

	if code, out := sif.run(password+"\n", "login", "-link", link, "-password-file", "-"); code != 2 ||
		!strings.Contains(out, "choose a name") {
		t.Errorf("the first owner without a name: %d %s", code, out)
	}
	if code, out := sif.run("short\n", "login", "-link", link, "-name", "sif", "-password-file", "-"); code != 2 ||
		!strings.Contains(out, "fewer than 10 characters") {
		t.Errorf("a short password: %d %s", code, out)
	}
	if code, out := sif.run(password+"\n", "login", "-link", link, "-name", "sif", "-password-file", "-"); code != 0 ||
		!strings.Contains(out, "as sif (owner of everything)") {
		t.Fatalf("%d %s", code, out)
	}
	if code, out := tove.run(password+"\n", "login", "-link", link, "-name", "mallory", "-password-file",
		"-"); code != 1 || !strings.Contains(out, "is not valid") {
		t.Errorf("the link a second time: %d %s", code, out)
	}
	sif.must("project", "add", "forecasting")
	sif.must("project", "add", "maintenance")
	for name, c := range map[string]struct {
		who  terminal
		role string
	}{"runa": {runa, "author"}, "tove": {tove, "approver"}} {
		out := sif.must("person", "add", name, "-role", c.role, "-project", "forecasting")
		theirs := out[strings.LastIndex(out, "http://"):]
		if code, out := c.who.run(password+"\n", "login", "-link", theirs, "-password-file", "-"); code != 0 ||
			!strings.Contains(out, c.role+" of forecasting") {
			t.Fatalf("%d %s", code, out)
		}
	}
	file := filepath.Join(t.TempDir(), "model.bin")
	report := filepath.Join(t.TempDir(), "evaluation.json")
	if err := errors.Join(os.WriteFile(file, []byte("weights"), 0o600),
		os.WriteFile(report, []byte(`{"metrics": {"rmse": 0.4}}`), 0o600)); err != nil {
		t.Fatal(err)
	}
	if out := runa.must("register", "heat-demand", "-no-code", "-file", file, "-report",
		report); out != "heat-demand@1" {
		t.Error(out)
	}
	sif.must("register", "valve-fault", "-no-code", "-file", file, "-project", "maintenance")
	runa.must("promote", "heat-demand@1", "-to", "live", "-why", "@tove have a look")
	if out := tove.must("inbox"); !strings.Contains(out, "mention") || !strings.Contains(out, "P-1") {
		t.Error(out)
	}
	for _, c := range []struct {
		who  terminal
		code int
		says string
		args []string
	}{
		{runa, 3, "may not sign", []string{"sign", "P-1", "-yes"}},
		{tove, 3, "may not register", []string{"register", "heat-demand", "-no-code", "-file", file}},
		{runa, 1, `no model "valve-fault"`, []string{"show", "valve-fault@1"}},
		{tove, 1, "no valve-fault", []string{"show", "valve-fault@1"}},
		{runa, 3, "may not administer", []string{"project", "add", "mine"}},
		{runa, 3, "may not manage", []string{"role", "give", "runa", "approver", "-project", "forecasting"}},
		{tove, 0, "carried out", []string{"sign", "P-1", "-yes", "-why", "read it"}},
		{sif, 0, "intact", []string{"audit", "verify"}},
		{tove, 3, "for the whole service", []string{"audit", "verify"}},
		{tove, 0, "said yes", []string{"audit", "-by", "tove", "-kind", "promotion"}},
	} {
		code, out := c.who.run("", c.args...)
		if code != c.code || !strings.Contains(out, c.says) &&
			!strings.Contains(out, `there is no model "valve-fault"`) {
			t.Errorf("%v: exit %d: %s", c.args, code, out)
		}
	}
	if out := runa.must("list"); strings.Contains(out, "valve-fault") || !strings.Contains(out, "heat-demand") {
		t.Error(out)
	}
	robotForThePipeline(t, sif, link)
}

// robotForThePipeline makes a robot with a token that may do little.
func robotForThePipeline(t *testing.T, sif terminal, link string) {
	t.Helper()
	sif.must("robot", "add", "nightly", "-role", "author", "-project", "forecasting")
	out := sif.must("token", "make", "nightly training", "-robot", "nightly", "-may", "register", "-lasts", "24h")
	token := filepath.Join(t.TempDir(), "nightly.token")
	if err := os.WriteFile(token, []byte(out[strings.LastIndex(out, "il_"):]), 0o600); err != nil {
		t.Fatal(err)
	}
	server := link[:strings.Index(link, "/welcome")]
	nightly := terminal{t, t.TempDir()}
	nightly.must("data", "add", "winters", "-address", "https://data.tarnholm.example/w", "-project", "forecasting",
		"-server", server, "-token-file", token)
	if code, out := nightly.run("", "promote", "heat-demand@1", "-to", "live", "-server", server, "-token-file",
		token); code != 3 || !strings.Contains(out, "may not ask") {
		t.Errorf("a narrowed token: %d %s", code, out)
	}
}

// violations has every page from now on remember where it broke its own rules.
func violations(b *tab) func() string {
	b.do("listening", chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := chromedp.Evaluate[any](`window.__broken = []; document.addEventListener('securitypolicyviolation', (e) => window.__broken.push(e.violatedDirective + ' ' + e.blockedURI + ' ' + e.sourceFile)); 0`)(ctx, t)
		return err
	}))
	return func() string {
		found, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](`(window.__broken || []).join('; ')`))
		must(b.t, err)
		return found
	}
}

func TestPeopleInTheConsole(t *testing.T) {
	t.Parallel()
	h := &house{t: t, data: filepath.Join(t.TempDir(), "data")}
	h.process = run(t, "serve", "-data", h.data, "-listen", "127.0.0.1:0", "-gateway", "127.0.0.1:0")
	last := func() string { s := h.line(); return s[strings.LastIndex(s, " ")+1:] }
	h.server, h.gateway = last(), last()
	link := last()
	b := look(t, h)
	field := func(name, text string) browser.Action {
		return chromedp.Steps(browser.Visible(chromedp.CSS(`input[name="`+name+`"]`)),
			browser.Type(chromedp.CSS(`input[name="`+name+`"]`), text))
	}
	submit := browser.Click(chromedp.CSS(`[role="dialog"] button[type="submit"]`))
	closing := chromedp.Steps(browser.Click(chromedp.CSS(`[role="dialog"] [aria-label="Close"]`)),
		browser.Gone(chromedp.CSS(`[role="dialog"]`)))
	b.do("the first owner", chromedp.Navigate(link), sees("You are the first here"), field("name", "sif"),
		field("password", password), field("again", password), press("Come in"),
		browser.Visible(browser.Text("h1", "Now")))
	b.do("a project", b.open("/settings/service"), press("Add a project"), field("name", "forecasting"), submit,
		sees("forecasting"))
	broken := violations(b)
	pick := func(choice, option string) browser.Action {
		return chromedp.Steps(browser.Click(chromedp.CSS(`[role="dialog"] [aria-label="`+choice+`"]`)),
			browser.Click(chromedp.Search(`//*[@role="option"][normalize-space(.)="`+option+`"]`)))
	}
	b.do("going to the people without loading the page again", browser.Click(browser.Text("a", "People and roles")),
		sees("People and robots"))
	b.do("a person", press("Add a person"), field("name", "tove"), pick("Role", "approver"),
		pick("Project", "forecasting"), submit, browser.Visible(chromedp.CSS(`[data-secret]`)))
	theirs, err := chromedp.Run(b.ctx, chromedp.Text(chromedp.CSS(`[data-secret]`)))
	must(t, err)
	b.do("she is there", closing, sees("approver of forecasting"))
	b.do("a role of our own", press("Make a role"), field("role", "auditor"),
		browser.Click(chromedp.Search(`//label[contains(., "verify and export")]/input`)), submit, sees("read, audit"))
	b.do("a second role for her", browser.Click(chromedp.CSS(`[aria-label="Give tove a role"]`)),
		pick("Role", "auditor"), pick("Project", "forecasting"), submit, sees("auditor of forecasting"))
	b.do("and taken away", browser.Click(chromedp.CSS(`[aria-label="Take auditor of forecasting from tove"]`)),
		browser.Gone(chromedp.CSS(`[aria-label="Take auditor of forecasting from tove"]`)))
	b.do("a token of one's own", browser.Click(browser.Text("a", "Me")), press("Make a token"),
		browser.Type(chromedp.CSS(`[role="dialog"] input`), "a script"), submit,
		browser.Visible(chromedp.CSS(`[data-secret]`)), closing, sees("a script"))
	b.do("what reaches me", browser.Click(chromedp.CSS(`[aria-label="alert by inbox"]`)),
		browser.Visible(chromedp.CSS(`[aria-label="alert by inbox"]:checked`)))
	b.do("the record", browser.Click(browser.Text("a", "Audit")), sees("tove was added, a person."), press("Verify"),
		sees("Intact: all"))
	b.do("searching it", write("Words", "auditor"), sees("The role auditor may read, audit."),
		browser.Gone(chromedp.Search(`//*[contains(text(), "chose a password")]`)))
	b.do("keeping the search", press("Save search"),
		browser.Type(chromedp.CSS(`[role="dialog"] input`), "about auditors"), submit,
		browser.Visible(browser.Text("button", "about auditors")))
	b.do("values", browser.Click(chromedp.Search(`//button[starts-with(@aria-label, "Values of line")]`)),
		sees("after"))
	if found := broken(); found != "" {
		t.Errorf("pages broke their own rules: %s", found)
	}

	b.do("signing out", browser.Click(chromedp.CSS(`[aria-label="Sign out"]`)),
		browser.Visible(chromedp.CSS(`input[name="name"]`)))
	b.do("tove comes in", chromedp.Navigate(strings.TrimSpace(theirs)), sees("Welcome, tove"),
		field("password", password), field("again", password), press("Come in"),
		browser.Visible(browser.Text("h1", "Now")))
	b.do("she sees no settings of the service", b.open("/settings/people"), sees("approver of forecasting"),
		browser.Gone(browser.Text("button", "Add a person")),
		browser.Gone(browser.Text("a", "The service")))
	b.do("her link is used up", b.open("/sign-in"), chromedp.Navigate(strings.TrimSpace(theirs)), sees("is not valid"))
}

// Every page of the console is sent with rules that let nothing inline run, and cannot be
// framed.
func TestPagesHaveStrictRules(t *testing.T) {
	h := open(t)
	for _, path := range []string{
		"/", "/sign-in", "/welcome", "/models", "/settings/me", "/api/v1/session/ways",
		"/api/openapi.json", "/nothing/of/the/kind",
	} {
		res, err := http.Get(h.server + path)
		must(t, err)
		_ = res.Body.Close()
		policy := res.Header.Get("Content-Security-Policy")
		if !strings.Contains(policy, "default-src 'none'") || !strings.Contains(policy, "frame-ancestors 'none'") ||
			strings.Contains(policy, "unsafe") {
			t.Errorf("%s: %q", path, policy)
		}
		if strings.HasPrefix(res.Header.Get("Content-Type"), "text/html") &&
			(!strings.Contains(policy, "script-src 'self';") || !strings.Contains(policy, "'nonce-")) {
			t.Errorf("%s: %q", path, policy)
		}
		for name, want := range map[string]string{
			"X-Content-Type-Options": "nosniff", "X-Frame-Options": "DENY",
			"Referrer-Policy": "no-referrer",
		} {
			if got := res.Header.Get(name); got != want {
				t.Errorf("%s: %s is %q", path, name, got)
			}
		}
	}
}
