// Package onnxfile writes small models in the Open Neural Network Exchange format: for the sample data, and for what
// reads and computes such files to be tried with.
package onnxfile

import (
	"encoding/binary"
	"math"

	"google.golang.org/protobuf/encoding/protowire"
)

// The datatypes of ONNX that are written here.
const (
	FP32  = 1
	INT64 = 7
	BYTES = 8
	BOOL  = 9
	FP64  = 11
)

// Learning is the domain of trees, linear models and what prepares columns for them.
const Learning = "ai.onnx.ml"

// Field is one field of a message: a whole number, a fraction in single precision, a text, or a message by its bytes.
type Field struct {
	Number int
	Value  any
}

// Message writes fields.
func Message(fields ...Field) []byte {
	var b []byte
	for _, f := range fields {
		n := protowire.Number(f.Number)
		switch v := f.Value.(type) {
		case int:
			b = protowire.AppendVarint(protowire.AppendTag(b, n, protowire.VarintType), uint64(v))
		case string:
			b = protowire.AppendString(protowire.AppendTag(b, n, protowire.BytesType), v)
		case []byte:
			b = protowire.AppendBytes(protowire.AppendTag(b, n, protowire.BytesType), v)
		case float32:
			b = protowire.AppendFixed32(protowire.AppendTag(b, n, protowire.Fixed32Type), math.Float32bits(v))
		}
	}
	return b
}

// Attribute is one of a node: a fraction, a whole number, a text, or a list of such.
func Attribute(name string, value any) Field {
	fields := []Field{{1, name}}
	kind := 0
	switch v := value.(type) {
	case float64:
		fields, kind = append(fields, Field{2, float32(v)}), 1
	case int:
		fields, kind = append(fields, Field{3, v}), 2
	case string:
		fields, kind = append(fields, Field{4, v}), 3
	case []float64:
		kind = 6
		for _, x := range v {
			fields = append(fields, Field{7, float32(x)})
		}
	case []int:
		kind = 7
		for _, x := range v {
			fields = append(fields, Field{8, x})
		}
	case []string:
		kind = 8
		for _, x := range v {
			fields = append(fields, Field{9, x})
		}
	}
	return Field{5, Message(append(fields, Field{20, kind})...)}
}

// Node is one use of an operator; the domain of the standard's own is empty.
func Node(domain, operator string, in, out []string, attributes ...Field) Field {
	var fields []Field
	for _, name := range in {
		fields = append(fields, Field{1, name})
	}
	for _, name := range out {
		fields = append(fields, Field{2, name})
	}
	fields = append(fields, Field{4, operator}, Field{7, domain})
	return Field{1, Message(append(fields, attributes...)...)}
}

// Input declares an input; a size of -1 is open.
func Input(name string, datatype int, shape ...int) Field { return declared(11, name, datatype, shape) }

// Output declares an output; a size of -1 is open.
func Output(name string, datatype int, shape ...int) Field {
	return declared(12, name, datatype, shape)
}

func declared(number int, name string, datatype int, shape []int) Field {
	var dims []Field
	for _, d := range shape {
		if d < 0 {
			dims = append(dims, Field{1, Message(Field{2, "rows"})})
		} else {
			dims = append(dims, Field{1, Message(Field{1, d})})
		}
	}
	tensor := Message(Field{1, datatype}, Field{2, Message(dims...)})
	return Field{number, Message(Field{1, name}, Field{2, Message(Field{1, tensor})})}
}

// Constant is a tensor of numbers, FP32, FP64 or INT64.
func Constant(name string, datatype int, values []float64, shape ...int) Field {
	var raw []byte
	for _, v := range values {
		switch datatype {
		case FP32:
			raw = binary.LittleEndian.AppendUint32(raw, math.Float32bits(float32(v)))
		case INT64:
			raw = binary.LittleEndian.AppendUint64(raw, uint64(int64(v)))
		default:
			raw = binary.LittleEndian.AppendUint64(raw, math.Float64bits(v))
		}
	}
	return constant(name, datatype, Field{9, raw}, shape)
}

// Text is a constant of one text without dimensions.
func Text(name, value string) Field { return constant(name, BYTES, Field{6, value}, nil) }

func constant(name string, datatype int, data Field, shape []int) Field {
	var fields []Field
	for _, d := range shape {
		fields = append(fields, Field{1, d})
	}
	return Field{5, Message(append(fields, Field{2, datatype}, Field{8, name}, data)...)}
}

// Model is a file around a graph of nodes, constants, inputs and outputs.
func Model(name, about string, graph ...Field) []byte {
	return Message(Field{1, 8}, Field{2, "tarnholm-fit"}, Field{3, "1.0"}, Field{5, 1}, Field{6, about},
		Field{7, Message(append([]Field{{2, name}}, graph...)...)},
		Field{8, Message(Field{1, ""}, Field{2, 15})}, Field{8, Message(Field{1, Learning}, Field{2, 3})})
}
