package credential

import (
	"context"
	"slices"
	"testing"
	"testing/synctest"

	"innerladder/internal/core/fault"
)

// A burst of one address keeps nobody else out: another waits for one turn of each, not for all.
func TestAddressesTakeTurns(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var turns Turns
		var came []string
		var ends []func()
		ask := func(address string) {
			go func() {
				done, err := turns.Take(t.Context(), address)
				if err != nil {
					t.Error(err)
				}
				came, ends = append(came, address), append(ends, done)
			}()
			synctest.Wait()
		}
		for range hashedAtOnce + waitingOfOne {
			ask("10.0.0.1")
		}
		others := []string{"10.0.1.1", "10.0.1.2", "10.0.1.3"}
		for _, address := range others {
			ask(address)
		}
		for len(ends) > 0 { // one turn after the other ends
			done := ends[0]
			ends = ends[1:]
			done()
			synctest.Wait()
		}
		next := came[hashedAtOnce:] // those before had their turn before anybody else asked
		if want := append([]string{"10.0.0.1"}, others...); !slices.Equal(next[:len(want)], want) {
			t.Errorf("after them came %v", next[:len(want)])
		}
		if len(came) != hashedAtOnce+waitingOfOne+len(others) {
			t.Errorf("%d had a turn", len(came))
		}
		if turns.going != 0 || turns.all != 0 || len(turns.waiting) != 0 || len(turns.next) != 0 {
			t.Errorf("something is left: %+v", &turns)
		}
	})
}

func TestTurnsAreBounded(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var turns Turns
		ctx, leave := context.WithCancel(t.Context())
		refused := 0
		for range hashedAtOnce + waitingOfOne + 7 {
			go func() {
				if _, err := turns.Take(ctx, "10.0.0.1"); fault.Code(err) == "sign_in.busy" {
					refused++
				}
			}()
			synctest.Wait()
		}
		if refused != 7 {
			t.Errorf("%d were refused", refused)
		}
		// Whoever gives up makes place.
		leave()
		synctest.Wait()
		if turns.all != 0 || len(turns.waiting) != 0 || len(turns.next) != 0 || turns.going != hashedAtOnce {
			t.Errorf("something is left: %+v", &turns)
		}
	})
}
