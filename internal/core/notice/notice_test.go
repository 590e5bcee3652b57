package notice

import (
	"slices"
	"testing"
	"time"

	"innerladder/internal/core/access"
	"innerladder/internal/core/record"
)

func reader(name string, c Choices, m ...access.Membership) Reader {
	return Reader{name, access.RightsOf(m, access.BuiltIn()), c}
}

func TestFor(t *testing.T) {
	everything := Choices{}
	for _, d := range Topics() {
		everything[d.Topic] = []Channel{Inbox}
	}
	readers := []Reader{
		reader("runa", Default(), access.Membership{Project: "heat", Role: "author"}),
		reader("tove", Default(), access.Membership{Project: "heat", Role: "approver"}),
		reader("odd", everything, access.Membership{Project: "valves", Role: "owner"}),
		reader("sif", everything, access.Membership{Project: "*", Role: "reader"}),
		reader("ulf", Choices{}, access.Membership{Project: "heat", Role: "approver"}),
	}
	for _, c := range []struct {
		name     string
		e        record.Entry
		involved map[Topic][]string
		want     []string
	}{
		{
			"a review reaches whom it waits for and who chose so, not who asked",
			record.Entry{Project: "heat", Actor: "runa", Kind: "promotion.opened"},
			map[Topic][]string{Review: {"runa", "tove", "ulf", "odd"}},
			[]string{"tove:review"},
		},
		{
			"nobody is told of what they did",
			record.Entry{Project: "heat", Actor: "tove", Kind: "comment.made", Reason: "@tove and @runa look"},
			nil,
			[]string{"runa:mention"},
		},
		{
			"a mention shows nobody what they may not see",
			record.Entry{Project: "heat", Actor: "tove", Kind: "comment.made", Reason: "@odd"},
			nil, nil,
		},
		{
			"an alert reaches who chose so",
			record.Entry{Project: "heat", Actor: "inner-ladder", Kind: "alert.raised"},
			nil,
			[]string{"sif:alert"},
		},
		{
			"the most pressing topic counts once",
			record.Entry{Project: "heat", Actor: "tove", Kind: "split.made", Reason: "for @sif"},
			nil,
			[]string{"sif:mention"},
		},
		{
			"whom it concerns",
			record.Entry{Project: "heat", Actor: "tove", Kind: "promotion.signed"},
			map[Topic][]string{Answer: {"sif", "runa"}},
			[]string{"sif:answer"},
		},
		{
			"what is about the service stays with those who see all",
			record.Entry{Actor: "tove", Kind: "person.added", Reason: "@runa @sif"},
			nil,
			[]string{"sif:mention"},
		},
		{"nothing", record.Entry{Project: "heat", Actor: "x", Kind: "run.ended"}, nil, nil},
	} {
		var got []string
		for _, told := range For(c.e, c.involved, readers) {
			got = append(got, told.Name+":"+string(told.Topic))
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("%s: %v", c.name, got)
		}
		if len(c.want) > 0 && !Concerns(c.e, c.involved) {
			t.Errorf("%s: said to concern nobody", c.name)
		}
	}
	if got := Unreached("@runa @odd @nobody", "heat", readers); !slices.Equal(got, []string{"odd", "nobody"}) {
		t.Errorf("unreached: %v", got)
	}
}

func TestChoices(t *testing.T) {
	if Default().Check() != nil || (Choices{"gossip": nil}).Check() == nil ||
		(Choices{Review: {"pigeon"}}).Check() == nil {
		t.Error("choices")
	}
}

func TestRetry(t *testing.T) {
	last, total := time.Duration(0), time.Duration(0)
	tries := 0
	for again := true; again; tries++ {
		var wait time.Duration
		wait, again = Retry(tries+1, 0)
		if again && wait < last {
			t.Errorf("after %d tries %s, before %s", tries+1, wait, last)
		}
		last, total = wait, total+wait
	}
	if total < 12*time.Hour || total > 48*time.Hour || tries < 10 {
		t.Errorf("gives up after %s and %d tries", total, tries)
	}
	a, _ := Retry(5, 1)
	b, _ := Retry(5, 2)
	if a == b || a < firstWait<<4 || a > firstWait<<4*5/4 {
		t.Errorf("%s and %s", a, b)
	}
}
