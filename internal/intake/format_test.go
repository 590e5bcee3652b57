package intake

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/signature"

	"google.golang.org/protobuf/encoding/protowire"
)

// message builds a protobuf message of fields: ints as varints, everything else by
// its bytes.
func message(fields ...any) []byte {
	var b []byte
	for i := 0; i+1 < len(fields); i += 2 {
		number := protowire.Number(fields[i].(int))
		switch v := fields[i+1].(type) {
		case int:
			b = protowire.AppendVarint(protowire.AppendTag(b, number, protowire.VarintType), uint64(v))
		case string:
			b = protowire.AppendString(protowire.AppendTag(b, number, protowire.BytesType), v)
		case []byte:
			b = protowire.AppendBytes(protowire.AppendTag(b, number, protowire.BytesType), v)
		}
	}
	return b
}

// onnxValue declares an input or output of a type with dimensions; −1 is one of any
// size.
func onnxValue(name string, elem int, dims ...int) []byte {
	var shape []byte
	for _, d := range dims {
		if d < 0 {
			shape = append(shape, message(1, message(2, "N"))...)
		} else {
			shape = append(shape, message(1, message(1, d))...)
		}
	}
	return message(1, name, 2, message(1, message(1, elem, 2, shape)))
}

func onnxFile() []byte {
	weights := message(1, 3, 1, 2, 2, 1, 8, "w", 9, bytes.Repeat([]byte{1}, 3*2*4))
	packed := message(1, []byte{4}, 2, 7, 8, "shape", 9, bytes.Repeat([]byte{0}, 32))
	graph := message(1, message(1, "x", 4, "MatMul"), 1, message(4, "Add"), 1, message(4, "Add"), 2, "heat", 5, weights,
		5, packed,
		11, onnxValue("x", 1, -1, 3), 11, onnxValue("w", 1, 3, 2), 11, onnxValue("mix", 8, -1, 1), 12,
		onnxValue("y", 1, -1, 2))
	return message(1, 9, 2, "fitter", 3, "1.2", 4, "tarnholm", 5, 4, 6, "heat demand", 7, graph, 8,
		message(1, "", 2, 17), 8, message(1, "ai.onnx.ml", 2, 3), 14, message(1, "season", 2, "winter"))
}

func safetensorsFile(header string, data int) []byte {
	b := binary.LittleEndian.AppendUint64(nil, uint64(len(header)))
	return append(append(b, header...), make([]byte, data)...)
}

const tensorHeader = `{"__metadata__":{"made":"by hand"},"w":{"dtype":"F32","shape":[2,3],"data_offsets":[0,24]},"b":{"dtype":"BF16","shape":[],"data_offsets":[24,26]}}`

const pmmlFile = `<?xml version="1.0" encoding="UTF-8"?>
<PMML xmlns="http://www.dmg.org/PMML-4_4" version="4.4">
<Header description="valves"><Application name="fitter" version="1.2"/></Header>
<DataDictionary><DataField name="fault" optype="categorical" dataType="string"><Value value="ok"/><Value value="leaking"/><Value value="?" property="missing"/></DataField>
<DataField name="flow" optype="continuous" dataType="double"><Interval closure="closedClosed" leftMargin="0" rightMargin="40"/></DataField>
<DataField name="age" optype="continuous" dataType="integer"/><DataField name="unused" dataType="double"/></DataDictionary>
<TreeModel modelName="valve-tree" functionName="classification"><MiningSchema><MiningField name="fault" usageType="target"/><MiningField name="flow"/><MiningField name="age" usageType="active"/>
<MiningField name="unused" usageType="supplementary"/></MiningSchema><Output><OutputField name="p_ok" dataType="double"/></Output><Node score="ok"><True/></Node></TreeModel></PMML>`

func zipFile(t testing.TB, files map[string]string) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, name := range slices.Sorted(func(yield func(string) bool) {
		for n := range files {
			if !yield(n) {
				return
			}
		}
	}) {
		w, err := z.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		_, _ = w.Write([]byte(files[name]))
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func tarFile(t testing.TB, headers ...tar.Header) []byte {
	t.Helper()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, h := range headers {
		h.Mode = 0o600
		if err := w.WriteHeader(&h); err != nil {
			t.Fatal(err)
		}
		_, _ = w.Write(make([]byte, h.Size))
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func gzipped(content []byte) []byte {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	_, _ = w.Write(content)
	_ = w.Close()
	return b.Bytes()
}

// A pickle that would call os.system, in an old and in a new protocol.
const (
	oldPickle = "cos\nsystem\n(S'echo gone'\ntR."
	newPickle = "\x80\x04\x95\x1e\x00\x00\x00\x00\x00\x00\x00\x8c\x02os\x94\x8c\x06system\x94" +
		"\x93\x94\x8c\x04echo\x94\x85\x94R\x94."
)

func read(t *testing.T, name string, content []byte) registry.Contents {
	t.Helper()
	c, err := Read(name, bytes.NewReader(content), int64(len(content)))
	if err != nil {
		t.Fatalf("%s: %v", name, err)
	}
	return c
}

func facts(c registry.Contents) string {
	var parts []string
	for _, f := range c.Facts {
		parts = append(parts, f.Name+"="+f.Value)
	}
	return strings.Join(parts, "; ")
}

func TestONNX(t *testing.T) {
	for _, name := range []string{"m.onnx", "without-a-name"} {
		c := read(t, name, onnxFile())
		want := "ir version=9; opset=ai.onnx 17, ai.onnx.ml 3; producer=fitter 1.2; domain=tarnholm; graph=heat; " +
			"about=heat demand; model version=4; nodes=3; operators=Add ×2, MatMul ×1; property season=winter"
		if c.Format != registry.FormatONNX || facts(c) != want {
			t.Errorf("%s:\n got %s\nwant %s", name, facts(c), want)
		}
		if c.TensorCount != 2 || c.Values != 10 || fmt.Sprint(c.Tensors[0].Shape) != "[3 2]" ||
			c.Tensors[1].Datatype != "INT64" || fmt.Sprint(c.Tensors[1].Shape) != "[4]" {
			t.Errorf("tensors: %+v, %d values", c.Tensors, c.Values)
		}
		s := c.Signature
		if s == nil || len(s.Inputs) != 2 || s.Inputs[0].Name != "x" || s.Inputs[0].TypeText() != "FP32 [N, 3]" ||
			s.Inputs[1].TypeText() != "BYTES [N, 1]" || s.Outputs[0].Name != "y" {
			t.Errorf("signature: %+v", s)
		}
	}
}

func TestSafetensors(t *testing.T) {
	for _, name := range []string{"w.safetensors", "weights"} {
		c := read(t, name, safetensorsFile(tensorHeader, 26))
		if c.Format != registry.FormatSafetensors || c.TensorCount != 2 || c.Values != 7 || c.Unsafe != "" ||
			c.Tensors[0].Name != "w" || facts(c) != "property made=by hand; element types=BF16 ×1, F32 ×1" {
			t.Errorf("%s: %+v", name, c)
		}
	}
}

func TestPMML(t *testing.T) {
	c := read(t, "valves.pmml", []byte(pmmlFile))
	if got := facts(c); got != "pmml version=4.4; about=valves; producer=fitter 1.2; model kind=TreeModel; model "+
		"name=valve-tree; function=classification; data fields=4" {
		t.Error(got)
	}
	s := c.Signature
	if s == nil || len(s.Inputs) != 2 || *s.Inputs[0].Max != 40 || s.Inputs[1].Type != signature.Integer ||
		len(s.Outputs) != 2 || !slices.Equal(s.Outputs[0].Levels, []string{"ok", "leaking"}) {
		t.Errorf("signature: %+v", s)
	}
	if read(t, "valves.xml", []byte(pmmlFile)).Format != registry.FormatPMML {
		t.Error("not recognised by its bytes")
	}
}

func TestPicklesAreRecognisedAndNeverSafe(t *testing.T) {
	for name, content := range map[string]string{"old.pkl": oldPickle, "new": newPickle} {
		c := read(t, name, []byte(content))
		if c.Format != registry.FormatPickle || c.Unsafe == "" || !strings.Contains(facts(c), "imports=os.system") ||
			len(c.Remarks) > 0 {
			t.Errorf("%s: %+v", name, c)
		}
	}
	if c := read(t, "cut.pkl", []byte(newPickle[:20])); len(c.Remarks) != 1 {
		t.Errorf("a pickle that breaks off: %+v", c)
	}
	packed := read(t, "net.pt", zipFile(t, map[string]string{"net/data.pkl": newPickle, "net/data/0": "xyz"}))
	if packed.Format != registry.FormatZip || !strings.Contains(packed.Unsafe, "net/data.pkl") ||
		packed.FileCount != 2 {
		t.Errorf("a pickle in a zip file: %+v", packed)
	}
}

func TestArchivesAndDocuments(t *testing.T) {
	tarred := tarFile(t, tar.Header{Name: "m/", Typeflag: tar.TypeDir}, tar.Header{Name: "m/model.json", Size: 700},
		tar.Header{Name: "m/more.json", Size: 0})
	for name, content := range map[string][]byte{
		"m.tar": tarred, "m.tar.gz": gzipped(tarred),
		"unnamed": gzipped(tarred),
	} {
		c := read(t, name, content)
		if c.FileCount != 2 || c.Expanded != 700 || c.Files[0].Name != "m/model.json" {
			t.Errorf("%s: %+v", name, c)
		}
	}
	if c := read(t, "m.json", []byte(`{"format": "x", "weights": [{"format": 1}], "n": "v"}`)); facts(c) != "members=format, weights, n" {
		t.Errorf("JSON: %+v", c)
	}
	for name, content := range map[string]string{
		"notes.bin": "{not json", "gz": string(gzipped([]byte("text"))),
		"random": "\x08\x01\x02zzz", "empty": "",
	} {
		if c := read(t, name, []byte(content)); c.Format != registry.FormatUnknown {
			t.Errorf("%s is taken for %s", name, c.Format)
		}
	}
}

func TestBrokenAndHostileFilesAreRefused(t *testing.T) {
	onnx := onnxFile()
	bomb := zipFile(t, map[string]string{"zeros": strings.Repeat("\x00", 80<<20)})
	lied := bytes.Clone(zipFile(t, map[string]string{"a": "b"}))
	end := bytes.LastIndex(lied, []byte("PK\x05\x06"))
	binary.LittleEndian.PutUint16(lied[end+10:], 0xffff)
	binary.LittleEndian.PutUint32(lied[end+12:], 0xfffffff0)
	tensors := func(h string, n int) []byte { return safetensorsFile(h, n) }
	cases := []struct {
		name, file string
		content    []byte
		says       string
	}{
		{"cut ONNX", "m.onnx", onnx[:len(onnx)-30], "but only"},
		{"ONNX that is text", "m.onnx", []byte("hello there, no model"), "m.onnx, byte"},
		{"empty ONNX", "m.onnx", nil, "empty"},
		{"ONNX without a graph", "m.onnx", message(1, 8), "not one graph"},
		{
			"ONNX with an impossible shape", "m.onnx",
			message(1, 8, 7, message(5, message(1, 1<<40, 1, 1<<40, 8, "w"))),
			`the tensor "w" has the shape`,
		},
		{
			"cut safetensors", "w.safetensors", tensors(tensorHeader, 25),
			"the tensors need 26 bytes of data, the file has 25",
		},
		{
			"safetensors with a gap", "w.safetensors",
			tensors(`{"w":{"dtype":"F32","shape":[1],"data_offsets":[4,8]}}`, 8), "should lie at bytes 0 to 4",
		},
		{
			"overlapping tensors", "w.safetensors",
			tensors(`{"a":{"dtype":"F32","shape":[1],"data_offsets":[0,4]},"b":{"dtype":"F32","shape":[1],"data_offsets":[0,4]}}`, 4), "should lie at",
		},
		{
			"a tensor twice", "w.safetensors",
			tensors(`{"a":{"dtype":"F32","shape":[1],"data_offsets":[0,4]},"a":{"dtype":"F32","shape":[1],"data_offsets":[0,4]}}`, 4), "twice",
		},
		{
			"an impossible tensor", "w.safetensors",
			tensors(`{"a":{"dtype":"F32","shape":[4611686018427387904,4],"data_offsets":[0,4]}}`, 4), "has the shape",
		},
		{
			"a type that is none", "w.safetensors", tensors(`{"a":{"dtype":"Q9","shape":[1],"data_offsets":[0,4]}}`, 4),
			`the type "Q9"`,
		},
		{
			"a header beyond the end", "w.safetensors", append(binary.LittleEndian.AppendUint64(nil, 1<<40), "{}"...),
			"the header should have",
		},
		{"cut PMML", "m.pmml", []byte(pmmlFile[:len(pmmlFile)-30]), "line 8"},
		{"PMML that is another document", "m.pmml", []byte("<html></html>"), "the outermost element"},
		{"PMML that is no XML", "m.pmml", []byte("<PMML><a b=></PMML>"), "line 1"},
		{"cut JSON", "m.json", []byte(`{"a": [1, 2`), "m.json"},
		{"deep JSON", "m.json", []byte(strings.Repeat("[", 2000)), "nested"},
		{"cut zip", "m.zip", zipFile(t, map[string]string{"a": "b"})[:40], "breaks off"},
		{"zip that climbs", "m.zip", zipFile(t, map[string]string{"../../etc/passwd": "x"}), "outside of its folder"},
		{"zip with a drive", "m.zip", zipFile(t, map[string]string{`C:\x`: "x"}), "outside of its folder"},
		{"zip bomb", "m.zip", bomb, "would expand"},
		{"zip with a false directory", "m.zip", lied, "its directory has"},
		{"cut tar.gz", "m.tar.gz", gzipped(tarFile(t, tar.Header{Name: "a", Size: 5000}))[:40], "m.tar.gz"},
		{"tar that climbs", "m.tar", tarFile(t, tar.Header{Name: "a/../../b", Size: 1}), "outside of its folder"},
		{
			"tar with an absolute path", "m.tar", tarFile(t, tar.Header{Name: "/etc/passwd", Size: 1}),
			"outside of its folder",
		},
		{
			"tar with a link out", "m.tar",
			tarFile(t, tar.Header{Name: "a/b", Linkname: "../../x", Typeflag: tar.TypeSymlink}), "is a link to",
		},
		{
			"tar with a link inside", "m.tar",
			tarFile(t, tar.Header{Name: "a/b", Linkname: "c", Typeflag: tar.TypeLink}), "is a link to",
		},
		{
			"tar with a device", "m.tar",
			tarFile(t, tar.Header{Name: "a/b", Typeflag: tar.TypeChar}), "is a device",
		},
		{"tar.gz bomb", "m.tar.gz", gzipped(tarFile(t, tar.Header{Name: "zeros", Size: 80 << 20})), "expand"},
	}
	for _, c := range cases {
		_, err := Read(c.file, bytes.NewReader(c.content), int64(len(c.content)))
		if err == nil || !strings.Contains(err.Error(), c.says) || fault.Code(err) != "artifact.broken" ||
			!strings.Contains(err.Error(), c.file) {
			t.Errorf("%s: %v, want it to say %q", c.name, err, c.says)
		}
	}
}

func TestCards(t *testing.T) {
	c, err := ReadCard("card.md", strings.NewReader("---\nlicence: CC-BY-4.0\nlanguage: [en, no]\ncontact: {mail: "+
		"heat@tarnholm.example}\n---\n# Heat demand\nOne line.\n\n## Intended use\nDispatch.\n\n```\n## no "+
		"heading\n```\n## Training data\nTwo winters.\n## Known limits\nNo summers.\n## Who to ask (contact)\nRuna\n"))
	if err != nil {
		t.Fatal(err)
	}
	kinds := map[string]string{}
	for _, s := range c.Sections {
		kinds[s.Title] = s.Kind
	}
	if fmt.Sprint(kinds) != "map[Heat demand: Intended use:intended_use Known limits:limits Training data:data Who "+
		"to ask (contact):contact]" {
		t.Errorf("sections: %v", kinds)
	}
	if c.Licence != "CC-BY-4.0" ||
		fmt.Sprint(c.Facts) != "[{licence CC-BY-4.0} {language en, no} {contact.mail heat@tarnholm.example}]" ||
		!strings.Contains(c.Sections[1].Body, "## no heading") {
		t.Errorf("card: %+v", c)
	}
	underlined, err := ReadCard("card.md", strings.NewReader("Heat demand\n===========\nOne line.\n\n"+
		"Known\n*limits*\n---\nNo summers.\n\n> # quoted\n\n    # code\n\n- # in a list\n\n"+
		"#\n## Data ##\nTwo winters.\n"))
	if err != nil {
		t.Fatal(err)
	}
	var found []string
	for _, s := range underlined.Sections {
		found = append(found, fmt.Sprintf("%s|%s|%s", s.Title, s.Kind, s.Body))
	}
	if want := []string{
		"Heat demand||One line.", "Known limits|limits|No summers.\n\n> # quoted\n\n    # code\n\n- # in a list", "||",
		"Data|data|Two winters.",
	}; !slices.Equal(found, want) {
		t.Errorf("underlined headings: %q, want %q", found, want)
	}
	plain, err := ReadCard("card.md", strings.NewReader("# A\n\n## Licence\nInternal use\nonly\n"))
	if err != nil || plain.Licence != "Internal use" {
		t.Errorf("%+v, %v", plain, err)
	}
	for name, text := range map[string]string{
		"empty": " \n", "bytes": "\xff\xfe",
		"broken front matter": "---\na: [\n---\nx", "front matter that is a list": "---\n- a\n---\nx",
		"long": strings.Repeat("x", largestCard+1),
	} {
		if _, err := ReadCard("card.md", strings.NewReader(text)); fault.Code(err) != "card.unreadable" {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestRequirements(t *testing.T) {
	list, remarks, err := ReadRequirements("requirements.txt", strings.NewReader(`# heat
-r base.txt
numpy==2.1.0
Scikit_Learn >= 1.4, <2  # fits
torch[cuda]~=2.4 ; python_version < "3.13"
ours @ https://tarnholm.example/ours.whl
pandas \
  ==2.2.1 --hash=sha256:abc
`))
	if err != nil {
		t.Fatal(err)
	}
	got, _ := json.Marshal(list)
	want := `[{"name":"numpy","want":"==2.1.0"},{"name":"ours","extra":"@ https://tarnholm.example/ours.whl"},{"name":"pandas","want":"==2.2.1","extra":"with hashes"},` +
		`{"name":"scikit-learn","want":"\u003e=1.4,\u003c2"},{"name":"torch","want":"~=2.4","extra":"[cuda] ; python_version \u003c \"3.13\""}]`
	if string(got) != want || len(remarks) != 1 {
		t.Errorf("got  %s\nwant %s\n%v", got, want, remarks)
	}
	for _, bad := range []string{"numpy 2.1", "==3", "torch[cuda", "<html>"} {
		if _, _, err := ReadRequirements("r.txt",
			strings.NewReader("ok\n"+bad)); fault.Code(err) != "requirements.unreadable" ||
			!strings.Contains(err.Error(), "line 2") {
			t.Errorf("%q: %v", bad, err)
		}
	}
}

func FuzzRead(f *testing.F) {
	tarred := tarFile(f, tar.Header{Name: "m/a", Size: 3},
		tar.Header{Name: "m/l", Linkname: "a", Typeflag: tar.TypeSymlink})
	for name, content := range map[string][]byte{
		"m.onnx":        onnxFile(),
		"w.safetensors": safetensorsFile(tensorHeader, 26), "m.pmml": []byte(pmmlFile), "old.pkl": []byte(oldPickle),
		"new.pkl": []byte(newPickle),
		"m.zip":   zipFile(f, map[string]string{"a": "b", "d/c.pkl": newPickle}), "m.tar": tarred,
		"m.tar.gz": gzipped(tarred), "m.json": []byte(`{"a":[1,{"b":null}]}`),
	} {
		f.Add(name, content)
	}
	f.Fuzz(func(t *testing.T, name string, content []byte) {
		c, err := Read(name, bytes.NewReader(content), int64(len(content)))
		if err != nil {
			return
		}
		if _, err := json.Marshal(c); err != nil {
			t.Fatalf("contents that cannot be written down: %v", err)
		}
		if len(c.Facts) > 2000 || len(c.Tensors) > listed || len(c.Files) > listed {
			t.Fatalf("%d facts, %d tensors, %d files", len(c.Facts), len(c.Tensors), len(c.Files))
		}
		if c.Signature != nil {
			c.Signature.SampleRequest(nil)
		}
	})
}

func FuzzCard(f *testing.F) {
	f.Add("---\nlicence: x\na: &b [1]\nc: *b\n---\n# A\n## Data\ntext")
	f.Fuzz(func(t *testing.T, text string) {
		c, err := ReadCard("card.md", strings.NewReader(text))
		if err != nil {
			return
		}
		for _, s := range c.Sections {
			if !strings.Contains(c.Text, s.Body) {
				t.Fatalf("the body of a section is not in the card: %q", s.Body)
			}
		}
	})
}

func FuzzRequirements(f *testing.F) {
	f.Add("numpy==2.1.0\ntorch[cuda]~=2.4 ; python_version < \"3.13\"\n-r x\nours @ https://x/y \\\n --hash=sha256:0")
	f.Fuzz(func(t *testing.T, text string) {
		list, _, err := ReadRequirements("requirements.txt", strings.NewReader(text))
		for _, d := range list {
			if err == nil && d.Name == "" {
				t.Fatal("a requirement without a name")
			}
		}
	})
}
