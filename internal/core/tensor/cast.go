package tensor

import (
	"fmt"
	"math"
	"strconv"
	"strings"
)

// As is the tensor with its values in another datatype, as ONNX casts them: fractions lose what is behind the point,
// what is too large for a whole type wraps around, texts are read and written as decimal numbers.
func (t *Tensor) As(datatype string) (*Tensor, error) {
	if t.Datatype() == datatype {
		return t, nil
	}
	out := &Tensor{Shape: t.Shape}
	if x, text := t.Data.([]string); text {
		numbers, err := parse(x)
		if err != nil {
			return nil, err
		}
		return (&Tensor{Shape: t.Shape, Data: numbers}).As(datatype)
	}
	switch datatype {
	case "BYTES":
		return out, write(t, out)
	case "FP32":
		x, err := t.Floats()
		out.Data = narrow[float32](x)
		return out, err
	case "FP64":
		x, err := t.Floats()
		out.Data = x
		return out, err
	case "BOOL":
		x, err := t.Floats()
		b := make([]bool, len(x))
		for i, v := range x {
			b[i] = v != 0
		}
		out.Data = b
		return out, err
	}
	x, err := integers(t)
	if err != nil {
		return nil, err
	}
	switch datatype {
	case "INT8":
		out.Data = narrow[int8](x)
	case "INT16":
		out.Data = narrow[int16](x)
	case "INT32":
		out.Data = narrow[int32](x)
	case "INT64":
		out.Data = x
	case "UINT8":
		out.Data = narrow[uint8](x)
	case "UINT16":
		out.Data = narrow[uint16](x)
	case "UINT32":
		out.Data = narrow[uint32](x)
	case "UINT64":
		out.Data = narrow[uint64](x)
	default:
		return nil, fmt.Errorf("the datatype %s is not reckoned with", datatype)
	}
	return out, nil
}

func narrow[R, T Number](x []T) []R {
	out := make([]R, len(x))
	for i, v := range x {
		out[i] = R(v)
	}
	return out
}

// integers are the values without what is behind the point.
func integers(t *Tensor) ([]int64, error) {
	switch x := t.Data.(type) {
	case []float32:
		return cut(x), nil
	case []float64:
		return cut(x), nil
	}
	return t.Ints()
}

// cut takes the nearest whole number that there is for what has none.
func cut[T Float](x []T) []int64 {
	out := make([]int64, len(x))
	for i, v := range x {
		switch f := float64(v); {
		case math.IsNaN(f):
		case f >= math.MaxInt64:
			out[i] = math.MaxInt64
		case f <= math.MinInt64:
			out[i] = math.MinInt64
		default:
			out[i] = int64(f)
		}
	}
	return out
}

func parse(x []string) ([]float64, error) {
	out := make([]float64, len(x))
	for i, s := range x {
		v, err := strconv.ParseFloat(strings.TrimSpace(s), 64)
		if err != nil {
			return nil, fmt.Errorf("%.40q is no number", s)
		}
		out[i] = v
	}
	return out, nil
}

func write(t, out *Tensor) error {
	text := make([]string, t.Len())
	switch x := t.Data.(type) {
	case []float32:
		for i, v := range x {
			text[i] = strconv.FormatFloat(float64(v), 'g', -1, 32)
		}
	case []float64:
		for i, v := range x {
			text[i] = strconv.FormatFloat(v, 'g', -1, 64)
		}
	default:
		n, err := t.Ints()
		if err != nil {
			return err
		}
		for i, v := range n {
			text[i] = strconv.FormatInt(v, 10)
		}
	}
	out.Data = text
	return nil
}
