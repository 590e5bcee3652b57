package intake

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"innerladder/internal/core/registry"
	"innerladder/internal/core/signature"
)

// largestHeader is the largest header that the safetensors format allows.
const largestHeader = 100_000_000

// tensorBits are the sizes of the element types of safetensors, in bits.
var tensorBits = map[string]int64{
	"BOOL": 8, "U8": 8, "I8": 8, "F8_E5M2": 8, "F8_E4M3": 8, "F8_E8M0": 8, "I16": 16,
	"U16": 16, "F16": 16, "BF16": 16,
	"I32": 32, "U32": 32, "F32": 32, "F64": 64, "I64": 64, "U64": 64, "C64": 64, "F4": 4, "F6_E2M3": 6, "F6_E3M2": 6,
}

// looksLikeSafetensors tells by the length of the header and the brace that follows it.
func looksLikeSafetensors(head []byte, size int64) bool {
	if len(head) < 10 || head[8] != '{' || (head[9] != '"' && head[9] != '}' && head[9] != ' ') {
		return false
	}
	n := binary.LittleEndian.Uint64(head)
	return n <= largestHeader && int64(n) <= size-8
}

// tensorEntry is one tensor of the header.
type tensorEntry struct {
	Dtype   string  `json:"dtype"`
	Shape   []int64 `json:"shape"`
	Offsets []int64 `json:"data_offsets"`
}

// readSafetensors reads the header and checks that the tensors fill the rest of the
// file without gaps, as the format demands.
func readSafetensors(name string, r io.ReaderAt, size int64) (registry.Contents, error) {
	c := registry.Contents{Format: registry.FormatSafetensors}
	bad := func(at int64, detail string, args ...any) (registry.Contents, error) {
		return c, badFile(name, "safetensors", at, detail, args...)
	}
	var length [8]byte
	if size < 8 {
		return bad(0, "the file has only %d bytes", size)
	}
	if _, err := r.ReadAt(length[:], 0); err != nil && err != io.EOF {
		return c, fmt.Errorf("reading %s: %w", name, err)
	}
	n := binary.LittleEndian.Uint64(length[:])
	if n > largestHeader || int64(n) > size-8 {
		return bad(0, "the header should have %d bytes, the file has %d", n, size)
	}
	header := make([]byte, n)
	if _, err := r.ReadAt(header, 8); err != nil && err != io.EOF {
		return c, fmt.Errorf("reading %s: %w", name, err)
	}
	tensors, at, wrong := readTensors(header, &c)
	if wrong != "" {
		return bad(at, "%s", wrong)
	}
	next, wrong := layOut(tensors, &c)
	if wrong != "" {
		return bad(-1, "%s", wrong)
	}
	if have := size - 8 - int64(n); next != have {
		return bad(size, "the tensors need %d bytes of data, the file has %d", next, have)
	}
	return c, nil
}

// readTensors reads the header, which says where each tensor lies, token by token, so that one
// named twice is noticed. Wrong is what is wrong with it, and at where.
func readTensors(header []byte, c *registry.Contents) (tensors map[string]tensorEntry, at int64, wrong string) {
	bad := func(at int64, detail string, args ...any) (map[string]tensorEntry, int64, string) {
		return nil, at, fmt.Sprintf(detail, args...)
	}
	tensors = map[string]tensorEntry{}
	dec := json.NewDecoder(bytes.NewReader(header))
	if t, err := dec.Token(); err != nil || t != json.Delim('{') {
		return bad(8, "the header is no JSON object")
	}
	for dec.More() {
		at := 8 + dec.InputOffset()
		t, err := dec.Token()
		key, ok := t.(string)
		if err != nil || !ok {
			return bad(at, "the header is not well-formed JSON")
		}
		if key == "__metadata__" {
			var meta map[string]string
			if err := dec.Decode(&meta); err != nil {
				return bad(at, "the metadata is no object of texts")
			}
			for _, k := range slices.Sorted(maps.Keys(meta))[:min(len(meta), listed)] {
				c.Say("property "+cutText(k), cutText(meta[k]))
			}
			continue
		}
		if _, twice := tensors[key]; twice {
			return bad(at, "the tensor %.80q is in the header twice", key)
		}
		var e tensorEntry
		if err := dec.Decode(&e); err != nil {
			return bad(at, "the tensor %.80q is not described by dtype, shape and data_offsets", key)
		}
		tensors[key] = e
	}
	if _, err := dec.Token(); err != nil {
		return bad(8+dec.InputOffset(), "the header is not well-formed JSON")
	}
	return tensors, 0, ""
}

// layOut looks at the tensors in the order in which they lie in the file, which must be without
// gaps, and says where the last one ends, or what is wrong.
func layOut(tensors map[string]tensorEntry, c *registry.Contents) (next int64, wrong string) {
	bad := func(detail string, args ...any) (int64, string) { return 0, fmt.Sprintf(detail, args...) }
	names := slices.SortedFunc(maps.Keys(tensors), func(a, b string) int {
		x, y := tensors[a].Offsets, tensors[b].Offsets
		if len(x) != 2 || len(y) != 2 {
			return cmp.Compare(len(x), len(y))
		}
		return cmp.Or(cmp.Compare(x[0], y[0]), cmp.Compare(x[1], y[1]), cmp.Compare(a, b))
	})
	types := map[string]int{}
	for _, key := range names {
		e := tensors[key]
		bits, known := tensorBits[e.Dtype]
		values := int64(1)
		for _, d := range e.Shape {
			values = times(values, d)
		}
		total := times(values, bits)
		switch {
		case !known:
			return bad("the tensor %.80q has the type %.20q", key, e.Dtype)
		case total < 0:
			return bad("the tensor %.80q has the shape %v", key, e.Shape[:min(len(e.Shape), 8)])
		case len(e.Offsets) != 2 || e.Offsets[0] != next || e.Offsets[1] < e.Offsets[0] ||
			(e.Offsets[1]-e.Offsets[0]) != (total+7)/8:
			return bad("the tensor %.80q should lie at bytes %d to %d of the data, the header says %v", key, next,
				next+(total+7)/8, e.Offsets[:min(len(e.Offsets), 2)])
		}
		next = e.Offsets[1]
		types[e.Dtype]++
		c.Values = add(c.Values, values)
		if len(c.Tensors) < listed {
			shape := e.Shape
			if shape == nil {
				shape = []int64{}
			}
			c.Tensors = append(c.Tensors, signature.Tensor{
				Name: cutText(key), Datatype: e.Dtype,
				Shape: shape[:min(len(shape), 64)],
			})
		}
	}
	c.TensorCount = len(tensors)
	c.Say("element types", mostFrequent(types, 8))
	return next, ""
}

// mostFrequent lists names with their counts, the most frequent first.
func mostFrequent(count map[string]int, most int) string {
	names := slices.SortedFunc(maps.Keys(count), func(a, b string) int {
		return cmp.Or(cmp.Compare(count[b], count[a]), cmp.Compare(a, b))
	})
	var parts []string
	for _, n := range names[:min(most, len(names))] {
		parts = append(parts, fmt.Sprintf("%s ×%d", n, count[n]))
	}
	if len(names) > most {
		parts = append(parts, fmt.Sprintf("%d more", len(names)-most))
	}
	return strings.Join(parts, ", ")
}
