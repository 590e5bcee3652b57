package keep

import (
	"time"

	"innerladder/internal/core/fault"
)

// Retention says how long what grows is kept. The record is kept for ever.
type Retention struct {
	Minutes    string `json:"minutes" description:"what each lane did by the minute, such as 72h; hours are made of them"`
	Hours      string `json:"hours" description:"the same by the hour; days are made of them"`
	Days       string `json:"days" description:"the same by the day"`
	Readings   string `json:"readings" description:"what guards said, second by second"`
	Deliveries string `json:"deliveries" description:"the log of what was sent to webhooks and by e-mail"`
	Notices    string `json:"notices" description:"notices that were read"`
	Repeats    string `json:"repeats" description:"answers to calls that carried an Idempotency-Key"`
	// RequestGiB bounds the logs of requests; for how long they are kept is each endpoint's own.
	RequestGiB int `json:"request_gib" description:"the most that all logs of requests take; the oldest days go first"`
}

// Usual holds until another is chosen.
func Usual() Retention {
	return Retention{
		Minutes: "72h", Hours: "2160h", Days: "9600h", Readings: "720h", Deliveries: "720h",
		Notices: "2160h", Repeats: "48h", RequestGiB: 20,
	}
}

// Ages reads the durations.
func (r Retention) Ages() (out struct{ Minutes, Hours, Days, Readings, Deliveries, Notices, Repeats time.Duration },
	err error,
) {
	for _, f := range []struct {
		field, value string
		least        time.Duration
		into         *time.Duration
	}{
		{"minutes", r.Minutes, 24 * time.Hour, &out.Minutes},
		{"hours", r.Hours, 7 * 24 * time.Hour, &out.Hours},
		{"days", r.Days, 30 * 24 * time.Hour, &out.Days},
		{"readings", r.Readings, time.Hour, &out.Readings},
		{"deliveries", r.Deliveries, 24 * time.Hour, &out.Deliveries},
		{"notices", r.Notices, 24 * time.Hour, &out.Notices},
		{"repeats", r.Repeats, time.Hour, &out.Repeats},
	} {
		d, err := time.ParseDuration(f.value)
		if err != nil || d < f.least {
			return out, fault.New(fault.Invalid, "retention.age", "%s cannot be kept for %q", f.field, f.value).
				In(f.field).Do("give a duration of at least %.0fh, such as 720h", f.least.Hours())
		}
		*f.into = d
	}
	if r.RequestGiB < 1 {
		return out, fault.New(fault.Invalid, "retention.size", "the logs of requests cannot be kept in %d GiB",
			r.RequestGiB).In("request_gib").Do("give 1 or more; what an endpoint keeps is set at the endpoint")
	}
	return out, nil
}
