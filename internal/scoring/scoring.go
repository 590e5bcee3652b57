// Package scoring asks a version for predictions of all rows of a table: in batches, several at a time, in flat memory.
// What was answered, and what could not be, stands in files that grow in the order of the rows, and is taken up again
// where it was cut: each row is in one of them, once.
package scoring

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"innerladder/internal/core/job"
	"innerladder/internal/core/replay"
	"innerladder/internal/core/score"
	"innerladder/internal/core/signature"
	"innerladder/internal/intake"
	"innerladder/internal/jobs"
)

// Options say what is asked, of whom, and where it is kept.
type Options struct {
	// Dir is the folder of the job; the table stands in it as TableFile, and Name tells what kind of file it is.
	Dir, Name string
	Signature *signature.Signature
	// Keep are columns of the table that stand beside the answers.
	Keep            []string
	Batch, Parallel int
	// Ask sends one request: the status and the body of the answer, or why there was none.
	Ask func(ctx context.Context, body []byte) (int, []byte, error)
	// Patience is how long a model server may be away before the job gives up.
	Patience time.Duration
	// Told hears how far it is, about once a second.
	Told func(job.Progress)
}

const (
	// noted is how often what was reached is made safe.
	noted = time.Second
	// mostRefused is how many rows in a row may be refused before something else is wrong than the rows, and mostLate
	// how many that were not answered in time.
	mostRefused = 1000
	mostLate    = 20
)

// work is some rows, on their way.
type work struct {
	first int64
	rows  [][]signature.Cell
	// broken says what is wrong with a row as it stands in the file, one for each; share is how far into the table they
	// lead.
	broken []string
	// reasons say why rows were put aside, late that they were not answered in time; lines are their answers.
	reasons []string
	late    []bool
	lines   [][]byte
	columns []string
	form    *score.Form
	share   float64
	ended   chan struct{}
	// refused is how often some of the rows were refused together.
	refused int
	// recorded is the request where it is asked as it was before.
	recorded *replay.Recorded
	result
}

// size is how many rows, or requests, it is.
func (w *work) size() int64 {
	if w.recorded != nil {
		return 1
	}
	return int64(len(w.rows))
}

// result is what became of some rows: lines of answers, lines of what was put aside.
type result struct {
	answers  []byte
	answered int64
	aside    []aside
	tooLate  int
	err      error
}

// aside is a row that was put aside.
type aside struct {
	line   []byte
	reason string
}

// run is one job that goes on.
type run struct {
	Options
	sheet *sheet
	// outputs are the columns of the answers, known from the first on.
	outputs atomic.Pointer[[]string]
	// alone says that the version was found to take one row at a time.
	alone   atomic.Bool
	trouble atomic.Pointer[string]
	rates   rates
	// reads hands work out, and answers finds out what becomes of some: of the rows of a table, or of other requests.
	reads   func(ctx context.Context, todo, order chan<- *work) error
	answers func(ctx context.Context, w *work) result
}

// Run asks for all rows that were not asked for before. When ctx ends, what was reached is safe, and Run can be called
// again.
func Run(ctx context.Context, o Options) (job.Progress, error) {
	s, err := openSheet(o.Dir)
	if err != nil {
		return job.Progress{}, err
	}
	defer s.Close()
	t, err := intake.OpenTable(o.Name, TableIn(o.Dir))
	if err != nil {
		return s.progress(), err
	}
	defer t.Close()
	if err := t.Skip(s.at.Rows); err != nil && !errors.Is(err, io.EOF) {
		return s.progress(), err
	}
	r := &run{Options: o, sheet: s}
	if len(s.at.Outputs) > 0 {
		names := slices.Clone(s.at.Outputs)
		r.outputs.Store(&names)
	}
	r.alone.Store(s.at.Alone)
	r.answers = r.answer
	r.reads = func(ctx context.Context, todo, order chan<- *work) error { return r.read(ctx, t, todo, order) }
	err = r.all(ctx)
	return s.progress(), err
}

// all goes through all that is asked: one reader, several who ask, and one who writes in the order of the rows.
func (r *run) all(ctx context.Context) error {
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	todo, order := make(chan *work), make(chan *work, 2*r.Parallel)
	var crew sync.WaitGroup
	crew.Go(func() {
		defer close(order)
		defer close(todo)
		if err := jobs.Safely(func() error { return r.reads(ctx, todo, order) }); err != nil {
			stop(err)
		}
	})
	for range r.Parallel {
		crew.Go(func() {
			for w := range todo {
				if err := jobs.Safely(func() error { w.result = r.answers(ctx, w); return nil }); err != nil {
					w.err = err
				}
				close(w.ended)
			}
		})
	}
	err := r.write(ctx, order)
	if err != nil {
		stop(err)
	}
	for range order { // what is under way ends, and counts for nothing
	}
	crew.Wait()
	if cause := context.Cause(ctx); err == nil && cause != nil {
		err = cause
	}
	return err
}

// read hands rows out, first to who asks and then to who writes.
func (r *run) read(ctx context.Context, t *intake.Table, todo, order chan<- *work) error {
	form, err := r.form(t)
	if err != nil {
		return err
	}
	at := r.sheet.at.Rows
	for {
		rows, err := t.Next(r.Batch)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		columns := t.Columns()
		if len(columns) != len(form.columns) { // of JSON, a column may come late
			if form, err = r.form(t); err != nil {
				return err
			}
		}
		w := &work{
			first: at, rows: rows, columns: columns, form: form.Form, share: t.Share(), ended: make(chan struct{}),
			broken: make([]string, len(rows)),
		}
		for i, row := range rows {
			w.broken[i] = t.Broken(row)
		}
		at += int64(len(rows))
		if !hand(ctx, w, todo, order) {
			return nil
		}
	}
}

// hand hands some work out, first to who writes and then to who asks; false when ctx has ended.
func hand(ctx context.Context, w *work, todo, order chan<- *work) bool {
	select {
	case order <- w:
	case <-ctx.Done():
		return false
	}
	select {
	case todo <- w:
		return true
	case <-ctx.Done():
		w.err = ctx.Err()
		close(w.ended)
		return false
	}
}

// formed is a form with the columns that it was made for.
type formed struct {
	*score.Form
	columns []string
}

func (r *run) form(t *intake.Table) (formed, error) {
	columns := t.Columns()
	f, err := score.NewForm(r.Signature, columns, r.Keep)
	if err == nil {
		err = r.sheet.keeps(f.Kept)
	}
	return formed{f, columns}, err
}

// write keeps what became of rows, in their order. Rows that are refused one after the other wait for one that is
// answered: where none is, something else is wrong, and they are asked again another time.
func (r *run) write(ctx context.Context, order <-chan *work) error {
	tick := time.NewTicker(noted)
	defer tick.Stop()
	held, late := result{}, 0
	var heldTo int64
	share := 0.0
	for {
		select {
		case <-tick.C:
			if err := r.note(); err != nil {
				return err
			}
		case w, more := <-order:
			if !more {
				if ctx.Err() != nil {
					return errors.Join(r.note(), context.Cause(ctx))
				}
				r.sheet.add(held, heldTo, share) // the table has ended
				return r.note()
			}
			if err := r.wait(ctx, w, tick.C); err != nil {
				return errors.Join(r.note(), err)
			}
			heldTo, share = w.first+w.size(), w.share
			held.answers, held.answered = append(held.answers, w.answers...), held.answered+w.answered
			held.aside = append(held.aside, w.aside...)
			late += w.tooLate
			if w.answered == 0 && (len(held.aside) >= mostRefused || late >= mostLate) {
				return errors.Join(r.note(), fmt.Errorf("the last %d rows were all refused, so it is not the rows: %s",
					len(held.aside), held.aside[len(held.aside)-1].reason))
			}
			if w.answered > 0 {
				r.sheet.add(held, heldTo, share)
				held, late = result{}, 0
			}
		}
	}
}

// wait waits for some rows to end, and goes on noting meanwhile.
func (r *run) wait(ctx context.Context, w *work, tick <-chan time.Time) error {
	for {
		select {
		case <-w.ended:
			return w.err
		case <-tick:
			if err := r.note(); err != nil {
				return err
			}
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}

// note makes safe what was reached, and tells it.
func (r *run) note() error {
	if names := r.outputs.Load(); names != nil {
		r.sheet.at.Outputs = *names
	}
	r.sheet.at.Alone = r.alone.Load()
	if err := r.sheet.safe(); err != nil {
		return err
	}
	p := r.sheet.progress()
	p.Rate, p.Left = r.rates.of(p, time.Now())
	if why := r.trouble.Load(); why != nil {
		p.Trouble = *why
	}
	r.Told(p)
	return nil
}

// rates are what was reached in the last seconds.
type rates struct {
	at   []time.Time
	rows []int64
}

// of is how many rows end in a second, and how many seconds the rest takes.
func (x *rates) of(p job.Progress, now time.Time) (rate, left float64) {
	x.at, x.rows = append(x.at, now), append(x.rows, p.Rows)
	if len(x.at) > 10 {
		x.at, x.rows = x.at[1:], x.rows[1:]
	}
	last := len(x.at) - 1
	if took := x.at[last].Sub(x.at[0]).Seconds(); took > 0 {
		rate = float64(x.rows[last]-x.rows[0]) / took
	}
	if rate > 0 && p.Share > 0 {
		left = float64(p.Rows) * (1/p.Share - 1) / rate
	}
	return rate, left
}
