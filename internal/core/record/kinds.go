package record

import (
	"maps"
	"slices"
	"strings"
)

// verbs are what can be noted of each class of things: split.made is that of a split which was made.
var verbs = map[string][]string{
	"alert":       {"acknowledged", "raised", "resolved"},
	"caller":      {"added", "removed"},
	"cases":       {"removed", "set"},
	"comment":     {"made"},
	"contract":    {"made"},
	"custom":      {"removed", "set"},
	"data":        {"added"},
	"delivery":    {"again"},
	"endpoint":    {"added", "changed", "keyed", "removed"},
	"environment": {"added", "changed", "removed"},
	"evidence":    {"attached"},
	"files":       {"collected"},
	"incident":    {"changed", "opened", "written"},
	"job":         {"begun", "ended", "resumed", "stopped"},
	"key":         {"rotated"},
	"label":       {"moved", "removed"},
	"ladder":      {"changed"},
	"member":      {"added", "removed"},
	"model":       {"added", "edited", "moved", "removed", "renamed", "unvetted", "vetted"},
	"person":      {"added", "changed", "choices", "invited", "password", "signed_in", "signed_out", "vouched"},
	"placement":   {"changed", "fell", "made", "recovered", "removed"},
	"plan":        {"made"},
	"project":     {"added", "changed", "removed"},
	"promotion": {
		"carried_out", "emergency", "expired", "opened", "refused", "reminded", "reviewed", "signed",
		"ticked", "to_review", "withdrawn",
	},
	"role": {"changed", "removed"},
	"rollout": {
		"baking", "comparing", "copying", "ended", "finished", "held", "refused", "rolled_back", "started",
		"stepping", "waiting", "warming",
	},
	"run":         {"ended", "started"},
	"schedule":    {"failed", "now", "paused", "removed", "resumed", "set"},
	"search":      {"removed", "saved"},
	"secret":      {"removed", "set"},
	"service":     {"backup", "first_link"},
	"settings":    {"mail", "retention"},
	"signing_key": {"added", "ended"},
	"split":       {"made"},
	"standing":    {"removed", "set"},
	"template":    {"allowed", "removed"},
	"token":       {"ended", "made"},
	"version": {
		"answers", "attached", "deleted", "detached", "edited", "evaluated", "registered", "reinstated",
		"retired", "stepped_down",
	},
	"watches": {"muted", "set", "unmuted"},
	"webhook": {"added", "removed"},
}

// Classes are those of the kinds of entries.
func Classes() []string { return slices.Sorted(maps.Keys(verbs)) }

// IsKind reports whether entries are of a kind, such as split.made, or of a class, such as split.
func IsKind(kind string) bool {
	class, verb, whole := strings.Cut(kind, ".")
	all, known := verbs[class]
	return known && (!whole || slices.Contains(all, verb))
}

// KindsOf are the kinds of a class.
func KindsOf(class string) (out []string) {
	for _, v := range verbs[class] {
		out = append(out, class+"."+v)
	}
	return out
}
