package outcome

import (
	"fmt"
	"slices"
	"strings"
)

// Account says what became of what was told: how many had which fate, and which of them count for nothing, and why.
type Account struct {
	Fates map[Fate]int `json:"fates" description:"how many had which fate"`
	Left  []Left       `json:"left" description:"those that were not taken, and why"`
}

// Left is something that was told and not taken.
type Left struct {
	Line    int    `json:"line,omitempty"`
	Request string `json:"request,omitempty"`
	Fate    Fate   `json:"fate"`
	Why     string `json:"why"`
}

// NewAccount is one of nothing yet.
func NewAccount() Account { return Account{Fates: map[Fate]int{}, Left: []Left{}} }

// Leave notes that what stood in a line, of a request if it is of one, was not taken.
func (a *Account) Leave(line int, request string, fate Fate, why string, args ...any) {
	a.Fates[fate]++
	a.Left = append(a.Left, Left{
		Line: line, Request: request, Fate: fate, Why: strings.TrimSuffix(fmt.Sprintf(why, args...), ".") + ".",
	})
}

// Fresh are the parts of what was told that count now and did not before, by what became of each.
func Fresh[T any](parts []T, fates []Fate) (fresh []T) {
	for n, fate := range fates {
		if fate == Joined || fate == Replaced {
			fresh = append(fresh, parts[n])
		}
	}
	return fresh
}

// Settle notes what became of the parts of what was told: of says which item each is of, and an item's fate is the one
// of its parts that is told last. What was told otherwise before is left, for a reason; where says in which line, and
// of which request, an item stood.
func (a *Account) Settle(parts []Fate, of []int, other string, where func(item int) (line int, request string)) {
	worst := map[int]Fate{}
	var items []int
	for n, fate := range parts {
		before, known := worst[of[n]]
		if !known {
			items = append(items, of[n])
		}
		if !known || slices.Index(Fates(), fate) > slices.Index(Fates(), before) {
			worst[of[n]] = fate
		}
	}
	for _, i := range items {
		if worst[i] == Other {
			line, request := where(i)
			a.Leave(line, request, Other, "%s", other)
			continue
		}
		a.Fates[worst[i]]++
	}
	a.sort()
}

// Add adds another account.
func (a *Account) Add(o Account) {
	for fate, n := range o.Fates {
		a.Fates[fate] += n
	}
	a.Left = append(a.Left, o.Left...)
	a.sort()
}

// sort puts what was left in the order of lines.
func (a *Account) sort() {
	slices.SortStableFunc(a.Left, func(a, b Left) int { return a.Line - b.Line })
}
