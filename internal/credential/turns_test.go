package credential

import (
	"context"
	"fmt"
	"testing"
	"testing/synctest"
	"time"

	"innerladder/internal/core/fault"
)

// A burst of one address keeps nobody else out: another waits for one turn of each, not for all.
func TestAddressesTakeTurns(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var turns Turns
		begin := time.Now()
		var others [3]time.Duration
		hash := func(address string) {
			done, err := turns.Take(t.Context(), address)
			if err != nil {
				t.Error(err)
				return
			}
			time.Sleep(100 * time.Millisecond)
			done()
		}
		for range waitingOfOne {
			go hash("10.0.0.1")
		}
		synctest.Wait()
		for i := range others {
			go func() {
				hash(fmt.Sprint("10.0.1.", i))
				others[i] = time.Since(begin)
			}()
		}
		time.Sleep(10 * time.Second)
		synctest.Wait()
		for i, d := range others {
			if d == 0 || d > 500*time.Millisecond {
				t.Errorf("the %d. of other addresses was let in after %s", i+1, d)
			}
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
