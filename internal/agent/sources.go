package agent

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"
)

const (
	// block is how much of a file is taken in at once.
	block = 1 << 20
	// follow is how often it is looked whether files grew.
	follow = 500 * time.Millisecond
	// beginning is over how many bytes a file is known by how it begins.
	beginning = 256
	// largestPost is the largest body that may be posted.
	largestPost = 16 << 20
	// ahead is how many bytes of files wait to be summed up, about, while that goes on.
	ahead = 32 << 20
	// longestKey is how long an Idempotency-Key may be.
	longestKey = 200
)

// errMoved says that what stands at a path is not the file of a position.
var errMoved = errors.New("another file stands there")

// readFile reads a file from where it was left, and follows it as it grows, is cut, or makes place for another of its
// name. With Once it ends at the file's end.
func (a *agent) readFile(ctx context.Context, path string) error {
	path, err := filepath.Abs(path)
	if err != nil {
		return err
	}
	p, err := a.spool.positionOf(ctx, path)
	if err == nil && p.inode == 0 && p.since.IsZero() {
		err = a.firstLook(ctx, &p)
	}
	if err != nil {
		return err
	}
	for ctx.Err() == nil {
		err := a.readOn(ctx, path, &p, a.Once)
		if errors.Is(err, errMoved) {
			if err = a.readMoved(ctx, &p); err == nil {
				continue
			}
		}
		if err != nil && (a.Once || !errors.Is(err, os.ErrNotExist)) { // it may come, or just make place for another
			return err
		}
		if a.Once || !wait(ctx, nil, follow) {
			return nil
		}
	}
	return nil
}

// firstLook notes which file stands at a path when that is looked at first, or that none does: those that come and make
// place for others from then on are read.
func (a *agent) firstLook(ctx context.Context, p *position) error {
	f, err := os.Open(p.path)
	switch {
	case err == nil:
		err = p.begin(f)
		_ = f.Close()
	case errors.Is(err, os.ErrNotExist) && !a.Once:
		p.since, err = a.Now(), nil
	}
	if err != nil {
		return err
	}
	return a.spool.put(ctx, nil, a.Now(), p)
}

// readMoved reads the rest of a file that made place for another of its name, where it stands beside that, and then
// those that stood in its place since and had to make place too: files whose names begin as its own does, by when they
// were written last. Then the position is at the beginning of the file that stands there now.
func (a *agent) readMoved(ctx context.Context, p *position) error {
	name, since, err := find(p)
	if err != nil {
		return err
	}
	if waiting := p.inode == 0; waiting {
		since = p.since
	} else if name == "" {
		a.Log.Warn("a file was cut, or is gone; what is there now is read from its beginning", "file", p.path,
			"read before", p.read)
		*p = position{path: p.path}
		return nil
	}
	for {
		if name != "" {
			a.Log.Info("a file that was moved is read to its end", "file", name)
			err := a.readOn(ctx, name, p, true)
			if errors.Is(err, errMoved) || errors.Is(err, os.ErrNotExist) {
				return nil // it has just moved on, and is looked for again
			}
			if err != nil || ctx.Err() != nil {
				return err
			}
		}
		// What stands there now is looked at before what does not any more, so that nothing slips between the two.
		now := position{path: p.path}
		if f, err := os.Open(p.path); err == nil {
			err = now.begin(f)
			_ = f.Close()
			if err != nil {
				return err
			}
		}
		var then os.FileInfo
		if name, then = next(p, now, since); name == "" {
			if now.inode == 0 {
				return os.ErrNotExist // it is waited for
			}
			*p = now
			return nil
		}
		since = then.ModTime()
		*p = position{path: p.path}
		if packed(name) {
			a.Log.Warn("a file was packed before it was read; it is left out", "file", name)
			name = ""
			continue
		}
		p.device, p.inode = numberOf(then)
		p.begins = nothing
	}
}

// find finds the file of a position beside its place; the name is empty where it is not.
func find(p *position) (name string, written time.Time, err error) {
	names, err := filepath.Glob(escaped(filepath.Dir(p.path)) + "/*")
	if err != nil {
		return "", written, err
	}
	for _, name := range names {
		if p.inode == 0 {
			break
		}
		if same, err := isFile(name, p); err == nil && same {
			info, err := os.Stat(name)
			if err != nil {
				continue // it has just moved on
			}
			return name, info.ModTime(), nil
		}
	}
	return "", written, nil
}

// next finds the file that stood in a file's place after one that was written last at a time, and was moved since;
// empty where there is none.
func next(p *position, now position, since time.Time) (name string, info os.FileInfo) {
	all, err := filepath.Glob(escaped(p.path) + "?*")
	if err != nil {
		return "", nil
	}
	for _, one := range all {
		i, err := os.Stat(one)
		if err != nil || !i.Mode().IsRegular() || !i.ModTime().After(since) {
			continue
		}
		_, inode := numberOf(i)
		if inode != p.inode && inode != now.inode && (info == nil || i.ModTime().Before(info.ModTime())) {
			name, info = one, i
		}
	}
	return name, info
}

// escaped is a path as a pattern that fits nothing else.
func escaped(path string) string {
	return strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`, "[", `\[`).Replace(path)
}

// packed reports whether a file's name says that it is compressed.
func packed(name string) bool {
	return slices.Contains([]string{".gz", ".zst", ".xz", ".bz2", ".lz4"}, filepath.Ext(name))
}

// isFile reports whether what is at a path is the file of a position.
func isFile(path string, p *position) (bool, error) {
	f, err := os.Open(path)
	if err != nil {
		return false, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return false, err
	}
	return isSame(f, info, p)
}

// isSame reports whether an open file is that of a position: the same number on the same device, no shorter than what
// was read of it, and begun alike.
func isSame(f *os.File, info os.FileInfo, p *position) (bool, error) {
	device, inode := numberOf(info)
	if !info.Mode().IsRegular() || device != p.device || inode != p.inode || info.Size() < p.read {
		return false, nil
	}
	begins, err := begins(f, min(p.read, beginning))
	return begins == p.begins, err
}

// nothing is the hash of how a file begins of which nothing was read.
var nothing = hex.EncodeToString(sha256.New().Sum(nil))

// begin is the position at the beginning of a file.
func (p *position) begin(f *os.File) error {
	info, err := f.Stat()
	if err != nil {
		return err
	}
	p.device, p.inode = numberOf(info)
	p.begins, p.read = nothing, 0
	return nil
}

// numberOf is which file it is, on which device.
func numberOf(info os.FileInfo) (device, inode uint64) {
	if s, is := info.Sys().(*syscall.Stat_t); is {
		return uint64(s.Dev), s.Ino // Dev is of another type elsewhere
	}
	return 0, 0
}

// begins is a hash of the first bytes of a file.
func begins(f *os.File, n int64) (string, error) {
	h := sha256.New()
	if _, err := io.Copy(h, io.NewSectionReader(f, 0, n)); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// readOn reads what a file has beyond a position. At its end a line without an end is left for the next time, unless
// the file is whole.
func (a *agent) readOn(ctx context.Context, path string, p *position, whole bool) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if !info.Mode().IsRegular() {
		return fmt.Errorf("%s is no file; give - and send it to standard input", path)
	}
	if p.inode == 0 && p.since.IsZero() {
		if err := p.begin(f); err != nil {
			return err
		}
	}
	same, err := isSame(f, info, p)
	if err != nil {
		return err
	}
	if !same {
		return errMoved
	}
	buffer := make([]byte, block)
	for ctx.Err() == nil {
		n, err := f.ReadAt(buffer, p.read)
		if err != nil && !errors.Is(err, io.EOF) {
			return fmt.Errorf("reading %s: %w", path, err)
		}
		lines := buffer[:n]
		atEnd := errors.Is(err, io.EOF)
		switch last := bytes.LastIndexByte(lines, '\n'); {
		case last >= 0 && (!atEnd || !whole):
			lines = lines[:last+1]
		case last < 0 && !atEnd && len(buffer) <= 2*longestLine:
			buffer = make([]byte, 2*len(buffer)) // a long line
			continue
		case last < 0 && !whole && atEnd:
			return nil
		}
		if len(lines) == 0 {
			return nil
		}
		next := *p
		next.read += int64(len(lines))
		if next.begins, err = begins(f, min(next.read, beginning)); err != nil {
			return err
		}
		if err := a.take(ctx, lines, &next); err != nil {
			return err
		}
		// What is in a file need not wait twice on disk, unless the service is away: then the file may go meanwhile.
		for a.spool.waiting.Load() > ahead && !a.unasked.Load() && !a.untold.Load() {
			if !wait(ctx, nil, 20*time.Millisecond) {
				return ctx.Err()
			}
		}
		if *p = next; atEnd && whole {
			return nil
		}
	}
	return nil
}

// readInput reads lines to their end.
func (a *agent) readInput(ctx context.Context) error {
	// Reading cannot be ended from outside, so it goes on beside what follows.
	lines := make(chan []byte)
	failed := make(chan error, 1)
	go func() {
		defer close(lines)
		r := bufio.NewReaderSize(a.Input, 64<<10)
		for {
			line, err := r.ReadBytes('\n')
			if len(line) > 0 {
				select {
				case lines <- line:
				case <-ctx.Done():
					return
				}
			}
			if err != nil {
				if !errors.Is(err, io.EOF) {
					failed <- fmt.Errorf("reading the input: %w", err)
				}
				return
			}
		}
	}()
	for {
		some, more, err := gather(ctx, lines)
		if err != nil {
			return err
		}
		if len(some) > 0 {
			if err := a.take(ctx, some, nil); err != nil {
				return err
			}
		}
		if !more {
			select {
			case err := <-failed:
				return err
			default:
				return nil
			}
		}
	}
}

// gather collects lines for a moment, so that not each is written by itself.
func gather(ctx context.Context, lines <-chan []byte) (out []byte, more bool, err error) {
	var moment <-chan time.Time
	for {
		select {
		case <-ctx.Done():
			return nil, false, ctx.Err()
		case line, ok := <-lines:
			if !ok {
				return out, false, nil
			}
			if out = append(out, line...); len(out) >= block {
				return out, true, nil
			}
			if moment == nil {
				moment = time.After(200 * time.Millisecond)
			}
		case <-moment:
			return out, true, nil
		}
	}
}

// listen takes observations that are posted. What it answers well was kept.
func (a *agent) listen(ctx context.Context) (serve func(context.Context) error, err error) {
	l, err := (&net.ListenConfig{}).Listen(ctx, "tcp", a.Listen)
	if err != nil {
		return nil, fmt.Errorf("listening for observations: %w", err)
	}
	if tcp, is := l.Addr().(*net.TCPAddr); is && !tcp.IP.IsLoopback() && a.Key == "" {
		_ = l.Close()
		return nil, fmt.Errorf("everybody could post at %s; give -listen-key-file with a key, or a loopback address",
			a.Listen)
	}
	mux := http.NewServeMux()
	mux.HandleFunc("POST /observations", a.posted)
	mux.HandleFunc("GET /ready", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, http.StatusOK, map[string]any{"ready": true})
	})
	server := &http.Server{
		Handler: mux, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: time.Minute, WriteTimeout: time.Minute,
		IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10,
	}
	if a.Started != nil {
		a.Started("http://" + l.Addr().String())
	}
	return func(ctx context.Context) error {
		ended := context.AfterFunc(ctx, func() {
			soon, stop := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
			defer stop()
			_ = server.Shutdown(soon)
		})
		defer ended()
		if err := server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
			return fmt.Errorf("listening for observations: %w", err)
		}
		return nil
	}, nil
}

// posted takes the lines of a request.
func (a *agent) posted(w http.ResponseWriter, r *http.Request) {
	no := func(status int, code, what string) { answer(w, status, map[string]any{"error": what, "code": code}) }
	if a.Key != "" && subtle.ConstantTimeCompare([]byte(r.Header.Get("Authorization")), []byte("Bearer "+a.Key)) != 1 {
		w.Header().Set("WWW-Authenticate", "Bearer")
		no(http.StatusUnauthorized, "agent.key", "send the agent's key as Authorization: Bearer KEY")
		return
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, largestPost))
	var tooLarge *http.MaxBytesError
	switch {
	case errors.As(err, &tooLarge):
		no(http.StatusRequestEntityTooLarge, "agent.too_large",
			fmt.Sprintf("send at most %d MiB at once", largestPost>>20))
		return
	case err != nil:
		no(http.StatusBadRequest, "agent.broken", "the observations did not come whole")
		return
	}
	now, lines, wrong := a.Now(), 0, []string{}
	for line := range bytes.SplitSeq(body, []byte("\n")) {
		if line = bytes.TrimSpace(line); len(line) == 0 {
			continue
		}
		lines++
		if _, why := a.observation(line, now, now); why != "" && len(wrong) < 10 {
			wrong = append(wrong, fmt.Sprintf("line %d: %s", lines, why))
		}
	}
	if len(wrong) > 0 { // whoever posts can still mend it, so nothing of it is taken
		answer(w, http.StatusUnprocessableEntity, map[string]any{
			"error": "no observation was taken: some lines are none", "code": "agent.lines", "lines": wrong,
		})
		return
	}
	if len(bytes.TrimSpace(body)) > 0 && body[len(body)-1] != '\n' {
		body = append(body, '\n')
	}
	key := r.Header.Get("Idempotency-Key")
	if len(key) > longestKey {
		no(http.StatusBadRequest, "agent.idempotency_key",
			fmt.Sprintf("give an Idempotency-Key of up to %d bytes", longestKey))
		return
	}
	switch again, err := a.spool.post(r.Context(), body, now, key); {
	case errors.Is(err, errFull):
		w.Header().Set("Retry-After", "10")
		no(http.StatusServiceUnavailable, "agent.full", err.Error())
	case err != nil:
		a.Log.Error("observations could not be kept", "error", err)
		no(http.StatusInternalServerError, "agent.failed",
			"the observations could not be kept; the agent's log says why")
	case again:
		answer(w, http.StatusAccepted, map[string]any{"taken": lines, "again": true})
	default:
		ring(a.came)
		answer(w, http.StatusAccepted, map[string]any{"taken": lines})
	}
}

func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v)
}
