package traffic

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"innerladder/internal/core/fault"
)

// Rule sends some callers to a lane before the others are dealt by share: it names what is looked at, what that must
// be, and the version that answers. The first rule of a split that is met counts.
type Rule struct {
	// On is what is looked at: key (the name of the caller's key), caller (their name), "header NAME", "cookie
	// NAME", or "input NAME" (the first value of an input).
	On string `json:"on" required:"true" description:"key, caller, header NAME, cookie NAME or input NAME"`
	// Is are values of which it must be one, Matches is a regular expression (RE2) for all of it, From and To are
	// the ends of a range of numbers. One of the three kinds is given.
	Is      []string `json:"is,omitempty" description:"one of these values"`
	Matches string   `json:"matches,omitempty" description:"a regular expression (RE2) for all of it"`
	From    *float64 `json:"from,omitempty" description:"a number from this on"`
	To      *float64 `json:"to,omitempty" description:"a number below this"`
	// Version is that of the lane.
	Version string `json:"version" required:"true" description:"MODEL@NUMBER of a lane of the split"`
}

// What rules can look at.
const (
	OnKey    = "key"
	OnCaller = "caller"
	OnHeader = "header "
	OnCookie = "cookie "
	OnInput  = "input "
)

// StickyHeader is what keeps callers on their lane where an endpoint says nothing else.
const StickyHeader = "header Inner-Ladder-Caller"

// Asked is what is known of a request when its lane is chosen.
type Asked struct {
	// Key is the name of the caller's key, Caller what they call themselves.
	Key, Caller string
	// Header and Input give a header, or the first value of an input; there is false where there is none.
	Header func(name string) (value string, there bool)
	Input  func(name string) (value string, there bool)
}

// look finds what a rule, or what callers stick by, looks at.
func (a Asked) look(on string) (value string, there bool) {
	switch {
	case on == OnKey:
		return a.Key, a.Key != ""
	case on == OnCaller:
		return a.Caller, a.Caller != ""
	case strings.HasPrefix(on, OnHeader) && a.Header != nil:
		return a.Header(on[len(OnHeader):])
	case strings.HasPrefix(on, OnCookie) && a.Header != nil:
		all, _ := a.Header("Cookie")
		return cookie(all, on[len(OnCookie):])
	case strings.HasPrefix(on, OnInput) && a.Input != nil:
		return a.Input(on[len(OnInput):])
	}
	return "", false
}

// cookie finds a cookie in a header of them.
func cookie(all, name string) (value string, there bool) {
	for one := range strings.SplitSeq(all, ";") {
		if n, v, ok := strings.Cut(strings.TrimSpace(one), "="); ok && n == name {
			return strings.Trim(v, `"`), true
		}
	}
	return "", false
}

// String is the rule in words: header X-Team is dispatch → heat-demand@7.
func (r Rule) String() string {
	what := ""
	switch {
	case len(r.Is) == 1:
		what = "is " + r.Is[0]
	case len(r.Is) > 1:
		what = "is one of " + strings.Join(r.Is, ", ")
	case r.Matches != "":
		what = "matches " + r.Matches
	case r.From != nil && r.To != nil:
		what = fmt.Sprintf("is from %v to below %v", *r.From, *r.To)
	case r.From != nil:
		what = fmt.Sprintf("is %v or more", *r.From)
	case r.To != nil:
		what = fmt.Sprintf("is below %v", *r.To)
	}
	return fmt.Sprintf("%s %s → %s", r.On, what, r.Version)
}

const (
	mostTargets = 50
	mostValues  = 1000
)

// CheckTargets says whether rules can be followed: each looks at one thing in one way, and names a lane. at is where
// they stand.
func CheckTargets(at string, rules []Rule, lanes []Lane) error {
	if len(rules) > mostTargets {
		return fault.New(fault.Invalid, "rule.many", "there are %d rules", len(rules)).In(at).
			Do("give at most %d; one rule may have many values", mostTargets)
	}
	answers := func(version string) bool {
		return slices.ContainsFunc(Answering(lanes), func(l Lane) bool { return l.Version == version })
	}
	for i, r := range rules {
		field := fmt.Sprintf("%s[%d]", at, i)
		if err := CheckOn(field+".on", r.On); err != nil {
			return err
		}
		kinds := 0
		for _, given := range []bool{len(r.Is) > 0, r.Matches != "", r.From != nil || r.To != nil} {
			if given {
				kinds++
			}
		}
		switch {
		case kinds != 1:
			return fault.New(fault.Invalid, "rule.what", "the rule says %d things that %s must be", kinds, r.On).
				In(field).
				Do("give one of: is, matches, from and to")
		case len(r.Is) > mostValues:
			return fault.New(fault.Invalid, "rule.is", "the rule has %d values", len(r.Is)).In(field+".is").
				Do("give at most %d", mostValues)
		case r.From != nil && r.To != nil && *r.From >= *r.To:
			return fault.New(fault.Invalid, "rule.range", "the range from %v to %v is empty", *r.From, *r.To).
				In(field + ".to").Do("let it end above where it begins")
		case !answers(r.Version):
			return fault.New(fault.Invalid, "rule.version", "%s has no lane that answers", r.Version).
				In(field + ".version").Do("name a version of the split; a lane may have a share of 0")
		}
		if _, err := r.expression(); err != nil {
			return fault.New(fault.Invalid, "rule.matches", "%q is no regular expression: %v", r.Matches, err).
				In(field + ".matches").Do("write one as RE2 has them, such as desk-.*")
		}
	}
	return nil
}

// CheckOn says whether something can be looked at.
func CheckOn(field, on string) error {
	name, ok := "", false
	for _, kind := range []string{OnHeader, OnCookie, OnInput} {
		if after, is := strings.CutPrefix(on, kind); is {
			name, ok = after, true
		}
	}
	if on == OnKey || on == OnCaller ||
		(ok && name != "" && !strings.ContainsAny(name, " \t\r\n:") && len(name) <= 200) {
		return nil
	}
	return fault.New(fault.Invalid, "rule.on", "%q is nothing that can be looked at", on).In(field).
		Do("use key, caller, header NAME, cookie NAME or input NAME")
}

func (r Rule) expression() (*regexp.Regexp, error) {
	if r.Matches == "" {
		return nil, nil
	}
	if _, err := regexp.Compile(r.Matches); err != nil { // as it was written, so that the message shows no more
		return nil, err
	}
	return regexp.Compile("^(?:" + r.Matches + ")$")
}

// ParseRule reads a rule as people write it: ON is A,B to VERSION, ON matches EXPRESSION to VERSION, ON from A below B
// to VERSION. field is where it was given.
func ParseRule(field, text string) (Rule, error) {
	bad := func() (Rule, error) {
		return Rule{}, fault.New(fault.Invalid, "rule.form", "%q is no rule", text).In(field).
			Do("write ON is A,B to VERSION, ON matches EXPRESSION to VERSION, or ON from A below B to VERSION, " +
				"where ON is key, caller, header NAME, cookie NAME or input NAME")
	}
	i := strings.LastIndex(text, " to ")
	if i < 0 {
		return bad()
	}
	r := Rule{Version: strings.TrimSpace(text[i+len(" to "):])}
	text = text[:i]
	if on, what, ok := strings.Cut(text, " is "); ok {
		r.On, r.Is = strings.TrimSpace(on), strings.Split(strings.TrimSpace(what), ",")
		return r, nil
	}
	if on, what, ok := strings.Cut(text, " matches "); ok {
		r.On, r.Matches = strings.TrimSpace(on), strings.TrimSpace(what)
		return r, nil
	}
	words := strings.Fields(text)
	for len(words) > 2 {
		n := len(words)
		x, err := strconv.ParseFloat(words[n-1], 64)
		switch {
		case err != nil:
			return bad()
		case words[n-2] == "from" && r.From == nil:
			r.From = &x
		case words[n-2] == "below" && r.To == nil:
			r.To = &x
		default:
			return bad()
		}
		if words = words[:n-2]; len(words) <= 2 && (len(words) == 1 || words[0] == "header" || words[0] == "input" ||
			words[0] == "cookie") {
			break
		}
	}
	if r.On = strings.Join(words, " "); r.From == nil && r.To == nil {
		return bad()
	}
	return r, nil
}

// KeepRules are those of rules whose versions have a lane.
func KeepRules(rules []Rule, lanes []Lane) (out []Rule) {
	for _, r := range rules {
		if slices.ContainsFunc(Answering(lanes), func(l Lane) bool { return l.Version == r.Version }) {
			out = append(out, r)
		}
	}
	return out
}

// Targets are the rules of a split, ready to be asked of every request. The zero value sends nobody anywhere.
type Targets struct {
	rules []ready
	// Sticky is what keeps callers on their lane.
	Sticky string
	// Bodies is set when a rule, or what callers stick by, looks into the body.
	Bodies bool
}

type ready struct {
	Rule
	lane    int
	values  map[string]bool
	matches *regexp.Regexp
}

// NewTargets makes the rules of a split ready, which CheckTargets has found right.
func NewTargets(rules []Rule, lanes []Lane, sticky string) (Targets, error) {
	if sticky == "" {
		sticky = StickyHeader
	}
	t := Targets{Sticky: sticky, Bodies: strings.HasPrefix(sticky, OnInput)}
	for _, r := range rules {
		one := ready{Rule: r, lane: slices.IndexFunc(lanes, func(l Lane) bool { return l.Version == r.Version })}
		var err error
		if one.matches, err = r.expression(); err != nil || one.lane < 0 {
			return t, fmt.Errorf("a rule cannot be followed: %s", r)
		}
		one.values = map[string]bool{}
		for _, v := range r.Is {
			one.values[v] = true
		}
		t.rules = append(t.rules, one)
		t.Bodies = t.Bodies || strings.HasPrefix(r.On, OnInput)
	}
	return t, nil
}

// Any reports whether there is any rule.
func (t *Targets) Any() bool { return len(t.rules) > 0 }

// Find finds the first rule that a request meets, and the lane that it names. at is -1 when it meets none.
func (t *Targets) Find(a Asked) (lane, at int) {
	for i, r := range t.rules {
		if value, there := a.look(r.On); there && r.meets(value) {
			return r.lane, i
		}
	}
	return 0, -1
}

func (r *ready) meets(value string) bool {
	switch {
	case len(r.values) > 0:
		return r.values[value]
	case r.matches != nil:
		return r.matches.MatchString(value)
	}
	x, err := strconv.ParseFloat(value, 64)
	return err == nil && (r.From == nil || x >= *r.From) && (r.To == nil || x < *r.To)
}

// Who is what keeps the caller of a request on a lane; empty when nothing does.
func (t *Targets) Who(a Asked) string {
	who, _ := a.look(t.Sticky)
	return who
}

// Where says where a request would go, and why.
type Where struct {
	Endpoint string `json:"endpoint"`
	Split    int    `json:"split"`
	// Version is the one that would answer; empty when chance decides.
	Version string   `json:"version,omitempty" description:"absent when chance decides"`
	Lane    LaneKind `json:"lane,omitempty" enum:"main,trial"`
	// Rule is the one that decides, from 1; 0 for none.
	Rule     int    `json:"rule,omitempty" description:"the rule that decides, from 1"`
	Sticky   string `json:"sticky,omitempty" description:"what keeps the caller on the lane"`
	Sentence string `json:"sentence"`
}

// Explain says where a request would go and by which rule; named is the version that its path names, if any.
func Explain(endpoint string, s *Split, sticky, named string, a Asked) (Where, error) {
	w := Where{Endpoint: endpoint, Split: s.Number}
	t, err := NewTargets(s.Rules, s.Lanes, sticky)
	if err != nil {
		return w, err
	}
	is := func(i int) { w.Version, w.Lane = s.Lanes[i].Version, s.Lanes[i].Kind }
	if named != "" {
		i := slices.IndexFunc(s.Lanes, func(l Lane) bool { return l.Version == named && l.Kind.Answers() })
		if i < 0 {
			return w, fault.New(fault.Refused, "explain.version", "%s has no lane in #%d", named, s.Number).
				In("version").
				Do("the versions are those of: %s", s.String())
		}
		is(i)
		w.Sentence = fmt.Sprintf("The path names %s, so that answers; it is counted apart.", w.Version)
		return w, nil
	}
	if lane, at := t.Find(a); at >= 0 {
		is(lane)
		w.Rule = at + 1
		w.Sentence = fmt.Sprintf("Rule %d sends it to %s: %s. It is counted apart.", w.Rule, w.Version, s.Rules[at])
		return w, nil
	}
	none := ""
	if t.Any() {
		none = "No rule is met. "
	}
	if who := t.Who(a); who != "" {
		is(Assign(endpoint, s.Lanes, who))
		w.Sticky = t.Sticky
		w.Sentence = fmt.Sprintf("%s%s is %q, which keeps it on %s while that does not get smaller.", none, t.Sticky,
			who, w.Version)
		return w, nil
	}
	answering := Split{Lanes: Answering(s.Lanes)}
	w.Sentence = fmt.Sprintf("%sNothing keeps it anywhere (%s is not sent), so chance decides: %s.", none, t.Sticky,
		answering.String())
	return w, nil
}
