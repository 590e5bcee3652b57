package api

import (
	"io/fs"
	"path"
	"strings"

	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/static"
)

// Console holds the console's built files.
type Console struct{ Files fs.FS }

// notBuilt is shown where the console would be.
const notBuilt = `<!doctype html><html lang="en"><meta charset="utf-8"><title>Inner Ladder</title>
<body style="font:16px/1.5 system-ui,sans-serif;max-width:40em;margin:4em auto;padding:0 1em">
<h1>The console is not built into this binary</h1>
<p>The service works: the API is at <a href="/api/openapi.json">/api/openapi.json</a>, the command line is <code>innerladder</code>.</p>
<p>To have the console too, run this in the source tree (it needs Node.js), and start the new binary:</p>
<pre>make build</pre></body></html>`

// mount serves the console's files. Every path that is no file is a page of the console,
// which finds its own way from there.
func (k Console) mount(app *fiber.App) {
	index, err := fs.ReadFile(k.Files, "index.html")
	if err != nil {
		app.Get("/*", func(c fiber.Ctx) error {
			c.Set(fiber.HeaderContentType, fiber.MIMETextHTMLCharsetUTF8)
			return c.SendString(notBuilt)
		})
		return
	}
	app.Get("/assets/*", static.New("assets", static.Config{FS: k.Files, MaxAge: 365 * 24 * 3600}))
	app.Get("/*", func(c fiber.Ctx) error {
		if name := strings.TrimPrefix(path.Clean(c.Path()), "/"); path.Ext(name) != "" {
			if b, err := fs.ReadFile(k.Files, name); err == nil {
				c.Type(path.Ext(name))
				return c.Send(b)
			}
			return fiber.ErrNotFound
		}
		c.Set(fiber.HeaderContentType, fiber.MIMETextHTMLCharsetUTF8)
		c.Set(fiber.HeaderCacheControl, "no-cache")
		return c.Send(index)
	})
}
