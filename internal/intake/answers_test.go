package intake

import (
	"fmt"
	"strings"
	"testing"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/signature"
)

func TestKnownAnswersAreRead(t *testing.T) {
	s := &signature.Signature{
		Inputs:  []signature.Column{{Name: "temp", Type: signature.Number}, {Name: "mix", Type: signature.Text}},
		Outputs: []signature.Column{{Name: "y", Type: signature.Number}},
	}
	const message = `{"inputs":[{"name":"x","shape":[2],"datatype":"FP32","data":[1,2]}],` +
		`"outputs":[{"name":"y","shape":[2],"datatype":"FP32","data":[3,4]}]}`
	for name, c := range map[string]struct {
		file, text string
		want, code string
	}{
		"a table": {
			"a.csv", "temp,mix,y,note\n1.5,7,2,x\n,b,3,\n",
			"map[mix:7 temp:1.5] map[y:[2]]; map[mix:b temp:<nil>] map[y:[3]]", "",
		},
		"objects":        {"a.jsonl", `{"temp":1,"mix":"b","y":2}`, "map[mix:b temp:1] map[y:[2]]", ""},
		"messages":       {"a.jsonl", message + "\n\n" + message, "map[] map[y:[3 4]]; map[] map[y:[3 4]]", ""},
		"no input":       {"a.csv", "temp,y\n1,2\n", "", "answers.unreadable"},
		"broken lines":   {"a.jsonl", message + "\n{", "", "answers.unreadable"},
		"no outputs":     {"a.jsonl", strings.Replace(message, "outputs", "output", 1), "", "answers.unreadable"},
		"another length": {"a.jsonl", strings.Replace(message, "[3,4]", "[3]", 1), "", "answers.unreadable"},
		"too many":       {"a.csv", "temp,mix,y\n" + strings.Repeat("1,a,2\n", 101), "", "answers.unreadable"},
	} {
		cases, err := Answers(c.file, strings.NewReader(c.text), int64(len(c.text)), s)
		var got []string
		for _, k := range cases {
			got = append(got, fmt.Sprint(k.Inputs, " ", k.Outputs))
		}
		if joined := strings.Join(got, "; "); fault.Code(err) != c.code || (err == nil && joined != c.want) {
			t.Errorf("%s: %s, %v; want %s", name, joined, err, c.want)
		}
	}
	if _, err := Answers("a.csv", strings.NewReader("x\n1\n"), 4, nil); fault.Code(err) != "answers.unreadable" {
		t.Errorf("without a signature: %v", err)
	}
	if _, err := Answers("a.csv", strings.NewReader("x\n1\n"), 2<<20, s); fault.Code(err) != "answers.unreadable" {
		t.Errorf("too large: %v", err)
	}
}
