package cli

import "testing"

// What cannot be is refused with the field and what to do, and nothing of it is kept.
func TestRefusalsInWords(t *testing.T) {
	h := openHouse(t)
	h.plays(`
sif$ project add forecasting
forecasting
`)
	h.plays(`
sif$ project add maintenance
maintenance
`)
	h.person("runa", "forecasting:author", "forecasting:operator", "maintenance:author")
	h.person("tove", "forecasting:approver")
	h.file("a.json", `{"weights": [1]}`)
	h.file("b.json", `{"weights": [2]}`)
	h.file("plot.txt", "a plot\n")
	h.file("empty", "")
	h.file("ask.yaml", "rungs:\n  - name: draft\n  - name: live\n    ask: [owner]\n")
	h.plays(`
runa 2$ register heat-demand -no-code -file {dir}/a.json -metric rmse=0.4
innerladder register: no project is named; name one of forecasting, maintenance
runa 1$ register heat-demand -no-code -project nowhere -file {dir}/a.json
innerladder register: there is no project "nowhere"; the projects are forecasting, maintenance; add one with: innerladder project add nowhere
runa$ register heat-demand -no-code -project forecasting -task regression -file {dir}/a.json -metric rmse=0.4
heat-demand@1
runa$ register valve-fault -no-code -project maintenance -task classification -file {dir}/b.json -metric accuracy=0.9
valve-fault@1
runa 3$ register heat-demand -no-code -task classification -file {dir}/b.json
innerladder register: heat-demand is a model for regression; leave the task out, or register under another name
runa 2$ register heat-demand -no-code -file {dir}/b.json -file {dir}/b.json
innerladder register: two files are named "b.json"; give each file its own name
runa 2$ register heat-demand -no-code -file {dir}/b.json -attach {dir}/plot.txt -attach {dir}/plot.txt
innerladder register: two attachments are named "plot.txt"; give each its own name
runa 2$ register Heat/Demand -no-code -project forecasting -file {dir}/b.json
innerladder register: "Heat/Demand" cannot be a name; use small letters, digits and inner hyphens, at most 63 of them
runa 2$ register heat-demand -no-code -file {dir}/b.json -parent heat-demand
innerladder register: "heat-demand" does not say which version; write MODEL@NUMBER, such as heat-demand@1, or MODEL@RUNG or MODEL@LABEL, such as heat-demand@live; there is no default
runa 1$ register heat-demand -no-code -file {dir}/b.json -data nothing#1
innerladder register: there is no data set "nothing"; add it with: innerladder data add nothing FILE
runa 1$ register heat-demand -no-code -file {dir}/b.json -run run-9
innerladder register: there is no run-9; see them with: innerladder runs
runa 2$ register heat-demand -no-code -file {dir}/b.json -label live
innerladder register: "live" cannot be a label: it is a rung of the ladder; choose another word; a version gets on a rung with: innerladder promote
runa 2$ register heat-demand -no-code -file {dir}/b.json -sample {dir}/plot.txt
innerladder register: plot.txt holds no rows; give a CSV file with a header line, Parquet, or JSON: a list of objects, or one object a line
runa 1$ register heat-demand -no-code -file {dir}/nothing.onnx
innerladder register: reading the artifact: stat {dir}/nothing.onnx: no such file or directory
runa$ list heat-demand
VERSION        RUNG   LABELS  METRICS   FORMAT  SIZE  REGISTERED  BY    NOTE
heat-demand@1  draft  -       rmse=0.4  json    16 B  …     runa  -
runa 2$ attach heat-demand@1 {dir}/plot.txt -kind picture
innerladder attach: plot.txt is no picture but text/plain; charset=utf-8; attach it with -kind document
runa 2$ attach heat-demand@1 {dir}/empty -kind evaluation
innerladder attach: the report is empty; see docs/guide.md for the form of such reports
runa 2$ data add winters -rows 12 -digest zz -project forecasting
innerladder data add: "zz" is no SHA-256; give 64 hexadecimal digits
runa 2$ data add winters -rows -1 -digest 0000000000000000000000000000000000000000000000000000000000000001 -project forecasting
innerladder data add: rows or size are negative; leave out what is not known
runa$ data add winters {dir}/plot.txt -project forecasting
winters#1
runa$ data add winters {dir}/plot.txt -project maintenance
the same content was added before, by runa, …
winters#1
runa 1$ show summers#1
innerladder show: there is no data set "summers"; add it with: innerladder data add summers FILE
runa 1$ show run-7
innerladder show: there is no run-7; see them with: innerladder runs
runa 1$ get heat-demand@7
innerladder get: there is no heat-demand@7; heat-demand has versions up to 1
runa 1$ trace heat-demand
innerladder trace: "heat-demand" is no version, data set, run, commit or request that is known; write MODEL@NUMBER, a data set's NAME or NAME#NUMBER, run-NUMBER, at least 7 digits of a commit, or a request's id
runa 2$ find -metric rmse
innerladder find: "rmse" is no bound of a metric; write NAME<VALUE, NAME<=VALUE, NAME>VALUE or NAME>=VALUE, such as rmse<0.4
runa 2$ find -metric "rmse=good"
innerladder find: "rmse=good" is no bound of a metric; write NAME<VALUE, NAME<=VALUE, NAME>VALUE or NAME>=VALUE, such as rmse<0.4
runa 2$ find -task poetry
innerladder find: "poetry" is no task; use regression, classification or other
runa 2$ find -rung heaven
innerladder find: there is no rung "heaven"; the rungs are draft, proven, rehearsal, live, retired
runa 2$ edit heat-demand@1 -owner tove
innerladder edit: a version has no description or owner of its own; change those of its model
runa 2$ edit heat-demand -property a
innerladder edit: invalid value "a" for flag -property: write NAME=VALUE; see: innerladder help edit
runa 3$ label heat-demand@1 beta -env plant-north
innerladder label: heat-demand@1 is not placed in plant-north; place it first: innerladder place heat-demand@1 -env plant-north -at ADDRESS
sif$ environment add plant-north
plant-north
sif 3$ environment add plant-north
innerladder environment add: there is an environment plant-north already; use it, or choose another name
runa 3$ label heat-demand@1 beta -env plant-north
innerladder label: heat-demand@1 is not placed in plant-north; place it first: innerladder place heat-demand@1 -env plant-north -at ADDRESS
runa 2$ place heat-demand@1 -env plant-north
innerladder place: no address is given; say where the version runs with -at URL
runa 2$ place heat-demand@1 -env plant-north -at ftp://x
innerladder place: "ftp://x" is not the address of a model server; give http://HOST:PORT or https://HOST:PORT, without user, query or fragment
runa$ endpoint add demand-hourly -model heat-demand -env plant-north
demand-hourly
runa 2$ endpoint add other -model heat-demand -env plant-north -rung heaven
innerladder endpoint add: there is no rung "heaven"; the rungs are draft, proven, rehearsal, live
runa 2$ endpoint add other -model heat-demand -env plant-north -alpha 2
innerladder endpoint add: alpha is 2; give a chance of false alarm between 0 and 1, such as 0.001
runa 2$ compare demand-hourly heat-demand@1 heat-demand@1
innerladder compare: heat-demand@1 is compared with itself; name two versions
runa 1$ compare demand-hourly heat-demand@1 heat-demand@2
innerladder compare: there is no heat-demand@2; heat-demand has versions up to 1
runa 2$ compare demand-hourly heat-demand@1 valve-fault@1
innerladder compare: valve-fault@1 is not a version of heat-demand, which demand-hourly serves; name versions of heat-demand
runa 2$ compare demand-hourly heat-demand@1 valve-fault@1 -window 0s
innerladder compare: a window of 0s cannot be looked at; give from 1m0s to 720h0m0s, such as 10m
runa 3$ back demand-hourly -why "x"
innerladder back: there is no split yet; make one first with: innerladder split
runa 1$ caller remove demand-hourly ghost
innerladder caller remove: ghost has no key to demand-hourly; see who has with: innerladder callers demand-hourly
runa 2$ alerts -state sleepy
innerladder alerts: "sleepy" is no state of an alert; use open, acknowledged or resolved
runa 2$ comment heat-demand@1 ""
innerladder comment: the comment is empty or longer than 10000 bytes; write something shorter
runa 1$ comment 9999 "hello"
innerladder comment: there is no line 9999 in the record; see what happened with: innerladder activity
sif$ webhook add https://x.example/hook -project forecasting -kind gossip
webhook 1 tells https://x.example/hook; what is sent is signed with this secret, which is shown this once:
whsec…
sif 1$ webhook remove 77
innerladder webhook remove: there is no webhook 77; see them with: innerladder webhooks
sif 2$ person add gro -role reader -project forecasting -email nowhere
innerladder person add: "nowhere" is no e-mail address; write NAME@HOST
sif$ person add gro -role reader -project forecasting -email gro@tarnholm.example
give gro this link; it lets them in once, within 7 days, to choose a password:
http://127.0.0.1:…/welcome#…
sif 3$ person add odd -role reader -project forecasting -email gro@tarnholm.example
innerladder person add: gro has the e-mail address gro@tarnholm.example already; give every person an address of their own
sif 2$ person add inner-ladder
innerladder person add: inner-ladder is what the service calls itself; choose another name
sif 1$ person edit nobody -out
innerladder person edit: there is nobody called "nobody"; see who there is with: innerladder people
sif$ robot add nightly -role author -project forecasting
nightly was added: author of forecasting; give it a token with: innerladder token make TITLE -robot nightly
sif 3$ person link nightly
innerladder person link: nightly cannot sign in; make a token for a robot; let a person in again first
sif 3$ role give nightly owner -project '*'
innerladder role give: a robot does not keep the service; give it a smaller role
sif 1$ role give gro wizard -project forecasting
innerladder role give: there is no role "wizard"; the roles are reader, author, approver, operator, owner
sif 1$ role take gro approver -project forecasting
innerladder role take: gro is not approver of forecasting; see who has which role with: innerladder people
sif 3$ role remove author
innerladder role remove: author is built in; only roles that were made here can be removed
sif 3$ role make author read
innerladder role make: author is built in; make one with another name
runa 2$ token make ""
innerladder token make: the token has no title, or a long one; say in a few words what it is for
sif 1$ token make x -robot nightly -project nowhere
innerladder token make: there is no project "nowhere"; the projects are default, forecasting, maintenance; add one with: innerladder project add nowhere
sif 2$ settings mail -host "bad host"
innerladder settings mail: bad host:587 is no mail server; give the host's name and a port
sif 2$ settings mail -host mail.tarnholm.example -from nobody
innerladder settings mail: "nobody" is no e-mail address; write NAME@HOST
sif 3$ settings mail -test
innerladder settings mail: you have no e-mail address; give yourself one with: innerladder person edit sif -email NAME@HOST
sif 2$ audit save ""
innerladder audit save: the search has no name, or a long one; give it a name of at most 100 bytes
sif 3$ reinstate heat-demand@1 -why x
innerladder reinstate: heat-demand@1 stands on draft; nothing needs doing
sif$ retire heat-demand@1 -why x
heat-demand@1 was retired; it stands on retired
sif 3$ retire heat-demand@1 -why x
innerladder retire: heat-demand@1 is retired already; nothing needs doing
runa 3$ promote heat-demand@1 -to live
innerladder promote: heat-demand@1 is retired; reinstate it before asking
sif$ reinstate heat-demand@1 -why x
heat-demand@1 was reinstated; it stands on draft
runa 2$ promote heat-demand@1 -to heaven
innerladder promote: there is no rung "heaven"; the rungs are draft, proven, rehearsal, live
sif$ ladder set forecasting -file {dir}/ask.yaml -why "owners ask"
forecasting: revision 1, … by sif: owners ask
  carried out at once; reminds after 24h, expires after 336h
  live
      (asked for by owner)
  draft
runa 3$ promote heat-demand@1 -to live
innerladder promote: live is asked for by those with the role owner; have one of them ask, or ask an owner for the role
runa 2$ carry P-x
innerladder carry: "P-x" names no promotion; write P-NUMBER, such as P-1
runa 1$ carry P-9
innerladder carry: there is no P-9; see those that wait with: innerladder reviews
sif 3$ ladder set maintenance -file {dir}/ask.yaml -why x -based-on 4
innerladder ladder set: the ladder of maintenance is at revision 0, not 4; look at it, and decide again
sif 2$ ladder set maintenance -file {dir}/plot.txt -why x
innerladder ladder set: {dir}/plot.txt is no YAML: yaml: unmarshal errors:
  line 1: cannot unmarshal !!str ` + "`" + `a plot` + "`" + ` into map[string]interface {}
sif 2$ ladder set maintenance -file {dir}/nothing.yaml -why x
innerladder ladder set: open {dir}/nothing.yaml: no such file or directory
runa 2$ split demand-hourly heat-demand@1=100.001
innerladder split: share "100.001" is outside of 0 to 100; give per cent from 0 to 100 with at most two decimals, such as 90 or 12.5
runa 3$ split demand-hourly valve-fault@1=100
innerladder split: valve-fault@1 is not a version of heat-demand, which demand-hourly serves; name versions of heat-demand
runa 1$ splits nothing
innerladder splits: there is no endpoint "nothing"; the endpoints are demand-hourly
runa 1$ callers nothing
innerladder callers: there is no endpoint "nothing"; the endpoints are demand-hourly
runa$ activity nothing-at-all
nothing is known about nothing-at-all
sif 2$ delete heat-demand@1
innerladder delete: no reason is given; use -why
sif 1$ collect -token-file {dir}/nothing
innerladder collect: reading the token: open {dir}/nothing: no such file or directory
`)
}
