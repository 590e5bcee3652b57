package intake

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"

	"innerladder/internal/core/registry"
	"innerladder/internal/core/signature"
)

// largestDocument is how much of a PMML or JSON document is read.
const largestDocument = 128 << 20

// pmml gathers what a document declares.
type pmml struct {
	registry.Contents
	fields  map[string]*signature.Column
	order   []string
	current *signature.Column
	usage   map[string]string
	mining  []string
	outputs []signature.Column
	kind    string
	depth   int
	// modelDepth is the depth of the first model element; nested models are not ours.
	modelDepth int
	inOutput   bool
}

// readPMML reads data dictionary, mining schema and kind of model from a PMML document.
func readPMML(name string, r io.ReaderAt, size int64) (registry.Contents, error) {
	p := &pmml{
		Contents: registry.Contents{Format: registry.FormatPMML}, fields: map[string]*signature.Column{},
		usage: map[string]string{},
	}
	dec := xml.NewDecoder(io.NewSectionReader(r, 0, min(size, largestDocument)))
	dec.CharsetReader = func(charset string, in io.Reader) (io.Reader, error) {
		switch strings.ToLower(charset) {
		case "us-ascii", "ascii", "iso-8859-1", "latin1", "windows-1252":
			// names are ASCII in practice; others are made valid
			return in, nil
		}
		return nil, fmt.Errorf("the encoding %q is not known", charset)
	}
	root := false
	for {
		t, err := dec.RawToken()
		if err == io.EOF {
			break
		}
		if err != nil {
			var syntax *xml.SyntaxError
			if errors.As(err, &syntax) {
				return p.Contents, badFile(name, "PMML", dec.InputOffset(), "line %d: %s", syntax.Line, syntax.Msg)
			}
			return p.Contents, badFile(name, "PMML", dec.InputOffset(), "%v", err)
		}
		switch t := t.(type) {
		case xml.StartElement:
			if p.depth++; p.depth > 10_000 {
				return p.Contents, badFile(name, "PMML", dec.InputOffset(), "elements stand more than %d deep",
					p.depth-1)
			}
			if p.depth == 1 {
				if t.Name.Local != "PMML" || root {
					return p.Contents, badFile(name, "PMML", dec.InputOffset(), "the outermost element is %.40q",
						t.Name.Local)
				}
				root = true
			}
			if len(p.order)+len(p.mining)+len(p.outputs) > mostNames {
				return p.Contents, badFile(name, "PMML", dec.InputOffset(), "more than %d fields", mostNames)
			}
			p.element(t)
		case xml.EndElement:
			if p.depth--; p.depth < 0 {
				return p.Contents, badFile(name, "PMML", dec.InputOffset(), "an element is closed that was not opened")
			}
			switch t.Name.Local {
			case "DataField":
				p.current = nil
			case "Output":
				p.inOutput = false
			}
		}
	}
	switch {
	case !root:
		return p.Contents, badFile(name, "PMML", 0, "there is no PMML element in it")
	case p.depth > 0 && size <= largestDocument:
		return p.Contents, badFile(name, "PMML", size, "the document breaks off, %d elements are still open", p.depth)
	case size > largestDocument:
		p.Remarks = append(p.Remarks, fmt.Sprintf("only the first %d MiB were read", largestDocument>>20))
	}
	p.finish()
	return p.Contents, nil
}

func (p *pmml) element(t xml.StartElement) {
	attr := func(name string) string {
		for _, a := range t.Attr {
			if a.Name.Local == name {
				return cutText(a.Value)
			}
		}
		return ""
	}
	switch name := t.Name.Local; name {
	case "PMML":
		p.Say("pmml version", attr("version"))
	case "Header":
		p.Say("about", attr("description"))
		p.Say("copyright", attr("copyright"))
	case "Application":
		p.Say("producer", strings.TrimSpace(attr("name")+" "+attr("version")))
	case "DataField":
		p.current = &signature.Column{Name: attr("name"), Type: pmmlType(attr("dataType"), attr("optype"))}
		if _, twice := p.fields[p.current.Name]; !twice {
			p.fields[p.current.Name], p.order = p.current, append(p.order, p.current.Name)
		}
	case "Value":
		if c := p.current; c != nil && c.Type == signature.Text && attr("property") != "missing" &&
			attr("property") != "invalid" && len(c.Levels) < listed {
			c.Levels = append(c.Levels, attr("value"))
		}
	case "Interval":
		if c := p.current; c != nil && (c.Type == signature.Number || c.Type == signature.Integer) {
			c.Min, c.Max = pmmlNumber(attr("leftMargin")), pmmlNumber(attr("rightMargin"))
		}
	case "MiningField":
		if p.modelDepth > 0 && p.depth == p.modelDepth+2 {
			p.mining = append(p.mining, attr("name"))
			p.usage[attr("name")] = attr("usageType")
		}
	case "Output":
		p.inOutput = p.modelDepth > 0 && p.depth == p.modelDepth+1
	case "OutputField":
		if p.inOutput {
			p.outputs = append(p.outputs, signature.Column{
				Name: attr("name"),
				Type: pmmlType(attr("dataType"), attr("optype")),
			})
		}
	default:
		if p.depth == 2 && p.modelDepth == 0 &&
			(strings.HasSuffix(name, "Model") || strings.HasSuffix(name, "Network") || name == "Scorecard") {
			p.modelDepth, p.kind = p.depth, name
			p.Say("model kind", name)
			p.Say("model name", attr("modelName"))
			p.Say("function", attr("functionName"))
			p.Say("algorithm", attr("algorithmName"))
		}
	}
}

func pmmlNumber(s string) *float64 {
	x, err := strconv.ParseFloat(s, 64)
	if err != nil || math.IsNaN(x) || math.IsInf(x, 0) {
		return nil
	}
	return &x
}

func pmmlType(data, optype string) signature.Type {
	switch data {
	case "integer":
		return signature.Integer
	case "double", "float":
		return signature.Number
	case "boolean":
		return signature.Boolean
	case "":
		if optype == "continuous" {
			return signature.Number
		}
	}
	return signature.Text
}

// finish makes the signature: active fields go in, targets and declared outputs come
// out.
func (p *pmml) finish() {
	p.SayNumber("data fields", int64(len(p.order)))
	s := &signature.Signature{Inputs: []signature.Column{}, Outputs: []signature.Column{}}
	seen := map[string]bool{}
	for _, name := range p.mining {
		c := p.fields[name]
		if c == nil || seen[name] {
			continue
		}
		seen[name] = true
		switch p.usage[name] {
		case "", "active":
			s.Inputs = append(s.Inputs, *c)
		case "target", "predicted":
			s.Outputs = append(s.Outputs, *c)
		}
	}
	for _, c := range p.outputs {
		if !seen[c.Name] {
			seen[c.Name] = true
			s.Outputs = append(s.Outputs, c)
		}
	}
	if s.Check("artifact") == nil {
		p.Signature = s
	}
}
