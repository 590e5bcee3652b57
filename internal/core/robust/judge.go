package robust

import (
	"fmt"
	"math"
	"slices"
	"time"

	"innerladder/internal/core/evidence"
	"innerladder/internal/core/score"
	"innerladder/internal/core/sketch"

	"gonum.org/v1/gonum/stat"
)

const (
	// same is how far numbers may be apart that are the same: a share of the spread, for sums in another order.
	same = 1e-4
	// noticed is from how far on predictions count as moved, in their spread or as a share of classes.
	noticed = 0.1
	// usualOff is how far predictions may lie from those of the reference profile before a unit is looked for, and
	// classOff the same of classes; nearer is how much nearer they must come in another unit.
	usualOff = 0.5
	classOff = 0.3
	nearer   = 1.0 / 3
)

// Judging reads what came back. Reference is the reference profile of the output; nil where there is none.
type Judging struct {
	Reference *sketch.Column

	base     []score.Answer
	answered []int
	classes  bool
	spread   float64
	off      float64
	// row is how long a row took, by how many were asked with one request.
	row map[int]time.Duration
	out evidence.RobustnessReport
	// inUnit are how far off predictions are in other units, by the place of the test.
	inUnit map[int]float64
}

// Base takes in what came back for the rows as they are, one by one, which took so long together. It gives the rows
// that were answered.
func (j *Judging) Base(got []score.Answer, took time.Duration) []int {
	j.base, j.row, j.inUnit = got, map[int]time.Duration{}, map[int]float64{}
	r := &j.out
	r.Rows = len(got)
	for i := range got {
		a := &got[i]
		switch {
		case a.Fine():
			r.Answered++
			j.answered = append(j.answered, i)
			continue
		case a.Refused():
			r.Refused++
		default:
			r.Broke++
		}
		if r.Why == "" {
			r.Why = a.Reason()
		}
	}
	j.row[1] = took / time.Duration(max(1, len(got)))
	if len(j.answered) == 0 {
		return nil
	}
	_, number := got[j.answered[0]].Values[0].(float64)
	j.classes, r.Classes = !number, !number
	if number {
		j.spread = spreadOf(j.base, j.answered)
		r.Spread = j.spread
	}
	if off := j.offOf(j.predictions()); !math.IsNaN(off) {
		j.off, r.Off = off, &off
	}
	return j.answered
}

// predictions are those for the rows as they are.
func (j *Judging) predictions() (out []any) {
	for _, i := range j.answered {
		out = append(out, j.base[i].Values[0])
	}
	return out
}

// spreadOf is the standard deviation of predictions, over all their places.
func spreadOf(all []score.Answer, of []int) float64 {
	sum, places := 0.0, len(all[of[0]].Values)
	for p := range places {
		var x []float64
		for _, i := range of {
			if len(all[i].Values) == places {
				v, _ := all[i].Values[p].(float64)
				x = append(x, v)
			}
		}
		if len(x) > 1 {
			sum += stat.Variance(x, nil)
		}
	}
	return math.Sqrt(sum / float64(places))
}

// offOf is how far predictions lie from the reference profile; NaN where there is none of them.
func (j *Judging) offOf(of []any) float64 {
	c := j.Reference
	if c == nil || c.Seen() == c.Outside() || len(of) == 0 || c.Bins.Numeric() == j.classes {
		return math.NaN()
	}
	if j.classes {
		counts := map[string]float64{}
		for _, v := range of {
			counts[fmt.Sprint(v)] += 1 / float64(len(of))
		}
		sum, n := 0.0, float64(c.Seen())
		for i, level := range c.Bins.Levels {
			sum += math.Abs(counts[level] - float64(c.Counts[i])/n)
			delete(counts, level)
		}
		other := 0.0
		for _, share := range counts {
			other += share
		}
		return (sum + math.Abs(other-float64(c.Other)/n)) / 2
	}
	x := make([]float64, 0, len(of))
	for _, v := range of {
		if n, is := v.(float64); is {
			x = append(x, n)
		}
	}
	slices.Sort(x)
	sum := 0.0
	for i, v := range x {
		at, _ := c.At((float64(i) + 0.5) / float64(len(x))).(float64)
		sum += math.Abs(v - at)
	}
	if sd := c.StandardDeviation(); sd > 0 {
		return sum / float64(len(x)) / sd
	}
	return math.NaN()
}

// Take takes in what came back for the rows of a test, in their order, and how long that took. Batch is how many rows
// were asked with one request.
func (j *Judging) Take(t *Test, got []score.Answer, took time.Duration, batch int) {
	out := evidence.Disturbed{Disturbance: t.Disturbance, Input: t.Input, What: t.What, Rows: len(got)}
	var moved []float64
	var values []any
	for k := range got {
		a, before := &got[k], &j.base[j.answered[k%len(j.answered)]]
		switch {
		case a.Fine() && j.alike(before.Values, a):
			out.Answered++
			d := j.distance(before.Values, a.Values)
			moved, values = append(moved, d), append(values, a.Values[0])
			if t.Disturbance.Same() && d > same {
				out.Differed++
			}
			continue
		case a.Refused():
			out.Refused++
		default:
			out.Broke++
		}
		if out.Why == "" {
			out.Why = a.Reason()
		}
	}
	if len(moved) > 0 && !t.Disturbance.Same() {
		x := j.together(moved)
		out.Moved = &x
	}
	j.times(t, &out, took, batch)
	if off := j.offOf(values); t.unit != nil && !math.IsNaN(off) {
		j.inUnit[len(j.out.Tried)] = off
	}
	out.Verdict = j.verdict(&out, j.slow(t, &out, took))
	j.out.Tried = append(j.out.Tried, out)
}

// alike reports whether a prediction is of the form of another; it says in the answer what is wrong where it is not.
func (j *Judging) alike(before []any, a *score.Answer) bool {
	if len(a.Values) != len(before) {
		a.Why = fmt.Sprintf("the prediction has %d values, and had %d", len(a.Values), len(before))
		return false
	}
	for p := range before {
		_, was := before[p].(float64)
		if _, is := a.Values[p].(float64); is != was || a.Values[p] == nil {
			a.Why = fmt.Sprintf("the prediction is %.60v, and was %.60v", a.Values[p], before[p])
			return false
		}
	}
	return true
}

// distance is how far two predictions are apart: of numbers in their spread, of classes 1 where they are others.
func (j *Judging) distance(a, b []any) float64 {
	sum := 0.0
	for p := range a {
		x, isX := a[p].(float64)
		y, isY := b[p].(float64)
		switch {
		case !isX || !isY:
			if a[p] != b[p] {
				return 1
			}
		case j.spread > 0:
			sum += (y - x) * (y - x) / (j.spread * j.spread)
		default: // all predictions are the same: what moves one is measured by what they are
			scale := math.Max(math.Abs(x), 1)
			sum += (y - x) * (y - x) / (scale * scale)
		}
	}
	return math.Sqrt(sum / float64(len(a)))
}

// together is how far all moved.
func (j *Judging) together(moved []float64) float64 {
	sum := 0.0
	for _, d := range moved {
		if j.classes {
			sum += d
		} else {
			sum += d * d
		}
	}
	if sum /= float64(len(moved)); j.classes {
		return sum
	}
	return math.Sqrt(sum)
}

const (
	// slowDisturbed is from how many times as long on a row that is disturbed counts as slow, and slowCrowd one among
	// many; so long must it be, too.
	slowDisturbed, atLeastDisturbed = 2.0, 20 * time.Millisecond
	slowCrowd, atLeastCrowd         = 1.25, 100 * time.Millisecond
)

// times notes how long a row took beside before.
func (j *Judging) times(t *Test, out *evidence.Disturbed, took time.Duration, batch int) {
	row := took / time.Duration(max(1, out.Rows))
	if t.Disturbance == evidence.DisturbanceBatch && out.Answered == out.Rows {
		j.row[batch] = row
	}
	usual := j.row[batch]
	if t.Disturbance.Same() {
		usual = j.row[1]
	}
	if usual <= 0 || out.Answered == 0 {
		return
	}
	x := float64(row) / float64(usual)
	out.Slower = &x
}

// slow reports whether a test took so long that it matters.
func (j *Judging) slow(t *Test, out *evidence.Disturbed, took time.Duration) bool {
	if out.Slower == nil {
		return false
	}
	from, atLeast := slowDisturbed, atLeastDisturbed
	if t.Disturbance.Same() {
		from, atLeast = slowCrowd, atLeastCrowd
	}
	more := time.Duration(float64(took) * (1 - 1 / *out.Slower))
	return *out.Slower >= from && more >= atLeast
}

func (j *Judging) verdict(out *evidence.Disturbed, slow bool) string {
	switch {
	case out.Broke > 0:
		return evidence.Breaks
	case out.Differed > 0:
		out.Why = fmt.Sprintf("%d of %d rows got another answer than before", out.Differed, out.Rows)
		return evidence.Unsteady
	case out.Refused > 0:
		return evidence.Refuses
	case out.Moved != nil && *out.Moved >= noticed:
		return evidence.Moves
	case slow:
		return evidence.Slows
	}
	return evidence.Holds
}

// Held reports whether all rows of the last test were answered as before.
func (j *Judging) Held() bool {
	t := &j.out.Tried[len(j.out.Tried)-1]
	return t.Answered == t.Rows && t.Differed == 0
}

// Report is what came of all that was taken in.
func (j *Judging) Report() *evidence.RobustnessReport {
	j.misreads()
	for i := range j.out.Tried {
		t := &j.out.Tried[i]
		t.Fault = t.CountsAgainst()
	}
	return &j.out
}

// misreads finds the input that the version seems to take in another unit than it comes in: with that unit its
// predictions lie much nearer to those of the reference profile.
func (j *Judging) misreads() {
	least := usualOff
	if j.classes {
		least = classOff
	}
	if j.out.Off == nil || j.off < least {
		return
	}
	best, at := j.off*nearer, -1
	for i, off := range j.inUnit {
		t := &j.out.Tried[i]
		if t.Answered == t.Rows && (off < best || off == best && i < at) {
			best, at = off, i
		}
	}
	if at < 0 {
		return
	}
	t := &j.out.Tried[at]
	t.Verdict = evidence.Misreads
	t.Why = fmt.Sprintf("with %s %s its predictions lie %.2g from those of the reference profile, and %.2g with it as "+
		"it comes: the version seems to take it so", t.Input, t.What, best, j.off)
}
