package evidence

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/core/fault"
)

// TestReport is a test run in numbers.
type TestReport struct {
	Total    int     `json:"total"`
	Failures int     `json:"failures"`
	Errors   int     `json:"errors"`
	Skipped  int     `json:"skipped"`
	Seconds  float64 `json:"seconds"`
	// Suites has the same per suite; Failed the first hundred that failed.
	Suites []TestSuite  `json:"suites,omitempty"`
	Failed []FailedTest `json:"failed,omitempty" description:"the first hundred"`
	// Checked says how the service made it.
	Checked *Checked `json:"checked,omitempty" description:"how the service made it"`
}

// Checked is how the service made a report of tests of what is deployed.
type Checked struct {
	Job         string `json:"job"`
	Version     string `json:"version" description:"who answered"`
	Environment string `json:"environment,omitempty" description:"where; absent for a process of its own"`
	// Cases are those of the model, MODEL#NUMBER, or a file.
	Cases  string `json:"cases" description:"the cases of the model, MODEL#NUMBER, or the name of a file"`
	Digest string `json:"digest" description:"SHA-256 of the cases"`
	By     string `json:"by" description:"the build of the service"`
}

// property is how the properties of suites begin that say how the service made them.
const property = "innerladder."

// fields are the properties by name.
func (c *Checked) fields() []struct {
	name string
	at   *string
} {
	return []struct {
		name string
		at   *string
	}{
		{"job", &c.Job},
		{"version", &c.Version},
		{"environment", &c.Environment},
		{"cases", &c.Cases},
		{"digest", &c.Digest},
		{"build", &c.By},
	}
}

// property takes a property of a suite in, where it says how the service made it.
func (t *TestReport) property(el xml.StartElement) {
	var name, value string
	for _, a := range el.Attr {
		switch a.Name.Local {
		case "name":
			name = a.Value
		case "value":
			value = a.Value
		}
	}
	name, ours := strings.CutPrefix(name, property)
	if !ours {
		return
	}
	if t.Checked == nil {
		t.Checked = &Checked{}
	}
	for _, f := range t.Checked.fields() {
		if f.name == name {
			*f.at = value
		}
	}
}

// Ran is how many tests were not skipped.
func (t TestReport) Ran() int { return t.Total - t.Skipped }

// TestSuite is one suite of a test run.
type TestSuite struct {
	Name    string  `json:"name"`
	Total   int     `json:"total"`
	Failed  int     `json:"failed"`
	Skipped int     `json:"skipped"`
	Seconds float64 `json:"seconds"`
}

// FailedTest is a test that failed.
type FailedTest struct {
	Suite   string `json:"suite,omitempty"`
	Name    string `json:"name"`
	Message string `json:"message,omitempty"`
}

const (
	mostFailed  = 100
	mostSuites  = 200
	longestText = 400
)

// readTests reads JUnit XML element by element: suites may be nested, and reports large.
// What the cases say counts, not the sums that the suites carry.
func readTests(r io.Reader) (Findings, string, error) {
	bad := func(why string, args ...any) (Findings, string, error) {
		return Findings{}, "", fault.New(fault.Invalid, "evidence.tests",
			"this is no report of tests in JUnit XML: "+why, args...).In("file").
			Do("attach a JUnit XML file, with the element testsuite or testsuites outside")
	}
	dec := xml.NewDecoder(r)
	dec.Strict = true
	var t TestReport
	var open []int // indices of the suites we are in
	root := false
	for {
		token, err := dec.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return bad("%v", err)
		}
		switch el := token.(type) {
		case xml.StartElement:
			if !root && el.Name.Local != "testsuites" && el.Name.Local != "testsuite" {
				return bad("its first element is %s", el.Name.Local)
			}
			root = true
			switch el.Name.Local {
			case "testsuite":
				name := ""
				for _, a := range el.Attr {
					if a.Name.Local == "name" {
						name = a.Value
					}
				}
				t.Suites = append(t.Suites, TestSuite{Name: name})
				open = append(open, len(t.Suites)-1)
			case "property":
				t.property(el)
			case "testcase":
				var c junitCase
				if err := dec.DecodeElement(&c, &el); err != nil {
					return bad("%v", err)
				}
				var suite *TestSuite
				if len(open) > 0 {
					suite = &t.Suites[open[len(open)-1]]
				}
				t.count(c, suite)
			}
		case xml.EndElement:
			if el.Name.Local == "testsuite" && len(open) > 0 {
				open = open[:len(open)-1]
			}
		}
	}
	if !root {
		return bad("it is empty")
	}
	t.Suites = slices.DeleteFunc(t.Suites, func(s TestSuite) bool { return s.Total == 0 })
	t.Suites = t.Suites[:min(len(t.Suites), mostSuites)]
	return Findings{Tests: &t, Says: t.says()}, t.verdict(), nil
}

func (t *TestReport) count(c junitCase, suite *TestSuite) {
	if suite == nil {
		suite = &TestSuite{}
	}
	seconds, _ := strconv.ParseFloat(strings.ReplaceAll(c.Time, ",", ""), 64)
	if seconds > 0 && !math.IsInf(seconds, 0) {
		t.Seconds += seconds
		suite.Seconds += seconds
	}
	t.Total++
	suite.Total++
	message := c.Failure
	switch {
	case c.Failure != nil:
		t.Failures++
	case c.Error != nil:
		t.Errors++
		message = c.Error
	case c.Skipped != nil:
		t.Skipped++
		suite.Skipped++
		return
	default:
		return
	}
	suite.Failed++
	if len(t.Failed) < mostFailed {
		name := c.Name
		if c.Class != "" {
			name = c.Class + ": " + c.Name
		}
		t.Failed = append(t.Failed, FailedTest{suite.Name, name, message.String()})
	}
}

func (t TestReport) verdict() string {
	if t.Failures+t.Errors > 0 || t.Ran() == 0 {
		return VerdictFailed
	}
	return VerdictPassed
}

func (t TestReport) says() string {
	if t.Ran() == 0 {
		return strings.TrimSuffix(fmt.Sprintf("no test was run, %d skipped", t.Skipped), ", 0 skipped")
	}
	noun := "tests"
	if t.Ran() == 1 {
		noun = "test"
	}
	s := fmt.Sprintf("%d %s in %s", t.Ran(), noun,
		time.Duration(t.Seconds*float64(time.Second)).Round(time.Millisecond))
	if t.Skipped > 0 {
		s += fmt.Sprintf(", %d skipped", t.Skipped)
	}
	if bad := t.Failures + t.Errors; bad > 0 {
		return fmt.Sprintf("%d of %s failed", bad, s)
	}
	return s + ", all passed"
}
