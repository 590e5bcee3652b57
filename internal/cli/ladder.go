package cli

import (
	"context"
	"fmt"

	"innerladder/internal/client"
	"innerladder/internal/core/ladder"
)

func ladderCommands() []command {
	return []command{
		{name: "promote", group: "Ladder", arguments: "REF", summary: "Ask that a version step up to a rung", least: 1, most: 1,
			example: "innerladder promote heat-demand@2 -to live -note \"better in wind\"",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				to := c.flags.String("to", "", "`RUNG` to step up to")
				note := c.flags.String("note", "", "`TEXT` for those who sign")
				return func(ctx context.Context) error {
					if *to == "" {
						return wrongUse("no rung is given; use -to")
					}
					return c.promotion(c.api.Promote(ctx, c.args[0], *to, *note))
				}
			}},
		{name: "sign", group: "Ladder", arguments: "P-NUMBER", summary: "Say yes or no to a promotion that someone else asked for", least: 1, most: 1,
			example: "innerladder sign P-1 -yes -note \"read the back-test\"",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				yes := c.flags.Bool("yes", false, "say yes")
				no := c.flags.Bool("no", false, "say no; needs -note")
				note := c.flags.String("note", "", "`TEXT`: why")
				return func(ctx context.Context) error {
					if *yes == *no {
						return wrongUse("say either -yes or -no")
					}
					answer := ladder.Yes
					if *no {
						answer = ladder.No
					}
					return c.promotion(c.api.Sign(ctx, c.args[0], answer, *note))
				}
			}},
		{name: "withdraw", group: "Ladder", arguments: "P-NUMBER", summary: "Take back a promotion that you asked for", least: 1, most: 1,
			example: "innerladder withdraw P-1 -why \"wrong version\"",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				why := c.flags.String("why", "", "`TEXT`: why")
				return func(ctx context.Context) error {
					return c.promotion(c.api.Withdraw(ctx, c.args[0], *why))
				}
			}},
		{name: "reviews", group: "Ladder", summary: "List promotions that wait for someone", most: 0, example: "innerladder reviews",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				all := c.flags.Bool("all", false, "those that are closed too")
				model := c.flags.String("model", "", "`MODEL`: only of this one")
				return func(ctx context.Context) error {
					state := string(ladder.Open)
					if *all {
						state = ""
					}
					found, err := c.api.Promotions(ctx, state, *model, client.Part{})
					return c.show(found, err, func() {
						if len(found.Items) == 0 {
							c.say("nothing waits")
						}
						for i, p := range found.Items {
							if i > 0 {
								fmt.Fprintln(c.Out)
							}
							printPromotion(c.Out, p)
						}
					})
				}
			}},
	}
}

// promotion prints the promotion that a call answered with.
func (c *call) promotion(p ladder.Promotion, err error) error {
	return c.show(p, err, func() { printPromotion(c.Out, p) })
}
