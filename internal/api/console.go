package api

import (
	"bytes"
	"crypto/rand"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"

	"github.com/gofiber/fiber/v3"
	"github.com/valyala/fasthttp"
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

// assets is where the console's files are whose names have a hash of what they hold, so that they never change.
const assets = "/assets/"

// packedFiles serves such files, packed as browsers can take them. Each is packed once, when it is first asked for.
type packedFiles struct {
	files  fs.FS
	packed sync.Map // of name and encoding, to bytes
}

// encodings are the ways in which files are packed, the smallest first. Whoever comes first waits for it: brotli's best
// takes twenty times as long as this for 7 % less.
var encodings = []struct {
	name string
	pack func(dst, src []byte, level int) []byte
	how  int
}{
	{"br", fasthttp.AppendBrotliBytesLevel, 6},
	{"zstd", fasthttp.AppendZstdBytesLevel, fasthttp.CompressZstdBestCompression},
	{"gzip", fasthttp.AppendGzipBytesLevel, fasthttp.CompressBestCompression},
}

func (p *packedFiles) serve(c fiber.Ctx) error {
	name := strings.TrimPrefix(path.Clean(c.Path()), "/")
	plain, err := fs.ReadFile(p.files, name)
	if err != nil {
		return fiber.ErrNotFound
	}
	c.Type(path.Ext(name))
	c.Set(fiber.HeaderCacheControl, "public, max-age=31536000, immutable")
	c.Set(fiber.HeaderVary, fiber.HeaderAcceptEncoding)
	if !slices.Contains([]string{".js", ".css", ".svg", ".map"}, path.Ext(name)) {
		return c.Send(plain)
	}
	for _, e := range encodings {
		if c.Get(fiber.HeaderAcceptEncoding) == "" || c.AcceptsEncodings(e.name) == "" {
			continue
		}
		c.Set(fiber.HeaderContentEncoding, e.name)
		if done, there := p.packed.Load(name + " " + e.name); there {
			return c.Send(done.([]byte))
		}
		done := e.pack(nil, plain, e.how)
		p.packed.Store(name+" "+e.name, done)
		return c.Send(done)
	}
	return c.Send(plain)
}

// mount serves the console's files. Every path that is no file is a page of the console,
// which finds its own way from there. Packed packs what is sent.
func (k Console) mount(app *fiber.App, packed fiber.Handler) {
	index, err := fs.ReadFile(k.Files, "index.html")
	if err != nil {
		app.Get("/*", func(c fiber.Ctx) error {
			c.Set(fiber.HeaderContentType, fiber.MIMETextHTMLCharsetUTF8)
			return c.SendString(notBuilt)
		})
		return
	}
	files := packedFiles{files: k.Files}
	app.Get(assets+"*", files.serve)
	app.Get("/*", packed, func(c fiber.Ctx) error {
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
