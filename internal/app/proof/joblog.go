package proof

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/app/traffic"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/job"
	"innerladder/internal/core/registry"
	"innerladder/internal/wire"
)

const (
	// longestLog is how long the log of a job may become; then nothing is added but how it ended.
	longestLog = 1 << 20
	// lastWords is how many lines of a process are put into the log of the job that it was started for.
	lastWords = 20
)

func (s *Service) logOf(id string) string { return filepath.Join(s.folder(id), "log.jsonl") }

// note adds a line to the log of a job. A log that cannot be written stops no job.
func (s *Service) note(id, says string, args ...any) {
	line, err := json.Marshal(job.Line{At: s.Now().UTC().Truncate(time.Millisecond), Says: fmt.Sprintf(says, args...)})
	if err != nil {
		return
	}
	f, err := os.OpenFile(s.logOf(id), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return // its folder is not there any more
	}
	defer f.Close()
	if info, err := f.Stat(); err == nil && info.Size() < longestLog {
		_, _ = f.Write(append(line, '\n'))
	}
}

// tells keeps how far a job is that goes on, and has its log say so.
func (s *Service) tells(id string, g *going) func(job.Progress) {
	s.mu.Lock()
	marks := job.NewMilestones(g.progress, s.Now())
	s.mu.Unlock()
	return func(p job.Progress) {
		s.mu.Lock()
		g.progress = p
		says := marks.Next(p, s.Now())
		s.mu.Unlock()
		if says != "" {
			s.note(id, "%s", says)
		}
	}
}

// borrow makes a version ready to be asked by a job, and has its log say where, and what a process of its own said
// last. Whoever borrows calls done.
func (s *Service) borrow(ctx context.Context, j *job.Job, v *registry.Version, environment string, width int,
) (b *traffic.Borrowed, done func(), err error) {
	b, err = s.traffic.Borrow(ctx, v, environment, width)
	if err != nil {
		return nil, nil, err
	}
	where := environment
	if where == "" {
		where = "a process of its own"
	}
	s.note(j.ID, "asks %s in %s", v.Ref, where)
	return b, func() {
		for _, line := range b.Said(lastWords) {
			s.note(j.ID, "the process says: %s", line)
		}
		b.Return()
	}, nil
}

// JobLog shows the log of a job.
func (s *Service) JobLog(ctx context.Context, by act.Actor, id string) (wire.Listed[job.Line], error) {
	out := wire.Listed[job.Line]{Items: []job.Line{}}
	if err := by.May(access.Inspect); err != nil {
		return out, err
	}
	j, _, err := find(ctx, s.Read(by), id)
	if err == nil {
		err = by.Need(access.Inspect, j.Project)
	}
	if err != nil {
		return out, err
	}
	f, err := os.Open(s.logOf(j.ID))
	switch {
	case j.Forgotten:
		return out, fault.New(fault.Unknown, "job.forgotten", "the log of %s is not kept any more", j.ID).In("job")
	case errors.Is(err, fs.ErrNotExist):
		return out, nil // it has not begun, or the directory was put back from a backup
	case err != nil:
		return out, err
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, longestLog)
	for lines.Scan() {
		var one job.Line
		if json.Unmarshal(lines.Bytes(), &one) == nil { // a kill may cut the last one
			out.Items = append(out.Items, one)
		}
	}
	return out, lines.Err()
}
