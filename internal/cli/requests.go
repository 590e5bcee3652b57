package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/core/request"
	"innerladder/internal/core/traffic"
	"innerladder/internal/wire"
)

// signalCommands show how endpoints fare.
func signalCommands() []command {
	return []command{
		{
			name: "signals", group: "Watch", arguments: "ENDPOINT", least: 1, most: 1,
			summary: "Draw rate, errors and latency of each version over time, with splits and alerts",
			example: "innerladder signals demand-hourly -since 2h", setup: showSignals,
		},
	}
}

func requestCommands() []command {
	return []command{
		{
			name: "requests", group: "Watch", arguments: "[ENDPOINT]", most: 1,
			summary: "List what was asked of an endpoint and answered; without one, what found no endpoint",
			example: "innerladder requests demand-hourly -trouble -since 1h\n" +
				"innerladder requests demand-hourly -where \"outdoor_c<-10\" -where mix=harbour -lane trial\n" +
				"innerladder requests demand-hourly -follow",
			setup: listRequests,
		},
		{
			name: "request", group: "Watch", arguments: "ID", least: 1, most: 1,
			summary: "Show one request: what was asked, what was answered, by whom",
			example: "innerladder request 019ac2d4-7c31-7e55-a1b0-5f0c9d1e2a3b", setup: showRequest,
		},
		{
			name: "request again", group: "Watch", arguments: "ID", least: 1, most: 1,
			summary: "Send a request once more, and hold the answer against the one then; no lane counts it",
			example: "innerladder request again 019ac2d4-7c31-7e55-a1b0-5f0c9d1e2a3b -on heat-demand@3",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				on := c.flags.String("on", "", "`VERSION` that is asked; the one that answered when not given")
				return func(ctx context.Context) error {
					t, err := c.api.TryAgain(ctx, c.args[0], *on)
					return c.show(t, err, func() { printTried(c.Out, t) })
				}
			},
		},
		{
			name: "request like", group: "Watch", arguments: "ID", least: 1, most: 1,
			summary: "List the requests whose inputs are nearest to those of one",
			example: "innerladder request like 019ac2d4-7c31-7e55-a1b0-5f0c9d1e2a3b",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				return func(ctx context.Context) error {
					l, err := c.api.Like(ctx, c.args[0])
					return c.show(l, err, func() {
						t := newTable(c.Out, slices.Concat([]string{"DISTANCE"}, requestHeading)...)
						for _, n := range l.Items {
							t.row(slices.Concat([]string{fmt.Sprintf("%.3f", n.Distance)}, requestRow(&n.Kept))...)
						}
						t.done()
						c.say("of the newest %s that are kept", count(uint64(l.Looked)))
					})
				}
			},
		},
		{
			name: "refusals", group: "Watch", arguments: "[ENDPOINT]", most: 1,
			summary: "Count what the gateway turned away, by reason; without an endpoint, what found none",
			example: "innerladder refusals demand-hourly -since 24h",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				since := c.flags.Duration("since", time.Hour, "`DURATION`: how far back")
				return func(ctx context.Context) error {
					r, err := c.api.Refusals(ctx, first(c.args), *since)
					return c.show(r, err, func() {
						if r.Total == 0 {
							c.say("nothing was turned away")
							return
						}
						t := newTable(c.Out, "REQUESTS", "REASON", "WHICH")
						for _, i := range r.Items {
							t.row(count(i.Count), i.Reason, i.What)
						}
						t.done()
					})
				}
			},
		},
	}
}

func first(args []string) string {
	if len(args) == 0 {
		return ""
	}
	return args[0]
}

func listRequests(c *call) func(context.Context) error {
	c.connect()
	var f wire.RequestFilter
	c.flags.DurationVar(&f.Back, "since", 0, "`DURATION`: how far back; all that is kept when not given")
	from := c.flags.String("from", "", "`TIME` since which they ended, such as 2026-11-26T14:03:00Z")
	until := c.flags.String("until", "", "`TIME` before which they ended")
	c.flags.StringVar(&f.Lane, "lane", "", "`LANE`: main, trial, pinned or refused")
	c.flags.StringVar(&f.Version, "version", "", "`VERSION` that dealt with them")
	c.flags.StringVar(&f.Key, "key", "", "`NAME` of the caller whose key they had")
	c.flags.StringVar(&f.Outcome, "outcome", "", "`OUTCOME`: answered, caller_error, server_error, timed_out, "+
		"not_reached, malformed, abandoned or refused")
	c.flags.StringVar(&f.Reason, "reason", "", "`CODE` of an answer that was the gateway's own")
	c.flags.IntVar(&f.Status, "status", 0, "`STATUS` that the caller got")
	c.flags.DurationVar(&f.Slower, "slower", 0, "`DURATION` that they took at least")
	c.flags.BoolVar(&f.Trouble, "trouble", false, "only failures, refusals, and what another version answered")
	c.flags.Func(
		"where",
		"`CONDITION` on an input or output, such as wind<3; may be given again",
		func(s string) error {
			_, err := request.ParseCondition(s)
			f.Where = append(f.Where, s)
			return err
		},
	)
	c.flags.IntVar(&f.Limit, "limit", 20, "`NUMBER` of requests at most, up to 500")
	follow := c.flags.Bool("follow", false, "go on with those that come, until interrupted")
	return func(ctx context.Context) (err error) {
		f.Endpoint = first(c.args)
		if f.From, err = instant("from", *from); err != nil {
			return err
		}
		if f.To, err = instant("until", *until); err != nil {
			return err
		}
		found, err := c.api.Requests(ctx, f)
		if err != nil {
			return err
		}
		if *follow {
			slices.Reverse(found.Items)
			return c.stream(ctx, f, found)
		}
		return c.show(found, nil, func() {
			if len(found.Items) == 0 {
				c.say("no such request is in the log")
			} else {
				t := newTable(c.Out, requestHeading...)
				for i := range found.Items {
					t.row(requestRow(&found.Items[i])...)
				}
				t.done()
			}
			c.tellMore(found)
		})
	}
}

// tellMore says what is not in a list of requests.
func (c *call) tellMore(found wire.Requests) {
	switch {
	case found.Until != nil:
		c.say("looked back to %s; narrow it down, or look before with -until", found.Until.Format(time.RFC3339))
	case found.Next != "":
		c.say("there are older ones; see more with -limit or -until")
	}
	if found.Lost > 0 {
		c.say("%s requests of all endpoints could not be kept since the service started", count(found.Lost))
	}
	if found.Trouble != "" {
		c.say("nothing is kept now: %s", found.Trouble)
	}
}

// stream prints requests, and those that come, until it is interrupted: for machines one a line.
func (c *call) stream(ctx context.Context, f wire.RequestFilter, found wire.Requests) error {
	for {
		for i := range found.Items {
			if *c.json {
				line, err := json.Marshal(found.Items[i])
				if err != nil {
					return err
				}
				fmt.Fprintf(c.Out, "%s\n", line)
				continue
			}
			fmt.Fprintln(c.Out, strings.Join(requestRow(&found.Items[i]), "  "))
		}
		if len(found.Items) < f.Limit {
			select {
			case <-ctx.Done():
				return nil
			case <-time.After(time.Second):
			}
		}
		f.After, f.From, f.To, f.Back = found.Newest, time.Time{}, time.Time{}, 0
		next, err := c.api.Requests(ctx, f)
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return err
		}
		found = next
	}
}

var requestHeading = []string{"ENDED", "ID", "OUTCOME", "VERSION", "TOOK", "KEY", "ANSWER"}

func requestRow(e *request.Kept) []string {
	outcome := string(e.Outcome)
	if e.Status != 200 {
		outcome += " " + strconv.Itoa(e.Status)
	}
	version := e.Version
	switch {
	case e.Instead != "":
		version += " instead of " + e.Instead
	case e.Lane != string(traffic.Main) && e.Lane != request.RefusedLane:
		version += " (" + e.Lane + ")"
	}
	took := ""
	if e.Total > 0 {
		took = millis(float64(e.Total) / 1000)
	}
	return []string{
		e.Ended.UTC().Format("01-02 15:04:05.000"), e.ID, outcome, version, took, e.Key,
		cmp.Or(strings.TrimSpace(e.Reason+" "+e.Asked), brief(e.Answer)),
	}
}

// brief writes the first values of what was asked or answered, as much as fits in a line.
func brief(body json.RawMessage) string {
	const most = 40
	columns := request.ColumnsOf(&request.Kept{Answer: body})
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(columns)) {
		parts = append(parts, name+"="+values(columns[name], 1))
	}
	text := []rune(strings.Join(parts, " "))
	if len(text) > most {
		return string(text[:most-1]) + "…"
	}
	return string(text)
}

// values writes the first values of a column.
func values(all []any, most int) string {
	var parts []string
	for _, v := range all[:min(most, len(all))] {
		switch v := v.(type) {
		case float64:
			parts = append(parts, number(v))
		case nil:
			parts = append(parts, "missing")
		default:
			parts = append(parts, fmt.Sprint(v))
		}
	}
	if len(all) > most {
		parts = append(parts, "…")
	}
	return strings.Join(parts, " ")
}

func showRequest(c *call) func(context.Context) error {
	c.connect()
	return func(ctx context.Context) error {
		r, err := c.api.Request(ctx, c.args[0])
		return c.show(r, err, func() {
			e := &r.Kept
			took := ""
			if e.Total > 0 {
				took = millis(float64(e.Total)/1000) + ", the model server " + millis(float64(e.Backend)/1000)
			}
			split := ""
			if e.Split > 0 {
				split = e.Endpoint + "#" + strconv.Itoa(e.Split) + ", " + e.Lane
			}
			facts(
				c.Out,
				"request",
				e.ID,
				"ended",
				moment(e.Ended),
				"endpoint",
				e.Endpoint,
				"asked for",
				e.Asked,
				"split",
				split,
				"answered by",
				e.Version,
				"instead of",
				e.Instead,
				"key",
				e.Key,
				"outcome",
				string(e.Outcome)+", status "+strconv.Itoa(e.Status),
				"reason",
				e.Reason,
				"took",
				took,
			)
			printBody(c.Out, "asked", e.Request, e.RequestNote, e.RequestBytes)
			printBody(c.Out, "answered", e.Answer, e.AnswerNote, e.AnswerBytes)
			if e.Version != "" && e.Lane != request.RefusedLane {
				fmt.Fprintf(c.Out, "\nwhere it came from: innerladder trace %s\n", e.ID)
			}
			for _, v := range r.Versions {
				fmt.Fprintf(c.Out, "try it again:       innerladder request again %s -on %s\n", e.ID, v)
			}
		})
	}
}

// printBody shows a body column by column, or as it is when it has none.
func printBody(w io.Writer, title string, body json.RawMessage, note string, bytes int64) {
	if bytes == 0 && len(body) == 0 {
		return
	}
	fmt.Fprintf(w, "\n%s, %s", title, size(bytes))
	if note != "" {
		fmt.Fprintf(w, " (%s)", note)
	}
	fmt.Fprintln(w)
	columns := request.ColumnsOf(&request.Kept{Answer: body})
	if len(columns) == 0 && len(body) > 0 {
		fmt.Fprintf(w, "  %s\n", compact(body))
		return
	}
	var pairs []string
	for _, name := range slices.Sorted(maps.Keys(columns)) {
		pairs = append(pairs, "  "+name, values(columns[name], 6))
	}
	facts(w, pairs...)
}

func printTried(w io.Writer, t wire.Tried) {
	if t.Trouble != "" {
		fmt.Fprintf(w, "%s did not answer: %s\n", t.Version, t.Trouble)
		return
	}
	fmt.Fprintf(w, "%s answered with status %d in %s\n", t.Version, t.Status, millis(t.TookMS))
	switch {
	case !t.Compared:
		fmt.Fprintln(w, "what was answered then is not kept, or is no answer, so nothing can be held against it")
		fmt.Fprintf(w, "  %s\n", compact(t.Answer))
	case len(t.Differences) == 0:
		fmt.Fprintf(w, "the same as then: %s\n", brief(t.Answer))
	default:
		fmt.Fprintln(w, "other than then:")
		for _, d := range t.Differences {
			fmt.Fprintf(w, "  %s\n", d)
		}
	}
}

// keepingOptions defines the options for what an endpoint keeps of single requests. What comes back changes that by
// those that were given, and says whether any was.
func keepingOptions(c *call) func(request.Keeping) (kept request.Keeping, given bool) {
	share := c.flags.Float64(
		"keep-share",
		100,
		"`PERCENT` of the requests without a fault that are kept; others always are",
	)
	most := c.flags.Int("keep-per-second", 0, "`NUMBER` of those that are kept in a second, about; 0 for all")
	bytes := c.flags.Int("keep-bytes", 0, "`BYTES` of the largest body that is kept, up to 1048576; 0 for none")
	age := c.flags.String("keep-for", "", "`DURATION` for which requests are kept, such as 168h")
	hide := c.flags.String(
		"keep-hide",
		"",
		"`COLUMNS` whose values are left out, with commas; * stands for any letters",
	)
	hash := c.flags.String("keep-hash", "", "`COLUMNS` of which a keyed hash is kept, with commas; empty for none")
	return func(k request.Keeping) (_ request.Keeping, given bool) {
		c.flags.Visit(func(f *flag.Flag) {
			known := true
			switch f.Name {
			case "keep-share":
				k.Share = int(*share * 100)
			case "keep-per-second":
				k.PerSecond = *most
			case "keep-bytes":
				k.Bytes = *bytes
			case "keep-for":
				k.For = *age
			case "keep-hide":
				k.Columns = replaceRules(k.Columns, request.Hide, *hide)
			case "keep-hash":
				k.Columns = replaceRules(k.Columns, request.Hash, *hash)
			default:
				known = false
			}
			given = given || known
		})
		return k, given
	}
}

// replaceRules puts the columns that are named in place of those that were dealt with so before.
func replaceRules(all []request.ColumnRule, how request.How, names string) []request.ColumnRule {
	out := slices.DeleteFunc(slices.Clone(all), func(r request.ColumnRule) bool { return r.How == how })
	for _, name := range strings.Split(names, ",") {
		if name = strings.TrimSpace(name); name != "" {
			out = append(out, request.ColumnRule{Pattern: name, How: how})
		}
	}
	// Hiding comes before hashing, so that who hides a column need not look for an earlier rule about it.
	slices.SortStableFunc(
		out,
		func(a, b request.ColumnRule) int { return strings.Compare(string(b.How), string(a.How)) },
	)
	return out
}

// keepsWhat says in words what an endpoint keeps of single requests.
func keepsWhat(k request.Keeping) string {
	parts := []string{k.String(), "bodies up to " + size(int64(k.Bytes))}
	how := map[request.How]string{request.Hide: "hides ", request.Hash: "hashes "}
	for _, r := range k.Columns {
		parts = append(parts, how[r.How]+r.Pattern)
	}
	return strings.Join(parts, "; ")
}
