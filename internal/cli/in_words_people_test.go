package cli

import "testing"

// People, robots, roles and tokens; who may not is told so.
func TestPeopleInWords(t *testing.T) {
	h := openHouse(t)
	h.plays(`
sif$ project add forecasting
forecasting
`)
	h.person("runa", "forecasting:author")
	h.person("tove", "forecasting:approver")
	h.plays(`
sif$ people
NAME     ROLES                    E-MAIL  ADDED BY
runa  -  author of forecasting    -       sif, …
sif   -  owner of everything      -       inner-ladder, …
tove  -  approver of forecasting  -       sif, …
sif$ roles
ROLE      MAY
reader    read                                                                                                  sees everything of the project, changes nothing
author    read, comment, register, ask                                                                          registers versions and asks for promotions
approver  read, comment, sign, audit                                                                            signs promotions and looks into the record
operator  read, comment, place, route, handle, audit                                                            places versions, splits traffic, rolls back, handles alerts
owner     read, comment, register, ask, sign, override, place, route, handle, prune, audit, manage, administer  everything in the project; given for all projects, the service itself
PERMISSION  TO
read        see models, versions, endpoints, promotions, alerts and what happens
comment     comment on what happened
register    register versions, data sets and runs; labels, tags, notes
ask         ask for promotions
sign        sign promotions, vet models
override    carry a promotion out past its gate, in an emergency
place       place versions in environments
route       add endpoints, change splits, return to earlier ones, give keys to callers
handle      acknowledge and resolve alerts
prune       retire, reinstate and delete versions
audit       search, verify and export the record, with values before and after
manage      give roles in the project, keep its robots and webhooks
administer  people, projects, environments, secrets, settings, backup; only for the whole service
runa 3$ person add odd
innerladder person add: runa may not manage in any project; ask an owner for a role with the permission "manage"
sif$ person add odd -role reader -project forecasting -email odd@tarnholm.example
give odd this link; it lets them in once, within 7 days, to choose a password:
http://127.0.0.1:…/welcome#…
sif 3$ person add odd
innerladder person add: there is somebody called odd already; choose another name
sif 2$ person add "Odd Person"
innerladder person add: "Odd Person" cannot be a name; use small letters, digits and inner hyphens, at most 63 of them
sif 1$ person add gro -role reader -project nowhere
innerladder person add: there is no project "nowhere"; the projects are default, forecasting; add one with: innerladder project add nowhere
sif$ person edit odd -email odd@harbour.example -reason "moved"
odd
sif$ person link odd
give odd this link; it lets them in once, within 7 days, to choose a password:
http://127.0.0.1:…/welcome#…
sif$ role make auditor audit read -note "looks into the record"
auditor may read, audit
sif 2$ role make wizard fly
innerladder role make: "fly" is no permission; use some of read, comment, register, ask, sign, override, place, route, handle, prune, audit, manage, administer
sif$ role give tove auditor -project forecasting
tove: approver of forecasting, auditor of forecasting
sif 3$ role remove auditor
innerladder role remove: tove has the role auditor; take it away from everyone first
sif$ role take tove auditor -project forecasting
tove: approver of forecasting
sif$ role remove auditor
auditor was removed
sif$ robot add nightly -role author -project forecasting
nightly was added: author of forecasting; give it a token with: innerladder token make TITLE -robot nightly
sif$ tokens -robot nightly
ID  TITLE  ENDS IN  MAY  IN  EXPIRES  LAST USED
runa$ token make "my laptop" -may register -lasts 24h
token 4 of runa holds until …; it is shown this once:
il…
runa$ tokens
ID  TITLE               ENDS IN  MAY             IN   EXPIRES     LAST USED
4   my laptop           …    read, register  all  …  -
2   command line on …  …    all             all  …  …
runa 2$ token make "for ever" -lasts 90000h
innerladder token make: a token cannot last "90000h"; give from 1m to 8784h, such as 720h
runa 2$ token make "too much" -may fly
innerladder token make: "fly" is no permission; use some of read, comment, register, ask, sign, override, place, route, handle, prune, audit, manage, administer
runa$ token end 4
token 4 of runa holds no more
runa 1$ token end 999
innerladder token end: there is no token 999 of yours; see yours with: innerladder tokens
sif$ person edit odd -out -reason "left"
odd shut out
sif$ person edit odd -in -reason "came back"
odd
sif 3$ role take sif owner -project '*'
innerladder role take: nobody would be left who may add people; make someone else an owner of the service first
runa$ notify
TOPIC    REACHES YOU BY  WHEN
mention  inbox, mail     somebody writes @you
review   inbox, mail     a promotion waits for you: asked, handed over, or once more
answer   -               your promotion is signed, carried out, refused or withdrawn
comment  -               somebody comments on what you did, or after you
alert    -               an alert is raised in a project of yours
split    -               the split of an endpoint changes
version  -               a version is registered
the service sends no e-mail until its mail server is set: innerladder settings mail
runa$ notify alert=inbox,mail review=inbox
TOPIC    REACHES YOU BY  WHEN
mention  inbox, mail     somebody writes @you
review   inbox           a promotion waits for you: asked, handed over, or once more
answer   -               your promotion is signed, carried out, refused or withdrawn
comment  -               somebody comments on what you did, or after you
alert    inbox, mail     an alert is raised in a project of yours
split    -               the split of an endpoint changes
version  -               a version is registered
the service sends no e-mail until its mail server is set: innerladder settings mail
runa$ notify alert=none
TOPIC    REACHES YOU BY  WHEN
mention  inbox, mail     somebody writes @you
review   inbox           a promotion waits for you: asked, handed over, or once more
answer   -               your promotion is signed, carried out, refused or withdrawn
comment  -               somebody comments on what you did, or after you
alert    -               an alert is raised in a project of yours
split    -               the split of an endpoint changes
version  -               a version is registered
the service sends no e-mail until its mail server is set: innerladder settings mail
runa 2$ notify alert=pigeon
innerladder notify: "pigeon" is no way to reach someone; use inbox, mail, or neither
runa$ inbox
there is nothing new
tove 1$ login -name tove -password-file {dir}/wrong
innerladder login: open {dir}/wrong: no such file or directory
tove$ whoami
tove: approver of forecasting
PROJECT      MAY
forecasting  read, comment, sign, audit
`)
}
