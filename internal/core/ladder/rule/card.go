package rule

import (
	"slices"
	"strings"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/registry"
)

// CardSections demands that the model card says something under some headings.
type CardSections struct {
	Sections []string `json:"sections"`
}

var cardSectionsKind = KindInfo{"card_sections", "the model card has these sections, and they are not empty", []Setting{
	{"sections", "texts", "kinds (intended_use, data, limits, licence, contact) or titles", nil},
}, as[CardSections]}

// Kind names it.
func (CardSections) Kind() string { return cardSectionsKind.Kind }

func (q CardSections) check(field string) error {
	if len(q.Sections) == 0 {
		return fault.New(fault.Invalid, "requirement.sections", "no section of the card is named").
			In(field + ".sections").Do("name some, such as intended_use and limits")
	}
	return nil
}

// Evaluate looks for the sections by kind and by title.
func (q CardSections) Evaluate(f Facts) Outcome {
	card := f.Version.Card
	if card == nil {
		return failed(f.Version.Ref, "The version has no card.")
	}
	var missing []string
	for _, want := range q.Sections {
		there := slices.ContainsFunc(card.Sections, func(s registry.CardSection) bool {
			return (s.Kind == want || strings.EqualFold(s.Title, want)) && strings.TrimSpace(s.Body) != ""
		})
		if !there && !(want == "licence" && card.Licence != "") {
			missing = append(missing, want)
		}
	}
	if len(missing) > 0 {
		return failed(f.Version.Ref, "The card says nothing of %s.", strings.Join(missing, ", "))
	}
	return passed(f.Version.Ref, "The card speaks of %s.", strings.Join(q.Sections, ", "))
}
