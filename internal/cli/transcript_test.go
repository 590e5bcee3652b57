package cli

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"innerladder/test/poll"
)

// house is a service in this process, started as people start it, with some who use its
// command line. Tests are transcripts: what is typed, by whom, and what comes back.
type house struct {
	t      *testing.T
	server string
	// dir holds the files that are named in transcripts.
	dir string
	// words stand for what differs from run to run: {dir}, and what a transcript named.
	words map[string]string
}

// lines is a writer that many goroutines write to and a test looks into.
type lines struct{ poll.Buffer }

// find waits until something was written, and returns its first group.
func (l *lines) find(t *testing.T, pattern string) string {
	t.Helper()
	re := regexp.MustCompile(pattern)
	var found []string
	if !poll.Within(2*time.Minute, func() bool {
		found = re.FindStringSubmatch(l.String())
		return found != nil
	}) {
		t.Fatalf("nothing like %s was written:\n%s", pattern, l)
	}
	return found[1]
}

// background runs a command that goes on until the test ends.
func background(t *testing.T, args ...string) *lines {
	t.Helper()
	out := new(lines)
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan int, 1)
	go func() {
		ended <- Run(ctx, args, Streams{
			Out: out, Err: out, In: strings.NewReader(""),
			Env: func(string) (string, bool) { return "", false },
		})
	}()
	t.Cleanup(func() {
		stop()
		if code := <-ended; code != Done {
			t.Errorf("%v ended with %d:\n%s", args, code, out)
		}
	})
	return out
}

// openHouse starts a service whose first owner is sif.
func openHouse(t *testing.T) *house {
	t.Helper()
	dir := t.TempDir()
	h := &house{t: t, dir: dir, words: map[string]string{"dir": dir}}
	out := background(t, "serve", "-data", filepath.Join(dir, "data"), "-listen", "127.0.0.1:0", "-gateway",
		"127.0.0.1:0", "-grace", "20s", "-fetch-private", "127.0.0.0/8")
	h.server = out.find(t, `console and API +(http://[0-9.:]+)`)
	h.words["gateway"] = out.find(t, `gateway +(http://[0-9.:]+)`)
	h.file("password", "four words of nonsense\n")
	h.file("measured.json", `{"rows": 100, "data": "last winter", "metrics": {"rmse": 0.4}}`)
	h.comesIn("sif", out.find(t, `(http://\S+/welcome#\S+)`))
	return h
}

func (h *house) file(name, content string) {
	h.t.Helper()
	if err := os.WriteFile(filepath.Join(h.dir, name), []byte(content), 0o600); err != nil {
		h.t.Fatal(err)
	}
}

func (h *house) comesIn(name, link string) {
	h.t.Helper()
	if code, out := h.types(name, []string{
		"login", "-link", link, "-name", name, "-password-file",
		filepath.Join(h.dir, "password"),
	}); code != Done {
		h.t.Fatalf("%s comes in: exit %d %s", name, code, out)
	}
}

// person adds someone with roles, written PROJECT:ROLE, who then comes in.
func (h *house) person(name string, roles ...string) {
	h.t.Helper()
	args := []string{"person", "add", name}
	for i, r := range roles {
		project, role, _ := strings.Cut(r, ":")
		if i == 0 {
			args = append(args, "-role", role, "-project", project)
		}
	}
	code, out := h.types("sif", args)
	link := regexp.MustCompile(`http://\S+/welcome#\S+`).FindString(out)
	if code != Done || link == "" {
		h.t.Fatalf("adding %s: exit %d %s", name, code, out)
	}
	for _, r := range roles[1:] {
		project, role, _ := strings.Cut(r, ":")
		if code, out := h.types("sif", []string{"role", "give", name, role, "-project", project}); code != Done {
			h.t.Fatalf("%s: exit %d %s", r, code, out)
		}
	}
	h.comesIn(name, link)
}

// types has someone type a command; what comes back is output and messages together.
func (h *house) types(who string, args []string) (code int, out string) {
	env := map[string]string{"HOME": filepath.Join(h.dir, "homes", who), "INNERLADDER_SERVER": h.server}
	var both lines
	code = Run(h.t.Context(), args,
		Streams{
			Out: &both, Err: &both, In: strings.NewReader(""),
			Env: func(k string) (string, bool) { v, ok := env[k]; return v, ok },
		})
	return code, both.String()
}

// awaits has someone type a command again until what comes back has a text in it.
func (h *house) awaits(who, command, text string) {
	h.t.Helper()
	var out string
	if !poll.Within(10*time.Second, func() bool {
		_, out = h.types(who, fields(command))
		return strings.Contains(out, text)
	}) {
		h.t.Fatalf("%s does not say %q:\n%s", command, text, out)
	}
}

var prompt = regexp.MustCompile(`^(\w+)(?: (\d))?\$ (.*)$`)

// plays types the commands of a transcript in testdata and compares what comes back. A command stands
// behind who types it, the exit code if it is not 0, and $. In what comes back, … stands
// for any part of a line, and a line of its own for any lines; runs of spaces are one. With
// TRANSCRIPT set in the environment, what really comes back is printed, and since nothing is
// compared then, the test fails.
func (h *house) plays(transcript string) {
	h.t.Helper()
	script, err := os.ReadFile(filepath.Join("testdata", transcript+".txt"))
	if err != nil {
		h.t.Fatal(err)
	}
	if os.Getenv("TRANSCRIPT") != "" {
		h.t.Error("TRANSCRIPT is set: the transcript was printed, not compared")
	}
	type step struct {
		who, line string
		code      string
		want      []string
	}
	var steps []*step
	for _, l := range strings.Split(strings.TrimSpace(string(script)), "\n") {
		if m := prompt.FindStringSubmatch(l); m != nil {
			steps = append(steps, &step{who: m[1], line: m[3], code: m[2]})
		} else if strings.TrimSpace(l) != "" {
			steps[len(steps)-1].want = append(steps[len(steps)-1].want, l)
		}
	}
	for _, s := range steps {
		code, out := h.types(s.who, fields(h.fill(s.line)))
		if os.Getenv("TRANSCRIPT") != "" {
			prompt := s.who + "$"
			if code != Done {
				prompt = fmt.Sprintf("%s %d$", s.who, code)
			}
			fmt.Printf("%s %s\n%s", prompt, s.line, out)
			if out != "" && !strings.HasSuffix(out, "\n") {
				fmt.Println()
			}
			continue
		}
		if want := "0" + s.code; fmt.Sprint(code) != want[len(want)-1:] {
			h.t.Errorf("%s: exit %d, want %s:\n%s", s.line, code, s.code, out)
			continue
		}
		var want []string
		for _, l := range s.want {
			want = append(want, regexp.QuoteMeta(squeeze(h.fill(l))))
		}
		pattern := strings.Join(want, "\n")
		pattern = strings.ReplaceAll("\n"+pattern+"\n", "\n…\n", "\n(?:.*\n)*?")
		pattern = strings.ReplaceAll(pattern, "…", ".*")
		var got []string
		for _, l := range strings.Split(out, "\n") {
			if l = squeeze(l); l != "" {
				got = append(got, l)
			}
		}
		if !regexp.MustCompile("^" + pattern + "$").MatchString("\n" + strings.Join(got, "\n") + "\n") {
			h.t.Errorf("%s: came back\n%s\nwant\n%s", s.line, out, strings.Join(s.want, "\n"))
		}
	}
}

func squeeze(s string) string { return strings.Join(strings.Fields(s), " ") }

// fill puts in what {words} stand for.
func (h *house) fill(s string) string {
	for name := range maps.Keys(h.words) {
		s = strings.ReplaceAll(s, "{"+name+"}", h.words[name])
	}
	return s
}

// fields takes a command line apart at spaces that are not within quotes.
func fields(line string) (out []string) {
	for _, m := range regexp.MustCompile(`(?:"[^"]*"|'[^']*'|[^\s"'])+`).FindAllString(line, -1) {
		if strings.ContainsAny(m, `'`) {
			m = strings.ReplaceAll(m, `'`, "")
		} else {
			m = strings.ReplaceAll(m, `"`, "")
		}
		out = append(out, m)
	}
	return out
}

// read reads a file that a command wrote.
func (h *house) read(name string) string {
	h.t.Helper()
	b, err := os.ReadFile(filepath.Join(h.dir, name))
	if err != nil {
		h.t.Fatal(err)
	}
	return string(b)
}

// finds types a command and keeps a part of what comes back as a word.
func (h *house) finds(word, who, line, pattern string) {
	h.t.Helper()
	_, out := h.types(who, fields(h.fill(line)))
	m := regexp.MustCompile(pattern).FindStringSubmatch(out)
	if m == nil {
		h.t.Fatalf("%s: nothing like %s:\n%s", line, pattern, out)
	}
	h.words[word] = m[1]
}
