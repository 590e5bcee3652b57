package rule

import (
	"time"

	"innerladder/internal/core/evidence"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/span"
)

// EvidenceOf demands a report of a kind that passed and is not too old. The newest of
// the kind counts.
type EvidenceOf struct {
	Evidence   string        `json:"evidence"`
	NoOlder    span.Duration `json:"no_older_than,omitempty"`
	Unjudged   bool          `json:"unjudged_too,omitempty"`
	LeastTests int           `json:"least_tests,omitempty"`
}

var evidenceKind = KindInfo{"evidence", "a report of a kind is attached, passed, and is not too old", []Setting{
	{"evidence", "text", "its kind", evidence.Kinds()},
	{"no_older_than", "text", "how old it may be, such as 168h; any age when empty", nil},
	{"unjudged_too", "yes_no", "a report without a verdict will do too: a document, say", nil},
	{"least_tests", "count", "how many tests a report of tests must have run", nil},
}, as[EvidenceOf]}

// Kind names it.
func (EvidenceOf) Kind() string { return evidenceKind.Kind }

func (q EvidenceOf) check(field string) error {
	if err := evidence.CheckKind(field+".evidence", q.Evidence); err != nil {
		return err
	}
	if q.NoOlder < 0 || (q.NoOlder > 0 && q.NoOlder < span.Duration(time.Minute)) {
		return fault.New(fault.Invalid, "requirement.age", "no_older_than is %s", q.NoOlder).
			In(field + ".no_older_than").Do("give at least 1m, such as 168h")
	}
	if q.LeastTests != 0 && (q.LeastTests < 0 || q.Evidence != evidence.TestsKind) {
		return fault.New(fault.Invalid, "requirement.tests", "least_tests is %d for evidence of kind %s", q.LeastTests,
			q.Evidence).In(field + ".least_tests").Do("give a number above 0, and only for tests")
	}
	return nil
}

// Evaluate looks at the newest report of the kind.
func (q EvidenceOf) Evaluate(f Facts) Outcome {
	e := newest(f.Evidence, q.Evidence)
	switch {
	case e == nil:
		return waits(f.Version.Ref, "Nothing of kind %s is attached; add it with: innerladder attach %s -kind %s FILE.",
			q.Evidence, f.Version.Ref, q.Evidence)
	case e.Verdict == evidence.VerdictFailed:
		return failed(e.ID, "%s, %s, failed: %s.", e.ID, e.Name, e.Says)
	case e.Verdict != evidence.VerdictPassed && !q.Unjudged:
		return waits(e.ID, "%s, %s, says neither passed nor failed.", e.ID, e.Name)
	case q.NoOlder > 0 && f.Now.Sub(e.AddedAt) > time.Duration(q.NoOlder):
		return waits(e.ID, "%s, %s, is from %s and may be no older than %s.", e.ID, e.Name,
			e.AddedAt.Format("2006-01-02 15:04"), q.NoOlder)
	case q.LeastTests > 0 && (e.Tests == nil || e.Tests.Ran() < q.LeastTests):
		ran := 0
		if e.Tests != nil {
			ran = e.Tests.Ran()
		}
		return failed(e.ID, "%s, %s, ran %s of the %d that are demanded.", e.ID, e.Name, describeCount(ran, "test"),
			q.LeastTests)
	case e.Says == "":
		return passed(e.ID, "%s, %s, is attached.", e.ID, e.Name)
	}
	return passed(e.ID, "%s, %s: %s.", e.ID, e.Name, e.Says)
}
