package check

import (
	"encoding/xml"
	"fmt"
	"strings"
	"time"

	"innerladder/internal/core/evidence"
	"innerladder/internal/core/naming"
)

// Result is what one case came to.
type Result struct {
	Name string
	Took time.Duration
	// Why says what is wrong; empty when nothing is. Broken says that it could not be asked at all.
	Why    string
	Broken bool
}

// Suite is results that belong together.
type Suite struct {
	Name    string
	Results []Result
}

type xmlSuites struct {
	XMLName xml.Name   `xml:"testsuites"`
	Name    string     `xml:"name,attr"`
	Tests   int        `xml:"tests,attr"`
	Failed  int        `xml:"failures,attr"`
	Errors  int        `xml:"errors,attr"`
	Suites  []xmlSuite `xml:"testsuite"`
}

type xmlSuite struct {
	Name       string        `xml:"name,attr"`
	Tests      int           `xml:"tests,attr"`
	Failed     int           `xml:"failures,attr"`
	Errors     int           `xml:"errors,attr"`
	Time       string        `xml:"time,attr"`
	Properties []xmlProperty `xml:"properties>property"`
	Cases      []xmlCase     `xml:"testcase"`
}

type xmlProperty struct {
	Name  string `xml:"name,attr"`
	Value string `xml:"value,attr"`
}

type xmlCase struct {
	Name    string      `xml:"name,attr"`
	Class   string      `xml:"classname,attr"`
	Time    string      `xml:"time,attr"`
	Failure *xmlMessage `xml:"failure"`
	Error   *xmlMessage `xml:"error"`
}

type xmlMessage struct {
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}

// JUnit writes results as JUnit XML, with how they were made as properties of each suite.
func JUnit(by evidence.Checked, suites []Suite) ([]byte, error) {
	out := xmlSuites{Name: "checks of " + by.Version}
	for _, s := range suites {
		one := xmlSuite{Name: s.Name, Tests: len(s.Results)}
		for _, p := range by.Properties() {
			one.Properties = append(one.Properties, xmlProperty{p[0], p[1]})
		}
		total := time.Duration(0)
		for _, r := range s.Results {
			total += r.Took
			c := xmlCase{Name: shown(r.Name), Class: s.Name, Time: seconds(r.Took)}
			why := shown(r.Why)
			switch {
			case r.Broken:
				one.Errors++
				c.Error = &xmlMessage{why, why}
			case why != "":
				one.Failed++
				c.Failure = &xmlMessage{why, why}
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
