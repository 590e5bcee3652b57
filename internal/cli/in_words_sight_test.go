package cli

import "testing"

// Everyone sees what their roles show, and nothing says that there is more.
func TestSightInWords(t *testing.T) {
	h := openHouse(t)
	h.plays(`
sif$ project add forecasting
forecasting
`)
	h.plays(`
sif$ project add maintenance
maintenance
`)
	h.person("runa", "forecasting:author", "forecasting:operator", "maintenance:author", "maintenance:operator")
	h.person("odd", "forecasting:reader")
	h.person("gro", "maintenance:reader")
	h.person("kari", "maintenance:approver")
	h.file("a.json", `{"weights": [1]}`)
	h.file("b.json", `{"weights": [2]}`)
	h.file("rows.csv", "flow,fault\n1,ok\n2,leaking\n")
	h.plays(`
runa$ data add valves {dir}/rows.csv -project maintenance
valves#1
runa$ register heat-demand -no-code -project forecasting -task regression -file {dir}/a.json -metric rmse=0.4 -note "needs valves too"
heat-demand@1
runa$ register valve-fault -no-code -project maintenance -task classification -file {dir}/b.json -metric accuracy=0.9 -data valves -parent heat-demand@1
valve-fault@1
sif$ environment add plant-south
plant-south
runa$ endpoint add valve-check -model valve-fault -env plant-south
valve-check
runa$ promote valve-fault@1 -to live -note "for the spring"
P-1: valve-fault@1 from draft to live, open
  asked by  runa, …
  note      for the spring
  passed   proven     1 artifact stored; the bytes had the registered digest when they were read, at ….
  passed   proven     1 metric recorded.
  passed   rehearsal  Nobody stands on live whose callers could break.
  waiting  live       Waits for 1 sign-off by someone other than runa.
odd$ whoami
odd: reader of forecasting
PROJECT      MAY
forecasting  read
odd$ list
MODEL        PROJECT      TASK        OWNER  VERSIONS  LIVE  REHEARSAL  PROVEN  DRAFT
heat-demand  forecasting  regression  runa   1         -     -          -       @1
odd$ project
PROJECT      MODELS  ABOUT
forecasting  1       -
odd$ data
there is no such data set; add one with: innerladder data add NAME FILE
odd$ find
VERSION        TASK        RUNG   LABELS  METRICS   FORMAT  ANSWERS  TAGS  REGISTERED  NOTE
heat-demand@1  regression  draft  -       rmse=0.4  json    -        -     …     needs valves too
odd$ find leaking
no version is like that; leave a filter out, or see all with: innerladder find
odd 1$ show valve-fault@1
innerladder show: there is no model "valve-fault"; the models are heat-demand
odd 1$ show valve-fault
innerladder show: there is no model "valve-fault"; the models are heat-demand
odd 1$ show valves#1
innerladder show: there is no data set "valves"; add it with: innerladder data add valves FILE
odd 1$ show P-1
innerladder show: there is no P-1; see those that wait with: innerladder reviews
odd 1$ evidence valve-fault@1
innerladder evidence: there is no model "valve-fault"; the models are heat-demand
odd 1$ verify valve-fault@1
innerladder verify: there is no model "valve-fault"; the models are heat-demand
odd 1$ gate valve-fault@1
innerladder gate: there is no model "valve-fault"; the models are heat-demand
odd 1$ ladder maintenance
innerladder ladder: there is no project "maintenance"; the projects are forecasting; add one with: innerladder project add maintenance
odd 1$ review P-1
innerladder review: there is no P-1; see those that wait with: innerladder reviews
odd$ reviews
nothing waits
odd$ endpoint list
ENDPOINT  MODEL  ENVIRONMENT  SPLIT  LANES  SINCE
odd 1$ endpoint show valve-check
innerladder endpoint show: there is no endpoint "valve-check"; there are no endpoints yet
odd 1$ splits valve-check
innerladder splits: there is no endpoint "valve-check"; there are no endpoints yet
odd 1$ trace valve-fault@1
innerladder trace: there is no model "valve-fault"; the models are heat-demand
odd$ trace heat-demand@1
heat-demand@1  (draft)
  nothing is linked to it
odd 1$ lineup heat-demand@1 valve-fault@1
innerladder lineup: there is no model "valve-fault"; the models are heat-demand
odd 1$ diff heat-demand@1 valve-fault@1
innerladder diff: there is no model "valve-fault"; the models are heat-demand
odd$ activity
    33  …  runa         heat-demand@1 was registered.
                                          “needs valves too”
    32  …  runa         heat-demand was added, a model for regression.
    17  …  sif          odd became reader of forecasting.
    10  …  sif          runa became operator of forecasting.
     9  …  sif          runa became author of forecasting.
odd$ activity valve-fault@1
nothing is known about valve-fault@1
odd 3$ comment valve-fault@1 "hello"
innerladder comment: odd may not comment in any project; ask an owner for a role with the permission "comment"
odd 1$ get valve-fault@1 -to {dir}/got
innerladder get: there is no model "valve-fault"; the models are heat-demand
odd$ people
NAME     ROLES                                           E-MAIL  ADDED BY
odd   -  reader of forecasting                           -       sif, …
runa  -  author of forecasting, operator of forecasting  -       sif, …
sif   -  owner of everything                             -       inner-ladder, …
odd 3$ robot add mine
innerladder robot add: odd may not manage in any project; ask an owner for a role with the permission "manage"
odd 3$ settings mail
innerladder settings mail: odd may not administer for the whole service; ask someone who has the permission "administer" for all projects
odd 3$ backup {dir}/mine.tar
innerladder backup: odd may not administer for the whole service; ask someone who has the permission "administer" for all projects
odd 3$ audit verify
innerladder audit verify: odd may not audit in any project; ask an owner for a role with the permission "audit"
gro$ list
MODEL        PROJECT      TASK            OWNER  VERSIONS  LIVE  REHEARSAL  PROVEN  DRAFT
valve-fault  maintenance  classification  runa   1         -     -          -       @1
gro$ trace valve-fault@1
valve-fault@1  (draft)
  made from
  └─ trained-on valves#1  (2 rows)
gro$ reviews
P-1: valve-fault@1 from draft to live, open
  asked by  runa, …
  note      for the spring
  passed   proven     1 artifact stored; the bytes had the registered digest when they were read, at ….
  passed   proven     1 metric recorded.
  passed   rehearsal  Nobody stands on live whose callers could break.
  waiting  live       Waits for 1 sign-off by someone other than runa.
gro 3$ sign P-1 -yes
innerladder sign: gro may not sign in any project; ask an owner for a role with the permission "sign"
kari$ audit -kind version
    35  …  runa         valve-fault@1 was registered.
        kind  version.registered · valve-fault@1
kari 1$ audit -project forecasting
innerladder audit: there is no project "forecasting"; the projects are maintenance; add one with: innerladder project add forecasting
kari$ sign P-1 -yes
P-1: valve-fault@1 from draft to live, carried out
  asked by  runa, …
  note      for the spring
  passed   proven     1 artifact stored; the bytes had the registered digest when they were read, at ….
  passed   proven     1 metric recorded.
  passed   rehearsal  Nobody stands on live whose callers could break.
  passed   live       Signed by kari.
  signed   kari said yes
gro$ activity valve-fault
    40  …  kari         P-1: valve-fault@1 stepped up to live.
    39  …  kari         P-1: kari said yes to valve-fault@1 on live.
    38  …  runa         P-1: runa asks for valve-fault@1 to live.
                                          “for the spring”
    35  …  runa         valve-fault@1 was registered.
    34  …  runa         valve-fault was added, a model for classification.
runa$ trace heat-demand@1
heat-demand@1  (draft)
  went into
  └─ derived valve-fault@1  (live)
runa$ comment heat-demand@1 "@odd and @gro look"
line 41: runa commented on heat-demand@1.
not told, because there is nobody of that name or they may not see this: gro
runa$ comment heat-demand@1 "@odd look"
line 42: runa commented on heat-demand@1.
sif$ people
NAME     ROLES                                                                                           E-MAIL  ADDED BY
gro   -  reader of maintenance                                                                           -       sif, …
kari  -  approver of maintenance                                                                         -       sif, …
odd   -  reader of forecasting                                                                           -       sif, …
runa  -  author of forecasting, operator of forecasting, author of maintenance, operator of maintenance  -       sif, …
sif   -  owner of everything                                                                             -       inner-ladder, …
`)
}
