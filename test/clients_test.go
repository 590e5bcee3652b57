package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"innerladder/test/foreign"
)

// The clients that others build on do what they say, each from where its users stand: Go in a module of its own, Python
// with nothing but its standard library, TypeScript compiled against the types of the document.
func TestClientsOfOtherLanguages(t *testing.T) {
	t.Parallel()
	h := open(t)
	h.twoVersions()
	file := filepath.Join(t.TempDir(), "weights.json")
	must(t, os.WriteFile(file, []byte(`{"weights": [1, 2]}`), 0o600))
	root, err := filepath.Abs("..")
	must(t, err)
	says := func(of string, out []byte, err error, texts ...string) {
		t.Helper()
		for _, text := range append(texts, "signed in as runa", "refused: model.unknown") {
			if err != nil || !strings.Contains(string(out), text) {
				t.Fatalf("%s says nothing of %q: %v\n%s", of, text, err, out)
			}
		}
	}
	python := exec.Command(foreign.Program(t, "python3"), "-S", "clients/python/example.py", h.server, h.runaToken,
		file)
	python.Dir = root
	out, err := python.CombinedOutput()
	says("Python", out, err, "registered heat-demand-py@1", "heat-demand-py@1 draft {'rmse': 0.4}",
		"the models are")

	abroad := t.TempDir()
	for to, from := range map[string]string{
		"main.go": "clients/go/example/main.go", "go.sum": "go.sum", "go.mod": "go.mod",
	} {
		b, err := os.ReadFile(filepath.Join(root, from))
		must(t, err)
		if to == "go.mod" { // another module, which needs what ours needs, and ours
			b = []byte(strings.Replace(string(b), "module innerladder", "module example.org/abroad", 1) +
				"\nrequire innerladder v0.0.0\nreplace innerladder => " + root + "\n")
		}
		must(t, os.WriteFile(filepath.Join(abroad, to), b, 0o600))
	}
	build := exec.Command("go", "run", "-mod=mod", ".", h.server, h.runaToken, file)
	build.Dir = abroad
	build.Env = append(os.Environ(), "GOFLAGS=", "GOPROXY=off")
	out, err = build.CombinedOutput()
	says("Go", out, err, "registered heat-demand-go@1", "heat-demand-go@1 draft map[rmse:0.4]")

	node := foreign.Program(t, "node")
	modules := filepath.Join(root, "web/node_modules")
	if _, err := os.Stat(filepath.Join(modules, "openapi-fetch")); err != nil {
		t.Skip("the console's packages are not installed")
	}
	there := t.TempDir()
	must(t, os.Symlink(modules, filepath.Join(there, "node_modules")))
	for _, name := range []string{"index.ts", "example.ts", "tsconfig.json", "package.json"} {
		b, err := os.ReadFile(filepath.Join(root, "clients/typescript", name))
		must(t, err)
		must(t, os.WriteFile(filepath.Join(there, name), b, 0o600))
	}
	for _, args := range [][]string{
		{"node_modules/openapi-typescript/bin/cli.js", filepath.Join(root, "docs/openapi.json"), "-o", "schema.d.ts"},
		{"node_modules/typescript/bin/tsc", "-p", "."},
	} {
		step := exec.Command(node, args...)
		step.Dir = there
		if out, err := step.CombinedOutput(); err != nil {
			t.Fatalf("%s: %v\n%s", args[0], err, out)
		}
	}
	run := exec.Command(node, "dist/example.js", h.server, h.runaToken)
	run.Dir = there
	out, err = run.CombinedOutput()
	says("TypeScript", out, err, "heat-demand", "heat-demand-go", "heat-demand-py")
}

// What the clients are made of is what is committed.
func TestTheClientsAreMadeOfTheDocument(t *testing.T) {
	t.Parallel()
	root, err := filepath.Abs("..")
	must(t, err)
	there := t.TempDir()
	must(t, os.MkdirAll(filepath.Join(there, "clients/go"), 0o700))
	must(t, os.MkdirAll(filepath.Join(there, "clients/python"), 0o700))
	must(t, os.Symlink(filepath.Join(root, "docs"), filepath.Join(there, "docs")))
	program := filepath.Join(there, "make")
	build := exec.Command("go", "build", "-o", program, "./clients/make")
	build.Dir = root
	out, err := build.CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	run := exec.Command(program, "-python")
	run.Dir = there
	if out, err := run.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	name := "clients/python/innerladder_operations.py"
	want, err := os.ReadFile(filepath.Join(there, name))
	must(t, err)
	got, err := os.ReadFile(filepath.Join(root, name))
	must(t, err)
	if string(got) != string(want) {
		t.Errorf("%s is not what make clients writes", name)
	}
}
