package intake

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"innerladder/internal/core/registry"
)

// deepest is how deep a JSON document may be nested.
const deepest = 1000

// readJSON checks that a file is well-formed JSON, without holding it, and names the
// members of its outermost object.
func readJSON(name string, r io.ReaderAt, size int64) (registry.Contents, error) {
	c := registry.Contents{Format: registry.FormatJSON}
	dec := json.NewDecoder(bufio.NewReaderSize(io.NewSectionReader(r, 0, min(size, largestDocument)), window))
	dec.UseNumber()
	depth, members, isKey := 0, []string{}, false
	var objects []bool // whether each open level is an object
	for {
		t, err := dec.Token()
		if err == io.EOF {
			break
		}
		if err != nil {
			if size > largestDocument && dec.InputOffset() > largestDocument-(1<<20) {
				c.Remarks = append(c.Remarks, fmt.Sprintf("only the first %d MiB were read", largestDocument>>20))
				depth = 0
				break
			}
			return c, badFile(name, "JSON", dec.InputOffset(), "%v", err)
		}
		switch d, _ := t.(json.Delim); d {
		case '{', '[':
			if depth++; depth > deepest {
				return c, badFile(name, "JSON", dec.InputOffset(), "it is nested more than %d deep", deepest)
			}
			objects = append(objects, d == '{')
			isKey = d == '{'
			continue
		case '}', ']':
			depth--
			objects = objects[:len(objects)-1]
		default:
			if isKey && depth > 0 && objects[depth-1] {
				if key, ok := t.(string); ok && depth == 1 && len(members) < 50 {
					members = append(members, cutText(key))
				}
				isKey = false
				continue
			}
		}
		isKey = depth > 0 && objects[depth-1]
	}
	if depth > 0 || dec.InputOffset() == 0 {
		return c, badFile(name, "JSON", size, "the document breaks off")
	}
	c.Say("members", strings.Join(members, ", "))
	return c, nil
}
