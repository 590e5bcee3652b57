package agent

import (
	"bytes"
	"cmp"
	"context"
	"maps"
	"slices"
	"time"

	"innerladder/internal/core/elsewhere"
	"innerladder/internal/core/sketch"
	"innerladder/internal/oip"
	"innerladder/internal/signals"
	"innerladder/internal/wire"

	"github.com/cespare/xxhash/v2"
)

const (
	// enough is how many values choose the bins of a column that has no reference profile, and longEnough for how long
	// they are waited for: what came until then chooses.
	enough     = 1000
	longEnough = 2 * time.Minute
	// atOnce is about how many bytes of lines are summed up at once.
	atOnce = 4 << 20
	// mostParts is how many values of one row of a tensor are looked at, each as a column of its own.
	mostParts = 16
	// mostRows is how many rows a window has at most, about: each is told by a hash.
	mostRows = 20_000
)

// service is what an agent asks of the service.
type service interface {
	AgentMet(ctx context.Context, endpoint, agent string, in wire.AgentMet) (wire.AgentKnown, error)
	AgentBatch(ctx context.Context, endpoint, agent string, b elsewhere.Batch) (wire.BatchTaken, error)
}

// column names a column of the endpoint.
type column struct{ side, name string }

// known is what the service said of versions and columns.
type known struct {
	versions map[string]string
	bins     map[column]sketch.Bins
}

// parsed is a line that was understood.
type parsed struct {
	Observation
	line []byte
}

// parse reads all lines of chunks.
func (r Reading) parse(chunks []chunk, now time.Time) (out []parsed, aside []odd) {
	for _, c := range chunks {
		for line := range bytes.SplitSeq(c.lines, []byte("\n")) {
			if line = bytes.TrimSpace(line); len(line) == 0 {
				continue
			}
			o, why := r.observation(line, c.at, now)
			if why != "" {
				aside = append(aside, odd{line, why})
				continue
			}
			out = append(out, parsed{o, line})
		}
	}
	return out, aside
}

// columnsOf gives the columns of tensors, each once, with its values by row.
func columnsOf(tensors []oip.Tensor, f func(name string, rows int, value func(row int) any)) {
	seen := make(map[string]bool, len(tensors))
	for i := range tensors {
		t := &tensors[i]
		parts := t.Parts()
		for part := range min(parts, mostParts) {
			if name := t.PartName(part); name != "" && len(name) <= elsewhere.LongestName && !seen[name] {
				seen[name] = true
				f(name, t.Rows(), func(row int) any { return t.Data[row*parts+part] })
			}
		}
	}
}

// met finds the versions and columns of observations that are not known, the columns with their values.
func (k *known) met(all []parsed) (versions []string, values map[column][]any) {
	values = map[column][]any{}
	unknown := map[string]bool{}
	for i := range all {
		o := &all[i]
		if _, there := k.versions[o.Version]; !there {
			unknown[o.Version] = true
		}
		for side, tensors := range map[string][]oip.Tensor{signals.Input: o.Inputs, signals.Output: o.Outputs} {
			columnsOf(tensors, func(name string, rows int, value func(int) any) {
				c := column{side, name}
				if _, there := k.bins[c]; there || len(values[c]) >= enough {
					return
				}
				if _, begun := values[c]; !begun && len(values)+len(k.bins) >= elsewhere.MostColumns {
					return
				}
				for row := range rows {
					if x := value(row); x != nil {
						values[c] = append(values[c], x)
					}
				}
			})
		}
	}
	return slices.Sorted(maps.Keys(unknown)), values
}

// clipped are values with texts that are no longer than levels may be.
func clipped(values []any) []any {
	out := slices.Clone(values)
	for i, v := range out {
		if s, is := v.(string); is && len(s) > elsewhere.LongestName {
			out[i] = nil // it will be no level
		}
	}
	return out
}

// part is a version in a minute.
type part struct {
	minute  int64
	version string
}

// building is a window that is being filled.
type building struct {
	elsewhere.Window
	took  sketch.Quantiles
	forms map[sketch.Form]uint64
}

// windows sums observations up. Those of versions that do not exist are put aside.
func (k *known) windows(all []parsed) (out []elsewhere.Window, aside []odd) {
	at := map[part]*building{}
	for i := range all {
		o := &all[i]
		ref := k.versions[o.Version]
		if ref == "" {
			aside = append(aside, odd{o.line, "no version is called " + o.Version})
			continue
		}
		minute := o.At.UTC().Truncate(time.Minute)
		p := part{minute.Unix(), ref}
		b := at[p]
		if b != nil && b.Rows >= mostRows { // windows of the same minute are added up
			out = append(out, b.window())
			b = nil
		}
		if b == nil {
			b = &building{forms: map[sketch.Form]uint64{}}
			b.Version, b.Minute = ref, minute
			b.Inputs, b.Outputs = map[string]*sketch.Column{}, map[string]*sketch.Column{}
			at[p] = b
		}
		b.count(o, k)
	}
	for _, p := range slices.SortedFunc(maps.Keys(at), func(a, b part) int {
		return cmp.Or(cmp.Compare(a.minute, b.minute), cmp.Compare(a.version, b.version))
	}) {
		out = append(out, at[p].window())
	}
	return out, aside
}

// count adds an observation.
func (b *building) count(o *parsed, k *known) {
	b.Add(o.Class)
	if o.Timed && (o.Class == sketch.Answered || o.Class == sketch.CallerError) {
		b.took.Add(o.Took)
	}
	if o.Caller != "" {
		b.Callers.Add(xxhash.Sum64String(o.Caller))
	}
	if o.Unread {
		b.Unread++
	}
	if len(o.Inputs)+len(o.Outputs) == 0 {
		return
	}
	rows := 0
	for _, t := range slices.Concat(o.Inputs, o.Outputs) {
		rows = t.Rows()
	}
	b.Bodies++
	b.Rows += uint64(rows)
	if len(o.Inputs) > 0 {
		for row := range rows {
			b.Different.Add(oip.HashRow(o.Inputs, row))
		}
	}
	for side, into := range map[string]map[string]*sketch.Column{signals.Input: b.Inputs, signals.Output: b.Outputs} {
		tensors := o.Inputs
		if side == signals.Output {
			tensors = o.Outputs
		}
		columnsOf(tensors, func(name string, rows int, value func(int) any) {
			bins, there := k.bins[column{side, name}]
			if !there {
				return
			}
			if into[name] == nil {
				into[name] = sketch.NewColumn(bins)
			}
			for row := range rows {
				into[name].AddValue(value(row))
			}
		})
	}
	if o.Typed {
		seen := map[sketch.Form]bool{}
		for _, t := range o.Outputs {
			f := sketch.Form{Name: t.Name, Datatype: t.Datatype}
			if len(t.Name) <= elsewhere.LongestName && len(t.Datatype) <= elsewhere.LongestName && !seen[f] {
				seen[f] = true
				b.forms[f]++
			}
		}
	}
}

// window is what was counted.
func (b *building) window() elsewhere.Window {
	b.Took(&b.took)
	for f, n := range b.forms {
		b.Forms = append(b.Forms, elsewhere.Form{Name: f.Name, Datatype: f.Datatype, N: n})
	}
	slices.SortFunc(b.Forms, func(x, y elsewhere.Form) int {
		return cmp.Or(cmp.Compare(x.Name, y.Name), cmp.Compare(x.Datatype, y.Datatype))
	})
	return b.Window
}
