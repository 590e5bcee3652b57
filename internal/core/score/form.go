// Package score makes requests of the rows of a table, for any version whose signature is known.
package score

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/signature"
)

const (
	// MostBatch and MostParallel bound what a model server is asked at once.
	MostBatch    = 4096
	MostParallel = 64
	// UsualBatch and UsualParallel are taken where nothing is said.
	UsualBatch    = 256
	UsualParallel = 4
	// usualValue is how many bytes a value takes with its comma, where it is not known.
	usualValue = 8
	// mostValues is how many values a row has at most.
	mostValues = 10_000
)

// CheckPace says whether so many rows may be asked at once, in so many requests.
func CheckPace(batch, parallel int) error {
	if batch < 1 || batch > MostBatch {
		return fault.New(fault.Invalid, "score.batch", "%d rows cannot be asked at once", batch).In("batch").
			Do("ask from 1 to %d", MostBatch)
	}
	if parallel < 1 || parallel > MostParallel {
		return fault.New(fault.Invalid, "score.parallel", "%d requests cannot be under way at a time", parallel).
			In("parallel").Do("allow from 1 to %d", MostParallel)
	}
	return nil
}

// Form is how the rows of a table become requests of a version.
type Form struct {
	inputs []input
	kept   []int
	// Kept are the names of the columns that stand beside the answers.
	Kept []string
	// Alone says that the version takes one row at a time.
	Alone bool
}

// input is one tensor of a request.
type input struct {
	column signature.Column
	// at are the columns of the table whose values stand side by side in each row.
	at []int
	// shape follows the first dimension.
	shape []int64
}

// NewForm finds the inputs of a version among the columns of a table. Keep are the columns that stand beside the
// answers; nil is all that are no inputs.
func NewForm(s *signature.Signature, columns, keep []string) (*Form, error) {
	f := &Form{Kept: []string{}}
	if s == nil || len(s.Inputs) == 0 {
		return nil, fault.New(fault.Refused, "score.no_signature", "the version has no signature, so it is not known "+
			"what it takes").In("version").Do("register it with sample rows: innerladder register … -sample FILE")
	}
	used := map[string]bool{}
	for _, c := range s.Inputs {
		names, in, err := inputOf(c)
		if err != nil {
			return nil, err
		}
		for _, name := range names {
			at := slices.Index(columns, name)
			if at < 0 {
				in.at = nil
				break
			}
			in.at, used[name] = append(in.at, at), true
		}
		switch {
		case len(in.at) > 0:
			f.inputs = append(f.inputs, in)
		case !c.Nullable || len(names) > 1:
			return nil, fault.New(fault.Invalid, "score.column", "the table has no column %s",
				missing(names, columns)).In("table").
				Do("its columns are %s; name them as the inputs of the version are", strings.Join(columns, ", "))
		}
		f.Alone = f.Alone || c.Datatype != "" && !c.AnyShape && (len(c.Shape) == 0 || c.Shape[0] >= 0)
	}
	if keep == nil {
		for _, name := range columns {
			if !used[name] {
				keep = append(keep, name)
			}
		}
	}
	for _, name := range keep {
		at := slices.Index(columns, name)
		if at < 0 {
			return nil, fault.New(fault.Invalid, "score.keep", "the table has no column %s", name).In("keep").
				Do("its columns are %s", strings.Join(columns, ", "))
		}
		f.kept, f.Kept = append(f.kept, at), append(f.Kept, name)
	}
	return f, nil
}

// missing is the first name that is no column.
func missing(names, columns []string) string {
	i := slices.IndexFunc(names, func(n string) bool { return !slices.Contains(columns, n) })
	return names[max(0, i)]
}

// inputOf says which columns of a table an input takes, one for each of its values in a row.
func inputOf(c signature.Column) (names []string, in input, err error) {
	in = input{column: c}
	values := 1
	shape := c.Shape
	if c.Datatype != "" {
		shape = shape[min(1, len(shape)):]
	}
	for i, d := range shape {
		if d < 0 && i == len(shape)-1 && len(c.Parts) > 0 {
			d = int64(len(c.Parts)) // as wide as what stands side by side
		}
		if d < 1 || d > mostValues || values*int(d) > mostValues {
			return nil, in, fault.New(fault.Refused, "score.shape", "input %s takes %s, which rows of a table cannot "+
				"give", c.Name, c.TypeText()).In("version").Do("ask it with requests of its own: innerladder try … " +
				"-request FILE")
		}
		values *= int(d)
		in.shape = append(in.shape, d)
	}
	switch {
	case len(c.Within) > 0:
		return nil, in, fault.New(fault.Refused, "score.shape", "input %s takes %s, which rows of a table cannot give",
			c.Name, c.TypeText()).In("version")
	case len(c.Parts) == values:
		return c.Parts, in, nil
	case values == 1:
		return []string{c.Name}, in, nil
	}
	for i := range values {
		names = append(names, fmt.Sprintf("%s[%d]", c.Name, i))
	}
	return names, in, nil
}

// cell is one of a row; rows of JSON may be shorter than the table is wide.
func cell(row []signature.Cell, at int) signature.Cell {
	if at >= len(row) {
		return signature.Cell{}
	}
	return row[at]
}

// words are the types as people say them.
var words = map[signature.Type]string{
	signature.Number: "a number", signature.Integer: "a whole number that it can hold",
	signature.Boolean: "true or false", signature.Text: "a text",
}

// Fit makes the request of the rows that fit, whose places it returns, and says of the others why they do not. Reasons
// has one place for each row; rows that have a reason already are left out.
func (f *Form) Fit(rows [][]signature.Cell, columns, reasons []string) (body []byte, fit []int) {
	data := make([][]byte, len(f.inputs))
	for i := range data {
		data[i] = make([]byte, 0, usualValue*len(rows)*len(f.inputs[i].at))
	}
	ends := make([]int, len(f.inputs))
	for i, row := range rows {
		if reasons[i] == "" {
			reasons[i] = f.append(data, ends, row, columns)
		}
		if reasons[i] == "" {
			fit = append(fit, i)
		}
	}
	return f.message(data, len(fit)), fit
}

// append adds the values of a row to those of each input; where one does not fit it adds none, and says why.
func (f *Form) append(data [][]byte, ends []int, row []signature.Cell, columns []string) string {
	for i := range f.inputs {
		in := &f.inputs[i]
		ends[i] = len(data[i])
		for _, at := range in.at {
			if len(data[i]) > 0 {
				data[i] = append(data[i], ',')
			}
			var ok bool
			if data[i], ok = in.column.AppendValue(data[i], cell(row, at)); !ok {
				for k := range i + 1 {
					data[k] = data[k][:ends[k]]
				}
				return fmt.Sprintf("%s is %.60s, not %s", columns[at], signature.AppendCell(nil, cell(row, at)),
					words[in.column.Type])
			}
		}
	}
	return ""
}

// message is a request with the values of its inputs, of so many rows.
func (f *Form) message(data [][]byte, rows int) []byte {
	size := 64
	for i := range data {
		size += len(data[i]) + len(f.inputs[i].column.Name) + 80
	}
	dst := append(make([]byte, 0, size), `{"inputs":[`...)
	for i := range f.inputs {
		in := &f.inputs[i]
		if i > 0 {
			dst = append(dst, ',')
		}
		dst = signature.AppendText(append(dst, `{"name":`...), in.column.Name)
		dst = append(dst, `,"datatype":"`...)
		dst = append(dst, in.column.Sent()...)
		dst = append(dst, `","shape":[`...)
		if in.column.Datatype == "" || in.column.AnyShape || len(in.column.Shape) > 0 {
			dst = strconv.AppendInt(dst, int64(rows), 10) // else a single value, of one row
		}
		for _, d := range in.shape {
			dst = strconv.AppendInt(append(dst, ','), d, 10)
		}
		dst = append(dst, `],"data":[`...)
		dst = append(dst, data[i]...)
		dst = append(dst, "]}"...)
	}
	return append(dst, "]}"...)
}

// AppendKept appends what stands beside the answers of a row, each after a comma, as JSON.
func (f *Form) AppendKept(dst []byte, row []signature.Cell) []byte {
	for _, at := range f.kept {
		dst = signature.AppendCell(append(dst, ','), cell(row, at))
	}
	return dst
}
