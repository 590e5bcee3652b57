package intake

import (
	"errors"
	"reflect"
	"strings"
	"testing"
)

// Each row of a table is given with its line and what stands in it; columns of texts are not read as numbers.
func TestEachRow(t *testing.T) {
	want := []map[string]any{
		{"temp_c": -3.5, "hour": "7", "mix": "old-town", "open": true, "demand_mw": 4.1},
		{"temp_c": 2.25, "hour": "8", "mix": "harbour", "open": false, "demand_mw": 3.2},
		{"hour": "9", "mix": "works", "open": true, "demand_mw": 2.9},
	}
	for name, content := range map[string]string{"rows.csv": rowsCSV, "rows.json": rowsJSON} {
		var got []map[string]any
		err := EachRow(name, strings.NewReader(content), int64(len(content)), map[string]bool{"hour": true},
			func(line int, values map[string]any) error {
				if got = append(got, values); line != len(got) {
					t.Errorf("%s: line %d is the %dth", name, line, len(got))
				}
				return nil
			})
		if err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%s: %v\ngot  %v\nwant %v", name, err, got, want)
		}
	}
	table := parquetFile(t, []heatRow{{Hour: 7, Mix: "works", Demand: 0.5}, {Hour: 8, Open: true}})
	rows := 0
	err := EachRow("rows.parquet", strings.NewReader(table), int64(len(table)), map[string]bool{"hour": true},
		func(line int, values map[string]any) error {
			rows = line
			if line == 1 && (values["hour"] != "7" || values["demand_mw"] != 0.5 || values["temp_c"] != nil) {
				t.Errorf("%v", values)
			}
			return nil
		})
	if err != nil || rows != 2 {
		t.Errorf("%d rows of Parquet, %v", rows, err)
	}
	enough := errors.New("enough")
	err = EachRow("rows.csv", strings.NewReader(rowsCSV), int64(len(rowsCSV)), nil,
		func(int, map[string]any) error { return enough })
	if !errors.Is(err, enough) {
		t.Errorf("%v", err)
	}
	for name, content := range map[string]string{"empty.csv": "", "cut.json": `[{"a":1},{"a"`} {
		err := EachRow(name, strings.NewReader(content), int64(len(content)), nil,
			func(int, map[string]any) error { return nil })
		if err == nil {
			t.Errorf("%s was read", name)
		}
	}
}
