package watch

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/span"
)

// Set is what people say about the watching of an endpoint. Signals that no rule is about are watched as usual.
type Set struct {
	// Revision counts the changes.
	Revision int    `json:"revision,omitempty"`
	Owner    string `json:"owner,omitempty" description:"the person or team whose endpoint it is"`
	Runbook  string `json:"runbook,omitempty" description:"the address of a page that says what to do"`
	Watches  []Rule `json:"watches,omitempty" description:"beside these, all are watched as usual"`
}

// Rule is a watch over one signal of an endpoint: what is allowed, how surely it must be exceeded, and what follows.
type Rule struct {
	Signal string `json:"signal" required:"true" description:"such as error_rate, latency_p99 or missing_rate.wind"`
	// Limit is what is allowed; of request_rate and accuracy, what is wanted at least.
	Limit Limit `json:"limit,omitempty" description:"1 %, 200ms, a PSI such as 0.2, or requests a second"`
	// Versus is what else is allowed: Times what that is, where it is more.
	Versus Versus  `json:"versus,omitempty"`
	Times  float64 `json:"times,omitempty" description:"so many times what versus names is allowed, if more"`
	// Beyond is the side of what is allowed that is wrong, of custom signals; empty follows from which way is better.
	Beyond Side          `json:"beyond,omitempty" description:"of custom.NAME: which side of what is allowed is wrong"`
	Least  int           `json:"least,omitempty" description:"requests or rows that must have come before it fires"`
	For    span.Duration `json:"for,omitempty" description:"how long it must be so before it fires, such as 10m"`
	// Then is what follows beside the alert.
	Then guard.Response `json:"then,omitempty" description:"when it fires; else notify"`
	Off  bool           `json:"off,omitempty" description:"the signal is not watched"`
	// About is told with the alert.
	About string `json:"about,omitempty" description:"is told with the alert"`
}

// Versus is what a signal is held against.
type Versus string

// What a signal can be held against, beside a limit.
const (
	// Yesterday is the day before; of request_rate, the same time of day in it.
	Yesterday Versus = "yesterday"
	// LastWeek is the day seven days ago; of request_rate, the same time of that day.
	LastWeek Versus = "last_week"
	// Main is the main lane now. What is watched then is the trial lane.
	Main Versus = "main"
	// Registered is what was measured, or claimed, when the version was registered.
	Registered Versus = "registered"
)

// Enum lists them for the document of the API.
func (Versus) Enum() []any { return []any{Yesterday, LastWeek, Main, Registered} }

var versusInWords = map[Versus]string{
	Yesterday: "what it was in the day before", LastWeek: "what it was a week ago", Main: "what it is of main",
	Registered: "what it was at registration",
}

// Usually are the watches of an endpoint about which nobody has said anything.
func Usually() []Rule {
	return []Rule{
		{Signal: ErrorRate, Limit: Percent(1), Versus: Yesterday, Times: 2},
		{Signal: RefusalRate, Limit: Percent(5), Versus: Yesterday, Times: 2},
		{Signal: SlowRate, Limit: Percent(5)},
		{Signal: MissingRate, Limit: Percent(5), Versus: Yesterday, Times: 2},
		{Signal: OutOfRangeRate, Limit: Percent(5), Versus: Yesterday, Times: 2},
		{Signal: FeatureDrift, Limit: Limit{Value: driftAllowed, Given: true}},
		{Signal: PredictionDrift, Limit: Limit{Value: driftAllowed, Given: true}},
	}
}

// Name is how a rule's watch is known: by its signal, and by that it is of the trial.
func (r Rule) Name() string {
	if r.Versus == Main {
		return r.Signal + versusMain
	}
	return r.Signal
}

const versusMain = " versus main"

// Response is what follows when it fires.
func (r Rule) Response() guard.Response { return cmp.Or(r.Then, guard.Notify) }

// rule is the rule of a signal of a column, if that has one, and else of all; ok is false when it is not watched.
func (s *Set) rule(signal, column string) (r Rule, ok bool) {
	all := slices.Concat(s.Watches, Usually())
	for _, name := range []string{Name(signal, column), signal} {
		for _, r := range all {
			if r.Name() == name {
				return r, !r.Off
			}
		}
	}
	return Rule{}, false
}

// Effective are all rules that hold for an endpoint: those that were set, and the usual ones beside them.
func (s *Set) Effective() (out []Rule) {
	out = slices.Clone(s.Watches)
	for _, u := range Usually() {
		if !s.Sets(u.Signal) {
			out = append(out, u)
		}
	}
	return out
}

// Sets reports whether a rule of a name was set.
func (s *Set) Sets(name string) bool {
	return slices.ContainsFunc(s.Watches, func(r Rule) bool { return r.Name() == name })
}

// Needs reports whether something is held against what is named.
func (s *Set) Needs(v Versus) bool {
	return slices.ContainsFunc(s.Watches, func(r Rule) bool { return r.Versus == v && !r.Off })
}

// address is what a runbook's may look like.
var address = regexp.MustCompile(`^https?://[^\s/?#]+[^\s<>"]*$`)

const (
	// mostRules bounds a set, mostLeast and longestFor what a rule may wait for.
	mostRules  = 100
	mostLeast  = 1_000_000
	longestFor = 24 * time.Hour
	// longestText is how long what people say may be.
	longestText = 300
)

// Check says whether an endpoint can be watched so. Its errors name the field as a path, such as watches[1].limit.
func (s *Set) Check() error {
	if len(s.Owner) > longestText || strings.ContainsFunc(s.Owner, naming.Hidden) {
		return bad("owner", "give the name of a person or a team", "%.60q is no name", s.Owner)
	}
	if s.Runbook != "" && (!address.MatchString(s.Runbook) || len(s.Runbook) > 2000) {
		return bad("runbook", "give an address that begins with https:// or http://", "%.100q is no address", s.Runbook)
	}
	if len(s.Watches) > mostRules {
		return bad("watches", fmt.Sprintf("give at most %d", mostRules), "there are %d watches", len(s.Watches))
	}
	names := map[string]bool{}
	for i, r := range s.Watches {
		at := fmt.Sprintf("watches[%d].", i)
		if err := r.check(at); err != nil {
			return err
		}
		if names[r.Name()] {
			return bad(at+"signal", "make one of them", "%s is watched twice", r.Name())
		}
		names[r.Name()] = true
	}
	return nil
}

// CheckAlone says whether a rule by itself can be followed.
func (r Rule) CheckAlone() error { return r.check("") }

// bad says what is wrong in which field.
func bad(field, remedy, what string, args ...any) error {
	code := "watches." + strings.SplitN(field, "[", 2)[0]
	return fault.New(fault.Invalid, code, what, args...).In(field).Do("%s", remedy)
}

func (r Rule) check(at string) error {
	signal, column := Parts(r.Signal)
	switch {
	case !slices.Contains(watchable, signal):
		return bad(at+"signal", "use one of "+list(watchable), "%q is no signal that is watched",
			r.Signal)
	case column == "" && strings.Contains(r.Signal, ".") || strings.Contains(column, versusMain):
		return bad(at+"signal", "name a column behind the dot, or leave the dot out", "%q names no column", r.Signal)
	case signal == Custom && !guard.OfValues(r.Signal):
		return bad(at+"signal", "name one behind the dot, such as custom.cost", "%q names no custom signal", r.Signal)
	case signal != Custom && r.Beyond != "":
		return bad(at+"beyond", "leave it out: it is for custom signals", "%s is always watched on the same side",
			r.Signal)
	case r.Beyond != "" && r.Beyond != Above && r.Beyond != Below:
		return bad(at+"beyond", "say above or below, or leave it out: then it follows from which way is better",
			"%q is no side", r.Beyond)
	case column != "" && !slices.Contains(ofColumns, signal):
		return bad(at+"signal", "leave the column out", "%s is not of a column", signal)
	case strings.ContainsFunc(r.Signal, naming.Hidden):
		return bad(at+"signal", "name the column in letters that can be seen", "%.80q has others", r.Signal)
	case strings.ContainsFunc(strings.ReplaceAll(r.About, "\n", ""), naming.Hidden):
		return bad(at+"about", "write it in letters that can be seen", "%.80q has others", r.About)
	case len(r.About) > longestText:
		return bad(at+"about", fmt.Sprintf("use at most %d bytes", longestText), "it has %d bytes", len(r.About))
	case r.Off && r != (Rule{Signal: r.Signal, Versus: r.Versus, Beyond: r.Beyond, Off: true, About: r.About}):
		return bad(at+"off", "leave limit, times, least, for and then out", "a watch that is off has terms")
	case r.Off:
		return nil
	}
	if err := r.checkLimit(at, signal); err != nil {
		return err
	}
	switch {
	case r.Least < 0 || r.Least > mostLeast:
		return bad(at+"least", "give from 0 to 1000000 requests", "least is %d", r.Least)
	case r.For < 0 || time.Duration(r.For) > longestFor:
		return bad(at+"for", "give a duration from 0 to 24h, such as 10m", "it must be so for %s", r.For)
	case !slices.Contains(guard.Responses, r.Response()):
		return bad(at+"then", "use notify, hold or roll_back", "%q is nothing that can follow", r.Then)
	case r.Response() != guard.Notify && !ofVersions(signal):
		return bad(at+"then", "use notify", "no version is to blame for %s, so that it does not help to %s", signal,
			strings.ReplaceAll(string(r.Then), "_", " "))
	}
	return nil
}

// checkLimit says whether what a rule allows can be told.
func (r Rule) checkLimit(at, signal string) error {
	unit := unitOf(signal)
	like := map[Unit]string{
		PerCent: "per cent, such as 1 %", Time: "a time, such as 200ms", Plain: "a number, such as 0.2",
	}
	switch {
	case r.Limit.Given && r.Limit.Unit != unit:
		return bad(at+"limit", "give "+like[unit], "%q is no limit of %s", r.Limit, signal)
	case unit == PerCent && r.Limit.Value > 1:
		return bad(at+"limit", "give from 0 to 100 %", "the limit is %s", r.Limit)
	case r.Versus != "" && versusInWords[r.Versus] == "":
		return bad(at+"versus", "use yesterday, last_week, main or registered", "%q is nothing to be held against",
			r.Versus)
	case r.Versus != "" && len(versusOf(signal)) == 0:
		return bad(at+"versus", "give a limit alone", "%s is held against its %s", signal,
			map[bool]string{true: "day before", false: "reference profile"}[signal == SlowRate])
	case r.Versus != "" && !slices.Contains(versusOf(signal), r.Versus):
		return bad(at+"versus", "use "+list(versusOf(signal)), "%s cannot be held against %s", signal, r.Versus)
	case r.Versus != "" && !(r.Times > 0 && r.Times <= 1000):
		return bad(at+"times", "say how many times what "+string(r.Versus)+" was is allowed, such as 2",
			"times is %v", r.Times)
	case r.Versus == "" && r.Times != 0 && len(versusOf(signal)) == 0:
		return bad(at+"times", "leave it out", "%s is held against nothing that times could be of", signal)
	case r.Versus == "" && r.Times != 0:
		return bad(at+"times", "say versus: "+list(versusOf(signal)), "times of what is not said")
	case r.Versus == "" && !r.Limit.Given:
		return bad(at+"limit", "give "+like[unit]+", or say versus and times", "nothing says what is allowed")
	case r.Limit.Given && r.Limit.Value <= 0 && unit != PerCent && signal != Custom:
		return bad(at+"limit", "give more than 0", "the limit is %s", r.Limit)
	case r.Limit.Given && r.Limit.Value < 0 && signal != Custom:
		return bad(at+"limit", "give from 0 to 100 %", "the limit is %s", r.Limit)
	}
	return nil
}

// String is the rule in a sentence: Tell when error_rate is above 1 %, and above 2 times what it was in the day before.
func (r Rule) String() string {
	var b strings.Builder
	if r.Off {
		return r.Signal + " is not watched."
	}
	b.WriteString(map[guard.Response]string{
		guard.Notify: "Tell when ", guard.Hold: "Hold the rollout when ", guard.RollBack: "Go back when ",
	}[r.Response()])
	b.WriteString(r.Signal)
	if r.Versus == Main {
		b.WriteString(" of the trial")
	}
	beyond := " is above "
	signal, _ := Parts(r.Signal)
	switch {
	case slices.Contains(ofLeast, signal) || r.Beyond == Below:
		beyond = " is below "
	case signal == Custom && r.Beyond == "":
		beyond = " is beyond "
	}
	b.WriteString(beyond)
	if r.Limit.Given {
		b.WriteString(r.Limit.String())
	}
	if r.Signal == RequestRate && r.Limit.Given {
		b.WriteString(" a second")
	}
	if r.Versus != "" {
		if r.Limit.Given {
			b.WriteString(", and" + strings.TrimPrefix(beyond, " is"))
		}
		if signal == Accuracy { // more than 1 times what is right makes no sense
			fmt.Fprintf(&b, "what makes %v times as many wrong as at registration", r.Times)
		} else {
			fmt.Fprintf(&b, "%v times %s", r.Times, versusInWords[r.Versus])
		}
	}
	if r.Least > 0 {
		fmt.Fprintf(&b, ", after %d requests", r.Least)
	}
	if r.For > 0 {
		fmt.Fprintf(&b, ", for %s", r.For)
	}
	return b.String() + "."
}

// With is the set with a rule in place of that of the same name.
func (s *Set) With(r Rule) Set {
	out := s.Without(r.Name())
	out.Watches = append(out.Watches, r)
	return out
}

// Without is the set without the rule of a name.
func (s *Set) Without(name string) Set {
	out := *s
	out.Watches = slices.DeleteFunc(slices.Clone(s.Watches), func(r Rule) bool { return r.Name() == name })
	return out
}
