package api

import (
	"encoding/json"
	"fmt"
	"maps"
	"path"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"sync"

	"innerladder/internal/wire"

	"github.com/swaggest/jsonschema-go"
	"github.com/swaggest/openapi-go"
	"github.com/swaggest/openapi-go/openapi31"
)

// Document is the OpenAPI 3.1 document, built from the same list as the routes: once, and not before somebody asks for
// it, since that takes most of a second.
var Document = sync.OnceValues(describe)

func describe() ([]byte, error) {
	r := openapi31.NewReflector()
	r.DefaultOptions = append(r.DefaultOptions, jsonschema.InterceptDefName(named{}.name),
		jsonschema.InterceptProp(required), jsonschema.InterceptSchema(rawJSON))
	spec := r.SpecEns()
	spec.Info.Title = "Inner Ladder"
	spec.Info.Version = "v1"
	spec.Info.WithDescription("Register model versions, promote them through approval stages, split traffic, compare " +
		"versions, roll back. " +
		"Times are UTC; shares are basis points. Lists take limit and cursor. POST requests that create something " +
		"take an Idempotency-Key.")
	spec.SetHTTPBearerTokenSecurity("token", "opaque", "A token that was given to a person, or to a robot.")
	spec.SetAPIKeySecurity("session", sessionCookie, openapi.InCookie, "Whoever is signed in to the console.")
	spec.WithServers(openapi31.Server{URL: "/"})
	spec.ComponentsEns().Responses = refusals()
	used := map[string]bool{}
	for _, o := range operations() {
		c, err := r.NewOperationContext(o.method, base+o.path)
		if err != nil {
			return nil, fmt.Errorf("describing %s: %w", o.id, err)
		}
		c.SetID(o.id)
		c.SetSummary(o.summary)
		c.SetDescription(o.described())
		tag := strings.Split(o.path, "/")[1]
		if used[tag] = true; tags[tag] == "" {
			return nil, fmt.Errorf("nobody has said what %s are", tag)
		}
		c.SetTags(tag)
		if o.alone != nil {
			c.AddReqStructure(o.alone)
		}
		c.AddReqStructure(o.in)
		if o.method == "POST" && o.status == 201 && o.id != "register" && o.id != "addPerson" {
			c.AddReqStructure(new(repeatIn))
		}
		status := openapi.WithHTTPStatus(o.status)
		switch {
		case o.produces != "":
			c.AddRespStructure(new(string), status, openapi.WithContentType(o.produces))
		case o.out != nil:
			c.AddRespStructure(o.out, status)
		default:
			c.AddRespStructure(nil, status)
		}
		c.AddRespStructure(new(wire.Problem), func(cu *openapi.ContentUnit) { cu.IsDefault = true },
			openapi.WithContentType(wire.ProblemType))
		if oc, ok := c.(openapi31.OperationExposer); ok {
			o.complete(oc.Operation())
		}
		if err := r.AddOperation(c); err != nil {
			return nil, fmt.Errorf("describing %s: %w", o.id, err)
		}
	}
	for _, tag := range slices.Sorted(maps.Keys(used)) {
		about := tags[tag]
		spec.Tags = append(spec.Tags, openapi31.Tag{Name: tag, Description: &about})
	}
	return json.MarshalIndent(spec, "", "  ")
}

// named gives each type the name of its schema. Of two types that would share one, the second has the name of its
// package in front.
type named map[string]reflect.Type

func (n named) name(t reflect.Type, given string) string {
	name := schemaName(t, given)
	if other, there := n[name]; there && name != "" && other != t {
		of := path.Base(t.PkgPath())
		name = strings.ToUpper(of[:1]) + of[1:] + name
	}
	n[name] = t
	return name
}

// repeatIn describes the header that makes a repeated call harmless.
type repeatIn struct {
	Key string `header:"Idempotency-Key" description:"a repeated call with the same key changes nothing and gets the first answer"`
}

var listOf = regexp.MustCompile(`^Listed\[.*\.(\w+)\]$`)

// schemaName names a schema after its Go type, without the package.
func schemaName(t reflect.Type, _ string) string {
	name := t.Name()
	if m := listOf.FindStringSubmatch(name); m != nil {
		return m[1] + "List"
	}
	switch {
	case strings.HasSuffix(t.PkgPath(), "/sketch") && name == "Column":
		return "ColumnCounts" // what was counted in a column; Column is what it is
	}
	switch name {
	case "withETag":
		return "EndpointWithSplit"
	case "":
		return name
	}
	return strings.ToUpper(name[:1]) + name[1:]
}

// required marks members that are always there: those of answers that are not left out
// when empty.
func required(p jsonschema.InterceptPropParams) error {
	if !p.Processed || p.ParentSchema == nil {
		return nil
	}
	tag, ok := p.Field.Tag.Lookup("json")
	if !ok || tag == "-" {
		return nil
	}
	// What is there is never null: empty members are left out, or are empty lists.
	if p.PropertySchema != nil {
		p.PropertySchema.RemoveType(jsonschema.Null)
	}
	if strings.Contains(tag, "omitempty") || strings.Contains(tag, "omitzero") {
		return nil
	}
	if !slices.Contains(p.ParentSchema.Required, p.Name) {
		p.ParentSchema.Required = append(p.ParentSchema.Required, p.Name)
	}
	return nil
}

// rawJSON says that a raw message is any JSON.
func rawJSON(p jsonschema.InterceptSchemaParams) (bool, error) {
	if p.Value.Type() == reflect.TypeFor[json.RawMessage]() {
		*p.Schema = jsonschema.Schema{}
		return true, nil
	}
	return false, nil
}
