package intake

import (
	"encoding"
	"errors"
	"fmt"
	"reflect"
	"strconv"
	"strings"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/traffic"

	"go.yaml.in/yaml/v3"
)

// largestYAML is how many bytes a YAML file of ours may have.
const largestYAML = 64 << 10

// bound reads a YAML file of ours into a structure, which check completes and judges. kind is what the file is, such as
// plan, and example how one is seen. What is wrong is said with line and column.
func bound(text []byte, kind, example string, into any, check func() error) error {
	wrong := func(code, what string, args ...any) *fault.Fault {
		return fault.New(fault.Invalid, kind+"."+code, what, args...).In("text")
	}
	if len(text) > largestYAML {
		return wrong("large", "the file has %d bytes", len(text)).Do("give at most %d", largestYAML)
	}
	var doc yaml.Node
	if err := yaml.Unmarshal(text, &doc); err != nil {
		return wrong("yaml", "the file is no YAML: %s", strings.TrimPrefix(err.Error(), "yaml: ")).
			Do("see one with: %s", example)
	}
	if len(doc.Content) == 0 {
		return wrong("yaml", "the file is empty").Do("see one with: %s", example)
	}
	b := binder{kind: kind, at: map[string]*yaml.Node{}}
	if err := b.bind(doc.Content[0], reflect.ValueOf(into).Elem(), ""); err != nil {
		return err
	}
	if err := check(); err != nil {
		return b.locate(err)
	}
	return nil
}

// binder puts what a YAML file says into a structure of ours, by the names that it has in JSON. at is where
// each field was said, kind what the file is.
type binder struct {
	kind string
	at   map[string]*yaml.Node
}

// bad says where something is wrong.
func (b *binder) bad(n *yaml.Node, path, remedy, what string, args ...any) error {
	field := path
	if field != "" {
		field += ": "
	}
	return fault.New(fault.Invalid, b.kind+".field", "line %d, column %d: %s%s", n.Line, n.Column, field,
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
		return b.bad(n, path, "write it out", "anchors and aliases are not used here")
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
	case reflect.Interface:
		into.Set(reflect.ValueOf(anyOf(n)))
		return nil
	case reflect.Map:
		return b.bindMap(n, into, path)
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

// bindMap takes a mapping apart whose names are not known before.
func (b *binder) bindMap(n *yaml.Node, into reflect.Value, path string) error {
	if n.Kind != yaml.MappingNode {
		return b.bad(n, path, "write fields, each as NAME: VALUE", "this is %s", kindOf(n))
	}
	out := reflect.MakeMap(into.Type())
	for i := 0; i+1 < len(n.Content); i += 2 {
		name := reflect.ValueOf(n.Content[i].Value)
		if out.MapIndex(name).IsValid() {
			return b.bad(n.Content[i], path, "say it once", "%q is said twice", n.Content[i].Value)
		}
		value := reflect.New(into.Type().Elem()).Elem()
		if err := b.bind(n.Content[i+1], value, path+"."+n.Content[i].Value); err != nil {
			return err
		}
		out.SetMapIndex(name, value)
	}
	into.Set(out)
	return nil
}

// anyOf is a value that may be of any kind: a number, a text, a truth, or a list of such.
func anyOf(n *yaml.Node) any {
	if n.Kind == yaml.SequenceNode {
		out := []any{}
		for _, item := range n.Content {
			out = append(out, anyOf(item))
		}
		return out
	}
	switch n.Tag {
	case "!!int", "!!float":
		if x, err := strconv.ParseFloat(n.Value, 64); err == nil {
			return x
		}
	case "!!bool":
		return n.Value == "true"
	}
	return n.Value
}

// bindStruct takes a mapping apart.
func (b *binder) bindStruct(n *yaml.Node, into reflect.Value, path string) error {
	if n.Kind != yaml.MappingNode {
		return b.bad(n, path, "write fields, each as NAME: VALUE", "this is %s", kindOf(n))
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
	case reflect.Bool:
		x, err := strconv.ParseBool(n.Value)
		if err != nil {
			return wrong("true or false")
		}
		into.SetBool(x)
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
		return fmt.Errorf("there is a field of kind %s, which nobody reads", into.Kind())
	}
	return nil
}

func kindOf(n *yaml.Node) string {
	return map[yaml.Kind]string{
		yaml.MappingNode: "a group of fields", yaml.SequenceNode: "a list", yaml.ScalarNode: "a single value",
	}[n.Kind]
}
