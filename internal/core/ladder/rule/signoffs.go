package rule

import (
	"slices"
	"strings"

	"innerladder/internal/core/fault"
)

// SignOffs demands that so many people said yes: never the one who asked.
type SignOffs struct {
	Count int `json:"count"`
	// Roles are those of which each signer must have one; none is everyone who may sign.
	Roles []string `json:"roles,omitempty"`
	// NotTrainer leaves out who registered the version or ran its training.
	NotTrainer bool `json:"not_trainer,omitempty"`
}

var signOffsKind = KindInfo{"sign_offs", "people other than the one who asked said yes", []Setting{
	{"count", "count", "how many", nil},
	{"roles", "texts", "roles of which each signer must have one; everyone who may sign when empty", nil},
	{"not_trainer", "yes_no", "whoever registered the version or ran its training does not count", nil},
}, as[SignOffs]}

// Kind names it.
func (SignOffs) Kind() string { return signOffsKind.Kind }

func (SignOffs) byPeople() {}

func (q SignOffs) check(field string) error {
	if q.Count < 1 || q.Count > 20 {
		return fault.New(fault.Invalid, "requirement.count", "%d sign-offs are demanded", q.Count).In(field + ".count").
			Do("demand 1 to 20")
	}
	return nil
}

// counts reports whether a sign-off is one that this requirement counts.
func (q SignOffs) counts(s SignOff, f Facts) bool {
	return s.Valid() && s.Answer == Yes && s.By != f.Answers.AskedBy && HasRole(q.Roles, s.Roles) &&
		(!q.NotTrainer || !slices.Contains(f.Trainers, s.By))
}

// Evaluate counts those who said yes.
func (q SignOffs) Evaluate(f Facts) Outcome {
	p := f.Answers
	if no := p.Refusal(); no != nil {
		return failed(p.Promotion, "%s said no: %s.", no.By, strings.TrimRight(no.Note, "."))
	}
	var yes, aside []string
	for _, s := range p.SignOffs {
		switch {
		case q.counts(s, f):
			yes = append(yes, s.By)
		case s.Valid() && s.Answer == Yes && q.NotTrainer && slices.Contains(f.Trainers, s.By):
			aside = append(aside, s.By+"'s does not count, who trained it")
		case s.Stale:
			aside = append(aside, s.By+"'s is stale")
		case s.Void != "":
			aside = append(aside, s.By+"'s is void")
		case s.Answer == Later:
			aside = append(aside, s.By+" answers after "+s.Until.UTC().Format("2006-01-02 15:04")+" UTC")
		case s.Answer == HandOver:
			aside = append(aside, s.By+" handed it to "+s.To)
		}
	}
	if len(yes) >= q.Count {
		return passed(p.Promotion, "Signed by %s.", strings.Join(yes, ", "))
	}
	who := "someone other than " + p.AskedBy
	if p.AskedBy == "" {
		who = "someone other than the one who asks"
	}
	if len(q.Roles) > 0 {
		who = strings.Join(q.Roles, " or ") + " other than " + strings.TrimPrefix(who, "someone other than ")
	}
	sentence := "Waits for " + describeCount(q.Count-len(yes), "sign-off") + " by " + who
	if len(aside) > 0 {
		sentence += "; " + strings.Join(aside, ", ")
	}
	return waits(p.Promotion, "%s.", sentence)
}
