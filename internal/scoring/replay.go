package scoring

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/core/job"
	"innerladder/internal/core/replay"
	"innerladder/internal/core/request"
	"innerladder/internal/core/signature"
	"innerladder/internal/core/sketch"
	"innerladder/internal/oip"

	"github.com/tidwall/gjson"
	"golang.org/x/time/rate"
)

// ReplayOptions say what is asked again, of whom, and where it is kept.
type ReplayOptions struct {
	// Dir is the folder of the job; the requests stand in it as its table, one a line, Count of them.
	Dir   string
	Count int64
	// Rate is how many are asked a second at most, Parallel how many are under way.
	Rate     float64
	Parallel int
	// Tolerance is how far apart numbers may be that agree, as a share of the larger.
	Tolerance float64
	Ask       func(ctx context.Context, body []byte) (int, []byte, error)
	Patience  time.Duration
	Told      func(job.Progress)
}

// mostReplayRows is how many rows of an answer are looked at.
const mostReplayRows = 100_000

// The columns of what is found, beside the number of the request.
var (
	replayKept    = []string{"request", "ended", "answered_by", "status_then", "ms_then"}
	replayOutputs = []string{"status", "ms", "agreed", "apart", "then", "now", "why", "answer"}
)

// WriteRequests writes the requests that are asked again, one a line, and makes them safe.
func WriteRequests(file string, all []replay.Recorded) error {
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	out := bufio.NewWriterSize(f, 1<<16)
	enc := json.NewEncoder(out)
	for i := range all {
		if err = enc.Encode(&all[i]); err != nil {
			break
		}
	}
	return errors.Join(err, out.Flush(), f.Sync(), f.Close())
}

// EachRequest hands the requests of a job to a function, from the nth on.
func EachRequest(dir string, from int64, do func(n int64, r *replay.Recorded) error) error {
	f, err := os.Open(TableIn(dir))
	if err != nil {
		return err
	}
	defer f.Close()
	dec := json.NewDecoder(bufio.NewReaderSize(f, 1<<16))
	for n := int64(0); ; n++ {
		var r replay.Recorded
		if err := dec.Decode(&r); errors.Is(err, io.EOF) {
			return nil
		} else if err != nil {
			return err
		}
		if n >= from {
			if err := do(n, &r); err != nil {
				return err
			}
		}
	}
}

// Replay asks a version all requests that were not asked again before. When ctx ends, what was reached is safe, and it
// can be called again.
func Replay(ctx context.Context, o ReplayOptions) (job.Progress, error) {
	s, err := openSheet(o.Dir)
	if err != nil {
		return job.Progress{}, err
	}
	defer s.Close()
	if err := s.keeps(replayKept); err != nil {
		return s.progress(), err
	}
	limit := rate.NewLimiter(rate.Limit(o.Rate), 1)
	r := &run{Options: Options{Parallel: o.Parallel, Ask: o.Ask, Patience: o.Patience, Told: o.Told}, sheet: s}
	names := slices.Clone(replayOutputs)
	r.outputs.Store(&names)
	r.reads = func(ctx context.Context, todo, order chan<- *work) error {
		err := EachRequest(o.Dir, s.at.Rows, func(n int64, recorded *replay.Recorded) error {
			if err := limit.Wait(ctx); err != nil {
				return context.Cause(ctx)
			}
			w := &work{first: n, recorded: recorded, ended: make(chan struct{})}
			w.share = float64(n+1) / float64(max(1, o.Count))
			if !hand(ctx, w, todo, order) {
				return context.Cause(ctx)
			}
			return nil
		})
		if ctx.Err() != nil {
			return nil // that is said by who waits
		}
		return err
	}
	r.answers = func(ctx context.Context, w *work) result { return r.again(ctx, w, o.Tolerance) }
	err = r.all(ctx)
	return s.progress(), err
}

// again asks a recorded request, and writes down what came of it beside what was answered then. A server that cannot be
// reached is waited for; whatever it answers itself counts.
func (r *run) again(ctx context.Context, w *work, tolerance float64) (out result) {
	begun, pause := time.Now(), firstPause
	var a replay.Answered
	var answer []byte
	for {
		sent := time.Now()
		var asked error
		a.Status, answer, asked = r.Ask(ctx, w.recorded.Request)
		a.Took = time.Since(sent)
		if ctx.Err() != nil {
			out.err = context.Cause(ctx)
			return out
		}
		away := ""
		switch {
		case asked != nil && asked.Error() == oip.NoAnswerInTime:
			a.Status, a.Why = 0, asked.Error()
		case asked != nil:
			away = asked.Error()
		case a.Status == http.StatusTooManyRequests, a.Status == http.StatusServiceUnavailable:
			away = fmt.Sprintf("it answers with status %d%s", a.Status, SaidIn(answer))
		case a.Status != http.StatusOK:
			a.Why = fmt.Sprintf("status %d%s", a.Status, SaidIn(answer))
		}
		if away == "" {
			r.trouble.Store(nil)
			break
		}
		r.trouble.Store(&away)
		if time.Since(begun) > r.Patience {
			out.err = fmt.Errorf("%w: %s, for %v", errAway, away, time.Since(begun).Round(time.Second))
			return out
		}
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			out.err = context.Cause(ctx)
			return out
		}
		pause = min(2*pause, longestPause)
	}
	out.answers, out.answered = append(replayLine(w, &a, answer, tolerance), '\n'), 1
	return out
}

// replayLine is what came of one request, in the columns of replayKept and replayOutputs.
func replayLine(w *work, a *replay.Answered, answer []byte, tolerance float64) []byte {
	rec := w.recorded
	agreed, apart := "null", "null"
	if a.Why == "" && len(rec.Answer) > 0 {
		takeApart(a, rec.Answer, answer)
		if v := replay.One(a, tolerance); v.Compared {
			agreed, apart = strconv.FormatBool(v.Agreed), strconv.FormatFloat(v.Apart, 'g', -1, 64)
		}
	}
	line := strconv.AppendInt([]byte{'['}, w.first+1, 10)
	for _, text := range []string{rec.ID, rec.Ended.UTC().Format(time.RFC3339Nano), rec.Version} {
		line = signature.AppendText(append(line, ','), text)
	}
	ms := func(d time.Duration) string { return strconv.FormatFloat(d.Seconds()*1000, 'f', 3, 64) }
	for _, raw := range []string{
		strconv.Itoa(rec.Status), ms(time.Duration(rec.TookUS) * time.Microsecond), strconv.Itoa(a.Status),
		ms(a.Took), agreed, apart,
	} {
		line = append(append(line, ','), raw...)
	}
	for _, text := range []string{inShort(a.Then), inShort(a.Now), a.Why, string(answer)} {
		line = signature.AppendText(append(line, ','), text)
	}
	return append(line, ']')
}

// mostInShort is how many values of an output are written in short.
const mostInShort = 8

// inShort are outputs in a few words: demand_mw 1.234.
func inShort(all []sketch.Output) string {
	var parts []string
	for _, o := range all {
		var values []string
		for _, v := range o.Data[:min(len(o.Data), mostInShort)] {
			if x, is := v.(float64); is {
				values = append(values, strconv.FormatFloat(x, 'g', 6, 64))
			} else {
				values = append(values, fmt.Sprint(v))
			}
		}
		if len(o.Data) > mostInShort {
			values = append(values, "…")
		}
		parts = append(parts, o.Name+" "+strings.Join(values, " "))
	}
	return strings.Join(parts, ", ")
}

// Replayed hands every request of a job that was asked again to a function, with what was answered then and now.
func Replayed(dir string, do func(r *replay.Recorded, a *replay.Answered) error) error {
	var requests []replay.Recorded
	if err := EachRequest(dir, 0, func(_ int64, r *replay.Recorded) error {
		requests = append(requests, *r)
		return nil
	}); err != nil {
		return err
	}
	status, took := 1+len(replayKept), 2+len(replayKept)
	why, answer := status+slices.Index(replayOutputs, "why"), status+slices.Index(replayOutputs, "answer")
	return Each(dir, func(Columns) error { return nil }, func(values []gjson.Result) error {
		n := values[0].Int() - 1
		if n < 0 || n >= int64(len(requests)) || len(values) <= answer {
			return errors.New("what was answered is not of the requests that were asked")
		}
		r := &requests[n]
		a := &replay.Answered{
			Status: int(values[status].Int()), Took: time.Duration(values[took].Num * float64(time.Millisecond)),
			Why: values[why].Str,
		}
		if a.Why == "" && len(r.Answer) > 0 && r.Outcome == request.Answered {
			takeApart(a, r.Answer, []byte(values[answer].Str))
		}
		return do(r, a)
	})
}

// takeApart takes both answers apart, as far as they can be.
func takeApart(a *replay.Answered, then, now []byte) {
	if outputs, err := oip.Outputs(then, mostReplayRows); err == nil {
		a.Then = outputs
	}
	if outputs, err := oip.Outputs(now, mostReplayRows); err == nil {
		a.Now = outputs
	}
}
