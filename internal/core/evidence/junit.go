package evidence

import (
	"cmp"
	"encoding/xml"
	"fmt"
	"strings"
	"time"

	"innerladder/internal/core/naming"
)

// junitCase and its fellows are the parts of JUnit XML that are read and written; the format has no standard, and these
// are what all writers agree on.
type junitCase struct {
	Name    string        `xml:"name,attr"`
	Class   string        `xml:"classname,attr"`
	Time    string        `xml:"time,attr"`
	Failure *junitMessage `xml:"failure"`
	Error   *junitMessage `xml:"error"`
	Skipped *junitMessage `xml:"skipped"`
}

type junitMessage struct {
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}

func (m junitMessage) String() string {
	s := strings.TrimSpace(cmp.Or(m.Message, m.Text))
	if len(s) > longestText {
		s = strings.ToValidUTF8(s[:longestText], "") + "…"
	}
	return s
}

// Result is what one test came to.
type Result struct {
	Name string
	Took time.Duration
	// Why says what is wrong; empty when nothing is. Broken says that it could not be run at all.
	Why    string
	Broken bool
}

// Suite is results that belong together.
type Suite struct {
	Name    string
	Results []Result
}

type junitSuites struct {
	XMLName xml.Name     `xml:"testsuites"`
	Name    string       `xml:"name,attr"`
	Tests   int          `xml:"tests,attr"`
	Failed  int          `xml:"failures,attr"`
	Errors  int          `xml:"errors,attr"`
	Suites  []junitSuite `xml:"testsuite"`
}

type junitSuite struct {
	Name       string          `xml:"name,attr"`
	Tests      int             `xml:"tests,attr"`
	Failed     int             `xml:"failures,attr"`
	Errors     int             `xml:"errors,attr"`
	Time       string          `xml:"time,attr"`
	Properties []junitProperty `xml:"properties>property"`
	Cases      []junitCase     `xml:"testcase"`
}

type junitProperty struct {
	Name  string `xml:"name,attr"`
	Value string `xml:"value,attr"`
}

// JUnit writes suites as JUnit XML under a name. Where the service made them, by says how, as properties of each suite.
func JUnit(name string, by *Checked, suites ...Suite) ([]byte, error) {
	out := junitSuites{Name: name}
	for _, s := range suites {
		one := junitSuite{Name: s.Name, Tests: len(s.Results)}
		if by != nil {
			for _, f := range by.fields() {
				one.Properties = append(one.Properties, junitProperty{property + f.name, *f.at})
			}
		}
		total := time.Duration(0)
		for _, r := range s.Results {
			total += r.Took
			c := junitCase{Name: shown(r.Name), Class: s.Name, Time: seconds(r.Took)}
			why := shown(r.Why)
			switch {
			case r.Broken:
				one.Errors++
				c.Error = &junitMessage{why, why}
			case why != "":
				one.Failed++
				c.Failure = &junitMessage{why, why}
			}
			one.Cases = append(one.Cases, c)
		}
		one.Time = seconds(total)
		out.Suites = append(out.Suites, one)
		out.Tests, out.Failed, out.Errors = out.Tests+one.Tests, out.Failed+one.Failed, out.Errors+one.Errors
	}
	text, err := xml.MarshalIndent(out, "", "  ")
	return append([]byte(xml.Header), append(text, '\n')...), err
}

// shown is a text without what no screen can show: model servers say what they like.
func shown(s string) string {
	return strings.Map(func(c rune) rune {
		if c != '\n' && naming.Hidden(c) {
			return -1
		}
		return c
	}, strings.ToValidUTF8(s, "?"))
}

func seconds(d time.Duration) string { return fmt.Sprintf("%.6f", d.Seconds()) }
