// Package cli is the command line. Every command is one file's worth of flags, one call
// of the client, and one way to print what came back.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/client"
	"innerladder/internal/core/fault"
)

// The exit codes.
const (
	Done       = 0
	Failed     = 1
	WrongUsage = 2
	Refused    = 3
	RolledBack = 4
	TimedOut   = 5
)

// Streams are where a command reads and writes.
type Streams struct {
	Out, Err io.Writer
	// In is what is read from standard input; nil is os.Stdin.
	In io.Reader
	// Env looks up an environment variable; nil is os.LookupEnv.
	Env func(string) (string, bool)
}

// command is one subcommand.
type command struct {
	name string
	// group is the heading under which help lists it.
	group string
	// arguments says what follows the options, summary what the command does in one
	// line, example shows it at work.
	arguments, summary, example string
	// least and most bound the number of arguments; most < 0 is no bound.
	least, most int
	// more is written below the options.
	more func(io.Writer)
	// setup defines the flags and returns what to run.
	setup func(*call) func(context.Context) error
}

// call is one run of a command.
type call struct {
	Streams
	flags *flag.FlagSet
	// args are the arguments after the flags were taken out.
	args []string
	json *bool
	// configured commands take all their options from the environment too.
	configured bool

	// connects is set for commands that call the service, through api.
	connects          bool
	api               *client.Client
	server, tokenFile *string
}

// usageError is a wrong use of a command.
type usageError struct{ text string }

func (e usageError) Error() string { return e.text }

func wrongUse(format string, args ...any) error { return usageError{fmt.Sprintf(format, args...)} }

// instant reads the time that an option gives; the zero time where it was not given.
func instant(option, text string) (t time.Time, err error) {
	if text == "" {
		return t, nil
	}
	if t, err = time.Parse(time.RFC3339, text); err != nil {
		return t, wrongUse("-%s: %q is no time; write one such as 2026-01-31T06:00:00Z", option, text)
	}
	return t, nil
}

// commands lists all commands in the order of the job.
func commands() []command {
	return slices.Concat(runCommands(), helpingCommands(), keepingCommands(), peopleCommands(), registryCommands(),
		ladderCommands(),
		evidenceCommands(), loadCommand(), scoreCommands(), standingCommands(), replayCommand(), checkCommands(),
		robustnessCommand(), importanceCommand(),
		explainCommand(),
		scheduleCommands(), placeCommands(), runnerCommands(),
		templateCommands(), tryCommand(), trafficCommands(), rolloutCommands(),
		planCommands(), contractCommands(), answerCommands(), watchCommands(), watchingCommands(), outcomeCommands(),
		customCommands(), agentCommands(), driftCommand(), signalCommands(), requestCommands(),
		incidentCommands(), recordCommands())
}

// Run runs a command line, without the program's name, and returns the exit code.
func Run(ctx context.Context, args []string, s Streams) int {
	if s.Env == nil {
		s.Env = os.LookupEnv
	}
	if s.In == nil {
		s.In = os.Stdin
	}
	s.Out, s.Err = shown(s.Out), shown(s.Err)
	all := commands()
	if len(args) == 0 {
		help(s.Err, all)
		return WrongUsage
	}
	switch args[0] {
	case "-version", "--version":
		args = []string{"version"}
	case "help", "-h", "-help", "--help":
		if len(args) == 1 {
			help(s.Out, all)
			return Done
		}
		asked := strings.Join(args[1:], " ")
		if some := about(all, asked); len(some) > 0 && !slices.ContainsFunc(some, func(c command) bool {
			return c.name == asked
		}) {
			helpAbout(s.Out, asked, some)
			return Done
		}
		args = []string{asked, "-h"}
	}
	cmd, rest := find(all, args)
	if cmd == nil {
		unknown(s.Err, all, args)
		return WrongUsage
	}
	return cmd.run(ctx, rest, s)
}

// about are the commands of a group, or those that begin with a word; one that is called so is the first.
func about(all []command, asked string) (out []command) {
	for _, c := range all {
		if c.name == asked || strings.EqualFold(c.group, asked) || strings.HasPrefix(c.name, asked+" ") {
			out = append(out, c)
		}
	}
	return out
}

// unknown says that there is no such command, and which one may have been meant.
func unknown(w io.Writer, all []command, args []string) {
	if some := about(all, args[0]); len(some) > 0 { // endpoint, and none of its verbs
		fmt.Fprintf(w, "innerladder: %q needs another word: %s; see: innerladder help %s\n", args[0], verbs(some),
			args[0])
		return
	}
	var names []string
	for _, c := range all {
		names = append(names, c.name)
	}
	said := strings.Join(args[:min(2, len(args))], " ")
	meant := nearest(said, names)
	if meant == "" {
		meant = nearest(args[0], names)
	}
	if meant != "" {
		fmt.Fprintf(w, "innerladder: there is no command %q; did you mean %q? See: innerladder help\n", args[0], meant)
		return
	}
	fmt.Fprintf(w, "innerladder: there is no command %q; see: innerladder help\n", args[0])
}

func verbs(some []command) string {
	var out []string
	for _, c := range some {
		if _, verb, more := strings.Cut(c.name, " "); more {
			out = append(out, verb)
		}
	}
	return strings.Join(out, ", ")
}

// find takes the command with the most words that args begin with.
func find(all []command, args []string) (*command, []string) {
	joined := strings.Fields(strings.Join(args[:min(2, len(args))], " "))
	for n := min(2, len(joined)); n >= 1; n-- {
		name := strings.Join(joined[:n], " ")
		for i := range all {
			if all[i].name == name {
				if args[0] == name && n > 1 { // "help endpoint add" came as one argument
					return &all[i], args[1:]
				}
				return &all[i], args[n:]
			}
		}
	}
	return nil, nil
}

func (cmd *command) run(ctx context.Context, args []string, s Streams) int {
	c := &call{Streams: s, flags: flag.NewFlagSet(cmd.name, flag.ContinueOnError)}
	c.flags.SetOutput(io.Discard)
	run := cmd.setup(c)
	err := c.parse(args)
	if errors.Is(err, flag.ErrHelp) {
		cmd.help(s.Out, c.flags)
		return Done
	}
	if err == nil && (len(c.args) < cmd.least || (cmd.most >= 0 && len(c.args) > cmd.most)) {
		err = wrongUse("%d arguments are given; the command takes: %s", len(c.args),
			strings.TrimSpace("innerladder "+cmd.name+" "+cmd.arguments))
	}
	if err != nil {
		err = c.helped(err)
		c.failed(cmd, fmt.Errorf("%w; see: innerladder help %s", err, cmd.name), WrongUsage)
		return WrongUsage
	}
	if c.connects {
		c.api, err = c.client()
	}
	if err == nil {
		err = run(ctx)
	}
	if err != nil {
		c.failed(cmd, err, exitCode(err))
	}
	return exitCode(err)
}

// failure is an error for machines, as -json prints it.
type failure struct {
	Command   string `json:"command"`
	Exit      int    `json:"exit"`
	Code      string `json:"code,omitempty"`
	Detail    string `json:"detail"`
	Field     string `json:"field,omitempty"`
	Remedy    string `json:"remedy,omitempty"`
	Status    int    `json:"status,omitempty"`
	RequestID string `json:"request_id,omitempty"`
}

// failed says why a command failed: to people, or as JSON where that was asked for.
func (c *call) failed(cmd *command, err error, exit int) {
	if c.json == nil || !*c.json {
		fmt.Fprintf(c.Err, "innerladder %s: %v\n", cmd.name, err)
		return
	}
	f := failure{Command: cmd.name, Exit: exit, Detail: err.Error()}
	var p *client.Problem
	var local *fault.Fault
	switch {
	case errors.As(err, &p):
		f.Code, f.Detail, f.Field, f.Remedy = p.Problem.Code, p.Detail, p.Field, p.Remedy
		f.Status, f.RequestID = p.Status, p.RequestID
	case errors.As(err, &local):
		f.Code, f.Detail, f.Field, f.Remedy = local.Code, local.Detail, local.Field, local.Remedy
	case exit == WrongUsage:
		f.Code = "usage"
	}
	enc := json.NewEncoder(c.Err)
	enc.SetEscapeHTML(false)
	_ = enc.Encode(f)
}

// helped adds to the error about an option that there is not which one may have been meant.
func (c *call) helped(err error) error {
	name, is := strings.CutPrefix(err.Error(), "flag provided but not defined: -")
	if !is {
		return err
	}
	var all []string
	c.flags.VisitAll(func(f *flag.Flag) { all = append(all, f.Name) })
	if meant := nearest(strings.TrimLeft(name, "-"), all); meant != "" {
		return wrongUse("there is no option -%s; did you mean -%s?", name, meant)
	}
	return wrongUse("there is no option -%s", name)
}

// exitCode says what an error means to a program.
func exitCode(err error) int {
	var usage usageError
	var p *client.Problem
	var no refusal
	var late tooLate
	var back wentBack
	switch {
	case err == nil:
		return Done
	case errors.As(err, &usage):
		return WrongUsage
	case errors.As(err, &no):
		return Refused
	case errors.As(err, &back):
		return RolledBack
	case errors.As(err, &late), errors.Is(err, context.DeadlineExceeded):
		return TimedOut
	case errors.As(err, &p):
		switch p.Status {
		case http.StatusUnprocessableEntity:
			return WrongUsage
		case http.StatusConflict, http.StatusPreconditionFailed, http.StatusForbidden:
			return Refused
		}
	}
	return Failed
}

// parse takes options from anywhere between the arguments, and from the environment
// those that are not given. After "--" everything is an argument.
func (c *call) parse(args []string) error {
	given := map[string]bool{}
	for len(args) > 0 {
		if args[0] == "--" {
			c.args = append(c.args, args[1:]...)
			break
		}
		if !strings.HasPrefix(args[0], "-") || args[0] == "-" {
			c.args, args = append(c.args, args[0]), args[1:]
			continue
		}
		if err := c.flags.Parse(args); err != nil {
			return err
		}
		left := c.flags.Args()
		if used := len(args) - len(left); used > 0 && args[used-1] == "--" {
			c.args = append(c.args, left...)
			left = nil
		}
		args = left
	}
	c.flags.Visit(func(f *flag.Flag) { given[f.Name] = true })
	var err error
	c.flags.VisitAll(func(f *flag.Flag) {
		if !c.configured && !slices.Contains(everywhere, f.Name) {
			return
		}
		name := variable(f.Name)
		if value, ok := c.Env(name); ok && !given[f.Name] && err == nil {
			if e := f.Value.Set(value); e != nil {
				err = wrongUse("%s is %q: %v", name, value, e)
			}
		}
	})
	return err
}

// everywhere are the options that every command takes from the environment. What a
// command is to do must be said on its line; only programs that keep running take all
// their options from there.
var everywhere = []string{"server", "token-file", "json"}

// variable is the environment variable of an option.
func variable(option string) string {
	return "INNERLADDER_" + strings.ToUpper(strings.ReplaceAll(option, "-", "_"))
}

func help(w io.Writer, all []command) {
	fmt.Fprint(w, "Inner Ladder: register model versions, approve them, split traffic, compare, roll back.\n\nUsage: "+
		"innerladder COMMAND [options] [arguments]\n")
	listed(w, all)
	fmt.Fprint(w, "\nHelp for one command: innerladder help COMMAND; for a group: "+
		"innerladder help GROUP\nThe options of serve, demo and standin, and "+
		"-server and -token-file of all, can be set in the environment: -data as INNERLADDER_DATA.\n"+
		"Exit codes: 0 done, 1 failed, 2 wrong usage, 3 refused by a gate or rule, 4 rolled back, 5 timed out.\n")
}

// listed lists commands by group, each once, in the order in which they come first.
func listed(w io.Writer, some []command) {
	var groups []string
	by := map[string][]command{}
	for _, c := range some {
		if by[c.group] == nil {
			groups = append(groups, c.group)
		}
		by[c.group] = append(by[c.group], c)
	}
	for _, g := range groups {
		fmt.Fprintf(w, "\n%s\n", g)
		for _, c := range by[g] {
			fmt.Fprintf(w, "  %-17s %s\n", c.name, c.summary)
		}
	}
}

// helpAbout lists the commands of a group, or of a noun.
func helpAbout(w io.Writer, asked string, some []command) {
	fmt.Fprintf(w, "Commands about %s\n", strings.ToLower(asked))
	listed(w, some)
	fmt.Fprint(w, "\nHelp for one command: innerladder help COMMAND\n")
}

func (cmd *command) help(w io.Writer, flags *flag.FlagSet) {
	fmt.Fprintf(w, "%s\n\nUsage: %s\n", cmd.summary,
		strings.TrimSpace("innerladder "+cmd.name+" [options] "+cmd.arguments))
	fmt.Fprintf(w, "\nExample:\n  %s\n\nOptions:\n", strings.ReplaceAll(cmd.example, "\n", "\n  "))
	flags.VisitAll(func(f *flag.Flag) {
		what, text := flag.UnquoteUsage(f)
		option := "-" + f.Name
		if what != "" {
			option += " " + what
		}
		if f.DefValue != "" && f.DefValue != "false" && f.DefValue != "0" && f.DefValue != "-1" {
			text += " (default " + f.DefValue + ")"
		}
		fmt.Fprintf(w, "  %-24s %s\n", option, text)
	})
	if cmd.more != nil {
		cmd.more(w)
	}
}

// part defines the options that say which part of a list is wanted.
func (c *call) part() func() client.Part {
	limit := c.flags.Int("limit", 20, "`N` lines at most")
	cursor := c.flags.String("cursor", "", "`CURSOR` that the part before ended with")
	return func() client.Part { return client.Part{Limit: *limit, Cursor: *cursor} }
}

// optional defines an option that changes something by being given, even when it is empty.
func (c *call) optional(option, usage string, into **string) {
	c.flags.Func(option, usage, func(s string) error {
		*into = &s
		return nil
	})
}

// asks sets up a command that calls the service and has no options of its own.
func asks(run func(context.Context, *call) error) func(*call) func(context.Context) error {
	return func(c *call) func(context.Context) error {
		c.connect()
		return func(ctx context.Context) error { return run(ctx, c) }
	}
}

// asksWhy sets up a command that changes one thing, with a reason, and says what became of it.
func asksWhy[T any](do func(context.Context, *call, string) (T, error), people func(io.Writer, T),
) func(*call) func(context.Context) error {
	return func(c *call) func(context.Context) error {
		c.connect()
		why := c.flags.String("why", "", "`TEXT`: why")
		return func(ctx context.Context) error {
			done, err := do(ctx, c, *why)
			return c.show(done, err, func() { people(c.Out, done) })
		}
	}
}

// number reads an argument that is a whole number.
func (c *call) number(i int) (int64, error) {
	n, err := strconv.ParseInt(c.args[i], 10, 64)
	if err != nil {
		return 0, wrongUse("%q is no number", c.args[i])
	}
	return n, nil
}

// printJSON writes a value for machines.
func (c *call) printJSON(v any) error {
	enc := json.NewEncoder(c.Out)
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	return enc.Encode(v)
}

// show prints what a call answered, as JSON when that was asked for, else as people like
// it; or hands on why it failed.
func (c *call) show(v any, err error, people func()) error {
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(v)
	}
	people()
	return nil
}

// say writes a message for people to standard error.
func (c *call) say(format string, args ...any) { fmt.Fprintf(c.Err, format+"\n", args...) }
