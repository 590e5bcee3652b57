// Package oip speaks the Open Inference Protocol, version 2, over HTTP and JSON: its
// messages, the little of them that the gateway must touch, and a client that asks a
// model server what it serves.
package oip

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"

	"innerladder/internal/core/signature"

	"github.com/cespare/xxhash/v2"
	"github.com/tidwall/gjson"
)

// ServerMetadata is the answer to GET /v2.
type ServerMetadata struct {
	Name       string   `json:"name"`
	Version    string   `json:"version"`
	Extensions []string `json:"extensions"`
}

// ModelMetadata is the answer to GET /v2/models/NAME.
type ModelMetadata struct {
	Name     string   `json:"name"`
	Versions []string `json:"versions,omitempty"`
	Platform string   `json:"platform"`
	signature.Served
}

// Tensor is an input or output with its data, flattened in row-major order: numbers,
// booleans, texts, or nil.
type Tensor struct {
	Name     string  `json:"name"`
	Shape    []int64 `json:"shape"`
	Datatype string  `json:"datatype"`
	Data     Data    `json:"data"`
}

// Rows is the size of the first dimension, the batch.
func (t *Tensor) Rows() int {
	if len(t.Shape) == 0 {
		return min(1, len(t.Data))
	}
	return int(t.Shape[0])
}

// Parts is how many values each row has, each of which is a column of its own.
func (t *Tensor) Parts() int {
	if t.Rows() == 0 {
		return 0
	}
	return len(t.Data) / t.Rows()
}

// PartName names the column of one of the values of each row: the tensor's own name where there is only one.
func (t *Tensor) PartName(part int) string { return partName(t.Name, part, t.Parts()) }

// PartName names the column of one of the values of each row.
func (r *Raw) PartName(part int) string { return partName(r.Name, part, r.Parts()) }

func partName(name string, part, parts int) string {
	if parts <= 1 {
		return name
	}
	return name + "[" + strconv.Itoa(part) + "]"
}

// HashRow hashes one row of the inputs: the same values under the same names give the same hash, whatever the order of
// the tensors.
func HashRow(inputs []Tensor, row int) uint64 {
	var sum uint64
	var room [128]byte
	for i := range inputs {
		t := &inputs[i]
		parts := len(t.Data) / max(1, t.Rows())
		b := append(room[:0], t.Name...)
		for _, v := range t.Data[row*parts : (row+1)*parts] {
			switch v := v.(type) {
			case float64:
				b = binary.LittleEndian.AppendUint64(append(b, 1), math.Float64bits(v))
			case bool:
				b = append(b, 2, 0)
				if v {
					b[len(b)-1] = 1
				}
			case string:
				b = binary.LittleEndian.AppendUint64(append(b, 3), uint64(len(v)))
				b = append(b, v...)
			default:
				b = append(b, 0)
			}
		}
		sum += xxhash.Sum64(b) // a sum does not depend on the order
	}
	return sum
}

// check says whether the data has as many values as the shape promises.
func (t *Tensor) check() error {
	n := int64(1)
	for _, d := range t.Shape {
		if d < 0 || (d > 0 && n > int64(len(t.Data))+1) {
			return fmt.Errorf("tensor %q has shape %v and %d values", t.Name, t.Shape, len(t.Data))
		}
		n *= d
	}
	if n != int64(len(t.Data)) {
		return fmt.Errorf("tensor %q has shape %v and %d values", t.Name, t.Shape, len(t.Data))
	}
	return nil
}

// Data are the values of a tensor. The protocol allows them flat or nested.
type Data []any

// UnmarshalJSON reads flat or nested arrays.
func (d *Data) UnmarshalJSON(b []byte) error {
	if v := gjson.ParseBytes(b); v.IsArray() {
		*d = flatten(Data{}, v, 0)
		return nil
	}
	return fmt.Errorf("tensor data is no array")
}

// deepest is how far arrays may nest: more dimensions than any model has.
const deepest = 32

func flatten(into Data, v gjson.Result, depth int) Data {
	v.ForEach(func(_, item gjson.Result) bool {
		switch {
		case item.IsArray() && depth < deepest:
			into = flatten(into, item, depth+1)
		case item.Type == gjson.Number:
			into = append(into, item.Num)
		case item.Type == gjson.String:
			into = append(into, item.Str)
		case item.Type == gjson.True || item.Type == gjson.False:
			into = append(into, item.Type == gjson.True)
		default:
			into = append(into, nil)
		}
		return true
	})
	return into
}

// InferRequest is the body of POST …/infer.
type InferRequest struct {
	ID     string   `json:"id,omitempty"`
	Inputs []Tensor `json:"inputs"`
}

// InferResponse is the answer to it.
type InferResponse struct {
	ModelName    string   `json:"model_name"`
	ModelVersion string   `json:"model_version,omitempty"`
	ID           string   `json:"id,omitempty"`
	Outputs      []Tensor `json:"outputs"`
}

// Error is the body of an answer that is an error.
type Error struct {
	Error string `json:"error"`
}

// ParseRequest reads and checks a request.
func ParseRequest(body []byte) (*InferRequest, error) {
	var r InferRequest
	if err := json.Unmarshal(body, &r); err != nil {
		return nil, fmt.Errorf("the request is no JSON of the protocol: %w", err)
	}
	if len(r.Inputs) == 0 {
		return nil, fmt.Errorf("the request has no inputs")
	}
	if err := checkAll(r.Inputs); err != nil {
		return &r, err
	}
	return &r, checkRows(r.Inputs)
}

// Tensors reads and checks the tensors of a message, its "inputs" or "outputs", and
// nothing else of it. It is several times quicker than reading all of it. They must have the same
// number of rows.
func Tensors(body []byte, side string) ([]Tensor, error) {
	out, err := AnyTensors(body, side)
	if err != nil {
		return nil, err
	}
	return out, checkRows(out)
}

// AnyTensors is Tensors without asking for rows: a model may give tensors whose first dimensions
// differ, such as how many things it found and where they are.
func AnyTensors(body []byte, side string) ([]Tensor, error) {
	if !gjson.ValidBytes(body) {
		return nil, fmt.Errorf("the message is no JSON")
	}
	list := gjson.GetBytes(body, side)
	if !list.IsArray() {
		return nil, fmt.Errorf("the message has no %s", side)
	}
	var out []Tensor
	list.ForEach(func(_, item gjson.Result) bool {
		t := Tensor{}
		item.ForEach(func(key, value gjson.Result) bool {
			switch key.Str {
			case "name":
				t.Name = value.String()
			case "datatype":
				t.Datatype = value.String()
			case "shape":
				for _, d := range value.Array() {
					t.Shape = append(t.Shape, d.Int())
				}
			case "data":
				t.Data = flatten(make(Data, 0, 1+strings.Count(value.Raw, ",")), value, 0)
			}
			return true
		})
		out = append(out, t)
		return true
	})
	return out, checkAll(out)
}

// Raw is a tensor whose values are as they stand in the message: numbers, texts in quotes, true, false, null.
type Raw struct {
	Name  string
	Shape []int64
	Data  []string
}

// Rows is the number of rows: the first dimension, 1 without one.
func (r *Raw) Rows() int {
	if len(r.Shape) == 0 {
		return 1
	}
	return int(r.Shape[0])
}

// Parts is how many values each row has.
func (r *Raw) Parts() int { return len(r.Data) / max(1, r.Rows()) }

// mostAtOnce is how many values room is made for before they are there.
const mostAtOnce = 1 << 14

// Raws reads the tensors of a message, its "inputs" or "outputs", without looking into their values, which are handed
// on as they came. They must have the same number of rows.
func Raws(body []byte, side string) ([]Raw, error) {
	if !gjson.ValidBytes(body) {
		return nil, errors.New("the message is no JSON")
	}
	list := gjson.GetBytes(body, side)
	if !list.IsArray() {
		return nil, fmt.Errorf("the message has no %s", side)
	}
	var out []Raw
	var err error
	list.ForEach(func(_, item gjson.Result) bool {
		r := Raw{Name: item.Get("name").String()}
		n := int64(1)
		for _, d := range item.Get("shape").Array() {
			r.Shape = append(r.Shape, d.Int())
			if n *= d.Int(); d.Int() < 0 || n > int64(len(body)) {
				err = fmt.Errorf("tensor %q has a shape that cannot be", r.Name)
				return false
			}
		}
		if r.Data = rawValues(make([]string, 0, min(n, mostAtOnce)), item.Get("data"), 0); int64(len(r.Data)) != n {
			err = fmt.Errorf("tensor %q has shape %v and %d values", r.Name, r.Shape, len(r.Data))
		} else if len(out) > 0 && r.Rows() != out[0].Rows() {
			err = fmt.Errorf("tensor %q has %d rows, %q has %d", r.Name, r.Rows(), out[0].Name, out[0].Rows())
		}
		out = append(out, r)
		return err == nil
	})
	return out, err
}

// rawValues adds the values of a list, and of lists in it.
func rawValues(into []string, v gjson.Result, depth int) []string {
	v.ForEach(func(_, item gjson.Result) bool {
		switch {
		case item.IsArray() && depth < deepest:
			into = rawValues(into, item, depth+1)
		case item.Type != gjson.JSON:
			into = append(into, item.Raw)
		}
		return true
	})
	return into
}

// Values are the data of tensors by name.
func Values(tensors []Tensor) map[string][]any {
	out := map[string][]any{}
	for _, t := range tensors {
		out[t.Name] = t.Data
	}
	return out
}

// checkAll says whether every tensor has the values that its shape promises.
func checkAll(tensors []Tensor) error {
	for i := range tensors {
		if err := tensors[i].check(); err != nil {
			return err
		}
	}
	return nil
}

// checkRows says whether all tensors have as many rows.
func checkRows(tensors []Tensor) error {
	for i := range tensors {
		if tensors[i].Rows() != tensors[0].Rows() {
			return fmt.Errorf("tensor %q has %d rows, %q has %d", tensors[i].Name, tensors[i].Rows(), tensors[0].Name,
				tensors[0].Rows())
		}
	}
	return nil
}

// Naming writes into answers which model and version gave them.
type Naming struct{ model, version []byte }

// NewNaming makes a naming; the texts are quoted once for all answers.
func NewNaming(model, version string) *Naming {
	quote := func(s string) []byte {
		b, _ := json.Marshal(s) // a string cannot fail to encode
		return b
	}
	return &Naming{quote(model), quote(version)}
}

// FirstInput finds the first value of an input in a request, as it is written there; there is false when it has none.
func FirstInput(body []byte, name string) (value string, there bool) {
	gjson.GetBytes(body, "inputs").ForEach(func(_, item gjson.Result) bool {
		if item.Get("name").String() != name {
			return true
		}
		first := item.Get("data")
		for first.IsArray() { // data may be nested as its shape is
			if first = first.Get("0"); !first.Exists() {
				return false
			}
		}
		value, there = first.String(), first.Exists() && first.Type != gjson.Null
		return false
	})
	return value, there
}
