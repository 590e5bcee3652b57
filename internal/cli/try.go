package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"

	"innerladder/internal/core/request"
	"innerladder/internal/core/traffic"
	"innerladder/internal/wire"
)

// tryCommand asks versions something before anybody does.
func tryCommand() []command {
	return []command{{
		name: "try", group: "Places", arguments: "ENDPOINT|REF [INPUT=VALUE …]", least: 1, most: -1,
		summary: "Ask versions where they are placed the sample of their signature, with other values for some " +
			"inputs, or a request of your own; side by side, and no lane counts it",
		example: "innerladder try demand-hourly\n" +
			"innerladder try heat-demand@3 -env plant-north outdoor_c=-12 building_mix=harbour\n" +
			"innerladder try demand-hourly -versions heat-demand@2,heat-demand@3 outdoor_c=-12\n" +
			"innerladder try demand-hourly -request row.json",
		setup: try,
	}}
}

func try(c *call) func(context.Context) error {
	c.connect()
	var in wire.TryVersions
	asks := c.tryFlags(&in)
	return func(ctx context.Context) error {
		if err := asks(ctx); err != nil {
			return err
		}
		out, err := c.api.Try(ctx, in)
		return c.show(out, err, func() { printTriedVersions(c.Out, out) })
	}
}

// tryFlags are the options of all that ask versions one thing; what comes back finds out what that is.
func (c *call) tryFlags(in *wire.TryVersions) func(context.Context) error {
	c.flags.StringVar(&in.Environment, "env", "", "`ENVIRONMENT` where they are placed; that of the endpoint, or the "+
		"only one of the version, when not given")
	versions := c.flags.String("versions", "", "`REFS` that are asked, separated by commas; those that answer for the "+
		"endpoint when not given")
	file := c.flags.String("request", "", "`FILE` with the request to ask, - for standard input")
	return func(ctx context.Context) error {
		if *versions != "" {
			in.Versions = strings.Split(*versions, ",")
		}
		in.Inputs = map[string]any{}
		for _, arg := range c.args[1:] {
			name, value, there := strings.Cut(arg, "=")
			if !there {
				return wrongUse("%q says no value; write INPUT=VALUE", arg)
			}
			in.Inputs[name] = value
			if list := strings.Split(value, ","); len(list) > 1 {
				all := make([]any, len(list))
				for i, v := range list {
					all[i] = v
				}
				in.Inputs[name] = all
			}
		}
		if *file != "" {
			b, err := c.readAll(*file)
			if err != nil {
				return err
			}
			if !json.Valid(b) {
				return fmt.Errorf("%s is no JSON", *file)
			}
			in.Request = b
		}
		return c.whoIsTried(ctx, c.args[0], in)
	}
}

// readAll reads a file, or standard input.
func (c *call) readAll(file string) ([]byte, error) {
	if file == "-" {
		return io.ReadAll(c.In)
	}
	return os.ReadFile(file)
}

// whoIsTried finds the versions and the environment that are not given: of an endpoint, or of a version.
func (c *call) whoIsTried(ctx context.Context, of string, in *wire.TryVersions) error {
	if !strings.Contains(of, "@") {
		e, err := c.api.Endpoint(ctx, of)
		if err != nil {
			return err
		}
		if in.Environment == "" {
			in.Environment = e.Environment
		}
		if len(in.Versions) == 0 && e.Split != nil {
			for _, l := range traffic.Answering(e.Split.Lanes) {
				in.Versions = append(in.Versions, l.Version)
			}
		}
		if len(in.Versions) == 0 {
			return fmt.Errorf("nothing answers for %s yet; name versions with -versions", of)
		}
		return nil
	}
	in.Versions = slices.Concat([]string{of}, in.Versions)
	if in.Environment != "" {
		return nil
	}
	placed, err := c.api.Placements(ctx, of)
	if err != nil {
		return err
	}
	where := map[string]bool{}
	for _, p := range placed.Items {
		where[p.Environment] = true
	}
	switch all := slices.Sorted(maps.Keys(where)); len(all) {
	case 0:
		return fmt.Errorf("%s is not placed anywhere; place it with: innerladder place %s -env ENVIRONMENT -at URL", of,
			of)
	case 1:
		in.Environment = all[0]
	default:
		return wrongUse("%s is placed in %s; say where with -env", of, strings.Join(all, " and "))
	}
	return nil
}

func printTriedVersions(w io.Writer, t wire.TriedVersions) {
	var asked []string
	columns := request.ColumnsOf(&request.Kept{Request: t.Request})
	for _, name := range slices.Sorted(maps.Keys(columns)) {
		asked = append(asked, "  "+name, values(columns[name], 6))
	}
	fmt.Fprintf(w, "asked in %s\n", t.Environment)
	facts(w, asked...)
	fmt.Fprintln(w)
	outputs := map[string]bool{}
	answers := make([]map[string][]any, len(t.Items))
	for i, v := range t.Items {
		answers[i] = request.ColumnsOf(&request.Kept{Answer: v.Answer})
		for name := range answers[i] {
			outputs[name] = true
		}
	}
	names := slices.Sorted(maps.Keys(outputs))
	table := newTable(w, slices.Concat([]string{"VERSION", "STATUS", "TOOK"}, names)...)
	for i, v := range t.Items {
		row := []string{v.Version, fmt.Sprint(v.Status), millis(v.TookMS)}
		for _, name := range names {
			row = append(row, values(answers[i][name], 6))
		}
		table.row(row...)
	}
	table.done()
	for i, v := range t.Items {
		switch {
		case v.Trouble != "":
			fmt.Fprintf(w, "%s did not answer: %s\n", v.Version, v.Trouble)
		case v.Status != 200:
			fmt.Fprintf(w, "%s answered: %s\n", v.Version, compact(v.Answer))
		}
		if i > 0 && v.Compared && len(v.Differences) == 0 {
			fmt.Fprintf(w, "%s answers as %s does\n", v.Version, t.Items[0].Version)
		}
		for _, d := range v.Differences {
			fmt.Fprintf(w, "%s, not as %s: %s\n", v.Version, t.Items[0].Version, d)
		}
	}
}
