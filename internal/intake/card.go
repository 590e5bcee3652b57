package intake

import (
	"bufio"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/registry"

	"go.yaml.in/yaml/v3"
)

// largestCard is the largest model card, and the largest list of requirements.
const largestCard = 1 << 20

// largestFront is the largest front matter of a card.
const largestFront = 64 << 10

// ReadCard reads a model card: Markdown, with YAML front matter when it begins with a
// line of three hyphens.
func ReadCard(name string, r io.Reader) (*registry.Card, error) {
	bad := func(detail string, args ...any) error {
		return fault.New(fault.Invalid, "card.unreadable", "%s: %s", name, fmt.Sprintf(detail, args...)).In("card").
			Do("give Markdown, with YAML front matter between two lines of --- if you like")
	}
	b, err := io.ReadAll(io.LimitReader(r, largestCard+1))
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", name, err)
	}
	if len(b) > largestCard {
		return nil, bad("the card is larger than %d KiB", largestCard>>10)
	}
	if !utf8.Valid(b) || slices.Contains(b, 0) {
		return nil, bad("the card is no UTF-8 text")
	}
	text := strings.ReplaceAll(strings.TrimPrefix(string(b), "\ufeff"), "\r\n", "\n")
	if strings.TrimSpace(text) == "" {
		return nil, bad("the card is empty")
	}
	c := &registry.Card{Text: text}
	body, front, found := frontMatter(text)
	if len(front) > largestFront {
		return nil, bad("the front matter is larger than %d KiB", largestFront>>10)
	}
	if found {
		if c.Facts, err = flatten(front); err != nil {
			return nil, bad("front matter: %v", err)
		}
	}
	c.Sections = sections(body)
	for _, f := range c.Facts {
		if f.Name == "licence" || f.Name == "license" {
			c.Licence = f.Value
		}
	}
	if i := slices.IndexFunc(c.Sections, func(s registry.CardSection) bool { return s.Kind == "licence" }); i >= 0 &&
		c.Licence == "" {
		c.Licence, _, _ = strings.Cut(strings.TrimSpace(c.Sections[i].Body), "\n")
		c.Licence = cutText(c.Licence[:min(len(c.Licence), 100)])
	}
	return c, nil
}

// frontMatter cuts the YAML off the text.
func frontMatter(text string) (body, front string, found bool) {
	rest, ok := strings.CutPrefix(text, "---\n")
	if !ok {
		return text, "", false
	}
	if after, ok := strings.CutPrefix(rest, "---\n"); ok {
		return after, "", true
	}
	front, body, found = strings.Cut(rest, "\n---\n")
	if !found {
		if f, ok := strings.CutSuffix(rest, "\n---"); ok {
			return "", f, true
		}
		return text, "", false
	}
	return body, front, true
}

const (
	// mostFacts and deepestFacts bound the front matter.
	mostFacts, deepestFacts = 200, 8
)

// flatten makes named values of a YAML mapping: nested names are joined with a dot,
// lists with commas. It reads nodes, not values, so aliases are not opened and nothing
// can grow.
func flatten(front string) ([]registry.Fact, error) {
	var doc yaml.Node
	if err := yaml.Unmarshal([]byte(front), &doc); err != nil {
		return nil, err
	}
	if len(doc.Content) == 0 {
		return nil, nil
	}
	if doc.Content[0].Kind != yaml.MappingNode {
		return nil, fmt.Errorf("line %d is no NAME: VALUE", doc.Content[0].Line)
	}
	var facts []registry.Fact
	var walk func(prefix string, n *yaml.Node, depth int)
	walk = func(prefix string, n *yaml.Node, depth int) {
		if len(facts) >= mostFacts || depth > deepestFacts {
			return
		}
		switch n.Kind {
		case yaml.MappingNode:
			for i := 0; i+1 < len(n.Content); i += 2 {
				name := cutText(n.Content[i].Value)
				if prefix != "" {
					name = prefix + "." + name
				}
				walk(name, n.Content[i+1], depth+1)
			}
		case yaml.SequenceNode:
			var parts []string
			for _, item := range n.Content {
				if item.Kind == yaml.ScalarNode && len(parts) < 50 {
					parts = append(parts, item.Value)
				}
			}
			facts = append(facts, registry.Fact{Name: prefix, Value: cutText(strings.Join(parts, ", "))})
		case yaml.ScalarNode:
			facts = append(facts, registry.Fact{Name: prefix, Value: cutText(n.Value)})
		}
	}
	walk("", doc.Content[0], 0)
	return facts, nil
}

// ReadRequirements reads a requirements file of Python's package installer: one
// requirement a line. Options and other files that it refers to are passed over, which
// remarks say.
func ReadRequirements(name string, r io.Reader) (list []registry.Dependency, remarks []string, err error) {
	bad := func(line int, detail string, args ...any) error {
		return fault.New(fault.Invalid, "requirements.unreadable", "%s, line %d: %s", name, line,
			fmt.Sprintf(detail, args...)).In("requirements").
			Do("write one requirement a line, such as numpy==2.1.0")
	}
	in := bufio.NewScanner(io.LimitReader(r, largestCard+1))
	in.Buffer(nil, 1<<16)
	n, read, joined := 0, 0, ""
	for in.Scan() {
		n++
		read += len(in.Bytes()) + 1
		line := joined + strings.ToValidUTF8(strings.TrimPrefix(in.Text(), "\ufeff"), "�")
		if more, ok := strings.CutSuffix(line, `\`); ok {
			joined = more
			continue
		}
		joined = ""
		if i := strings.Index(line, " #"); i >= 0 {
			line = line[:i]
		}
		line = strings.TrimSpace(line)
		switch {
		case line == "" || line[0] == '#':
			continue
		case line[0] == '-':
			if len(remarks) < 20 {
				remarks = append(remarks, fmt.Sprintf("%s, line %d: %s was passed over", name, n,
					cutText(line[:min(len(line), 80)])))
			}
			continue
		}
		d, ok := requirement(line)
		if !ok {
			return nil, nil, bad(n, "%.80q is no requirement", line)
		}
		if i := slices.IndexFunc(list, func(o registry.Dependency) bool { return o.Name == d.Name }); i >= 0 {
			// The same package under several markers.
			list[i].Extra = strings.TrimSpace(list[i].Extra + " | " + strings.TrimSpace(d.Want+" "+d.Extra))
			continue
		}
		if len(list) >= mostNames {
			return nil, nil, bad(n, "more than %d requirements", mostNames)
		}
		list = append(list, d)
	}
	if err := in.Err(); err != nil {
		return nil, nil, bad(n+1, "%v", err)
	}
	if read > largestCard {
		return nil, nil, bad(n, "the file is larger than %d KiB", largestCard>>10)
	}
	slices.SortFunc(list, func(a, b registry.Dependency) int { return strings.Compare(a.Name, b.Name) })
	return list, remarks, nil
}

// requirement takes one line apart: name, extras, versions, marker, address.
func requirement(line string) (registry.Dependency, bool) {
	end := strings.IndexFunc(line, func(r rune) bool {
		letter := r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z'
		return !letter && !(r >= '0' && r <= '9') && r != '.' && r != '_' && r != '-'
	})
	if end < 0 {
		end = len(line)
	}
	d := registry.Dependency{Name: registry.PackageName(line[:end])}
	if strings.Trim(d.Name, "-") == "" || len(d.Name) > 200 {
		return d, false
	}
	rest := strings.TrimSpace(line[end:])
	rest, hashes, _ := strings.Cut(rest, " --hash")
	var extra []string
	if strings.HasPrefix(rest, "[") {
		inner, after, closed := strings.Cut(rest[1:], "]")
		if !closed {
			return d, false
		}
		extra, rest = append(extra, "["+inner+"]"), strings.TrimSpace(after)
	}
	rest, marker, marked := strings.Cut(rest, ";")
	rest = strings.TrimSpace(rest)
	switch {
	case strings.HasPrefix(rest, "@"):
		extra = append(extra, strings.TrimSpace(rest))
	case rest != "":
		if !strings.ContainsRune("=<>!~(", rune(rest[0])) {
			return d, false
		}
		d.Want = strings.Join(strings.Fields(strings.Trim(rest, "()")), "")
	}
	if marked {
		extra = append(extra, "; "+strings.TrimSpace(marker))
	}
	if hashes != "" {
		extra = append(extra, "with hashes")
	}
	d.Want, d.Extra = cutText(d.Want), cutText(strings.Join(extra, " "))
	return d, true
}
