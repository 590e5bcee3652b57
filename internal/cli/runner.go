package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/core/compute"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/replica"
	"innerladder/internal/core/signature"
	"innerladder/internal/intake"
	"innerladder/internal/modelserver"
	"innerladder/internal/runner"
	"innerladder/internal/wire"
)

// runnerCommands are those about versions that run on the service's machine.
func runnerCommands() []command {
	return []command{
		{
			name: "runner", group: "Places", arguments: "FILE", least: 1, most: 1,
			summary: "Run the built-in model server for a file that can be computed here (" +
				strings.Join(compute.Formats, ", ") + "); place -run does this for a version and looks after it",
			example: "innerladder runner heat-demand.onnx -listen 127.0.0.1:9001 -as heat-demand\n" +
				"innerladder runner valve-fault.pmml -batch-rows 64 -batch-wait 2ms",
			setup: runnerCommand,
		},
		{
			name: "running", group: "Places", arguments: "[REF]", most: 1,
			summary: "List the versions that run on the service's machine: each replica, what it uses, and what " +
				"putting requests together gains and costs",
			example: "innerladder running\ninnerladder running heat-demand@7",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				return func(ctx context.Context) error {
					all, err := c.api.Running(ctx, strings.Join(c.args, ""))
					return c.show(all, err, func() { printRunning(c.Out, all.Items) })
				}
			},
		},
		{
			name: "running log", group: "Places", arguments: "REF", least: 1, most: 1,
			summary: "Show the last lines that a replica wrote",
			example: "innerladder running log heat-demand@7 -env workbench -replica 2 -lines 100",
			setup:   runningLog,
		},
		{
			name: "replicas", group: "Places", arguments: "REF NUMBER|LEAST..MOST", least: 2, most: 2,
			summary: "Change how many processes of a version run here, while it answers; between two numbers it " +
				"follows the load",
			example: "innerladder replicas heat-demand@7 3 -env workbench\n" +
				"innerladder replicas heat-demand@7 1..4 -env workbench -why \"mornings are busy\"",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				env := c.flags.String("env", "", "`ENVIRONMENT` where it is placed")
				why := c.flags.String("why", "", "`REASON`")
				return func(ctx context.Context) error {
					if *env == "" {
						return wrongUse("no environment is given; use -env")
					}
					return c.placement(c.api.ChangeAddresses(ctx, c.args[0], *env, wire.EditAddresses{
						Replicas: c.args[1], Reason: *why,
					}))
				}
			},
		},
	}
}

// templateCommands are those about command lines that serve versions.
func templateCommands() []command {
	return []command{
		{
			name: "runner put", group: "Places", arguments: "NAME -- PROGRAM ARGUMENT …", least: 2, most: -1,
			summary: "Allow a command line to serve versions on the service's machine, in any language; it is never " +
				"given to a shell, and what stands in braces is filled in",
			example: "innerladder runner put python -why \"our own servers\" -- /usr/bin/python3 {folder}/serve.py " +
				"--port {port}\ninnerladder place heat-demand@7 -env workbench -run -template python",
			more: func(w io.Writer) {
				fmt.Fprintln(w, "What is filled in:")
				for _, name := range slices.Sorted(maps.Keys(replica.Filled)) {
					fmt.Fprintf(w, "  {%s}  %s\n", name, replica.Filled[name])
				}
			},
			setup: putTemplate,
		},
		{
			name: "runner list", group: "Places", most: 0,
			summary: "List the command lines that may serve versions on the service's machine",
			example: "innerladder runner list",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				return func(ctx context.Context) error {
					all, err := c.api.Templates(ctx)
					return c.show(all, err, func() { printTemplates(c.Out, all.Items) })
				}
			},
		},
		{
			name: "runner remove", group: "Places", arguments: "NAME", least: 1, most: 1,
			summary: "Allow a command line no more", example: "innerladder runner remove python -why \"not needed\"",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				why := c.flags.String("why", "", "`REASON`")
				return func(ctx context.Context) error {
					t, err := c.api.RemoveTemplate(ctx, c.args[0], *why)
					return c.show(t, err, func() { c.say("%s was taken away", t.Name) })
				}
			},
		},
		{
			name: "runner exec", group: "Places", arguments: "-- PROGRAM ARGUMENT …", least: 1, most: -1,
			summary: "Run a program in a folder that a service keeps for it; the service does this for a template",
			example: "innerladder runner exec -keep ./1 -listen 127.0.0.1:0 -- /usr/bin/python3 serve.py --port {port}",
			setup:   execCommand,
		},
	}
}

func putTemplate(c *call) func(context.Context) error {
	c.connect()
	var in wire.PutTemplate
	var set list
	c.flags.Var(&set, "set", "`NAME=VALUE` in its environment; may be given several times")
	c.flags.StringVar(&in.Description, "about", "", "`TEXT` for people")
	c.flags.StringVar(&in.Reason, "why", "", "`REASON`")
	return func(ctx context.Context) error {
		in.Name, in.Command = c.args[0], c.args[1:]
		in.Environment = map[string]string{}
		for _, s := range set {
			name, value, there := strings.Cut(s, "=")
			if !there {
				return wrongUse("-set %q: write NAME=VALUE", s)
			}
			in.Environment[name] = value
		}
		t, err := c.api.PutTemplate(ctx, in)
		return c.show(t, err, func() { printTemplates(c.Out, []replica.Template{t}) })
	}
}

func printTemplates(w io.Writer, all []replica.Template) {
	if len(all) == 0 {
		fmt.Fprintln(w, "no command line is allowed; allow one with: innerladder runner put NAME -- PROGRAM …")
		return
	}
	t := newTable(w, "TEMPLATE", "COMMAND", "ENVIRONMENT", "ALLOWED BY", "SINCE", "ABOUT")
	for _, x := range all {
		var set []string
		for _, name := range slices.Sorted(maps.Keys(x.Environment)) {
			set = append(set, name+"="+x.Environment[name])
		}
		t.row(x.Name, strings.Join(x.Command, " "), strings.Join(set, " "), x.AddedBy, ago(sinceNow(x.AddedAt)),
			x.Description)
	}
	t.done()
}

func execCommand(c *call) func(context.Context) error {
	keep := c.flags.String("keep", "", "`DIR` that a service keeps for it: only one process may have it")
	service := c.flags.String("service", "", "`FILE` that its service touches")
	away := c.flags.Duration("away", 10*time.Minute, "`DURATION` without its service after which it ends")
	listen := c.flags.String("listen", "127.0.0.1:0", "`ADDRESS` that it is told to take, if that is free")
	var set list
	c.flags.Var(&set, "set", "`NAME=VALUE` in its environment; may be given several times")
	return func(ctx context.Context) error {
		if *keep == "" {
			return wrongUse("no folder is given; use -keep")
		}
		folder, err := runner.Hold(*keep)
		if err != nil {
			return err
		}
		defer folder.Release()
		ctx, stop := context.WithCancel(ctx)
		defer stop()
		c.endAlone(ctx, *service, *away, stop)
		return runner.Exec(ctx, folder, runner.Command{Args: c.args, Environment: set, Listen: *listen, Out: os.Stderr})
	}
}

// serving are the options of the built-in model server.
type serving struct {
	format, name, listen, signature, keep, service string
	away                                           time.Duration
	batching                                       modelserver.Batching
	atOnce                                         int
}

func runnerCommand(c *call) func(context.Context) error {
	var o serving
	c.flags.StringVar(&o.format, "format", "", "`FORMAT` of the file: "+strings.Join(compute.Formats, " or ")+
		"; found out when not given")
	c.flags.StringVar(&o.name, "as", "", "`NAME` of the model; that of the file when not given")
	c.flags.StringVar(&o.listen, "listen", "127.0.0.1:9001", "`ADDRESS` of the model server")
	c.flags.StringVar(&o.signature, "signature", "", "`FILE` with a signature as JSON: columns of a table that the "+
		"file takes whole, and the name of the output")
	c.flags.IntVar(&o.batching.Rows, "batch-rows", 0, "`N` rows of several requests that are computed together at "+
		"most; 0 computes each request by itself")
	c.flags.DurationVar(&o.batching.Wait, "batch-wait", 2*time.Millisecond, "`DURATION` that a request waits for "+
		"others at most")
	c.flags.IntVar(&o.atOnce, "at-once", 0, "`N` batches that are computed at the same time; one a processor when 0")
	c.flags.StringVar(&o.keep, "keep", "", "`DIR` that a service keeps for it: only one process may have it")
	c.flags.StringVar(&o.service, "service", "", "`FILE` that its service touches")
	c.flags.DurationVar(&o.away, "away", 10*time.Minute, "`DURATION` without its service after which it ends")
	return func(ctx context.Context) error { return c.serveFile(ctx, c.args[0], o) }
}

// serveFile serves a file until ctx is done.
func (c *call) serveFile(ctx context.Context, file string, o serving) error {
	log, err := logger(c.Err, "info")
	if err != nil {
		return err
	}
	var folder *runner.Folder
	if o.keep != "" {
		if folder, err = runner.Hold(o.keep); err != nil {
			return err
		}
		defer folder.Release()
	}
	members := modelserver.NewMembers()
	model, err := loadModel(file, o, members)
	if err != nil {
		// What could not be read may be the next time; what cannot be computed never will.
		if cannot := (*cannotError)(nil); folder != nil && errors.As(err, &cannot) {
			err = errors.Join(err, folder.Refuse(err.Error()))
		}
		return err
	}
	l, err := net.Listen("tcp", o.listen)
	if err != nil && folder != nil { // somebody else has the address by now; the service is told the new one
		l, err = net.Listen("tcp", "127.0.0.1:0")
	}
	if err != nil {
		return fmt.Errorf("listening: %w; choose another address with -listen", err)
	}
	name := o.name
	if name == "" {
		name, _, _ = strings.Cut(filepath.Base(file), ".")
	}
	s := modelserver.New(modelserver.Options{
		Name: name, Model: model, Batching: o.batching, AtOnce: o.atOnce,
		Members: members,
	})
	if err := s.Warm(); err != nil {
		log.Warn("the model does not take made-up rows", "error", err)
	}
	if o.batching.Rows > 1 && !model.Rows {
		log.Warn("rows are not computed together: what the model gives for one depends on the others, or it takes a " +
			"fixed number of rows")
	}
	address := "http://" + l.Addr().String()
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	if folder != nil {
		if err := folder.Serving(address); err != nil {
			return err
		}
		c.endAlone(ctx, o.service, o.away, stop)
	}
	log.Info("serving", "model", name, "address", address, "file", filepath.Base(file), "rows_together",
		o.batching.Rows > 1 && model.Rows)
	fmt.Fprintf(c.Out, "%s serves %s\n", address, name)
	err = s.Serve(ctx, l)
	log.Info("ended")
	return err
}

// endAlone stops when no service has touched a file for some time; an empty file is none's.
func (c *call) endAlone(ctx context.Context, file string, away time.Duration, stop func()) {
	if file == "" {
		return
	}
	go func() {
		if runner.Alone(file, away, ctx.Done()) {
			c.say("no service has been here for %v; ending", away)
			stop()
		}
	}()
}

// cannotError is a file that was read and cannot be computed.
type cannotError struct{ error }

func (e *cannotError) Unwrap() error { return e.error }

// computed tells what cannot be computed from what could not be read.
func computed(m *compute.Model, err error) (*compute.Model, error) {
	if err != nil {
		return nil, &cannotError{err}
	}
	return m, nil
}

// largestModel is the largest file that is computed.
const largestModel = 4 << 30

// loadEnsemble loads the members of an ensemble, and puts them together.
func loadEnsemble(file string, watch compute.Watcher) (*compute.Model, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	var set runner.Ensemble
	if err := json.Unmarshal(text, &set); err != nil {
		return nil, fmt.Errorf("%s says nothing of an ensemble: %w", file, err)
	}
	var members []*compute.Model
	for i, f := range set.Files {
		b, err := os.ReadFile(f.File)
		if err != nil {
			return nil, err
		}
		m, err := compute.Load(f.Format, b, f.Signature)
		if err != nil {
			return nil, &cannotError{fmt.Errorf("%s: %w", set.Plan.Members[i].Version, err)}
		}
		members = append(members, m)
	}
	return computed(compute.Ensemble(set.Plan, members, watch))
}

// loadModel reads a file and makes sure that it can be computed. Watch is told what members of an ensemble do.
func loadModel(file string, o serving, watch compute.Watcher) (*compute.Model, error) {
	if o.format == registry.FormatEnsemble {
		return loadEnsemble(file, watch)
	}
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if info.Size() > largestModel {
		return nil, fmt.Errorf("%s has %d bytes; at most %d are computed here", file, info.Size(), int64(largestModel))
	}
	if o.format == "" {
		contents, err := intake.Read(filepath.Base(file), f, info.Size())
		if err != nil {
			return nil, err
		}
		o.format = contents.Format
	}
	b, err := io.ReadAll(io.NewSectionReader(f, 0, info.Size()))
	if err != nil {
		return nil, err
	}
	var s *signature.Signature
	if o.signature != "" {
		text, err := os.ReadFile(o.signature)
		if err != nil {
			return nil, err
		}
		if err := json.Unmarshal(text, &s); err != nil {
			return nil, fmt.Errorf("%s is no signature: %w", o.signature, err)
		}
	}
	return computed(compute.Load(o.format, b, s))
}

func runningLog(c *call) func(context.Context) error {
	c.connect()
	env := c.flags.String("env", "", "`ENVIRONMENT` where it is placed")
	n := c.flags.Int("replica", 1, "`NUMBER` of the replica")
	lines := c.flags.Int("lines", 50, "`N` lines at most")
	return func(ctx context.Context) error {
		if *env == "" {
			return wrongUse("no environment is given; use -env")
		}
		log, err := c.api.RunningLog(ctx, c.args[0], *env, *n, *lines)
		return c.show(log, err, func() {
			for _, line := range log.Lines {
				fmt.Fprintln(c.Out, line)
			}
		})
	}
}

func printRunning(w io.Writer, all []wire.Running) {
	if len(all) == 0 {
		fmt.Fprintln(w, "nothing runs on the service's machine; run a version with: innerladder place REF -env E -run")
		return
	}
	t := newTable(w, "VERSION", "ENVIRONMENT", "REPLICA", "STATE", "ADDRESS", "SINCE", "RESTARTS", "CPU", "MEMORY",
		"FILES", "REQUESTS", "ROWS TOGETHER", "WAITED", "A ROW")
	for _, r := range all {
		for _, p := range r.Replicas {
			state := p.State
			if p.Reason != "" {
				state += ": " + p.Reason
			}
			since, together, waited, each := "–", "–", "–", "–"
			if !p.Since.IsZero() {
				since = ago(sinceNow(p.Since))
			}
			if p.Work.RowsTogether > 0 {
				together, waited = fmt.Sprintf("%.1f", p.Work.RowsTogether), fmt.Sprintf("%.2f ms", p.Work.WaitMillis)
				each = fmt.Sprintf("%.1f µs", p.Work.ComputeMicro)
			}
			t.row(r.Version, r.Environment, fmt.Sprintf("%d of %s", p.Number, r.Runner.Replicas), state, p.Address,
				since, strconv.Itoa(p.Restarts), fmt.Sprintf("%.2f of %d", p.CPU, p.CPULimit),
				fmt.Sprintf("%d of %d MiB", p.Memory>>20, p.MemoryLimit>>20),
				fmt.Sprintf("%d of %d", p.Files, p.FilesLimit), fmt.Sprintf("%.1f a second", p.Work.Requests), together,
				waited, each)
		}
	}
	t.done()
	printMembers(w, all)
}

// printMembers prints what the members of ensembles do.
func printMembers(w io.Writer, all []wire.Running) {
	t := newTable(w, "ENSEMBLE", "REPLICA", "MEMBER", "A BATCH", "APART FROM THE ENSEMBLE")
	any := false
	for _, r := range all {
		for _, p := range r.Replicas {
			for _, m := range p.Work.Members {
				any = true
				var apart []string
				for _, output := range slices.Sorted(maps.Keys(m.Apart)) {
					apart = append(apart, fmt.Sprintf("%s %.4g", output, m.Apart[output]))
				}
				t.row(r.Version, strconv.Itoa(p.Number), m.Version, fmt.Sprintf("%.1f µs", m.Micro),
					strings.Join(apart, ", "))
			}
		}
	}
	if any {
		fmt.Fprintln(w)
		t.done()
	}
}
