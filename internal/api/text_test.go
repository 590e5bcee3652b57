package api_test

import (
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"sync"
	"testing"

	"innerladder/internal/wire"
)

// Characters that are not seen, or that turn around what follows, are in no name and in no reason; what somebody
// writes has a length.
func TestTextIsTextAtTheDoor(t *testing.T) {
	r := newRig(t)
	for _, c := range []struct{ method, path, body, code, field string }{
		{"POST", "/tokens", `{"title":"bell\u0007"}`, "text.character", "title"},
		{"POST", "/tokens", `{"title":"x\u202egpj"}`, "text.character", "title"},
		{"POST", "/tokens", `{"title":"two\nlines"}`, "text.line", "title"},
		{"POST", "/projects", `{"name":"heat","description":"\u2066hidden"}`, "text.character", "description"},
		{
			"POST", "/projects", `{"name":"heat","description":"` + strings.Repeat("a", 10_001) + `"}`, "text.long",
			"description",
		},
		{"POST", "/comments", `{"subject":"heat-demand@1","text":"a\u0000b"}`, "text.character", "text"},
		{"PUT", "/roles/helper", `{"permissions":["read\u001b[31m"]}`, "text.character", "permissions[0]"},
		{"POST", "/webhooks", `{"project":"default","address":"https://x.example/\u202e"}`, "text.character", "address"},
	} {
		status, _, body := r.call(c.method, "/api/v1"+c.path, c.body, "Authorization", "Bearer "+r.runaToken,
			"Content-Type", "application/json")
		var p wire.Problem
		must(t, json.Unmarshal(body, &p))
		if status != 422 || p.Code != c.code || p.Field != c.field || p.Remedy == "" {
			t.Errorf("%s %s: %d %s", c.path, c.body[:min(60, len(c.body))], status, body)
		}
	}
	status, _, body := r.call("POST", "/api/v1/projects", `{"name":"heat","description":"two\nlines, åäö and العربية"}`,
		"Authorization", "Bearer "+r.runaToken, "Content-Type", "application/json")
	if status != 201 {
		t.Errorf("%d %s", status, body)
	}
	status, _, body = r.call("POST", "/api/v1/runs",
		`{"model":"heat-demand","project":"heat","params":{"prompt":"You are\n\ta forecaster.\n","list":"`+
			strings.Repeat("a", 15_000)+`"}}`,
		"Authorization", "Bearer "+r.runaToken, "Content-Type", "application/json")
	if status != 201 {
		t.Errorf("a parameter over several lines: %d %.300s", status, body)
	}
	status, _, body = r.call("POST", "/api/v1/uploads?name="+url.QueryEscape("model\u202enib.exe"), "",
		"Authorization", "Bearer "+r.runaToken)
	if status != 422 || !strings.Contains(string(body), "text.character") {
		t.Errorf("the name of a file: %d %s", status, body)
	}
}

// Errors speak of JSON and of what is wanted, never of the language that the service is written in.
func TestErrorsOfQueriesSpeakOfWhatIsWanted(t *testing.T) {
	r := newRig(t)
	for _, o := range routes(t) {
		if o.permission == "" || o.method != "GET" || strings.Contains(o.path, "{") ||
			slices.Contains([]string{"events", "exportAudit", "backup"}, o.id) {
			continue
		}
		for _, q := range []string{
			"limit=many", "limit=1e9", "limit=99999999999999999999", "vetted=perhaps", "unread=2", "depth=x",
			"status=x",
			"worst=so", "since=x", "open=x", "split=x", "lines=x", "trouble=x",
		} {
			status, _, body := r.call("GET", o.path+"?"+q, "", "Authorization", "Bearer "+r.runaToken)
			for _, ours := range []string{
				"strconv", "schema:", "reflect", "int64", "bool ", "parsing", "invalid syntax", "struct", "fiber",
				"converting", "unmarshal", "time: ",
			} {
				if strings.Contains(string(body), ours) && status >= 400 {
					t.Errorf("%s?%s: %d %s", o.id, q, status, body)
				}
			}
			if status >= 500 {
				t.Errorf("%s?%s: %d %s", o.id, q, status, body)
			}
		}
	}
}

// One upload that several want at once goes to one of them, or to all; nobody gets an error of ours.
func TestOneUploadForSeveralAtOnce(t *testing.T) {
	r := newRig(t)
	for round := range 6 {
		status, _, body := r.call("POST", "/api/v1/uploads?name=model.bin", fmt.Sprint("weights ", round),
			"Authorization", "Bearer "+r.runaToken, "Upload-Complete", "?1")
		var up struct{ ID string }
		if must(t, json.Unmarshal(body, &up)); status != 201 {
			t.Fatalf("%d %s", status, body)
		}
		var all sync.WaitGroup
		made := make([]int, 8)
		said := make([]string, len(made))
		for i := range made {
			all.Go(func() {
				if i == 7 { // and one thinks better of it
					made[i], _, _ = r.call("DELETE", "/api/v1/uploads/"+up.ID, "",
						"Authorization", "Bearer "+r.runaToken)
					return
				}
				spec := fmt.Sprintf(`{"model":"m-%d-%d","task":"other","uploads":[{"id":%q,"part":"artifact"}]}`, round, i, up.ID)
				var b []byte
				made[i], _, b = r.call("POST", "/api/v1/versions", spec, "Authorization", "Bearer "+r.runaToken,
					"Content-Type", "application/json")
				said[i] = string(b)
			})
		}
		all.Wait()
		for i, status := range made {
			if status >= 500 {
				t.Errorf("%d: %d %s", i, status, said[i])
			}
		}
	}
}
