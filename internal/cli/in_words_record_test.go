package cli

import "testing"

// The record is searched, exported, checked; comments and webhooks; what is kept is put away and brought back.
func TestKeepingInWords(t *testing.T) {
	h := openHouse(t)
	h.plays(`
sif$ project add forecasting
forecasting
`)
	h.person("runa", "forecasting:author", "forecasting:operator")
	h.person("odd", "forecasting:reader")
	h.file("a.json", `{"weights": [1]}`)
	h.file("plant.secret", "Bearer hunter2\n")
	h.plays(`
runa$ register heat-demand -no-code -project forecasting -task regression -file {dir}/a.json -metric rmse=0.4
heat-demand@1
runa$ comment heat-demand@1 "@odd look at the **morning** peak"
line 20: runa commented on heat-demand@1.
odd$ inbox -unread
• mention  …  runa         runa commented on heat-demand@1.
odd$ inbox -read
• mention  …  runa         runa commented on heat-demand@1.
odd$ inbox -unread
there is nothing new
odd 3$ audit
innerladder audit: odd may not audit in any project; ask an owner for a role with the permission "audit"
sif$ audit -kind version -by runa
    19  …  runa         heat-demand@1 was registered.
        kind  version.registered · heat-demand@1
sif$ audit -text peak
    20  …  runa         runa commented on heat-demand@1.
        kind  comment.made · heat-demand@1
        why   @odd look at the **morning** peak
sif$ audit -about heat-demand@1 -limit 1
    20  …  runa         runa commented on heat-demand@1.
        kind  comment.made · heat-demand@1
        why   @odd look at the **morning** peak
there is more; see it with -cursor MjA
sif 2$ audit -after yesterday
innerladder audit: "yesterday" is no moment; write one such as … or …
sif$ audit save "by runa" -by runa -shared
saved; run it with: innerladder audit -saved 'by runa'
sif$ audit searches
ID  NAME     OWNER  SHARED  SEARCH
1   by runa  sif    yes     actor=runa
sif$ audit -saved "by runa" -limit 1
    20  …  runa         runa commented on heat-demand@1.
        kind  comment.made · heat-demand@1
        why   @odd look at the **morning** peak
there is more; see it with -cursor MjA
sif 1$ audit -saved "nothing"
innerladder audit: there is no saved search "nothing"; see: innerladder audit searches
sif$ audit verify
intact: 21 lines, in … ms
head    …
sif$ activity heat-demand@1
    20  …  runa         runa commented on heat-demand@1.
                                          “@odd look at the **morning** peak”
    19  …  runa         heat-demand@1 was registered.
sif$ webhook add http://127.0.0.1:9/hook -project forecasting -kind split -kind alert
webhook 1 tells http://127.0.0.1:9/hook; what is sent is signed with this secret, which is shown this once:
whsec…
sif 2$ webhook add ftp://x
innerladder webhook add: "ftp://x" is no address that can be told; give an https:// address without credentials
sif$ webhooks
ID  PROJECT      ADDRESS                  KINDS         ADDED BY
1   forecasting  http://127.0.0.1:9/hook  split, alert  sif, …
sif$ deliveries 1
ID  STATE  TRIES  WHAT  TO  ANSWER
sif$ webhook remove 1
http://127.0.0.1:9/hook is told no more
sif$ settings mail
no e-mail is sent
sif 2$ settings mail -host mail.tarnholm.example -tls perhaps
innerladder settings mail: "perhaps" is no way to secure the connection; use starttls, tls or none
sif$ settings retention
minutes     72h
hours       2160h
days        9600h
readings    720h
deliveries  720h
notices     2160h
repeats     48h
record      for ever
sif$ settings retention -minutes 720h -reason "disk"
minutes     720h
hours       2160h
days        9600h
readings    720h
deliveries  720h
notices     2160h
repeats     48h
record      for ever
sif 2$ settings retention -minutes 1s -reason "disk"
innerladder settings retention: minutes cannot be kept for "1s"; give a duration of at least 24h, such as 720h
sif$ environment add plant-north
plant-north
sif$ header set plant-north Authorization -value-file {dir}/plant.secret
model servers of plant-north are sent Authorization
sif$ headers plant-north
HEADER         SET BY  WHEN
Authorization  sif     …
sif$ header remove plant-north Authorization
model servers of plant-north are sent Authorization no more
sif 1$ headers nowhere
innerladder headers: there is no environment "nowhere"; the environments are plant-north; add it with: innerladder environment add NAME
sif$ key rotate -reason "once a year"
2 secrets are sealed with a new key; backups from before need the key file from before
sif$ backup {dir}/all.tar
{dir}/all.tar: 1 files, … MiB, the record up to line 29; whole and checked
keep the key file apart from it: without it secrets cannot be opened and the service does not start on a restored backup
sif 2$ backup {dir}/all.tar
innerladder backup: {dir}/all.tar is there already; choose another name
odd 3$ backup {dir}/mine.tar
innerladder backup: odd may not administer for the whole service; ask someone who has the permission "administer" for all projects
sif$ restore {dir}/all.tar -data {dir}/again -key-file {dir}/data/key
{dir}/again holds the backup of …: 1 files, … MiB, the record up to line 29
the record is intact; start with: innerladder serve -data {dir}/again
sif 1$ restore {dir}/all.tar -data {dir}/again -key-file {dir}/data/key
innerladder restore: {dir}/again is not empty; restore into a new directory with -data
sif 1$ restore {dir}/a.json -data {dir}/other
innerladder restore: the backup cannot be used: it breaks off or is no backup: unexpected EOF
sif$ audit verify
intact: 29 lines, in … ms
head    …
`)
}
