package requests

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"net/http"
	"slices"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/explain"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/profile"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/signature"
	"innerladder/internal/oip"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

const (
	// askedTogether is how many rows are asked with one request, mostExplained how many are asked of each version.
	askedTogether = 256
	mostExplained = 50_000
	// explainWithin is how long an explanation may take.
	explainWithin = time.Minute
)

// errSlow is said where it takes longer.
var errSlow = fault.New(fault.Unavailable, "explain.slow", "that takes longer than %v", explainWithin).In("pairs").
	Do("draw fewer pairs, or name fewer versions")

// Explain says which inputs moved the predictions of versions for one row, and how sure that is: Shapley values by
// sampling, with a background from the reference profile of the first version. No lane counts what they are asked.
func (s *Service) Explain(ctx context.Context, by act.Actor, in wire.ExplainVersions) (wire.Explained, error) {
	out := wire.Explained{
		Environment: in.Environment, Inputs: []wire.ExplainedInput{}, Items: []wire.ExplainedVersion{},
	}
	versions, err := s.toAsk(ctx, by, in.Versions)
	if err != nil {
		return out, err
	}
	pairs := cmp.Or(in.Pairs, explain.UsualPairs)
	if pairs < explain.LeastPairs || pairs > explain.MostPairs {
		return out, fault.New(fault.Invalid, "explain.pairs", "%d pairs of orders cannot be drawn", pairs).In("pairs").
			Do("draw %d to %d", explain.LeastPairs, explain.MostPairs)
	}
	if out.Request, err = s.toTry(ctx, versions[0], in.TryVersions); err != nil {
		return out, err
	}
	own, err := oneRow(out.Request)
	if err != nil {
		return out, err
	}
	background, moved, err := s.background(ctx, versions[0], in.Environment, out.Request, own, pairs)
	if err != nil {
		return out, err
	}
	if rows := 2 * len(moved) * pairs; rows > mostExplained {
		return out, fault.New(fault.Invalid, "explain.rows", "%d rows would have to be asked", rows).In("pairs").
			Do("draw fewer pairs: %d at most", mostExplained/2/len(moved))
	}
	out.Pairs = pairs
	for _, i := range moved {
		one := own.Inputs[i]
		out.Inputs = append(out.Inputs, wire.ExplainedInput{Name: one.Name, Value: joined(one.Data)})
	}
	for i := range own.Inputs {
		if !slices.Contains(moved, i) {
			out.Fixed = append(out.Fixed, own.Inputs[i].Name)
		}
	}
	rows := explain.Rows(len(moved), pairs)
	ctx, cancel := context.WithTimeoutCause(ctx, explainWithin, errSlow)
	defer cancel()
	for _, v := range versions {
		one, err := s.explainOne(ctx, by, v, in, own, background, moved, rows, pairs)
		if errors.Is(context.Cause(ctx), errSlow) {
			err = errSlow
		}
		if err != nil {
			return out, err
		}
		out.Items = append(out.Items, one)
	}
	return out, nil
}

// toAsk finds the versions that are asked, all of one model.
func (s *Service) toAsk(ctx context.Context, by act.Actor, refs []string) ([]*registry.Version, error) {
	if err := by.May(access.Inspect); err != nil {
		return nil, err
	}
	if len(refs) == 0 || len(refs) > mostTried {
		return nil, fault.New(fault.Invalid, "try.versions", "%d versions are named", len(refs)).In("versions").
			Do("name from 1 to %d", mostTried)
	}
	var versions []*registry.Version
	for _, ref := range refs {
		v, err := s.registry.Version(ctx, by, ref)
		if err != nil {
			return nil, err
		}
		if err := by.Need(access.Inspect, v.Project); err != nil {
			return nil, err
		}
		if versions = append(versions, v); v.Model != versions[0].Model {
			return nil, fault.New(fault.Invalid, "try.models", "%s is no version of %s", v.Ref, versions[0].Model).
				In("versions").Do("name versions of one model")
		}
	}
	return versions, nil
}

// oneRow takes a request of one row apart.
func oneRow(request json.RawMessage) (signature.Row, error) {
	r, err := signature.TakeApart(request)
	if err != nil {
		return r, fault.New(fault.Invalid, "explain.request", "the request cannot be explained: %v", err).In("request").
			Do("give a request of one row, whose values stand in flat lists")
	}
	return r, nil
}

// joined are the values of a row as they stand in a request.
func joined(data []json.RawMessage) json.RawMessage {
	if len(data) == 1 {
		return data[0]
	}
	out, err := json.Marshal(data)
	if err != nil {
		return nil
	}
	return out
}

// background draws rows from the reference profile of a version, and says which inputs are in it.
func (s *Service) background(ctx context.Context, v *registry.Version, environment string, request json.RawMessage,
	own signature.Row, n int,
) (rows []signature.Row, moved []int, err error) {
	r := s.DB.Read(records.Everything)
	p, err := r.Profile(ctx, v.Model, v.Number)
	if err != nil {
		return nil, nil, err
	}
	exact := v.Signature
	if placed, err := r.PlacementOf(ctx, v.Ref, environment); err == nil {
		exact = placed.Exactly(exact)
	}
	if p != nil && exact != nil {
		// The same each time, so that explanations can be compared.
		d, err := profile.NewDrawing(p, exact, v.Signature, request, uint64(v.Number))
		if err != nil {
			return nil, nil, err
		}
		for _, name := range d.Columns {
			moved = append(moved, own.Input(name))
		}
		if rows, err = d.Rows(n); err != nil {
			return nil, nil, err
		}
	}
	if len(moved) == 0 {
		return nil, nil, fault.New(fault.Refused, "explain.no_profile", "%s has no reference profile of what it takes",
			v.Ref).In("versions").Do("register it with sample rows: innerladder register … -sample FILE; or name one " +
			"first that has one")
	}
	return rows, moved, nil
}

// explainOne asks one version all rows, and reads the answers.
func (s *Service) explainOne(ctx context.Context, by act.Actor, v *registry.Version, in wire.ExplainVersions,
	own signature.Row, background []signature.Row, moved []int, rows []explain.Row, pairs int,
) (wire.ExplainedVersion, error) {
	out := wire.ExplainedVersion{Version: v.Ref, Moved: []wire.MovedBy{}}
	ask := func(some []explain.Row) ([]oip.Tensor, error) {
		asked, err := s.traffic.Ask(ctx, by, v.Ref, in.Environment, together(own, background, moved, some))
		switch {
		case err != nil:
			return nil, err
		case asked.Status == 0:
			return nil, fault.New(fault.Unavailable, "explain.away", "%s did not answer: %s", v.Ref, asked.Trouble)
		case asked.Status != http.StatusOK:
			return nil, errRefused
		}
		return oip.AnyTensors(asked.Answer, "outputs")
	}
	all := make([]bool, len(moved))
	for i := range all {
		all[i] = true
	}
	itself, err := ask([]explain.Row{{Own: all}})
	if err != nil {
		return out, refusedBy(v.Ref, err)
	}
	w, err := watched(itself, in.Output)
	if err != nil {
		return out, err
	}
	out.Output = w.says()
	values := make([]float64, 0, len(rows))
	size := askedTogether
	for len(values) < len(rows) {
		some := rows[len(values):min(len(rows), len(values)+size)]
		got, err := ask(some)
		var x []float64
		if err == nil {
			x, err = w.of(got, len(some))
		}
		if unfit(err) && size > 1 {
			size = 1 // it may take one row at a time only; else a row says what is wrong
			continue
		}
		if err != nil {
			return out, refusedBy(v.Ref, err)
		}
		values = append(values, x...)
	}
	e := explain.Shapley(len(moved), pairs, values)
	out.Value, out.Base, out.BaseError = e.Value, e.Base, e.BaseError
	for _, m := range e.Inputs {
		out.Moved = append(out.Moved, wire.MovedBy{By: m.By, Error: m.Error})
	}
	return out, nil
}

// errRefused is said where a version does not take what it is asked.
var errRefused = errors.New("it does not take a row with values of the reference profile")

// errOdd is said where it answers something else than before.
var errOdd = errors.New("its answer is not as that to one row")

// unfit reports whether a version does not take, or does not answer, several rows.
func unfit(err error) bool { return errors.Is(err, errRefused) || errors.Is(err, errOdd) }

// refusedBy says who refused.
func refusedBy(ref string, err error) error {
	if unfit(err) {
		return fault.New(fault.Refused, "explain.refused", "%s: %v", ref, err).In("versions").
			Do("see why with: innerladder try %s", ref)
	}
	return err
}

// together is a request of several rows, each with some inputs of its own and the others of a background.
func together(own signature.Row, background []signature.Row, moved []int, rows []explain.Row) json.RawMessage {
	all := make([]signature.Row, len(rows))
	for k, r := range rows {
		all[k].Inputs = slices.Clone(own.Inputs)
		for at, i := range moved {
			if !r.Own[at] {
				all[k].Inputs[i].Data = background[r.Background].Inputs[i].Data
			}
		}
	}
	return signature.Together(all)
}

// watching is what is explained of the outputs: a number, a class (1 where it is predicted, else 0), or a place in a
// list of numbers, such as the score of a class.
type watching struct {
	output string
	class  any
	place  int
	width  int
}

func (w watching) says() string {
	switch {
	case w.class != nil:
		return fmt.Sprintf("%s is %v", w.output, w.class)
	case w.width > 1:
		return fmt.Sprintf("%s[%d]", w.output, w.place)
	}
	return w.output
}

// watched finds what is explained: of the output that is named, or the first. Of a list of numbers it is the largest.
func watched(of []oip.Tensor, name string) (watching, error) {
	var names []string
	for _, t := range of {
		names = append(names, t.Name)
		if name != "" && t.Name != name || len(t.Data) == 0 {
			continue
		}
		w := watching{output: t.Name, width: len(t.Data)}
		best := math.Inf(-1)
		for i, v := range t.Data {
			x, is := v.(float64)
			if !is {
				if i > 0 {
					return w, fault.New(fault.Refused, "explain.output", "%s is no number and no class", t.Name).
						In("output").Do("name another output")
				}
				w.class, w.width = v, 1
				return w, nil
			}
			if x > best {
				best, w.place = x, i
			}
		}
		return w, nil
	}
	return watching{}, fault.New(fault.Invalid, "explain.output", "there is no output %q", name).In("output").
		Do("name one of %v", names)
}

// of reads what is explained off the answers to so many rows.
func (w watching) of(all []oip.Tensor, rows int) ([]float64, error) {
	i := slices.IndexFunc(all, func(t oip.Tensor) bool { return t.Name == w.output })
	if i < 0 || len(all[i].Data) != rows*w.width {
		return nil, fmt.Errorf("%w: it has not %s of %d rows", errOdd, w.output, rows)
	}
	out := make([]float64, rows)
	for r := range out {
		v := all[i].Data[r*w.width+w.place]
		x, is := v.(float64)
		switch {
		case w.class != nil && v == w.class:
			x = 1
		case w.class != nil:
			x = 0
		case !is:
			return nil, fmt.Errorf("%w: %s is %v, which is no number", errOdd, w.output, v)
		}
		out[r] = x
	}
	return out, nil
}
