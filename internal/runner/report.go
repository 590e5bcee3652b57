package runner

import (
	"bytes"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/core/replica"

	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"
)

// reading is what a replica counts from its start on.
type reading struct {
	requests, took, waits, waited, batches, rows, computed float64
	// members are the sums of those of an ensemble: seconds and batches by member, differences and batches by both.
	members map[[2]string][2]float64
}

// metered is what is made of two readings.
type metered struct {
	last reading
	at   time.Time
	work replica.Work
}

// worked is the least time between two readings.
const worked = 900 * time.Millisecond

// take takes a reading.
func (m *metered) take(r reading, now time.Time) {
	passed := now.Sub(m.at).Seconds()
	if !m.at.IsZero() && passed < worked.Seconds() {
		return
	}
	d := reading{
		r.requests - m.last.requests, r.took - m.last.took, r.waits - m.last.waits, r.waited - m.last.waited,
		r.batches - m.last.batches, r.rows - m.last.rows, r.computed - m.last.computed, nil,
	}
	if !m.at.IsZero() && d.requests >= 0 { // else it has begun anew
		// By Little's law what all requests took in a second is how many were under way.
		m.work = replica.Work{Requests: d.requests / passed, UnderWay: d.took / passed}
		if d.batches > 0 && d.waits > 0 && d.rows > 0 {
			m.work.RowsTogether, m.work.WaitMillis = d.rows/d.batches, 1e3*d.waited/d.waits
			m.work.ComputeMicro = 1e6 * d.computed / d.rows
		}
	}
	if m.work.UnderWay > 0 {
		m.work.Members = membersOf(m.last.members, r.members)
	}
	m.last, m.at = r, now
}

// membersOf is what members did between two readings.
func membersOf(before, after map[[2]string][2]float64) []replica.Member {
	by := map[string]*replica.Member{}
	for _, key := range slices.SortedFunc(maps.Keys(after), func(a, b [2]string) int {
		return strings.Compare(a[0]+" "+a[1], b[0]+" "+b[1])
	}) {
		sum, count := after[key][0]-before[key][0], after[key][1]-before[key][1]
		if count <= 0 {
			continue
		}
		if by[key[0]] == nil {
			by[key[0]] = &replica.Member{Version: key[0], Apart: map[string]float64{}}
		}
		if key[1] == "" {
			by[key[0]].Micro = 1e6 * sum / count
		} else {
			by[key[0]].Apart[key[1]] = sum / count
		}
	}
	var out []replica.Member
	for _, name := range slices.Sorted(maps.Keys(by)) {
		out = append(out, *by[name])
	}
	return out
}

// readMetrics reads what a built-in runner exports; zero for what it does not.
func readMetrics(text string) (r reading) {
	parser := expfmt.NewTextParser(model.UTF8Validation)
	families, err := parser.TextToMetricFamilies(strings.NewReader(text))
	if err != nil {
		return r
	}
	sums := func(name string) (sum, count float64) {
		for _, m := range families["innerladder_runner_"+name].GetMetric() {
			sum, count = sum+m.GetHistogram().GetSampleSum(), count+float64(m.GetHistogram().GetSampleCount())
		}
		return sum, count
	}
	r.took, r.requests = sums("request_seconds")
	r.waited, r.waits = sums("wait_seconds")
	r.rows, r.batches = sums("batch_rows")
	r.computed, _ = sums("compute_seconds")
	r.members = map[[2]string][2]float64{}
	for _, name := range []string{"member_seconds", "member_difference"} {
		for _, m := range families["innerladder_runner_"+name].GetMetric() {
			var key [2]string
			for _, l := range m.GetLabel() {
				if l.GetName() == "member" {
					key[0] = l.GetValue()
				} else {
					key[1] = l.GetValue()
				}
			}
			r.members[key] = [2]float64{m.GetHistogram().GetSampleSum(), float64(m.GetHistogram().GetSampleCount())}
		}
	}
	return r
}

// Replicas says how the replicas of a version are, by number.
func (k *Keeper) Replicas(name string) []replica.Replica {
	k.mu.Lock()
	defer k.mu.Unlock()
	out := []replica.Replica{}
	r := k.runs[name]
	if r == nil {
		return out
	}
	for n, p := range r.replicas {
		out = append(out, p.report(n, r.Replicas))
	}
	slices.SortFunc(out, func(a, b replica.Replica) int { return a.Number - b.Number })
	return out
}

func (p *process) report(n, wanted int) replica.Replica {
	here := limits()
	rep := replica.Replica{
		Number: n, State: "starting", Address: p.state.Address, Restarts: p.life.Restarts,
		CPULimit: here.CPU, MemoryLimit: here.Memory, Memory: p.last.memory, Files: p.last.files,
		FilesLimit: p.last.mostFiles, Series: slices.Clone(p.series),
	}
	if rep.Series == nil {
		rep.Series = []replica.Usage{}
	}
	if p.held {
		rep.PID, rep.Since = p.state.PID, p.state.Begun
	}
	if len(p.series) > 0 && p.held {
		rep.CPU = p.series[len(p.series)-1].CPU
	}
	switch {
	case n > wanted:
		rep.State = "stopping"
	case p.refused():
		rep.State, rep.Reason = "refused", p.state.Refused
	case p.ready:
		rep.State, rep.Work = "ready", p.metered.work
	case !p.held && p.life.Restarts > 0:
		rep.State, rep.Reason = "waiting", p.lastWords()
	}
	return rep
}

// lastWords is the last line of a replica's log.
func (p *process) lastWords() string {
	b, err := tail(filepath.Join(p.dir, "log"), 4096)
	if err != nil {
		return "it has written nothing"
	}
	lines := bytes.Split(bytes.TrimSpace(b), []byte("\n"))
	return strings.ToValidUTF8(string(lines[len(lines)-1]), "�")
}

// mostLines bounds how much of a log is shown.
const mostLines = 5000

// Log is the last lines that a replica wrote.
func (k *Keeper) Log(name string, n, lines int) ([]string, error) {
	k.mu.Lock()
	r := k.runs[name]
	there := r != nil && r.replicas[n] != nil
	k.mu.Unlock()
	if !there {
		return nil, fmt.Errorf("there is no replica %d", n)
	}
	dir := filepath.Join(k.o.Dir, name, strconv.Itoa(n))
	b, err := tail(filepath.Join(dir, "log"), longestLog)
	if err != nil {
		return []string{}, nil // it has written nothing
	}
	text := strings.TrimRight(strings.ToValidUTF8(string(b), "�"), "\n")
	if text == "" {
		return []string{}, nil
	}
	all := strings.Split(text, "\n")
	return all[max(0, len(all)-min(lines, mostLines)):], nil
}
