package job

import (
	"fmt"
	"time"
)

// Line is one line of the log of a job: what it did, and what it met.
type Line struct {
	At   time.Time `json:"at"`
	Says string    `json:"says"`
}

// Milestones says which progress is worth a line of the log.
type Milestones struct {
	tenth   int
	trouble string
	begun   time.Time
}

// NewMilestones begins where a job is.
func NewMilestones(p Progress, now time.Time) *Milestones {
	return &Milestones{tenth: int(10 * p.Share), trouble: p.Trouble, begun: now}
}

// Next is the line that progress is worth, empty for none: each tenth that is through, and trouble that comes and goes.
func (m *Milestones) Next(p Progress, now time.Time) string {
	switch tenth := int(10 * p.Share); {
	case p.Trouble != m.trouble && p.Trouble == "":
		m.trouble = ""
		return "it gets on again"
	case p.Trouble != m.trouble:
		m.trouble = p.Trouble
		return "it does not get on just now, and tries again: " + p.Trouble
	case tenth > m.tenth && tenth < 10:
		m.tenth = tenth
		aside := ""
		if p.PutAside > 0 {
			aside = fmt.Sprintf(", %d put aside", p.PutAside)
		}
		return fmt.Sprintf("%d %% after %s: %d answered%s", 10*tenth, now.Sub(m.begun).Round(time.Millisecond),
			p.Answered, aside)
	}
	return ""
}
