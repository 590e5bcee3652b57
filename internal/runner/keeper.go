package runner

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"innerladder/internal/core/replica"
	"innerladder/internal/core/signature"
)

// Version is what is to run.
type Version struct {
	// ID names it among all that run here; it is the name of its folder.
	ID string
	// File is what it is computed from, Format how that is written, Name what the model is called.
	File, Format, Name string
	Signature          *signature.Signature
	// Replicas is how many processes there should be.
	Replicas int
	// BatchRows and BatchWait gather rows of several requests.
	BatchRows int
	BatchWait time.Duration
	// Command, where there is one, serves it in place of the built-in model server; {port} in it and in Environment is
	// still to be filled in.
	Command, Environment []string
}

// Options say how versions are run.
type Options struct {
	// Dir is the folder of all of them; it is made when it is new.
	Dir string
	// Program is what is started, with `runner` as its first argument; empty is this program.
	Program string
	// Away is how long replicas go on without a service; 0 is ten minutes.
	Away time.Duration
	// Commands allows command lines that are not ours.
	Commands bool
	Log      *slog.Logger
}

// Keeper starts, finds again, and stops replicas. It is safe for use by several goroutines at once.
type Keeper struct {
	o    Options
	mu   sync.Mutex
	runs map[string]*run
	ask  *http.Client
}

// run is one version with its replicas.
type run struct {
	Version
	// pending is true until Confirm or Forget: nobody else knows of it yet. confirmed is when it was confirmed.
	pending   bool
	confirmed time.Time
	replicas  map[int]*process
}

// process is one replica as the service sees it.
type process struct {
	dir  string
	life replica.Life
	// commands says that it is a program of others, which may have started others.
	commands bool
	// tried says that this service has started it: what refused before may be another program by now.
	tried bool
	// stopping is when it was asked to end.
	stopping time.Time
	state    State
	held     bool
	ready    bool
	metered  metered
	last     used
	lastAt   time.Time
	series   []replica.Usage
}

// used is what a process has used up to now, or uses now.
type used struct {
	cpu       time.Duration
	memory    int64
	files     int
	mostFiles int
}

const (
	// startWithin is how long a process may take to hold its folder.
	startWithin = 10 * time.Second
	// stopWithin is how long it may take to end when it is asked to.
	stopWithin = 15 * time.Second
	// longestLog is how long a log grows before it begins anew.
	longestLog = 8 << 20
	// kept is how many readings of what a replica uses are kept: one every five seconds for a quarter of an hour.
	kept      = 180
	keptEvery = 5 * time.Second
)

// New makes a keeper.
func New(o Options) (*Keeper, error) {
	if o.Away == 0 {
		o.Away = 10 * time.Minute
	}
	if o.Program == "" {
		self, err := os.Executable()
		if err != nil {
			return nil, err
		}
		o.Program = self
	}
	dir, err := filepath.Abs(o.Dir)
	if err != nil {
		return nil, err
	}
	o.Dir = dir
	if err := os.MkdirAll(o.Dir, 0o700); err != nil {
		return nil, fmt.Errorf("making the folder of runners: %w", err)
	}
	return &Keeper{o: o, runs: map[string]*run{}, ask: &http.Client{
		Timeout: 2 * time.Second, Transport: &http.Transport{DisableKeepAlives: true},
	}}, nil
}

func (k *Keeper) alive() string { return filepath.Join(k.o.Dir, "alive") }

// Begin starts a version that is not wanted yet: it stays until Forget, or until it has been confirmed and is wanted no
// more.
func (k *Keeper) Begin(ctx context.Context, v Version) {
	k.mu.Lock()
	k.runs[v.ID] = &run{Version: v, pending: true, replicas: map[int]*process{}}
	k.mu.Unlock()
	k.look(ctx, v.ID, time.Now())
}

// Confirm says that a version that Begin started is wanted from now on.
func (k *Keeper) Confirm(name string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if r := k.runs[name]; r != nil && r.pending {
		r.pending, r.confirmed = false, time.Now()
	}
}

// Forget ends a version that Begin started and that was not wanted in the end.
func (k *Keeper) Forget(name string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if r := k.runs[name]; r != nil && r.pending {
		r.pending, r.Replicas = false, 0
	}
}

// Look brings one version up to date and says how its replicas are.
func (k *Keeper) Look(ctx context.Context, name string) []replica.Replica {
	k.look(ctx, name, time.Now())
	return k.Replicas(name)
}

// Step makes what runs be what was wanted at a moment: it starts what is missing, finds again what runs already, and
// ends what was wanted no more by then. What is to be left is neither started nor ended.
func (k *Keeper) Step(ctx context.Context, asOf time.Time, wanted []Version, leave []string) error {
	now := time.Now()
	if err := touch(k.alive(), now); err != nil {
		return err
	}
	k.mu.Lock()
	for _, v := range wanted {
		r := k.runs[v.ID]
		if r == nil {
			r = &run{replicas: map[int]*process{}}
			k.runs[v.ID] = r
		}
		r.Version, r.pending = v, false
	}
	for name, r := range k.runs {
		known := slices.ContainsFunc(wanted, func(v Version) bool { return v.ID == name })
		if !r.pending && !known && r.confirmed.Before(asOf) && !slices.Contains(leave, name) {
			r.Replicas = 0
		}
	}
	k.adopt(leave)
	names := make([]string, 0, len(k.runs))
	for name := range k.runs {
		if !slices.Contains(leave, name) {
			names = append(names, name)
		}
	}
	k.mu.Unlock()
	var all sync.WaitGroup
	for _, name := range names {
		all.Go(func() { k.look(ctx, name, now) })
	}
	all.Wait()
	return nil
}

// adopt finds the folders of others that ran here before; what is not wanted of them ends. k.mu is held.
func (k *Keeper) adopt(leave []string) {
	folders, _ := os.ReadDir(k.o.Dir)
	for _, f := range folders {
		if !f.IsDir() || slices.Contains(leave, f.Name()) {
			continue
		}
		r := k.runs[f.Name()]
		if r == nil {
			r = &run{Version: Version{ID: f.Name()}, replicas: map[int]*process{}}
			k.runs[f.Name()] = r
		}
		numbers, _ := os.ReadDir(filepath.Join(k.o.Dir, f.Name()))
		for _, n := range numbers {
			if i, err := strconv.Atoi(n.Name()); err == nil && r.replicas[i] == nil {
				r.replicas[i] = &process{dir: filepath.Join(k.o.Dir, f.Name(), n.Name())}
			}
		}
	}
}

func touch(file string, now time.Time) error {
	if err := os.Chtimes(file, now, now); !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return os.WriteFile(file, nil, 0o600)
}

// look brings one version up to date.
func (k *Keeper) look(ctx context.Context, name string, now time.Time) {
	k.mu.Lock()
	r := k.runs[name]
	if r == nil {
		k.mu.Unlock()
		return
	}
	var asked []*process
	for n := 1; n <= r.Replicas; n++ {
		if r.replicas[n] == nil {
			r.replicas[n] = &process{dir: filepath.Join(k.o.Dir, name, strconv.Itoa(n))}
		}
	}
	for n, p := range r.replicas {
		p.commands = len(r.Command) > 0
		p.read(now)
		switch {
		case n > r.Replicas:
			if p.stop(now) {
				endStrays(p.dir)
				_ = os.RemoveAll(p.dir)
				delete(r.replicas, n)
			}
		case p.held:
			if p.state.Address != "" {
				asked = append(asked, p)
			}
		case !p.refused() && now.Sub(p.life.Started) > startWithin && !now.Before(p.life.Next):
			k.start(r, n, p, now)
		}
	}
	if r.Replicas == 0 && len(r.replicas) == 0 && !r.pending {
		_ = os.RemoveAll(filepath.Join(k.o.Dir, name))
		delete(k.runs, name)
	}
	k.mu.Unlock()
	for _, p := range asked {
		k.askReady(ctx, p, now)
	}
}

// read reads how a replica is from its folder.
func (p *process) read(now time.Time) {
	was := p.held
	p.held = isHeld(p.dir)
	p.state = readState(p.dir)
	if !p.held {
		p.ready, p.last = false, used{}
		ended := was || (!p.life.Started.IsZero() && p.state.PID != 0 && p.state.Begun.After(p.life.Started))
		if ended && p.stopping.IsZero() {
			p.life = p.life.Ended(now)
		}
		if ended || (!p.life.Started.IsZero() && now.Sub(p.life.Started) > startWithin) {
			p.life.Started = time.Time{}
		}
		return
	}
	p.life.Started = p.state.Begun
	u, ours := usage(p.state.PID, p.dir)
	if !ours {
		return
	}
	p.keepUsage(u, now)
	beginAnew(filepath.Join(p.dir, "log"))
}

// keepUsage keeps what a replica uses, every few seconds.
func (p *process) keepUsage(u used, now time.Time) {
	passed := now.Sub(p.lastAt)
	first := p.last == used{}
	if !first && passed < keptEvery {
		return
	}
	if p.commands {
		u = u.withFamily(p.state.PID, p.dir)
	}
	if !first {
		// What a helper has used is gone with it, so the sum may fall.
		cpu := max(0, (u.cpu-p.last.cpu).Seconds()/passed.Seconds())
		p.series = append(p.series, replica.Usage{At: now.UTC(), CPU: cpu, Memory: u.memory, Files: u.files})
		p.series = p.series[max(0, len(p.series)-kept):]
	}
	p.last, p.lastAt = u, now
}

// refused reports whether it cannot ever serve its file.
func (p *process) refused() bool { return p.tried && p.state.Refused != "" }

// stop ends a replica and reports whether it has ended.
func (p *process) stop(now time.Time) bool {
	if !p.held {
		// One that was started a moment ago may not hold its folder yet.
		return now.Sub(p.life.Started) > startWithin
	}
	if _, ours := usage(p.state.PID, p.dir); !ours || p.state.PID <= 0 {
		return false
	}
	switch {
	case p.stopping.IsZero():
		p.stopping = now
		_ = syscall.Kill(p.state.PID, syscall.SIGTERM)
	case now.Sub(p.stopping) > stopWithin:
		_ = syscall.Kill(p.state.PID, syscall.SIGKILL)
	}
	return false
}

// start starts the process of a replica; k.mu is held.
func (k *Keeper) start(r *run, n int, p *process, now time.Time) {
	p.life.Started, p.stopping, p.tried = now, time.Time{}, true
	endStrays(p.dir)
	cmd, log, err := k.command(r, n, p)
	if err == nil {
		defer log.Close()
		err = cmd.Start()
	}
	if err != nil {
		k.o.Log.Error("a runner was not started", "run", r.ID, "replica", n, "error", err)
		p.life = p.life.Ended(now)
		return
	}
	go func() { _ = cmd.Wait() }() // how it ended stands in its folder
}

// command makes the command of a replica, with the log that it writes to.
func (k *Keeper) command(r *run, n int, p *process) (*exec.Cmd, *os.File, error) {
	if err := os.MkdirAll(p.dir, 0o700); err != nil {
		return nil, nil, err
	}
	listen := "127.0.0.1:0"
	if before := strings.TrimPrefix(p.state.Address, "http://"); before != "" {
		listen = before // the address that the gateway knows
	}
	if err := os.Remove(filepath.Join(p.dir, "state.json")); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, nil, err
	}
	args := []string{
		"runner", r.File, "-format", r.Format, "-as", r.Name, "-listen", listen, "-keep", p.dir, "-service", k.alive(),
		"-away", k.o.Away.String(), "-batch-rows", strconv.Itoa(r.BatchRows), "-batch-wait", r.BatchWait.String(),
	}
	if r.Signature != nil {
		file := filepath.Join(k.o.Dir, r.ID, "signature.json")
		b, err := json.Marshal(r.Signature)
		if err != nil {
			return nil, nil, err
		}
		if err := replace(file, b); err != nil { // another replica may be reading it
			return nil, nil, err
		}
		args = append(args, "-signature", file)
	}
	if len(r.Command) > 0 {
		args = k.execArgs(r.Version, p.dir, listen)
	}
	log, err := os.OpenFile(filepath.Join(p.dir, "log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return nil, nil, err
	}
	cmd := exec.Command(k.o.Program, args...)
	cmd.Dir, cmd.Stdout, cmd.Stderr, cmd.SysProcAttr = p.dir, log, log, apart()
	// Nothing of the service's environment is handed over but what a process needs to run: it may hold secrets.
	cmd.Env = []string{
		"PATH=" + os.Getenv("PATH"), "HOME=" + p.dir, "TZ=" + os.Getenv("TZ"), "LANG=" + os.Getenv("LANG"),
		mark + "=" + p.dir,
	}
	return cmd, log, nil
}

// beginAnew moves a log away that has become long; what writes to it goes on at its end.
func beginAnew(file string) {
	info, err := os.Stat(file)
	if err != nil || info.Size() < longestLog {
		return
	}
	if b, err := tail(file, longestLog/8); err == nil && os.WriteFile(file+".1", b, 0o600) == nil {
		_ = os.Truncate(file, 0)
	}
}

// tail reads the last bytes of a file.
func tail(file string, most int64) ([]byte, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	return io.ReadAll(io.NewSectionReader(f, max(0, info.Size()-most), most))
}

// askReady asks a replica whether it is ready, and ours what it has measured.
func (k *Keeper) askReady(ctx context.Context, p *process, now time.Time) {
	k.mu.Lock()
	address, ours := p.state.Address, !p.commands
	k.mu.Unlock()
	ready := k.get(ctx, address+"/v2/health/ready", nil) == nil
	var text strings.Builder
	measured := ready && ours && k.get(ctx, address+"/metrics", &text) == nil
	m := readMetrics(text.String())
	k.mu.Lock()
	defer k.mu.Unlock()
	p.ready = ready && p.held
	if measured {
		p.metered.take(m, now)
	}
}

// longestAnswer is how much of an answer of a replica is read.
const longestAnswer = 1 << 20

func (k *Keeper) get(ctx context.Context, url string, into io.Writer) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return err
	}
	res, err := k.ask.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return fmt.Errorf("%s: %s", url, res.Status)
	}
	if into == nil {
		into = io.Discard
	}
	_, err = io.Copy(into, io.LimitReader(res.Body, longestAnswer))
	return err
}

// StopAll ends everything that runs, and waits for it as long as ctx is not done.
func (k *Keeper) StopAll(ctx context.Context) {
	k.mu.Lock()
	for _, r := range k.runs {
		r.Replicas, r.pending = 0, false
	}
	k.adopt(nil)
	k.mu.Unlock()
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	for {
		k.mu.Lock()
		on := false
		for _, r := range k.runs {
			for _, p := range r.replicas {
				p.read(time.Now())
				on = on || p.held
				_ = p.stop(time.Now())
			}
		}
		k.mu.Unlock()
		if !on {
			return
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

// limits are what all processes here share.
var limits = sync.OnceValue(func() (l struct {
	CPU    int
	Memory int64
},
) {
	l.CPU, l.Memory = runtime.NumCPU(), memoryLimit()
	return l
})
