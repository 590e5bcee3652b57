package rule

import (
	"strings"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/naming"
)

// Item is one line of a checklist.
type Item struct {
	Name string `json:"name"`
	Text string `json:"text"`
	// Link demands an address, not only a note.
	Link bool `json:"link,omitempty"`
}

// Checklist demands that reviewers looked at things, each with a note or a link that
// says what they saw.
type Checklist struct {
	Items []Item `json:"items"`
}

var checklistKind = KindInfo{"checklist", "reviewers looked at each of these, with a note or a link", []Setting{
	{"items", "items", "each with a name, a text, and whether a link is needed", nil},
}, as[Checklist]}

// Kind names it.
func (Checklist) Kind() string { return checklistKind.Kind }

func (Checklist) byPeople() {}

func (q Checklist) check(field string) error {
	if len(q.Items) == 0 || len(q.Items) > 50 {
		return fault.New(fault.Invalid, "requirement.items", "the checklist has %d items", len(q.Items)).
			In(field + ".items").Do("give 1 to 50")
	}
	for _, item := range q.Items {
		if !naming.Word.MatchString(item.Name) || strings.TrimSpace(item.Text) == "" {
			return fault.New(fault.Invalid, "requirement.item", "the item %q, %q is not complete", item.Name,
				item.Text).In(field + ".items").Do("give each a name of small letters, digits, - and _, and a text")
		}
	}
	return nil
}

// Look lists what is to be looked at.
func (q Checklist) Look() []Item { return q.Items }

// Looked is a rule that is met by looking at things: each is ticked, in the gate of one rung.
type Looked interface {
	Look() []Item
	EvaluateFor(rung string, f Facts) Outcome
}

// Evaluate looks at ticks whatever gate they belong to.
func (q Checklist) Evaluate(f Facts) Outcome { return q.EvaluateFor(f.To, f) }

// EvaluateFor looks at the ticks that belong to the gate of a rung.
func (q Checklist) EvaluateFor(rung string, f Facts) Outcome {
	var open []string
	for _, item := range q.Items {
		if t := f.Answers.Ticked(rung, item.Name); t == nil {
			open = append(open, item.Name)
		}
	}
	switch {
	case len(open) == 0:
		return passed(f.Answers.Promotion, "All of %s ticked.", describeCount(len(q.Items), "item"))
	case len(open) == len(q.Items):
		return waits(f.Answers.Promotion, "%s of the checklist to look at: %s.", describeCount(len(open), "item"),
			strings.Join(open, ", "))
	}
	return waits(f.Answers.Promotion, "%d of %s of the checklist open: %s.", len(open),
		describeCount(len(q.Items), "item"),
		strings.Join(open, ", "))
}

// Listed is an item of a checklist with the rung whose gate it is in.
type Listed struct {
	Rung string `json:"rung"`
	Item
	Tick *Tick `json:"tick,omitempty" description:"who ticked it; absent while nobody has"`
}
