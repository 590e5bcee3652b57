package people

import (
	"fmt"
	"testing"
	"time"
)

func TestAttemptsAreSlowedDown(t *testing.T) {
	now := time.Date(2026, 1, 12, 9, 0, 0, 0, time.UTC)
	var a attempts
	guess := func(name, address string) bool {
		end, err := a.begin(ofSignIn(name, address), now)
		if err != nil {
			return false
		}
		end(true)
		return true
	}
	let := 0
	for range 100 {
		if guess("tove", "10.0.0.1") {
			let++
		}
	}
	if let != failuresOfBoth {
		t.Errorf("%d guesses at one name from one address", let)
	}
	if end, err := a.begin(ofSignIn("tove", "10.0.0.2"), now); err != nil {
		t.Error("tove herself, elsewhere, is locked out")
	} else {
		end(false)
	}
	if _, err := a.begin(ofLink("10.0.0.1"), now); err != nil {
		t.Error("guessing at passwords used up the attempts with links")
	}
	delete(a.going, "link\x0010.0.0.1")
	// one address tries many names
	let = 0
	for i := range 100 {
		if guess(fmt.Sprint("name-", i), "10.0.0.3") {
			let++
		}
	}
	if let != failuresOfAddress {
		t.Errorf("%d guesses at many names from one address", let)
	}
	// many addresses try one name
	let = 0
	for i := range 500 {
		if guess("odd", fmt.Sprint("10.1.0.", i)) {
			let++
		}
	}
	if let != failuresOfName {
		t.Errorf("%d guesses at one name from many addresses", let)
	}
	now = now.Add(forgiven)
	if !guess("tove", "10.0.0.1") || guess("tove", "10.0.0.1") {
		t.Error("one more after half a minute, and no second")
	}
	// Those that go on count as if they had failed, until they have not.
	var ends []func(bool)
	for range 100 {
		if end, err := a.begin(ofSignIn("sif", "10.0.0.7"), now); err == nil {
			ends = append(ends, end)
		}
	}
	if len(ends) != failuresOfBoth {
		t.Errorf("%d attempts at the same time", len(ends))
	}
	for _, end := range ends {
		end(false)
	}
	if len(a.going) != 0 || !guess("sif", "10.0.0.7") {
		t.Errorf("attempts that did not fail count: %v", a.going)
	}
	now = now.Add(3 * time.Hour)
	guess("runa", "10.0.0.9")
	if len(a.left) > 3 {
		t.Errorf("%d are remembered after hours", len(a.left))
	}
}
