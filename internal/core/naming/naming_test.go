package naming

import (
	"strings"
	"testing"

	"innerladder/internal/core/fault"
)

func TestNumberedThings(t *testing.T) {
	k := Numbered{Prefix: "P-", What: "promotion"}
	for s, want := range map[string]int64{
		"P-1": 1, "p-12": 12, "P-9223372036854775807": 1<<63 - 1,
		"P-0": 0, "P--1": 0, "P-+1": 0, "P-": 0, "P": 0, "": 0,
		"12": 0, "A-1": 0, "P-1x": 0, "P-9223372036854775808": 0, " P-1": 0,
	} {
		n, err := k.Parse("promotion", s)
		if n != want || (err == nil) != (want > 0) || (err != nil && fault.Code(err) != "promotion.id") {
			t.Errorf("%q: %d, %v; want %d", s, n, err, want)
		}
		if err == nil && !strings.EqualFold(k.ID(n), s) {
			t.Errorf("%q is written %s", s, k.ID(n))
		}
	}
}

func TestThings(t *testing.T) {
	for ref, want := range map[string]string{
		"heat-demand@7": "heat-demand", "heat-demand@live": "heat-demand", "winters#2": "winters", "winters": "winters",
		"": "", "@": "", "P-12": "P-12",
	} {
		if name, part := Thing(ref); name != want || part != strings.ContainsAny(ref, "@#") {
			t.Errorf("%q: %q, %v; want %q", ref, name, part, want)
		}
	}
}

func TestReasons(t *testing.T) {
	if err := CheckReason("checked", "say why"); err != nil {
		t.Error(err)
	}
	if err := CheckReason(" \n", "say why the version is %s", "retired"); fault.Code(err) != "reason.missing" ||
		!strings.Contains(err.Error(), "say why the version is retired") {
		t.Errorf("no reason: %v", err)
	}
}
