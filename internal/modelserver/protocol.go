package modelserver

import (
	"fmt"

	"innerladder/internal/oip"

	"github.com/gofiber/fiber/v3"
)

// Protocol is the Open Inference Protocol over HTTP for a server of one model.
type Protocol struct {
	// Server is what it says of itself.
	Server oip.ServerMetadata
	// Model is what the model takes and gives; its name is that by which it is asked.
	Model oip.ModelMetadata
	// Ready says why it is not ready; nil when it is.
	Ready func() error
	// Infer answers a request.
	Infer fiber.Handler
}

// Routes lays the protocol's routes out.
func (p Protocol) Routes(app *fiber.App) {
	ready := func(c fiber.Ctx) error {
		if err := p.Ready(); err != nil {
			return Refuse(c, 503, err.Error())
		}
		return c.JSON(fiber.Map{"name": p.Model.Name, "ready": true})
	}
	app.Get("/v2", func(c fiber.Ctx) error { return c.JSON(p.Server) })
	app.Get("/v2/health/live", func(c fiber.Ctx) error { return c.JSON(fiber.Map{"live": true}) })
	app.Get("/v2/health/ready", ready)
	app.Get("/v2/models/:model", p.known(func(c fiber.Ctx) error { return c.JSON(p.Model) }))
	app.Get("/v2/models/:model/ready", p.known(ready))
	app.Post("/v2/models/:model/infer", p.known(p.Infer))
}

// known lets pass what is about the model that is served here.
func (p Protocol) known(next fiber.Handler) fiber.Handler {
	return func(c fiber.Ctx) error {
		if name := c.Params("model"); name != p.Model.Name {
			return Refuse(c, 404, fmt.Sprintf("there is no model %q here; this is %q", name, p.Model.Name))
		}
		return next(c)
	}
}

// Refuse answers with an error as the protocol writes it.
func Refuse(c fiber.Ctx, status int, why string) error {
	return c.Status(status).JSON(oip.Error{Error: why})
}
