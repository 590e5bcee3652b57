package cli

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/traffic"
	"innerladder/internal/core/watch"
	"innerladder/internal/wire"
)

func TestSeriesAreDrawn(t *testing.T) {
	from := time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)
	s := wire.Series{
		Endpoint: "demand-hourly", From: from, To: from.Add(10 * time.Minute), StepMS: 60_000,
		Splits: []traffic.Split{{Number: 2, MadeAt: from.Add(4 * time.Minute), Lanes: []traffic.Lane{
			{Kind: traffic.Main, Version: "heat-demand@1", Share: traffic.Whole},
		}}},
		Alerts: []watch.Alert{{ID: "A-1", Kind: watch.Fired, Subject: "inputs", RaisedAt: from.Add(9 * time.Minute)}},
	}
	one := wire.LaneSeries{Lane: "main", Version: "heat-demand@1"}
	for i := range 10 {
		if i == 5 {
			continue // nobody called
		}
		one.Points = append(one.Points, wire.Point{
			At: from.Add(time.Duration(i) * time.Minute), Requests: uint64(60 * (i + 1)), P99: 10,
		})
	}
	s.Lanes = append(s.Lanes, one, wire.LaneSeries{Lane: "trial", Version: "heat-demand@2", Points: []wire.Point{
		{At: from.Add(9 * time.Minute), Requests: 60, P99: 20, ErrorRate: 0.5},
	}})
	refused := wire.Refusals{Total: 7, Items: []wire.Refusal{{Points: []wire.RefusalPoint{{At: from, Count: 7}}}}}
	var out bytes.Buffer
	drawSeries(&out, s, refused)
	for _, want := range []string{
		"demand-hourly, the last 10m; a column is 1m",
		"rate    heat-demand@1        ▁▂▃▃▄ ▅▆▇█  last 10.0/s, highest 10.0/s",
		"errors  heat-demand@2 trial           █  last 50.00 %, highest 50.00 %",
		"p99     heat-demand@1        ▄▄▄▄▄ ▄▄▄▄  last 10.0 ms, highest 10.0 ms",
		"refused                      █▁▁▁▁▁▁▁▁▁  7 in all",
		"    ^ #2 heat-demand@1 100 %", "         ^ A-1 watch fired, inputs",
	} {
		if !strings.Contains(out.String(), want) {
			t.Errorf("no %q in\n%s", want, &out)
		}
	}
	// Many steps share a column, weighed by how many requests each had.
	g := gridOf(from, from.Add(3*time.Hour), time.Minute)
	if g.width > chartWidth || g.column != 3*time.Minute || g.at(from.Add(4*time.Minute)) != 1 ||
		g.at(from.Add(9*time.Hour)) != g.width-1 {
		t.Errorf("%+v", g)
	}
	row := columnsOf(g, []wire.Point{
		{At: from, Requests: 300, P99: 10},
		{At: from.Add(time.Minute), Requests: 100, P99: 50},
	}, func(p wire.Point) float64 { return p.P99 })
	if row[0] != 20 || len(row) != g.width {
		t.Errorf("%v", row)
	}
	out.Reset()
	drawSeries(&out, wire.Series{Endpoint: "x", From: from, To: from.Add(time.Minute), StepMS: 1000}, wire.Refusals{})
	if !strings.Contains(out.String(), "nobody called it") {
		t.Errorf("%s", &out)
	}
}
