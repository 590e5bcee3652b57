package intake

import (
	"bufio"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"innerladder/internal/core/signature"
)

// The test files of ONNX, and its own reader in Python, as Debian packs them.
const (
	onnxFiles  = "/usr/share/libonnx-testdata"
	onnxPython = "/usr/bin/python3"
)

// onnxNames are our names of datatypes, where they differ from those of ONNX.
var onnxNames = map[string]string{
	"FLOAT": "FP32", "DOUBLE": "FP64", "FLOAT16": "FP16", "BFLOAT16": "BF16", "STRING": "BYTES",
}

// declared is what ONNX's own reader says of an input or output.
type declared struct {
	Name  string
	Value *struct {
		Within [][2]string
		Type   string
		Shape  []any
	}
}

func ours(name string) string {
	if n := onnxNames[name]; n != "" {
		return n
	}
	return name
}

// String writes a declaration as a column writes itself.
func (d declared) String() string {
	if d.Value == nil {
		return d.Name + ": nothing"
	}
	c := signature.Column{Datatype: ours(d.Value.Type), AnyShape: d.Value.Shape == nil}
	for _, w := range d.Value.Within {
		container := signature.Container{Kind: signature.ContainerKind(w[0])}
		if w[1] != "" {
			container.Key = ours(w[1])
		}
		c.Within = append(c.Within, container)
	}
	for _, x := range d.Value.Shape {
		switch x := x.(type) {
		case float64:
			c.Shape, c.Axes = append(c.Shape, int64(x)), append(c.Axes, "")
		case string:
			c.Shape, c.Axes = append(c.Shape, -1), append(c.Axes, x)
		}
	}
	return d.Name + ": " + c.TypeText()
}

// Every input and output of real files is as ONNX's own reader says: name, type, each dimension
// with its size or name, and what it comes in.
func TestRealONNXFilesAreReadExactly(t *testing.T) {
	script := exec.CommandContext(t.Context(), onnxPython, "testdata/onnx_values.py", onnxFiles)
	script.Stderr = os.Stderr
	if _, err := os.Stat(onnxFiles); err != nil || exec.CommandContext(t.Context(), onnxPython, "-c",
		"import onnx").Run() != nil {
		if os.Getenv("FOREIGN") == "needed" {
			t.Fatalf("libonnx-testdata or python3-onnx is missing, and could not be fetched: %v", err)
		}
		t.Skip("libonnx-testdata or python3-onnx is not installed; make test installs them")
	}
	lines, err := script.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := script.Start(); err != nil {
		t.Fatal(err)
	}
	seen := map[string]int{}
	scanner := bufio.NewScanner(lines)
	scanner.Buffer(nil, 16<<20)
	for scanner.Scan() {
		var theirs struct {
			File            string
			Inputs, Outputs []declared
		}
		if err := json.Unmarshal(scanner.Bytes(), &theirs); err != nil {
			t.Fatal(err)
		}
		compareWithReader(t, theirs.File, theirs.Inputs, theirs.Outputs, seen)
	}
	if err := script.Wait(); err != nil {
		t.Fatal(err)
	}
	t.Logf("%v", seen)
	if seen["files"] < 1000 || seen["sequence"] == 0 || seen["optional"] == 0 || seen["fixed"] == 0 ||
		seen["named"] == 0 {
		t.Errorf("too little was compared: %v", seen)
	}
}

func compareWithReader(t *testing.T, file string, inputs, outputs []declared, seen map[string]int) {
	t.Helper()
	f, err := os.Open(file)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		t.Fatal(err)
	}
	c, err := readONNX(file, f, info.Size())
	if err != nil {
		t.Errorf("%s: %v", file, err)
		return
	}
	seen["files"]++
	s := c.Signature
	if s == nil {
		s = &signature.Signature{}
	}
	for _, side := range []struct {
		theirs []declared
		ours   []signature.Column
	}{{inputs, s.Inputs}, {outputs, s.Outputs}} {
		var want, got []string
		for _, d := range side.theirs {
			want = append(want, d.String())
		}
		for _, c := range side.ours {
			got = append(got, fmt.Sprintf("%s: %s", c.Name, c.TypeText()))
			for _, w := range c.Within {
				seen[string(w.Kind)]++
			}
			for i, d := range c.Shape {
				switch {
				case d >= 0:
					seen["fixed"]++
				case i < len(c.Axes) && c.Axes[i] != "":
					seen["named"]++
				default:
					seen["free"]++
				}
			}
		}
		if !slices.Equal(got, want) {
			t.Errorf("%s:\n ours %s\ntheirs %s", file, strings.Join(got, "; "), strings.Join(want, "; "))
		}
	}
}
