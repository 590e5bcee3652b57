package traffic

import (
	"maps"
	"testing"
	"time"
)

// A version that takes over is watched: by hand for a while, in a rollout for as long as that goes on; one that
// comes back is not, nor is the first.
func TestCourse(t *testing.T) {
	at := time.Date(2026, 1, 12, 9, 0, 0, 0, time.UTC)
	whole := func(n int, version string) Split {
		return Split{Number: n, MadeAt: at.Add(time.Duration(n) * time.Minute), Lanes: []Lane{mainLane(version, Whole)}}
	}
	first, second := whole(1, "m@1"), whole(2, "m@2")
	c := Course{}.Next(first)
	if len(c.Pairs("", at)) != 0 {
		t.Errorf("the first takes over from nobody: %+v", c)
	}
	c = c.Next(second)
	pairs := c.Pairs("", at.Add(3*time.Minute))
	if len(pairs) != 1 || !pairs[0].After || pairs[0].Incumbent != "m@1" || pairs[0].Begun != 2 {
		t.Errorf("%+v", pairs)
	}
	trial := Split{Number: 3, MadeAt: at, Lanes: []Lane{mainLane("m@2", 9000), trialLane("m@3", 1000)}}
	if both := c.Next(trial).Pairs("", at.Add(3*time.Minute)); len(both) != 2 || both[0].After || !both[1].After {
		t.Errorf("a trial beside it: %+v", both)
	}
	if len(c.Pairs("", at.Add(time.Hour))) != 0 {
		t.Error("it is watched for ever")
	}
	second.Rollout = "R-1"
	c = Course{}.Next(first).Next(second)
	if len(c.Pairs("R-1", at.Add(50*time.Hour))) != 1 || len(c.Pairs("", at.Add(3*time.Minute))) != 0 {
		t.Errorf("a rollout says for how long: %+v", c)
	}
	beside := whole(2, "m@2")
	beside.Lanes = append(beside.Lanes, Lane{Kind: Shadow, Version: "m@1", Share: 1000})
	pairs = Course{}.Next(first).Next(beside).Pairs("", at.Add(3*time.Minute))
	if len(pairs) != 2 || !pairs[0].Mirrors(pairs[1]) || !pairs[1].Copied || pairs[1].Copies {
		t.Errorf("the one before gets copies: %+v", pairs)
	}
	if tried := TrialsIn([]Split{beside, first}); len(tried) != 0 {
		t.Errorf("nobody tries out what was main before: %+v", tried)
	}
	beside.Lanes[1].Version = "m@3"
	if pairs = (Course{}.Next(first).Next(beside).Pairs("", at.Add(3*time.Minute))); pairs[1].Copied {
		t.Errorf("another gets copies: %+v", pairs)
	}
	back := whole(3, "m@1")
	back.Leaves = 2
	if c = c.Next(back); c.After != nil {
		t.Errorf("it came back: %+v", c.After)
	}
	if c = c.Next(Split{Number: 4}); c.Main != "" {
		t.Errorf("the endpoint was taken away: %+v", c)
	}
}

// Main goes back to whom it came from, under the contract that it had then.
func TestReturn(t *testing.T) {
	splits := []Split{
		{Number: 1, Lanes: []Lane{mainLane("m@1", Whole)}, Contract: 1},
		{Number: 2, Lanes: []Lane{mainLane("m@1", 5000), trialLane("m@2", 5000)}, Contract: 1},
		{Endpoint: "e", Number: 3, Lanes: []Lane{mainLane("m@2", Whole)}, Contract: 2},
	}
	got := Return(splits, "m@1")
	if got.ReturnsTo != 1 || got.Leaves != 3 || got.Contract != 1 || got.String() != "m@1 100 %" ||
		got.Endpoint != "e" {
		t.Errorf("%+v", got)
	}
	if got = Return(splits[1:], "m@1"); got.ReturnsTo != 0 || got.Contract != 1 {
		t.Errorf("it never had all: %+v", got)
	}
	if got = Return(splits, "m@9"); got.Contract != 2 || got.ReturnsTo != 0 {
		t.Errorf("it never answered: %+v", got)
	}
}

// What a version did as main until that was taken from it is no measure of how it usually is; a trial that was
// left for a reason says nothing about its main.
func TestMains(t *testing.T) {
	of := func(n int, main string, leaves int) Split {
		return Split{Number: n, Lanes: []Lane{mainLane(main, 9000), trialLane("m@9", 1000)}, Leaves: leaves}
	}
	newestFirst := []Split{
		of(8, "m@2", 0),
		{Number: 7},
		of(6, "m@1", 0), of(5, "m@1", 4), of(4, "m@2", 0), of(3, "m@2", 0),
		of(2, "m@1", 1), of(1, "m@1", 0),
	}
	got := Mains(newestFirst)
	want := map[int]string{1: "m@1", 2: "m@1", 5: "m@1", 6: "m@1", 8: "m@2"}
	if !maps.Equal(got, want) {
		t.Errorf("%v", got)
	}
}
