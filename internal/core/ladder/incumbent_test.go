package ladder

import (
	"testing"
	"time"
)

func TestTheIncumbentIsWhoAnswers(t *testing.T) {
	at := func(minute int) time.Time { return time.Date(2026, 1, 12, 9, minute, 0, 0, time.UTC) }
	for _, c := range []struct {
		name      string
		answering []Answering
		onRung    string
		want      string
	}{
		{"nothing answers, nobody stands there", nil, "", ""},
		{"nothing answers", nil, "m@1", "m@1"},
		{"nothing answers, it stands there itself", nil, "m@3", ""},
		{"one answers, another stands on the rung", []Answering{{"m@1", 1, at(0)}}, "m@2", "m@1"},
		{"one answers, the rung is empty", []Answering{{"m@1", 1, at(0)}}, "", "m@1"},
		{"most endpoints", []Answering{{"m@1", 1, at(9)}, {"m@2", 2, at(0)}}, "", "m@2"},
		{"the latest of as many", []Answering{{"m@1", 1, at(9)}, {"m@2", 1, at(0)}}, "", "m@1"},
		{"it answers itself, with another", []Answering{{"m@3", 5, at(9)}, {"m@2", 1, at(0)}}, "m@1", "m@2"},
		{"only it answers", []Answering{{"m@3", 5, at(9)}}, "m@1", "m@1"},
	} {
		if got := Incumbent("m@3", c.answering, c.onRung); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}
