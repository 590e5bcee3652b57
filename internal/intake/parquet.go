package intake

import (
	"encoding/binary"
	"fmt"
	"io"
	"math"

	"innerladder/internal/core/signature"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/deprecated"
	"github.com/parquet-go/parquet-go/format"
)

// parquetRows reads a Parquet file of flat columns.
type parquetRows struct {
	name  string
	names []string
	kinds []func(parquet.Value) signature.Cell
	in    parquet.Rows
	// total is how many rows the file says that it has.
	total int64
	buf   []parquet.Row
}

const (
	// largestFooter bounds what of a Parquet file is read at once.
	largestFooter = 64 << 20
)

// readParquet opens a Parquet file. The library takes damaged files with a panic here
// and there; that becomes the error it should have been.
func readParquet(name string, r io.ReaderAt, size int64) (t rows, err error) {
	defer intoError(name, &err)
	if err := checkFooter(r, size); err != nil {
		return nil, badTable("%s is no whole Parquet file: %v", name, err)
	}
	f, err := parquet.OpenFile(r, size, parquet.SkipPageIndex(true), parquet.SkipBloomFilters(true))
	if err != nil {
		return nil, badTable("%s is no whole Parquet file: %v", name, err)
	}
	p := &parquetRows{name: name, buf: make([]parquet.Row, batchRows)}
	for _, c := range f.Root().Columns() {
		if !c.Leaf() || c.Repeated() {
			return nil, badTable("%s: column %q holds lists or structures; only flat columns can be profiled", name,
				c.Name())
		}
		p.names, p.kinds = append(p.names, c.Name()), append(p.kinds, parquetCell(c.Type()))
	}
	if len(p.names) == 0 {
		return nil, badTable("%s has no columns", name)
	}
	if err := checkColumns(name, p.names); err != nil {
		return nil, err
	}
	p.total = f.NumRows()
	p.in = parquet.MultiRowGroup(f.RowGroups()...).Rows()
	return p, nil
}

// intoError turns a panic into an error about the file.
func intoError(name string, err *error) {
	if broken := recover(); broken != nil {
		*err = badTable("%s is damaged: %v", name, broken)
	}
}

// checkFooter looks at the frame of the file before the library does, which trusts the
// length it finds there.
func checkFooter(r io.ReaderAt, size int64) error {
	var tail [8]byte
	if size < 12 {
		return fmt.Errorf("it has only %d bytes", size)
	}
	if _, err := r.ReadAt(tail[:], size-8); err != nil && err != io.EOF {
		return err
	}
	if string(tail[4:]) != "PAR1" {
		return fmt.Errorf("it does not end as one, so it breaks off")
	}
	if n := int64(binary.LittleEndian.Uint32(tail[:4])); n > size-12 || n > largestFooter {
		return fmt.Errorf("its footer should have %d bytes", n)
	}
	return nil
}

func (p *parquetRows) columns() []string { return p.names }

func (p *parquetRows) next(b *batch) (err error) {
	defer intoError(p.name, &err)
	n, err := p.in.ReadRows(p.buf)
	for _, values := range p.buf[:n] {
		row := b.row(len(p.names))
		clear(row)
		for _, v := range values {
			if i := v.Column(); i >= 0 && i < len(row) && !v.IsNull() {
				row[i] = p.kinds[i](v)
			}
		}
	}
	if err != nil && err != io.EOF {
		return badTable("%s is damaged: %v", p.name, err)
	}
	return err
}

// parquetCell says how the values of a column are read.
func parquetCell(t parquet.Type) func(parquet.Value) signature.Cell {
	number := func(x float64) signature.Cell {
		if math.IsNaN(x) || math.IsInf(x, 0) {
			return signature.Cell{}
		}
		return signature.Cell{Kind: signature.NumberCell, Number: x}
	}
	text := func(s string) signature.Cell { return signature.Cell{Kind: signature.TextCell, Text: s} }
	if logical := t.LogicalType(); logical != nil {
		switch of := logical.Value.(type) {
		case *format.TimestampType:
			if of.Unit.Value != nil {
				unit := of.Unit.Value.Duration().Seconds()
				// seconds since 1970
				return func(v parquet.Value) signature.Cell { return number(float64(v.Int64()) * unit) }
			}
		case *format.DecimalType:
			if t.Kind() == parquet.Int32 || t.Kind() == parquet.Int64 {
				whole, scale := parquetKind(t), math.Pow10(-int(of.Scale))
				return func(v parquet.Value) signature.Cell { return number(whole(v) * scale) }
			}
		}
	}
	switch t.Kind() {
	case parquet.Boolean:
		return func(v parquet.Value) signature.Cell {
			if v.Boolean() {
				return signature.Cell{Kind: signature.BooleanCell, Number: 1}
			}
			return signature.Cell{Kind: signature.BooleanCell}
		}
	case parquet.ByteArray, parquet.FixedLenByteArray:
		return func(v parquet.Value) signature.Cell { return text(string(v.ByteArray())) }
	}
	read := parquetKind(t)
	return func(v parquet.Value) signature.Cell { return number(read(v)) }
}

func parquetKind(t parquet.Type) func(parquet.Value) float64 {
	switch t.Kind() {
	case parquet.Int32:
		return func(v parquet.Value) float64 { return float64(v.Int32()) }
	case parquet.Int64:
		return func(v parquet.Value) float64 { return float64(v.Int64()) }
	case parquet.Int96:
		return func(v parquet.Value) float64 { return float64(int96Seconds(v.Int96())) }
	case parquet.Float:
		return func(v parquet.Value) float64 { return float64(v.Float()) }
	}
	return func(v parquet.Value) float64 { return v.Double() }
}

// int96Seconds is an old form of a time: nanoseconds of the day and the Julian day.
func int96Seconds(v deprecated.Int96) int64 {
	const julianDayOf1970 = 2440588
	nanos := int64(v[1])<<32 | int64(v[0])
	return (int64(v[2])-julianDayOf1970)*86400 + nanos/1e9
}
