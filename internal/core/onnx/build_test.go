package onnx

import (
	"encoding/binary"
	"math"

	"google.golang.org/protobuf/encoding/protowire"
)

// field is one field of a message in the making.
type fieldOf struct {
	number int
	value  any
}

// message writes fields: texts and messages by their bytes, numbers as varints, single fractions in four bytes.
func message(fields ...fieldOf) []byte {
	var b []byte
	for _, f := range fields {
		n := protowire.Number(f.number)
		switch v := f.value.(type) {
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

// attributeOf writes an AttributeProto of any of the types that are used here.
func attributeOf(name string, value any) fieldOf {
	fields := []fieldOf{{1, name}}
	kind := 0
	switch v := value.(type) {
	case float64:
		fields, kind = append(fields, fieldOf{2, float32(v)}), 1
	case int:
		fields, kind = append(fields, fieldOf{3, v}), 2
	case string:
		fields, kind = append(fields, fieldOf{4, v}), 3
	case []float64:
		kind = 6
		for _, x := range v {
			fields = append(fields, fieldOf{7, float32(x)})
		}
	case []int:
		kind = 7
		for _, x := range v {
			fields = append(fields, fieldOf{8, x})
		}
	case []string:
		kind = 8
		for _, x := range v {
			fields = append(fields, fieldOf{9, x})
		}
	}
	return fieldOf{5, message(append(fields, fieldOf{20, kind})...)}
}

// use writes a NodeProto.
func use(domain, operator string, in, out []string, attributes ...fieldOf) fieldOf {
	var fields []fieldOf
	for _, name := range in {
		fields = append(fields, fieldOf{1, name})
	}
	for _, name := range out {
		fields = append(fields, fieldOf{2, name})
	}
	fields = append(fields, fieldOf{4, operator}, fieldOf{7, domain})
	return fieldOf{1, message(append(fields, attributes...)...)}
}

// declared writes a ValueInfoProto; a size of -1 is open.
func declared(number int, name string, datatype int, shape ...int) fieldOf {
	var dims []fieldOf
	for _, d := range shape {
		if d < 0 {
			dims = append(dims, fieldOf{1, message(fieldOf{2, "rows"})})
		} else {
			dims = append(dims, fieldOf{1, message(fieldOf{1, d})})
		}
	}
	return fieldOf{number, message(fieldOf{1, name}, fieldOf{2, message(fieldOf{1, message(fieldOf{1, datatype},
		fieldOf{2, message(dims...)})})})}
}

// weights writes a TensorProto of single fractions.
func weights(name string, values []float64, shape ...int) fieldOf {
	var fields []fieldOf
	for _, d := range shape {
		fields = append(fields, fieldOf{1, d})
	}
	var raw []byte
	for _, v := range values {
		raw = binary.LittleEndian.AppendUint32(raw, math.Float32bits(float32(v)))
	}
	return fieldOf{5, message(append(fields, fieldOf{2, 1}, fieldOf{8, name}, fieldOf{9, raw})...)}
}

// modelOf writes a ModelProto around a graph.
func modelOf(graph ...fieldOf) []byte {
	return message(fieldOf{1, 8}, fieldOf{2, "tarnholm-fit"},
		fieldOf{7, message(append([]fieldOf{{2, "g"}}, graph...)...)},
		fieldOf{8, message(fieldOf{1, ""}, fieldOf{2, 15})},
		fieldOf{8, message(fieldOf{1, learning}, fieldOf{2, 3})})
}
