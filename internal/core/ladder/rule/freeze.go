package rule

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/fault"
)

// NoFreeze demands that none of the ladder's change freezes is in force.
type NoFreeze struct{}

var freezeKind = KindInfo{"no_freeze", "no change freeze of the ladder is in force", []Setting{}, as[NoFreeze]}

// Kind names it.
func (NoFreeze) Kind() string { return freezeKind.Kind }

// Evaluate looks at the calendar.
func (NoFreeze) Evaluate(f Facts) Outcome {
	if f.Frozen.Name != "" {
		return waits("", "The change freeze %q is in force until %s.", f.Frozen.Name,
			f.Frozen.Until.Format("Mon 2006-01-02 15:04 MST"))
	}
	return passed("", "No change freeze is in force.")
}

// Frozen is a change freeze in force; without a name there is none.
type Frozen struct {
	Name  string
	Until time.Time
}

// FrozenBy finds the freeze that holds longest of those in force.
func FrozenBy(freezes []Freeze, now time.Time) (longest Frozen) {
	for _, z := range freezes {
		if until, on := z.InForce(now); on && until.After(longest.Until) {
			longest = Frozen{z.Name, until}
		}
	}
	return longest
}

// Freeze is a window in which nothing changes: once, from one moment to another, or every
// week on some days between two times of day. Times are local to its zone.
type Freeze struct {
	Name string `json:"name" required:"true"`
	Zone string `json:"zone" required:"true" description:"time zone, such as Europe/Stockholm"`
	// From and To are moments (2026-12-20 16:00) when there are no days, else times of day
	// (16:00). A To that is not after From is on the next day.
	From string   `json:"from" required:"true" description:"2026-12-20 16:00, or 16:00 when there are days"`
	To   string   `json:"to" required:"true" description:"2027-01-06 08:00, or 08:00 when there are days"`
	Days []string `json:"days,omitempty" description:"mon, tue, wed, thu, fri, sat, sun: when it begins, every week"`
}

// Weekdays are the days of the week as they are written, as time.Weekday counts them.
var Weekdays = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

const (
	momentForm = "2006-01-02 15:04"
	timeForm   = "15:04"
)

// Check refuses a freeze that cannot be meant.
func (z Freeze) Check(field string) error {
	invalid := func(part, form string, args ...any) *fault.Fault {
		return fault.New(fault.Invalid, "freeze."+part, form, args...).In(field + "." + part)
	}
	if strings.TrimSpace(z.Name) == "" {
		return invalid("name", "a change freeze has no name").Do("give it one, such as winter holidays")
	}
	if _, err := time.LoadLocation(z.Zone); err != nil || z.Zone == "" {
		return invalid("zone", "%q is no time zone", z.Zone).Do("use a name such as Europe/Stockholm or UTC")
	}
	for _, d := range z.Days {
		if !slices.Contains(Weekdays, d) {
			return invalid("days", "%q is no day", d).Do("use %s", strings.Join(Weekdays, ", "))
		}
	}
	form, shown := momentForm, "2026-12-20 16:00"
	if len(z.Days) > 0 {
		form, shown = timeForm, "16:00"
	}
	from, err := time.Parse(form, z.From)
	if err != nil {
		return invalid("from", "%q is no time of this form", z.From).Do("write it as %s", shown)
	}
	to, err := time.Parse(form, z.To)
	if err != nil {
		return invalid("to", "%q is no time of this form", z.To).Do("write it as %s", shown)
	}
	if len(z.Days) == 0 && !to.After(from) {
		return invalid("to", "the freeze %q ends at %s, not after it begins", z.Name, z.To).Do("exchange the two")
	}
	return nil
}

// InForce reports whether the freeze is in force, and until when.
func (z Freeze) InForce(now time.Time) (until time.Time, on bool) {
	zone, err := time.LoadLocation(z.Zone)
	if err != nil {
		return time.Time{}, false // it was checked when the ladder was made
	}
	now = now.In(zone)
	within := func(from, to time.Time) bool { return !now.Before(from) && now.Before(to) }
	if len(z.Days) == 0 {
		from, errFrom := time.ParseInLocation(momentForm, z.From, zone)
		to, errTo := time.ParseInLocation(momentForm, z.To, zone)
		return to, errFrom == nil && errTo == nil && within(from, to)
	}
	begins, errFrom := time.Parse(timeForm, z.From)
	ends, errTo := time.Parse(timeForm, z.To)
	if errFrom != nil || errTo != nil {
		return time.Time{}, false
	}
	// It may have begun yesterday and go on over midnight.
	for back := range 2 {
		day := now.AddDate(0, 0, -back)
		if !slices.Contains(z.Days, Weekdays[day.Weekday()]) {
			continue
		}
		from := at(day, begins, 0)
		to := at(day, ends, 0)
		if !ends.After(begins) {
			to = at(day, ends, 1)
		}
		if within(from, to) && to.After(until) {
			until, on = to, true
		}
	}
	return until, on
}

// at is a time of day, some days after a day. time.Date knows when clocks are changed.
func at(day, clock time.Time, later int) time.Time {
	y, m, d := day.Date()
	return time.Date(y, m, d+later, clock.Hour(), clock.Minute(), 0, 0, day.Location())
}

// String says when the freeze is in force.
func (z Freeze) String() string {
	if len(z.Days) > 0 {
		return fmt.Sprintf("%s: every %s from %s to %s, %s", z.Name, strings.Join(z.Days, ", "), z.From, z.To, z.Zone)
	}
	return fmt.Sprintf("%s: from %s to %s, %s", z.Name, z.From, z.To, z.Zone)
}
