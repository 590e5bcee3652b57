package proof

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"time"

	"innerladder/internal/app/traffic"
	"innerladder/internal/core/score"
	"innerladder/internal/core/signature"
	"innerladder/internal/oip"
	"innerladder/internal/scoring"

	"golang.org/x/sync/errgroup"
)

const (
	// rowWait is how long an answer may take.
	rowWait = 20 * time.Second
	// backWithin is how long a server that went away may take to be back, backPause between two looks.
	backWithin = 45 * time.Second
	backPause  = 200 * time.Millisecond
	// mostLost is how many of some rows may be lost or late; then the rest of them is not asked.
	mostLost = 3
	// mostTries is how often a server is asked that has too much to do.
	mostTries = 5
)

// asking asks a borrowed version about rows of our own making, and reads one output of the answers.
type asking struct {
	*traffic.Borrowed
	// first is a row by which it is seen whether anybody answers.
	first  signature.Row
	output string
	// together is how many rows are asked with one request: as many as were answered so.
	together int
}

// rows asks rows, so many with one request. Where such a request is not answered well, and that is not what is tested,
// each of its rows is asked alone.
func (a *asking) rows(ctx context.Context, rows []signature.Row, batch int) (out []score.Answer, took time.Duration,
	err error,
) {
	lost, tested := 0, batch > a.together
	for chunk := range slices.Chunk(rows, batch) {
		got, spent, err := a.some(ctx, chunk)
		if err != nil {
			return nil, 0, err
		}
		took += spent
		if len(chunk) > 1 && !tested && !allFine(got) {
			one, spent, err := a.rows(ctx, chunk, 1)
			if err != nil {
				return nil, 0, err
			}
			got, took = one, took+spent
		}
		out = append(out, got...)
		for _, a := range got {
			if a.Status == 0 {
				lost++
			}
		}
		if lost >= mostLost {
			break
		}
	}
	return out, took, nil
}

func allFine(all []score.Answer) bool {
	return !slices.ContainsFunc(all, func(a score.Answer) bool { return !a.Fine() })
}

// inBatches finds out whether several rows are answered with one request; from then on so many are asked at once.
func (a *asking) inBatches(ctx context.Context, rows []signature.Row, batch int) error {
	some := rows[:min(len(rows), batch)]
	if len(some) < 2 {
		return nil
	}
	got, _, err := a.some(ctx, some)
	if err == nil && allFine(got) {
		a.together = batch
	}
	return err
}

// many asks rows, as many with one request as are answered so, so many requests at a time. Told hears of rows that have
// ended. A row that was not asked any more, because too many of those beside it were lost, has no status.
func (a *asking) many(ctx context.Context, rows []signature.Row, width int, told func(int)) ([]score.Answer, error) {
	out := make([]score.Answer, len(rows))
	g, inside := errgroup.WithContext(ctx)
	g.SetLimit(width)
	for at := 0; at < len(rows); at += a.together {
		some := rows[at:min(len(rows), at+a.together)]
		g.Go(func() error {
			got, _, err := a.rows(inside, some, a.together)
			copy(out[at:], got)
			if err == nil {
				told(len(some))
			}
			return err
		})
	}
	return out, g.Wait()
}

// atOnce asks rows one by one, so many at the same time.
func (a *asking) atOnce(ctx context.Context, rows []signature.Row, width int) ([]score.Answer, time.Duration,
	error,
) {
	out := make([]score.Answer, len(rows))
	g, inside := errgroup.WithContext(ctx)
	g.SetLimit(width)
	begun := time.Now()
	for i := range rows {
		g.Go(func() error {
			status, answer, err := a.once(inside, rows[i:i+1])
			if context.Cause(ctx) != nil {
				return context.Cause(ctx)
			}
			out[i] = a.read(status, answer, err, 1)[0]
			return nil
		})
	}
	err := g.Wait()
	took := time.Since(begun)
	if err == nil {
		err = a.back(ctx)
	}
	return out, took, err
}

// once sends one request.
func (a *asking) once(ctx context.Context, rows []signature.Row) (int, []byte, error) {
	inside, cancel := context.WithTimeout(ctx, rowWait)
	defer cancel()
	status, answer, err := a.Ask(inside, signature.Together(rows))
	if err != nil && ctx.Err() == nil && inside.Err() != nil {
		err = errors.New(oip.NoAnswerInTime)
	}
	return status, answer, err
}

// some sends one request of several rows. A server that cannot be reached, or has too much to do, is waited for; one
// that went away at the request is asked once more when it is back, because it may have gone for another reason.
func (a *asking) some(ctx context.Context, rows []signature.Row) ([]score.Answer, time.Duration, error) {
	for tries := 1; ; tries++ {
		begun := time.Now()
		status, answer, err := a.once(ctx, rows)
		took := time.Since(begun)
		switch {
		case context.Cause(ctx) != nil:
			return nil, 0, context.Cause(ctx)
		case err != nil && err.Error() != oip.NoAnswerInTime:
			if err := a.back(ctx); err != nil {
				return nil, 0, err
			}
			if tries == 1 {
				continue
			}
		case err == nil && tries < mostTries && (status == http.StatusTooManyRequests ||
			status == http.StatusServiceUnavailable):
			if err := pause(ctx, backPause); err != nil {
				return nil, 0, err
			}
			continue
		}
		return a.read(status, answer, err, len(rows)), took, nil
	}
}

func pause(ctx context.Context, d time.Duration) error {
	select {
	case <-time.After(d):
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// back waits until a row as it is gets any answer.
func (a *asking) back(ctx context.Context) error {
	for begun := time.Now(); ; {
		_, _, err := a.once(ctx, []signature.Row{a.first})
		switch {
		case context.Cause(ctx) != nil:
			return context.Cause(ctx)
		case err == nil:
			return nil
		case time.Since(begun) > backWithin:
			return fmt.Errorf("the model server went away and did not come back within %v: %w", backWithin, err)
		}
		if err := pause(ctx, backPause); err != nil {
			return err
		}
	}
}

// read takes the answer to so many rows apart.
func (a *asking) read(status int, answer []byte, err error, rows int) []score.Answer {
	out := make([]score.Answer, rows)
	all := func(a score.Answer) []score.Answer {
		for i := range out {
			out[i] = a
		}
		return out
	}
	switch {
	case err != nil:
		return all(score.Answer{Why: err.Error()})
	case status != http.StatusOK:
		return all(score.Answer{Status: status, Why: scoring.SaidIn(answer)})
	}
	tensors, err := oip.AnyTensors(answer, "outputs")
	if err != nil {
		return all(score.Answer{Status: status, Why: "the answer cannot be read: " + err.Error()})
	}
	i := slices.IndexFunc(tensors, func(o oip.Tensor) bool { return o.Name == a.output || a.output == "" })
	if i < 0 {
		return all(score.Answer{Status: status, Why: "the answer has no " + a.output})
	}
	data := tensors[i].Data
	wide := len(data) / rows
	if wide == 0 || len(data)%rows != 0 {
		return all(score.Answer{Status: status, Why: fmt.Sprintf("the answer has %d values of %s for %d rows",
			len(data), tensors[i].Name, rows)})
	}
	for k := range out {
		out[k] = score.Answer{Status: status, Values: data[k*wide : (k+1)*wide]}
	}
	return out
}
