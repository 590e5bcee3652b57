package request

import (
	"encoding/json"
	"testing"
)

// A request is taken apart into rows where each column has one value for each; other columns are not in them.
func TestRowsOfARequest(t *testing.T) {
	for name, c := range map[string]struct {
		request, answer string
		rows            int
		wind, demand    any // of the last row
	}{
		"one row": {
			`{"inputs":[{"name":"wind","shape":[1],"data":[3]}]}`,
			`{"outputs":[{"name":"demand","shape":[1],"data":[1.5]}]}`, 1, 3.0, 1.5,
		},
		"nested as rows": {
			`{"inputs":[{"name":"wind","shape":[2,1],"data":[[3],[4]]}]}`,
			`{"outputs":[{"name":"demand","shape":[2],"data":[1,2]}]}`, 2, 4.0, 2.0,
		},
		"scores are several to a row": {
			`{"inputs":[{"name":"wind","shape":[2],"data":[3,4]}]}`,
			`{"outputs":[{"name":"demand","shape":[2,3],"data":[1,2,3,4,5,6]}]}`, 2, 4.0, nil,
		},
		"one output for all rows": {
			`{"inputs":[{"name":"wind","shape":[2],"data":[3,4]}]}`,
			`{"outputs":[{"name":"demand","shape":[1],"data":[1]}]}`, 2, 4.0, nil,
		},
		"inputs are not kept": {``, `{"outputs":[{"name":"demand","shape":[2],"data":[1,2]}]}`, 2, nil, 2.0},
		"inputs of two lengths": {
			`{"inputs":[{"name":"wind","shape":[2],"data":[3,4]},{"name":"mix","shape":[3],"data":[1,2,3]}]}`,
			`{"outputs":[{"name":"demand","shape":[1],"data":[1]}]}`, 1, nil, 1.0,
		},
		"no shape is one row": {`{"inputs":[{"name":"wind","data":[3]}]}`, `{}`, 1, 3.0, nil},
		"of no length":        {`{"inputs":[{"name":"wind","shape":[-1],"data":[3]}]}`, `{}`, 0, nil, nil},
		"far too many":        {`{"inputs":[{"name":"wind","shape":[9999999999],"data":[3]}]}`, `{}`, 0, nil, nil},
		"no tensors":          {`{"rows":[1]}`, `[1]`, 0, nil, nil},
	} {
		rows := RowsOf(&Kept{Request: json.RawMessage(c.request), Answer: json.RawMessage(c.answer)})
		if len(rows) != c.rows {
			t.Errorf("%s: %d rows", name, len(rows))
			continue
		}
		if c.rows > 0 {
			if last := rows[c.rows-1]; last.Inputs["wind"] != c.wind || last.Outputs["demand"] != c.demand {
				t.Errorf("%s: %+v", name, last)
			}
		}
	}
}
