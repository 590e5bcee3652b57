package oip

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"

	"innerladder/internal/core/tensor"

	"github.com/tidwall/gjson"
)

// Typed is a tensor of a message with its values in the type that they have.
type Typed struct {
	Name string
	*tensor.Tensor
}

// TypedRequest is a request as a model server reads it.
type TypedRequest struct {
	ID     string
	Inputs []Typed
	// Wanted are the outputs that are asked for; all when there is none. Binary are those that are wanted as bytes
	// behind the JSON, of which BinaryAll wants every one that is not named.
	Wanted    []string
	Binary    map[string]bool
	BinaryAll bool
}

// ReadTyped reads a request: JSON of a length, and behind it the bytes of tensors that are not written in it, as the
// protocol's extension for binary tensors has them. A negative length is that of the whole body.
func ReadTyped(body []byte, length int64) (*TypedRequest, error) {
	var rest []byte
	if length >= 0 {
		if length > int64(len(body)) {
			return nil, fmt.Errorf("the JSON should have %d bytes and has %d", length, len(body))
		}
		body, rest = body[:length], body[length:]
	}
	if !gjson.ValidBytes(body) {
		return nil, errors.New("the request is no JSON")
	}
	r := &TypedRequest{Binary: map[string]bool{}}
	parsed := gjson.ParseBytes(body)
	r.ID = parsed.Get("id").String()
	r.BinaryAll = parsed.Get("parameters.binary_data_output").Bool()
	parsed.Get("outputs").ForEach(func(_, o gjson.Result) bool {
		name := o.Get("name").String()
		r.Wanted = append(r.Wanted, name)
		r.Binary[name] = r.BinaryAll
		if b := o.Get("parameters.binary_data"); b.Exists() {
			r.Binary[name] = b.Bool()
		}
		return true
	})
	var err error
	parsed.Get("inputs").ForEach(func(_, in gjson.Result) bool {
		var t Typed
		if t, rest, err = readTensor(in, rest); err != nil {
			err = fmt.Errorf("input %q: %w", in.Get("name").String(), err)
			return false
		}
		if slices.ContainsFunc(r.Inputs, func(o Typed) bool { return o.Name == t.Name }) {
			err = fmt.Errorf("input %q is given twice", t.Name)
			return false
		}
		r.Inputs = append(r.Inputs, t)
		return true
	})
	if err == nil && len(r.Inputs) == 0 {
		err = errors.New("the request has no inputs")
	}
	if err == nil && len(rest) > 0 {
		err = fmt.Errorf("%d bytes behind the JSON belong to no input", len(rest))
	}
	return r, err
}

// readTensor reads one tensor, whose bytes may stand at the beginning of rest.
func readTensor(in gjson.Result, rest []byte) (t Typed, left []byte, err error) {
	t = Typed{Name: in.Get("name").String(), Tensor: &tensor.Tensor{Shape: []int{}}}
	for _, d := range in.Get("shape").Array() {
		t.Shape = append(t.Shape, int(d.Int()))
	}
	n, err := tensor.Count(t.Shape)
	if err != nil {
		return t, rest, err
	}
	of := in.Get("datatype").String()
	if size := in.Get("parameters.binary_data_size"); size.Exists() {
		k := size.Int()
		if k < 0 || k > int64(len(rest)) {
			return t, rest, fmt.Errorf("it should have %d bytes, and %d are left", k, len(rest))
		}
		t.Data, err = fromBytes(of, rest[:k], n)
		return t, rest[k:], err
	}
	data := in.Get("data")
	if !data.IsArray() {
		return t, rest, errors.New("its data is no array")
	}
	// No value is shorter than two bytes, so a shape cannot make more room than the body has sent.
	if n > len(data.Raw) {
		return t, rest, fmt.Errorf("it has the shape %v and fewer values", t.Shape)
	}
	t.Data, err = fromJSON(of, data, n)
	return t, rest, err
}

// fromJSON reads values that stand in an array, flat or nested.
func fromJSON(of string, data gjson.Result, n int) (any, error) {
	room, err := tensor.Make(of, n)
	if err != nil {
		return nil, err
	}
	at := 0
	var bad error
	each := func(set func(i int, v gjson.Result) error) {
		walk(data, 0, func(v gjson.Result) bool {
			if at < n {
				bad = set(at, v)
			}
			at++
			return bad == nil
		})
	}
	switch x := room.(type) {
	case []float32:
		each(func(i int, v gjson.Result) (err error) {
			var f float64
			f, err = float(v)
			x[i] = float32(f)
			return err
		})
	case []float64:
		each(func(i int, v gjson.Result) (err error) { x[i], err = float(v); return err })
	case []int64:
		each(func(i int, v gjson.Result) (err error) { x[i], err = whole(v); return err })
	case []bool:
		each(func(i int, v gjson.Result) error {
			if v.Type != gjson.True && v.Type != gjson.False {
				return fmt.Errorf("%.40q is neither true nor false", v.Raw)
			}
			x[i] = v.Bool()
			return nil
		})
	case []string:
		each(func(i int, v gjson.Result) error {
			if v.Type != gjson.String && v.Type != gjson.Null {
				return fmt.Errorf("%.40q is no text", v.Raw)
			}
			x[i] = v.Str
			return nil
		})
	default:
		wide := make([]int64, n)
		each(func(i int, v gjson.Result) (err error) { wide[i], err = whole(v); return err })
		if bad == nil && at == n {
			return narrow(of, wide)
		}
	}
	if bad == nil && at != n {
		bad = fmt.Errorf("it has %d values where its shape has %d", at, n)
	}
	return room, bad
}

// narrow refuses whole numbers that their type does not hold.
func narrow(of string, wide []int64) (any, error) {
	t, err := tensor.New(wide, len(wide)).As(of)
	if err != nil {
		return nil, err
	}
	back, err := t.Ints()
	if err != nil {
		return nil, err
	}
	for i, v := range wide {
		if back[i] != v {
			return nil, fmt.Errorf("%d is no %s", v, of)
		}
	}
	return t.Data, nil
}

// walk goes through the values of arrays within each other; false ends it.
func walk(v gjson.Result, depth int, do func(gjson.Result) bool) bool {
	on := true
	v.ForEach(func(_, item gjson.Result) bool {
		if item.IsArray() && depth < deepest {
			on = walk(item, depth+1, do)
		} else {
			on = do(item)
		}
		return on
	})
	return on
}

// float is a number; null is none, which is how what is missing is said.
func float(v gjson.Result) (float64, error) {
	switch v.Type {
	case gjson.Number:
		return v.Num, nil
	case gjson.Null:
		return math.NaN(), nil
	}
	return 0, fmt.Errorf("%.40q is no number", v.Raw)
}

func whole(v gjson.Result) (int64, error) {
	if v.Type != gjson.Number {
		return 0, fmt.Errorf("%.40q is no whole number", v.Raw)
	}
	if n, err := strconv.ParseInt(v.Raw, 10, 64); err == nil {
		return n, nil
	}
	if v.Num != math.Trunc(v.Num) || math.Abs(v.Num) > 1<<53 {
		return 0, fmt.Errorf("%.40q is no whole number", v.Raw)
	}
	return int64(v.Num), nil
}

// fromBytes reads values one after the other, in little-endian order; texts have their length before them.
func fromBytes(of string, b []byte, n int) (any, error) {
	if of == "BYTES" {
		out := make([]string, 0, min(n, len(b)/4))
		for len(b) >= 4 {
			k := int(binary.LittleEndian.Uint32(b))
			if k > len(b)-4 {
				break
			}
			out, b = append(out, string(b[4:4+k])), b[4+k:]
		}
		if len(b) > 0 || len(out) != n {
			return nil, fmt.Errorf("its bytes are not %d texts", n)
		}
		return out, nil
	}
	size := sizes[of]
	if size == 0 {
		return nil, fmt.Errorf("the datatype %q is not taken as bytes", of)
	}
	if len(b) != size*n {
		return nil, fmt.Errorf("it has %d bytes where %d values of %s have %d", len(b), n, of, size*n)
	}
	room, err := tensor.Make(of, n)
	if err != nil {
		return nil, err
	}
	if x, boolean := room.([]bool); boolean {
		for i, v := range b {
			x[i] = v != 0
		}
		return x, nil
	}
	_, err = binary.Decode(b, binary.LittleEndian, room)
	return room, err
}

// sizes are how many bytes a value of each datatype has.
var sizes = map[string]int{
	"BOOL": 1, "INT8": 1, "UINT8": 1, "INT16": 2, "UINT16": 2, "INT32": 4, "UINT32": 4, "FP32": 4, "INT64": 8,
	"UINT64": 8, "FP64": 8,
}

// WriteTyped writes an answer to a request. length is that of its JSON where bytes of tensors stand behind it, -1 where
// all is JSON.
func WriteTyped(model string, r *TypedRequest, outputs []Typed) (body []byte, length int64, err error) {
	head, _ := json.Marshal(model)
	body = append(append(append(body, `{"model_name":`...), head...), ',')
	if r.ID != "" {
		id, _ := json.Marshal(r.ID)
		body = append(append(append(body, `"id":`...), id...), ',')
	}
	body = append(body, `"outputs":[`...)
	var behind []byte
	length = -1
	for i, t := range outputs {
		if i > 0 {
			body = append(body, ',')
		}
		name, _ := json.Marshal(t.Name)
		body = append(append(append(body, `{"name":`...), name...), `,"datatype":"`...)
		body = append(append(body, t.Datatype()...), `","shape":[`...)
		for j, d := range t.Shape {
			if j > 0 {
				body = append(body, ',')
			}
			body = strconv.AppendInt(body, int64(d), 10)
		}
		binaryToo, named := r.Binary[t.Name]
		if binaryToo || (!named && r.BinaryAll) {
			before := len(behind)
			if behind, err = appendBytes(behind, t.Tensor); err != nil {
				return nil, 0, err
			}
			body = append(body, `],"parameters":{"binary_data_size":`...)
			body = append(strconv.AppendInt(body, int64(len(behind)-before), 10), `}}`...)
			length = 0
			continue
		}
		body = append(appendJSON(append(body, `],"data":[`...), t.Tensor), `]}`...)
	}
	body = append(body, `]}`...)
	if length == 0 {
		length = int64(len(body))
	}
	return append(body, behind...), length, nil
}

// appendJSON writes values; a number that is none is null.
func appendJSON(b []byte, t *tensor.Tensor) []byte {
	comma := func(i int) {
		if i > 0 {
			b = append(b, ',')
		}
	}
	float := func(v float64, bits int) {
		if math.IsNaN(v) || math.IsInf(v, 0) {
			b = append(b, "null"...)
		} else {
			b = strconv.AppendFloat(b, v, 'g', -1, bits)
		}
	}
	switch x := t.Data.(type) {
	case []float32:
		for i, v := range x {
			comma(i)
			float(float64(v), 32)
		}
	case []float64:
		for i, v := range x {
			comma(i)
			float(v, 64)
		}
	case []bool:
		for i, v := range x {
			comma(i)
			b = strconv.AppendBool(b, v)
		}
	case []string:
		for i, v := range x {
			comma(i)
			text, _ := json.Marshal(v)
			b = append(b, text...)
		}
	case []uint64:
		for i, v := range x {
			comma(i)
			b = strconv.AppendUint(b, v, 10)
		}
	default:
		list, _ := t.Ints()
		for i, v := range list {
			comma(i)
			b = strconv.AppendInt(b, v, 10)
		}
	}
	return b
}

func appendBytes(b []byte, t *tensor.Tensor) ([]byte, error) {
	if x, text := t.Data.([]string); text {
		for _, v := range x {
			b = append(binary.LittleEndian.AppendUint32(b, uint32(len(v))), v...)
		}
		return b, nil
	}
	return binary.Append(b, binary.LittleEndian, t.Data)
}
