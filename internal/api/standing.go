package api

import (
	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/check"
	"innerladder/internal/core/job"
	"innerladder/internal/core/standing"
	"innerladder/internal/wire"

	"github.com/gofiber/fiber/v3"
)

// standingOperations are the routes about what every version of a model is put to.
func standingOperations() []operation {
	return []operation{
		{
			method: "PUT", path: "/models/{model}/standing", id: "setStanding",
			summary: "Have every new version of a model evaluated, on a table that is the body, a data set, or an " +
				"address; in the place of what was set before",
			permission: access.Manage, status: 200, streams: true, takes: takesTable,
			in: new(wire.NewStanding), out: new(standing.Standing), handle: (*API).setStanding,
		},
		op("GET", "/models/{model}/standing", "showStanding",
			"Show what every new version of a model is evaluated on, and how far each is", access.Read, 200,
			func(c call, in *modelIn) (wire.StandingShown, error) { return c.app.Proof.Standing(c, c.by, in.Model) }),
		op("DELETE", "/models/{model}/standing", "removeStanding", "Have new versions of a model evaluated on nothing",
			access.Manage, 200, func(c call, in *struct {
				modelIn
				becauseIn
			},
			) (*standing.Standing, error) {
				return c.app.Proof.RemoveStanding(c, c.by, in.Model, in.Reason)
			}),
		op("POST", "/versions/{ref}/standing", "runStanding",
			"Put a version to the standing evaluation of its model, whether it was before or not", access.Register, 201,
			func(c call, in *refIn) (*job.Job, error) { return c.app.Proof.RunStanding(c, c.by, in.Ref) }),
		op("PUT", "/models/{model}/cases", "setCases",
			"Set what every version of a model must answer, a YAML file; in the place of what was set before",
			access.Manage, 200, func(c call, in *struct {
				modelIn
				Text   string `json:"text" required:"true"`
				Reason string `json:"reason,omitempty"`
			},
			) (*check.Kept, error) {
				return c.app.Proof.SetCases(c, c.by, in.Model, in.Text, in.Reason)
			}),
		op("GET", "/models/{model}/cases", "showCases", "Show what every version of a model must answer", access.Read,
			200, func(c call, in *modelIn) (*check.Kept, error) { return c.app.Proof.Cases(c, c.by, in.Model) }),
		op("DELETE", "/models/{model}/cases", "removeCases", "Take the cases of a model away", access.Manage, 200,
			func(c call, in *struct {
				modelIn
				becauseIn
			},
			) (*check.Kept, error) {
				return c.app.Proof.RemoveCases(c, c.by, in.Model, in.Reason)
			}),
	}
}

func (a *API) setStanding(c fiber.Ctx, by act.Actor) error {
	var in wire.NewStanding
	if err := read(c, &in); err != nil {
		return err
	}
	e, err := a.app.Proof.SetStanding(c.Context(), by, in, bodyOf(c))
	if err != nil {
		hearOut(c, heardOut)
		return err
	}
	return c.JSON(e)
}
