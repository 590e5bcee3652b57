package job

import (
	"slices"
	"testing"
	"time"
)

// A log has a line for each tenth, and for trouble that comes and goes; not for each that is told.
func TestMilestones(t *testing.T) {
	now := time.Unix(0, 0)
	m := NewMilestones(Progress{Share: 0.25}, now)
	var got []string
	for i, p := range []Progress{
		{Share: 0.29},
		{Share: 0.3, Answered: 30, PutAside: 2},
		{Share: 0.3},
		{Share: 0.58, Answered: 56},
		{Share: 0.58, Trouble: "it is away"},
		{Share: 0.58, Trouble: "it is away"},
		{Share: 0.59},
		{Share: 1},
	} {
		if says := m.Next(p, now.Add(time.Duration(i)*time.Second)); says != "" {
			got = append(got, says)
		}
	}
	want := []string{
		"30 % after 1s: 30 answered, 2 put aside", "50 % after 3s: 56 answered",
		"it does not get on just now, and tries again: it is away", "it gets on again",
	}
	if !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
}
