package core

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"unicode/utf8"
)

// mayImport lists everything that the core may import, by prefix: the standard library's
// pure packages, numerics, a sketch library, a hash, the order of releases, and itself.
var mayImport = []string{
	"bufio", "bytes", "cmp", "crypto/aes", "crypto/cipher", "crypto/ed25519", "crypto/hmac", "crypto/sha256",
	"encoding/base64", "encoding/binary", "encoding/hex", "encoding/json", "encoding/xml", "errors", "fmt",
	"io", "maps", "math", "math/rand/v2", "net/mail", "net/netip", "path", "regexp", "slices", "sort", "strconv",
	"strings", "time", "unicode",
	"gonum.org/v1/gonum/", "github.com/DataDog/sketches-go/", "github.com/axiomhq/hyperloglog",
	"github.com/aymanbagabas/go-udiff", "github.com/aquasecurity/go-pep440-version",
	"github.com/cespare/xxhash/v2", "golang.org/x/crypto/blake2b",
	"google.golang.org/protobuf/encoding/protowire",
	"innerladder/internal/core/",
}

// mayDraw are the members of math/rand/v2 with which chance is seeded, so that the same data gives the
// same answer.
var mayDraw = []string{"New", "NewPCG", "Rand"}

// neverCall are the members of package time that look at the clock or wait for it.
var neverCall = []string{"Now", "Since", "Until", "Sleep", "After", "AfterFunc", "Tick", "NewTicker", "NewTimer"}

func TestTheCoreStaysACore(t *testing.T) {
	files := 0
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		files++
		set := token.NewFileSet()
		f, err := parser.ParseFile(set, path, nil, 0)
		if err != nil {
			return err
		}
		for _, i := range f.Imports {
			name, _ := strconv.Unquote(i.Path.Value)
			if !slices.ContainsFunc(mayImport, func(m string) bool {
				return name == m || (strings.HasSuffix(m, "/") && strings.HasPrefix(name, m))
			}) {
				t.Errorf("%s imports %s, which the core may not", path, name)
			}
		}
		ast.Inspect(f, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.GoStmt:
				t.Errorf("%s starts a goroutine", set.Position(n.Pos()))
			case *ast.SelectorExpr:
				if p, ok := n.X.(*ast.Ident); ok && p.Name == "time" && slices.Contains(neverCall, n.Sel.Name) {
					t.Errorf("%s looks at the clock: time.%s", set.Position(n.Pos()), n.Sel.Name)
				} else if ok && p.Name == "rand" && !slices.Contains(mayDraw, n.Sel.Name) {
					t.Errorf("%s draws without a seed: rand.%s", set.Position(n.Pos()), n.Sel.Name)
				}
			}
			return true
		})
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if files < 20 {
		t.Errorf("only %d files were looked at", files)
	}
}

// rooms is the order of the house: a package may import only what stands below it.
var rooms = []string{
	"core", "onnxfile", "wire", "credential", "certificate", "disk", "seal", "oip", "modelserver", "runner",
	"intake", "fetch", "blob", "backup", "sqlite", "tracing", "jobs", "scoring", "records", "signals", "requestlog",
	"recorder", "eventloop", "http1", "upstream", "client", "agent", "gateway", "load", "app/act", "app/secrets",
	"app/people", "app/notices", "app/registry", "app/traffic", "app/observe", "app/requests", "app/outcomes",
	"app/custom", "app/agents", "app/proof", "app/ladder", "app/rollouts", "app/record", "app/keep", "app", "api",
	"server", "standin", "demo", "cli",
}

// roomOf is the room that a path below internal stands in: its first directory, and in app the
// second with it.
func roomOf(path string) string {
	parts := strings.Split(filepath.ToSlash(path), "/")
	if parts[0] == "app" && len(parts) > 1 && !strings.HasSuffix(parts[1], ".go") {
		return parts[0] + "/" + parts[1]
	}
	return parts[0]
}

func TestArrowsPointDown(t *testing.T) {
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		room := roomOf(strings.TrimPrefix(filepath.ToSlash(path), "../"))
		height := slices.Index(rooms, room)
		if height < 0 {
			t.Errorf("%s stands in no room of the house; give it one, and its place here", path)
			return nil
		}
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, i := range f.Imports {
			name, _ := strconv.Unquote(i.Path.Value)
			rest, ours := strings.CutPrefix(name, "innerladder/internal/")
			if !ours {
				continue
			}
			other := roomOf(rest)
			if other != room && slices.Index(rooms, other) >= height {
				t.Errorf("%s imports %s, which stands above it", path, name)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}

// A line ends by column 120, a tab counted as four, but where a tag of a structure or a
// sample stands on it.
func TestLinesFit(t *testing.T) {
	err := filepath.WalkDir(filepath.Join("..", ".."), func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && d.Name() == "node_modules" {
			return fs.SkipDir
		}
		if d.IsDir() || !strings.HasSuffix(path, ".go") {
			return nil
		}
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		tags, err := linesOfTags(path, text)
		if err != nil {
			return err
		}
		for i, line := range strings.Split(string(text), "\n") {
			if width := utf8.RuneCountInString(strings.ReplaceAll(line, "\t", "    ")); width > 120 && !tags[i+1] {
				t.Errorf("%s:%d ends at column %d", path, i+1, width)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}

// linesOfTags are the numbers of the lines on which tags of structures stand, and samples as
// raw strings: they are as long as they are. The raw strings of stores are queries, which fit.
func linesOfTags(path string, text []byte) (map[int]bool, error) {
	files := token.NewFileSet()
	f, err := parser.ParseFile(files, path, text, 0)
	if err != nil {
		return nil, err
	}
	store := filepath.Base(filepath.Dir(path))
	queries := store == "records" || store == "signals" || store == "requestlog"
	lines := map[int]bool{}
	add := func(s *ast.BasicLit) {
		if s != nil && strings.HasPrefix(s.Value, "`") {
			for line := files.Position(s.Pos()).Line; line <= files.Position(s.End()).Line; line++ {
				lines[line] = true
			}
		}
	}
	ast.Inspect(f, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.Field:
			add(n.Tag)
		case *ast.BasicLit:
			if strings.HasSuffix(path, "_test.go") || !queries {
				add(n)
			}
		}
		return true
	})
	return lines, nil
}

// A function fits on a screen, 80 lines; a test that tells a whole story may take 130.
func TestFunctionsFit(t *testing.T) {
	err := filepath.WalkDir(filepath.Join("..", ".."), func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && d.Name() == "node_modules" {
			return fs.SkipDir
		}
		if d.IsDir() || !strings.HasSuffix(path, ".go") {
			return nil
		}
		files := token.NewFileSet()
		f, err := parser.ParseFile(files, path, nil, 0)
		if err != nil {
			return err
		}
		most := 80
		if strings.HasSuffix(path, "_test.go") {
			most = 130
		}
		for _, decl := range f.Decls {
			if fn, ok := decl.(*ast.FuncDecl); ok {
				if n := files.Position(fn.End()).Line - files.Position(fn.Pos()).Line + 1; n > most {
					t.Errorf("%s: %s has %d lines", path, fn.Name.Name, n)
				}
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}

// A page of the console can be read in one sitting: its parts have files of their own.
func TestPagesOfTheConsoleFit(t *testing.T) {
	pages := 0
	err := filepath.WalkDir(filepath.Join("..", "..", "web", "src"), func(path string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, "-page.tsx") {
			return err
		}
		pages++
		text, err := os.ReadFile(path)
		if n := strings.Count(string(text), "\n"); n > 200 {
			t.Errorf("%s has %d lines", path, n)
		}
		return err
	})
	if err != nil || pages < 15 {
		t.Errorf("%d pages were looked at: %v", pages, err)
	}
}
