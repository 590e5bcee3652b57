package intake

import (
	"reflect"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/span"
	"innerladder/internal/core/watch"
)

const someWatches = `# of the dispatch desk
owner: heat-planning
runbook: https://wiki.tarnholm.example/demand
watches:
  - signal: error_rate
    limit: 2 %
    then: roll_back
  - signal: latency_p99
    limit: 200ms
    for: 10m
  - signal: missing_rate.wind
    off: true
  - signal: error_rate
    versus: main
    times: 1.5
`

// What is written is read as it was, with the usual ones in comments.
func TestWatchesAreReadAsTheyAreWritten(t *testing.T) {
	s, err := Watches([]byte(someWatches))
	if err != nil || len(s.Watches) != 4 || s.Watches[0].Then != guard.RollBack || s.Owner != "heat-planning" ||
		s.Watches[1].For != span.Duration(10*time.Minute) || !s.Watches[2].Off {
		t.Fatalf("%+v, %v", s, err)
	}
	s.Watches = append(s.Watches, watch.Rule{
		Signal: "missing_rate.\"odd: name", Limit: watch.Percent(0.05), Least: 40, About: "ring \"the desk\"\nat night",
	})
	text := WatchesText(s)
	again, err := Watches([]byte(text))
	if err != nil || !reflect.DeepEqual(s, again) {
		t.Errorf("%v\nwant %+v\ngot  %+v", err, s, again)
	}
	if !strings.Contains(text, "#   - signal: refusal_rate\n#     limit: 5 %") {
		t.Error(text)
	}
	none, err := Watches([]byte(WatchesText(watch.Set{})))
	if err != nil || len(none.Watches) != 0 {
		t.Errorf("%+v, %v", none, err)
	}
}

// What is wrong is said with line and column, and what to do.
func TestWatchesThatAreWrong(t *testing.T) {
	for name, c := range map[string]struct{ from, to, where, says string }{
		"unknown field":  {"    for: 10m", "    four: 10m", "line 10, column 5", `there is no field "four"`},
		"no limit":       {"limit: 2 %", "limit: some", "line 6, column 12", `"some" is no limit`},
		"another unit":   {"limit: 200ms", "limit: 2 %", "line 9, column 12", "give a time, such as 200ms"},
		"another signal": {"signal: latency_p99", "signal: latency_p42", "line 8, column 13", "is no signal"},
		"twice":          {"    versus: main\n    times: 1.5", "    limit: 1 %", "line 13, column 13", "watched twice"},
		"what follows":   {"then: roll_back", "then: weep", "line 7, column 11", `"weep" is nothing`},
		"off":            {"off: true", "off: maybe", "line 12, column 10", "write true or false"},
		"runbook":        {"https://", "ftp://", "line 3, column 10", "is no address"},
	} {
		if !strings.Contains(someWatches, c.from) {
			t.Fatal(name)
		}
		_, err := Watches([]byte(strings.Replace(someWatches, c.from, c.to, 1)))
		if !fault.Is(err, fault.Invalid) || !strings.Contains(err.Error(), c.where) ||
			!strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func FuzzWatches(f *testing.F) {
	f.Add(someWatches)
	f.Fuzz(func(t *testing.T, text string) {
		s, err := Watches([]byte(text))
		if err != nil {
			if fault.Code(err) == "" {
				t.Errorf("%v", err)
			}
			return
		}
		again, err := Watches([]byte(WatchesText(s)))
		if err != nil || !reflect.DeepEqual(s.Watches, again.Watches) && len(s.Watches) > 0 {
			t.Errorf("%v\n%s", err, WatchesText(s))
		}
	})
}
