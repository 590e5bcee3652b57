package api

import (
	"innerladder/internal/core/access"
	"innerladder/internal/core/schedule"
	"innerladder/internal/wire"
)

type scheduleIn struct {
	Name string `uri:"schedule" path:"schedule" json:"-" description:"its name"`
}

// scheduleOperations are the routes about what is done again and again.
func scheduleOperations() []operation {
	return []operation{
		op("GET", "/schedules", "listSchedules", "List what is scored again and again", access.Read, 200,
			func(c call, in *pageIn) (wire.Listed[schedule.Schedule], error) {
				all, err := c.app.Proof.Schedules(c, c.by)
				return partOf(*in, all, err, func(s schedule.Schedule) string { return s.Name })
			}),
		op("GET", "/schedules/{schedule}", "showSchedule", "Show a schedule, with its last turns", access.Read, 200,
			func(c call, in *scheduleIn) (*schedule.Schedule, error) {
				return c.app.Proof.Schedule(c, c.by, in.Name)
			}),
		op("PUT", "/schedules/{schedule}", "setSchedule",
			"Have a table scored again and again, in the place of what was set under the same name", access.Inspect,
			200, func(c call, in *wire.NewSchedule) (*schedule.Schedule, error) {
				return c.app.Proof.SetSchedule(c, c.by, *in)
			}),
		op("DELETE", "/schedules/{schedule}", "removeSchedule", "Take a schedule away; a job that it has begun goes on",
			access.Inspect, 200, func(c call, in *struct {
				scheduleIn
				becauseIn
			},
			) (*schedule.Schedule, error) {
				return c.app.Proof.RemoveSchedule(c, c.by, in.Name, in.Reason)
			}),
		op("PATCH", "/schedules/{schedule}", "pauseSchedule",
			"Have a schedule rest, or go on; what was missed meanwhile is not caught up", access.Inspect, 200,
			func(c call, in *struct {
				scheduleIn
				Paused bool   `json:"paused" required:"true"`
				Reason string `json:"reason,omitempty"`
			},
			) (*schedule.Schedule, error) {
				return c.app.Proof.PauseSchedule(c, c.by, in.Name, in.Paused, in.Reason)
			}),
		op("POST", "/schedules/{schedule}/turns", "turnNow", "Have a turn of a schedule taken at once",
			access.Inspect, 201, func(c call, in *struct {
				scheduleIn
				Reason string `json:"reason,omitempty"`
			},
			) (*schedule.Schedule, error) {
				return c.app.Proof.TurnNow(c, c.by, in.Name, in.Reason)
			}),
	}
}
