// Package requestlog keeps single requests: those that the gateway hands it without ever waiting, in one SQLite
// file for each endpoint and day, which is dropped whole when its time is over. What cannot be kept, because there
// are more than can be written, is counted.
//
// Its promise is that of the signals: a crash may lose the last second.
package requestlog

import (
	"context"
	"errors"
	"log/slog"
	"math"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"time"

	"innerladder/internal/core/request"
	"innerladder/internal/core/sketch"
)

const (
	// queueLength is how many requests may wait to be written, mostWaiting how many bytes of bodies they may have.
	queueLength = 8192
	mostWaiting = 64 << 20
	// flushEvery is how long a request waits at most.
	flushEvery = 250 * time.Millisecond
	// mostAtOnce is how many are written in one go.
	mostAtOnce = 2000
	// mostRare is how many requests with a fault are kept of an endpoint in a second: strangers choose how many there
	// are.
	mostRare = 200
	// usualRoom is how many bytes all logs may have where nothing else is said.
	usualRoom = 20 << 30
	// headBytes is about what a request takes on disk beside its bodies.
	headBytes = 200
)

// Log keeps the requests of all endpoints. It is safe for use by several goroutines at once.
type Log struct {
	log    *slog.Logger
	secret []byte
	files  files
	// looks is how many requests a search looks into before it gives what it has.
	looks int

	queue   chan line
	waiting atomic.Int64
	// unwritten counts what could not be kept.
	unwritten atomic.Uint64
	// room is how many more bytes may be written until old ones are dropped.
	room atomic.Int64

	mu      sync.Mutex
	streams map[int64]*Stream
	// trouble is why the last write failed.
	trouble error
}

// line is a request that waits to be written.
type line struct {
	endpoint int64
	id       [16]byte
	entry    request.Kept
	keeping  *request.Keeping
	// bodies are that of the request, and behind it that of the answer.
	bodies  []byte
	request int
}

// New makes a log in a directory. secret keys the hashes of columns.
func New(dir string, secret []byte, log *slog.Logger) *Log {
	l := &Log{
		log: log, secret: secret, files: files{dir: dir, keeps: mostOpen, open: map[place]*file{}},
		queue: make(chan line, queueLength), streams: map[int64]*Stream{},
		looks: mostLooked,
	}
	l.room.Store(usualRoom - l.Bytes())
	return l
}

// errFull says that no more may be written.
var errFull = errors.New("the logs of requests have all the bytes that they may have; keep less of each endpoint, or " +
	"let them have more")

// Stream is where the gateway hands the requests of one endpoint.
type Stream struct {
	log *Log
	// endpoint is its number, 0 for requests that found none.
	endpoint int64
	name     string
	keeping  atomic.Pointer[request.Keeping]
	// threshold is the probability with which a request without a fault is kept, as a share of 2³²; faultless and
	// rare count those of this second.
	threshold, faultless, rare atomic.Uint64
}

// certain is a probability of 1.
const certain = 1 << 32

// Stream returns the stream of an endpoint, which keeps requests as it is said from now on.
func (l *Log) Stream(endpoint int64, name string, k request.Keeping) *Stream {
	l.mu.Lock()
	defer l.mu.Unlock()
	s := l.streams[endpoint]
	if s == nil {
		s = &Stream{log: l, endpoint: endpoint, name: name}
		l.streams[endpoint] = s
	}
	if was := s.keeping.Swap(&k); was == nil || was.Share != k.Share || was.PerSecond != k.PerSecond {
		s.threshold.Store(thresholdOf(k, 0))
	}
	return s
}

// thresholdOf is the probability with which a request is kept when so many come in a second.
func thresholdOf(k request.Keeping, second uint64) uint64 {
	p := float64(k.Share) / 10_000
	if expected := p * float64(second); k.PerSecond > 0 && expected > float64(k.PerSecond) {
		p *= float64(k.PerSecond) / expected
	}
	return uint64(math.Round(p * certain))
}

// Wants reports whether a request is kept, and with what probability such a one is. rare ones, those with a fault,
// always are.
func (s *Stream) Wants(rare bool) (chance float64, ok bool) {
	if rare {
		if s.rare.Add(1) > mostRare {
			s.log.unwritten.Add(1)
			return 0, false
		}
		return 1, true
	}
	n := s.faultless.Add(1)
	t := s.threshold.Load()
	if t < certain && uint64(rand.Uint32()) >= t {
		return 0, false
	}
	// A second in which traffic jumps is bounded too: what is over twice the bound is left out like what is drawn.
	if most := s.keeping.Load().PerSecond; t == certain && most > 0 && n > 2*uint64(most) {
		return 0, false
	}
	return float64(t) / certain, true
}

// Put hands over a request with its bodies, which are copied. It never waits: where there is no room the request is
// counted as not kept.
func (s *Stream) Put(id [16]byte, e request.Kept, asked, answered []byte) {
	l := line{endpoint: s.endpoint, id: id, entry: e, keeping: s.keeping.Load()}
	l.entry.Endpoint = s.name
	l.entry.RequestBytes, l.entry.AnswerBytes = max(e.RequestBytes, int64(len(asked))), max(e.AnswerBytes,
		int64(len(answered)))
	for _, b := range []struct {
		body *[]byte
		note *string
	}{{&asked, &l.entry.RequestNote}, {&answered, &l.entry.AnswerNote}} {
		if len(*b.body) > l.keeping.Bytes {
			*b.body, *b.note = nil, "larger than is kept"
		}
	}
	size := int64(len(asked) + len(answered))
	if s.log.waiting.Add(size) > mostWaiting {
		s.log.waiting.Add(-size)
		s.log.unwritten.Add(1)
		return
	}
	if size > 0 {
		l.bodies = append(append(make([]byte, 0, size), asked...), answered...)
		l.request = len(asked)
	}
	select {
	case s.log.queue <- l:
	default:
		s.log.waiting.Add(-size)
		s.log.unwritten.Add(1)
	}
}

// Rare reports whether a request is always kept: it failed, was turned away, or another version answered it.
func Rare(c sketch.Class, instead bool) bool { return c != sketch.Answered || instead }

// Tick chooses the probabilities of the next second. It is called once a second.
func (l *Log) Tick() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, s := range l.streams {
		s.threshold.Store(thresholdOf(*s.keeping.Load(), s.faultless.Swap(0)))
		s.rare.Store(0)
	}
}

// Status is how the log itself is.
type Status struct {
	// Waiting is how many requests wait to be written; Unwritten counts those that could not be kept.
	Waiting   int
	Unwritten uint64
	// Trouble is why nothing is written now, empty when all is well.
	Trouble string
}

// Status says how the log is now.
func (l *Log) Status() Status {
	l.mu.Lock()
	defer l.mu.Unlock()
	s := Status{Waiting: len(l.queue), Unwritten: l.unwritten.Load()}
	// What was full is not any more when something was dropped, also before the next request comes.
	if l.trouble != nil && (!errors.Is(l.trouble, errFull) || l.room.Load() <= 0) {
		s.Trouble = l.trouble.Error()
	}
	return s
}

// Run writes what is handed over until ctx is done, then what is still there.
func (l *Log) Run(ctx context.Context) {
	defer l.files.close()
	writing := context.WithoutCancel(ctx) // what has begun to be written is written
	pace := time.NewTicker(flushEvery)
	defer pace.Stop()
	for {
		select {
		case now := <-pace.C:
			for l.writeSome(writing, now) {
			}
		case <-ctx.Done():
			for l.writeSome(writing, time.Now()) {
			}
			return
		}
	}
}

// writeSome writes what waits, up to so much at once; it reports whether there may be more.
func (l *Log) writeSome(ctx context.Context, now time.Time) (more bool) {
	var lines []line
	for len(lines) < mostAtOnce {
		select {
		case one := <-l.queue:
			l.waiting.Add(-int64(len(one.bodies)))
			lines = append(lines, one)
			continue
		default:
		}
		break
	}
	if len(lines) == 0 {
		return false
	}
	err := l.write(ctx, now, lines)
	l.mu.Lock()
	defer l.mu.Unlock()
	if err != nil && l.trouble == nil {
		l.log.Error("requests cannot be kept", "error", err)
	}
	l.trouble = err
	return len(lines) == mostAtOnce
}

// write writes lines to the files of their endpoints, as ended on the day of now. What one of them cannot take is
// lost for it alone, and counted.
func (l *Log) write(ctx context.Context, now time.Time, lines []line) (failed error) {
	day := now.UTC().Format(time.DateOnly)
	by := map[int64][]line{}
	for _, one := range lines {
		by[one.endpoint] = append(by[one.endpoint], one)
	}
	for endpoint, lines := range by {
		if l.room.Load() <= 0 {
			failed = errFull
			l.unwritten.Add(uint64(len(lines)))
			continue
		}
		f, err := l.files.get(ctx, place{day, endpoint}, true)
		if err == nil {
			for i := range lines {
				lines[i].prepare(l.secret)
				l.room.Add(-headBytes - int64(len(lines[i].entry.Request)+len(lines[i].entry.Answer)))
			}
			err = f.write(ctx, lines)
			l.files.giveBack(f)
		}
		if err != nil {
			failed = err
			l.unwritten.Add(uint64(len(lines)))
		}
	}
	return failed
}

// prepare makes of the bodies what is kept of them.
func (l *line) prepare(secret []byte) {
	e := &l.entry
	asked, answered := l.bodies[:l.request], l.bodies[l.request:]
	for _, b := range []struct {
		body []byte
		note *string
		into *[]byte
	}{{asked, &e.RequestNote, (*[]byte)(&e.Request)}, {answered, &e.AnswerNote, (*[]byte)(&e.Answer)}} {
		if len(b.body) == 0 {
			continue
		}
		kept, note := l.keeping.Kept(b.body, secret)
		*b.into, *b.note = kept, note
	}
}
