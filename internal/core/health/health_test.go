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
		s, turn = Rule{After: 2}.Step(s, reason, now.Add(time.Duration(i)*time.Second))
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
