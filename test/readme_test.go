package test

import (
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// readmeLine is a command of the README: whose it is, and whether it is to be refused.
type readmeLine struct {
	who, command string
	refused      bool
}

// realUse reads the blocks of commands of the README's section on using it for real.
func realUse(t *testing.T) (blocks [][]readmeLine) {
	t.Helper()
	text, err := os.ReadFile(filepath.Join("..", "README.md"))
	must(t, err)
	_, section, _ := strings.Cut(string(text), "\n## Using it for real\n")
	section, _, _ = strings.Cut(section, "\n## ")
	line := regexp.MustCompile(`^(innerladder .*?) +# (sif|tove)\b(.*)$`)
	for _, block := range regexp.MustCompile("(?s)```sh\n(.*?)```").FindAllStringSubmatch(section, -1) {
		var lines []readmeLine
		for _, l := range strings.Split(strings.TrimSpace(block[1]), "\n") {
			m := line.FindStringSubmatch(l)
			if m == nil {
				t.Fatalf("the README does not say whose line this is: %s", l)
			}
			lines = append(lines, readmeLine{m[2], m[1], strings.Contains(m[3], "refused")})
		}
		blocks = append(blocks, lines)
	}
	return blocks
}

// stranger follows the README on a machine of their own.
type stranger struct {
	t   *testing.T
	dir string
	// server is where the service listens, gateway where callers call; link is the last that was
	// printed.
	server, gateway, link string
	// ports are those of the README by those that are free.
	ports map[string]string
}

// plays does what one line says, but for what a person adds at a terminal: the link that was
// printed, a password, ports that are free here.
func (s *stranger) plays(l readmeLine) {
	s.t.Helper()
	command := strings.ReplaceAll(l.command, "LINK", "'"+s.link+"'")
	for written, free := range s.ports {
		command = strings.ReplaceAll(command, written, free)
	}
	if strings.Contains(command, " login ") {
		command += " -password-file password"
	}
	if command, running := strings.CutSuffix(command, " &"); running {
		s.starts(strings.Fields(command)[1:])
		return
	}
	cmd := exec.Command("sh", "-c", command)
	cmd.Dir = s.dir
	cmd.Env = append(os.Environ(), "PATH="+filepath.Dir(binary)+":"+os.Getenv("PATH"), "INNERLADDER_SERVER="+s.server,
		"HOME="+filepath.Join(s.dir, "homes", l.who))
	out, err := cmd.CombinedOutput()
	if code := cmd.ProcessState.ExitCode(); (err == nil) == l.refused || (l.refused && code != 3) {
		s.t.Fatalf("%s: %s: exit %d\n%s", l.who, command, code, out)
	}
	if link := regexp.MustCompile(`http://\S+/welcome#\S+`).FindString(string(out)); link != "" {
		s.link = link
	}
}

// starts runs a program that goes on: the service, or a model server.
func (s *stranger) starts(args []string) {
	s.t.Helper()
	if args[0] != "serve" {
		for i, a := range args {
			if strings.HasSuffix(a, ".json") {
				args[i] = filepath.Join(s.dir, a)
			}
		}
		run(s.t, args...).line()
		return
	}
	args[2] = filepath.Join(s.dir, args[2])
	p := run(s.t, append(args, "-listen", "127.0.0.1:0", "-gateway", "127.0.0.1:0")...)
	for s.link == "" || s.gateway == "" || s.server == "" {
		l := p.line()
		for pattern, into := range map[string]*string{
			`console and API +(\S+)`: &s.server, `gateway +(\S+)`: &s.gateway, `(http://\S+/welcome#\S+)`: &s.link,
		} {
			if m := regexp.MustCompile(pattern).FindStringSubmatch(l); m != nil {
				*into = m[1]
			}
		}
	}
}

// The README's way from nothing to the first canary takes twelve commands at most, and every line
// of the section works as it is written, in order.
func TestAStrangersFirstCanary(t *testing.T) {
	blocks := realUse(t)
	if n := len(blocks[0]); n > 12 {
		t.Errorf("the first canary takes %d commands", n)
	}
	dir := t.TempDir()
	must(t, os.CopyFS(dir, os.DirFS(filepath.Join("..", "docs", "examples", "canary"))))
	must(t, os.WriteFile(filepath.Join(dir, "password"), []byte(password+"\n"), 0o600))
	s := &stranger{t: t, dir: dir, ports: map[string]string{
		"127.0.0.1:9001": freeAddress(t), "127.0.0.1:9002": freeAddress(t),
	}}
	for _, l := range blocks[0] {
		s.plays(l)
	}
	answered := map[string]int{}
	for range 200 {
		res, err := http.Post(s.gateway+"/v2/models/demand-hourly/infer", "application/json",
			strings.NewReader(canaryRequest))
		must(t, err)
		_ = res.Body.Close()
		if res.StatusCode != 200 {
			t.Fatalf("answered with %d", res.StatusCode)
		}
		answered[res.Header.Get("Inner-Ladder-Version")]++
	}
	if answered["heat-demand@1"] < 140 || answered["heat-demand@2"] == 0 || len(answered) != 2 {
		t.Errorf("%v", answered)
	}
	for _, block := range blocks[1:] {
		for _, l := range block {
			s.plays(l)
		}
	}
}

const canaryRequest = `{"inputs":[{"name":"outdoor_c","shape":[1],"datatype":"FP64","data":[-3.5]},
	{"name":"wind_ms","shape":[1],"datatype":"FP64","data":[4]},
	{"name":"solar_wm2","shape":[1],"datatype":"FP64","data":[0]},
	{"name":"hour","shape":[1],"datatype":"INT64","data":[7]},
	{"name":"weekday","shape":[1],"datatype":"INT64","data":[2]},
	{"name":"supply_c","shape":[1],"datatype":"FP64","data":[76]},
	{"name":"demand_1h_mw","shape":[1],"datatype":"FP64","data":[1.4]},
	{"name":"demand_24h_mw","shape":[1],"datatype":"FP64","data":[1.3]},
	{"name":"mix","shape":[1],"datatype":"BYTES","data":["harbour"]}]}`
