package traffic

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"innerladder/internal/core/fault"
)

func mainOf(version string) []Lane { return []Lane{mainLane(version, Whole)} }

func trialOf(main, trial string) []Lane {
	return []Lane{mainLane(main, 9000), trialLane(trial, 1000)}
}

// history is the splits of an endpoint as they follow each other.
type history []Split

// make puts new lanes in force.
func (h *history) make(lanes []Lane) {
	*h = append(*h, Split{Endpoint: "demand-hourly", Number: len(*h) + 1, Lanes: lanes})
}

// leave puts a way back from the split in force in force.
func (h *history) leave(to Split, by, why string) {
	current := &(*h)[len(*h)-1]
	next := Split{
		Endpoint: "demand-hourly", Number: len(*h) + 1, Lanes: to.Lanes, ReturnsTo: to.Number, Leaves: current.Number,
		Author: by, Reason: why,
	}
	current.Left = &Left{By: by, Why: why, For: next.Number}
	*h = append(*h, next)
}

func TestTheWayBack(t *testing.T) {
	for _, c := range []struct {
		name string
		made func(*history)
		want int
		code string
		says string
	}{
		{"nothing", func(*history) {}, 0, "back.no_split", ""},
		{"from a trial", func(h *history) { h.make(mainOf("m@1")); h.make(trialOf("m@1", "m@2")) }, 1, "", ""},
		{"from a grown trial", func(h *history) {
			h.make(mainOf("m@1"))
			h.make(trialOf("m@1", "m@2"))
			h.make([]Lane{mainLane("m@1", 5000), trialLane("m@2", 5000)})
		}, 1, "", ""},
		{"from a finished rollout", func(h *history) {
			h.make(mainOf("m@1"))
			h.make(trialOf("m@1", "m@2"))
			h.make(mainOf("m@2"))
		}, 1, "", ""},
		{
			"not to the same", func(h *history) { h.make(mainOf("m@1")); h.make(mainOf("m@1")) }, 0,
			"back.nothing_before",
			"",
		},
		{"the first is a trial", func(h *history) { h.make(trialOf("m@1", "m@2")) }, 0, "back.nothing_before", ""},
		{"said twice", func(h *history) {
			h.make(mainOf("m@1"))
			h.make(mainOf("m@2"))
			h.leave((*h)[0], "runa", "complaints")
		}, 0, "back.is_way_back", "-to 2 (m@2 100 %; left by runa: complaints)"},
		{"after a guard", func(h *history) {
			h.make(mainOf("m@1"))
			h.make(mainOf("m@2"))
			h.make(trialOf("m@2", "m@3"))
			h.leave(Without(*h), "inner-ladder", "it failed")
		}, 0, "back.is_way_back", "-to 1 (m@1 100 %; made place for the next)"},
		{"over one that was left", func(h *history) {
			h.make(mainOf("m@1"))
			h.make(mainOf("m@2"))
			h.leave((*h)[0], "runa", "complaints")
			h.make(mainOf("m@3"))
		}, 3, "", ""},
		{"only ones that were left", func(h *history) {
			h.make(mainOf("m@1"))
			h.make(mainOf("m@2"))
			h.leave((*h)[0], "runa", "complaints")
			h.make(mainOf("m@1"))
		}, 0, "back.nothing_before", "left by runa"},
	} {
		var h history
		c.made(&h)
		got, err := WayBack(h)
		if got.Number != c.want || fault.Code(err) != c.code ||
			!strings.Contains(fmt.Sprintf("%+v", advice(err)), c.says) {
			t.Errorf("%s: #%d, %v, %s", c.name, got.Number, err, advice(err))
		}
	}
}

func advice(err error) string {
	if f, ok := err.(*fault.Fault); ok {
		return f.Remedy
	}
	return ""
}

// When a guard ends a trial, who answered main answers alone, whatever was there before.
func TestAGuardLeavesTheIncumbent(t *testing.T) {
	var h history
	h.make(mainOf("m@1"))
	h.make(mainOf("m@2"))
	h.make(trialOf("m@1", "m@3")) // main moves and a trial begins in one split
	got := Without(h)
	if !slices.Equal(got.Lanes, mainOf("m@1")) || got.ReturnsTo != 1 || got.Leaves != 3 {
		t.Errorf("%+v", got)
	}
	h.make(trialOf("m@4", "m@3"))
	if got = Without(h); !slices.Equal(got.Lanes, mainOf("m@4")) || got.ReturnsTo != 0 || got.Leaves != 4 {
		t.Errorf("%+v", got)
	}
}

// Whatever splits, guards and ways back follow each other: a way back that names nothing never
// leads to a split that was left for a reason, never to a trial, never to what is in force, and
// never twice in a row.
func TestNoWayLeadsBackToWhatWasLeft(t *testing.T) {
	r := rand.New(rand.NewPCG(12, 1))
	version := func() string { return fmt.Sprintf("m@%d", 1+r.IntN(4)) }
	backs := 0
	for range 3000 {
		var h history
		for range 2 + r.IntN(14) {
			switch r.IntN(4) {
			case 0:
				h.make(mainOf(version()))
			case 1:
				main, trial := version(), version()
				if main != trial {
					h.make(trialOf(main, trial))
				}
			case 2:
				if n := len(h); n > 0 && len(h[n-1].Trials()) > 0 {
					main := h[n-1].Main().Version
					h.leave(Without(h), "inner-ladder", "a guard")
					if now := h[n]; len(now.Lanes) != 1 || now.Lanes[0].Version != main {
						t.Fatalf("a guard left %v for %v", h[n-1].Lanes, now.Lanes)
					}
				}
			case 3:
				to, err := WayBack(h)
				if n := len(h); n > 0 && h[n-1].Leaves > 0 && fault.Code(err) != "back.is_way_back" {
					t.Fatalf("back twice: %+v, %v", to, err)
				}
				if err != nil {
					continue
				}
				now := h[len(h)-1]
				if to.Left != nil || len(to.Trials()) > 0 || slices.Equal(to.Lanes, now.Lanes) ||
					to.Number >= now.Number {
					t.Fatalf("%+v leads back to %+v", now, to)
				}
				h.leave(to, "runa", "a person")
				backs++
			}
		}
	}
	if backs < 500 {
		t.Errorf("only %d ways back were taken", backs)
	}
}
