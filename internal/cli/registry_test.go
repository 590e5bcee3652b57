package cli

import (
	"archive/tar"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/lineage"
	"innerladder/internal/core/registry"
)

// folder writes files and returns the path of the folder.
func folder(t *testing.T, files map[string]string) string {
	t.Helper()
	dir := t.TempDir()
	for name, content := range files {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

func TestEqualFoldersPackEqually(t *testing.T) {
	files := map[string]string{"model/a.json": "{}", "model/b/c": "x", "empty": ""}
	one, two := folder(t, files), folder(t, files)
	late := time.Now().Add(time.Hour)
	if err := os.Chtimes(filepath.Join(two, "model/a.json"), late, late); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(filepath.Join(two, "empty"), 0o755); err != nil {
		t.Fatal(err)
	}
	var a, b bytes.Buffer
	if err := pack(&a, one); err != nil {
		t.Fatal(err)
	}
	if err := pack(&b, two); err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(a.Bytes(), b.Bytes()) {
		t.Error("times or modes changed the bytes")
	}
	var names []string
	for r := tar.NewReader(&a); ; {
		h, err := r.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		names = append(names, h.Name)
	}
	if fmt.Sprint(names) != "[empty model/a.json model/b/c]" {
		t.Error(names)
	}
	if err := os.Symlink("/etc/passwd", filepath.Join(one, "link")); err != nil {
		t.Fatal(err)
	}
	if err := pack(io.Discard, one); err == nil || !strings.Contains(err.Error(), "is no plain file") {
		t.Errorf("a link was packed: %v", err)
	}
}

// standInService answers calls of the API from a table of "METHOD path" and remembers
// what it was asked.
func standInService(t *testing.T, answers map[string]any) (server string, asked *[]string) {
	t.Helper()
	asked = &[]string{}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		*asked = append(*asked, r.Method+" "+r.URL.RequestURI()+" "+string(body))
		answer, there := answers[r.Method+" "+r.URL.Path]
		if !there {
			w.WriteHeader(404)
			fmt.Fprintf(w, `{"code":"test.unknown","detail":"there is no %s","status":404}`, r.URL.Path)
			return
		}
		if raw, ok := answer.(string); ok {
			_, _ = io.WriteString(w, raw)
			return
		}
		_ = json.NewEncoder(w).Encode(answer)
	}))
	t.Cleanup(s.Close)
	return s.URL, asked
}

// against runs a command against a stand-in.
func against(t *testing.T, server, in string, args ...string) (code int, out, messages string) {
	t.Helper()
	var stdout, stderr strings.Builder
	env := map[string]string{"INNERLADDER_SERVER": server, "INNERLADDER_TOKEN": "t", "XDG_CONFIG_HOME": t.TempDir()}
	code = Run(t.Context(), args, Streams{
		Out: &stdout, Err: &stderr, In: strings.NewReader(in),
		Env: func(k string) (string, bool) { v, ok := env[k]; return v, ok },
	})
	return code, stdout.String(), stderr.String()
}

func TestAFileThatCameDifferentlyIsNotSaved(t *testing.T) {
	const digest = "5feceb66ffc86f38d952786c6d696c79c2dbc239dd4e91b46729d73a27fb57e9" // of "0"
	server, _ := standInService(t, map[string]any{
		"GET /api/v1/versions/m@1": registry.Version{
			Ref:       "m@1",
			Artifacts: []registry.Artifact{{Name: "good", Digest: digest}, {Name: "bad", Digest: digest}},
		},
		"GET /api/v1/versions/m@1/artifacts/good": "0", "GET /api/v1/versions/m@1/artifacts/bad": "1",
	})
	dir := t.TempDir()
	if code, out, messages := against(t, server, "", "get", "m@1", "good", "-to", dir); code != Done ||
		!strings.Contains(out, "good") {
		t.Errorf("%d %s %s", code, out, messages)
	}
	if code, _, messages := against(t, server, "", "get", "m@1", "-to", dir); code != Failed ||
		!strings.Contains(messages, "nothing was saved") {
		t.Errorf("%d %s", code, messages)
	}
	if code, _, messages := against(t, server, "", "get", "m@1", "other", "-to", dir); code != Failed ||
		!strings.Contains(messages, "no artifact") {
		t.Errorf("%d %s", code, messages)
	}
	left, err := os.ReadDir(dir)
	if err != nil || len(left) != 1 || left[0].Name() != "good" {
		t.Errorf("%v, %v", left, err)
	}
}

func TestLinesOfATrainingAreLoggedAsTheyCome(t *testing.T) {
	server, asked := standInService(t,
		map[string]any{"POST /api/v1/runs/run-1/log": map[string]any{"run": "run-1", "points": 1, "params": 0}})
	code, out, messages := against(t, server, "{\"step\":1,\"loss\":0.5,\"rmse\":2}\n\n{\"loss\":0.25}\n", "run", "log",
		"run-1", "-lines")
	if code != Done || !strings.Contains(out, "3 points") {
		t.Errorf("%d %s %s", code, out, messages)
	}
	if len(*asked) != 1 || !strings.Contains((*asked)[0], `"metric":"loss","step":1,"value":0.5`) ||
		!strings.Contains((*asked)[0], `"step":3,"value":0.25`) {
		t.Errorf("asked %v", *asked)
	}
	// What came before a line that cannot be read is not lost.
	*asked = nil
	code, _, messages = against(t, server, "{\"loss\":1}\nEpoch 2\n", "run", "log", "run-1", "-lines")
	if code == Done || !strings.Contains(messages, "line 2") || len(*asked) != 1 {
		t.Errorf("%d %s, asked %v", code, messages, *asked)
	}
	if code, _, messages := against(t, server, "", "run", "log", "run-1"); code != WrongUsage ||
		!strings.Contains(messages, "nothing is given") {
		t.Errorf("%d %s", code, messages)
	}
}

func TestFiltersOfASearchAreSentAsGiven(t *testing.T) {
	server, asked := standInService(t, map[string]any{"GET /api/v1/catalogue": map[string]any{"items": []any{}}})
	code, _, messages := against(t, server, "", "find", "two", "winters", "-metric", "rmse<0.4", "-metric", "r2>=0.9",
		"-placed-in", "plant-north", "-sort", "-rmse", "-vetted")
	if code != Done || !strings.Contains(messages, "no version is like that") {
		t.Errorf("%d %s", code, messages)
	}
	for _, want := range []string{
		"text=two+winters", "metric=rmse%3C0.4&metric=r2%3E%3D0.9", "placed_in=plant-north",
		"sort=-rmse", "vetted=true", "limit=20",
	} {
		if !strings.Contains((*asked)[0], want) {
			t.Errorf("%q is not in %s", want, (*asked)[0])
		}
	}
}

func TestALineupInWords(t *testing.T) {
	l := registry.LineUp([]registry.Version{
		{
			Ref: "m@1", Rung: "live", Metrics: map[string]float64{"rmse": 0.4}, Params: map[string]string{"depth": "6"},
			Data: []lineage.DataUse{{Data: "w#1", Role: lineage.TrainedOn}},
		},
		{
			Ref: "m@2", Rung: "draft", Metrics: map[string]float64{"rmse": 0.3},
			Params: map[string]string{"depth": "7"},
			Labels: []string{"beta"},
		},
	}, &registry.Version{Ref: "m@1", Metrics: map[string]float64{"rmse": 0.4}})
	var out strings.Builder
	printLineup(&out, l)
	for _, want := range []string{
		"0.3 best (-0.1)", "draft beta", "parameter depth", "trained on", "w#1",
		"the difference to m@1, which is live",
	} {
		if !strings.Contains(out.String(), want) {
			t.Errorf("%q is not in:\n%s", want, out.String())
		}
	}
	if strings.Contains(out.String(), "evaluated on") {
		t.Error("a row that says nothing is shown")
	}
}

func TestLittleDrawings(t *testing.T) {
	points := []lineage.Point{{Value: 0}, {Value: 1}, {Value: 2}, {Value: 7}}
	if got := spark(points, 4); got != "▁▂▃█" {
		t.Errorf("spark: %s", got)
	}
	if got := spark(points[:1], 40); got != "▁" {
		t.Errorf("one point: %s", got)
	}
	// Whole numbers that come equally often look equal, the last too.
	flat := density([]float64{0, 1, 2, 3, 4}, []uint64{10, 10, 10, 20})
	if strings.Count(flat, string([]rune(flat)[0])) < 28 {
		t.Errorf("hours: %s", flat)
	}
	if density([]float64{4, 4}, []uint64{9}) == "" || short("a  b\nc", 10) != "a b c" || short("abcdef", 4) != "abc…" {
		t.Error("small texts")
	}
}

func TestLookingNeedsNoService(t *testing.T) {
	dir := folder(t, map[string]string{
		"rows.csv": "x,y\n1,2\n3,4\n", "card.md": "# A\n## Limits\nNone.\n",
		"requirements.txt": "numpy==1\n", "m.json": `{"a":1}`, "bad.onnx": "zz",
	})
	for name, want := range map[string]string{
		"rows.csv": "integer", "card.md": "Limits: None.",
		"requirements.txt": "==1", "m.json": "members",
	} {
		if code, out, messages := against(t, "http://127.0.0.1:1", "", "look",
			filepath.Join(dir, name)); code != Done || !strings.Contains(out, want) {
			t.Errorf("%s: %d %s %s", name, code, out, messages)
		}
	}
	if code, _, messages := against(t, "", "", "look", filepath.Join(dir, "bad.onnx")); code != WrongUsage ||
		!strings.Contains(messages, "bad.onnx, byte 0") {
		t.Errorf("%d %s", code, messages)
	}
	if code, out, _ := against(t, "", "", "look", filepath.Join(dir, "rows.csv"), "-target", "y",
		"-json"); code != Done || !json.Valid([]byte(out)) || !strings.Contains(out, `"outputs"`) {
		t.Errorf("%d %s", code, out)
	}
}
