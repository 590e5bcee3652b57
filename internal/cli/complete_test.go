package cli

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"
)

// Who slips is told what may have been meant, and who asks for a noun gets its verbs.
func TestSlips(t *testing.T) {
	for line, want := range map[string]string{
		"endpont add": `did you mean "endpoint add"`, "regsiter x": `did you mean "register"`,
		"endpoint": "add, edit, remove, list, show", "xyzzy": `no command "xyzzy"; see`,
		"split -wy x": "did you mean -why?", "split -colour x": "there is no option -colour; see",
	} {
		if code, _, err := invoke(t, nil, strings.Fields(line)...); code != WrongUsage || !strings.Contains(err, want) {
			t.Errorf("%s: %d %s", line, code, err)
		}
	}
	for _, line := range []string{"help endpoint", "help Traffic", "help traffic"} {
		if code, out, _ := invoke(t, nil, strings.Fields(line)...); code != Done ||
			!strings.Contains(out, "endpoint add") || strings.Contains(out, "registers a version") {
			t.Errorf("%s: %d\n%s", line, code, out)
		}
	}
	for _, v := range []string{"--version", "-version", "version"} {
		if code, out, _ := invoke(t, nil, v); code != Done || !strings.HasPrefix(out, "innerladder ") {
			t.Errorf("%s: %d %s", v, code, out)
		}
	}
	_, all, _ := invoke(t, nil, "help")
	var headings []string
	for _, l := range strings.Split(all, "\n") {
		if l != "" && !strings.Contains(l, " ") {
			headings = append(headings, l)
		}
	}
	slices.Sort(headings)
	if once := slices.Compact(slices.Clone(headings)); len(once) != len(headings) || len(once) < 5 {
		t.Errorf("headings: %v", headings)
	}
}

// With -json an error is JSON, too, with what the service said of it.
func TestErrorsForMachines(t *testing.T) {
	url, _, _ := answering(t, 404, `{"code":"model.unknown","detail":"there is no model \"x\"","field":"model","remedy":"look",`+
		`"request_id":"abc","status":404}`)
	code, _, said := invoke(t, map[string]string{"INNERLADDER_TOKEN": "t"}, "show", "x@1", "-json", "-server", url)
	var f failure
	if err := json.Unmarshal([]byte(said), &f); err != nil || code != Failed {
		t.Fatalf("%d %s: %v", code, said, err)
	}
	if f.Code != "model.unknown" || f.Field != "model" || f.Remedy != "look" || f.RequestID != "abc" ||
		f.Status != 404 || f.Command != "show" || f.Exit != Failed {
		t.Errorf("%+v", f)
	}
	code, _, said = invoke(t, map[string]string{"INNERLADDER_JSON": "true", "INNERLADDER_TOKEN": "t"}, "show")
	f = failure{}
	if err := json.Unmarshal([]byte(said), &f); err != nil || code != WrongUsage || f.Code != "usage" {
		t.Errorf("%d %s: %v", code, said, err)
	}
}

func TestCompletions(t *testing.T) {
	all := commands()
	for line, want := range map[string]string{
		"end": "endpoint", "endpoint a": "add", "endpoint ": "add edit list remove show", "split -wh": "-why",
		"xyz":          "",
		"split x -sha": "-shadow",
	} {
		words := strings.Split(line, " ")
		if got := strings.Join(completions(all, words), " "); got != want {
			t.Errorf("%q becomes %q, want %q", line, got, want)
		}
	}
	if n := len(completions(all, nil)); n < 30 {
		t.Errorf("%d words", n)
	}
}

// Each command and each option of it is in the manual.
func TestTheManualHasEverything(t *testing.T) {
	text := manual(commands())
	for _, c := range commands() {
		if !strings.Contains(text, ".SS "+rolled(c.name)) {
			t.Errorf("%s is not in it", c.name)
		}
	}
	if !strings.Contains(text, `.B \-why TEXT`) || !strings.HasPrefix(text, ".TH INNERLADDER 1 ") {
		t.Error(text[:200])
	}
}
