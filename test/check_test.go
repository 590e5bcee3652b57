package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/ladder/rule"
)

// goodCases are answered by the first of twoVersions.
const goodCases = `# the version gives 1 + x
base: {x: 3}
cases:
  - {name: three, expect: {y: 4}, tolerance: 0.01}
  - name: as far as was seen
    inputs: {x: 100}
    between: {y: [0, 200]}
  - {name: more means more, rises_with: {x: [-5, 0, 5]}}
  - {name: the seventh digit does not matter, unmoved_by: {x: [3.0000001]}, tolerance: 0.001}
  - {name: nothing is no request, request: '{"inputs":[]}', refused: true}
  - {name: in time, within: 20s}
`

// textFile writes a file, and returns where it is.
func textFile(t *testing.T, file, text string) string {
	t.Helper()
	must(t, os.WriteFile(file, []byte(text), 0o600))
	return file
}

// What is deployed is asked what must come back.
func TestDeployedVersionsAreChecked(t *testing.T) {
	t.Parallel()
	h := open(t)
	_, two := h.twoVersions()
	dir := t.TempDir()
	file := func(name, text string) string { return textFile(t, filepath.Join(dir, name), text) }
	good := file("cases.yaml", goodCases)
	out := filepath.Join(dir, "checks.xml")
	h.expects(h.as(h.runaFile, "check", "heat-demand@1", good, "-o", out), "check of heat-demand@1, passed",
		"6 tests in", "all passed")
	xml, err := os.ReadFile(out)
	must(t, err)
	h.expects(string(xml), `<testcase name="more means more" classname="cases cases.yaml"`,
		`name="innerladder.job" value="J-1"`)
	h.refuses(3, h.runaFile, "that the service made it", "attach", "heat-demand@1", "-kind", "tests", out)
	bad := file("bad.yaml", "cases:\n  - {name: four, inputs: {x: 3}, expect: {y: 5}}\n"+
		"  - {name: less, falls_with: {x: [1, 2]}}\n")
	code, printed, messages := h.cli(h.runaFile, "check", "heat-demand@1", bad)
	if code != 3 || !strings.Contains(messages, "2 of 2 tests") {
		t.Errorf("%d %s", code, messages)
	}
	h.expects(printed, "failed  cases bad.yaml: four: y must be 5 and is 4", "less: with x 2 y is 3, after 2")
	for text, says := range map[string]string{
		"cases:\n  - {name: a, expects: {y: 1}}\n":                     "line 2, column 15",
		"cases:\n  - {name: a}\n":                                      "nothing is demanded",
		"cases:\n  - {name: a, within: 1s, inputs: {x: [1, 2]\n":       "no YAML",
		"cases:\n  - {name: a, within: 1s}\n  - {name: a, within: 2s}": "two cases are called",
	} {
		h.refuses(2, h.runaFile, says, "check", "heat-demand@1", file("wrong.yaml", text))
	}
	h.refuses(1, h.runaFile, "has no cases", "check", "heat-demand@1")
	h.tell(two, "100")
	_, printed, _ = h.cli(h.runaFile, "check", "heat-demand@2", good)
	h.expects(printed, "status 500")
	h.tell(two, "0")
}

// A gate asks for the cases of the model, so they are asked where a version is placed, once each time they change.
func TestGateHasVersionsChecked(t *testing.T) {
	t.Parallel()
	h := open(t)
	h.twoVersions()
	good := textFile(t, filepath.Join(t.TempDir(), "cases.yaml"), goodCases)
	l, err := h.runa.Ladder(t.Context(), "default")
	must(t, err)
	gate := &l.Rungs[len(l.Rungs)-1].Gate
	*gate = append(*gate, rule.Requirement{Rule: rule.Checked{Environment: "plant-north"}})
	_, err = h.runa.SetLadder(t.Context(), "default", l.Ladder, "asked by us", -1)
	must(t, err)
	h.refuses(3, h.toveFile, "may not manage", "cases", "heat-demand", good)
	h.expects(h.as(h.runaFile, "cases", "heat-demand", good, "-why", "the winter"),
		"heat-demand#1: versions of heat-demand must answer 6")
	kinds := func(version string) (n int) {
		found, err := h.runa.Evidence(t.Context(), version)
		must(t, err)
		for _, e := range found.Items {
			if e.OwnTests() != nil && e.Tests.Checked.Cases == "heat-demand#1" {
				n++
			}
		}
		return n
	}
	await(t, "both versions to be checked", 90*time.Second, func() bool {
		return kinds("heat-demand@1") == 1 && kinds("heat-demand@2") == 1
	})
	model, sample := h.files(-1) // less means more
	h.as(h.runaFile, "register", "heat-demand", "-no-code", "-file", model, "-sample", sample, "-target", "y")
	_, printed, _ := h.cli(h.runaFile, "gate", "heat-demand@3", "-for", "live")
	h.expects(printed, "not checked by the cases heat-demand#1 in plant-north yet")
	_, at := h.standin(model)
	h.as(h.runaFile, "place", "heat-demand@3", "-env", "plant-north", "-at", at)
	await(t, "the third to be checked", 90*time.Second, func() bool { return kinds("heat-demand@3") == 1 })
	_, printed, _ = h.cli(h.runaFile, "gate", "heat-demand@3", "-for", "live")
	h.expects(printed, "FAILED", "by the cases heat-demand#1: 3 of 6 tests")
	h.as(h.runaFile, "cases", "remove", "heat-demand", "-why", "enough")
	h.refuses(1, h.runaFile, "has no cases", "cases", "heat-demand")
	if n := kinds("heat-demand@1"); n != 1 {
		t.Errorf("checked %d times", n)
	}
}
