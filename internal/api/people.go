package api

import (
	"innerladder/internal/core/access"
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
	return []operation{
		op("GET", "/people", "listPeople", "List the people and robots that you may know of", access.Read, 200,
			func(c ctx, s *s, in *pageIn) (wire.Listed[people.Person], error) {
				all, err := s.People(c)
				return partOf(*in, all, err, func(p people.Person) string { return p.Name })
			}),
		op("POST", "/people", "addPerson", "Add a person, with a link that lets them in once, or a robot",
			access.Manage, 201, func(c ctx, s *s, in *wire.NewPerson) (wire.AddedPerson, error) {
				return s.AddPerson(c, *in)
			}),
		op("PATCH", "/people/{person}", "editPerson",
			"Change an account: its e-mail address, or whether it may sign in", access.Administer, 200,
			func(c ctx, s *s, in *struct {
				personIn
				wire.PersonEdit
			},
			) (people.Person, error) {
				return s.EditPerson(c, in.Person, in.PersonEdit)
			}),
		op("POST", "/people/{person}/invitation", "invite",
			"Make a new link that lets a person in once, to choose a password", access.Administer, 201,
			func(c ctx, s *s, in *personIn) (wire.AddedPerson, error) {
				return s.Invite(c, in.Person)
			}),
		op("PUT", "/people/{person}/memberships/{project}/{role}", "giveRole", "Give someone a role in a project",
			access.Manage, 200, func(c ctx, s *s, in *memberIn) (people.Person, error) {
				return s.GiveRole(c, in.Person, access.Membership{Project: in.Project, Role: in.Role})
			}),
		op("DELETE", "/people/{person}/memberships/{project}/{role}", "takeRole",
			"Take a role in a project away from someone", access.Manage, 200, func(c ctx, s *s, in *struct {
				memberIn
				becauseIn
			},
			) (people.Person, error) {
				return s.TakeRole(c, in.Person, access.Membership{Project: in.Project, Role: in.Role}, in.Reason)
			}),
		op("GET", "/roles", "listRoles", "List the roles with their permissions", access.Read, 200,
			func(c ctx, s *s, in *pageIn) (wire.Listed[access.Role], error) {
				all, err := s.Roles(c)
				if err != nil {
					return all, err
				}
				return all, nil // built-in ones first, in their order; there are few
			}),
		op("PUT", "/roles/{role}", "putRole", "Make a role, or change one that was made here", access.Administer, 200,
			func(c ctx, s *s, in *struct {
				roleIn
				Permissions []string `json:"permissions" required:"true"`
				Description string   `json:"description,omitempty"`
			},
			) (access.Role, error) {
				return s.PutRole(c, in.Role, in.Permissions, in.Description)
			}),
		op("DELETE", "/roles/{role}", "removeRole", "Remove a role that nobody has", access.Administer, 200,
			func(c ctx, s *s, in *roleIn) (access.Role, error) {
				return s.RemoveRole(c, in.Role)
			}),
		op("GET", "/permissions", "listPermissions", "What roles are made of", access.Own, 200,
			func(_ ctx, _ *s, _ *none) ([]access.Described, error) {
				return access.Permissions(), nil
			}),

		op("GET", "/tokens", "listTokens", "List your tokens, or those of a robot that you keep", access.Own, 200,
			func(c ctx, s *s, in *struct {
				Robot string `query:"robot" json:"-"`
			},
			) (wire.Listed[people.Token], error) {
				return s.Tokens(c, in.Robot)
			}),
		op("POST", "/tokens", "makeToken", "Make a token for yourself or for a robot; it is shown once", access.Own,
			201, func(c ctx, s *s, in *wire.NewToken) (wire.MadeToken, error) {
				return s.MakeToken(c, *in)
			}),
		op("DELETE", "/tokens/{token}", "endToken", "Take a token away", access.Own, 200, func(c ctx, s *s, in *struct {
			Token int64 `uri:"token" path:"token" json:"-"`
		},
		) (people.Token, error) {
			return s.EndToken(c, in.Token)
		}),
		op("GET", "/me/sessions", "listSessions", "Where you are signed in to the console", access.Own, 200,
			func(c ctx, s *s, _ *none) (wire.Listed[people.Session], error) {
				return s.Sessions(c)
			}),
		op("DELETE", "/me/sessions", "endOtherSessions", "Sign out everywhere else", access.Own, 200,
			func(c ctx, s *s, _ *none) (struct{}, error) {
				return s.EndOtherSessions(c)
			}),
		op("PUT", "/me/password", "changePassword", "Choose another password; ends your other sessions", access.Own,
			200, func(c ctx, s *s, in *struct {
				Old      string `json:"old" description:"the present password"`
				Password string `json:"password" required:"true"`
			},
			) (struct{}, error) {
				return struct{}{}, s.ChangePassword(c, in.Old, in.Password)
			}),
		op("GET", "/me/inbox", "inbox", "Your notices, newest first", access.Own, 200, func(c ctx, s *s, in *struct {
			pageIn
			Unread bool `query:"unread" json:"-" description:"only those that were not read"`
		},
		) (wire.Listed[notice.Notice], error) {
			return listed(in.pageIn, func(p records.Page) (wire.Listed[notice.Notice],
				error,
			) {
				return s.Inbox(c, in.Unread, p)
			})
		}),
		op("POST", "/me/inbox/read", "markRead", "Mark a notice as read, with all before it unless alone", access.Own,
			200, func(c ctx, s *s, in *struct {
				Notice int64 `json:"notice" required:"true" description:"the id of a notice"`
				Alone  bool  `json:"alone,omitempty"`
			},
			) (struct{}, error) {
				return s.MarkRead(c, in.Notice, in.Alone)
			}),
		op("GET", "/me/preferences", "showPreferences", "What reaches you, and how", access.Own, 200,
			func(c ctx, s *s, _ *none) (wire.Preferences, error) {
				return s.Preferences(c)
			}),
		op("PUT", "/me/preferences", "setPreferences", "Choose what reaches you, and how", access.Own, 200,
			func(c ctx, s *s, in *struct {
				Choices notice.Choices `json:"choices" required:"true" description:"channels (inbox, mail) by topic"`
			},
			) (wire.Preferences, error) {
				return s.SetPreferences(c, in.Choices)
			}),
	}
}
