package schedule

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/job"
)

// hourly is due at each full hour.
func hourly(t time.Time) (time.Time, error) { return t.Truncate(time.Hour).Add(time.Hour), nil }

var begin = time.Date(2026, 1, 10, 11, 30, 0, 0, time.UTC)

func at(hours float64) time.Time { return begin.Add(time.Duration(hours * float64(time.Hour))) }

func daily(missed string) *Schedule {
	s := &Schedule{
		Name: "nightly", Cron: "0 * * * *", Missed: missed, Retries: 1,
		Score: Scored{Asked: "m@1", From: "file:///rows"},
	}
	s.Step(begin, nil, hourly)
	return s
}

// said is how the turns stand, newest first.
func said(s *Schedule) string {
	var all []string
	for _, t := range s.Turns {
		all = append(all, fmt.Sprintf("%s %s %s", t.Due.Format("15:04"), t.State, t.Job))
	}
	return strings.Join(all, "; ")
}

func TestTurns(t *testing.T) {
	s := daily(Once)
	if act, _ := s.Step(at(0.4), nil, hourly); act.Begin || !s.Next.Equal(at(0.5)) {
		t.Fatalf("%+v, %v", act, s.Next)
	}
	if act, _ := s.Step(at(0.5), nil, hourly); !act.Begin || !s.Next.Equal(at(1.5)) {
		t.Fatalf("%+v, %v", act, s.Next)
	}
	s.Began("J-1")
	j := &job.Job{ID: "J-1", State: job.Running}
	if act, changed := s.Step(at(1), j, hourly); act != (Act{}) || changed {
		t.Fatalf("%+v", act)
	}
	// It goes on for longer than an hour: the next waits for it, and several become one.
	if act, _ := s.Step(at(3.2), j, hourly); act != (Act{}) {
		t.Fatalf("%+v", act)
	}
	j.State = job.Done
	if act, _ := s.Step(at(3.3), j, hourly); !act.Begin || said(s) != "14:00 trying ; 12:00 done J-1" {
		t.Fatalf("%+v, %s", act, said(s))
	}
	s.Began("J-2")
	if act, _ := s.Step(at(3.31), &job.Job{State: job.Stopped}, hourly); act != (Act{}) ||
		said(s) != "14:00 stopped J-2; 12:00 done J-1" {
		t.Fatalf("%+v, %s", act, said(s))
	}
}

func TestMissedTurnsAreSkipped(t *testing.T) {
	s := daily(Skip)
	if act, _ := s.Step(at(5.6), nil, hourly); act.Begin || said(s) != "17:00 skipped " || !s.Next.Equal(at(6.5)) {
		t.Fatalf("%+v, %s", act, said(s))
	}
	s.Step(at(6.5), nil, hourly)
	s.Began("J-1")
	j := &job.Job{ID: "J-1", State: job.Running}
	if act, _ := s.Step(at(7.5), j, hourly); act.Begin || said(s) != "18:00 begun J-1; 19:00 skipped ; 17:00 skipped " {
		t.Fatalf("%+v, %s", act, said(s))
	}
	if !strings.Contains(s.Turns[1].Why, "J-1, still went on") {
		t.Errorf("%+v", s.Turns[1])
	}
	s = daily(Once)
	if act, _ := s.Step(at(100.6), nil, hourly); !act.Begin || len(s.Turns) != 1 {
		t.Fatalf("%+v, %s", act, said(s))
	}
}

func TestWhatFailsIsTriedAgain(t *testing.T) {
	s := daily(Once)
	s.Step(at(0.5), nil, hourly)
	// The service ended before anything was begun.
	if act, _ := s.Step(at(0.52), nil, hourly); !act.Begin || said(s) != "12:00 trying " {
		t.Fatalf("%+v, %s", act, said(s))
	}
	s = daily(Once)
	s.Step(at(0.5), nil, hourly)
	s.Fail(at(0.5), "the address cannot be reached")
	if act, _ := s.Step(at(0.51), nil, hourly); act.Begin || s.Turns[0].AgainAt == nil {
		t.Fatalf("%+v, %+v", act, s.Turns[0])
	}
	if act, _ := s.Step(at(0.53), nil, hourly); !act.Begin || s.Turns[0].Tries != 2 {
		t.Fatalf("%+v, %+v", act, s.Turns[0])
	}
	s.Began("J-1")
	if act, _ := s.Step(at(0.6), &job.Job{State: job.Failed, Reason: "away"}, hourly); !act.Failed ||
		s.Turns[0].State != "failed" || s.Turns[0].Why != "away" {
		t.Fatalf("%+v, %+v", act, s.Turns[0])
	}
	// A job is taken up where it was, not begun anew.
	s = daily(Once)
	s.Step(at(0.5), nil, hourly)
	s.Began("J-2")
	failed := &job.Job{State: job.Failed, Reason: "away"}
	s.Step(at(0.6), failed, hourly)
	if act, _ := s.Step(at(0.62), failed, hourly); act.Resume != "J-2" || act.Begin {
		t.Fatalf("%+v", act)
	}
}

func TestPausedAndOutOfTurn(t *testing.T) {
	s := daily(Once)
	s.Paused = true
	if act, changed := s.Step(at(0.5), nil, hourly); act.Begin || !changed || s.Next != nil {
		t.Fatalf("%+v", act)
	}
	if err := s.Now(at(0.6)); err != nil || s.Turns[0].State != "trying" {
		t.Fatal(err)
	}
	s.Began("J-1")
	if err := s.Now(at(0.7)); err == nil || !strings.Contains(err.Error(), "still goes on") {
		t.Error(err)
	}
	// That somebody changes it says nothing of the turn that goes on.
	s.Rest(true, at(0.8), hourly)
	s.Rest(false, at(0.9), hourly)
	if s.Turns[0].State != "begun" || !s.Next.Equal(at(1.5)) {
		t.Errorf("%s, %v", said(s), s.Next)
	}
	s.Rest(true, at(1), hourly)
	s.Paused = false
	if act, _ := s.Step(at(4.6), &job.Job{State: job.Done}, hourly); act.Begin || !s.Next.Equal(at(5.5)) {
		t.Errorf("%+v: what was paused is not caught up", act)
	}
}

func TestSchedulesThatCannotBe(t *testing.T) {
	never := func(time.Time) (time.Time, error) { return time.Time{}, errors.New("no such day") }
	for _, c := range []struct {
		want   string
		next   func(time.Time) (time.Time, error)
		change func(*Schedule)
	}{
		{"", hourly, func(*Schedule) {}},
		{"name", hourly, func(s *Schedule) { s.Name = "remove" }},
		{"name", hourly, func(s *Schedule) { s.Name = "Nightly run" }},
		{"4 fields", hourly, func(s *Schedule) { s.Cron = "* * * *" }},
		{"no such day", never, func(*Schedule) {}},
		{"missed", hourly, func(s *Schedule) { s.Missed = "often" }},
		{"tried again", hourly, func(s *Schedule) { s.Retries = 6 }},
		{"no address", hourly, func(s *Schedule) { s.Score.From = "tonight.csv" }},
		{"address or a data set", hourly, func(s *Schedule) { s.Score.Data = "winters#1" }},
	} {
		s := daily(Once)
		c.change(s)
		err := s.Check(begin, c.next)
		if (c.want == "") != (err == nil) || err != nil && !strings.Contains(err.Error(), c.want) {
			t.Errorf("%v, want %q", err, c.want)
		}
	}
}
