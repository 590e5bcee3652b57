package scoring

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"innerladder/internal/core/job"
	"innerladder/internal/core/replay"
	"innerladder/internal/core/request"
)

// Requests are asked again once each, whatever stops the job, and a server that is away is waited for.
func TestReplayGoesOnWhereItWas(t *testing.T) {
	const n = 300
	dir := t.TempDir()
	all := make([]replay.Recorded, n)
	for i := range all {
		all[i] = replay.Recorded{
			ID: fmt.Sprint("r", i), Version: "m@1", Status: 200, Outcome: request.Answered, TookUS: 1000,
			Request: json.RawMessage(fmt.Sprintf(`{"inputs":[{"name":"x","shape":[1],"data":[%d]}]}`, i)),
			Answer: json.RawMessage(fmt.Sprintf(
				`{"outputs":[{"name":"y","datatype":"FP64","shape":[1],"data":[%d]}]}`, i)),
		}
	}
	if err := WriteRequests(TableIn(dir), all); err != nil {
		t.Fatal(err)
	}
	var mu sync.Mutex
	asked, away := map[string]int{}, 0
	ctx, stop := context.WithCancelCause(t.Context())
	o := ReplayOptions{
		Dir: dir, Count: n, Rate: 1e6, Parallel: 3, Tolerance: 0.05, Patience: time.Minute, Told: func(job.Progress) {},
	}
	o.Ask = func(ctx context.Context, body []byte) (int, []byte, error) {
		mu.Lock()
		defer mu.Unlock()
		x := string(body)
		if len(asked) == 100 && away < 3 {
			away++
			return 0, nil, errors.New("connection refused")
		}
		asked[x]++
		if len(asked) == 150 {
			stop(errors.New("stopped"))
		}
		switch {
		case strings.Contains(x, "[7]"):
			return 500, []byte(`{"error":"no wind"}`), nil
		case strings.Contains(x, "[8]"):
			return 200, []byte(`nothing`), nil
		case strings.Contains(x, "[9]"):
			return 200, []byte(`{"outputs":[{"name":"y","datatype":"FP64","shape":[1],"data":[1000]}]}`), nil
		}
		return 200, []byte(strings.NewReplacer("inputs", "outputs", `"x"`, `"y","datatype":"FP64"`).Replace(x)), nil
	}
	if _, err := Replay(ctx, o); err == nil || err.Error() != "stopped" {
		t.Fatalf("%v", err)
	}
	p, err := Replay(t.Context(), o)
	if err != nil || p.Rows != n || p.Share != 1 || away != 3 {
		t.Fatalf("%+v, %v, away %d", p, err, away)
	}
	seen := map[string]bool{}
	compared, differ, whys := 0, 0, ""
	if err := Replayed(dir, func(r *replay.Recorded, a *replay.Answered) error {
		seen[r.ID] = true
		if v := replay.One(a, 0.05); v.Compared {
			compared++
			if !v.Agreed {
				differ++
			}
		}
		whys += a.Why
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	if len(seen) != n || compared != n-2 || differ != 1 || whys != "status 500: no wind" {
		t.Errorf("%d seen, %d compared, %d differ, %q", len(seen), compared, differ, whys)
	}
	var csv strings.Builder
	if err := (Export{Dir: dir, Format: "csv", Version: "m@2", Job: "J-1"}).Write(&csv); err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(csv.String(), "\n")
	if len(lines) != n+2 || !strings.HasPrefix(lines[0], "row,request,ended,answered_by,status_then,ms_then,status,") ||
		!strings.Contains(lines[10], ",false,991,") {
		t.Errorf("%d lines, %s\n%s", len(lines), lines[0], lines[10])
	}
}
