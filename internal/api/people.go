package api

import (
	"slices"

	"innerladder/internal/core/access"
	"innerladder/internal/core/glossary"
	"innerladder/internal/core/notice"
	"innerladder/internal/core/people"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

type (
	personIn struct {
		Person string `uri:"person" path:"person" json:"-"`
	}
	memberIn struct {
		personIn
		Project string `uri:"project" path:"project" json:"-" description:"a project's name, or * for all projects and the service itself"`
		Role    string `uri:"role" path:"role" json:"-"`
	}
	roleIn struct {
		Role string `uri:"role" path:"role" json:"-"`
	}
	becauseIn struct {
		Reason string `query:"reason" json:"-"`
	}
)

// peopleOperations lists the routes about people, roles and what everyone has of their
// own.
func peopleOperations() []operation {
	return slices.Concat(personOperations(), tokenOperations(), ownOperations())
}

// personOperations are the routes about people and their roles.
func personOperations() []operation {
	return []operation{
		op("GET", "/people", "listPeople", "List the people and robots that you may know of", access.Read, 200,
			func(c call, in *pageIn) (wire.Listed[people.Person], error) {
				all, err := c.app.People.People(c, c.by)
				return partOf(*in, all, err, func(p people.Person) string { return p.Name })
			}),
		op("POST", "/people", "addPerson", "Add a person, with a link that lets them in once, or a robot",
			access.Manage, 201, func(c call, in *wire.NewPerson) (wire.AddedPerson, error) {
				return c.app.People.AddPerson(c, c.by, *in)
			}),
		op("PATCH", "/people/{person}", "editPerson",
			"Change an account: its e-mail address, or whether it may sign in", access.Administer, 200,
			func(c call, in *struct {
				personIn
				wire.PersonEdit
			},
			) (people.Person, error) {
				return c.app.People.EditPerson(c, c.by, in.Person, in.PersonEdit)
			}),
		op("POST", "/people/{person}/invitation", "invite",
			"Make a new link that lets a person in once, to choose a password", access.Administer, 201,
			func(c call, in *personIn) (wire.AddedPerson, error) {
				return c.app.People.Invite(c, c.by, in.Person)
			}),
		op("PUT", "/people/{person}/memberships/{project}/{role}", "giveRole", "Give someone a role in a project",
			access.Manage, 200, func(c call, in *memberIn) (people.Person, error) {
				return c.app.People.GiveRole(c, c.by, in.Person, access.Membership{Project: in.Project, Role: in.Role})
			}),
		op("DELETE", "/people/{person}/memberships/{project}/{role}", "takeRole",
			"Take a role in a project away from someone", access.Manage, 200, func(c call, in *struct {
				memberIn
				becauseIn
			},
			) (people.Person, error) {
				role := access.Membership{Project: in.Project, Role: in.Role}
				return c.app.People.TakeRole(c, c.by, in.Person, role, in.Reason)
			}),
		op("GET", "/roles", "listRoles", "List the roles with their permissions", access.Read, 200,
			func(c call, in *pageIn) (wire.Listed[access.Role], error) {
				all, err := c.app.People.Roles(c, c.by)
				if err != nil {
					return all, err
				}
				return all, nil // built-in ones first, in their order; there are few
			}),
		op("PUT", "/roles/{role}", "putRole", "Make a role, or change one that was made here", access.Administer, 200,
			func(c call, in *struct {
				roleIn
				Permissions []string `json:"permissions" required:"true"`
				Description string   `json:"description,omitempty"`
			},
			) (access.Role, error) {
				return c.app.People.PutRole(c, c.by, in.Role, in.Permissions, in.Description)
			}),
		op("DELETE", "/roles/{role}", "removeRole", "Remove a role that nobody has", access.Administer, 200,
			func(c call, in *roleIn) (access.Role, error) {
				return c.app.People.RemoveRole(c, c.by, in.Role)
			}),
		op("GET", "/glossary", "glossary", "What the words mean", access.SignedIn, 200,
			func(_ call, _ *none) (wire.Listed[glossary.Term], error) {
				return wire.Listed[glossary.Term]{Items: glossary.Terms()}, nil
			}),
		op("GET", "/permissions", "listPermissions", "What roles are made of", access.SignedIn, 200,
			func(_ call, _ *none) ([]access.Described, error) {
				return access.Permissions(), nil
			}),
	}
}

// tokenOperations are the routes about tokens.
func tokenOperations() []operation {
	return []operation{
		op("GET", "/tokens", "listTokens", "List your tokens, or those of a robot that you keep", access.Own, 200,
			func(c call, in *struct {
				Robot string `query:"robot" json:"-"`
			},
			) (wire.Listed[people.Token], error) {
				return c.app.People.Tokens(c, c.by, in.Robot)
			}),
		op("POST", "/tokens", "makeToken", "Make a token for yourself or for a robot; it is shown once", access.Own,
			201, func(c call, in *wire.NewToken) (wire.MadeToken, error) {
				return c.app.People.MakeToken(c, c.by, *in)
			}),
		op("DELETE", "/tokens/{token}", "endToken", "Take a token away", access.Own, 200, func(c call, in *struct {
			Token int64 `uri:"token" path:"token" json:"-"`
		},
		) (people.Token, error) {
			return c.app.People.EndToken(c, c.by, in.Token)
		}),
	}
}

// ownOperations are the routes about what is one's own.
func ownOperations() []operation {
	return []operation{
		op("GET", "/me/sessions", "listSessions", "Where you are signed in to the console", access.Own, 200,
			func(c call, _ *none) (wire.Listed[people.Session], error) {
				return c.app.People.Sessions(c, c.by)
			}),
		op("DELETE", "/me/sessions", "endOtherSessions", "Sign out everywhere else", access.Own, 200,
			func(c call, _ *none) (struct{}, error) {
				return c.app.People.EndOtherSessions(c, c.by)
			}),
		op("PUT", "/me/password", "changePassword",
			"Choose another password; ends your other sessions, and your tokens if you say so", access.Own,
			200, func(c call, in *struct {
				Old      string `json:"old" description:"the present password"`
				Password string `json:"password" required:"true"`
				Tokens   bool   `json:"end_tokens,omitempty" description:"take all your tokens away, too"`
			},
			) (struct{}, error) {
				return struct{}{}, c.app.People.ChangePassword(c, c.by, in.Old, in.Password, in.Tokens)
			}).inConsole(),
		op("PUT", "/me/project", "useProject", "Choose where what you add goes when you name no project", access.Own,
			200, func(c call, in *struct {
				Project string `json:"project" required:"true" description:"empty for none"`
			},
			) (wire.Me, error) {
				return c.app.People.UseProject(c, c.by, in.Project)
			}),
		op("GET", "/me/inbox", "inbox", "Your notices, newest first", access.Own, 200, func(c call, in *struct {
			pageIn
			Unread bool `query:"unread" json:"-" description:"only those that were not read"`
		},
		) (wire.Listed[notice.Notice], error) {
			return listed(in.pageIn, func(p records.Page) (wire.Listed[notice.Notice], error) {
				return c.app.Notices.Inbox(c, c.by, in.Unread, p)
			})
		}),
		op("POST", "/me/inbox/read", "markRead", "Mark a notice as read, with all before it unless alone", access.Own,
			200, func(c call, in *struct {
				Notice int64 `json:"notice" required:"true" description:"the id of a notice"`
				Alone  bool  `json:"alone,omitempty"`
			},
			) (struct{}, error) {
				return c.app.Notices.MarkRead(c, c.by, in.Notice, in.Alone)
			}),
		op("GET", "/me/preferences", "showPreferences", "What reaches you, and how", access.Own, 200,
			func(c call, _ *none) (wire.Preferences, error) {
				return c.app.Notices.Preferences(c, c.by)
			}),
		op("PUT", "/me/preferences", "setPreferences", "Choose what reaches you, and how", access.Own, 200,
			func(c call, in *struct {
				Choices notice.Choices `json:"choices" required:"true" description:"channels (inbox, mail) by topic"`
			},
			) (wire.Preferences, error) {
				return c.app.Notices.SetPreferences(c, c.by, in.Choices)
			}),
	}
}
