package registry

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/lineage"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/traffic"
	"innerladder/internal/records"
	"innerladder/internal/wire"

	"github.com/google/uuid"
)

// AddDataSet adds a revision of a data set. The same content added again gives the
// revision that is there.
func (s *Service) AddDataSet(ctx context.Context, by act.Actor, in wire.NewDataSet) (wire.AddedDataSet, error) {
	if err := naming.Check("name", in.Name); err != nil {
		return wire.AddedDataSet{}, err
	}
	in.Digest = strings.ToLower(in.Digest)
	switch {
	case in.Digest == "" && in.Address == "":
		return wire.AddedDataSet{}, fault.New(fault.Invalid, "data.nothing", "neither digest nor address is given").
			In("digest").Do("give the data set's file, or say where it lies with -address")
	case in.Digest != "" && (len(in.Digest) != 64 || strings.Trim(in.Digest, "0123456789abcdef") != ""):
		return wire.AddedDataSet{}, fault.New(fault.Invalid, "data.digest", "%q is no SHA-256", in.Digest).In("digest").
			Do("give 64 hexadecimal digits")
	case in.Rows < 0 || in.Size < 0:
		return wire.AddedDataSet{}, fault.New(fault.Invalid, "data.count", "rows or size are negative").In("rows").
			Do("leave out what is not known")
	}
	by = by.WithoutRepeat() // the content itself makes a repeated call harmless
	return act.Change(ctx, s.Base, by, access.Register, func(t *act.Tx) (wire.AddedDataSet, error) {
		if before, err := t.SameDataSet(ctx, in.Name, in.Digest, in.Address); err == nil {
			return wire.AddedDataSet{DataSet: *before, Created: false}, nil
		} else if !errors.Is(err, records.ErrNone) {
			return wire.AddedDataSet{}, err
		}
		project, err := s.dataProject(ctx, t, in)
		if err != nil {
			return wire.AddedDataSet{}, err
		}
		d := lineage.DataSet{
			Name: in.Name, Project: project, Address: in.Address, Digest: in.Digest, Rows: in.Rows,
			Size: in.Size, Schema: in.Schema, Description: in.Description, AddedBy: t.By.Name, AddedAt: t.Now,
		}
		if err := t.View.AddDataSet(ctx, &d); err != nil {
			return wire.AddedDataSet{}, err
		}
		return wire.AddedDataSet{DataSet: d, Created: true}, t.Note(ctx,
			act.Entry{
				Project: d.Project, Kind: "data.added", Subject: d.Ref,
				Sentence: "The data set " + d.Ref + " was added.", Reason: in.Description, After: d,
			})
	})
}

// dataProject is the project of a new revision: that of the earlier ones.
func (s *Service) dataProject(ctx context.Context, t *act.Tx, in wire.NewDataSet) (string, error) {
	newest, err := t.NewestDataSet(ctx, in.Name)
	switch {
	case errors.Is(err, records.ErrNone):
		if err := act.NameFree(ctx, t.View, "data_sets", in.Name); err != nil {
			return "", err
		}
		return s.people.ProjectFor(ctx, t, in.Project)
	case err != nil:
		return "", err
	case in.Project != "" && in.Project != newest.Project:
		return "", fault.New(fault.Refused, "data.project_differs", "%s is in the project %s", in.Name, newest.Project).
			In("project").Do("leave the project out, or choose another name")
	}
	return newest.Project, nil
}

// DataSets lists the newest revision of every data set, or all revisions of one.
func (s *Service) DataSets(ctx context.Context, by act.Actor, name string,
	p records.Page,
) (wire.Listed[lineage.DataSet], error) {
	return act.List(s.Base, by, func(r records.View) ([]lineage.DataSet, string, error) {
		return r.DataSets(ctx, name, p)
	})
}

// DataSet finds a revision of a data set.
func (s *Service) DataSet(ctx context.Context, by act.Actor, ref string) (*lineage.DataSet, error) {
	if err := by.May(access.Read); err != nil {
		return nil, err
	}
	return s.FindDataSet(ctx, s.Read(by), "data", ref)
}

// FindDataSet finds the revision that a ref names. A name alone will do only when there is
// one revision: nothing ever stands for the newest.
func (s *Service) FindDataSet(ctx context.Context, r records.View, field, raw string) (*lineage.DataSet, error) {
	ref, err := lineage.ParseDataRef(field, raw)
	if err != nil {
		return nil, err
	}
	newest, err := r.NewestDataSet(ctx, ref.Name)
	if errors.Is(err, records.ErrNone) {
		return nil, fault.New(fault.Unknown, "data.unknown", "there is no data set %q", ref.Name).In(field).
			Do("add it with: innerladder data add %s FILE", ref.Name)
	}
	if err != nil {
		return nil, err
	}
	switch {
	case ref.Number == 0 && newest.Number > 1:
		return nil, fault.New(fault.Refused, "data.several", "%s has %d revisions", ref.Name, newest.Number).In(field).
			Do("name one of %s#1 to %s", ref.Name, newest.Ref)
	case ref.Number == 0 || ref.Number == newest.Number:
		return newest, nil
	}
	d, err := r.DataSet(ctx, ref)
	if errors.Is(err, records.ErrNone) {
		return nil, fault.New(fault.Unknown, "data.unknown", "there is no %s", ref).In(field).
			Do("%s has revisions 1 to %d", ref.Name, newest.Number)
	}
	return d, err
}

// EvaluatedOn notes that a version was evaluated on a data set after it was registered.
func (s *Service) EvaluatedOn(ctx context.Context, by act.Actor, ref, data string) (*registry.Version, error) {
	return act.Change(ctx, s.Base, by, access.Register, func(t *act.Tx) (*registry.Version, error) {
		v, err := s.Resolve(ctx, t.View, "version", ref)
		if err != nil {
			return nil, err
		}
		d, err := s.FindDataSet(ctx, t.View, "data", data)
		if err != nil {
			return nil, err
		}
		use := lineage.DataUse{Data: d.Ref, Role: lineage.EvaluatedOn}
		if slices.Contains(v.Data, use) {
			return v, nil
		}
		if err := t.LinkEvaluation(ctx, v.Ref, d.Ref); err != nil {
			return nil, err
		}
		v.Data = append(v.Data, use)
		return v, t.Note(ctx, act.Entry{
			Project: v.Project, Kind: "version.evaluated", Subject: v.Ref,
			Sentence: v.Ref + " was evaluated on " + d.Ref + ".", After: use,
		})
	})
}

// StartRun opens a run.
func (s *Service) StartRun(ctx context.Context, by act.Actor, in wire.NewRun) (*lineage.Run, error) {
	if err := naming.Check("model", in.Model); err != nil {
		return nil, err
	}
	for _, d := range in.Data {
		if err := lineage.CheckRole("role", d.Role); err != nil {
			return nil, err
		}
	}
	return act.Change(ctx, s.Base, by, access.Register, func(t *act.Tx) (*lineage.Run, error) {
		project, err := s.runProject(ctx, t, in)
		if err != nil {
			return nil, err
		}
		run := &lineage.Run{
			Project: project, Model: in.Model, Title: in.Title, State: lineage.Running,
			By: t.By.Name, Machine: in.Machine, Started: t.Now, Params: in.Params, Metrics: map[string]float64{},
			Code: in.Code,
		}
		if run.Params == nil {
			run.Params = map[string]string{}
		}
		for _, use := range in.Data {
			d, err := s.FindDataSet(ctx, t.View, "data", use.Data)
			if err != nil {
				return nil, err
			}
			run.Data = append(run.Data, lineage.DataUse{Data: d.Ref, Role: use.Role})
		}
		if err := t.AddRun(ctx, run); err != nil {
			return nil, err
		}
		return run, t.Note(ctx, act.Entry{
			Project: run.Project, Kind: "run.started", Subject: run.Ref,
			Sentence: run.Ref + " was started, training " + run.Model + ".", Reason: in.Title, After: run,
		})
	})
}

// runProject is the project of a new run: that of its model when there is one.
func (s *Service) runProject(ctx context.Context, t *act.Tx, in wire.NewRun) (string, error) {
	m, err := t.Model(ctx, in.Model)
	if errors.Is(err, records.ErrNone) {
		if err := act.NameFree(ctx, t.View, "models", in.Model); err != nil {
			return "", err
		}
		return s.people.ProjectFor(ctx, t, in.Project)
	}
	return m.Project, err
}

// Runs lists runs, newest first.
func (s *Service) Runs(ctx context.Context, by act.Actor, model string,
	p records.Page,
) (wire.Listed[lineage.Run], error) {
	return act.List(s.Base, by, func(r records.View) ([]lineage.Run, string, error) { return r.Runs(ctx, model, p) })
}

// Run finds a run.
func (s *Service) Run(ctx context.Context, by act.Actor, ref string) (*lineage.Run, error) {
	if err := by.May(access.Read); err != nil {
		return nil, err
	}
	return s.FindRun(ctx, s.Read(by), "run", ref)
}

// FindRun finds a run by run-NUMBER, or says how to see which there are.
func (s *Service) FindRun(ctx context.Context, r records.View, field, ref string) (*lineage.Run, error) {
	n, err := lineage.ParseRunRef(field, ref)
	if err != nil {
		return nil, err
	}
	run, err := r.Run(ctx, n)
	if errors.Is(err, records.ErrNone) {
		return nil, fault.New(fault.Unknown, "run.unknown", "there is no %s", lineage.RunRef(n)).In(field).
			Do("see them with: innerladder runs")
	}
	return run, err
}

// pointsAtOnce is how many points one call may log.
const pointsAtOnce = 10_000

// LogRun adds parameters and points to a run that is open. Points are many, so they are
// no entries of the record; when the run ends, that is one.
func (s *Service) LogRun(ctx context.Context, by act.Actor, ref string, params map[string]string,
	points []lineage.Point,
) (wire.Logged, error) {
	if len(points) > pointsAtOnce {
		return wire.Logged{}, fault.New(fault.TooLarge, "run.points", "%d points are given", len(points)).In("points").
			Do("log at most %d at once", pointsAtOnce)
	}
	for i, p := range points {
		if p.Metric == "" || math.IsNaN(p.Value) || math.IsInf(p.Value, 0) {
			return wire.Logged{}, fault.New(fault.Invalid, "run.point", "point %d is %q = %v", i+1, p.Metric, p.Value).
				In("points").Do("give every point a metric and a finite value")
		}
	}
	return act.Change(ctx, s.Base, by, access.Register, func(t *act.Tx) (wire.Logged, error) {
		run, err := s.openRun(ctx, t, ref)
		if err != nil {
			return wire.Logged{}, err
		}
		for i := range points {
			if points[i].At.IsZero() {
				points[i].At = t.Now
			}
		}
		if err := t.Need(run.Project); err != nil {
			return wire.Logged{}, err
		}
		if err := t.PutRunParams(ctx, run.Number, params); err != nil {
			return wire.Logged{}, err
		}
		return wire.Logged{Run: run.Ref, Points: len(points), Params: len(params)}, t.PutPoints(ctx, run.Number, points)
	})
}

// openRun finds a run that has not ended.
func (s *Service) openRun(ctx context.Context, t *act.Tx, ref string) (*lineage.Run, error) {
	run, err := s.FindRun(ctx, t.View, "run", ref)
	if err == nil && run.State != lineage.Running {
		return nil, fault.New(fault.Refused, "run.ended", "%s has %s", run.Ref, run.State).In("run").
			Do("start another run")
	}
	return run, err
}

// EndRun closes a run.
func (s *Service) EndRun(ctx context.Context, by act.Actor, ref string, failed bool,
	note string,
) (*lineage.Run, error) {
	return act.Change(ctx, s.Base, by, access.Register, func(t *act.Tx) (*lineage.Run, error) {
		run, err := s.openRun(ctx, t, ref)
		if err != nil {
			return nil, err
		}
		run.State, run.Note, run.Ended = lineage.Finished, note, &t.Now
		if failed {
			run.State = lineage.Broken
		}
		if err := t.CloseRun(ctx, run.Number, run.State, note, t.Now); err != nil {
			return nil, err
		}
		return run, t.Note(ctx, act.Entry{
			Project: run.Project, Kind: "run.ended", Subject: run.Ref,
			Sentence: fmt.Sprintf("%s %s after %s.", run.Ref, run.State,
				t.Now.Sub(run.Started).Round(time.Millisecond)), Reason: note, After: run,
		})
	})
}

// Curves reads the curves of a run.
func (s *Service) Curves(ctx context.Context, by act.Actor, ref string) ([]lineage.Curve, error) {
	run, err := s.Run(ctx, by, ref)
	if err != nil {
		return nil, err
	}
	return s.Read(by).Curves(ctx, run.Number, curvePoints)
}

const (
	// defaultNodes and mostNodes are how many nodes a trace has, unless and at most.
	defaultNodes, mostNodes = 200, 2000
	defaultDepth, mostDepth = 10, 50
)

// Trace follows the lineage: up to what something was made from, down to what was made
// from it.
func (s *Service) Trace(ctx context.Context, by act.Actor, from wire.TraceFrom) (lineage.Trace, error) {
	if err := by.May(access.Read); err != nil {
		return lineage.Trace{}, err
	}
	if from.Most == 0 {
		from.Most = defaultNodes
	}
	if from.Depth == 0 {
		from.Depth = defaultDepth
	}
	switch {
	case from.Most < 1 || from.Most > mostNodes:
		return lineage.Trace{}, fault.New(fault.Invalid, "trace.limit", "%d nodes are asked for", from.Most).
			In("limit").Do("give 1 to %d", mostNodes)
	case from.Depth < 1 || from.Depth > mostDepth:
		return lineage.Trace{}, fault.New(fault.Invalid, "trace.depth", "a depth of %d is asked for", from.Depth).
			In("depth").Do("give 1 to %d", mostDepth)
	case from.Direction != "" && from.Direction != lineage.Up && from.Direction != lineage.Down &&
		from.Direction != lineage.Both:
		return lineage.Trace{}, fault.New(fault.Invalid, "trace.direction", "%q is no direction", from.Direction).
			In("direction").Do("use %s, %s or %s", lineage.Up, lineage.Down, lineage.Both)
	}
	r := s.Read(by)
	roots, answer, err := s.traceRoots(ctx, r, from.From)
	if err != nil {
		return lineage.Trace{}, err
	}
	out, err := walkBoth(ctx, r, roots, from)
	if err != nil {
		return out, err
	}
	out.Answer = answer
	if from.Artifacts {
		return out, s.addArtifacts(ctx, r, &out)
	}
	return out, nil
}

// traceRoots finds the nodes that a trace begins at.
func (s *Service) traceRoots(ctx context.Context, r records.View,
	from string,
) ([]records.Node, *lineage.Answer, error) {
	one := func(n records.Node, err error) ([]records.Node, *lineage.Answer, error) {
		return []records.Node{n}, nil, err
	}
	switch id, notUUID := uuid.Parse(from); {
	case strings.Contains(from, "@"):
		v, err := s.Resolve(ctx, r, "from", from)
		if err != nil {
			return nil, nil, err
		}
		return one(r.VersionNode(ctx, v.Ref))
	case notUUID == nil:
		answer, err := s.whoAnswered(ctx, r, id, from)
		if err != nil {
			return nil, nil, err
		}
		n, err := r.VersionNode(ctx, answer.Version)
		return []records.Node{n}, answer, err
	case strings.HasPrefix(from, "run-") && strings.Trim(from[4:], "0123456789") == "":
		run, err := s.FindRun(ctx, r, "from", from)
		if err != nil {
			return nil, nil, err
		}
		return one(records.Node{Kind: records.RunNode, ID: run.Number}, nil)
	}
	if ref, err := lineage.ParseDataRef("from", from); err == nil {
		nodes, err := r.DataNodes(ctx, ref)
		if err != nil || len(nodes) > 0 {
			return nodes, nil, err
		}
	}
	if len(from) >= 7 {
		nodes, err := r.CodeNodes(ctx, from)
		if err != nil || len(nodes) > 0 {
			return nodes, nil, err
		}
	}
	return nil, nil, fault.New(fault.Unknown, "trace.unknown",
		"%q is no version, data set, run, commit or request that is known", from).In("from").
		Do("write MODEL@NUMBER, a data set's NAME or NAME#NUMBER, run-NUMBER, at least 7 digits of a commit, or a " +
			"request's id")
}

// walkBoth follows links in the directions asked for and describes what it came to.
func walkBoth(ctx context.Context, r records.View, roots []records.Node, from wire.TraceFrom) (lineage.Trace, error) {
	out := lineage.Trace{Roots: []string{}, Nodes: []lineage.Node{}, Links: []lineage.Link{}}
	depths := map[records.Node]int{}
	var order []records.Node
	links := map[records.Link]bool{}
	var linkOrder []records.Link
	up := func(l records.Link) (near, far records.Node) { return l.From, l.To }
	down := func(l records.Link) (near, far records.Node) { return l.To, l.From }
	for _, way := range []struct {
		sign  int
		on    bool
		links func(context.Context, []records.Node, int) ([]records.Link, error)
		ends  func(records.Link) (near, far records.Node)
	}{
		{-1, from.Direction != lineage.Down, r.MadeFrom, up},
		{1, from.Direction != lineage.Up, r.MadeInto, down},
	} {
		if !way.on {
			continue
		}
		reached, cut, err := lineage.Walk(roots, from.Depth, from.Most,
			func(nodes []records.Node) ([][2]records.Node, error) {
				// One more link than could be shown tells that something is left out.
				found, err := way.links(ctx, nodes, 4*from.Most+1)
				if err == nil {
					found, err = r.LinksInSight(ctx, found)
				}
				pairs := make([][2]records.Node, len(found))
				for i, l := range found {
					near, far := way.ends(l)
					pairs[i] = [2]records.Node{near, far}
					if !links[l] {
						links[l] = true
						linkOrder = append(linkOrder, l)
					}
				}
				return pairs, err
			})
		if err != nil {
			return out, err
		}
		out.Cut = out.Cut || cut
		for _, n := range reached {
			if _, there := depths[n.Key]; !there {
				depths[n.Key] = way.sign * n.Depth
				order = append(order, n.Key)
			}
		}
	}
	if len(order) > from.Most {
		order, out.Cut = order[:from.Most], true
	}
	described, err := r.Describe(ctx, order)
	if err != nil {
		return out, err
	}
	shown := map[records.Node]string{}
	for _, n := range order {
		d, there := described[n]
		if !there {
			continue
		}
		d.Depth = depths[n]
		shown[n] = d.ID
		out.Nodes = append(out.Nodes, d)
		if d.Depth == 0 && slices.Contains(roots, n) {
			out.Roots = append(out.Roots, d.ID)
		}
	}
	for _, l := range linkOrder {
		a, okA := shown[l.From]
		b, okB := shown[l.To]
		if okA && okB {
			out.Links = append(out.Links, lineage.Link{From: a, Relation: l.Relation, To: b})
		}
	}
	return out, nil
}

// addArtifacts adds the files of the versions in the trace.
func (s *Service) addArtifacts(ctx context.Context, r records.View, t *lineage.Trace) error {
	seen := map[string]bool{}
	for _, n := range slices.Clone(t.Nodes) {
		if n.Kind != lineage.VersionNode || strings.HasPrefix(n.Detail, "deleted") {
			continue
		}
		versions, err := r.VersionsByRef(ctx, []string{n.ID})
		if err != nil {
			return err
		}
		for _, a := range versions[0].Artifacts {
			id := "sha256:" + a.Digest[:16]
			if !seen[id] {
				seen[id] = true
				t.Nodes = append(t.Nodes, lineage.Node{
					ID: id, Kind: lineage.ArtifactNode, Detail: a.Name,
					Depth: n.Depth - 1,
				})
			}
			t.Links = append(t.Links, lineage.Link{From: n.ID, Relation: lineage.Holds, To: id})
		}
	}
	return nil
}

// whoAnswered reads off a request's id who answered it, and finds out how that version
// came to be allowed to.
func (s *Service) whoAnswered(ctx context.Context, r records.View, id uuid.UUID, raw string) (*lineage.Answer, error) {
	unknown := fault.New(fault.Unknown, "request.unknown", "%s is the id of no request that was answered here", raw).
		In("from").
		Do("copy the whole header Inner-Ladder-Request of the answer")
	at, origin, ok := s.requests.Read(id)
	if !ok {
		return nil, unknown
	}
	if origin.Lane == traffic.NoLane {
		return nil, fault.New(fault.Unknown, "request.refused", "no version answered request %s: it was turned away",
			raw).In("from").Do("see why with: innerladder request %s", raw)
	}
	a, err := r.LaneOf(ctx, origin.Endpoint, origin.Split, origin.Lane)
	if errors.Is(err, records.ErrNone) {
		return nil, unknown
	}
	if err != nil {
		return nil, err
	}
	a.Request, a.At = id.String(), at
	a.Approval, a.SignedBy, err = r.ApprovalBefore(ctx, a.Version, at)
	if errors.Is(err, records.ErrNone) {
		err = nil // no promotion was needed
	}
	return &a, err
}
