package onnx

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"

	"innerladder/internal/core/tensor"

	"google.golang.org/protobuf/encoding/protowire"
)

// file is what is taken from a ModelProto; field numbers are those of onnx.proto of ONNX 1.x.
type file struct {
	producer string
	// opsets is the version of the operators of each domain.
	opsets map[string]int64
	graph  *graph
}

// graph is a GraphProto.
type graph struct {
	name            string
	nodes           []*node
	constants       map[string]*tensor.Tensor
	inputs, outputs []Value
}

// Value is the declaration of an input or an output.
type Value struct {
	Name     string
	Datatype string
	// Shape has -1 where a dimension may be of any size.
	Shape []int64
	// AnyShape says that none is declared.
	AnyShape bool
	// Other says what it is where it is no tensor: a sequence or a map.
	Other string
}

// node is a NodeProto: one use of an operator.
type node struct {
	name, operator, domain string
	inputs, outputs        []string
	attributes             map[string]attribute
	// opset is the version of the operators of its domain.
	opset int64
	// fixed are the constants of the graph.
	fixed map[string]*tensor.Tensor
	// ready is what the operator has made of its attributes once and for all.
	ready any
}

// attribute is an AttributeProto.
type attribute struct {
	f       float32
	i       int64
	s       string
	floats  []float32
	ints    []int64
	strings []string
	tensor  *tensor.Tensor
	graph   bool
}

// parts calls do for each field of a message in which only texts and messages are of interest.
func parts(b []byte, do func(number protowire.Number, bytes []byte) error) error {
	return fields(b, func(number protowire.Number, _ protowire.Type, _ uint64, bytes []byte) error {
		return do(number, bytes)
	})
}

var errCut = errors.New("the file breaks off")

// fields calls do for each field of a message.
func fields(b []byte, do func(number protowire.Number, kind protowire.Type, value uint64, bytes []byte) error) error {
	for len(b) > 0 {
		number, kind, n := protowire.ConsumeTag(b)
		if n < 0 {
			return errCut
		}
		b = b[n:]
		var value uint64
		var bytes []byte
		switch kind {
		case protowire.VarintType:
			value, n = protowire.ConsumeVarint(b)
		case protowire.Fixed32Type:
			var v uint32
			v, n = protowire.ConsumeFixed32(b)
			value = uint64(v)
		case protowire.Fixed64Type:
			value, n = protowire.ConsumeFixed64(b)
		case protowire.BytesType:
			bytes, n = protowire.ConsumeBytes(b)
		default:
			return fmt.Errorf("field %d has a form that ONNX does not use", number)
		}
		if n < 0 {
			return errCut
		}
		b = b[n:]
		if err := do(number, kind, value, bytes); err != nil {
			return err
		}
	}
	return nil
}

// numbers reads a repeated number, packed or one at a time.
func numbers(kind protowire.Type, value uint64, bytes []byte, packed protowire.Type, add func(uint64)) error {
	if kind != protowire.BytesType {
		add(value)
		return nil
	}
	for len(bytes) > 0 {
		var v uint64
		var n int
		switch packed {
		case protowire.Fixed32Type:
			var x uint32
			x, n = protowire.ConsumeFixed32(bytes)
			v = uint64(x)
		case protowire.Fixed64Type:
			v, n = protowire.ConsumeFixed64(bytes)
		default:
			v, n = protowire.ConsumeVarint(bytes)
		}
		if n < 0 {
			return errCut
		}
		bytes = bytes[n:]
		add(v)
	}
	return nil
}

func decode(b []byte) (*file, error) {
	f := &file{opsets: map[string]int64{}}
	err := parts(b, func(number protowire.Number, bytes []byte) (err error) {
		switch number {
		case 2:
			f.producer = string(bytes)
		case 7:
			f.graph, err = decodeGraph(bytes)
		case 8:
			domain, version := "", int64(0)
			err = fields(bytes, func(number protowire.Number, _ protowire.Type, value uint64, bytes []byte) error {
				if number == 1 {
					domain = string(bytes)
				} else if number == 2 {
					version = int64(value)
				}
				return nil
			})
			f.opsets[plain(domain)] = version
		case 25:
			err = errors.New("it defines functions of its own, which are not computed")
		}
		return err
	})
	if err == nil && f.graph == nil {
		err = errors.New("there is no graph in it")
	}
	return f, err
}

// plain is the one name of a domain that has two.
func plain(domain string) string {
	if domain == "ai.onnx" {
		return ""
	}
	return domain
}

func decodeGraph(b []byte) (*graph, error) {
	g := &graph{constants: map[string]*tensor.Tensor{}}
	return g, parts(b, func(number protowire.Number, bytes []byte) error {
		switch number {
		case 1:
			n, err := decodeNode(bytes)
			g.nodes = append(g.nodes, n)
			return err
		case 2:
			g.name = string(bytes)
		case 5:
			name, t, err := decodeTensor(bytes)
			g.constants[name] = t
			return err
		case 11, 12:
			v, err := decodeValue(bytes)
			if number == 11 {
				g.inputs = append(g.inputs, v)
			} else {
				g.outputs = append(g.outputs, v)
			}
			return err
		case 15:
			return errors.New("it has sparse weights, which are not read")
		}
		return nil
	})
}

func decodeNode(b []byte) (*node, error) {
	n := &node{attributes: map[string]attribute{}}
	return n, parts(b, func(number protowire.Number, bytes []byte) error {
		switch number {
		case 1:
			n.inputs = append(n.inputs, string(bytes))
		case 2:
			n.outputs = append(n.outputs, string(bytes))
		case 3:
			n.name = string(bytes)
		case 4:
			n.operator = string(bytes)
		case 5:
			name, a, err := decodeAttribute(bytes)
			n.attributes[name] = a
			return err
		case 7:
			n.domain = plain(string(bytes))
		}
		return nil
	})
}

func decodeAttribute(b []byte) (name string, a attribute, err error) {
	err = fields(b, func(number protowire.Number, kind protowire.Type, value uint64, bytes []byte) (err error) {
		switch number {
		case 1:
			name = string(bytes)
		case 2:
			a.f = math.Float32frombits(uint32(value))
		case 3:
			a.i = int64(value)
		case 4:
			a.s = string(bytes)
		case 5:
			_, a.tensor, err = decodeTensor(bytes)
		case 6, 11:
			a.graph = true
		case 7:
			err = numbers(kind, value, bytes, protowire.Fixed32Type, func(v uint64) {
				a.floats = append(a.floats, math.Float32frombits(uint32(v)))
			})
		case 8:
			err = numbers(kind, value, bytes, protowire.VarintType, func(v uint64) {
				a.ints = append(a.ints, int64(v))
			})
		case 9:
			a.strings = append(a.strings, string(bytes))
		}
		return err
	})
	return name, a, err
}

// datatypes are those of ONNX that are reckoned with, as the Open Inference Protocol calls them.
var datatypes = map[int64]string{
	1: "FP32", 2: "UINT8", 3: "INT8", 4: "UINT16", 5: "INT16", 6: "INT32", 7: "INT64", 8: "BYTES", 9: "BOOL",
	11: "FP64", 12: "UINT32", 13: "UINT64",
}

// others are those that are not.
var others = map[int64]string{
	10: "FP16", 14: "COMPLEX64", 15: "COMPLEX128", 16: "BF16", 17: "FP8E4M3FN",
	18: "FP8E4M3FNUZ", 19: "FP8E5M2", 20: "FP8E5M2FNUZ", 21: "UINT4", 22: "INT4",
}

func datatype(t int64) (string, error) {
	if name := datatypes[t]; name != "" {
		return name, nil
	}
	if name := others[t]; name != "" {
		return name, fmt.Errorf("the datatype %s is not reckoned with", name)
	}
	return "", fmt.Errorf("the datatype with the number %d is not known", t)
}

// payload is the data of a TensorProto in whichever of its fields it stands.
type payload struct {
	raw     []byte
	floats  []float32
	doubles []float64
	ints    []int64
	strings []string
}

func decodeTensor(b []byte) (name string, t *tensor.Tensor, err error) {
	t = &tensor.Tensor{Shape: []int{}}
	var kind int64
	var p payload
	hasRaw, elsewhere := false, false
	err = fields(b, func(number protowire.Number, wire protowire.Type, value uint64, bytes []byte) error {
		switch number {
		case 1:
			return numbers(wire, value, bytes, protowire.VarintType, func(v uint64) {
				t.Shape = append(t.Shape, int(v))
			})
		case 2:
			kind = int64(value)
		case 4:
			return numbers(wire, value, bytes, protowire.Fixed32Type, func(v uint64) {
				p.floats = append(p.floats, math.Float32frombits(uint32(v)))
			})
		case 5, 7, 11:
			return numbers(wire, value, bytes, protowire.VarintType, func(v uint64) {
				p.ints = append(p.ints, int64(v))
			})
		case 6:
			p.strings = append(p.strings, string(bytes))
		case 8:
			name = string(bytes)
		case 9:
			p.raw, hasRaw = bytes, true
		case 10:
			return numbers(wire, value, bytes, protowire.Fixed64Type, func(v uint64) {
				p.doubles = append(p.doubles, math.Float64frombits(v))
			})
		case 14:
			elsewhere = value == 1
		}
		return nil
	})
	if err == nil && elsewhere {
		err = fmt.Errorf("the weights %q are in a file of their own, which is not read", name)
	}
	if err != nil {
		return name, nil, err
	}
	of, err := datatype(kind)
	if err != nil {
		return name, nil, fmt.Errorf("the weights %q: %w", name, err)
	}
	n, err := tensor.Count(t.Shape)
	if err != nil {
		return name, nil, fmt.Errorf("the weights %q: %w", name, err)
	}
	if hasRaw {
		t.Data, err = fromRaw(of, p.raw, n)
	} else {
		t.Data, err = p.values(of, n)
	}
	if err != nil {
		return name, nil, fmt.Errorf("the weights %q: %w", name, err)
	}
	return name, t, nil
}

// values are those of the field that a datatype is written in.
func (p *payload) values(of string, n int) (any, error) {
	have := len(p.floats) + len(p.doubles) + len(p.ints) + len(p.strings)
	if have != n {
		return nil, fmt.Errorf("it has %d values where its shape wants %d", have, n)
	}
	switch of {
	case "FP32":
		return append([]float32{}, p.floats...), nil
	case "FP64":
		return append([]float64{}, p.doubles...), nil
	case "BYTES":
		return append([]string{}, p.strings...), nil
	}
	t, err := tensor.New(append([]int64{}, p.ints...), n).As(of)
	if err != nil {
		return nil, err
	}
	return t.Data, nil
}

// sizes are how many bytes a value of each datatype has.
var sizes = map[string]int{
	"FP32": 4, "FP64": 8, "INT8": 1, "INT16": 2, "INT32": 4, "INT64": 8, "UINT8": 1, "UINT16": 2, "UINT32": 4,
	"UINT64": 8, "BOOL": 1,
}

// fromRaw reads values one after the other, in little-endian order.
func fromRaw(of string, raw []byte, n int) (any, error) {
	size := sizes[of]
	if size == 0 || len(raw) != size*n {
		return nil, fmt.Errorf("it has %d bytes where %d values of the type %s are wanted", len(raw), n, of)
	}
	data, err := tensor.Make(of, n)
	if err != nil {
		return nil, err
	}
	if b, boolean := data.([]bool); boolean {
		for i, v := range raw {
			b[i] = v != 0
		}
		return data, nil
	}
	_, err = binary.Decode(raw, binary.LittleEndian, data)
	return data, err
}

func decodeValue(b []byte) (Value, error) {
	var v Value
	err := parts(b, func(number protowire.Number, bytes []byte) error {
		switch number {
		case 1:
			v.Name = string(bytes)
		case 2:
			return v.typed(bytes)
		}
		return nil
	})
	return v, err
}

// typed reads a TypeProto.
func (v *Value) typed(b []byte) error {
	return parts(b, func(number protowire.Number, bytes []byte) error {
		switch number {
		case 1:
		case 4:
			v.Other = "a sequence"
		case 5:
			v.Other = "a map"
		case 8:
			v.Other = "a sparse tensor"
		case 9:
			v.Other = "an optional value"
		}
		if number != 1 {
			return nil
		}
		v.AnyShape = true
		return fields(bytes, func(number protowire.Number, _ protowire.Type, value uint64, bytes []byte) error {
			switch number {
			case 1:
				v.Datatype = datatypes[int64(value)]
				if v.Datatype == "" {
					v.Other = "of a datatype that is not reckoned with: " + others[int64(value)]
				}
			case 2:
				v.AnyShape, v.Shape = false, []int64{}
				return fields(bytes, func(_ protowire.Number, _ protowire.Type, _ uint64, bytes []byte) error {
					size := int64(-1)
					err := fields(bytes, func(number protowire.Number, _ protowire.Type, value uint64, _ []byte) error {
						if number == 1 {
							size = int64(value)
						}
						return nil
					})
					v.Shape = append(v.Shape, size)
					return err
				})
			}
			return nil
		})
	})
}
