package intake

import (
	"cmp"
	"encoding"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/rollout"
	"innerladder/internal/core/traffic"

	"go.yaml.in/yaml/v3"
)

// LargestPlan is how many bytes a plan of a rollout may have.
const LargestPlan = 64 << 10

// Plan reads a plan of a rollout, a YAML file of ours. Shares are written in per cent, durations as Go
// writes them. What is wrong is said with line and column.
func Plan(text []byte) (rollout.Plan, error) {
	var p rollout.Plan
	if len(text) > LargestPlan {
		return p, fault.New(fault.Invalid, "plan.large", "the plan has %d bytes", len(text)).In("text").
			Do("give at most %d", LargestPlan)
	}
	var doc yaml.Node
	if err := yaml.Unmarshal(text, &doc); err != nil {
		return p, fault.New(fault.Invalid, "plan.yaml", "the plan is no YAML: %s",
			strings.TrimPrefix(err.Error(), "yaml: ")).In("text").Do("see one with: innerladder plan show careful")
	}
	if len(doc.Content) == 0 {
		return p, fault.New(fault.Invalid, "plan.yaml", "the plan is empty").In("text").
			Do("see one with: innerladder plan show careful")
	}
	b := binder{at: map[string]*yaml.Node{}}
	if err := b.bind(doc.Content[0], reflect.ValueOf(&p).Elem(), ""); err != nil {
		return p, err
	}
	p.Complete()
	if err := p.Check(); err != nil {
		return p, b.locate(err)
	}
	return p, nil
}

// binder puts what a YAML file says into a structure of ours, by the names that it has in JSON. at is where
// each field was said.
type binder struct{ at map[string]*yaml.Node }

// bad says where something is wrong.
func (b *binder) bad(n *yaml.Node, path, remedy, what string, args ...any) error {
	field := path
	if field != "" {
		field += ": "
	}
	return fault.New(fault.Invalid, "plan.field", "line %d, column %d: %s%s", n.Line, n.Column, field,
		fmt.Sprintf(what, args...)).In("text").Do("%s", remedy)
}

// locate says in which line is what a check of the whole found wrong.
func (b *binder) locate(err error) error {
	var f *fault.Fault
	if !errors.As(err, &f) {
		return err
	}
	for path := f.Field; ; {
		if n := b.at[path]; n != nil {
			return b.bad(n, f.Field, f.Remedy, "%s", f.Detail)
		}
		i := strings.LastIndexAny(path, ".[")
		if i < 0 {
			return b.bad(b.at[""], f.Field, f.Remedy, "%s", f.Detail)
		}
		path = path[:i]
	}
}

func (b *binder) bind(n *yaml.Node, into reflect.Value, path string) error {
	b.at[path] = n
	if n.Kind == yaml.AliasNode || n.Anchor != "" {
		return b.bad(n, path, "write it out", "anchors and aliases are not used in plans")
	}
	if u, ok := into.Addr().Interface().(encoding.TextUnmarshaler); ok {
		if n.Kind != yaml.ScalarNode {
			return b.bad(n, path, "write one value", "this is %s", kindOf(n))
		}
		if err := u.UnmarshalText([]byte(n.Value)); err != nil {
			var f *fault.Fault
			errors.As(err, &f)
			return b.bad(n, path, f.Remedy, "%s", f.Detail)
		}
		return nil
	}
	switch into.Kind() {
	case reflect.Struct:
		return b.bindStruct(n, into, path)
	case reflect.Slice:
		if n.Kind != yaml.SequenceNode {
			return b.bad(n, path, "write a list", "this is %s", kindOf(n))
		}
		out := reflect.MakeSlice(into.Type(), len(n.Content), len(n.Content))
		for i, item := range n.Content {
			if err := b.bind(item, out.Index(i), fmt.Sprintf("%s[%d]", path, i)); err != nil {
				return err
			}
		}
		into.Set(out)
		return nil
	}
	if n.Kind != yaml.ScalarNode {
		return b.bad(n, path, "write one value", "this is %s", kindOf(n))
	}
	return b.bindScalar(n, into, path)
}

// bindStruct takes a mapping apart.
func (b *binder) bindStruct(n *yaml.Node, into reflect.Value, path string) error {
	if n.Kind != yaml.MappingNode {
		return b.bad(n, path, "write fields, such as name: careful", "this is %s", kindOf(n))
	}
	fields := map[string]int{}
	var names []string
	for i := range into.NumField() {
		name, _, _ := strings.Cut(into.Type().Field(i).Tag.Get("json"), ",")
		if name == "revision" {
			continue // that is given when it is kept
		}
		fields[name] = i
		names = append(names, name)
	}
	seen := map[string]bool{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		at := key.Value
		if path != "" {
			at = path + "." + key.Value
		}
		index, known := fields[key.Value]
		switch {
		case !known:
			return b.bad(key, path, "use "+strings.Join(names, ", "), "there is no field %q", key.Value)
		case seen[key.Value]:
			return b.bad(key, path, "say it once", "%q is said twice", key.Value)
		}
		seen[key.Value] = true
		if err := b.bind(value, into.Field(index), at); err != nil {
			return err
		}
	}
	return nil
}

// bindScalar reads one value. What is called share is in per cent.
func (b *binder) bindScalar(n *yaml.Node, into reflect.Value, path string) error {
	if path == "share" || strings.HasSuffix(path, ".share") {
		points, err := traffic.ParsePercent("share", n.Value)
		if err != nil {
			return b.bad(n, path, "give per cent from 0 to 100 with at most two decimals, such as 5 or 2.5 %",
				"%q is no share", n.Value)
		}
		into.SetInt(int64(points))
		return nil
	}
	wrong := func(want string) error { return b.bad(n, path, "write "+want, "%q is not %s", n.Value, want) }
	switch into.Kind() {
	case reflect.String:
		into.SetString(n.Value)
	case reflect.Int:
		x, err := strconv.ParseInt(n.Value, 10, 32)
		if err != nil {
			return wrong("a whole number")
		}
		into.SetInt(x)
	case reflect.Uint64:
		x, err := strconv.ParseUint(n.Value, 10, 53)
		if err != nil {
			return wrong("a whole number from 0 on")
		}
		into.SetUint(x)
	case reflect.Float64:
		x, err := strconv.ParseFloat(n.Value, 64)
		if err != nil {
			return wrong("a number")
		}
		into.SetFloat(x)
	default:
		return fmt.Errorf("a plan has a field of kind %s, which nobody reads", into.Kind())
	}
	return nil
}

func kindOf(n *yaml.Node) string {
	return map[yaml.Kind]string{
		yaml.MappingNode: "a group of fields", yaml.SequenceNode: "a list", yaml.ScalarNode: "a single value",
	}[n.Kind]
}

// PlanText writes a plan as Plan reads it.
func PlanText(p rollout.Plan) string {
	var out strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&out, format+"\n", args...) }
	line("name: %s", p.Name)
	line("kind: %s", p.Kind)
	if p.About != "" {
		line("about: %s", strconv.Quote(p.About))
	}
	if p.Warm > 0 {
		line("warm: %d", p.Warm)
	}
	copiesText(line, p.Copies)
	compareText(line, p.Compare)
	if len(p.First) > 0 {
		line("first:")
	}
	for _, rule := range p.First {
		line("  - %q", rule)
	}
	if len(p.Steps) > 0 {
		line("steps:")
	}
	for _, s := range p.Steps {
		line("  - share: %s", traffic.Percent(s.Share))
		if s.Time > 0 {
			line("    time: %s", s.Time)
		}
		if s.Requests > 0 {
			line("    requests: %d", s.Requests)
		}
		if s.Good != nil {
			line("    good: [%s]", strings.Join(s.Good, ", "))
		}
	}
	if p.Bake != (rollout.Bake{}) {
		line("bake:")
	}
	if p.Bake.Time > 0 {
		line("  time: %s", p.Bake.Time)
	}
	if p.Bake.Requests > 0 {
		line("  requests: %d", p.Bake.Requests)
	}
	guardsText(line, p.Guards)
	if p.Harm != (rollout.Harm{}) {
		line("harm:")
	}
	if p.Harm.BadAnswers > 0 {
		line("  bad_answers: %v", p.Harm.BadAnswers)
	}
	if p.Harm.Share > 0 {
		line("  share: %s", traffic.Percent(p.Harm.Share))
	}
	line("alpha: %v\nbeta: %v\npatience: %s\ncapacity: %v", p.Alpha, p.Beta, p.Patience, p.Capacity)
	if len(p.Hours) > 0 {
		line("hours:")
	}
	for _, h := range p.Hours {
		line("  - from: %q\n    to: %q\n    zone: %s", h.From, h.To, cmp.Or(h.Zone, "UTC"))
		if len(h.Days) > 0 {
			line("    days: [%s]", strings.Join(slices.Clone(h.Days), ", "))
		}
	}
	return out.String()
}

func copiesText(line func(string, ...any), c rollout.Copies) {
	if c.Share == 0 {
		return
	}
	line("copies:\n  share: %s", traffic.Percent(c.Share))
	if c.Time > 0 {
		line("  time: %s", c.Time)
	}
	if c.Requests > 0 {
		line("  requests: %d", c.Requests)
	}
	if c.Good != nil {
		line("  good: [%s]", strings.Join(c.Good, ", "))
	}
	if c.Tolerance > 0 {
		line("  tolerance: %v", c.Tolerance)
	}
}

func compareText(line func(string, ...any), c rollout.Compare) {
	if c.Share == 0 {
		return
	}
	line("compare:\n  share: %s\n  signal: %s\n  margin: %v", traffic.Percent(c.Share), c.Signal, c.Margin)
	if c.Alpha > 0 {
		line("  alpha: %v", c.Alpha)
	}
	if c.Time > 0 {
		line("  time: %s", c.Time)
	}
	line("  most: %s", c.Most)
}

func guardsText(line func(string, ...any), guards []guard.Guard) {
	line("guards:")
	for _, g := range guards {
		line("  - signal: %s", g.Signal)
		if g.Ratio > 0 {
			line("    ratio: %v", g.Ratio)
		}
		line("    margin: %v", g.Margin)
		if g.Then != "" {
			line("    then: %s", g.Then)
		}
	}
}
