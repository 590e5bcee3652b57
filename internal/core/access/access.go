// Package access decides who may do what where: permissions, the roles that bundle them,
// and the rights that someone's roles in projects add up to.
package access

import (
	"maps"
	"slices"
	"strings"

	"innerladder/internal/core/fault"
)

// Permission names one thing that someone may do in a project.
type Permission string

// The permissions, in the order in which they are shown.
const (
	// Read is needed to see that anything of a project exists.
	Read     Permission = "read"
	Comment  Permission = "comment"
	Register Permission = "register"
	Ask      Permission = "ask"
	Sign     Permission = "sign"
	Override Permission = "override"
	Place    Permission = "place"
	Route    Permission = "route"
	Handle   Permission = "handle"
	Inspect  Permission = "inspect"
	Report   Permission = "report"
	Prune    Permission = "prune"
	Audit    Permission = "audit"
	Manage   Permission = "manage"
	// Administer is about the service itself, so it counts only Everywhere.
	Administer Permission = "administer"

	// Own is what everyone may do: look after their own things. It is in no role, and no token that is narrowed down
	// has it. SignedIn is what whoever is signed in may do, with whatever token.
	Own      Permission = "own"
	SignedIn Permission = "signed_in"
)

// Described is a permission with what it allows.
type Described struct {
	Name Permission `json:"name"`
	What string     `json:"what"`
}

// Enum lists the permissions for the document of the API.
func (Permission) Enum() []any {
	all := Permissions()
	names := make([]any, len(all))
	for i, p := range all {
		names[i] = p.Name
	}
	return names
}

// Permissions lists what roles are made of.
func Permissions() []Described {
	return []Described{
		{Read, "see models, versions, endpoints, promotions, alerts and what happens"},
		{Comment, "comment on what happened"},
		{Register, "register versions, data sets and runs; labels, tags, notes"},
		{Ask, "ask for promotions"},
		{Sign, "sign promotions, vet models"},
		{Override, "carry a promotion out past its gate, in an emergency"},
		{Place, "place versions in environments"},
		{Route, "add endpoints, change splits, return to earlier ones, give keys to callers"},
		{Handle, "acknowledge and resolve alerts"},
		{Inspect, "see single requests with what was asked and answered, and try them again"},
		{Report, "tell the truth of earlier predictions, and values of custom signals"},
		{Prune, "retire, reinstate and delete versions"},
		{Audit, "search, verify and export the record, with values before and after"},
		{Manage, "give roles in the project, keep its environments with their headers, its robots and webhooks"},
		{Administer, "people, projects, secrets, settings, backup; only for the whole service"},
	}
}

// What says what a permission allows.
func What(p Permission) string {
	for _, d := range Permissions() {
		if d.Name == p {
			return d.What
		}
	}
	return string(p)
}

// Everywhere stands for all projects and the service itself.
const Everywhere = "*"

// Set is a set of permissions.
type Set map[Permission]bool

// SetOf makes a set.
func SetOf(permissions ...Permission) Set {
	s := Set{}
	for _, p := range permissions {
		s[p] = true
	}
	return s
}

// List lists the set in the order in which permissions are shown.
func (s Set) List() []Permission {
	out := []Permission{}
	for _, d := range Permissions() {
		if s[d.Name] {
			out = append(out, d.Name)
		}
	}
	return out
}

// ParseSet reads permissions by name; all of them need read, so it is added.
func ParseSet(field string, names []string) (Set, error) {
	known := SetOf()
	all := []string{}
	for _, d := range Permissions() {
		known[d.Name] = true
		all = append(all, string(d.Name))
	}
	out := Set{}
	for _, n := range names {
		if !known[Permission(n)] {
			return nil, fault.New(fault.Invalid, "permission.unknown", "%q is no permission", n).In(field).
				Do("use some of %s", strings.Join(all, ", "))
		}
		out[Permission(n)] = true
	}
	if len(out) == 0 {
		return nil, fault.New(fault.Invalid, "permission.none", "no permission is named").In(field).
			Do("name some of %s", strings.Join(all, ", "))
	}
	out[Read] = true
	return out, nil
}

// Role is a named set of permissions.
type Role struct {
	Name        string       `json:"name"`
	Permissions []Permission `json:"permissions"`
	Description string       `json:"description,omitempty"`
	// BuiltIn roles cannot be changed.
	BuiltIn bool `json:"built_in,omitempty"`
}

// Set is the role's permissions.
func (r Role) Set() Set { return SetOf(r.Permissions...) }

// Owner is the role that may do everything.
const Owner = "owner"

// BuiltIn lists the roles that every project has.
func BuiltIn() []Role {
	var all []Permission
	for _, d := range Permissions() {
		all = append(all, d.Name)
	}
	return []Role{
		{"reader", []Permission{Read}, "sees everything of the project, changes nothing", true},
		{
			"author",
			[]Permission{Read, Comment, Register, Ask, Report},
			"registers versions, asks for promotions, tells the truth of predictions", true,
		},
		{"approver", []Permission{Read, Comment, Sign, Audit}, "signs promotions and looks into the record", true},
		{
			"operator",
			[]Permission{Read, Comment, Place, Route, Handle, Inspect, Report, Audit},
			"places versions, splits traffic, rolls back, handles alerts, looks into requests", true,
		},
		{Owner, all, "everything in the project; given for all projects, the service itself", true},
	}
}

// Membership is a role that someone has in a project.
type Membership struct {
	Project string `json:"project" description:"a project's name, or * for all projects and the service itself"`
	Role    string `json:"role"`
}

// Rights are what someone may do, by project. Its zero value may nothing.
type Rights struct{ by map[string]Set }

// RightsOf adds up memberships; roles that are not known give nothing.
func RightsOf(memberships []Membership, roles []Role) Rights {
	sets := map[string]Set{}
	for _, r := range roles {
		sets[r.Name] = r.Set()
	}
	out := Rights{map[string]Set{}}
	for _, m := range memberships {
		s := out.by[m.Project]
		if s == nil {
			s = Set{}
			out.by[m.Project] = s
		}
		maps.Copy(s, sets[m.Role])
	}
	// The service is no project's own.
	for project, s := range out.by {
		if project != Everywhere {
			delete(s, Administer)
		}
	}
	return out
}

// All are the rights of the service itself.
func All() Rights {
	return RightsOf([]Membership{{Everywhere, Owner}}, BuiltIn())
}

// May reports whether something may be done in a project; the empty project is the
// service itself.
func (r Rights) May(p Permission, project string) bool {
	return ofAll(p) || r.by[Everywhere][p] || (project != "" && r.by[project][p])
}

// ofAll reports whether a permission is everyone's.
func ofAll(p Permission) bool { return p == Own || p == SignedIn }

// Somewhere reports whether something may be done in any project at all.
func (r Rights) Somewhere(p Permission) bool {
	if ofAll(p) {
		return true
	}
	for _, s := range r.by {
		if s[p] {
			return true
		}
	}
	return false
}

// Without are the rights but for some permissions.
func (r Rights) Without(permissions ...Permission) Rights {
	out := Rights{map[string]Set{}}
	for project, s := range r.by {
		out.by[project] = maps.Clone(s)
		for _, p := range permissions {
			delete(out.by[project], p)
		}
	}
	return out
}

// OfPersons are the permissions that no robot can have: what they stand for is that a person has looked.
var OfPersons = []Permission{Sign}

// Where lists the projects in which something may be done; all reports whether it may be
// done in every one.
func (r Rights) Where(p Permission) (projects []string, all bool) {
	if r.by[Everywhere][p] {
		return nil, true
	}
	projects = []string{}
	for project, s := range r.by {
		if s[p] {
			projects = append(projects, project)
		}
	}
	slices.Sort(projects)
	return projects, false
}

// In lists what may be done in a project.
func (r Rights) In(project string) Set {
	out := maps.Clone(r.by[project])
	if out == nil {
		out = Set{}
	}
	maps.Copy(out, r.by[Everywhere])
	if project != Everywhere {
		delete(out, Administer)
	}
	return out
}

// Covers reports whether r holds everything that a set would give in a project: nobody
// can give what they do not have.
func (r Rights) Covers(s Set, project string) bool {
	has := r.In(project)
	for p := range s {
		if p == Administer && project != Everywhere {
			continue // gives nothing there
		}
		if !has[p] {
			return false
		}
	}
	return true
}

// Scope narrows a token down: to some permissions, to some projects. Its zero value
// narrows nothing.
type Scope struct {
	Permissions []Permission `json:"permissions,omitempty" description:"all that its owner has when absent"`
	Projects    []string     `json:"projects,omitempty" description:"all that its owner is in when absent"`
}

// Within narrows rights down to a scope.
func (r Rights) Within(s Scope) Rights {
	out := Rights{map[string]Set{}}
	narrow := func(project string, has Set) {
		if len(s.Permissions) == 0 {
			out.by[project] = maps.Clone(has)
			return
		}
		kept := Set{}
		for _, p := range s.Permissions {
			if has[p] {
				kept[p] = true
			}
		}
		out.by[project] = kept
	}
	if len(s.Projects) == 0 {
		for project, has := range r.by {
			narrow(project, has)
		}
		return out
	}
	for _, project := range s.Projects {
		narrow(project, r.In(project))
	}
	return out
}
