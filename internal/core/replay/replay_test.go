package replay

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"innerladder/internal/core/evidence"
	"innerladder/internal/core/outcome"
	"innerladder/internal/core/request"
	"innerladder/internal/core/sketch"
)

func kept(i int) *request.Kept {
	return &request.Kept{
		ID: fmt.Sprintf("019ac2d4-0000-7000-8000-%012d", i), Version: "heat-demand@2", Lane: "main",
		Outcome: request.Answered, Status: 200, Ended: time.Unix(int64(i), 0),
		Request: json.RawMessage(fmt.Sprintf(`{"inputs":[{"name":"x","shape":[1],"data":[%d]},`+
			`{"name":"mix","shape":[1],"data":[%q]}]}`, i, []string{"old-town", "harbour"}[i%2])),
		Answer: json.RawMessage(`{"outputs":[{"name":"y","datatype":"FP64","shape":[1],"data":[1]}]}`),
	}
}

// A sample has each request with the same chance, is the same whatever the order, and stands in the order of time.
func TestSampleIsEven(t *testing.T) {
	const n, most = 20_000, 1000
	all := make([]*request.Kept, n)
	for i := range all {
		all[i] = kept(i)
	}
	one := Sample{Most: most}
	for _, k := range all {
		one.Offer(k)
	}
	rand.New(rand.NewPCG(1, 2)).Shuffle(n, func(i, j int) { all[i], all[j] = all[j], all[i] })
	other := Sample{Most: most}
	for _, k := range all {
		other.Offer(k)
	}
	a, b := one.Taken(), other.Taken()
	if len(a) != most || one.Found != n || !slices.EqualFunc(a, b, func(x, y Recorded) bool { return x.ID == y.ID }) {
		t.Fatalf("%d and %d taken of %d", len(a), len(b), one.Found)
	}
	early := 0
	for i, r := range a {
		if r.Ended.Unix() < n/4 {
			early++
		}
		if i > 0 && r.Ended.Before(a[i-1].Ended) {
			t.Fatal("not in the order of time")
		}
	}
	if early < 195 || early > 305 { // 250, by four standard deviations
		t.Errorf("%d of %d from the first quarter", early, most)
	}
	few := Sample{}
	for i := range 30 {
		few.Offer(kept(i))
	}
	if got := few.Taken(); len(got) != 30 {
		t.Errorf("%d of 30", len(got))
	}
}

func TestWhatCannotBeAskedAgain(t *testing.T) {
	s := Sample{}
	for _, do := range []func(*request.Kept){
		func(k *request.Kept) { k.Lane, k.Version = request.RefusedLane, "" },
		func(k *request.Kept) { k.Request = nil },
		func(k *request.Kept) { k.RequestNote = "without mix" },
		func(k *request.Kept) { k.Request, k.RequestNote = nil, "larger than is kept" },
		func(*request.Kept) {},
	} {
		k := kept(1)
		do(k)
		s.Offer(k)
	}
	if s.Found != 1 || len(s.LeftOut) != 4 || s.LeftOut["its request is not kept as it was: without mix"] != 1 {
		t.Errorf("%d found, left out: %v", s.Found, s.LeftOut)
	}
}

func outputs(values ...any) []sketch.Output {
	return []sketch.Output{{Name: "y", Rows: len(values), Data: values}}
}

func TestSideBySide(t *testing.T) {
	j := &Judging{Tolerance: 0.05, Truth: map[string][]outcome.Pair{}}
	for i := range 100 {
		r, _ := Of(kept(i))
		r.TookUS = 1000
		a := &Answered{Status: 200, Took: 2 * time.Millisecond, Then: outputs(1.0), Now: outputs(1.01)}
		switch {
		case i == 0:
			a = &Answered{Status: 500, Why: "status 500: no wind"}
		case i == 1:
			r.Outcome, r.Status = request.ServerError, 500
		case i == 2:
			a.Now = nil
		case i%2 == 1:
			a.Now = outputs(3.0)
		}
		if i%4 < 2 && i > 2 {
			j.Truth[r.ID] = []outcome.Pair{{Request: r.ID, Output: "y", Number: true, Predicted: 1, Truth: 1.5}}
		}
		j.Take(&r, a)
	}
	limit := 0.1
	got, err := j.Report("heat-demand@2", map[string]evidence.Limit{"disagreement": {AtMost: &limit}})
	if err != nil {
		t.Fatal(err)
	}
	if got.Replayed != 100 || got.Requests != 97 || got.Disagreed != 49 || got.Failed != 1 || got.FailedThen != 1 ||
		got.Recovered != 1 || got.Unread != 1 || got.Failures["status 500"] != 1 {
		t.Errorf("%+v", got)
	}
	if s := got.Segments[0]; s.Name != "mix: harbour" || !s.Worse || s.Metrics["apart"] != 2 {
		t.Errorf("%+v", got.Segments)
	}
	if got.Slower == nil || got.Slower.Value < 1.99 || got.Slower.Value > 2.01 {
		t.Errorf("%+v", got.Slower)
	}
	// Of those whose truth is known, half are 0.49 off where they were 0.5 off, and half 1.5.
	d := got.Truth.Against.Difference("mae")
	if d == nil || d.Verdict != evidence.Worse || d.Was != 0.5 || got.Truth.Rows != 48 {
		t.Errorf("%+v of %d rows", d, got.Truth.Rows)
	}
	for _, w := range append(got.Truth.Against.Worst, got.Truth.Worst...) {
		if w.Inputs != nil {
			t.Errorf("what was asked is in the report: %+v", w)
		}
	}
	if x := got.Values()["disagreement"]; x != 49.0/97 {
		t.Errorf("%v", x)
	}
	none, err := (&Judging{}).Report("m@1", nil)
	if err != nil || none.Truth != nil || len(none.Values()) != 0 {
		t.Errorf("%+v, %v", none, err)
	}
}

func TestClassesSideBySide(t *testing.T) {
	j := &Judging{Tolerance: 0.05, Truth: map[string][]outcome.Pair{}}
	for i := range 60 {
		r, _ := Of(kept(i))
		then, now := "ok", "ok"
		if i%3 == 0 {
			now = "leaking"
		}
		j.Truth[r.ID] = []outcome.Pair{{Request: r.ID, Output: "y", PredictedClass: then, TruthClass: now}}
		j.Take(&r, &Answered{Status: 200, Then: outputs(then), Now: outputs(now)})
	}
	got, err := j.Report("valve-fault@1", nil)
	if err != nil || got.Disagreed != 20 || got.Segments[0].Metrics["disagreement"] == 0 ||
		got.Truth.Metrics["accuracy"] != 1 || got.Truth.Against.Difference("accuracy").Verdict != evidence.Better {
		t.Errorf("%+v, %v", got, err)
	}
}
