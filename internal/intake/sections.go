package intake

import (
	"bytes"
	"slices"
	"strings"

	"innerladder/internal/core/registry"

	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/ast"
	"github.com/yuin/goldmark/text"
)

// headings are the words in a heading by which a section of a card is recognised, the
// first match wins.
var headings = []struct {
	kind  string
	words []string
}{
	{"limits", []string{"limit", "out of scope", "out-of-scope", "bias", "risk", "caveat", "known issue"}},
	{"intended_use", []string{"intended", "use", "purpose", "what it is for"}},
	{"licence", []string{"licence", "license"}},
	{"contact", []string{"contact", "author", "owner", "maintainer"}},
	{"data", []string{"data", "training set"}},
}

// sections cuts a card at its headings, as CommonMark knows them: those with hashes and those
// that are underlined, but not what looks like one within code, a list or a quotation.
func sections(body string) []registry.CardSection {
	source := []byte(body)
	var out []registry.CardSection
	begin := 0 // of the body of the last section
	put := func(end int) {
		if len(out) > 0 {
			out[len(out)-1].Body = strings.Trim(body[begin:end], "\n")
		}
	}
	document := goldmark.DefaultParser().Parse(text.NewReader(source))
	for n := document.FirstChild(); n != nil && len(out) < mostFacts; n = n.NextSibling() {
		h, ok := n.(*ast.Heading)
		if !ok {
			continue
		}
		from, to := extent(h, source)
		put(from)
		begin = to
		title := plain(h, source)
		out = append(out, registry.CardSection{Kind: sectionKind(title), Title: cutText(title)})
	}
	put(len(body))
	return out
}

// extent is where the lines of a heading begin and end; the line under an underlined one
// belongs to it.
func extent(h *ast.Heading, source []byte) (from, to int) {
	from = h.Pos()
	if from < 0 && h.Lines().Len() > 0 {
		from = h.Lines().At(0).Start
	}
	from = bytes.LastIndexByte(source[:max(from, 0)], '\n') + 1
	last := from
	if n := h.Lines().Len(); n > 0 {
		last = max(last, h.Lines().At(n-1).Stop-1)
	}
	to = lineEnd(source, last)
	if !bytes.HasPrefix(bytes.TrimLeft(source[from:to], " "), []byte("#")) {
		to = lineEnd(source, to)
	}
	return from, to
}

// lineEnd is where the line after the one at a position begins.
func lineEnd(source []byte, at int) int {
	if i := bytes.IndexByte(source[min(at, len(source)):], '\n'); i >= 0 {
		return at + i + 1
	}
	return len(source)
}

// plain is the text of a heading without its marks.
func plain(h *ast.Heading, source []byte) string {
	var b strings.Builder
	_ = ast.Walk(h, func(n ast.Node, entering bool) (ast.WalkStatus, error) {
		if t, ok := n.(*ast.Text); ok && entering {
			b.Write(t.Segment.Value(source))
			if t.SoftLineBreak() || t.HardLineBreak() {
				b.WriteByte(' ')
			}
		}
		return ast.WalkContinue, nil
	})
	return strings.TrimSpace(b.String())
}

func sectionKind(title string) string {
	lower := strings.ToLower(title)
	for _, h := range headings {
		if slices.ContainsFunc(h.words, func(w string) bool { return strings.Contains(lower, w) }) {
			return h.kind
		}
	}
	return ""
}
