package intake

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"slices"

	"innerladder/internal/core/answers"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/signature"
	"innerladder/internal/oip"
)

// largestAnswers bounds a file of known answers: they are kept with the records.
const largestAnswers = 1 << 20

func badAnswers(detail string, args ...any) error {
	return fault.New(fault.Invalid, "answers.unreadable", detail, args...).In("answers").
		Do("give a table with a column for each input and output, or one JSON object a line with the \"inputs\" and " +
			"\"outputs\" of the Open Inference Protocol")
}

// Answers reads known answers: rows of a table (CSV, Parquet, JSON) that has inputs and outputs of
// a signature, or requests of the Open Inference Protocol with their answers, one a line.
func Answers(name string, r io.Reader, size int64, s *signature.Signature) ([]answers.Case, error) {
	if size > largestAnswers {
		return nil, badAnswers("%s has %d bytes; at most %d are kept", name, size, largestAnswers)
	}
	raw, err := io.ReadAll(io.LimitReader(r, largestAnswers))
	if err != nil {
		return nil, err
	}
	var first struct{ Inputs, Outputs []json.RawMessage }
	if json.NewDecoder(bytes.NewReader(raw)).Decode(&first) == nil && len(first.Inputs) > 0 {
		return answerMessages(name, raw)
	}
	if s == nil {
		return nil, badAnswers("the version has no signature, which says what of %s are inputs and outputs", name)
	}
	t, err := openTable(name, bytes.NewReader(raw), size)
	if err != nil {
		return nil, err
	}
	return answerRows(name, t, s)
}

// answerMessages reads requests with their answers, as they are sent and come back.
func answerMessages(name string, raw []byte) (out []answers.Case, err error) {
	lines := bufio.NewScanner(bytes.NewReader(raw))
	lines.Buffer(nil, largestAnswers)
	for n := 1; lines.Scan(); n++ {
		line := bytes.TrimSpace(lines.Bytes())
		if len(line) == 0 {
			continue
		}
		var message struct {
			ID      string          `json:"id,omitempty"`
			Inputs  json.RawMessage `json:"inputs"`
			Outputs json.RawMessage `json:"outputs,omitempty"`
		}
		if err := json.Unmarshal(line, &message); err != nil {
			return nil, badAnswers("line %d of %s is no JSON: %v", n, name, err)
		}
		if _, err := oip.AnyTensors(line, "inputs"); err != nil {
			return nil, badAnswers("line %d of %s: %v", n, name, err)
		}
		outputs, err := oip.AnyTensors(line, "outputs")
		if err != nil {
			return nil, badAnswers("line %d of %s: %v", n, name, err)
		}
		c := answers.Case{Outputs: oip.Values(outputs)}
		message.Outputs = nil
		if c.Request, err = json.Marshal(message); err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, lines.Err()
}

// answerRows reads the rows of a table.
func answerRows(name string, t rows, s *signature.Signature) (out []answers.Case, err error) {
	var b batch
	for end := false; !end; {
		b.reset()
		if err := t.next(&b); errors.Is(err, io.EOF) {
			end = true
		} else if err != nil {
			return nil, err
		}
		names := t.columns()
		for _, c := range s.Inputs {
			if !slices.Contains(names, c.Name) {
				return nil, badAnswers("%s has no column for the input %q", name, c.Name)
			}
		}
		if len(out)+len(b.rows) > answers.Most {
			return nil, badAnswers("%s has more than %d rows; each is sent to every address", name, answers.Most)
		}
		for _, row := range b.rows {
			value := func(c signature.Column) any {
				i := slices.Index(names, c.Name)
				if i < 0 || i >= len(row) {
					return nil
				}
				return cellValue(row[i].Read(c.Type == signature.Text))
			}
			answer := answers.Case{Inputs: map[string]any{}, Outputs: map[string][]any{}}
			for _, c := range s.Inputs {
				answer.Inputs[c.Name] = value(c)
			}
			for _, c := range s.Outputs {
				if v := value(c); v != nil {
					answer.Outputs[c.Name] = []any{v}
				}
			}
			out = append(out, answer)
		}
	}
	return out, nil
}

// cellValue is a cell as JSON has it; nil when it is missing.
func cellValue(c signature.Cell) any {
	switch c.Kind {
	case signature.NumberCell:
		return c.Number
	case signature.TextCell:
		return c.Text
	case signature.BooleanCell:
		return c.Number == 1
	}
	return nil
}
