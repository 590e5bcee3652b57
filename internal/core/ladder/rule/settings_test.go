package rule

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/registry"
)

// Every kind describes itself: the console's editor and the help are made of that.
func TestKindsDescribeThemselves(t *testing.T) {
	seen := map[string]bool{}
	for _, k := range Kinds() {
		if k.Kind == "" || k.What == "" || seen[k.Kind] {
			t.Errorf("%+v", k)
		}
		seen[k.Kind] = true
		for _, s := range k.Settings {
			if s.Name == "" || s.What == "" ||
				!strings.Contains(" text texts number count yes_no items ", " "+s.Type+" ") {
				t.Errorf("%s: %+v", k.Kind, s)
			}
			// What is described is what is read: a value of the type is taken.
			value := map[string]string{"text": `"` + strings.Join(append(s.Among[:min(1, len(s.Among))], "")[:1], "") +
				`"`, "texts": `[]`, "number": `1`, "count": `1`, "yes_no": `true`, "items": `[]`}[s.Type]
			if s.Name == "no_older_than" {
				value = `"1h"`
			}
			var q Requirement
			if err := json.Unmarshal(fmt.Appendf(nil, `{"kind":%q,%q:%s}`, k.Kind, s.Name, value), &q); err != nil ||
				q.Kind() != k.Kind {
				t.Errorf("%s with %s %s: %v", k.Kind, s.Name, value, err)
			}
		}
	}
	if len(seen) != 17 {
		t.Errorf("%d kinds; describe the new one in docs/guide.md", len(seen))
	}
}

// A freeze that cannot be in force, or whose time cannot be read, is refused by its field.
func TestFreezesThatCannotBeMeant(t *testing.T) {
	good := Freeze{Name: "holidays", Zone: "Europe/Stockholm", From: "2026-12-20 16:00", To: "2027-01-06 08:00"}
	if err := good.Check("freezes[0]"); err != nil {
		t.Fatal(err)
	}
	for field, change := range map[string]func(*Freeze){
		"freeze.name": func(f *Freeze) { f.Name = " " },
		"freeze.zone": func(f *Freeze) { f.Zone = "" },
		"freeze.days": func(f *Freeze) { f.Days = []string{"someday"} },
		"freeze.from": func(f *Freeze) { f.From = "in December" },
		"freeze.to":   func(f *Freeze) { f.To = f.From },
	} {
		f := good
		change(&f)
		if err := f.Check("freezes[0]"); fault.Code(err) != field {
			t.Errorf("%s: %v", field, err)
		}
	}
	weekly := Freeze{Name: "nights", Zone: "UTC", Days: []string{"mon"}, From: "22:00", To: "6"}
	if err := weekly.Check("freezes[0]"); fault.Code(err) != "freeze.to" {
		t.Errorf("a time of day: %v", err)
	}
	weekly.To = "06:00"
	if err := weekly.Check("freezes[0]"); err != nil {
		t.Errorf("over midnight: %v", err)
	}
	if got := weekly.String(); got != "nights: every mon from 22:00 to 06:00, UTC" {
		t.Error(got)
	}
}

func TestWhatIsDenied(t *testing.T) {
	for _, c := range []struct {
		denied, name, want string
		state              State
		says               string
	}{
		{"oldlib", "OldLib", ">=1", Failed, "which is denied"},
		{"old-lib", "old_lib", "", Failed, "which is denied"},
		{"oldlib", "oldlibrary", "", Passed, "1 package"},
		{"numpy<1.22", "numpy", "==1.21.6", Failed, "1.21.6"},
		{"numpy<1.22", "numpy", "==1.22", Passed, ""},
		{"numpy<=1.22", "numpy", "==1.22", Failed, ""},
		{"numpy>2", "numpy", "==2.1", Failed, ""},
		{"numpy>=2", "numpy", "== 2.0", Failed, ""},
		{"numpy==1.9", "numpy", "===1.9.0", Failed, ""},
		{"numpy==1.9", "numpy", "==1.10", Passed, ""},
		// What a build adds is of the same release, unless the bound names a build.
		{"torch==2.1.0", "torch", "==2.1.0+cu121", Failed, "2.1.0+cu121"},
		{"torch==2.1.0+cpu", "torch", "==2.1.0+cu121", Passed, ""},
		{"torch==2.1.0+cpu", "torch", "==2.1.0+cpu", Failed, ""},
		// A post-release comes after its release, what comes before it before.
		{"torch<=2.0", "torch", "==2.0.post1", Passed, ""},
		{"torch>2.0", "torch", "==2.0.post1", Failed, ""},
		{"torch<2.0", "torch", "==2.0rc1", Failed, "2.0rc1"},
		{"torch<2.0rc1", "torch", "==2.0.dev3", Failed, ""},
		{"torch<2.0", "torch", "==1!1.0", Passed, ""},
		{"torch==2.0", "torch", "==v2.0.0", Failed, "pin it"},
		{"torch==2.0", "torch", "==2.*", Failed, "pin it"},
		{"torch==2.0", "torch", "===2.0_nightly", Failed, "no release by PEP 440"},
		{"a__b", "A.-b", "==1", Failed, ""},
		{"numpy<1.22", "numpy", ">=1.20", Failed, "pin it"},
		{"numpy<1.22", "numpy", "", Failed, "pin it"},
	} {
		v := &registry.Version{Ref: "heat-demand@2", Dependencies: []registry.Dependency{{Name: c.name, Want: c.want}}}
		if got := (NoDenied{Denied: []string{c.denied}}).Evaluate(Facts{Version: v}); got.State != c.state ||
			!strings.Contains(got.Sentence, c.says) {
			t.Errorf("%s%s where %s is denied: %+v", c.name, c.want, c.denied, got)
		}
	}
}
