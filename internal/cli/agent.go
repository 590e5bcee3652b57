package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/agent"
	"innerladder/internal/core/elsewhere"
)

// agentCommands are the commands about what answers where the gateway does not reach.
func agentCommands() []command {
	return []command{
		{
			name: "agent", group: "Elsewhere", arguments: "ENDPOINT [FILE …|-]", least: 1, most: -1,
			summary: "Report what versions do where the gateway does not reach: take observations as JSON lines from " +
				"files, standard input (-) or HTTP, sum them up, and tell the service; what it cannot be told is " +
				"kept on disk, and counts once",
			example: "innerladder agent demand-edge /var/log/heat/answers.jsonl -state /var/lib/innerladder-agent\n" +
				"innerladder agent demand-edge night.jsonl -once -version heat-demand@2\n" +
				"innerladder agent demand-edge -listen 127.0.0.1:7600\n" +
				"innerladder agent demand-edge log.jsonl -field at=ts -field inputs=request.features -field ms=took_ms",
			setup: runAgent,
		},
		{
			name: "agent state", group: "Elsewhere", arguments: "DIR", least: 1, most: 1,
			summary: "Show what there is in an agent's folder: what waits, and what was put aside and why",
			example: "innerladder agent state /var/lib/innerladder-agent",
			setup: func(c *call) func(context.Context) error {
				c.json = c.flags.Bool("json", false, "print JSON for machines")
				return func(ctx context.Context) error {
					s, err := agent.ReadState(ctx, c.args[0])
					return c.show(s, err, func() { printAgentState(c.Out, s) })
				}
			},
		},
		{
			name: "agents", group: "Elsewhere", arguments: "ENDPOINT", least: 1, most: 1,
			summary: "List the agents that report what answers elsewhere for an endpoint, and when each was heard",
			example: "innerladder agents demand-edge",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				return func(ctx context.Context) error {
					all, err := c.api.Agents(ctx, c.args[0])
					return c.show(all, err, func() { c.printAgents(all.Items) })
				}
			},
		},
	}
}

func (c *call) printAgents(all []elsewhere.Agent) {
	if len(all) == 0 {
		c.say("no agent has reported of %s; start one beside its model with: innerladder agent %s FILE", c.args[0],
			c.args[0])
		return
	}
	t := newTable(c.Out, "AGENT", "HEARD", "TOLD UNTIL", "REQUESTS", "BATCHES", "WAITING", "PUT ASIDE")
	for _, a := range all {
		until := "–"
		if a.Until.Unix() > 0 {
			until = a.Until.Format("2006-01-02 15:04 UTC")
		}
		t.row(a.Name, ago(time.Since(a.HeardAt)), until, strconv.FormatUint(a.Requests, 10),
			strconv.FormatInt(a.Number, 10), size(a.Waiting), strconv.FormatInt(a.Aside, 10))
	}
	t.done()
}

func printAgentState(w io.Writer, s agent.State) {
	fmt.Fprintf(w, "agent %s of %s: %d batches so far\n", s.ID, s.Endpoint, s.Number)
	fmt.Fprintf(w, "%s of lines wait to be summed up, %d batches to be taken\n", size(s.Raw), s.Batches)
	for _, f := range s.Files {
		fmt.Fprintf(w, "%s was read up to byte %d\n", f.Path, f.Read)
	}
	for _, r := range s.Refused {
		fmt.Fprintf(w, "batch %d was refused: %s\n", r.Number, r.Why)
	}
	if s.Aside == 0 {
		return
	}
	fmt.Fprintf(w, "%d lines were put aside; take them up again with: innerladder agent %s -again\n\n", s.Aside,
		s.Endpoint)
	t := newTable(w, "WHEN", "WHY", "LINE")
	for _, l := range s.Lines {
		line := []rune(strconv.QuoteToGraphic(l.Line))
		if len(line) > 60 {
			line = append(line[:59], '…')
		}
		t.row(ago(time.Since(l.At)), l.Why, strings.Trim(string(line), `"`))
	}
	t.done()
}

func runAgent(c *call) func(context.Context) error {
	c.connect()
	o := agent.Options{Reading: agent.Reading{Paths: map[string]string{}}}
	c.flags.StringVar(&o.Dir, "state", "", "`DIR` where it keeps what is not told yet; one in XDG_STATE_HOME or "+
		"~/.local/state when not given")
	c.flags.StringVar(&o.Name, "name", "", "`NAME` for people; that of the machine when not given")
	c.flags.StringVar(&o.Listen, "listen", "", "`ADDRESS` where observations may be posted to /observations")
	keyFile := c.flags.String("listen-key-file", "",
		"`FILE` with the key that whoever posts must send as a bearer token")
	c.flags.BoolVar(&o.Once, "once", false, "end when all that is there was told")
	c.flags.BoolVar(&o.Again, "again", false, "take up again what was put aside before")
	c.flags.StringVar(&o.Version, "version", "", "`MODEL@NUMBER` of lines that do not name a version")
	var fields list
	c.flags.Var(&fields, "field", "`FIELD=PATH`: where something stands in a line that does not stand under its own "+
		"name; fields are "+strings.Join(agent.Fields, ", "))
	mib := c.flags.Int64("keep-mib", 1024, "`MIB` that may wait on disk; then nothing more is read until some was told")
	level := c.flags.String("log", "info", "`LEVEL`: debug, info, warn or error")
	return func(ctx context.Context) error {
		o.Endpoint = c.args[0]
		for _, f := range fields {
			name, path, there := strings.Cut(f, "=")
			if !there {
				return wrongUse("-field %q says not where it stands; write FIELD=PATH", f)
			}
			o.Paths[name] = path
		}
		if err := o.Reading.Check(); err != nil {
			return wrongUse("-field: %v", err)
		}
		if *mib < 64 {
			return wrongUse("-keep-mib must be 64 or more")
		}
		o.Limit = *mib << 20
		for _, file := range slices.Compact(c.args[1:]) {
			if file == "-" {
				o.Input = c.In
			} else {
				o.Files = append(o.Files, file)
			}
		}
		if len(o.Files) == 0 && o.Input == nil && o.Listen == "" && !o.Again && !o.Once {
			return wrongUse("nothing is read; name files, - for standard input, or -listen ADDRESS")
		}
		return c.runAgent(ctx, o, *keyFile, *level)
	}
}

// runAgent runs an agent whose sources are known.
func (c *call) runAgent(ctx context.Context, o agent.Options, keyFile, level string) (err error) {
	if o.Log, err = logger(c.Err, level); err != nil {
		return err
	}
	if keyFile != "" {
		b, err := os.ReadFile(keyFile)
		if err != nil {
			return fmt.Errorf("reading the agent's key: %w", err)
		}
		if o.Key = strings.TrimSpace(string(b)); o.Key == "" {
			return fmt.Errorf("there is no key in %s", keyFile)
		}
	}
	if o.Name == "" {
		if o.Name, err = os.Hostname(); err != nil {
			return fmt.Errorf("finding the name of the machine; give one with -name: %w", err)
		}
	}
	if o.Dir == "" {
		if o.Dir, err = c.agentFolder(o.Endpoint); err != nil {
			return err
		}
	}
	o.Service = c.api
	o.Started = func(address string) { fmt.Fprintf(c.Out, "observations     %s/observations\n", address) }
	told, err := agent.Run(ctx, o)
	if *c.json {
		return errors.Join(err, c.printJSON(told))
	}
	if err == nil || told.Requests > 0 {
		c.say("%s", told)
	}
	return err
}

// agentFolder is where the agent of an endpoint keeps what is not told yet, unless another folder is given.
func (c *call) agentFolder(endpoint string) (string, error) {
	name := "agent-" + strings.Map(func(r rune) rune {
		if r == '/' || r == filepath.Separator || r < ' ' {
			return '_'
		}
		return r
	}, endpoint)
	if dir, ok := c.Env("XDG_STATE_HOME"); ok && dir != "" {
		return filepath.Join(dir, "innerladder", name), nil
	}
	home, ok := c.Env("HOME")
	if !ok || home == "" {
		return "", errors.New("neither HOME nor XDG_STATE_HOME is set; give -state")
	}
	return filepath.Join(home, ".local", "state", "innerladder", name), nil
}
