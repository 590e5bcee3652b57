package metric

import "testing"

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
		if got := Judge(c.metric, c.from, c.to); got != c.want {
			t.Errorf("%s from %v to %v: %s, want %s", c.metric, c.from, c.to, got, c.want)
		}
	}
	if SaysWhatIsBetter("savings") || !SaysWhatIsBetter("Val_Log_Loss") || !SaysWhatIsBetter("roc_auc") {
		t.Error("which names say it")
	}
}
