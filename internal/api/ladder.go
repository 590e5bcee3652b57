package api

import (
	"slices"
	"strconv"
	"strings"

	appladder "innerladder/internal/app/ladder"
	"innerladder/internal/core/access"
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/people"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

type (
	promotionIn struct {
		Promotion string `uri:"promotion" path:"promotion" json:"-" description:"P-NUMBER"`
	}
	projectIn struct {
		Project string `uri:"project" path:"project" json:"-"`
	}
)

// ladderWithETag is a ladder with the number of its revision as ETag.
type ladderWithETag struct{ ladder.Revision }

func (l ladderWithETag) ETag() string { return strconv.Quote(strconv.Itoa(l.Number)) }

// newLadder is a ladder that someone made, with why.
type newLadder struct {
	projectIn
	IfMatch string `header:"If-Match" json:"-" description:"the ETag of the ladder it was made from; refused with 412 when there is another"`
	ladder.Ladder
	Reason string `json:"reason" required:"true"`
}

// based reads the number of the revision that a ladder was made from, -1 for any.
func (n newLadder) based() (int, error) {
	tag := strings.Trim(strings.TrimSpace(n.IfMatch), `"`)
	if tag == "" || tag == "*" {
		return -1, nil
	}
	number, err := strconv.Atoi(tag)
	if err != nil {
		return 0, fault.New(fault.Invalid, "ladder.if_match", "If-Match is %q", n.IfMatch).In("If-Match").
			Do("give the ETag of the ladder, the number of a revision in quotes")
	}
	return number, nil
}

// ladderOperations are the routes of ladders, promotions, evidence, and what is signed.
func ladderOperations() []operation {
	return slices.Concat(gateOperations(), promotionOperations(), evidenceOperations())
}

// gateOperations are the routes about ladders and their gates.
func gateOperations() []operation {
	return []operation{
		op("GET", "/requirement-kinds", "listRequirementKinds", "What gates are made of", access.SignedIn, 200,
			func(call, *none) ([]rule.KindInfo, error) {
				return rule.Kinds(), nil
			}),
		op("GET", "/projects/{project}/ladder", "showLadder",
			"The rungs that the versions of a project climb and the gates between them, the lowest first; its ETag "+
				"is the number of its revision", access.Read, 200,
			func(c call, in *projectIn) (ladderWithETag, error) {
				l, err := c.app.Ladder.Ladder(c, c.by, in.Project)
				return ladderWithETag{l}, err
			}),
		op("PUT", "/projects/{project}/ladder", "setLadder", "Make the next revision of a project's ladder",
			access.Manage, 200, func(c call, in *newLadder) (ladderWithETag, error) {
				based, err := in.based()
				if err != nil {
					return ladderWithETag{}, err
				}
				l, err := c.app.Ladder.SetLadder(c, c.by, in.Project, in.Ladder, in.Reason, based)
				return ladderWithETag{l}, err
			}),
		op("GET", "/projects/{project}/ladder/revisions", "listLadderRevisions",
			"List the revisions of a project's ladder, newest first", access.Read, 200, func(c call, in *struct {
				projectIn
				pageIn
			},
			) (wire.Listed[ladder.Revision], error) {
				return listed(in.pageIn, func(p records.Page) (wire.Listed[ladder.Revision], error) {
					return c.app.Ladder.LadderRevisions(c, c.by, in.Project, p)
				})
			}),
		op("POST", "/projects/{project}/ladder/preview", "previewLadder",
			"What a ladder would let pass today; nothing is changed", access.Read, 200, func(c call, in *struct {
				projectIn
				Ladder *ladder.Ladder `json:"ladder,omitempty" description:"the present one when not given"`
			},
			) (ladder.Preview, error) {
				return c.app.Ladder.TryLadder(c, c.by, in.Project, in.Ladder)
			}),
	}
}

// promotionOperations are the routes about promotions.
func promotionOperations() []operation {
	return []operation{
		op("GET", "/promotions", "listPromotions", "List promotions, newest first", access.Read, 200,
			func(c call, in *struct {
				pageIn
				State   string `query:"state" enum:"waiting,open,to_review,carried_out,refused,withdrawn,expired" description:"waiting is open or to_review"`
				Model   string `query:"model"`
				Project string `query:"project"`
				AskedBy string `query:"asked_by"`
				ForMe   bool   `query:"for_me" description:"only those that wait for whoever asks"`
			},
			) (wire.Listed[ladder.Promotion], error) {
				return listed(in.pageIn, func(p records.Page) (wire.Listed[ladder.Promotion], error) {
					return c.app.Ladder.Promotions(c, c.by,
						appladder.PromotionSearch{PromotionFilter: records.PromotionFilter{
							State: in.State,
							Model: in.Model, Project: in.Project, AskedBy: in.AskedBy,
						}, ForMe: in.ForMe}, p)
				})
			}),
		op("POST", "/promotions", "promote", "Ask that a version step up to a rung", access.Ask, 201,
			func(c call, in *wire.NewPromotion) (*ladder.Promotion, error) {
				return c.app.Ladder.Promote(c, c.by, *in)
			}),
		op("GET", "/promotions/{promotion}", "showPromotion", "Show a promotion and what its gate says", access.Read,
			200, func(c call, in *promotionIn) (*ladder.Promotion, error) {
				return c.app.Ladder.Promotion(c, c.by, in.Promotion)
			}),
		op("GET", "/promotions/{promotion}/review", "showReview",
			"Everything that someone reads who reviews a promotion", access.Read, 200,
			func(c call, in *promotionIn) (wire.Review, error) {
				return c.app.Ladder.Review(c, c.by, in.Promotion)
			}),
		op("POST", "/promotions/{promotion}/sign-offs", "sign", "Answer a promotion; never by the one who asked",
			access.Sign, 201, func(c call, in *struct {
				promotionIn
				wire.NewAnswer
			},
			) (*ladder.Promotion, error) {
				return c.app.Ladder.Sign(c, c.by, in.Promotion, in.NewAnswer)
			}),
		op("POST", "/promotions/{promotion}/statement", "showStatement",
			"What one would sign by an answer, to sign it with one's own key; nothing is said yet", access.Sign, 200,
			func(c call, in *struct {
				promotionIn
				wire.NewAnswer
			},
			) (wire.StatementFor, error) {
				return c.app.Ladder.Statement(c, c.by, in.Promotion, in.NewAnswer)
			}),
		op("POST", "/promotions/{promotion}/ticks", "tick", "Say that one looked at an item of the checklist",
			access.Sign, 201, func(c call, in *struct {
				promotionIn
				wire.NewTick
			},
			) (*ladder.Promotion, error) {
				return c.app.Ladder.Tick(c, c.by, in.Promotion, in.NewTick)
			}),
		op("POST", "/promotions/{promotion}/carry-out", "carryOut",
			"Carry a promotion out whose gate is met, where that is done by hand", access.Ask, 200,
			func(c call, in *promotionIn) (*ladder.Promotion, error) {
				return c.app.Ladder.CarryOut(c, c.by, in.Promotion)
			}),
		op("POST", "/promotions/{promotion}/withdraw", "withdraw", "Take a promotion back; only by the one who asked",
			access.Ask, 200, func(c call, in *struct {
				promotionIn
				Reason string `json:"reason"`
			},
			) (*ladder.Promotion, error) {
				return c.app.Ladder.Withdraw(c, c.by, in.Promotion, in.Reason)
			}),
	}
}

// evidenceOperations are the routes about evidence, gates of versions, and what is signed.
func evidenceOperations() []operation {
	return []operation{
		op("GET", "/versions/{ref}/gate", "showGate",
			"What is met and what is missing for a version to step on a rung; nothing is asked for", access.Read, 200,
			func(c call, in *struct {
				refIn
				For string `query:"for" json:"-" description:"the rung; the next one when not given"`
			},
			) (wire.GateReport, error) {
				return c.app.Ladder.Gate(c, c.by, in.Ref, in.For)
			}),
		op("GET", "/versions/{ref}/vouchers", "showVouchers",
			"Who vouched for a version, for what, with which key, and whether it still fits the bytes that are stored",
			access.Read, 200, func(c call, in *refIn) (wire.Vouchers, error) {
				return c.app.Ladder.Vouchers(c, c.by, in.Ref)
			}),
		op("GET", "/versions/{ref}/evidence", "listEvidence", "List the reports of a version, newest first",
			access.Read, 200, func(c call, in *refIn) (wire.Listed[evidence.Evidence], error) {
				return c.app.Registry.EvidenceOf(c, c.by, in.Ref)
			}),
		op("GET", "/evidence/{evidence}", "showEvidence", "Show a report", access.Read, 200,
			func(c call, in *reportIn) (*evidence.Evidence, error) {
				return c.app.Registry.Report(c, c.by, in.Evidence)
			}),
		op("GET", "/signing-keys", "listSigningKeys",
			"List the keys with which one signs oneself, and the service signs", access.Own, 200,
			func(c call, _ *none) (wire.Listed[people.SigningKey], error) {
				return c.app.People.SigningKeys(c, c.by)
			}),
		op("POST", "/signing-keys", "addSigningKey", "Make a key known with which one signs", access.Own, 201,
			func(c call, in *struct {
				Public string `json:"public" required:"true" description:"an Ed25519 public key: 32 bytes in base64"`
				Title  string `json:"title,omitempty"`
			},
			) (people.SigningKey, error) {
				return c.app.People.AddSigningKey(c, c.by, in.Public, in.Title)
			}),
		op("DELETE", "/signing-keys", "endSigningKey", "Say that a key of one's own signs nothing any more", access.Own,
			200, func(c call, in *struct {
				Key string `query:"key" required:"true" json:"-" description:"its fingerprint"`
			},
			) (people.SigningKey, error) {
				return c.app.People.EndSigningKey(c, c.by, in.Key)
			}),
	}
}
