package health

import (
	"testing"
	"time"
)

func TestHealth(t *testing.T) {
	now := time.Unix(1000, 0)
	s := State{Healthy: true}
	var turns []Turn
	for i, reason := range []string{
		"", "connection refused", "", "connection refused", "time-out", "time-out", "",
		"",
	} {
		var turn Turn
		s, turn = Rule{After: 2}.Step(s, Found{Reason: reason}, now.Add(time.Duration(i)*time.Second))
		turns = append(turns, turn)
		if i == 5 && (s.Failing != 3 || !s.FailingSince.Equal(now.Add(3*time.Second)) || s.Healthy) {
			t.Errorf("after three failures in a row: %+v", s)
		}
	}
	want := []Turn{Nothing, Nothing, Nothing, Nothing, Fell, Nothing, Recovered, Nothing}
	for i := range want {
		if turns[i] != want[i] {
			t.Errorf("check %d: got turn %d, want %d", i, turns[i], want[i])
		}
	}
}

// Another model at an address counts at once, and says what it is.
func TestAnotherModelFallsAtOnce(t *testing.T) {
	now := time.Unix(1000, 0)
	s, turn := Rule{After: 2}.Step(State{Healthy: true}, Found{"known answer 1: y must be 3 and is 9", true}, now)
	if turn != Fell || !s.Away() {
		t.Errorf("%+v after turn %d", s, turn)
	}
	if said := s.Sentence("m@1", "plant-north"); said !=
		"What runs in plant-north is not m@1: known answer 1: y must be 3 and is 9." {
		t.Error(said)
	}
	if s, turn = (Rule{After: 2}).Step(s, Found{}, now); turn != Recovered || s.Away() || s.Wrong {
		t.Errorf("%+v after turn %d", s, turn)
	}
	if s, _ = (Rule{After: 2}).Step(s, Found{Reason: "connection refused"}, now); !s.Away() || !s.Healthy {
		t.Errorf("one failed check: %+v", s)
	}
}
