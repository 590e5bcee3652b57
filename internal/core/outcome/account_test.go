package outcome

import (
	"fmt"
	"testing"
)

func TestAccounts(t *testing.T) {
	a := NewAccount()
	a.Leave(4, "", Wrong, "%q is no number", "much")
	// Item 0 has two parts, one of which was told before; item 2 was told otherwise; of item 1 nothing came.
	a.Settle([]Fate{Joined, Again, Other, Replaced}, []int{0, 0, 2, 3}, "another was told before",
		func(item int) (int, string) { return item + 1, fmt.Sprint("request ", item) })
	if fmt.Sprint(a.Fates) != "map[again:1 other:1 replaced:1 wrong:1]" {
		t.Errorf("%v", a.Fates)
	}
	if len(a.Left) != 2 || a.Left[0] != (Left{3, "request 2", Other, "another was told before."}) ||
		a.Left[1].Line != 4 {
		t.Errorf("%+v", a.Left)
	}
	b := NewAccount()
	b.Leave(1, "x", Late, "it is too late.")
	b.Fates[Joined] = 5
	a.Add(b)
	if a.Fates[Joined] != 5 || len(a.Left) != 3 || a.Left[0].Why != "it is too late." {
		t.Errorf("%+v", a)
	}
}
