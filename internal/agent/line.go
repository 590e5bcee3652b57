package agent

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/elsewhere"
	"innerladder/internal/core/request"
	"innerladder/internal/core/sketch"
	"innerladder/internal/oip"

	"github.com/tidwall/gjson"
)

// Fields are what an observation is made of, and where each stands in a line unless it is said otherwise.
var Fields = []string{"at", "version", "ms", "status", "outcome", "caller", "inputs", "outputs"}

// Reading says how lines are read.
type Reading struct {
	// Paths say where fields stand that do not stand under their own names, such as request.inputs.
	Paths map[string]string
	// Version is that of lines that name none.
	Version string
}

// Check says whether lines can be read so.
func (r Reading) Check() error {
	for field, path := range r.Paths {
		if !slices.Contains(Fields, field) {
			return fmt.Errorf("%q is nothing that an observation has; it has %s", field, strings.Join(Fields, ", "))
		}
		if path == "" {
			return fmt.Errorf("it is not said where %s stands", field)
		}
	}
	return nil
}

// Observation is one request that was answered elsewhere.
type Observation struct {
	At      time.Time
	Version string
	Class   sketch.Class
	// Took is how long it took, and is only known where Timed is set.
	Took   time.Duration
	Timed  bool
	Caller string
	// Inputs and Outputs are what was asked and answered; Unread is set where they are there and cannot be understood.
	Inputs, Outputs []oip.Tensor
	Unread          bool
	// Typed is set where the outputs say of which type they are.
	Typed bool
}

// longestLine is the longest line that is looked at.
const longestLine = 4 << 20

// observation reads a line; why says what is wrong with one that is none. arrived is when the line came, which is when
// the request was, where it does not say.
func (r Reading) observation(line []byte, arrived, now time.Time) (o Observation, why string) {
	if len(line) > longestLine {
		return o, fmt.Sprintf("it is longer than %d MiB", longestLine>>20)
	}
	if !gjson.ValidBytes(line) || !gjson.ParseBytes(line).IsObject() {
		return o, "it is no JSON object"
	}
	get := func(field string) gjson.Result {
		if path := r.Paths[field]; path != "" {
			return gjson.GetBytes(line, path)
		}
		return gjson.GetBytes(line, field)
	}
	if o.At, why = moment(get("at"), arrived); why != "" {
		return o, why
	}
	if o.At.After(now.Add(elsewhere.Ahead)) {
		return o, fmt.Sprintf("it is of %s, which is still to come", o.At.UTC().Format(time.RFC3339))
	}
	if o.Version = get("version").String(); o.Version == "" {
		o.Version = r.Version
	}
	if o.Version == "" || len(o.Version) > 200 {
		return o, "it does not say which version answered"
	}
	if o.Class, why = class(get("status"), get("outcome")); why != "" {
		return o, why
	}
	if ms := get("ms"); ms.Exists() && ms.Type != gjson.Null {
		if ms.Type != gjson.Number || !(ms.Num >= 0 && ms.Num <= 1e9) {
			return o, fmt.Sprintf("ms is %.40s, not a number of milliseconds", ms.Raw)
		}
		o.Took, o.Timed = time.Duration(math.Round(ms.Num*float64(time.Millisecond))), true
	}
	o.Caller = get("caller").String()
	if o.Class == sketch.Answered {
		o.read(get("inputs"), get("outputs"))
	}
	return o, ""
}

// read takes what was asked and answered apart.
func (o *Observation) read(inputs, outputs gjson.Result) {
	var ok [2]bool
	o.Inputs, _, ok[0] = columns(inputs)
	o.Outputs, o.Typed, ok[1] = columns(outputs)
	rows := -1
	for _, t := range slices.Concat(o.Inputs, o.Outputs) {
		if rows >= 0 && t.Rows() != rows {
			ok[0] = false
		}
		rows = t.Rows()
	}
	if !ok[0] || !ok[1] {
		o.Inputs, o.Outputs, o.Unread = nil, nil, true
	}
}

// moment reads when something was: a time of RFC 3339, or seconds or milliseconds since 1970.
func moment(v gjson.Result, arrived time.Time) (at time.Time, why string) {
	switch {
	case !v.Exists() || v.Type == gjson.Null:
		return arrived, ""
	case v.Type == gjson.String:
		at, err := time.Parse(time.RFC3339Nano, v.Str)
		if err != nil || at.Year() < 1970 {
			return at, fmt.Sprintf("at is %.60q, not a time such as 2026-03-04T05:06:07Z", v.Str)
		}
		return at, ""
	case v.Type == gjson.Number && v.Num > 0 && v.Num < 1e11: // until the year 5138
		return time.UnixMicro(int64(v.Num * 1e6)), ""
	case v.Type == gjson.Number && v.Num >= 1e11 && v.Num < 1e14:
		return time.UnixMilli(int64(v.Num)), ""
	}
	return at, fmt.Sprintf("at is %.60s, not a time such as 2026-03-04T05:06:07Z, or seconds since 1970", v.Raw)
}

// class reads how a request ended: by a word, by a status of HTTP, or well where neither is said.
func class(status, outcome gjson.Result) (sketch.Class, string) {
	if outcome.Exists() && outcome.Type != gjson.Null {
		c, ok := request.Outcome(outcome.String()).Class()
		if !ok {
			return c, fmt.Sprintf("outcome is %.40s, not one of answered, caller_error, server_error, timed_out, "+
				"not_reached, malformed, abandoned", outcome.Raw)
		}
		return c, ""
	}
	switch s := status.Num; {
	case !status.Exists() || status.Type == gjson.Null || s >= 200 && s < 400:
		return sketch.Answered, ""
	case s >= 400 && s < 500:
		return sketch.CallerError, ""
	case s >= 500 && s < 600:
		return sketch.ServerError, ""
	}
	return sketch.Answered, fmt.Sprintf("status is %.40s, not one of HTTP", status.Raw)
}

// columns reads what was asked or answered: tensors of the Open Inference Protocol, values or lists of values by name,
// or a list of rows. There may be nothing.
func columns(v gjson.Result) (out []oip.Tensor, typed, ok bool) {
	switch {
	case !v.Exists() || v.Type == gjson.Null:
		return nil, false, true
	case v.IsObject():
		out, ok = byName(v)
		return out, false, ok
	case !v.IsArray():
		return nil, false, false
	}
	if first := v.Get("0"); first.Get("data").IsArray() && first.Get("name").Exists() {
		out, err := oip.Tensors([]byte(`{"inputs":`+v.Raw+`}`), "inputs")
		return out, true, err == nil
	}
	out, ok = byRow(v)
	return out, false, ok
}

// plain is a value as columns count it.
func plain(v gjson.Result) (x any, ok bool) {
	switch v.Type {
	case gjson.Number:
		return v.Num, true
	case gjson.String:
		return v.Str, true
	case gjson.True, gjson.False:
		return v.Type == gjson.True, true
	case gjson.Null:
		return nil, true
	}
	return nil, false
}

// byName reads {"outdoor_c": -3.5, "mix": "harbour"}, or the same with lists of as many values each.
func byName(v gjson.Result) (out []oip.Tensor, ok bool) {
	ok = true
	v.ForEach(func(name, value gjson.Result) bool {
		t := oip.Tensor{Name: name.String()}
		if value.IsArray() {
			value.ForEach(func(_, item gjson.Result) bool {
				x, is := plain(item)
				ok = ok && is
				t.Data = append(t.Data, x)
				return true
			})
		} else {
			x, is := plain(value)
			ok = ok && is
			t.Data = oip.Data{x}
		}
		t.Shape = []int64{int64(len(t.Data))}
		out = append(out, t)
		return ok
	})
	return out, ok
}

// byRow reads [{"outdoor_c": -3.5}, {"outdoor_c": -3.1}]; what a row does not have is missing in it.
func byRow(v gjson.Result) (out []oip.Tensor, ok bool) {
	at := map[string]int{}
	rows := 0
	ok = true
	v.ForEach(func(_, row gjson.Result) bool {
		if ok = row.IsObject(); !ok {
			return false
		}
		row.ForEach(func(name, value gjson.Result) bool {
			i, there := at[name.String()]
			if !there {
				i = len(out)
				at[name.String()] = i
				out = append(out, oip.Tensor{Name: name.String()})
			}
			x, is := plain(value)
			ok = ok && is
			out[i].Data = append(out[i].Data, make(oip.Data, max(0, rows-len(out[i].Data)))...)
			out[i].Data = append(out[i].Data[:rows], x)
			return ok
		})
		rows++
		return ok
	})
	for i := range out {
		out[i].Data = append(out[i].Data, make(oip.Data, rows-len(out[i].Data))...)
		out[i].Shape = []int64{int64(rows)}
	}
	return out, ok
}
