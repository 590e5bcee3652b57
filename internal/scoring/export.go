package scoring

import (
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"

	"innerladder/internal/core/naming"
	"innerladder/internal/core/signature"
	"innerladder/internal/intake"

	"github.com/parquet-go/parquet-go"
	"github.com/tidwall/gjson"
)

// Formats are how answers can be written out.
var Formats = []string{"csv", "jsonl", "parquet"}

// Export says what is written out.
type Export struct {
	// Dir is the folder of the job, Name that of its table.
	Dir, Name string
	// Aside asks for the rows that were put aside in place of the answers.
	Aside  bool
	Format string
	// Version and Job stand in every row of answers.
	Version, Job string
	// Whole are the outputs that are whole numbers.
	Whole map[string]bool
	// OtherDir is the folder with what OtherVersion answered to the same rows; empty where nobody else was asked.
	OtherDir, OtherVersion string
}

// column is one column of what is written out.
type column struct {
	name string
	// always is what stands in every row; the others are read.
	always string
	kind   byte // of Parquet: 'i' whole numbers, 'f' numbers, 'b' truth values, 't' texts
}

// Write writes out what is safe of a job, in the order of the rows, in flat memory.
func (e Export) Write(w io.Writer) error {
	at, err := readReached(e.Dir)
	if err != nil {
		return err
	}
	file, size := answersFile, at.Answers
	var columns []column
	if e.Aside {
		file, size = asideFile, at.Aside
		columns, err = e.asideColumns()
	} else {
		columns, err = e.answerColumns(at)
	}
	if err != nil {
		return err
	}
	out := bufio.NewWriterSize(w, 1<<16)
	var sink interface {
		row(values []gjson.Result) error
		end() error
	}
	switch e.Format {
	case "csv":
		sink, err = newCSV(out, columns)
	case "jsonl":
		sink = &jsonLines{out: out, columns: columns}
	case "parquet":
		if err = e.kinds(columns, file, size); err == nil {
			sink = newParquet(out, columns)
		}
	default:
		err = fmt.Errorf("%q is no form of a table", e.Format)
	}
	if err != nil {
		return err
	}
	if err := e.lines(file, size, sink.row); err != nil {
		return err
	}
	return errors.Join(sink.end(), out.Flush())
}

// besides are the outputs of the other version, and where its answers end; none where nobody else was asked, or has not
// answered yet.
func (e Export) besides() (outputs []string, size int64, err error) {
	if e.OtherDir == "" || e.Aside {
		return nil, 0, nil
	}
	at, err := readReached(e.OtherDir) // nothing where it was not asked yet
	return at.Outputs, at.Answers, err
}

// answerColumns are those of the answers.
func (e Export) answerColumns(at reached) ([]column, error) {
	others, _, err := e.besides()
	if err != nil {
		return nil, err
	}
	columns := []column{{name: "row", kind: 'i'}}
	taken := append([]string{"row", "version", "job"}, at.Outputs...)
	for _, name := range at.Kept {
		for slices.Contains(taken, name) {
			name = "table." + name // an output is called what it is called
		}
		taken = append(taken, name)
		columns = append(columns, column{name: name})
	}
	for _, name := range at.Outputs {
		c := column{name: name}
		if e.Whole[name] {
			c.kind = 'i'
		}
		columns = append(columns, c)
	}
	for _, name := range others {
		columns = append(columns, column{name: name + " of " + e.OtherVersion})
	}
	return append(columns, column{name: "version", always: e.Version, kind: 't'}, column{
		name: "job", always: e.Job,
		kind: 't',
	}), nil
}

// asideColumns are those of the rows that were put aside: number, reason, and the table's own.
func (e Export) asideColumns() ([]column, error) {
	columns := []column{{name: "row", kind: 'i'}, {name: "reason", kind: 't'}}
	t, err := intake.OpenTable(e.Name, TableIn(e.Dir))
	if err != nil {
		return nil, err
	}
	defer t.Close()
	for _, name := range t.Columns() {
		if name == "row" || name == "reason" {
			name = "table." + name
		}
		columns = append(columns, column{name: name})
	}
	return columns, nil
}

// Columns are those of the lines of answers, after the number of the row.
type Columns struct{ Kept, Outputs []string }

// Each hands every answer of a job to a function: the number of the row, what was kept of it, and the outputs.
func Each(dir string, columns func(Columns) error, row func(values []gjson.Result) error) error {
	at, err := readReached(dir)
	if err == nil {
		err = columns(Columns{at.Kept, at.Outputs})
	}
	if err != nil {
		return err
	}
	return Export{Dir: dir}.lines(answersFile, at.Answers, row)
}

// reader reads lines of answers, or of rows that were put aside, whose values stand in one list.
type reader struct {
	file   *os.File
	in     *bufio.Reader
	values []gjson.Result
}

func openLines(dir, file string, size int64) (*reader, error) {
	f, err := os.Open(filepath.Join(dir, file))
	if err != nil {
		return nil, err
	}
	return &reader{file: f, in: bufio.NewReaderSize(io.LimitReader(f, size), 1<<18)}, nil
}

// next is the next line, io.EOF after the last. Its values are good until the one after that.
func (r *reader) next() ([]gjson.Result, error) {
	line, err := r.in.ReadBytes('\n')
	if errors.Is(err, io.EOF) && len(line) == 0 {
		return nil, io.EOF
	}
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", r.file.Name(), err)
	}
	r.values = r.values[:0]
	gjson.ParseBytes(line).ForEach(func(_, v gjson.Result) bool {
		if v.IsArray() {
			r.values = append(r.values, v.Array()...)
		} else {
			r.values = append(r.values, v)
		}
		return true
	})
	return r.values, nil
}

// lines hands the values of every line to a function; behind those of answers stand what another version answered to
// the same row, missing where it did not.
func (e Export) lines(file string, size int64, row func([]gjson.Result) error) error {
	r, err := openLines(e.Dir, file, size)
	if err != nil {
		return err
	}
	defer r.file.Close()
	outputs, until, err := e.besides()
	if err != nil {
		return err
	}
	var other *reader
	if len(outputs) > 0 {
		if other, err = openLines(e.OtherDir, answersFile, until); err != nil {
			return err
		}
		defer other.file.Close()
	}
	for {
		values, err := r.next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err == nil && other != nil {
			values, err = other.beside(values, len(outputs))
		}
		if err == nil {
			err = row(values)
		}
		if err != nil {
			return err
		}
	}
}

// beside puts what stands in the line of the same row behind values; lines come in the order of rows.
func (r *reader) beside(values []gjson.Result, outputs int) ([]gjson.Result, error) {
	number := values[0].Int()
	for len(r.values) == 0 || r.values[0].Int() < number {
		if _, err := r.next(); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			return nil, err
		}
	}
	if len(r.values) == outputs+1 && r.values[0].Int() == number {
		return append(values, r.values[1:]...), nil
	}
	return append(values, make([]gjson.Result, outputs)...), nil
}

// text is a value as it stands in a table; missing values are empty.
func text(v gjson.Result) string {
	switch v.Type {
	case gjson.Null:
		return ""
	case gjson.String:
		return v.Str
	}
	return v.Raw
}

// each calls what is given with every column and its value; what a line does not have is missing.
func each(columns []column, values []gjson.Result, do func(i int, c column, v gjson.Result)) {
	at := 0
	for i, c := range columns {
		v := gjson.Result{}
		if c.always == "" {
			if at < len(values) {
				v = values[at]
			}
			at++
		}
		do(i, c, v)
	}
}

type csvSink struct {
	out     *csv.Writer
	columns []column
	record  []string
}

func newCSV(w io.Writer, columns []column) (*csvSink, error) {
	s := &csvSink{out: csv.NewWriter(w), columns: columns, record: make([]string, len(columns))}
	for i, c := range columns {
		s.record[i] = naming.Cell(c.name)
	}
	return s, s.out.Write(s.record)
}

func (s *csvSink) row(values []gjson.Result) error {
	each(s.columns, values, func(i int, c column, v gjson.Result) {
		if s.record[i] = text(v); v.Type == gjson.String {
			s.record[i] = naming.Cell(v.Str)
		}
		if c.always != "" {
			s.record[i] = c.always
		}
	})
	return s.out.Write(s.record)
}

func (s *csvSink) end() error {
	s.out.Flush()
	return s.out.Error()
}

type jsonLines struct {
	out     *bufio.Writer
	columns []column
	line    []byte
}

func (s *jsonLines) row(values []gjson.Result) error {
	s.line = append(s.line[:0], '{')
	each(s.columns, values, func(i int, c column, v gjson.Result) {
		if i > 0 {
			s.line = append(s.line, ',')
		}
		s.line = append(signature.AppendText(s.line, c.name), ':')
		switch {
		case c.always != "":
			s.line = signature.AppendText(s.line, c.always)
		case v.Type == gjson.Null:
			s.line = append(s.line, "null"...)
		default:
			s.line = append(s.line, v.Raw...)
		}
	})
	_, err := s.out.Write(append(s.line, '}', '\n'))
	return err
}

func (s *jsonLines) end() error { return nil }

// kinds finds out of what kind the values of each column are, by reading all of them.
func (e Export) kinds(columns []column, file string, size int64) error {
	err := e.lines(file, size, func(values []gjson.Result) error {
		each(columns, values, func(i int, c column, v gjson.Result) {
			kind := map[gjson.Type]byte{gjson.Number: 'f', gjson.True: 'b', gjson.False: 'b', gjson.String: 't'}[v.Type]
			switch {
			case kind == 0 || c.kind == 'i' || c.kind == 't':
			case c.kind == 0:
				columns[i].kind = kind
			case c.kind != kind:
				columns[i].kind = 't'
			}
		})
		return nil
	})
	for i := range columns {
		if columns[i].kind == 0 {
			columns[i].kind = 't' // nothing stands in it
		}
	}
	return err
}

// rowGroup is how many rows of Parquet are gathered in memory.
const rowGroup = 1 << 17

type parquetSink struct {
	out     *parquet.GenericWriter[any]
	columns []column
	// at is the place of each column in the file, which orders them by name.
	at   []int
	line parquet.Row
}

func newParquet(w io.Writer, columns []column) *parquetSink {
	group := parquet.Group{}
	for _, c := range columns {
		group[c.name] = parquet.Optional(map[byte]parquet.Node{
			'i': parquet.Int(64), 'f': parquet.Leaf(parquet.DoubleType), 'b': parquet.Leaf(parquet.BooleanType),
			't': parquet.String(),
		}[c.kind])
	}
	schema := parquet.NewSchema("answers", group)
	s := &parquetSink{
		columns: columns, at: make([]int, len(columns)), line: make(parquet.Row, len(columns)),
		out: parquet.NewGenericWriter[any](w, schema, parquet.MaxRowsPerRowGroup(rowGroup),
			parquet.Compression(&parquet.Snappy)),
	}
	for i, c := range columns {
		s.at[i] = slices.IndexFunc(schema.Columns(), func(path []string) bool { return path[0] == c.name })
	}
	return s
}

func (s *parquetSink) row(values []gjson.Result) error {
	each(s.columns, values, func(i int, c column, v gjson.Result) {
		value := parquet.Value{}
		switch {
		case c.always != "":
			value = parquet.ByteArrayValue([]byte(c.always))
		case v.Type == gjson.Null:
		case c.kind == 'i':
			value = parquet.Int64Value(v.Int())
		case c.kind == 'f':
			value = parquet.DoubleValue(v.Num)
		case c.kind == 'b':
			value = parquet.BooleanValue(v.Bool())
		default:
			value = parquet.ByteArrayValue([]byte(text(v)))
		}
		defined := 1
		if value.IsNull() {
			defined = 0
		}
		s.line[s.at[i]] = value.Level(0, defined, s.at[i])
	})
	_, err := s.out.WriteRows([]parquet.Row{s.line})
	return err
}

func (s *parquetSink) end() error { return s.out.Close() }
