package api

import (
	"bytes"
	"encoding"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/naming"
)

// decode reads one JSON object into a structure. Members that it does not have are refused, and
// so is what stands where a number belongs and is none: the standard decoder leaves a null as 0,
// and 0 is the best of errors.
func decode(body []byte, in any) error {
	if name := twice(body); name != "" {
		return fault.New(fault.Invalid, "request.twice", "%q stands twice", name).In(name).Do("give it once")
	}
	dec := json.NewDecoder(bytes.NewReader(body))
	dec.DisallowUnknownFields()
	if err := dec.Decode(in); err != nil {
		if none := checkNumbers(body, in); none != nil {
			return none // it names the place
		}
		return badJSON(body, err)
	}
	if dec.More() {
		return fault.New(fault.Invalid, "request.json", "there is more after the JSON object").In("body").
			Do("send one JSON object")
	}
	if err := checkNumbers(body, in); err != nil {
		return err
	}
	return checkTexts(reflect.ValueOf(in), "")
}

// lines are the members that are one line: what things are called, and where they are. Whole are those that are files
// of some form, whose readers say how long they may be. All others are what people write.
var (
	lines = []string{
		"name", "title", "label", "labels", "tag", "tags", "email", "address", "addresses", "owner", "model",
		"endpoint", "environment", "project", "person", "role", "version", "to", "kind", "kinds", "unit",
	}
	whole = []string{"text", "card", "stack", "logs", "diff"}
	// data are what models are asked and answer, and what was counted of it: it is what it is.
	data = []string{"windows", "inputs", "outputs", "values", "levels", "request", "sample_request"}
)

// checkTexts looks at every text of a structure that was read. What is data, as it is, is not text: raw JSON, and
// values of any kind.
func checkTexts(v reflect.Value, at string) error {
	name := at[strings.LastIndexAny(at, ".")+1:]
	name, _, _ = strings.Cut(name, "[")
	if slices.Contains(data, name) {
		return nil
	}
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			return checkTexts(v.Elem(), at)
		}
	case reflect.String:
		switch {
		case slices.Contains(whole, name):
			return naming.CheckCharacters(at, v.String())
		case slices.Contains(lines, name):
			return naming.CheckLine(at, v.String())
		}
		return naming.CheckText(at, v.String())
	case reflect.Slice, reflect.Array:
		if kind := v.Type().Elem().Kind(); kind >= reflect.Bool && kind <= reflect.Complex128 {
			return nil // numbers
		}
		for i := range v.Len() {
			if err := checkTexts(v.Index(i), fmt.Sprintf("%s[%d]", at, i)); err != nil {
				return err
			}
		}
	case reflect.Map:
		for _, k := range v.MapKeys() { // of parameters and properties, whose values may be whole files
			err := naming.CheckLine(at, k.String())
			if value := v.MapIndex(k); err == nil && value.Kind() == reflect.String {
				err = naming.CheckCharacters(within(at, k.String()), value.String())
			} else if err == nil {
				err = checkTexts(value, within(at, k.String()))
			}
			if err != nil {
				return err
			}
		}
	case reflect.Struct:
		for i := range v.NumField() {
			f := v.Type().Field(i)
			name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
			if !f.IsExported() || name == "-" || name == "" && !f.Anonymous { // the path, the query and headers
				continue
			}
			if !f.Anonymous || name != "" {
				name = within(at, name)
			} else {
				name = at
			}
			if err := checkTexts(v.Field(i), name); err != nil {
				return err
			}
		}
	}
	return nil
}

// twice names a member that an object has twice, of which readers take one or the other; empty where there is none.
func twice(body []byte) string {
	dec := json.NewDecoder(bytes.NewReader(body))
	// around are the objects and lists that are open: the names seen of an object, nil of a list.
	var around []map[string]bool
	inObject := func() bool { return len(around) > 0 && around[len(around)-1] != nil }
	for name := false; ; { // what comes next is the name of a member
		token, err := dec.Token()
		if err != nil {
			return "" // that is said elsewhere
		}
		if delim, is := token.(json.Delim); is {
			switch delim {
			case '{':
				around = append(around, map[string]bool{})
			case '[':
				around = append(around, nil)
			default:
				around = around[:len(around)-1]
			}
			name = inObject()
			continue
		}
		if !name {
			name = inObject()
			continue
		}
		text, _ := token.(string)
		seen := around[len(around)-1]
		if seen[text] {
			return text
		}
		seen[text], name = true, false
	}
}

// checkNumbers says where something stands that is no number and should be one.
func checkNumbers(body []byte, in any) error {
	var value any
	dec := json.NewDecoder(bytes.NewReader(body))
	dec.UseNumber()
	if dec.Decode(&value) != nil {
		return nil // that is said elsewhere
	}
	return checkNumber(value, reflect.TypeOf(in), "")
}

// Types that read themselves say themselves what is wrong.
var unmarshaler, textUnmarshaler = reflect.TypeFor[json.Unmarshaler](), reflect.TypeFor[encoding.TextUnmarshaler]()

func checkNumber(value any, t reflect.Type, at string) error {
	for t.Kind() == reflect.Pointer {
		if value == nil {
			return nil
		}
		t = t.Elem()
	}
	if p := reflect.PointerTo(t); p.Implements(unmarshaler) || p.Implements(textUnmarshaler) {
		return nil
	}
	switch t.Kind() {
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64, reflect.Uint, reflect.Uint8,
		reflect.Uint16, reflect.Uint32, reflect.Uint64, reflect.Float32, reflect.Float64:
		n, fine := value.(json.Number)
		if _, err := n.Float64(); !fine || err != nil { // it may be none that fits
			return noNumber(at, value)
		}
	case reflect.Map:
		members, _ := value.(map[string]any)
		for name, v := range members {
			if err := checkNumber(v, t.Elem(), within(at, name)); err != nil {
				return err
			}
		}
	case reflect.Slice, reflect.Array:
		items, _ := value.([]any)
		for i, v := range items {
			if err := checkNumber(v, t.Elem(), fmt.Sprintf("%s[%d]", at, i)); err != nil {
				return err
			}
		}
	case reflect.Struct:
		if members, ok := value.(map[string]any); ok {
			return checkMembers(members, t, at)
		}
	}
	return nil
}

func checkMembers(members map[string]any, t reflect.Type, at string) error {
	for i := range t.NumField() {
		f := t.Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if f.Anonymous && name == "" && f.Type.Kind() == reflect.Struct {
			if err := checkMembers(members, f.Type, at); err != nil {
				return err
			}
			continue
		}
		if value, there := members[name]; there && name != "-" && f.IsExported() {
			if err := checkNumber(value, f.Type, within(at, name)); err != nil {
				return err
			}
		}
	}
	return nil
}

func within(at, name string) string {
	if at == "" {
		return name
	}
	return at + "." + name
}

func noNumber(at string, value any) error {
	said := fmt.Sprintf("%v", value)
	if value == nil {
		said = "null"
	} else if s, text := value.(string); text {
		said = strconv.Quote(s)
	}
	return fault.New(fault.Invalid, "request.number", "%s is %s, which is no number", at, said).In(at).
		Do("give a number such as 0.38, with a point and without quotes, or leave it out")
}

// beforeNoNumber is what stands before a word such as NaN or Infinity: the name of a member.
var beforeNoNumber = regexp.MustCompile(`"((?:[^"\\]|\\.)*)"\s*:\s*-?$`)

// jsonType is what a Go type is in JSON, in words.
func jsonType(t reflect.Type) string {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	switch {
	case t == reflect.TypeFor[time.Time]():
		return "a time such as 2026-01-31T14:00:00Z"
	case t.Kind() == reflect.String:
		return "a string"
	case t.Kind() == reflect.Bool:
		return "true or false"
	case t.Kind() >= reflect.Int && t.Kind() <= reflect.Uintptr:
		return "a whole number"
	case t.Kind() == reflect.Float32 || t.Kind() == reflect.Float64:
		return "a number"
	case t.Kind() == reflect.Slice || t.Kind() == reflect.Array:
		return "a list"
	}
	return "an object"
}

// badJSON says what of a body could not be decoded.
func badJSON(body []byte, err error) error {
	var kind *json.UnmarshalTypeError
	var syntax *json.SyntaxError
	switch {
	case errors.As(err, &kind):
		name := kind.Field
		if first, rest, nested := strings.Cut(name, "."); nested && first != strings.ToLower(first) {
			name = rest // the name of a Go structure, which nobody outside knows
		}
		return fault.New(fault.Invalid, "request.type", "%q is %s where %s is expected", name, kind.Value,
			jsonType(kind.Type)).
			In(name).Do("see /api/openapi.json for what is expected")
	case errors.As(err, &syntax):
		rest := body[min(int(max(syntax.Offset-1, 0)), len(body)):]
		if word := strings.ToLower(string(rest[:min(3, len(rest))])); word == "nan" || word == "inf" {
			if name := beforeNoNumber.FindSubmatch(body[:syntax.Offset-1]); name != nil {
				return noNumber(string(name[1]), word)
			}
		}
		return fault.New(fault.Invalid, "request.json", "the body is no JSON: %v at byte %d", err, syntax.Offset).
			In("body").Do("send a JSON object")
	}
	text := strings.TrimPrefix(err.Error(), "json: ")
	field := "body"
	if name, ok := strings.CutPrefix(text, "unknown field "); ok {
		field, _ = strconv.Unquote(name)
	}
	return fault.New(fault.Invalid, "request.json", "the body cannot be read: %s", text).In(field).
		Do("see /api/openapi.json for what is expected")
}
