package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"innerladder/internal/client"
	"innerladder/internal/core/elsewhere"
	"innerladder/internal/core/sketch"
	"innerladder/internal/wire"
)

// Options say what an agent does.
type Options struct {
	Service  service
	Endpoint string
	// Dir is its folder, Name what people call it.
	Dir, Name string
	// Files are read from where they were left, and followed as they grow; Input is read to its end, where it is not
	// nil.
	Files []string
	Input io.Reader
	// Listen is the address where observations may be posted, empty for none; Key is what whoever posts must have,
	// empty for nothing.
	Listen, Key string
	// Once ends it when all that is there was told.
	Once bool
	// Again takes up what was put aside before.
	Again bool
	// Limit is how many bytes may wait on disk.
	Limit int64
	// Pace is how often lines are summed up; 0 is every two seconds.
	Pace time.Duration
	Reading
	Log *slog.Logger
	// Started is told where it listens, once it does.
	Started func(address string)
	// Now is the clock; nil is the real one.
	Now func() time.Time
}

// Told is what an agent told the service of.
type Told struct {
	Requests uint64 `json:"requests"`
	Batches  int    `json:"batches"`
	Aside    int    `json:"aside"`
	TooOld   uint64 `json:"too_old"`
	Refused  int    `json:"refused_batches"`
}

const (
	// usualPace is how often lines are summed up, calm how often while the service is away: then more becomes of each
	// batch.
	usualPace = 2 * time.Second
	calm      = 30 * time.Second
	// answersWithin is how long the service may take to answer.
	answersWithin = time.Minute
	// firstPause and longestPause bound the time until it is tried again.
	firstPause, longestPause = 500 * time.Millisecond, 30 * time.Second
)

// agent is one that runs.
type agent struct {
	Options
	spool *spool
	known known
	// ended is set when no more lines come, unasked and untold while the service does not say how to count, or does not
	// take what it is told.
	ended, unasked, untold atomic.Bool
	// came is rung when lines came, made when a batch was made.
	came, made chan struct{}

	mu    sync.Mutex
	told  Told
	aside int64
}

// Run runs an agent until ctx is done, or until all was told where it runs once. It says what it told the service of.
func Run(ctx context.Context, o Options) (Told, error) {
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Pace == 0 {
		o.Pace = usualPace
	}
	if err := o.Check(); err != nil {
		return Told{}, err
	}
	s, err := openSpool(ctx, o.Dir, o.Endpoint, o.Limit)
	if ctx.Err() != nil && err != nil {
		return Told{}, nil // it was ended before it began
	}
	if err != nil {
		return Told{}, err
	}
	a := &agent{
		Options: o, spool: s, came: make(chan struct{}, 1), made: make(chan struct{}, 1),
		known: known{versions: map[string]string{}, bins: map[column]sketch.Bins{}},
	}
	if err = a.run(ctx); ctx.Err() != nil && errors.Is(err, ctx.Err()) {
		err = nil // it was ended, and that is all
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.told, errors.Join(err, s.close())
}

func (a *agent) run(ctx context.Context) error {
	if err := a.spool.db.Read.QueryRowContext(ctx, `SELECT count(*) FROM aside`).Scan(&a.aside); err != nil {
		return err
	}
	if a.Again {
		lines, batches, err := a.spool.again(ctx, a.Now())
		if err != nil {
			return err
		}
		a.aside = 0
		a.Log.Info("what was put aside is taken up again", "lines", lines, "batches", batches)
	}
	if err := a.ask(ctx, wire.AgentMet{}); hopeless(err) { // better known now than after a day
		return err
	}
	inner, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	var all, sources sync.WaitGroup
	fail := func(f func(context.Context) error) func() {
		return func() {
			if err := f(inner); err != nil && inner.Err() == nil {
				stop(err)
			}
		}
	}
	for _, path := range a.Files {
		sources.Go(fail(func(ctx context.Context) error { return a.readFile(ctx, path) }))
	}
	if a.Input != nil {
		sources.Go(fail(a.readInput))
	}
	if a.Listen != "" {
		l, err := a.listen(inner)
		if err != nil {
			return err
		}
		sources.Go(fail(l))
	}
	all.Go(func() {
		sources.Wait()
		a.ended.Store(true)
		ring(a.came)
	})
	all.Go(fail(a.sumAll))
	all.Go(fail(func(ctx context.Context) error {
		if err := a.sendAll(ctx); err != nil {
			return err
		}
		stop(nil) // all was told
		return nil
	}))
	all.Wait()
	if cause := context.Cause(inner); cause != nil && !errors.Is(cause, context.Canceled) {
		return cause
	}
	return nil
}

// ring wakes whoever waits.
func ring(bell chan struct{}) {
	select {
	case bell <- struct{}{}:
	default:
	}
}

// wait waits until a bell rings or a time is over; it reports whether to go on.
func wait(ctx context.Context, bell <-chan struct{}, at time.Duration) bool {
	t := time.NewTimer(at)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-bell:
	case <-t.C:
	}
	return ctx.Err() == nil
}

// take takes lines in. It waits while as much waits as may.
func (a *agent) take(ctx context.Context, lines []byte, p *position) error {
	for first := true; ; first = false {
		err := a.spool.put(ctx, lines, a.Now(), p)
		if !errors.Is(err, errFull) {
			ring(a.came)
			return err
		}
		if first {
			a.Log.Warn("as much waits as may; nothing more is read until the service has taken some", "bytes", a.Limit)
		}
		if !wait(ctx, nil, time.Second) {
			return ctx.Err()
		}
	}
}

// sumAll sums lines up as they come.
func (a *agent) sumAll(ctx context.Context) error {
	t := tries{says: "lines wait until the service says how to count them"}
	for {
		more, err := a.sum(ctx)
		again, err := a.tryAgain(ctx, &t, err)
		a.unasked.Store(t.failing)
		if !again {
			return err
		}
		if t.failing {
			continue
		}
		switch {
		case more:
			continue
		case a.ended.Load():
			ring(a.made) // the sender sees that it was the last
		}
		if !wait(ctx, a.came, longEnough/4) {
			return nil
		}
		at := a.Pace
		if a.untold.Load() {
			at = calm
		}
		if !a.ended.Load() && !wait(ctx, nil, at) { // so that more becomes of a batch
			return nil
		}
	}
}

// tries are those of one thing that the service has to do.
type tries struct {
	// says is what it means while it does not.
	says string
	// failing is set while it does not, since when; pause is how long it is waited until the next.
	failing bool
	since   time.Time
	pause   time.Duration
}

// patience is for how long an agent that is to end tries to tell what it has.
const patience = 30 * time.Second

// tryAgain takes note of how a try ended, and reports whether to go on. Where the service did not do what it was asked,
// it waits before that, longer each time; an agent that only had to tell what is there says why it ends before it
// could.
func (a *agent) tryAgain(ctx context.Context, t *tries, err error) (bool, error) {
	if ctx.Err() != nil {
		return false, nil
	}
	var wrong *failing
	switch {
	case err == nil:
		if t.failing {
			a.Log.Info("the service does what it is asked again")
		}
		t.failing = false
		return true, nil
	case !errors.As(err, &wrong):
		return false, err
	}
	now := a.Now()
	if !t.failing {
		t.failing, t.since, t.pause = true, now, firstPause
		a.Log.Warn(t.says, "error", wrong.error)
	}
	if a.ended.Load() && a.ends() && (hopeless(err) || now.Sub(t.since) > patience) {
		return false, fmt.Errorf("%w; all that was not told is kept in %s: run it again", err, a.Dir)
	}
	goesOn := wait(ctx, nil, t.pause)
	t.pause = min(2*t.pause, longestPause)
	return goesOn, nil
}

// ends reports whether the agent ends by itself.
func (a *agent) ends() bool { return a.Once || len(a.Files)+len(a.Listen) == 0 }

// hopeless reports whether the service answers and will not do what it is asked, until somebody changes something.
func hopeless(err error) bool {
	var p *client.Problem
	return errors.As(err, &p) && p.Status >= 400 && p.Status < 500 && p.Status != http.StatusRequestTimeout &&
		p.Status != http.StatusTooManyRequests
}

// failing is that the service does not answer, or not well: it is asked again.
type failing struct{ error }

// Unwrap is why.
func (f *failing) Unwrap() error { return f.error }

// sum sums up what came first; more says that it may go on at once.
func (a *agent) sum(ctx context.Context) (more bool, err error) {
	chunks, err := a.spool.next(ctx, atOnce)
	if err != nil || len(chunks) == 0 {
		return false, err
	}
	now := a.Now()
	all, aside := a.parse(chunks, now)
	versions, values := a.known.met(all)
	patient := now.Sub(chunks[0].at) < longEnough && !a.ended.Load() && !a.Once
	var ask wire.AgentMet
	unsure := false
	for c, v := range values {
		if len(v) < enough && patient {
			unsure = true // but the service may have its bins
		}
		if bins := sketch.BinsOfValues(clipped(v)); bins.Defined() && (len(v) >= enough || !patient) {
			ask.Columns = append(ask.Columns, wire.AgentColumn{Side: c.side, Name: c.name, Bins: bins})
		}
	}
	ask.Versions = versions
	if len(versions)+len(values) > 0 {
		if err := a.ask(ctx, ask); err != nil {
			return false, err
		}
	}
	if unsure {
		for c := range values {
			if _, there := a.known.bins[c]; !there {
				return false, nil // more of it comes, or two minutes will be over
			}
		}
	}
	windows, odds := a.known.windows(all)
	for v, ref := range a.known.versions { // it may be registered later
		if ref == "" {
			delete(a.known.versions, v)
		}
	}
	aside = append(aside, odds...)
	a.mu.Lock()
	a.told.Aside += len(aside)
	a.aside += int64(len(aside))
	putAside := a.aside
	a.mu.Unlock()
	if len(aside) > 0 {
		a.Log.Warn("lines were put aside", "lines", len(aside), "why", aside[0].why)
	}
	batches, err := batchesOf(windows, a.Name, putAside)
	if err != nil {
		return false, err
	}
	if err := a.spool.sum(ctx, chunks, batches, aside, now); err != nil {
		return false, err
	}
	ring(a.made)
	return true, nil
}

// ask asks the service for versions and bins.
func (a *agent) ask(ctx context.Context, in wire.AgentMet) error {
	const most = 200
	for {
		part := wire.AgentMet{
			Versions: in.Versions[:min(most, len(in.Versions))], Columns: in.Columns[:min(most, len(in.Columns))],
		}
		soon, stop := context.WithTimeout(ctx, answersWithin)
		out, err := a.Service.AgentMet(soon, a.Endpoint, a.spool.id(), part)
		stop()
		if err != nil {
			return &failing{err}
		}
		for _, v := range part.Versions {
			a.known.versions[v] = out.Versions[v]
		}
		for _, c := range out.Columns {
			a.known.bins[column{c.Side, c.Name}] = c.Bins
		}
		in.Versions, in.Columns = in.Versions[len(part.Versions):], in.Columns[len(part.Columns):]
		if len(in.Versions)+len(in.Columns) == 0 {
			return nil
		}
	}
}

// largestBatch is how many bytes a batch has, about: the service takes four MiB.
const largestBatch = 2 << 20

// batchesOf puts windows into as many batches as they need.
func batchesOf(windows []elsewhere.Window, name string, aside int64) (out []elsewhere.Batch, err error) {
	for len(windows) > 0 {
		b := elsewhere.Batch{Name: name, Aside: aside}
		for bytes := 0; len(windows) > 0 && len(b.Windows) < elsewhere.MostWindows; {
			raw, err := json.Marshal(windows[0])
			if err != nil {
				return nil, fmt.Errorf("writing down what was summed up: %w", err)
			}
			if bytes += len(raw); bytes > largestBatch && len(b.Windows) > 0 {
				break
			}
			b.Windows, windows = append(b.Windows, windows[0]), windows[1:]
		}
		out = append(out, b)
	}
	return out, nil
}

// sendAll tells the service of batches in their order, until all was told where no more come.
func (a *agent) sendAll(ctx context.Context) error {
	t := tries{says: "the service does not take what it is told; it is kept, and tried again"}
	for {
		sent, err := a.send(ctx)
		again, err := a.tryAgain(ctx, &t, err)
		a.untold.Store(t.failing)
		if !again {
			return err
		}
		if sent || t.failing {
			continue
		}
		if over, err := a.over(ctx); over || err != nil {
			return err
		}
		if !wait(ctx, a.made, time.Second) {
			return nil
		}
	}
}

// over reports whether no more lines come and all was told.
func (a *agent) over(ctx context.Context) (bool, error) {
	if !a.ended.Load() || !a.ends() {
		return false, nil
	}
	var n int
	err := a.spool.db.Read.QueryRowContext(ctx, `SELECT (SELECT count(*) FROM raw) +
		(SELECT count(*) FROM batches WHERE refused = '')`).Scan(&n)
	return n == 0, err
}

// send tells the service of the oldest batch; sent is false when there is none.
func (a *agent) send(ctx context.Context) (sent bool, err error) {
	b, tried, ok, err := a.spool.oldest(ctx)
	if err != nil || !ok {
		return false, err
	}
	b.Waiting = a.spool.waiting.Load()
	soon, stop := context.WithTimeout(ctx, answersWithin)
	defer stop()
	out, err := a.Service.AgentBatch(soon, a.Endpoint, a.spool.id(), b)
	if never(err) {
		a.Log.Error("the service refused a batch, which is put aside", "number", b.Number, "error", err)
		a.mu.Lock()
		a.told.Refused++
		a.mu.Unlock()
		return true, a.spool.refused(ctx, b.Number, err.Error())
	}
	if err != nil {
		return false, &failing{err}
	}
	if out.Again && !tried {
		a.Log.Warn("another agent reports under this one's id, as when a folder was copied; it gets one of its own",
			"id", a.spool.id())
		return true, a.spool.rename(ctx, b.Number)
	}
	if len(out.Left) > 0 {
		a.Log.Warn("columns were counted on other bins than the service's, and left out of a batch", "columns",
			out.Left)
	}
	a.mu.Lock()
	a.told.Batches++
	a.told.TooOld += out.TooOld
	for i := range b.Windows {
		a.told.Requests += b.Windows[i].Counts.Requests
	}
	a.mu.Unlock()
	return true, a.spool.taken(ctx, b.Number)
}

// never reports whether the service will never take what was told, however often it is tried.
func never(err error) bool {
	var p *client.Problem
	if !errors.As(err, &p) {
		return false
	}
	switch p.Problem.Code {
	case "elsewhere.window", "elsewhere.windows", "elsewhere.name", "elsewhere.number", "elsewhere.version":
		return true
	}
	return p.Status == http.StatusRequestEntityTooLarge
}

// String says what was told.
func (t Told) String() string {
	s := fmt.Sprintf("told of %s in %s", some(t.Requests, "request", "s"), some(t.Batches, "batch", "es"))
	if t.Aside > 0 {
		s += fmt.Sprintf("; put aside: %s", some(t.Aside, "line", "s"))
	}
	if t.Refused > 0 {
		s += fmt.Sprintf("; refused: %s", some(t.Refused, "batch", "es"))
	}
	if t.TooOld > 0 {
		s += fmt.Sprintf("; of before anything is kept: %s", some(t.TooOld, "request", "s"))
	}
	return s
}

// some writes a number of things.
func some[N int | uint64](n N, one, more string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprint(n, " ", one, more)
}
