package watch

import (
	"slices"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/fault"
)

func TestMutes(t *testing.T) {
	set := &Set{Watches: []Rule{
		{Signal: ErrorRate, Versus: Main, Times: 2}, {Signal: MAE, Versus: Registered, Times: 2},
	}}
	subjects := set.Subjects()
	for _, want := range []string{
		Everything, "inputs", "predictions", "accuracy", ErrorRate, "error_rate versus main",
	} {
		if !slices.Contains(subjects, want) {
			t.Errorf("%v lacks %s", subjects, want)
		}
	}
	for _, c := range []struct {
		subject, reason string
		length          time.Duration
		field           string
	}{
		{"inputs", "the feed moves", time.Hour, ""},
		{"missing_rate.wind", "x", time.Hour, "subject"},
		{"inputs", "x", time.Second, "for"},
		{"inputs", "x", 1000 * time.Hour, "for"},
		{"inputs", " ", time.Hour, "reason"},
	} {
		m, err := NewMute(set, c.subject, "runa", c.reason, c.length, begin)
		if c.field == "" && (err != nil || !m.Until.Equal(begin.Add(time.Hour)) || m.By != "runa") {
			t.Errorf("%+v: %+v, %v", c, m, err)
		}
		if c.field != "" && (!fault.Is(err, fault.Invalid) || at(err) != c.field) {
			t.Errorf("%+v: %v", c, err)
		}
	}
}

// What is muted is withheld; when it is not muted any more, what is still wrong is told, and what is well is not.
func TestWhatIsMutedIsWithheld(t *testing.T) {
	var w Watched
	hour := []Mute{{Subject: "inputs", At: begin, Until: begin.Add(time.Hour)}}
	fires := func(signal string) Change {
		return Change{Group: Group(signal), Fires: []Stand{{Signal: signal, State: Firing}}}
	}
	resolves := func(group string) Change { return Change{Group: group, Resolved: true} }
	said := func(changes []Change) string {
		var out []string
		for _, c := range changes {
			what := " fires"
			if c.Resolved {
				what = " is well"
			}
			out = append(out, c.Group+what)
		}
		return strings.Join(out, ", ")
	}
	for i, c := range []struct {
		changes []Change
		mutes   []Mute
		after   time.Duration
		want    string
	}{
		{[]Change{fires("feature_drift.wind"), fires(ErrorRate)}, hour, 0, "error_rate fires"},
		{nil, hour, 30 * time.Minute, ""},
		{nil, hour, time.Hour, "inputs fires"}, // the mute is over
		{nil, nil, time.Hour, ""},
		{[]Change{resolves("inputs")}, nil, time.Hour, "inputs is well"},
		{[]Change{fires("missing_rate.wind")}, hour, 0, ""},
		{[]Change{resolves("inputs")}, hour, 0, "inputs is well"},
		{nil, nil, 0, ""}, // it was well before the mute was over
		{[]Change{fires(RefusalRate)}, []Mute{{Subject: Everything, Until: begin.Add(time.Minute)}}, 0, ""},
		{nil, nil, 0, "refusal_rate fires"}, // somebody ended the mute
	} {
		if got := said(w.Due(c.changes, c.mutes, begin.Add(c.after))); got != c.want {
			t.Errorf("step %d: %q, want %q", i, got, c.want)
		}
	}
}

func TestDispersion(t *testing.T) {
	even, bursts := make([]float64, 60), make([]float64, 60)
	for i := range even {
		even[i] = 100
		if i%10 == 0 {
			bursts[i] = 1000
		}
	}
	if d := Dispersion(even); d != 0.1 {
		t.Errorf("as even as can be: %v", d)
	}
	if d := Dispersion(bursts); d < 500 {
		t.Errorf("in bursts: %v", d)
	}
	if Dispersion(even[:20]) != 0 || Dispersion(make([]float64, 60)) != 0 {
		t.Error("too few minutes, or nothing at all")
	}
}
