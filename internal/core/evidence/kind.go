package evidence

import (
	"bufio"
	"encoding/json"
	"encoding/xml"
	"io"
)

// KindOf tells of which kind a report is from what it holds; empty when it is none of those whose
// form we know. Documents and pictures are not told: any file could be one.
func KindOf(r io.Reader) string {
	in := bufio.NewReader(r)
	for {
		b, err := in.ReadByte()
		if err != nil {
			return ""
		}
		switch b {
		case ' ', '\t', '\r', '\n', 0xEF, 0xBB, 0xBF: // a mark of the byte order may come first
			continue
		case '<':
			_ = in.UnreadByte()
			return kindOfXML(in)
		case '{':
			_ = in.UnreadByte()
			return kindOfJSON(in)
		}
		return ""
	}
}

func kindOfXML(r io.Reader) string {
	dec := xml.NewDecoder(r)
	for {
		token, err := dec.Token()
		if err != nil {
			return ""
		}
		if el, ok := token.(xml.StartElement); ok {
			if el.Name.Local == "testsuites" || el.Name.Local == "testsuite" {
				return TestsKind
			}
			return ""
		}
	}
}

// kindOfJSON looks for the member that only one kind of report has.
func kindOfJSON(r io.Reader) string {
	var members map[string]json.RawMessage
	if err := json.NewDecoder(r).Decode(&members); err != nil {
		return ""
	}
	for _, told := range []struct{ member, kind string }{
		{"metrics", EvaluationKind},
		{"latency_ms", LoadKind},
		{"seconds", LoadKind},
		{"replayed", ReplayKind},
		{"disagreed", ShadowKind},
		{"tried", RobustnessKind},
		{"importances", ImportanceKind},
	} {
		if _, there := members[told.member]; there {
			return told.kind
		}
	}
	return ""
}
