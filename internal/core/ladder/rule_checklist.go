package ladder

import (
	"strings"

	"innerladder/internal/core/fault"
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
		if !rungName.MatchString(item.Name) || strings.TrimSpace(item.Text) == "" {
			return fault.New(fault.Invalid, "requirement.item", "the item %q, %q is not complete", item.Name,
				item.Text).In(field + ".items").Do("give each a name of small letters, digits, - and _, and a text")
		}
	}
	return nil
}

// Evaluate looks at ticks whatever gate they belong to.
func (q Checklist) Evaluate(f Facts) Outcome { return q.evaluateFor(f.To, f) }

func (q Checklist) evaluateFor(rung string, f Facts) Outcome {
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
	return waits(f.Answers.Promotion, "%d of %s of the checklist open: %s.", len(open), describeCount(len(q.Items), "item"),
		strings.Join(open, ", "))
}

// Listed is an item of a checklist with the rung whose gate it is in.
type Listed struct {
	Rung string `json:"rung"`
	Item
	Tick *Tick `json:"tick,omitempty" description:"who ticked it; absent while nobody has"`
}

// Checklist lists the items on the way of a promotion, with their ticks.
func (l Ladder) Checklist(p *Promotion) []Listed {
	out := []Listed{}
	if l.Height(p.To) < 0 {
		return out // the ladder is another by now
	}
	for _, g := range l.gates(p.From, p.To) {
		if c, ok := g.Rule.(Checklist); ok {
			for _, item := range c.Items {
				out = append(out, Listed{g.rung, item, p.answers().Tick(g.rung, item.Name)})
			}
		}
	}
	return out
}
