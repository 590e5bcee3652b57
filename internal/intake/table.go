package intake

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/profile"
	"innerladder/internal/core/signature"
)

// rows is a table that is read batch by batch.
type rows interface {
	// columns are those known so far; they only grow.
	columns() []string
	// next fills the batch with rows and returns io.EOF after the last.
	next(b *batch) error
}

// batch is some rows with the memory they stand in, which is used again.
type batch struct {
	rows  [][]signature.Cell
	cells []signature.Cell
	// known is how many columns there were when the batch was read.
	names []string
}

const batchRows = 2048

// row adds a row of n cells to the batch.
func (b *batch) row(n int) []signature.Cell {
	if len(b.cells)+n > cap(b.cells) {
		// Rows already handed out keep the old memory.
		b.cells = make([]signature.Cell, 0, max(2*cap(b.cells), n*batchRows))
	}
	at := len(b.cells)
	b.cells = b.cells[:at+n]
	row := b.cells[at : at+n : at+n]
	b.rows = append(b.rows, row)
	return row
}

func (b *batch) reset() { b.rows, b.cells = b.rows[:0], b.cells[:0] }

func badTable(detail string, args ...any) error {
	return fault.New(fault.Invalid, "sample.unreadable", detail, args...).In("sample").
		Do("give a CSV file with a header line, Parquet, or JSON: a list of objects, or one object a line")
}

// Profile reads a table to its end, in flat memory, and returns what was seen. The
// name tells the kind of file when its bytes do not. Columns named in types are read
// as that type. Parquet needs to be read from several places, so r must be an
// io.ReaderAt then.
func Profile(name string, r io.Reader, size int64, types map[string]signature.Type) (*profile.Profiler, error) {
	p := profile.NewProfiler(types)
	t, err := openTable(name, r, size)
	if err != nil {
		return nil, err
	}
	if err := fill(p, t); err != nil {
		return nil, err
	}
	if p.Rows() == 0 || len(p.Columns()) == 0 {
		return nil, badTable("%s holds no rows", name)
	}
	return p, nil
}

// openTable finds out what kind of table a file is, and begins to read it.
func openTable(name string, r io.Reader, size int64) (rows, error) {
	buffered := bufio.NewReaderSize(r, 1<<18)
	head, _ := buffered.Peek(512)
	lower := strings.ToLower(name)
	text := bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\xef\xbb\xbf")), " \t\r\n")
	switch {
	case bytes.HasPrefix(head, []byte("PAR1")), strings.HasSuffix(lower, ".parquet"):
		at, ok := r.(io.ReaderAt)
		if !ok {
			return nil, badTable("%s: Parquet cannot be read from a stream", name)
		}
		return readParquet(name, at, size)
	case strings.HasSuffix(lower, ".json"), strings.HasSuffix(lower, ".jsonl"), strings.HasSuffix(lower, ".ndjson"),
		len(text) > 0 && text[0] == '{':
		return readJSONRows(name, buffered)
	}
	return readCSV(name, buffered)
}

// fill reads all rows into the profiler. Reading and profiling go on at the same time,
// on two batches that are handed to and fro.
func fill(p *profile.Profiler, t rows) error {
	free, full := make(chan *batch, 3), make(chan *batch, 2)
	for range cap(free) {
		free <- &batch{}
	}
	var readErr error
	go func() {
		defer close(full)
		for b := range free {
			b.reset()
			err := t.next(b)
			b.names = t.columns()
			if len(b.rows) > 0 {
				full <- b
			}
			if err != nil {
				if err != io.EOF {
					readErr = err
				}
				return
			}
		}
	}()
	var profileErr error
	for b := range full {
		if profileErr == nil {
			if profileErr = p.Begin(b.names); profileErr != nil {
				close(free) // the reader ends at its next batch
				continue
			}
			columns(p, len(b.names), b.rows)
			p.End(b.rows)
			free <- b
		}
	}
	return errors.Join(profileErr, readErr)
}

// columns takes in all columns of a batch, several at the same time.
func columns(p *profile.Profiler, n int, rows [][]signature.Cell) {
	workers := min(runtime.NumCPU(), n)
	var next atomic.Int64
	work := func() {
		for i := int(next.Add(1)) - 1; i < n; i = int(next.Add(1)) - 1 {
			p.Column(i, rows)
		}
	}
	var wait sync.WaitGroup
	for range workers - 1 {
		wait.Go(work)
	}
	work()
	wait.Wait()
}

type csvRows struct {
	name  string
	in    *csv.Reader
	names []string
}

func readCSV(name string, r io.Reader) (rows, error) {
	in := csv.NewReader(r)
	in.ReuseRecord = true
	header, err := in.Read()
	if errors.Is(err, io.EOF) {
		return nil, badTable("%s is empty", name)
	}
	if err != nil {
		return nil, badTable("%s: %v", name, err)
	}
	t := &csvRows{name: name, in: in}
	for i, h := range header {
		if i == 0 {
			h = strings.TrimPrefix(h, "\ufeff")
		}
		t.names = append(t.names, strings.Clone(strings.TrimSpace(h)))
	}
	return t, checkColumns(name, t.names)
}

func checkColumns(name string, names []string) error {
	if len(names) > profile.MostColumns {
		return badTable("%s has %d columns, %d are the most", name, len(names), profile.MostColumns)
	}
	for i, c := range names {
		if c == "" {
			return badTable("%s: column %d has no name", name, i+1)
		}
		if slices.Contains(names[:i], c) {
			return badTable("%s: two columns are named %q", name, c)
		}
	}
	return nil
}

func (t *csvRows) columns() []string { return t.names }

func (t *csvRows) next(b *batch) error {
	for len(b.rows) < batchRows {
		record, err := t.in.Read()
		if errors.Is(err, io.EOF) {
			return io.EOF
		}
		if err != nil {
			return broken(t.name, err)
		}
		row := b.row(len(record))
		for i, cell := range record {
			row[i] = signature.Cell{Kind: signature.RawCell, Text: cell}
		}
	}
	return nil
}

// broken says why a table cannot be read on; what is wrong with the connection is not
// the table's fault.
func broken(name string, err error) error {
	var syntax *csv.ParseError
	if errors.As(err, &syntax) {
		return badTable("%s, line %d, column %d: %v", name, syntax.Line, syntax.Column, syntax.Err)
	}
	return fmt.Errorf("reading %s: %w", name, err)
}

type jsonRows struct {
	name     string
	dec      *json.Decoder
	inList   bool
	names    []string
	position map[string]int
	read     int
}

func readJSONRows(name string, r *bufio.Reader) (rows, error) {
	t := &jsonRows{name: name, position: map[string]int{}}
	for {
		b, err := r.Peek(1)
		if err != nil {
			return nil, badTable("%s is empty", name)
		}
		if strings.IndexByte(" \t\r\n", b[0]) < 0 {
			t.inList = b[0] == '['
			break
		}
		_, _ = r.Discard(1)
	}
	t.dec = json.NewDecoder(r)
	if t.inList {
		if _, err := t.dec.Token(); err != nil {
			return nil, badTable("%s: %v", name, err)
		}
	}
	return t, nil
}

// columns is a copy: the profiler reads it while more are found.
func (t *jsonRows) columns() []string { return slices.Clone(t.names) }

func (t *jsonRows) next(b *batch) error {
	for len(b.rows) < batchRows {
		if t.inList && !t.dec.More() {
			if _, err := t.dec.Token(); err != nil { // the list must be closed
				return badTable("%s, after row %d: the list breaks off", t.name, t.read)
			}
			return io.EOF
		}
		var object map[string]any
		err := t.dec.Decode(&object)
		if errors.Is(err, io.EOF) && !t.inList {
			return io.EOF
		}
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			return badTable("%s, row %d: the file breaks off", t.name, t.read+1)
		}
		if err != nil {
			return badTable("%s, row %d: %v", t.name, t.read+1, err)
		}
		t.read++
		if err := t.take(b, object); err != nil {
			return err
		}
	}
	return nil
}

func (t *jsonRows) take(b *batch, object map[string]any) error {
	grew := len(t.names)
	for key := range object {
		if _, known := t.position[key]; !known {
			t.position[key] = 0
			t.names = append(t.names, key)
		}
	}
	slices.Sort(t.names[grew:])
	for i, key := range t.names[grew:] {
		t.position[key] = grew + i
	}
	if len(t.names) > grew {
		if err := checkColumns(t.name, t.names); err != nil {
			return err
		}
	}
	row := b.row(len(t.names))
	clear(row)
	for key, value := range object {
		cell := &row[t.position[key]]
		switch v := value.(type) {
		case nil:
		case float64:
			*cell = signature.Cell{Kind: signature.NumberCell, Number: v}
		case bool:
			*cell = signature.Cell{Kind: signature.BooleanCell}
			if v {
				cell.Number = 1
			}
		case string:
			*cell = signature.Cell{Kind: signature.TextCell, Text: v}
		default:
			return badTable("%s, row %d: %s is no number, text, boolean or null", t.name, t.read,
				strconv.Quote(cutText(key)))
		}
	}
	return nil
}

// EachRowOf is EachRow of a file.
func EachRowOf(file string, texts map[string]bool, row func(line int, values map[string]any) error) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	return EachRow(file, f, info.Size(), texts, row)
}

// EachRow reads a table to its end and calls what is given with each row: its line among the rows, from 1, and its
// values by column. Columns named in texts are read as texts whatever they look like; what is missing is not there.
func EachRow(name string, r io.Reader, size int64, texts map[string]bool,
	row func(line int, values map[string]any) error,
) error {
	t, err := openTable(name, r, size)
	if err != nil {
		return err
	}
	line := 0
	for b := new(batch); ; b.reset() {
		end := t.next(b)
		names := t.columns()
		for _, cells := range b.rows {
			line++
			values := map[string]any{}
			for i, c := range cells {
				if v := valueOf(c, texts[names[i]]); v != nil {
					values[names[i]] = v
				}
			}
			if err := row(line, values); err != nil {
				return err
			}
		}
		if errors.Is(end, io.EOF) {
			return nil
		}
		if end != nil {
			return end
		}
	}
}

// valueOf is what a cell holds: nothing, a number, a truth value or a text.
func valueOf(c signature.Cell, text bool) any {
	switch c = c.Read(text); c.Kind {
	case signature.NumberCell:
		return c.Number
	case signature.BooleanCell:
		return c.Number == 1
	case signature.TextCell:
		return c.Text
	}
	return nil
}
