package lineage

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
)

func TestWalkGoesNearestFirstAndStops(t *testing.T) {
	// A diamond with a loop: 1 → 2, 3 → 4 → 1.
	links := map[int][]int{1: {2, 3}, 2: {4}, 3: {4}, 4: {1, 5}}
	asked := 0
	next := func(of []int) (out [][2]int, err error) {
		asked++
		for _, k := range of {
			for _, n := range links[k] {
				out = append(out, [2]int{k, n})
			}
		}
		return out, nil
	}
	for _, c := range []struct {
		depth, most int
		want        string
		cut         bool
	}{
		{10, 100, "[{1 0} {2 1} {3 1} {4 2} {5 3}]", false},
		{1, 100, "[{1 0} {2 1} {3 1}]", true},
		{10, 4, "[{1 0} {2 1} {3 1} {4 2}]", true},
		{0, 100, "[{1 0}]", true},
	} {
		got, cut, err := Walk([]int{1}, c.depth, c.most, next)
		if fmt.Sprint(got) != c.want || cut != c.cut || err != nil {
			t.Errorf("depth %d, most %d: %v, cut %v, %v; want %s, %v", c.depth, c.most, got, cut, err, c.want, c.cut)
		}
	}
}

func TestTree(t *testing.T) {
	trace := Trace{
		Roots: []string{"b@1"},
		Nodes: []Node{
			{ID: "b@1", Kind: VersionNode, Detail: "live", Answering: []string{"demand-hourly"}},
			{ID: "a@1", Kind: VersionNode, Depth: -1},
			{ID: "winters#1", Kind: DataNode, Depth: -1, Detail: "9 rows"},
			{ID: "c@1", Kind: VersionNode, Depth: 1},
		},
		Links: []Link{
			{"b@1", "fine-tuned", "a@1"},
			{"b@1", "trained-on", "winters#1"},
			{"a@1", "trained-on", "winters#1"},
			{"c@1", "distilled", "b@1"},
		},
	}
	got := strings.Join(trace.Tree(), "\n")
	want := `b@1  (live)  answers demand-hourly
  made from
  ├─ fine-tuned a@1
  │  └─ trained-on winters#1  (9 rows)
  └─ trained-on winters#1  (see above)
  went into
  └─ distilled c@1`
	if got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
}

// Walk reaches what can be reached, at its least distance, on any graph.
func TestWalkOnRandomGraphs(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 1))
	for range 200 {
		n := 2 + r.IntN(30)
		links := make([][]int, n)
		for range r.IntN(3 * n) {
			a := r.IntN(n)
			links[a] = append(links[a], r.IntN(n))
		}
		// The least distances, by going over all links until nothing changes.
		want := map[int]int{0: 0}
		for changed := true; changed; {
			changed = false
			for a, to := range links {
				d, reached := want[a]
				if !reached {
					continue
				}
				for _, b := range to {
					if old, there := want[b]; !there || old > d+1 {
						want[b], changed = d+1, true
					}
				}
			}
		}
		got, cut, err := Walk([]int{0}, n, n, func(of []int) (out [][2]int, err error) {
			for _, k := range of {
				for _, b := range links[k] {
					out = append(out, [2]int{k, b})
				}
			}
			return out, nil
		})
		if err != nil || cut || len(got) != len(want) {
			t.Fatalf("%d reached, %d can be; cut %v, %v", len(got), len(want), cut, err)
		}
		last := 0
		for _, g := range got {
			if g.Depth != want[g.Key] || g.Depth < last {
				t.Fatalf("%d is %d links away, %d was said", g.Key, want[g.Key], g.Depth)
			}
			last = g.Depth
		}
	}
	if _, _, err := Walk([]int{1}, 1, 1,
		func([]int) ([][2]int, error) { return nil, errors.New("broken") }); err == nil {
		t.Error("an error on the way was lost")
	}
}
