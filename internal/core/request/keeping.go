package request

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/fault"
)

// Keeping says what the log of an endpoint has. Failures, refusals and requests that another version answered are
// always among it, the others by Share.
type Keeping struct {
	Share     int    `json:"share" minimum:"0" maximum:"10000" description:"basis points of those without a fault"`
	PerSecond int    `json:"per_second" minimum:"0" description:"of those at most about so many a second; 0 for all"`
	Bytes     int    `json:"bytes" minimum:"0" description:"the largest body that is kept; 0 for none"`
	For       string `json:"for" description:"how long, such as 168h"`
	// Columns say what is not kept as it came; the first rule whose pattern fits counts.
	Columns []ColumnRule `json:"columns" description:"what is not kept as it came; the first that fits counts"`
}

// ColumnRule says what becomes of the columns whose names fit a pattern.
type ColumnRule struct {
	Pattern string `json:"pattern" description:"a column's name; * stands for any letters"`
	How     How    `json:"how" enum:"hide,hash"`
}

// How is what becomes of a column.
type How string

const (
	// Hide leaves the values out.
	Hide How = "hide"
	// Hash keeps of each value a keyed hash, so that equal ones can be told.
	Hash How = "hash"
)

const (
	// LargestKept is the largest body that can be kept.
	LargestKept = 1 << 20
	// mostColumnRules is how many rules an endpoint has at most.
	mostColumnRules = 100
	wholeShare      = 10_000
	longestKept     = 400 * 24 * time.Hour
)

// UsualKeeping holds until another is chosen: enough to look into what goes on, and little enough for any disk.
func UsualKeeping() Keeping {
	return Keeping{Share: wholeShare, PerSecond: 100, Bytes: 16 << 10, For: "168h", Columns: []ColumnRule{}}
}

// Check says whether an endpoint can keep requests so.
func (k Keeping) Check() error {
	bad := func(field, remedy, format string, args ...any) error {
		return fault.New(fault.Invalid, "requests.keeping", format, args...).In("requests."+field).Do("%s", remedy)
	}
	if k.Share < 0 || k.Share > wholeShare {
		return bad("share", "give 0 to 100 %", "a share of %g %% is not possible", float64(k.Share)/100)
	}
	if k.PerSecond < 0 {
		return bad("per_second", "give 0 for all, or a number such as 100", "%d a second cannot be kept", k.PerSecond)
	}
	if k.Bytes < 0 || k.Bytes > LargestKept {
		return bad("bytes", "give 0 to 1048576 (1 MiB)", "bodies of %d bytes cannot be kept", k.Bytes)
	}
	if age, err := time.ParseDuration(k.For); err != nil || age < time.Hour || age > longestKept {
		return bad("for", "give 1h to 9600h, such as 168h", "requests cannot be kept for %q", k.For)
	}
	if len(k.Columns) > mostColumnRules {
		return bad("columns", "use patterns such as customer_*", "%d rules for columns are too many", len(k.Columns))
	}
	for _, c := range k.Columns {
		if c.Pattern == "" {
			return bad("columns", "give a column's name; * stands for any letters", "a rule names no column")
		}
		if c.How != Hide && c.How != Hash {
			return bad("columns", "use hide or hash", "a column cannot be kept by %q", c.How)
		}
	}
	return nil
}

// String says in words of which requests something is kept, and for how long.
func (k Keeping) String() string {
	s := fmt.Sprintf("%g %% of the requests without a fault and all others, for %s", float64(k.Share)/100, k.For)
	if k.PerSecond > 0 {
		s += fmt.Sprintf("; about %d a second at most", k.PerSecond)
	}
	return s
}

// Age is how long requests are kept.
func (k Keeping) Age() time.Duration {
	d, _ := time.ParseDuration(k.For) // it was checked
	return d
}

// Of is what becomes of a column, empty when it is kept as it came.
func (k Keeping) Of(column string) How {
	for _, c := range k.Columns {
		if fits(c.Pattern, column) {
			return c.How
		}
	}
	return ""
}

// fits reports whether a name is as a pattern says, in which * stands for any letters.
func fits(pattern, name string) bool {
	parts := strings.Split(pattern, "*")
	last := len(parts) - 1
	if last == 0 {
		return pattern == name
	}
	rest, begins := strings.CutPrefix(name, parts[0])
	for _, p := range parts[1:last] {
		at := strings.Index(rest, p)
		if at < 0 {
			return false
		}
		rest = rest[at+len(p):]
	}
	return begins && strings.HasSuffix(rest, parts[last])
}

// Kept is what is kept of a body, with why it is not all of it; nil when nothing is. secret keys the hashes. Where
// columns are not to be kept as they came, nothing is kept of a body in which they cannot be told.
func (k Keeping) Kept(body []byte, secret []byte) (kept json.RawMessage, note string) {
	switch {
	case len(body) == 0:
		return nil, ""
	case len(body) > k.Bytes:
		return nil, "larger than is kept"
	case !json.Valid(body):
		return nil, "no JSON"
	case len(k.Columns) == 0:
		return slices.Clone(body), ""
	}
	return k.without(body, secret)
}

// message is what is kept of a body when columns are hidden: nothing whose meaning is not known.
type message struct {
	ID           string   `json:"id,omitempty"`
	ModelName    string   `json:"model_name,omitempty"`
	ModelVersion string   `json:"model_version,omitempty"`
	Inputs       []tensor `json:"inputs,omitempty"`
	Outputs      []tensor `json:"outputs,omitempty"`
}

type tensor struct {
	Name     string          `json:"name"`
	Datatype string          `json:"datatype,omitempty"`
	Shape    []int64         `json:"shape,omitempty"`
	Data     json.RawMessage `json:"data,omitempty"`
}

func (k Keeping) without(body, secret []byte) (json.RawMessage, string) {
	var m message
	if err := json.Unmarshal(body, &m); err != nil || len(m.Inputs)+len(m.Outputs) == 0 {
		return nil, "not kept, because columns are hidden and it has none"
	}
	var hidden, hashed []string
	for _, side := range [][]tensor{m.Inputs, m.Outputs} {
		for i := range side {
			t := &side[i]
			switch k.Of(t.Name) {
			case Hide:
				hidden = append(hidden, t.Name)
				t.Data = nil
			case Hash:
				hashed = append(hashed, t.Name)
				t.Data = hashes(t.Data, secret)
			}
		}
	}
	kept, err := json.Marshal(m)
	if err != nil {
		return nil, "not kept, because it cannot be written without the columns that are hidden"
	}
	var notes []string
	if len(hidden) > 0 {
		notes = append(notes, "hidden: "+strings.Join(hidden, ", "))
	}
	if len(hashed) > 0 {
		notes = append(notes, "hashed: "+strings.Join(hashed, ", "))
	}
	return kept, strings.Join(notes, "; ")
}

// hashes replaces every value by a hash of it, whatever the nesting. A value has one hash however it was written.
func hashes(data json.RawMessage, secret []byte) json.RawMessage {
	var values any
	d := json.NewDecoder(bytes.NewReader(data))
	if err := d.Decode(&values); err != nil {
		return nil
	}
	var each func(any) any
	each = func(v any) any {
		list, ok := v.([]any)
		if !ok {
			return hashOf(v, secret)
		}
		out := make([]any, len(list))
		for i, item := range list {
			out[i] = each(item)
		}
		return out
	}
	out, err := json.Marshal(each(values))
	if err != nil {
		return nil
	}
	return out
}

func hashOf(v any, secret []byte) any {
	if v == nil {
		return nil
	}
	plain, err := json.Marshal(v)
	if err != nil {
		return nil
	}
	mac := hmac.New(sha256.New, secret)
	mac.Write(plain)
	return "h:" + hex.EncodeToString(mac.Sum(nil)[:8])
}
