package cli

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"

	"innerladder/internal/core/schedule"
	"innerladder/internal/wire"
)

// scheduleCommands have tables scored again and again.
func scheduleCommands() []command {
	return []command{
		{
			name: "schedule", group: "Prove", arguments: "NAME [CRON score REF|ENDPOINT]", least: 1, most: 4,
			summary: "Have a table scored again and again, at the times of a cron line (minute, hour, day of the " +
				"month, month, day of the week); with a name alone, show the schedule with its last turns",
			example: "innerladder schedule nightly \"15 2 * * *\" score demand-hourly -from " +
				"https://data.tarnholm.example/tonight.csv -zone Europe/Oslo\n" +
				"innerladder schedule weekly \"0 6 * * mon\" score heat-demand@2 -data winters-2024#2 -missed skip\n" +
				"innerladder schedule nightly",
			setup: setSchedule,
		},
		{
			name: "schedules", group: "Prove", summary: "List what is scored again and again", most: 0,
			example: "innerladder schedules",
			setup: asks(func(ctx context.Context, c *call) error {
				found, err := c.api.Schedules(ctx)
				return c.show(found, err, func() {
					if len(found.Items) == 0 {
						c.say("nothing is scored again and again; see: innerladder help schedule")
						return
					}
					t := newTable(c.Out, "NAME", "AT", "ZONE", "ASKS", "ROWS", "NEXT", "LAST TURN")
					for _, s := range found.Items {
						t.row(s.Name, s.Cron, s.Zone, s.Score.Asked, s.Score.From+s.Score.Data, next(s), lastTurn(s))
					}
					t.done()
				})
			}),
		},
		{
			name: "schedule remove", group: "Prove", arguments: "NAME", least: 1, most: 1,
			summary: "Take a schedule away; a job that it has begun goes on",
			example: "innerladder schedule remove nightly -why \"the plant is shut for the summer\"",
			setup: asksWhy(func(ctx context.Context, c *call, why string) (schedule.Schedule, error) {
				return c.api.RemoveSchedule(ctx, c.args[0], why)
			}, nameAfter("%s is taken away\n")),
		},
		{
			name: "schedule pause", group: "Prove", arguments: "NAME", least: 1, most: 1,
			summary: "Have a schedule rest", example: "innerladder schedule pause nightly -why \"the meters are away\"",
			setup: asksWhy(func(ctx context.Context, c *call, why string) (schedule.Schedule, error) {
				return c.api.PauseSchedule(ctx, c.args[0], true, why)
			}, nameAfter("%s rests\n")),
		},
		{
			name: "schedule resume", group: "Prove", arguments: "NAME", least: 1, most: 1,
			summary: "Have a schedule go on; what was missed meanwhile is not caught up",
			example: "innerladder schedule resume nightly",
			setup: asksWhy(func(ctx context.Context, c *call, why string) (schedule.Schedule, error) {
				return c.api.PauseSchedule(ctx, c.args[0], false, why)
			}, nameAfter("%s goes on\n")),
		},
		{
			name: "schedule now", group: "Prove", arguments: "NAME", least: 1, most: 1,
			summary: "Have a turn of a schedule taken at once", example: "innerladder schedule now nightly",
			setup: asksWhy(func(ctx context.Context, c *call, why string) (schedule.Schedule, error) {
				return c.api.TurnNow(ctx, c.args[0], why)
			}, func(w io.Writer, s schedule.Schedule) {
				fmt.Fprintf(w, "a turn of %s is taken\n%s\n", s.Name, lastTurn(s))
			}),
		},
	}
}

// nameAfter prints a format with the name of a schedule.
func nameAfter(format string) func(io.Writer, schedule.Schedule) {
	return func(w io.Writer, s schedule.Schedule) { fmt.Fprintf(w, format, s.Name) }
}

func setSchedule(c *call) func(context.Context) error {
	c.connect()
	var n wire.NewSchedule
	c.flags.StringVar(&n.Zone, "zone", "", "`ZONE` in which the times are meant, such as Europe/Oslo; UTC when not "+
		"given")
	c.flags.StringVar(&n.Missed, "missed", "", "`WHAT` becomes of a turn that was missed: once, it is caught up once, "+
		"or skip; once when not given")
	retries := c.flags.Int("retries", -1, "`N` times that a turn that failed is tried again; 2 when not given")
	c.flags.StringVar(&n.Score.From, "from", "", "`ADDRESS` of the rows, which the service fetches at each turn")
	c.flags.StringVar(&n.Score.Data, "data", "", "`DATA` set with the rows, in place of an address")
	c.flags.StringVar(&n.Score.Environment, "env", "", "`ENVIRONMENT` where the version is placed")
	c.flags.StringVar(&n.Score.Keep, "keep", "", "`COLUMNS` of the table that stand beside the answers")
	c.flags.IntVar(&n.Score.Batch, "batch", 0, "`N` rows of one request")
	c.flags.IntVar(&n.Score.Parallel, "parallel", 0, "`N` requests under way at a time")
	c.flags.StringVar(&n.Reason, "why", "", "`TEXT`: why")
	return func(ctx context.Context) error {
		n.Name = c.args[0]
		if len(c.args) == 1 {
			s, err := c.api.Schedule(ctx, n.Name)
			return c.show(s, err, func() { printSchedule(c.Out, s) })
		}
		if len(c.args) != 4 || c.args[2] != "score" {
			return wrongUse("write NAME, a cron line in quotes, score, and who is asked, such as: innerladder " +
				"schedule nightly \"15 2 * * *\" score demand-hourly -from ADDRESS")
		}
		n.Cron, n.Score.Asked = c.args[1], c.args[3]
		if *retries >= 0 {
			n.Retries = retries
		}
		s, err := c.api.SetSchedule(ctx, n)
		return c.show(s, err, func() { fmt.Fprintf(c.Out, "%s asks %s; next %s\n", s.Name, s.Score.Asked, next(s)) })
	}
}

// next says when a schedule is due.
func next(s schedule.Schedule) string {
	if s.Next == nil {
		return "rests"
	}
	return s.Next.UTC().Format("2006-01-02 15:04 MST")
}

// lastTurn says how the last turn went.
func lastTurn(s schedule.Schedule) string {
	if len(s.Turns) == 0 {
		return "none yet"
	}
	t := s.Turns[0]
	out := strings.TrimSpace(t.State + " " + t.Job)
	if t.Why != "" {
		out += ": " + t.Why
	}
	return out
}

func printSchedule(w io.Writer, s schedule.Schedule) {
	fmt.Fprintf(w, "%s asks %s\n", s.Name, s.Score.Asked)
	facts(w, "  at", fmt.Sprintf("%q in %s", s.Cron, s.Zone), "  next", next(s), "  rows", s.Score.From+s.Score.Data,
		"  in", s.Score.Environment, "  a turn that is missed", map[string]string{
			schedule.Once: "is caught up once", schedule.Skip: "is skipped",
		}[s.Missed], "  a turn that failed", fmt.Sprintf("is tried again %d times", s.Retries), "  by",
		s.By+", "+moment(s.SetAt))
	if len(s.Turns) == 0 {
		return
	}
	t := newTable(w, "DUE", "STATE", "JOB", "TRIES", "WHY")
	for _, turn := range s.Turns {
		t.row(turn.Due.UTC().Format("2006-01-02 15:04 MST"), turn.State, turn.Job, strconv.Itoa(turn.Tries), turn.Why)
	}
	t.done()
}
