package intake

import (
	"bytes"
	"fmt"
	"io"
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/profile"
	"innerladder/internal/core/signature"

	"github.com/parquet-go/parquet-go"
)

const rowsCSV = `temp_c,hour,mix,open,demand_mw
-3.5,7,old-town,true,4.1
2.25,8,harbour,false,3.2
,9,works,true,2.9
`

const rowsJSON = `[{"temp_c":-3.5,"hour":7,"mix":"old-town","open":true,"demand_mw":4.1},
	{"temp_c":2.25,"hour":8,"mix":"harbour","open":false,"demand_mw":3.2},
	{"hour":9,"mix":"works","open":true,"demand_mw":2.9}]`

func profiled(t *testing.T, name, content string) *profile.Profiler {
	t.Helper()
	p, err := Profile(name, strings.NewReader(content), int64(len(content)), nil)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// parquetFile writes rows as Parquet.
func parquetFile[T any](t testing.TB, rows []T) string {
	t.Helper()
	var b bytes.Buffer
	if err := parquet.Write(&b, rows); err != nil {
		t.Fatal(err)
	}
	return b.String()
}

type heatRow struct {
	Temp   *float64 `parquet:"temp_c,optional"`
	Hour   int32    `parquet:"hour"`
	Mix    string   `parquet:"mix,dict"`
	Open   bool     `parquet:"open"`
	Demand float32  `parquet:"demand_mw"`
}

func heatRows() []heatRow {
	a, b := -3.5, 2.25
	return []heatRow{{&a, 7, "old-town", true, 4.5}, {&b, 8, "harbour", false, 3.25}, {nil, 9, "works", true, 2.75}}
}

func TestSignatureFromRows(t *testing.T) {
	asLines := strings.NewReplacer("[", "", "]", "", "},", "}").Replace(rowsJSON)
	for name, content := range map[string]string{
		"rows.csv": rowsCSV, "bom.csv": "\ufeff" + rowsCSV,
		"rows.json": rowsJSON, "rows.jsonl": asLines, "guessed": asLines, "rows.parquet": parquetFile(t, heatRows()),
	} {
		sig, err := profiled(t, name, content).Signature([]string{"demand_mw"}, map[string]string{"demand_mw": "MW"})
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		if len(sig.Outputs) != 1 || sig.Outputs[0].Unit != "MW" || sig.Outputs[0].Type != signature.Number {
			t.Errorf("%s: outputs %+v", name, sig.Outputs)
		}
		got := map[string]signature.Column{}
		for _, c := range sig.Inputs {
			got[c.Name] = c
		}
		if c := got["temp_c"]; c.Type != signature.Number || !c.Nullable || *c.Min != -3.5 || *c.Max != 2.25 {
			t.Errorf("%s: %+v", name, c)
		}
		if c := got["hour"]; c.Type != signature.Integer || c.Nullable || *c.Max != 9 {
			t.Errorf("%s: %+v", name, c)
		}
		if c := got["mix"]; c.Type != signature.Text ||
			!slices.Equal(c.Levels, []string{"harbour", "old-town", "works"}) {
			t.Errorf("%s: %+v", name, c)
		}
		if got["open"].Type != signature.Boolean {
			t.Errorf("%s: %+v", name, got["open"])
		}
	}
}

func TestBadTablesSayWhatIsWrong(t *testing.T) {
	good := parquetFile(t, heatRows())
	nested := parquetFile(t, []struct {
		List []int64 `parquet:"list"`
	}{{[]int64{1, 2}}})
	cases := []struct{ name, file, content, says string }{
		{"empty", "a.csv", "", "a.csv is empty"},
		{"header only", "a.csv", "x,y\n", "no rows"},
		{"ragged", "a.csv", "x,y\n1,2\n1,2,3\n", "line 3"},
		{"quote", "a.csv", "x,y\n1,\"2\n", "line 2"},
		{"twice the same column", "a.csv", "x,x\n1,2\n", `two columns are named "x"`},
		{"no name", "a.csv", "x,\n1,2\n", "column 2 has no name"},
		{"mixed", "a.csv", "x\n1\nblue\n", `the first text is "blue" in row 2`},
		{"all missing", "a.csv", "x,y\n1,\n2,\n", `"y" has no value`},
		{"too wide", "a.csv", strings.Repeat("x,", 2000) + "y\n", "columns"},
		{"nested JSON", "a.json", `[{"x":[1,2]}]`, `"x" is no number`},
		{"broken JSON", "a.json", `[{"x":1},`, "row 2: the file breaks off"},
		{"JSON that is no row", "a.json", `[1]`, "row 1"},
		{"empty JSON", "a.json", " \n", "is empty"},
		{"JSON lines that break off", "a.jsonl", "{\"x\":1}\n{\"x\":", "row 2"},
		{"cut Parquet", "a.parquet", good[:len(good)-20], "breaks off"},
		{"short Parquet", "a.parquet", "PAR1", "only 4 bytes"},
		{"lying Parquet", "a.parquet", good[:len(good)-8] + "\xff\xff\xff\x7fPAR1", "footer"},
		{"nested Parquet", "a.parquet", nested, "only flat columns"},
	}
	for _, c := range cases {
		p, err := Profile(c.file, strings.NewReader(c.content), int64(len(c.content)), nil)
		if err == nil {
			_, err = p.Signature(nil, nil)
		}
		if err == nil || !strings.Contains(err.Error(), c.says) || fault.Code(err) != "sample.unreadable" {
			t.Errorf("%s: error %v, want it to say %q", c.name, err, c.says)
		}
	}
	if _, err := profiled(t, "a.csv", rowsCSV).
		Signature([]string{"demand"}, nil); fault.Code(err) != "sample.no_target" {
		t.Errorf("a target that is not there: %v", err)
	}
	if _, err := Profile("a.csv", io.MultiReader(strings.NewReader("x\n1\n"), failing{}), 0, nil); err == nil ||
		fault.Code(err) != "" {
		t.Errorf("a connection that breaks is the table's fault: %v", err)
	}
}

type failing struct{}

func (failing) Read([]byte) (int, error) { return 0, io.ErrUnexpectedEOF }

func TestTypesOfOnesOwn(t *testing.T) {
	p, err := Profile("a.csv", strings.NewReader("code,x\n007,1\nA1,2\ntrue,3\n"), 0,
		map[string]signature.Type{"code": signature.Text})
	if err != nil {
		t.Fatal(err)
	}
	s, err := p.Signature(nil, nil)
	if err != nil || s.Inputs[0].Type != signature.Text ||
		!slices.Equal(s.Inputs[0].Levels, []string{"007", "A1", "true"}) {
		t.Errorf("%+v, %v", s, err)
	}
}

func TestProfileOfManyRows(t *testing.T) {
	if profiled(t, "a.csv", rowsCSV).Profile(nil) != nil {
		t.Error("three rows made a reference profile")
	}
	const n = 150_000
	var b strings.Builder
	b.WriteString("x,twice,mix,rare\n")
	for i := range n {
		rare := ""
		if i%3 == 0 {
			rare = fmt.Sprint(i % 7)
		}
		fmt.Fprintf(&b, "%d,%d,%s,%s\n", i, 2*i+1, []string{"works", "harbour", fmt.Sprint("s", i%3000)}[i%3], rare)
	}
	p := profiled(t, "a.csv", b.String()).Profile([]string{"twice"})
	x, mix, rare := p.Columns["x"], p.Columns["mix"], p.Columns["rare"]
	if p.Rows != n || x.Seen() != n || x.Bins.Len() != 20 || x.Max != n-1 || math.Abs(x.Mean()-(n-1)/2.0) > 1e-6 {
		t.Errorf("x: %+v", x)
	}
	if mix.Total() != n || len(mix.Counts) != 50 || mix.Other == 0 || rare.Missing != n-n/3 || rare.Bins.Len() < 6 {
		t.Errorf("mix: %d seen, %d levels, %d others; rare: %d missing, %d bins", mix.Seen(), len(mix.Counts),
			mix.Other, rare.Missing, rare.Bins.Len())
	}
	if d := float64(p.Distinct["x"]); math.Abs(d-n) > 0.03*n || p.Distinct["rare"] != 7 || p.Targets[0] != "twice" {
		t.Errorf("distinct: %v", p.Distinct)
	}
	if len(p.Correlations) == 0 || math.Abs(p.Correlations[0].R-1) > 1e-9 {
		t.Errorf("correlations: %+v", p.Correlations)
	}
}

func TestParquetTimesAndLongFiles(t *testing.T) {
	type row struct {
		At time.Time `parquet:"at,timestamp(microsecond)"`
		N  int64     `parquet:"n"`
	}
	var rows []row
	for i := range 3000 {
		rows = append(rows, row{time.Unix(1_700_000_000+int64(i), 0), int64(i)})
	}
	p := profiled(t, "a.parquet", parquetFile(t, rows)).Profile(nil)
	if p.Rows != 3000 || p.Columns["at"].Min != 1_700_000_000 || p.Columns["n"].Max != 2999 {
		t.Errorf("%d rows, at %+v", p.Rows, p.Columns["at"])
	}
}

func FuzzTable(f *testing.F) {
	f.Add("a.csv", []byte(rowsCSV))
	f.Add("a.csv", []byte("x,y\n\"a\n\"\"b\",1\n"))
	f.Add("a.json", []byte(rowsJSON))
	f.Add("a.jsonl", []byte("{\"x\":1}\n{\"y\":true}"))
	f.Add("a.json", []byte(`[{"x":1e999}]`))
	f.Fuzz(func(t *testing.T, name string, content []byte) {
		p, err := Profile(name, bytes.NewReader(content), int64(len(content)), nil)
		if err != nil {
			return
		}
		s, err := p.Signature(nil, nil)
		if err == nil {
			if err := s.Check("sample"); err != nil {
				t.Fatalf("a signature that was read is wrong: %v", err)
			}
			s.SampleRequest(p.First)
		}
		p.Profile(nil)
	})
}

func FuzzParquet(f *testing.F) {
	f.Add([]byte(parquetFile(f, heatRows())))
	f.Add([]byte(parquetFile(f, []struct {
		A time.Time `parquet:"a,timestamp"`
		B []byte    `parquet:"b,optional,zstd"`
		C uint64    `parquet:"c,delta"`
	}{{time.Unix(1, 0), []byte("x"), 3}, {time.Unix(2, 0), nil, 9}})))
	f.Fuzz(func(t *testing.T, content []byte) {
		p, err := Profile("a.parquet", bytes.NewReader(content), int64(len(content)), nil)
		if err == nil {
			_, _ = p.Signature(nil, nil)
		}
	})
}
