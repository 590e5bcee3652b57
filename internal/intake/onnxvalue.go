package intake

import (
	"fmt"

	"innerladder/internal/core/signature"

	"google.golang.org/protobuf/encoding/protowire"
)

// onnxTypes are the element types of ONNX tensors, as the Open Inference Protocol calls
// them; those that it does not have are called in its manner.
var onnxTypes = map[uint64]string{
	1: "FP32", 2: "UINT8", 3: "INT8", 4: "UINT16", 5: "INT16", 6: "INT32", 7: "INT64",
	8: "BYTES", 9: "BOOL",
	10: "FP16", 11: "FP64", 12: "UINT32", 13: "UINT64", 14: "COMPLEX64", 15: "COMPLEX128", 16: "BF16",
	17: "FP8E4M3FN", 18: "FP8E4M3FNUZ", 19: "FP8E5M2", 20: "FP8E5M2FNUZ",
	21: "UINT4", 22: "INT4", 23: "FP4E2M1", 24: "FP8E8M0", 25: "UINT2", 26: "INT2",
}

func onnxType(t uint64) string {
	if name := onnxTypes[t]; name != "" {
		return name
	}
	return fmt.Sprintf("type %d", t)
}

const (
	// mostContainers bounds how deep sequences, maps and optional values may nest.
	mostContainers = 16
	// mostDimensions bounds how many dimensions of a tensor are kept.
	mostDimensions = 64
)

// value reads the declaration of an input or an output: a ValueInfoProto.
func (m *onnxModel) value(f field, into *[]signature.Column) error {
	c := signature.Column{}
	err := m.message(f, func(f field) (err error) {
		switch f.number {
		case 1:
			c.Name, err = m.text(f)
		case 2:
			return m.valueType(f, &c)
		}
		return err
	})
	if err != nil || len(*into) >= mostNames {
		return err
	}
	family, known := signature.TypeOf(c.Datatype)
	if !known { // no type at all, or one that only some runtime knows
		what := c.Datatype
		if what == "" {
			what = "of a type that is not declared"
		}
		m.Remarks = append(m.Remarks, fmt.Sprintf("%q is %s and is left out of the signature", c.Name, what))
		return nil
	}
	c.Type = family
	*into = append(*into, c)
	return nil
}

// valueType reads a TypeProto: a tensor, or what one comes in.
func (m *onnxModel) valueType(f field, c *signature.Column) error {
	if len(c.Within) > mostContainers {
		return m.bad(f.begin, "%q nests more than %d containers", c.Name, mostContainers)
	}
	return m.message(f, func(f field) error {
		switch f.number {
		case 1:
			return m.tensorType(f, c)
		case 8:
			c.Within = append(c.Within, signature.Container{Kind: signature.Sparse})
			return m.tensorType(f, c)
		case 4:
			c.Within = append(c.Within, signature.Container{Kind: signature.Sequence})
		case 9:
			c.Within = append(c.Within, signature.Container{Kind: signature.Optional})
		case 5:
			return m.mapType(f, c)
		default:
			return nil
		}
		return m.message(f, func(f field) error {
			if f.number != 1 {
				return nil
			}
			return m.valueType(f, c)
		})
	})
}

// mapType reads what a map has for keys and for values.
func (m *onnxModel) mapType(f field, c *signature.Column) error {
	at := len(c.Within)
	c.Within = append(c.Within, signature.Container{Kind: signature.Map})
	return m.message(f, func(f field) error {
		switch f.number {
		case 1:
			c.Within[at].Key = onnxType(f.value)
		case 2:
			return m.valueType(f, c)
		}
		return nil
	})
}

// tensorType reads the element type and the shape of a tensor; without a shape, it has any.
func (m *onnxModel) tensorType(f field, c *signature.Column) error {
	c.AnyShape = true
	return m.message(f, func(f field) error {
		switch f.number {
		case 1:
			c.Datatype = onnxType(f.value)
		case 2:
			c.AnyShape = false
			return m.message(f, func(f field) error {
				if f.number != 1 {
					return nil
				}
				return m.dimension(f, c)
			})
		}
		return nil
	})
}

// dimension reads one dimension of a shape: a size, a name, or neither.
func (m *onnxModel) dimension(f field, c *signature.Column) error {
	size, name := int64(-1), ""
	err := m.message(f, func(f field) (err error) {
		switch {
		case f.number == 1 && f.kind == protowire.VarintType:
			size, name = max(int64(f.value), -1), ""
		case f.number == 2:
			size = -1
			name, err = m.text(f)
		}
		return err
	})
	if len(c.Shape) >= mostDimensions {
		return err
	}
	if name != "" {
		for len(c.Axes) < len(c.Shape) {
			c.Axes = append(c.Axes, "")
		}
		c.Axes = append(c.Axes, name)
	} else if len(c.Axes) > 0 {
		c.Axes = append(c.Axes, "")
	}
	c.Shape = append(c.Shape, size)
	return err
}
