package cli

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"

	"innerladder/internal/core/signature"
	"innerladder/internal/core/traffic"
)

func contractCommands() []command {
	return []command{
		{
			name: "contract show", group: "Traffic", arguments: "ENDPOINT",
			summary: "List what the callers of an endpoint rely on, and show the contract in force", least: 1, most: 1,
			example: "innerladder contract show demand-hourly", setup: contracts,
		},
		{
			name: "contract decide", group: "Traffic", arguments: "ENDPOINT",
			summary: "Decide a new contract: the signature of a version, for the next split whose versions keep it",
			least:   1, most: 1,
			example: "innerladder contract decide demand-hourly -from heat-demand@5 -why \"the planning tool sends " +
				"humidity " +
				"from 1 December\"",
			setup: contract,
		},
	}
}

func contracts(c *call) func(context.Context) error {
	c.connect()
	schema := c.flags.Int("schema", 0, "`NUMBER`: print that contract as JSON Schema instead")
	answers := c.flags.Bool("answers", false, "with -schema: of the answers, not of the requests")
	return func(ctx context.Context) error {
		if *schema > 0 {
			side := "request"
			if *answers {
				side = "answer"
			}
			s, err := c.api.ContractSchema(ctx, c.args[0], *schema, side)
			if err != nil {
				return err
			}
			return c.printJSON(s)
		}
		all, err := c.api.Contracts(ctx, c.args[0])
		return c.show(all, err, func() { printContracts(c.Out, all.Items) })
	}
}

func printContracts(w io.Writer, all []traffic.Contract) {
	t := newTable(w, "CONTRACT", "FROM", "BY", "WHEN", "WHY")
	shown := -1
	for i, k := range all {
		number := strconv.Itoa(k.Number)
		if k.InForce {
			number, shown = number+" in force", i
		}
		t.row(number, k.Version, k.Author, ago(sinceNow(k.MadeAt)), k.Reason)
	}
	t.done()
	if shown < 0 {
		fmt.Fprintln(w, "\nno contract is in force; the next split brings one")
		return
	}
	fmt.Fprintf(w, "\ncontract %d\n", all[shown].Number)
	printSignature(w, &all[shown].Signature)
}

func contract(c *call) func(context.Context) error {
	c.connect()
	from := c.flags.String("from", "", "`REF` of the version whose signature callers rely on from then on")
	why := c.flags.String("why", "", "`TEXT`: why, and what callers were told; needed")
	return func(ctx context.Context) error {
		if *from == "" {
			return wrongUse("no version is given; use -from")
		}
		k, err := c.api.MakeContract(ctx, c.args[0], *from, *why)
		return c.show(k, err, func() {
			fmt.Fprintf(c.Out, "contract %d of %s is decided: it comes into force with the next split all of whose "+
				"versions keep it\n", k.Number, k.Endpoint)
		})
	}
}

// printFits says how a version stands to the contracts of endpoints.
func printFits(w io.Writer, fits []traffic.Fit) {
	for _, f := range fits {
		fmt.Fprintf(w, "%s contract %d of %s", map[signature.Compatibility]string{
			signature.Compatible: "keeps", signature.Widened: "keeps and widens",
			signature.Breaking: "BREAKS", signature.NotKnown: "may or may not keep",
		}[f.Verdict], f.Contract, f.Endpoint)
		if f.Verdict == signature.Breaking {
			fmt.Fprintf(w, ": %s", strings.TrimSpace(f.Breaks()))
		}
		fmt.Fprintln(w)
	}
}
