// Package rule holds what gates can demand: one file for each kind of requirement, with its
// settings, whether they make sense, and how far some facts meet it.
package rule

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/evidence"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/signature"
	"innerladder/internal/core/standing"
	"innerladder/internal/core/traffic"
)

// HasRole reports whether one of the roles is among those that are wanted; none wanted
// is all.
func HasRole(wanted, roles []string) bool {
	return len(wanted) == 0 || slices.ContainsFunc(wanted, func(w string) bool { return slices.Contains(roles, w) })
}

// describeCount is "1 sign-off" or "2 sign-offs".
func describeCount(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %ss", n, one)
}

// Rule is one kind of demand that a gate can make, with its settings. A new kind is a
// file with a type that does this, and its line in kinds.
type Rule interface {
	// Kind names it.
	Kind() string
	// Evaluate finds out how far a candidate meets it.
	Evaluate(Facts) Outcome
}

// checked is a rule whose settings can be wrong. field is where it stands in the ladder.
type checked interface {
	check(field string) error
}

// Requirement is one demand of a gate. In JSON it is an object with the rule's kind and
// its settings.
type Requirement struct{ Rule }

// Setting describes one setting of a kind of requirement.
type Setting struct {
	Name string `json:"name"`
	// Type is text, number, count, yes_no, texts, or items.
	Type string `json:"type" enum:"text,number,count,yes_no,texts,items"`
	What string `json:"what"`
	// Among lists what it can be; empty when it can be anything.
	Among []string `json:"among,omitempty"`
}

// KindInfo describes a kind of requirement.
type KindInfo struct {
	Kind     string    `json:"kind"`
	What     string    `json:"what"`
	Settings []Setting `json:"settings"`
	read     func([]byte) (Rule, error)
}

// kinds are all kinds of requirements, in the order in which they are offered.
func kinds() []KindInfo {
	return []KindInfo{
		artifactStoredKind, metricRecordedKind, metricKind, evidenceKind, signOffsKind, checklistKind,
		dataLookedAtKind, cardSectionsKind, lineageKind, signatureKind, dependencyKind, placedKind, shadowedKind,
		standingKind, checkedKind, robustKind, freezeKind,
	}
}

// Kinds describes the kinds of requirements that gates are made of.
func Kinds() []KindInfo { return kinds() }

// as reads the settings of a rule; what it does not know is an error.
func as[R Rule](b []byte) (Rule, error) {
	var r R
	dec := json.NewDecoder(bytes.NewReader(b))
	dec.DisallowUnknownFields()
	err := dec.Decode(&r)
	return r, err
}

// MarshalJSON writes the settings with the kind in front.
func (q Requirement) MarshalJSON() ([]byte, error) {
	if q.Rule == nil {
		return nil, fmt.Errorf("a requirement without a rule cannot be written")
	}
	b, err := json.Marshal(q.Rule)
	if err != nil {
		return nil, err
	}
	kind, err := json.Marshal(q.Kind())
	if err != nil {
		return nil, err
	}
	out := append([]byte(`{"kind":`), kind...)
	if len(b) > len("{}") {
		out = append(out, ',')
	}
	return append(out, b[1:]...), nil
}

// UnmarshalJSON reads a requirement of any kind.
func (q *Requirement) UnmarshalJSON(b []byte) error {
	all := map[string]json.RawMessage{}
	if err := json.Unmarshal(b, &all); err != nil {
		return fault.New(fault.Invalid, "requirement.form", "a requirement is not an object: %s", clip(b)).In("gate").
			Do(`write {"kind": …} with its settings`)
	}
	var kind string
	_ = json.Unmarshal(all["kind"], &kind)
	delete(all, "kind")
	var names []string
	for _, k := range kinds() {
		if k.Kind != kind {
			names = append(names, k.Kind)
			continue
		}
		rest, err := json.Marshal(all)
		if err != nil {
			return err
		}
		rule, err := k.read(rest)
		if err != nil {
			var settings []string
			for _, s := range k.Settings {
				settings = append(settings, s.Name+" ("+s.Type+")")
			}
			if len(settings) == 0 {
				settings = []string{"none"}
			}
			return fault.New(fault.Invalid, "requirement.settings", "the requirement %s cannot be read: %s", kind,
				strings.TrimPrefix(err.Error(), "json: ")).In("gate").
				Do("its settings are %s", strings.Join(settings, ", "))
		}
		q.Rule = rule
		return nil
	}
	return fault.New(fault.Invalid, "requirement.kind", "%q is no kind of requirement", kind).In("gate").
		Do("use one of %s", strings.Join(names, ", "))
}

func clip(b []byte) string {
	if len(b) > 60 {
		return string(b[:60]) + "…"
	}
	return string(b)
}

// JSONSchemaBytes describes a requirement for the document of the API.
func (Requirement) JSONSchemaBytes() ([]byte, error) {
	var names []string
	for _, k := range kinds() {
		names = append(names, k.Kind)
	}
	return json.Marshal(map[string]any{
		"type": "object", "required": []string{"kind"}, "additionalProperties": true,
		"properties":  map[string]any{"kind": map[string]any{"type": "string", "enum": names}},
		"description": "the kind and its settings; see /requirement-kinds",
	})
}

// Check refuses settings that cannot be meant.
func (q Requirement) Check(field string) error {
	if q.Rule == nil {
		return fault.New(fault.Invalid, "requirement.kind", "a requirement has no kind").In(field).Do("name its kind")
	}
	if c, ok := q.Rule.(checked); ok {
		return c.check(field)
	}
	return nil
}

// ByPeople reports whether it is people who must do something for it, not a machine.
func (q Requirement) ByPeople() bool {
	_, people := q.Rule.(interface{ byPeople() })
	return people
}

// State is how far a requirement is met.
type State string

// The states. Failed is for what this version can never meet as it is, or what speaks
// against it; waiting for what can still come.
const (
	Passed  State = "passed"
	Failed  State = "failed"
	Waiting State = "waiting"
)

// Outcome is what was found about a requirement.
type Outcome struct {
	State    State  `json:"state" enum:"passed,failed,waiting"`
	Sentence string `json:"sentence"`
	// Proof is where one can see it: a ref, an id of evidence, a placement.
	Proof string `json:"proof,omitempty" description:"what shows it: heat-demand@7, E-12, an environment"`
}

func passed(proof, sentence string, args ...any) Outcome {
	return Outcome{Passed, fmt.Sprintf(sentence, args...), proof}
}

func failed(proof, sentence string, args ...any) Outcome {
	return Outcome{Failed, fmt.Sprintf(sentence, args...), proof}
}

func waits(proof, sentence string, args ...any) Outcome {
	return Outcome{Waiting, fmt.Sprintf(sentence, args...), proof}
}

// Finding is one requirement with what was found about it.
type Finding struct {
	Rung        string `json:"rung"`
	Requirement string `json:"requirement" description:"its kind"`
	Outcome
	// ByPeople says that a person must do something for it, not a machine.
	ByPeople bool `json:"by_people,omitempty"`
}

// Place is where a candidate runs.
type Place struct {
	Environment string
	Healthy     bool
	Reason      string
	// Declared is what its servers declared at placement; nil when that is not known.
	Declared *signature.Served
}

// Facts are what the gates look at. Nothing in them is looked up by a rule: what it
// needs, it is handed.
type Facts struct {
	Version *registry.Version
	// MetricCount is how many metrics it has, where only those that gates name were read, and
	// MeasuredCount how many of them a report measured.
	MetricCount, MeasuredCount int
	// Incumbent is who answers main, or where nothing answers, who stands on the rung asked
	// for; nil when there is nobody to compare with.
	Incumbent *registry.Version
	// IncumbentAnswers is set when the incumbent answers main, not only stands on the rung.
	IncumbentAnswers bool
	// Contracts are those of each endpoint of the model that versions can answer under.
	Contracts []traffic.Decided
	// To is the rung asked for.
	To string
	// StoredArtifacts is how many of the version's artifacts are in the store. Where their
	// bytes were read, ReadAt is when, of the one that was read first, and only those count
	// that had their digest then.
	StoredArtifacts int
	ReadAt          time.Time
	// Standing is what new versions of the model are evaluated on; nil for nothing.
	Standing *standing.Standing
	// Cases are those that versions of the model must answer, MODEL#NUMBER; empty for none.
	Cases string
	// Evidence is the reports of the version, the newest first.
	Evidence []evidence.Evidence
	Places   []Place
	// Trainers are those who registered the version or ran its training.
	Trainers []string
	// Frozen is the change freeze in force; nil has the calendar looked at.
	Frozen *Frozen
	// Answers are those to the promotion that asks, marked for staleness.
	Answers *Answers
	Now     time.Time
}

// newest finds the newest evidence of a kind.
func newest(all []evidence.Evidence, kind string) *evidence.Evidence {
	if i := slices.IndexFunc(all, func(e evidence.Evidence) bool { return e.Kind == kind }); i >= 0 {
		return &all[i]
	}
	return nil
}

// Met reports whether all findings passed.
func Met(findings []Finding) bool {
	return !slices.ContainsFunc(findings, func(f Finding) bool { return f.State != Passed })
}
