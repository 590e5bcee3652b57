package intake

import (
	"errors"
	"fmt"
	"io"
	"os"

	"innerladder/internal/core/signature"
)

// Table is a file of rows that is read part by part, in flat memory.
type Table struct {
	file *os.File
	rows rows
	size int64
	read *counted
	// parquet is nil for the other forms; done are the rows that were read of it.
	parquet *parquetRows
	csv     *csvRows
	done    int64
	// rest is what was read and not handed out yet.
	rest [][]signature.Cell
	end  error
}

// counted counts what is read of a file.
type counted struct {
	*os.File
	n int64
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.File.Read(p)
	c.n += int64(n)
	return n, err
}

// OpenTable opens a file of rows; the name tells what it is when its bytes do not.
func OpenTable(name, file string) (*Table, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err != nil {
		_ = f.Close()
		return nil, err
	}
	t := &Table{file: f, size: info.Size(), read: &counted{File: f}}
	if t.rows, err = openTable(name, t.read, t.size); err == nil {
		t.parquet, _ = t.rows.(*parquetRows)
		if t.csv, _ = t.rows.(*csvRows); t.csv != nil {
			t.csv.in.FieldsPerRecord = -1 // see Broken
		}
		if err = t.fill(); errors.Is(err, io.EOF) && len(t.rest) > 0 {
			err = nil
		}
	}
	if errors.Is(err, io.EOF) {
		err = badTable("%s holds no rows", name)
	}
	if err != nil {
		_ = f.Close()
		return nil, err
	}
	return t, nil
}

// fill reads the next part into memory of its own: whoever gets rows may keep them.
func (t *Table) fill() error {
	if t.end != nil {
		return t.end
	}
	var b batch
	t.end = t.rows.next(&b)
	t.rest = b.rows
	t.done += int64(len(b.rows))
	if len(t.rest) > 0 {
		return nil
	}
	if t.end == nil {
		return t.fill()
	}
	return t.end
}

// Columns are those known so far; they only grow.
func (t *Table) Columns() []string { return t.rows.columns() }

// Share is how much of the table has been read, from 0 to 1.
func (t *Table) Share() float64 {
	if t.parquet != nil {
		return min(1, float64(t.done)/float64(max(1, t.parquet.total)))
	}
	return min(1, float64(t.read.n)/float64(max(1, t.size)))
}

// Next hands out the next rows, n at most; io.EOF after the last.
func (t *Table) Next(n int) ([][]signature.Cell, error) {
	if len(t.rest) == 0 {
		if err := t.fill(); err != nil {
			return nil, err
		}
	}
	n = min(n, len(t.rest))
	out := t.rest[:n:n]
	t.rest = t.rest[n:]
	return out, nil
}

// Broken says what is wrong with a row as it stands in the file; empty when nothing is.
func (t *Table) Broken(row []signature.Cell) string {
	if t.csv == nil || len(row) == len(t.csv.names) {
		return ""
	}
	return fmt.Sprintf("the line has %d values, and the header %d", len(row), len(t.csv.names))
}

// Skip passes over rows; io.EOF where there are not so many.
func (t *Table) Skip(n int64) error {
	for n > 0 {
		rows, err := t.Next(int(min(n, batchRows)))
		if err != nil {
			return err
		}
		n -= int64(len(rows))
	}
	return nil
}

// Close ends reading.
func (t *Table) Close() error { return t.file.Close() }
