package metric

import (
	"maps"
	"strings"
	"testing"

	"innerladder/internal/core/fault"
)

func TestWhichWayAMetricIsBetter(t *testing.T) {
	for _, c := range []struct {
		metric   string
		from, to float64
		want     string
	}{
		{"rmse", 0.3, 0.2, "better"},
		{"macro_f1", 0.3, 0.2, "worse"},
		{"accuracy", 0.3, 0.3, "same"},
		{"bias", -0.2, 0.1, "better"},
		{"bias", -0.2, -0.3, "worse"},
		{"bias", 0.2, -0.2, "same"},
		{"train_loss", -3, -5, "better"}, // a loss may be below zero
	} {
		if got := (Meaning{}).Judge(c.metric, c.from, c.to); got != c.want {
			t.Errorf("%s from %v to %v: %s, want %s", c.metric, c.from, c.to, got, c.want)
		}
	}
	if SaysWhatIsBetter("savings") || !SaysWhatIsBetter("Val_Log_Loss") || !SaysWhatIsBetter("roc_auc") {
		t.Error("which names say it")
	}
}

func TestWhatDiffersBeyondRounding(t *testing.T) {
	for _, c := range []struct {
		name              string
		claimed, measured float64
		want              bool
	}{
		{"the same", 0.38, 0.38, false},
		{"rounded to two places", 0.38, 0.3812, false},
		{"rounded down", 0.38, 0.3849, false},
		{"not rounded but better", 0.38, 0.3851, true},
		{"the report is the shorter one", 0.38124, 0.38, false},
		{"whole numbers", 38, 38.2, false},
		{"1 is not 0.96", 1, 0.96, true},
		{"0 is nothing that was measured", 0, 0.3, true},
		{"below zero", -0.12, -0.1201, false},
		{"the other side of zero", -0.12, 0.12, true},
		{"the last binary digit", 0.1 + 0.2, 0.3, false},
		{"very small", 1.2e-9, 1.21e-9, false},
		{"very small and not the same", 1.2e-9, 1.4e-9, true},
		{"large and exact", 123456, 123457, true},
		{"a half that was rounded", 0.385, 0.3845, false},
	} {
		if got := Differ(c.claimed, c.measured); got != c.want {
			t.Errorf("%s: %v claimed, %v measured: %v", c.name, c.claimed, c.measured, got)
		}
		if got := Differ(c.measured, c.claimed); got != c.want {
			t.Errorf("%s: the other way round: %v", c.name, got)
		}
	}
}

func TestWhatMetricsMean(t *testing.T) {
	known := Meanings{"rmse": {Unit: "MW"}, "savings": {Better: Higher}}
	got, err := known.With("metrics", Meanings{
		"rmse": {Better: Lower}, "savings": {Unit: "kr", Better: Higher}, "mae": {}, "share": {Unit: "%"},
	})
	want := Meanings{"rmse": {"MW", Lower}, "savings": {"kr", Higher}, "share": {Unit: "%"}}
	if err != nil || !maps.Equal(got, want) {
		t.Errorf("%v, %v", got, err)
	}
	if len(known) != 2 || known["rmse"].Better != "" {
		t.Error("what was known was changed")
	}
	for name, said := range map[string]Meanings{
		"another unit": {"rmse": {Unit: "kW"}}, "the other way": {"savings": {Better: Lower}},
	} {
		if _, err := known.With("metrics", said); fault.Code(err) != "metric.means" {
			t.Errorf("%s: %v", name, err)
		}
	}
	for name, bad := range map[string]Meanings{
		"no name": {" ": {Unit: "MW"}}, "no way": {"rmse": {Better: "up"}},
		"a long unit": {"rmse": {Unit: strings.Repeat("m", 41)}},
	} {
		if bad.Check("metrics") == nil {
			t.Errorf("%s: taken", name)
		}
	}
	if got := (Meaning{Better: Lower}).Judge("savings", 2, 1); got != "better" {
		t.Errorf("less of what is better when it is lower is %s", got)
	}
}
