package custom

import (
	"errors"
	"math"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/metric"
)

func fieldOf(err error) string {
	var f *fault.Fault
	if errors.As(err, &f) {
		return f.Field
	}
	return ""
}

func TestSignalsAreChecked(t *testing.T) {
	good := Signal{Name: "dispatch_cost", Unit: "EUR", Better: metric.Lower, About: "what the plant burns"}
	for name, c := range map[string]struct {
		change func(*Signal)
		field  string
	}{
		"as it should be":      {func(*Signal) {}, ""},
		"no unit":              {func(s *Signal) { s.Unit = "" }, ""},
		"no way":               {func(s *Signal) { s.Better = "" }, "better"},
		"no such way":          {func(s *Signal) { s.Better = "up" }, "better"},
		"no name":              {func(s *Signal) { s.Name = "" }, "name"},
		"capitals":             {func(s *Signal) { s.Name = "Cost" }, "name"},
		"a dot":                {func(s *Signal) { s.Name = "cost.eur" }, "name"},
		"too long a name":      {func(s *Signal) { s.Name = strings.Repeat("a", 41) }, "name"},
		"a unit that turns":    {func(s *Signal) { s.Unit = "E\u202eUR" }, "unit"},
		"a unit of many lines": {func(s *Signal) { s.Unit = "E\nUR" }, "unit"},
		"too much about it":    {func(s *Signal) { s.About = strings.Repeat("a", 301) }, "about"},
	} {
		s := good
		c.change(&s)
		if err := s.Check(); fieldOf(err) != c.field || (err == nil) != (c.field == "") {
			t.Errorf("%s: %v, want an error in %q", name, err, c.field)
		}
	}
	if good.Full() != "custom.dispatch_cost" {
		t.Errorf("it is watched as %q", good.Full())
	}
}

func TestReportsAreChecked(t *testing.T) {
	now := time.Unix(1_790_000_000, 0)
	one := map[string]any{"cost": 3.5}
	for name, c := range map[string]struct {
		report Report
		field  string
	}{
		"of a request":            {Report{Request: "x", Values: one}, ""},
		"of a request, one of it": {Report{Request: "x", ID: "order 7", Values: one}, ""},
		"of a version":            {Report{Version: "a@1", At: &now, ID: "night 3", Values: one}, ""},
		"of a version, nameless":  {Report{Version: "a@1", At: &now, Values: one}, "items[0].id"},
		"a name of blanks":        {Report{Version: "a@1", At: &now, ID: "  ", Values: one}, "items[0].id"},
		"of a version, no time":   {Report{Version: "a@1", ID: "night 3", Values: one}, "items[0].request"},
		"of nothing":              {Report{ID: "night 3", Values: one}, "items[0].request"},
		"of both":                 {Report{Request: "x", At: &now, Values: one}, "items[0].version"},
		"empty":                   {Report{Request: "x"}, "items[0].values"},
		"a name of two lines":     {Report{Request: "x", ID: "a\nb", Values: one}, "items[0].id"},
	} {
		if err := c.report.Check("items[0]"); fieldOf(err) != c.field || (err == nil) != (c.field == "") {
			t.Errorf("%s: %v, want an error in %q", name, err, c.field)
		}
	}
}

func TestNumbers(t *testing.T) {
	for _, c := range []struct {
		in   any
		want float64
		why  string
	}{
		{3.5, 3.5, ""},
		{" -2e3 ", -2000, ""},
		{0.0, 0, ""},
		{nil, 0, "missing"},
		{"", 0, "no number"},
		{"3,5", 0, "no number"},
		{true, 0, "no number"},
		{[]any{1.0}, 0, "no number"},
		{math.Inf(1), 0, "not finite"},
		{"NaN", 0, "not finite"},
		{1e300, 0, "too large"},
	} {
		x, why := Number("cost", c.in)
		if x != c.want && c.why == "" || !strings.Contains(why, c.why) || (why == "") != (c.why == "") {
			t.Errorf("%v is %v (%q), want %v (%q)", c.in, x, why, c.want, c.why)
		}
	}
}
