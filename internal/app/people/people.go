package people

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/people"
	"innerladder/internal/credential"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// linksLast is how long a link lets someone in.
const linksLast = 7 * 24 * time.Hour

// AddPerson adds a person, with a link by which they come in, or a robot.
func (s *Service) AddPerson(ctx context.Context, by act.Actor, n wire.NewPerson) (wire.AddedPerson, error) {
	if err := naming.Check("name", n.Name); err != nil {
		return wire.AddedPerson{}, err
	}
	if err := people.CheckEmail(n.Email); err != nil {
		return wire.AddedPerson{}, err
	}
	switch {
	case n.Name == act.Itself:
		return wire.AddedPerson{}, fault.New(fault.Invalid, "person.reserved", "%s is what the service calls itself",
			n.Name).In("name").Do("choose another name")
	case n.Robot && n.Email != "":
		return wire.AddedPerson{}, fault.New(fault.Invalid, "person.robot_email", "a robot has no e-mail address").
			In("email").Do("leave it out")
	}
	// What is shown once must not be kept for repeated calls; a repeated name is refused.
	by = by.WithoutRepeat()
	p := access.Administer
	if n.Robot {
		p = access.Manage // in each project that it gets a role in
	}
	return act.Change(ctx, s.Base, by, p, func(t *act.Tx) (wire.AddedPerson, error) {
		out := wire.AddedPerson{Person: people.Person{
			Name: n.Name, Email: n.Email, Robot: n.Robot, AddedBy: t.By.Name,
			AddedAt: t.Now, Memberships: []access.Membership{},
		}}
		if _, err := t.PersonNamed(ctx, n.Name); err == nil {
			return out, fault.New(fault.Refused, "person.exists", "there is somebody called %s already", n.Name).
				In("name").Do("choose another name")
		} else if !errors.Is(err, records.ErrNone) {
			return out, err
		}
		if err := checkEmailFree(ctx, t, n.Email, 0); err != nil {
			return out, err
		}
		project := ""
		if n.Robot { // whoever keeps a project may keep its robots
			if len(n.Memberships) == 0 {
				return out, fault.New(fault.Invalid, "person.robot_role", "no role is given").In("memberships").
					Do("give the robot a role in a project")
			}
			project = n.Memberships[0].Project
		}
		if err := t.Need(project); err != nil {
			return out, err
		}
		if err := t.View.AddPerson(ctx, out.Person); err != nil {
			return out, err
		}
		what := "a person"
		if n.Robot {
			what = "a robot"
		}
		if err := t.Note(ctx, act.Entry{
			Project: project, Kind: "person.added", Subject: n.Name,
			Sentence: n.Name + " was added, " + what + ".", After: out.Person,
		}); err != nil {
			return out, err
		}
		made, err := t.PersonNamed(ctx, n.Name)
		if err != nil {
			return out, err
		}
		for _, m := range n.Memberships {
			if err := s.give(ctx, t, made, m); err != nil {
				return out, err
			}
			out.Memberships = append(out.Memberships, m)
		}
		if !n.Robot {
			out.Link, err = s.link(ctx, t, made)
		}
		return out, err
	})
}

func checkEmailFree(ctx context.Context, t *act.Tx, email string, but int64) error {
	if email == "" {
		return nil
	}
	other, err := t.PersonByEmail(ctx, email)
	if errors.Is(err, records.ErrNone) || (err == nil && other.ID == but) {
		return nil
	}
	if err != nil {
		return err
	}
	return fault.New(fault.Refused, "person.email_taken", "%s has the e-mail address %s already", other.Name, email).
		In("email").Do("give every person an address of their own")
}

// link makes a link that lets someone in once; nil is the first owner.
func (s *Service) link(ctx context.Context, t *act.Tx, p *people.Person) (string, error) {
	secret, digest := credential.Token("")
	id := int64(0)
	if p != nil {
		id = p.ID
	}
	return s.address + "/welcome#" + secret, t.AddLink(ctx, id, digest, t.By.Name, t.Now, t.Now.Add(linksLast))
}

// Invite makes a new link for someone who lost theirs, or their password. An earlier link
// ends.
func (s *Service) Invite(ctx context.Context, by act.Actor, name string) (wire.AddedPerson, error) {
	return act.Change(ctx, s.Base, by.WithoutRepeat(), access.Administer, func(t *act.Tx) (wire.AddedPerson, error) {
		p, err := s.FindPerson(ctx, t.View, name)
		if err != nil {
			return wire.AddedPerson{}, err
		}
		if p.Robot || p.Disabled != nil {
			return wire.AddedPerson{}, fault.New(fault.Refused, "person.no_link",
				"%s cannot sign in", name).In("person").
				Do("make a token for a robot; let a person in again first")
		}
		link, err := s.link(ctx, t, p)
		if err != nil {
			return wire.AddedPerson{}, err
		}
		return wire.AddedPerson{Person: *p, Link: link}, t.Note(ctx,
			act.Entry{
				Kind: "person.invited", Subject: name,
				Sentence: name + " was given a link to choose a password.",
			})
	})
}

// FindPerson finds a person or robot by name.
func (s *Service) FindPerson(ctx context.Context, r records.View, name string) (*people.Person, error) {
	p, err := r.PersonNamed(ctx, name)
	if errors.Is(err, records.ErrNone) {
		return nil, nobody(name)
	}
	return p, err
}

// Known finds someone of whom whoever acts may know: a robot belongs to its projects, and there is none for those who
// see none of these.
func (s *Service) Known(ctx context.Context, r records.View, by act.Actor, name string) (*people.Person, error) {
	p, err := s.FindPerson(ctx, r, name)
	if err == nil && p.Robot && !knows(by, p) {
		return nil, nobody(name)
	}
	return p, err
}

// knows reports whether someone is in a project that whoever acts sees.
func knows(by act.Actor, p *people.Person) bool {
	return len(shown(*p, by).Memberships) > 0 || by.Rights.May(access.Administer, "")
}

func nobody(name string) error {
	return fault.New(fault.Unknown, "person.unknown", "there is nobody called %q", name).In("person").
		Do("see who there is with: innerladder people")
}

// EditPerson changes an account.
func (s *Service) EditPerson(ctx context.Context, by act.Actor, name string, e wire.PersonEdit) (people.Person, error) {
	if e.Email != nil {
		if err := people.CheckEmail(*e.Email); err != nil {
			return people.Person{}, err
		}
	}
	return act.Change(ctx, s.Base, by, access.Administer, func(t *act.Tx) (people.Person, error) {
		p, err := s.FindPerson(ctx, t.View, name)
		if err != nil {
			return people.Person{}, err
		}
		before := *p
		sentence := name + " was changed."
		if e.Email != nil {
			if p.Robot && *e.Email != "" {
				return *p, fault.New(fault.Invalid, "person.robot_email", "a robot has no e-mail address").In("email").
					Do("leave it out")
			}
			if err := checkEmailFree(ctx, t, *e.Email, p.ID); err != nil {
				return *p, err
			}
			if err := t.SetEmail(ctx, p.ID, *e.Email); err != nil {
				return *p, err
			}
			p.Email = *e.Email
			sentence = name + " has another e-mail address."
		}
		if e.Disabled != nil && *e.Disabled != (p.Disabled != nil) {
			p.Disabled = nil
			sentence = name + " was let in again."
			if *e.Disabled {
				p.Disabled = &t.Now
				sentence = name + " was shut out."
				if err := t.EndSessionsOf(ctx, p.ID, nil); err != nil {
					return *p, err
				}
			}
			if err := t.SetDisabled(ctx, p.ID, p.Disabled); err != nil {
				return *p, err
			}
			if err := s.someoneKeepsTheService(ctx, t); err != nil {
				return *p, err
			}
		}
		return *p, t.Note(ctx, act.Entry{
			Kind: "person.changed", Subject: name, Sentence: sentence, Reason: e.Reason,
			Before: before, After: p,
		})
	})
}

// someoneKeepsTheService refuses a change after which nobody could add people any more.
func (s *Service) someoneKeepsTheService(ctx context.Context, t *act.Tx) error {
	all, err := t.View.People(ctx)
	if err != nil {
		return err
	}
	for i := range all {
		rights, err := t.RightsOf(ctx, &all[i])
		if err != nil {
			return err
		}
		if !all[i].Robot && all[i].Disabled == nil && rights.May(access.Administer, "") {
			return nil
		}
	}
	return fault.New(fault.Refused, "person.last_owner", "nobody would be left who may add people").In("person").
		Do("make someone else an owner of the service first")
}

// roleNamed finds a role.
func roleNamed(ctx context.Context, r records.View, name string) (access.Role, error) {
	roles, err := allRoles(ctx, r)
	if err != nil {
		return access.Role{}, err
	}
	var names []string
	for _, role := range roles {
		if role.Name == name {
			return role, nil
		}
		names = append(names, role.Name)
	}
	return access.Role{}, fault.New(fault.Unknown, "role.unknown", "there is no role %q", name).In("role").
		Do("%s", act.Exist("roles", names))
}

func allRoles(ctx context.Context, r records.View) ([]access.Role, error) {
	own, err := r.Roles(ctx)
	return append(access.BuiltIn(), own...), err
}

// give gives someone a role, if whoever acts has all that it gives.
func (s *Service) give(ctx context.Context, t *act.Tx, p *people.Person, m access.Membership) error {
	role, err := s.checkGift(ctx, t, m)
	if err != nil {
		return err
	}
	if slices.Contains(p.Memberships, m) {
		return nil
	}
	if p.Robot && m.Project == access.Everywhere && role.Set()[access.Administer] {
		return fault.New(fault.Refused, "member.robot", "a robot does not keep the service").In("role").
			Do("give it a smaller role")
	}
	if p.Robot {
		if err := forRobots(role); err != nil {
			return err
		}
	}
	if err := t.PutMembership(ctx, p.ID, m, t.By.Name, t.Now); err != nil {
		return err
	}
	return t.Note(ctx, act.Entry{
		Needs: access.Manage, Project: m.Project, Kind: "member.added", Subject: p.Name,
		Sentence: fmt.Sprintf("%s became %s of %s.", p.Name, m.Role, whereOf(m)), After: m,
	})
}

// forRobots refuses a role for a robot that gives what only persons may.
func forRobots(role access.Role) error {
	for _, p := range access.OfPersons {
		if role.Set()[p] {
			return fault.New(fault.Refused, "member.robot", "a robot can never %s, and the role %s says it may", p,
				role.Name).In("role").Do("give it a role without the permission %q", p)
		}
	}
	return nil
}

func whereOf(m access.Membership) string {
	if m.Project == access.Everywhere {
		return "all projects"
	}
	return m.Project
}

// checkGift refuses a membership that whoever acts cannot give or take.
func (s *Service) checkGift(ctx context.Context, t *act.Tx, m access.Membership) (access.Role, error) {
	if m.Project != access.Everywhere {
		if err := s.CheckProject(ctx, t.View, m.Project); err != nil {
			return access.Role{}, err
		}
	}
	role, err := roleNamed(ctx, t.View, m.Role)
	if err != nil {
		return role, err
	}
	if err := t.By.Need(access.Manage, m.Project); err != nil {
		return role, err
	}
	if !t.By.Rights.Covers(role.Set(), m.Project) {
		return role, fault.New(fault.Forbidden, "member.more_than_own", "%s gives more than %s has in %s", m.Role,
			t.By.Name, whereOf(m)).In("role").Do("ask someone with that role, or give a smaller one")
	}
	return role, nil
}

// GiveRole gives someone a role in a project.
func (s *Service) GiveRole(ctx context.Context, by act.Actor, name string, m access.Membership) (people.Person, error) {
	return act.Change(ctx, s.Base, by, access.Manage, func(t *act.Tx) (people.Person, error) {
		if _, err := s.checkGift(ctx, t, m); err != nil {
			return people.Person{}, err
		}
		p, err := s.Known(ctx, t.View, t.By, name)
		if err != nil {
			return people.Person{}, err
		}
		if err := s.give(ctx, t, p, m); err != nil {
			return *p, err
		}
		after, err := t.PersonNamed(ctx, name)
		if err != nil {
			return *p, err
		}
		return shown(*after, t.By), nil
	})
}

// TakeRole takes a role in a project away from someone.
func (s *Service) TakeRole(ctx context.Context, by act.Actor, name string, m access.Membership,
	reason string,
) (people.Person, error) {
	return act.Change(ctx, s.Base, by, access.Manage, func(t *act.Tx) (people.Person, error) {
		// Who may give a role may also take it away, and nobody else.
		if _, err := s.checkGift(ctx, t, m); err != nil {
			return people.Person{}, err
		}
		p, err := s.Known(ctx, t.View, t.By, name)
		if err != nil {
			return people.Person{}, err
		}
		if !slices.Contains(p.Memberships, m) {
			return *p, fault.New(fault.Unknown, "member.unknown", "%s is not %s of %s", name, m.Role, whereOf(m)).
				In("role").Do("see who has which role with: innerladder people")
		}
		if err := t.RemoveMembership(ctx, p.ID, m); err != nil {
			return *p, err
		}
		if err := s.someoneKeepsTheService(ctx, t); err != nil {
			return *p, err
		}
		after, err := t.PersonNamed(ctx, name)
		if err != nil {
			return *p, err
		}
		return shown(*after, t.By),
			t.Note(ctx, act.Entry{
				Project: m.Project, Kind: "member.removed", Subject: name,
				Sentence: fmt.Sprintf("%s is no longer %s of %s.", name, m.Role, whereOf(m)), Reason: reason, Before: m,
			})
	})
}

// shown is a person as the actor may see them: the e-mail address is for those who keep
// accounts, memberships for those who see the project.
func shown(p people.Person, a act.Actor) people.Person {
	if p.Name != a.Name && !a.Rights.May(access.Administer, "") {
		p.Email = ""
		p.Memberships = slices.DeleteFunc(slices.Clone(p.Memberships), func(m access.Membership) bool {
			return m.Project != access.Everywhere && !a.Rights.May(access.Read, m.Project)
		})
	}
	return p
}

// People lists everyone whom the actor may know of: those in the same projects, and
// every person for those who keep a project.
func (s *Service) People(ctx context.Context, by act.Actor) (wire.Listed[people.Person], error) {
	if err := by.May(access.Read); err != nil {
		return wire.Listed[people.Person]{}, err
	}
	all, err := s.DB.Read(records.Everything).People(ctx)
	out := wire.Listed[people.Person]{Items: []people.Person{}}
	for _, p := range all {
		known := knows(by, &p) || p.Name == by.Name || !p.Robot && by.Rights.Somewhere(access.Manage)
		if p = shown(p, by); known {
			out.Items = append(out.Items, p)
		}
	}
	return out, err
}

// Roles lists the roles.
func (s *Service) Roles(ctx context.Context, by act.Actor) (wire.Listed[access.Role], error) {
	if err := by.May(access.Read); err != nil {
		return wire.Listed[access.Role]{}, err
	}
	roles, err := allRoles(ctx, s.DB.Read(records.Everything))
	return wire.Listed[access.Role]{Items: roles}, err
}

// PutRole makes a role or changes one that was made here.
func (s *Service) PutRole(ctx context.Context, by act.Actor, name string, permissions []string,
	description string,
) (access.Role, error) {
	if err := naming.Check("role", name); err != nil {
		return access.Role{}, err
	}
	set, err := access.ParseSet("permissions", permissions)
	if err != nil {
		return access.Role{}, err
	}
	role := access.Role{Name: name, Permissions: set.List(), Description: description}
	return act.Change(ctx, s.Base, by, access.Administer, func(t *act.Tx) (access.Role, error) {
		before, err := roleNamed(ctx, t.View, name)
		if err == nil && before.BuiltIn {
			return role, fault.New(fault.Refused, "role.built_in", "%s is built in", name).In("role").
				Do("make one with another name")
		}
		if err := s.suitsRobots(ctx, t, role); err != nil {
			return role, err
		}
		if err := t.View.PutRole(ctx, role, t.By.Name, t.Now); err != nil {
			return role, err
		}
		if err := s.someoneKeepsTheService(ctx, t); err != nil {
			return role, err
		}
		e := act.Entry{
			Kind: "role.changed", Subject: name,
			Sentence: fmt.Sprintf("The role %s may %s.", name, joined(role.Permissions)), Reason: description,
			After: role,
		}
		if err == nil {
			e.Before = before
		}
		return role, t.Note(ctx, e)
	})
}

// suitsRobots refuses a role that robots have and that would give them what only persons may.
func (s *Service) suitsRobots(ctx context.Context, t *act.Tx, role access.Role) error {
	unfit := forRobots(role)
	if unfit == nil {
		return nil
	}
	all, err := t.View.People(ctx)
	for _, p := range all {
		has := func(m access.Membership) bool { return m.Role == role.Name }
		if p.Robot && slices.ContainsFunc(p.Memberships, has) {
			return fault.New(fault.Refused, "role.of_robot", "%v; %s is a robot and has it", unfit, p.Name).
				In("permissions").Do("give the robot another role first")
		}
	}
	return err
}

func joined(permissions []access.Permission) string {
	names := make([]string, len(permissions))
	for i, p := range permissions {
		names[i] = string(p)
	}
	return strings.Join(names, ", ")
}

// RemoveRole removes a role that nobody has.
func (s *Service) RemoveRole(ctx context.Context, by act.Actor, name string) (access.Role, error) {
	return act.Change(ctx, s.Base, by, access.Administer, func(t *act.Tx) (access.Role, error) {
		role, err := roleNamed(ctx, t.View, name)
		if err != nil {
			return role, err
		}
		if role.BuiltIn {
			return role, fault.New(fault.Refused, "role.built_in", "%s is built in", name).In("role").
				Do("only roles that were made here can be removed")
		}
		all, err := t.View.People(ctx)
		if err != nil {
			return role, err
		}
		for _, p := range all {
			if slices.ContainsFunc(p.Memberships, func(m access.Membership) bool { return m.Role == name }) {
				return role, fault.New(fault.Refused, "role.in_use", "%s has the role %s", p.Name, name).In("role").
					Do("take it away from everyone first")
			}
		}
		if err := t.View.RemoveRole(ctx, name); err != nil {
			return role, err
		}
		return role, t.Note(ctx, act.Entry{
			Kind: "role.removed", Subject: name,
			Sentence: "The role " + name + " was removed.", Before: role,
		})
	})
}
