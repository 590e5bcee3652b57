// Command make writes what the clients are made of: for Go the names of the types that the client's methods take and
// give, for Python a method for each operation of the document. It is run by make clients.
package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"go/format"
	"go/importer"
	"go/token"
	"go/types"
	"maps"
	"os"
	"regexp"
	"slices"
	"strings"
)

func main() {
	all := map[string]func() ([]byte, error){
		"clients/go/types.go": goTypes, "clients/python/innerladder_operations.py": pythonOperations,
	}
	if slices.Contains(os.Args[1:], "-python") { // without the types of Go, for which all of the source is read
		delete(all, "clients/go/types.go")
	}
	for file, write := range all {
		text, err := write()
		if err == nil {
			err = os.WriteFile(file, text, 0o644)
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, "making "+file+":", err)
			os.Exit(1)
		}
	}
}

// ours is where the packages are that nobody outside can name.
const ours = "innerladder/internal/"

// goTypes gives every type that somebody meets who calls the client a name of its own outside of internal.
func goTypes() ([]byte, error) {
	pkg, err := importer.ForCompiler(token.NewFileSet(), "source", nil).Import(ours + "client")
	if err != nil {
		return nil, err
	}
	met := &meeting{seen: map[types.Type]bool{}, names: map[string]*types.TypeName{}}
	scope := pkg.Scope()
	for _, name := range scope.Names() { // the client's own are called what they are
		if o, is := scope.Lookup(name).(*types.TypeName); is && o.Exported() {
			met.name(o)
		}
	}
	for _, name := range scope.Names() {
		if o := scope.Lookup(name); o.Exported() {
			met.meet(o.Type())
			if named, is := o.Type().(*types.Named); is {
				for m := range named.Methods() {
					if m.Exported() {
						met.meet(m.Type())
					}
				}
			}
		}
	}
	imports := map[string]string{}
	var lines []string
	for _, name := range slices.Sorted(maps.Keys(met.names)) {
		o := met.names[name]
		alias, there := imports[o.Pkg().Path()]
		if !there {
			alias = o.Pkg().Name()
			for _, other := range imports {
				if other == alias {
					parts := strings.Split(o.Pkg().Path(), "/")
					alias = parts[len(parts)-2] + alias
				}
			}
			imports[o.Pkg().Path()] = alias
		}
		params, args := "", ""
		if named, is := o.Type().(*types.Named); is && named.TypeParams().Len() > 0 {
			params, args = "[T any]", "[T]"
		}
		lines = append(lines, fmt.Sprintf("// %s is that of %s.\n%s%s = %s.%s%s", name, o.Pkg().Path(), name, params,
			alias, o.Name(), args))
	}
	var out bytes.Buffer
	out.WriteString("// Made by make clients from the client's methods; do not edit.\n\npackage client\n\nimport (\n")
	for _, path := range slices.Sorted(maps.Keys(imports)) {
		fmt.Fprintf(&out, "%s %q\n", imports[path], path)
	}
	fmt.Fprintf(&out, ")\n\ntype (\n%s\n)\n", strings.Join(lines, "\n"))
	return format.Source(out.Bytes())
}

// meeting follows types to those that they are made of.
type meeting struct {
	seen  map[types.Type]bool
	names map[string]*types.TypeName
}

func (m *meeting) meet(t types.Type) {
	if m.seen[t] {
		return
	}
	m.seen[t] = true
	switch t := t.(type) {
	case *types.Alias:
		m.meet(types.Unalias(t))
	case *types.Pointer:
		m.meet(t.Elem())
	case *types.Slice:
		m.meet(t.Elem())
	case *types.Array:
		m.meet(t.Elem())
	case *types.Map:
		m.meet(t.Key())
		m.meet(t.Elem())
	case *types.Signature:
		for v := range t.Params().Variables() {
			m.meet(v.Type())
		}
		for v := range t.Results().Variables() {
			m.meet(v.Type())
		}
	case *types.Struct:
		for f := range t.Fields() {
			if f.Exported() {
				m.meet(f.Type())
			}
		}
	case *types.Named:
		for i := range t.TypeArgs().Len() {
			m.meet(t.TypeArgs().At(i))
		}
		o := t.Origin().Obj()
		if o.Pkg() == nil || !strings.HasPrefix(o.Pkg().Path(), ours) || !o.Exported() {
			return
		}
		m.name(o)
		m.meet(t.Origin().Underlying())
	}
}

// name keeps a type under its own name, or with that of its package in front where another has it.
func (m *meeting) name(o *types.TypeName) {
	name := o.Name()
	if other := m.names[name]; other != nil && other != o {
		of := o.Pkg().Name()
		name = strings.ToUpper(of[:1]) + of[1:] + name
	}
	m.names[name] = o
}

// operation is what a method for an operation must know.
type operation struct {
	ID          string `json:"operationId"`
	Summary     string
	Description string
	Parameters  []struct{ Name, In, Description string }
	RequestBody *struct{ Content map[string]any }
	Responses   map[string]struct{ Content map[string]any }
}

var hump = regexp.MustCompile(`([a-z0-9])([A-Z])`)

// python is a name as Python writes names.
func python(name string) string {
	name = strings.ToLower(hump.ReplaceAllString(strings.NewReplacer("-", "_", ".", "_").Replace(name), "${1}_${2}"))
	if slices.Contains([]string{"from", "try", "with", "in", "is", "if", "for", "class", "import"}, name) {
		return name + "_"
	}
	return name
}

func pythonOperations() ([]byte, error) {
	b, err := os.ReadFile("docs/openapi.json")
	if err != nil {
		return nil, err
	}
	var doc struct {
		Paths map[string]map[string]operation
	}
	if err := json.Unmarshal(b, &doc); err != nil {
		return nil, err
	}
	var out bytes.Buffer
	out.WriteString("# Made by make clients from docs/openapi.json; do not edit.\n\n\nclass Operations:\n" +
		"    \"\"\"A method for each operation: what is in the path first, queries and headers by name.\"\"\"\n")
	for _, path := range slices.Sorted(maps.Keys(doc.Paths)) {
		for _, method := range slices.Sorted(maps.Keys(doc.Paths[path])) {
			o := doc.Paths[path][method]
			if _, streams := o.Responses["200"].Content["text/event-stream"]; streams {
				continue
			}
			writeMethod(&out, path, method, o)
		}
	}
	return out.Bytes(), nil
}

func writeMethod(out *bytes.Buffer, path, method string, o operation) {
	first, named := []string{"self"}, []string{}
	var query, headers []string
	for _, p := range o.Parameters {
		name := python(p.Name)
		switch p.In {
		case "path":
			first = append(first, name)
			path = strings.ReplaceAll(path, "{"+p.Name+"}", "{"+name+"}")
		case "query":
			named = append(named, name+"=None")
			query = append(query, fmt.Sprintf("%q: %s", p.Name, name))
		case "header":
			named = append(named, name+"=None")
			headers = append(headers, fmt.Sprintf("%q: %s", p.Name, name))
		}
	}
	if o.RequestBody != nil {
		first = append(first, "body=None")
	}
	if len(named) > 0 {
		first = append(append(first, "*"), named...)
	}
	call := fmt.Sprintf("%q, %s", strings.ToUpper(method), pathOf(path))
	if len(query) > 0 {
		call += ", query={" + strings.Join(query, ", ") + "}"
	}
	if len(headers) > 0 {
		call += ", headers={" + strings.Join(headers, ", ") + "}"
	}
	if o.RequestBody != nil {
		call += ", body=body"
	}
	fmt.Fprintf(out, "\n    def %s(%s):\n        %q\n        return self.call(%s)\n", python(o.ID),
		strings.Join(first, ", "), o.Summary+". "+o.Description, call)
}

// pathOf is a path with its parts quoted.
func pathOf(path string) string {
	if !strings.Contains(path, "{") {
		return fmt.Sprintf("%q", path)
	}
	return fmt.Sprintf("f%q", regexp.MustCompile(`\{(\w+)\}`).ReplaceAllString(path, "{self.quoted($1)}"))
}
