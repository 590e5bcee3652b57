package intake

import (
	"fmt"
	"strconv"
	"strings"

	"innerladder/internal/core/watch"
)

// Watches reads what people say about the watching of an endpoint, a YAML file of ours. Limits are written as shares,
// times or numbers: 1 %, 200ms, 0.2. What is wrong is said with line and column.
func Watches(text []byte) (watch.Set, error) {
	var s watch.Set
	err := bound(text, "watches", "innerladder watch show ENDPOINT", &s, s.Check)
	return s, err
}

// WatchesText writes a set as Watches reads it. What is watched as usual beside it stands in comments.
func WatchesText(s watch.Set) string {
	var out strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&out, format+"\n", args...) }
	line("owner: %q", s.Owner)
	line("runbook: %q", s.Runbook)
	if len(s.Watches) == 0 {
		line("watches: []")
	} else {
		line("watches:")
	}
	for _, r := range s.Watches {
		ruleText(line, "", r)
	}
	usual := s.Effective()[len(s.Watches):]
	if len(usual) > 0 {
		line("# Watched as usual, and together with all others once in 90 days at most for nothing:")
	}
	for _, r := range usual {
		ruleText(line, "# ", r)
	}
	return out.String()
}

func ruleText(line func(string, ...any), before string, r watch.Rule) {
	line("%s  - signal: %s", before, quoted(r.Signal))
	field := func(name, value string) {
		if value != "" {
			line("%s    %s: %s", before, name, value)
		}
	}
	field("limit", r.Limit.String())
	field("versus", string(r.Versus))
	if r.Times != 0 {
		field("times", strconv.FormatFloat(r.Times, 'f', -1, 64))
	}
	field("beyond", string(r.Beyond))
	if r.Least > 0 {
		field("least", strconv.Itoa(r.Least))
	}
	if r.For > 0 {
		field("for", r.For.String())
	}
	field("then", string(r.Then))
	if r.Off {
		field("off", "true")
	}
	if r.About != "" {
		field("about", strconv.Quote(r.About))
	}
}

// quoted is a word as it stands in YAML, in quotes where it would not be read as it is.
func quoted(word string) string {
	if strings.Trim(word, "abcdefghijklmnopqrstuvwxyz0123456789_.") == "" {
		return word
	}
	return strconv.Quote(word)
}
