package api

import (
	"strings"
	"testing"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/traffic"
	"innerladder/internal/wire"
)

// What stands where a number belongs and is none is refused with its place; nothing becomes 0.
func TestNumbersAreNumbers(t *testing.T) {
	type points struct {
		Points []struct {
			Metric string  `json:"metric"`
			Value  float64 `json:"value"`
		} `json:"points"`
	}
	type split struct {
		Lanes []traffic.Lane `json:"lanes"`
	}
	for _, c := range []struct {
		name  string
		into  any
		body  string
		field string
		says  string
	}{
		{"fine", new(wire.Registration), `{"model":"m","metrics":{"rmse":0.38,"r2":-1e-3}}`, "", ""},
		{"null", new(wire.Registration), `{"model":"m","metrics":{"rmse":null}}`, "metrics.rmse", "null"},
		{"text", new(wire.Registration), `{"model":"m","metrics":{"rmse":"abc"}}`, "metrics.rmse", `"abc"`},
		{"a comma", new(wire.Registration), `{"model":"m","metrics":{"rmse":"0,38"}}`, "metrics.rmse", `"0,38"`},
		{"a list", new(wire.Registration), `{"model":"m","metrics":{"rmse":[1]}}`, "metrics.rmse", "[1]"},
		{"NaN", new(wire.Registration), `{"model":"m","metrics":{"r2":1,"rmse": NaN}}`, "rmse", "nan"},
		{"Infinity", new(wire.Registration), `{"metrics":{"rmse":Infinity}}`, "rmse", "inf"},
		{"less than all", new(wire.Registration), `{"metrics":{"rmse":-Infinity}}`, "rmse", "inf"},
		{"too large", new(wire.Registration), `{"metrics":{"rmse":1e999}}`, "metrics.rmse", "1e999"},
		{"importance", new(wire.Registration), `{"model":"m","importance":{"wind":null}}`, "importance.wind", "null"},
		{
			"a point", new(points), `{"points":[{"metric":"loss","value":1},{"metric":"loss","value":null}]}`,
			"points[1].value", "null",
		},
		{"a share", new(split), `{"lanes":[{"kind":"main","version":"m@1","share":null}]}`, "lanes[0].share", "null"},
		{"a span of time", new(ladder.Ladder), `{"remind_after":"24h"}`, "", ""},
		{"no metrics at all", new(wire.Registration), `{"model":"m","metrics":null}`, "", ""},
	} {
		err := decode([]byte(c.body), c.into)
		var field, detail string
		if f, ok := err.(*fault.Fault); ok {
			field, detail = f.Field, f.Detail
		}
		if (err != nil) != (c.field != "") || field != c.field || !strings.Contains(detail, c.says) {
			t.Errorf("%s: %v in %q", c.name, err, field)
		}
	}
}
