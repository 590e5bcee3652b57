package intake

import (
	"fmt"
	"io"
	"strings"

	"innerladder/internal/core/registry"
	"innerladder/internal/core/signature"

	"google.golang.org/protobuf/encoding/protowire"
)

const (
	// mostFields bounds how many protobuf fields of one file are looked at.
	mostFields = 20_000_000
	// longestField is the longest text or packed list that is taken into memory.
	longestField = 1 << 20
	// window is how much of the file is read at once.
	window = 1 << 16
	// mostNames bounds how many inputs, outputs and operators of one file are kept.
	mostNames = 10_000
)

// protobuf walks the fields of a protobuf message in a file without holding it in memory:
// what is not of interest is skipped by its length.
type protobuf struct {
	name   string
	r      io.ReaderAt
	buf    []byte
	start  int64 // where buf begins in the file
	fields int
}

// field is one field of a message, before its value is read.
type field struct {
	number int32
	kind   protowire.Type
	value  uint64 // of varint and fixed fields
	// begin and end are where the bytes of a length-delimited field are.
	begin, end int64
}

func (w *protobuf) bad(at int64, detail string, args ...any) error {
	return badFile(w.name, "ONNX", at, detail, args...)
}

// at returns up to n bytes at a place, fewer at the end of the file.
func (w *protobuf) at(pos int64, n int) ([]byte, error) {
	if pos < w.start || pos+int64(n) > w.start+int64(len(w.buf)) {
		if cap(w.buf) < window {
			w.buf = make([]byte, window)
		}
		k, err := w.r.ReadAt(w.buf[:window], pos)
		if err != nil && err != io.EOF {
			return nil, fmt.Errorf("reading %s: %w", w.name, err)
		}
		w.buf, w.start = w.buf[:k], pos
	}
	rest := w.buf[pos-w.start:]
	return rest[:min(n, len(rest))], nil
}

// each calls do for every field of the message between begin and end.
func (w *protobuf) each(begin, end int64, do func(field) error) error {
	for pos := begin; pos < end; {
		if w.fields++; w.fields > mostFields {
			return w.bad(pos, "more than %d fields", mostFields)
		}
		b, err := w.at(pos, 20)
		if err != nil {
			return err
		}
		b = b[:min(int64(len(b)), end-pos)]
		number, kind, n := protowire.ConsumeTag(b)
		if n < 0 {
			return w.bad(pos, "no protobuf field begins here")
		}
		f := field{number: int32(number), kind: kind}
		at := pos
		pos += int64(n)
		b = b[n:]
		switch kind {
		case protowire.VarintType:
			f.value, n = protowire.ConsumeVarint(b)
		case protowire.Fixed32Type:
			var x uint32
			x, n = protowire.ConsumeFixed32(b)
			f.value = uint64(x)
		case protowire.Fixed64Type:
			f.value, n = protowire.ConsumeFixed64(b)
		case protowire.BytesType:
			var length uint64
			if length, n = protowire.ConsumeVarint(b); n >= 0 {
				f.begin = pos + int64(n)
				if length > uint64(end-f.begin) {
					return w.bad(at, "field %d should have %d bytes, but only %d are left", number, length, end-f.begin)
				}
				f.end = f.begin + int64(length)
			}
		default:
			return w.bad(at, "field %d has the wire type %d, which ONNX does not use", number, kind)
		}
		if n < 0 {
			return w.bad(at, "field %d breaks off", number)
		}
		if kind == protowire.BytesType {
			pos = f.end
		} else {
			pos += int64(n)
		}
		if err := do(f); err != nil {
			return err
		}
	}
	return nil
}

// text reads the value of a text field.
func (w *protobuf) text(f field) (string, error) {
	b, err := w.bytes(f)
	return cutText(string(b)), err
}

func (w *protobuf) bytes(f field) ([]byte, error) {
	if f.kind != protowire.BytesType {
		return nil, w.bad(f.begin, "field %d should be text", f.number)
	}
	n := f.end - f.begin
	if n > longestField {
		return nil, w.bad(f.begin, "a text of %d bytes", n)
	}
	b, err := w.at(f.begin, int(min(n, window)))
	if err != nil || int64(len(b)) == n {
		return b, err
	}
	long := make([]byte, n)
	if _, err := w.r.ReadAt(long, f.begin); err != nil && err != io.EOF {
		return nil, fmt.Errorf("reading %s: %w", w.name, err)
	}
	return long, nil
}

// protobuf walks a field that is a message itself.
func (w *protobuf) message(f field, do func(field) error) error {
	if f.kind != protowire.BytesType {
		return w.bad(f.begin, "field %d should be a message", f.number)
	}
	return w.each(f.begin, f.end, do)
}

// onnxModel is what is taken out of a file on the way.
type onnxModel struct {
	*protobuf
	registry.Contents
	ir, version     int64
	facts           map[string]string
	opsets          []string
	inputs, outputs []signature.Column
	constants       map[string]bool
	operators       map[string]int
	nodes           int
	graphs          int
	external        bool
	meta            []registry.Fact
}

// readONNX walks an ONNX model, field numbers as in onnx.proto of ONNX 1.x.
func readONNX(name string, r io.ReaderAt, size int64) (registry.Contents, error) {
	m := &onnxModel{
		protobuf: &protobuf{name: name, r: r}, facts: map[string]string{}, constants: map[string]bool{},
		operators: map[string]int{},
	}
	m.Format = registry.FormatONNX
	if size == 0 {
		return m.Contents, badFile(name, "ONNX", 0, "the file is empty")
	}
	if err := m.each(0, size, m.model); err != nil {
		return m.Contents, err
	}
	if m.graphs != 1 || m.ir == 0 {
		return m.Contents, badFile(name, "ONNX", -1, "no ir_version or not one graph is in it")
	}
	m.finish()
	return m.Contents, nil
}

func (m *onnxModel) model(f field) (err error) {
	switch f.number {
	case 1:
		m.ir = int64(f.value)
	case 2, 3, 4, 6:
		key := map[int32]string{2: "producer", 3: "producer version", 4: "domain", 6: "about"}[f.number]
		m.facts[key], err = m.text(f)
	case 5:
		m.version = int64(f.value)
	case 7:
		m.graphs++
		return m.message(f, m.graph)
	case 8:
		return m.opset(f)
	case 14:
		key, value, err := m.entry(f)
		if err == nil && len(m.meta) < listed {
			m.meta = append(m.meta, registry.Fact{Name: "property " + key, Value: value})
		}
		return err
	}
	return err
}

func (m *onnxModel) opset(f field) error {
	domain, version := "", uint64(0)
	err := m.message(f, func(f field) (err error) {
		switch f.number {
		case 1:
			domain, err = m.text(f)
		case 2:
			version = f.value
		}
		return err
	})
	if domain == "" {
		domain = "ai.onnx"
	}
	if len(m.opsets) < 50 {
		m.opsets = append(m.opsets, fmt.Sprintf("%s %d", domain, version))
	}
	return err
}

// entry reads a pair of texts.
func (m *onnxModel) entry(f field) (key, value string, err error) {
	err = m.message(f, func(f field) (err error) {
		switch f.number {
		case 1:
			key, err = m.text(f)
		case 2:
			value, err = m.text(f)
		}
		return err
	})
	return key, value, err
}

func (m *onnxModel) graph(f field) (err error) {
	switch f.number {
	case 1:
		m.nodes++
		return m.message(f, func(f field) error {
			if f.number != 4 {
				return nil
			}
			op, err := m.text(f)
			if len(m.operators) < mostNames {
				m.operators[op]++
			}
			return err
		})
	case 2:
		m.facts["graph"], err = m.text(f)
	case 5:
		return m.tensor(f)
	case 11:
		return m.value(f, &m.inputs)
	case 12:
		return m.value(f, &m.outputs)
	}
	return err
}

// tensor reads the head of an initializer; its data is passed over.
func (m *onnxModel) tensor(f field) error {
	t := signature.Tensor{Shape: []int64{}}
	values := int64(1)
	dim := func(d uint64) {
		if len(t.Shape) < 64 {
			t.Shape = append(t.Shape, int64(d))
		}
		values = times(values, int64(d))
	}
	err := m.message(f, func(f field) (err error) {
		switch f.number {
		case 1:
			if f.kind == protowire.VarintType {
				dim(f.value)
				return nil
			}
			packed, err := m.bytes(f)
			for err == nil && len(packed) > 0 {
				d, n := protowire.ConsumeVarint(packed)
				if n < 0 {
					return m.bad(f.begin, "a shape breaks off")
				}
				dim(d)
				packed = packed[n:]
			}
			return err
		case 2:
			t.Datatype = onnxType(f.value)
		case 8:
			t.Name, err = m.text(f)
		case 14:
			m.external = m.external || f.value == 1
		}
		return err
	})
	if err != nil {
		return err
	}
	if values < 0 {
		return m.bad(f.begin, "the tensor %q has the shape %v", t.Name, t.Shape)
	}
	m.TensorCount++
	m.Values = add(m.Values, values)
	if len(m.Tensors) < listed {
		m.Tensors = append(m.Tensors, t)
	}
	if len(m.constants) < 1_000_000 {
		m.constants[t.Name] = true
	}
	return nil
}

// finish turns what was gathered into contents.
func (m *onnxModel) finish() {
	m.SayNumber("ir version", m.ir)
	m.Say("opset", strings.Join(m.opsets, ", "))
	m.Say("producer", strings.TrimSpace(m.facts["producer"]+" "+m.facts["producer version"]))
	for _, k := range []string{"domain", "graph", "about"} {
		m.Say(k, m.facts[k])
	}
	m.SayNumber("model version", m.version)
	m.SayNumber("nodes", int64(m.nodes))
	m.Say("operators", mostFrequent(m.operators, 12))
	m.Facts = append(m.Facts, m.meta...)
	if m.external {
		m.Remarks = append(m.Remarks, "weights are kept in files of their own beside this one; register those too")
	}
	s := &signature.Signature{Inputs: []signature.Column{}, Outputs: []signature.Column{}}
	for _, t := range m.inputs {
		if !m.constants[t.Name] { // old models list their weights among the inputs
			s.Inputs = append(s.Inputs, t)
		}
	}
	s.Outputs = append(s.Outputs, m.outputs...)
	if s.Check("artifact") == nil {
		m.Signature = s
	}
}
