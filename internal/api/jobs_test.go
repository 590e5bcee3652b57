package api_test

import (
	"strings"
	"testing"

	"innerladder/internal/client"
	"innerladder/internal/core/job"
	"innerladder/internal/core/schedule"
	"innerladder/internal/wire"
)

// A call that begins a job and comes again begins none; a table that is called oddly, or does not come, is refused.
func TestJobsAreBegunOnce(t *testing.T) {
	r := newRig(t)
	r.twoVersions()
	send := func(query, body, key string) (int, string) {
		status, header, answer := r.call("POST", "/api/v1/jobs/score?asked=heat-demand@1"+query, body,
			"Idempotency-Key", key)
		return status, header.Get("Location") + string(answer)
	}
	first, one := send("&name=rows.csv", "x\n1\n2\n", "night-1")
	again, two := send("&name=rows.csv", "x\n1\n2\n", "night-1")
	if first != 201 || again != 201 || !strings.Contains(one, `"id":"J-1"`) || !strings.Contains(two, `"id":"J-1"`) {
		t.Fatalf("%d %s\n%d %s", first, one, again, two)
	}
	if status, said := send("&name=other.csv", "x\n1\n2\n", "night-1"); status != 409 ||
		!strings.Contains(said, "idempotency.other_request") {
		t.Errorf("%d %s", status, said)
	}
	all, err := r.runa.Jobs(t.Context(), "", client.Part{})
	if err != nil || len(all.Items) != 1 {
		t.Errorf("%+v, %v", all, err)
	}
	for query, code := range map[string]string{
		"&name=" + strings.Repeat("a", 300): "score.name", "&name=a%0Ab": "score.name", "&batch=5000": "score.batch",
		"&keep=nothing": "score.keep", "&environment=nowhere": "placement.unknown", "&data=winters": "data.unknown",
		"&from=nonsense": "from.address",
	} {
		if status, said := send(query, "x\n1\n", ""); status < 400 || status > 499 || !strings.Contains(said, code) {
			t.Errorf("%s: %d %s, want %s", query, status, said, code)
		}
	}
	// Who is still sending when it is refused hears why.
	large := "x\n" + strings.Repeat("1.5\n", 5<<20)
	if status, said := send("&batch=5000", large, ""); status != 422 || !strings.Contains(said, "score.batch") {
		t.Errorf("%d %.300s", status, said)
	}
	if status, said := send("", "", ""); status != 422 || !strings.Contains(said, "sample.unreadable") {
		t.Errorf("%d %s", status, said)
	}
	await(t, "the job", func() bool {
		j, err := r.runa.Job(t.Context(), "J-1")
		must(t, err)
		return j.State == job.Done
	})
	_, err = r.runa.SetSchedule(t.Context(), wire.NewSchedule{
		Name: "nightly", Cron: "0 3 * * *", Score: schedule.Scored{Asked: "heat-demand@1", From: "tonight.csv"},
	})
	if err == nil || !strings.Contains(err.Error(), "no address to fetch rows from") {
		t.Error(err)
	}
}
