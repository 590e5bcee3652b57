package client

import (
	"context"

	"innerladder/internal/core/evidence"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/people"
	"innerladder/internal/wire"
)

// Ladder shows the ladder of a project.
func (c *Client) Ladder(ctx context.Context, project string) (ladder.Revision, error) {
	return call[ladder.Revision](ctx, c, "GET", path("projects", project, "ladder"), nil)
}

// SetLadder makes the next revision of a project's ladder. based is the revision it was
// made from, -1 for any.
func (c *Client) SetLadder(ctx context.Context, project string, l ladder.Ladder, why string,
	based int,
) (ladder.Revision, error) {
	return call[ladder.Revision](ctx, c, "PUT", path("projects", project, "ladder"), struct {
		ladder.Ladder
		Reason string `json:"reason"`
	}{l, why}, ifMatch(based)...)
}

// LadderRevisions lists the revisions of a project's ladder, newest first.
func (c *Client) LadderRevisions(ctx context.Context, project string, p Part) (wire.Listed[ladder.Revision], error) {
	return call[wire.Listed[ladder.Revision]](ctx, c, "GET",
		query(path("projects", project, "ladder", "revisions"), "limit", p.limit(), "cursor", p.Cursor), nil)
}

// TryLadder finds out what a ladder would let pass today; nil is the present one.
func (c *Client) TryLadder(ctx context.Context, project string, l *ladder.Ladder) (ladder.Preview, error) {
	return call[ladder.Preview](ctx, c, "POST", path("projects", project, "ladder", "preview"),
		map[string]any{"ladder": l})
}

// Promote asks that a version step up to a rung.
func (c *Client) Promote(ctx context.Context, ref, to, note string) (ladder.Promotion, error) {
	return c.Ask(ctx, wire.NewPromotion{Version: ref, To: to, Note: note})
}

// Ask asks for a promotion.
func (c *Client) Ask(ctx context.Context, n wire.NewPromotion) (ladder.Promotion, error) {
	return call[ladder.Promotion](ctx, c, "POST", path("promotions"), n)
}

// Promotion shows a promotion.
func (c *Client) Promotion(ctx context.Context, id string) (ladder.Promotion, error) {
	return call[ladder.Promotion](ctx, c, "GET", path("promotions", id), nil)
}

// Review shows everything that someone reads who reviews a promotion.
func (c *Client) Review(ctx context.Context, id string) (wire.Review, error) {
	return call[wire.Review](ctx, c, "GET", path("promotions", id, "review"), nil)
}

// PromotionSearch narrows promotions down; zero members do not.
type PromotionSearch struct {
	State, Model, Project, AskedBy string
	ForMe                          bool
}

// Promotions lists promotions, newest first.
func (c *Client) Promotions(ctx context.Context, s PromotionSearch, p Part) (wire.Listed[ladder.Promotion], error) {
	forMe := ""
	if s.ForMe {
		forMe = "true"
	}
	return call[wire.Listed[ladder.Promotion]](ctx, c, "GET",
		query(path("promotions"), "state", s.State, "model", s.Model, "project", s.Project, "asked_by", s.AskedBy,
			"for_me", forMe, "limit", p.limit(), "cursor", p.Cursor), nil)
}

// Sign answers a promotion with yes or no.
func (c *Client) Sign(ctx context.Context, id string, answer rule.Answer, note string) (ladder.Promotion, error) {
	return c.Answer(ctx, id, wire.NewAnswer{Answer: answer, Note: note})
}

// Answer answers a promotion.
func (c *Client) Answer(ctx context.Context, id string, n wire.NewAnswer) (ladder.Promotion, error) {
	return call[ladder.Promotion](ctx, c, "POST", path("promotions", id, "sign-offs"), n)
}

// Statement shows what one would sign by an answer.
func (c *Client) Statement(ctx context.Context, id string, n wire.NewAnswer) (wire.StatementFor, error) {
	return call[wire.StatementFor](ctx, c, "POST", path("promotions", id, "statement"), n)
}

// Tick says that one looked at an item of a checklist.
func (c *Client) Tick(ctx context.Context, id string, n wire.NewTick) (ladder.Promotion, error) {
	return call[ladder.Promotion](ctx, c, "POST", path("promotions", id, "ticks"), n)
}

// CarryOut carries a promotion out whose gate is met.
func (c *Client) CarryOut(ctx context.Context, id string) (ladder.Promotion, error) {
	return call[ladder.Promotion](ctx, c, "POST", path("promotions", id, "carry-out"), struct{}{})
}

// Withdraw takes a promotion back.
func (c *Client) Withdraw(ctx context.Context, id, why string) (ladder.Promotion, error) {
	return call[ladder.Promotion](ctx, c, "POST", path("promotions", id, "withdraw"), map[string]string{"reason": why})
}

// Gate says what is met and what is missing for a version to step on a rung; empty is the
// next one.
func (c *Client) Gate(ctx context.Context, ref, rung string) (wire.GateReport, error) {
	return call[wire.GateReport](ctx, c, "GET", query(path("versions", ref, "gate"), "for", rung), nil)
}

// Vouchers says who vouched for a version.
func (c *Client) Vouchers(ctx context.Context, ref string) (wire.Vouchers, error) {
	return call[wire.Vouchers](ctx, c, "GET", path("versions", ref, "vouchers"), nil)
}

// AttachEvidence attaches a report to a version.
func (c *Client) AttachEvidence(ctx context.Context, ref, kind, verdict, file string) (evidence.Evidence, error) {
	var out evidence.Evidence
	return out, c.sendForm(ctx, query(path("versions", ref, "evidence"), "kind", kind, "verdict", verdict), nil,
		[]LocalFile{{Part: "file", Path: file}}, &out)
}

// Evidence lists the reports of a version, newest first.
func (c *Client) Evidence(ctx context.Context, ref string) (wire.Listed[evidence.Evidence], error) {
	return call[wire.Listed[evidence.Evidence]](ctx, c, "GET", path("versions", ref, "evidence"), nil)
}

// Report shows a report.
func (c *Client) Report(ctx context.Context, id string) (evidence.Evidence, error) {
	return call[evidence.Evidence](ctx, c, "GET", path("evidence", id), nil)
}

// SigningKeys lists the keys with which people and the service sign.
func (c *Client) SigningKeys(ctx context.Context) (wire.Listed[people.SigningKey], error) {
	return call[wire.Listed[people.SigningKey]](ctx, c, "GET", path("signing-keys"), nil)
}

// AddSigningKey makes a key known with which one signs.
func (c *Client) AddSigningKey(ctx context.Context, public, title string) (people.SigningKey, error) {
	return call[people.SigningKey](ctx, c, "POST", path("signing-keys"),
		map[string]string{"public": public, "title": title})
}

// EndSigningKey says that a key of one's own signs nothing any more.
func (c *Client) EndSigningKey(ctx context.Context, fingerprint string) (people.SigningKey, error) {
	return call[people.SigningKey](ctx, c, "DELETE", query(path("signing-keys"), "key", fingerprint), nil)
}
