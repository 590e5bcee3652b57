package api

import (
	"bytes"
	"encoding/json"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/gofiber/fiber/v3"
)

func document(t *testing.T) map[string]any {
	t.Helper()
	b, err := Document()
	if err != nil {
		t.Fatal(err)
	}
	var doc map[string]any
	if err := json.Unmarshal(b, &doc); err != nil {
		t.Fatal(err)
	}
	return doc
}

// What is routed is described, and what is described is routed.
func TestRoutesAndDocumentAreTheSame(t *testing.T) {
	a, err := New(nil, nil, Config{Console: Console{Files: os.DirFS(t.TempDir())}}, nil)
	if err != nil {
		t.Fatal(err)
	}
	var routed, described []string
	for _, r := range a.router.GetRoutes(true) {
		if strings.HasPrefix(r.Path, base+"/") && r.Method != fiber.MethodHead {
			path := r.Path
			for _, p := range r.Params {
				path = strings.Replace(path, ":"+p, "{"+p+"}", 1)
			}
			routed = append(routed, r.Method+" "+path)
		}
	}
	doc := document(t)
	for path, operations := range doc["paths"].(map[string]any) {
		for method, operation := range operations.(map[string]any) {
			described = append(described, strings.ToUpper(method)+" "+path)
			o := operation.(map[string]any)
			if o["summary"] == "" || o["operationId"] == "" {
				t.Errorf("%s %s has no summary or id", method, path)
			}
			ways, _ := o["security"].([]any)
			secured := len(ways) > 0 && len(ways[0].(map[string]any)) > 0
			if _, permitted := o["x-permission"]; secured != permitted {
				t.Errorf("%s %s: security and permission do not go together", method, path)
			}
		}
	}
	slices.Sort(routed)
	slices.Sort(described)
	if !slices.Equal(routed, described) {
		t.Errorf("routed and described differ:\n%s\n\n%s", strings.Join(routed, "\n"), strings.Join(described, "\n"))
	}
	if len(routed) < 30 {
		t.Errorf("only %d routes were found", len(routed))
	}
}

// The console's types are made from the committed document.
func TestCommittedDocumentIsCurrent(t *testing.T) {
	want, err := Document()
	if err != nil {
		t.Fatal(err)
	}
	got, err := os.ReadFile("../../docs/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(bytes.TrimSpace(got), bytes.TrimSpace(want)) {
		t.Error("docs/openapi.json is not what the service serves; write it again with: make openapi")
	}
}

func TestNothingThatIsThereIsNull(t *testing.T) {
	for name, schema := range document(t)["components"].(map[string]any)["schemas"].(map[string]any) {
		properties, _ := schema.(map[string]any)["properties"].(map[string]any)
		for member, p := range properties {
			if types, ok := p.(map[string]any)["type"].([]any); ok && slices.Contains(types, any("null")) {
				t.Errorf("%s.%s may be null", name, member)
			}
		}
	}
}
