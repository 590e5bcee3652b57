package api

import (
	"bytes"
	"crypto/rand"
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
<body>
<h1>The console is not built into this binary</h1>
<p>The service works: the API is at <a href="/api/openapi.json">/api/openapi.json</a>, the command line is <code>innerladder</code>.</p>
<p>To have the console too, run this in the source tree (it needs Node.js), and start the new binary:</p>
<pre>make build</pre></body></html>`

// consolePolicy says what the console's pages may load and do: what this service sends,
// nothing inline but styles with the nonce, which dialogs add while they are open.
func consolePolicy(nonce string) string {
	return "default-src 'none'; script-src 'self'; style-src 'self' 'nonce-" + nonce +
		"'; img-src 'self' data:; font-src 'self'; connect-src 'self'; " +
		"frame-ancestors 'none'; base-uri 'none'; form-action 'self'"
}

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
		nonce := rand.Text()
		c.Set(fiber.HeaderContentType, fiber.MIMETextHTMLCharsetUTF8)
		c.Set(fiber.HeaderCacheControl, "no-store") // the page is good once, with this nonce
		c.Set(fiber.HeaderContentSecurityPolicy, consolePolicy(nonce))
		return c.Send(bytes.ReplaceAll(index, []byte("__NONCE__"), []byte(nonce)))
	})
}
