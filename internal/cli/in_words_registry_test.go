package cli

import (
	"strings"
	"testing"
)

const rows = "outdoor_c,mix,demand_mw\n-3.5,harbour,1.4\n2,works,1.1\n7.5,harbour,0.9\n"

// From a training to a version that can be found, compared and traced.
func TestTheRegistryInWords(t *testing.T) {
	h := openHouse(t)
	h.plays(`
sif$ project add forecasting
forecasting
`)
	h.person("runa", "forecasting:author")
	h.person("odd", "forecasting:reader")
	h.file("model-a.json", `{"weights": [1, 2]}`)
	h.file("model-b.json", `{"weights": [1, 2, 3]}`)
	h.file("rows.csv", rows)
	h.file("more.csv", rows+"9,works,0.7\n")
	h.file("many.csv", "outdoor_c,mix,demand_mw\n"+
		strings.Repeat("-3.5,harbour,1.4\n2,works,1.1\n7.5,harbour,0.9\n4,works,1\n", 60))
	h.file("card.md", "---\nlicence: internal\n---\n# Heat demand\n\n## Intended use\n\nThe dispatch desk plans by "+
		"it.\n\n## Limits\n\nNot for summer.\n")
	h.file("needs.txt", "numpy==2.1.3\npandas>=2.2\n")
	h.file("plot.txt", "a plot\n")
	h.plays(`
runa$ whoami
runa: author of forecasting
PROJECT      MAY
forecasting  read, comment, register, ask
runa$ project
PROJECT      MODELS  ABOUT
forecasting  0       -
runa$ list
there are no models yet; register the first version with: innerladder register MODEL -file FILE
runa$ look {dir}/model-a.json
file    model-a.json
size    19 B
format  json
  members: weights
runa$ look {dir}/rows.csv
file  rows.csv
size  69 B
rows  3
COLUMN     SIDE   TYPE    UNIT  RANGE OR LEVELS
outdoor_c  input  number  -     -3.5 to 7.5
mix        input  text    -     harbour | works
demand_mw  input  number  -     0.9 to 1.4
runa$ look {dir}/needs.txt
file    needs.txt
size    25 B
format  unknown
runa 1$ look {dir}/rows.parquet
innerladder look: reading the file: open {dir}/rows.parquet: no such file or directory
runa$ data add winters {dir}/rows.csv -description "two winters"
winters#1
runa$ data add winters {dir}/more.csv
winters#2
runa$ data add winters {dir}/more.csv
the same content was added before, by runa, …
winters#2
runa 2$ data add summers -rows 12
innerladder data add: neither digest nor address is given; give the data set's file, or say where it lies with -address
runa$ data add summers -rows 12 -digest 0000000000000000000000000000000000000000000000000000000000000001 -address s3://tarnholm/summers
summers#1
runa$ data
DATA SET   ROWS  COLUMNS  SIZE  SHA-256       ADDED    BY    WHERE
summers#1  12    -        0 B   …  …  runa  s3://tarnholm/summers
winters#2  4     3        81 B  …  …  runa  file://…/more.csv
runa$ data winters
DATA SET   ROWS  COLUMNS  SIZE  SHA-256       ADDED    BY    WHERE
winters#2  4     3        81 B  …  …  runa  file://…/more.csv
winters#1  3     3        69 B  …  …  runa  file://…/rows.csv
runa 3$ run start heat-demand -data winters -project forecasting
innerladder run start: winters has 2 revisions; name one of winters#1 to winters#2
runa$ run start heat-demand -param depth=6 -data winters#1 -project forecasting -no-code -machine bench-2 -title "two winters"
run-1
runa$ run log run-1 -step 1 -metric loss=0.5
runa$ run log run-1 -step 2 -metric loss=0.3 -param epochs=2
runa$ show run-1
run         run-1
model       heat-demand
title       two winters
state       running
by          runa
machine     bench-2
started     …
parameters  depth=6 epochs=2
metrics     loss=0.3
data        trained on winters#1
RUN    METRIC  FROM  TO   LAST STEP
run-1  loss    0.5   0.3  2          █▁
runa$ run end run-1
run-1 finished
runa 3$ run end run-1
innerladder run end: run-1 has finished; start another run
runa$ runs
RUN    MODEL        STATE     BY    MACHINE  STARTED  METRICS   VERSIONS  TITLE
run-1  heat-demand  finished  runa  bench-2  …  loss=0.3  -         two winters
runa$ register heat-demand -no-code -project forecasting -file {dir}/model-a.json -metric rmse=0.4 -sample {dir}/rows.csv -target demand_mw -unit demand_mw=MW -card {dir}/card.md -requirements {dir}/needs.txt -run run-1 -note "first" -tag winter
heat-demand@1
runa$ register heat-demand -no-code -file {dir}/model-a.json -metric rmse=0.4 -sample {dir}/rows.csv -target demand_mw -unit demand_mw=MW -card {dir}/card.md -requirements {dir}/needs.txt -run run-1
the same content was registered before, by runa, …
heat-demand@1
runa$ register heat-demand -no-code -file {dir}/model-b.json -metric rmse=0.3 -sample {dir}/many.csv -target demand_mw -parent heat-demand@1 -data winters#2 -note "with the wind" -importance outdoor_c=0.7 -importance mix=0.3
heat-demand@2
runa$ list
MODEL        PROJECT      TASK        OWNER  VERSIONS  LIVE  REHEARSAL  PROVEN  DRAFT
heat-demand  forecasting  regression  runa   2         -     -          -       @2 @1
runa$ list heat-demand
VERSION        RUNG   LABELS  METRICS            FORMAT  SIZE  REGISTERED  BY    NOTE
heat-demand@2  draft  -       rmse=0.3           json    22 B  …     runa  with the wind
heat-demand@1  draft  -       loss=0.3 rmse=0.4  json    19 B  …     runa  first
runa$ show heat-demand
model     heat-demand
project   forecasting
task      regression
owner     runa
versions  2
added     … by runa
       live |==|
  rehearsal |==|
     proven |==|
      draft |==| @2 @1
runa$ show heat-demand@1
version     heat-demand@1
rung        draft, since …
registered  … by runa
note        first
tags        winter
metrics     loss=0.3 rmse=0.4
parameters  depth=6 epochs=2
run         run-1
data        trained on winters#1
digest      …
ARTIFACT      FORMAT  SIZE  SHA-256                                                           WHERE
model-a.json  json    19 B  …  kept here
  model-a.json: members weights
COLUMN     SIDE    TYPE    UNIT  RANGE OR LEVELS
outdoor_c  input   number  -     -3.5 to 7.5
mix        input   text    -     harbour | works
demand_mw  output  number  MW    0.9 to 1.4
model card, licence internal
  Intended use: The dispatch desk plans by it.
  Limits: Not for summer.
runa$ show winters#2
data set  winters#2
rows      4
size      81 B
digest    …
where     file://…/more.csv
added     … by runa
COLUMN     TYPE    RANGE OR LEVELS
outdoor_c  number  -3.5 to 9
mix        text    harbour | works
demand_mw  number  0.7 to 1.4
runa$ find wind
VERSION        TASK        RUNG   LABELS  METRICS   FORMAT  ANSWERS  TAGS  REGISTERED  NOTE
heat-demand@2  regression  draft  -       rmse=0.3  json    -        -     …     with the wind
runa$ find -metric "rmse<0.35" -sort rmse
VERSION        TASK        RUNG   LABELS  METRICS   FORMAT  ANSWERS  TAGS  REGISTERED  NOTE
heat-demand@2  regression  draft  -       rmse=0.3  json    -        -     …     with the wind
runa$ find nothing-like-it
no version is like that; leave a filter out, or see all with: innerladder find
runa$ lineup heat-demand
                  heat-demand@1  heat-demand@2
rung              draft          draft
loss              0.3            -
rmse              0.4            0.3 best
parameter depth   6              -
parameter epochs  2              -
trained on        winters#1      winters#2
code              -              -
run               run-1          -
size              19 B           22 B
format            json           json
registered        …        …
RUN    METRIC  FROM  TO   LAST STEP
run-1  loss    0.5   0.3  2          █▁
runa$ diff heat-demand@1 heat-demand@2
                       heat-demand@1                  heat-demand@2                  DIFFERENCE
metric loss            0.3                            -                              only in from
metric rmse            0.4                            0.3                            better -0.1
parameter depth        6                              -                              removed
parameter epochs       2                              -                              removed
output demand_mw       number, in MW, 0.9 to 1.4      number, 0.9 to 1.4             changed
artifact model-a.json  sha256 …, 19 bytes  -                              removed
artifact model-b.json  -                              sha256 …, 22 bytes  added
trained-on winters     winters#1                      winters#2                      changed
package numpy          ==2.1.3                        -                              removed
package pandas         >=2.2                          -                              removed
importance mix         -                              0.3                            only in to
importance outdoor_c   -                              0.7                            only in to
signature: breaking
model card:
--- heat-demand@1
+++ heat-demand@2
@@ -1,12 +0,0 @@
----
-licence: internal
----
-# Heat demand
-
-## Intended use
-
-The dispatch desk plans by it.
-
-## Limits
-
-Not for summer.
runa$ profile heat-demand@2
240 rows
COLUMN     SIDE    MISSING  DISTINCT  MIN   MEAN  MAX  LEVELS OR DISTRIBUTION
demand_mw  output  0.00 %   4         0.9   1.1   1.4  ▂▂▂▂▂▂▂▂▂▂▂▂▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁█
mix        input   0.00 %   2         -     -     -    harbour works
outdoor_c  input   0.00 %   4         -3.5  2.5   7.5  ▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▂▂▂▂▂▁▁▁▁▁▁▁▁▁█
STRONGEST CORRELATIONS             R
outdoor_c               demand_mw  -0.989
runa 1$ profile heat-demand@1
innerladder profile: heat-demand@1 has no reference profile; register with -sample or -reference and at least 200 rows
runa$ trace heat-demand@2
heat-demand@2  (draft)
  made from
  ├─ derived heat-demand@1  (draft)
  │  ├─ trained-on winters#1  (3 rows)
  │  └─ made-by run-1  (finished, by runa on bench-2)
  │     └─ trained-on winters#1  (see above)
  └─ trained-on winters#2  (4 rows)
runa$ trace -data winters#1 -down
winters#1  (3 rows)
  went into
  ├─ trained-on heat-demand@1  (draft)
  │  └─ derived heat-demand@2  (draft)
  └─ trained-on run-1  (finished, by runa on bench-2)
     └─ made-by heat-demand@1  (see above)
runa 2$ trace
innerladder trace: say where to begin: one version, run, commit, data set or request
runa$ trace -data winters -down
winters#2  (4 rows)
  went into
  └─ trained-on heat-demand@2  (draft)
winters#1  (3 rows)
  went into
  ├─ trained-on heat-demand@1  (draft)
  │  └─ derived heat-demand@2  (draft)
  └─ trained-on run-1  (finished, by runa on bench-2)
     └─ made-by heat-demand@1  (see above)
runa$ edit heat-demand@2 -note "for the cold" -tag winter -tag cold -property season=2026 -why tidying
version     heat-demand@2
note        for the cold
tags        cold winter
properties  season=2026
runa$ label heat-demand@2 beta
heat-demand@beta means heat-demand@2
runa$ labels heat-demand
LABEL  VERSION        HELD IN  MOVED    BY
beta   heat-demand@2  -        …  runa
runa$ show heat-demand@beta
version     heat-demand@2
rung        draft, since …
registered  … by runa
note        for the cold
labels      beta
tags        cold winter
properties  season=2026
metrics     rmse=0.3
data        trained on winters#2
parents     derived from heat-demand@1
profile     of 240 rows; see: innerladder profile heat-demand@2
digest      …
ARTIFACT      FORMAT  SIZE  SHA-256                                                           WHERE
model-b.json  json    22 B  …  kept here
  model-b.json: members weights
COLUMN     SIDE    TYPE    UNIT  RANGE OR LEVELS
outdoor_c  input   number  -     -3.5 to 7.5
mix        input   text    -     harbour | works
demand_mw  output  number  -     0.9 to 1.4
runa 2$ label heat-demand@2 live
innerladder label: "live" cannot be a label: it is a rung of the ladder; choose another word; a version gets on a rung with: innerladder promote
runa$ label heat-demand beta -remove
heat-demand@beta is no more; it meant heat-demand@2
runa 1$ show heat-demand@beta
innerladder show: heat-demand has no label "beta", and no rung is called so; heat-demand has no labels; the rungs are draft, proven, rehearsal, live; there is heat-demand@2 on draft, heat-demand@1 on draft
runa$ attach heat-demand@1 {dir}/plot.txt
ARTIFACT      FORMAT                                 SIZE  SHA-256                                                           WHERE
model-a.json  json                                   19 B  …  kept here
plot.txt      attachment, text/plain; charset=utf-8  7 B   …  kept here
  model-a.json: members weights
runa$ get heat-demand@1 -to {dir}/got
{dir}/got/model-a.json
runa$ detach heat-demand@1 plot.txt
ARTIFACT      FORMAT  SIZE  SHA-256                                                           WHERE
model-a.json  json    19 B  …  kept here
  model-a.json: members weights
runa$ evaluated heat-demand@2 winters#2
heat-demand@2: trained on winters#2, evaluated on winters#2
runa 3$ vet heat-demand -why "checked"
innerladder vet: runa may not sign in any project; ask an owner for a role with the permission "sign"
sif$ vet heat-demand -why "checked against two winters"
heat-demand is vetted; its versions are good parents to start from
odd$ list -vetted
MODEL                 PROJECT      TASK        OWNER  VERSIONS  LIVE  REHEARSAL  PROVEN  DRAFT
heat-demand (vetted)  forecasting  regression  runa   2         -     -          -       @2 @1
odd 3$ edit heat-demand@1 -note mine
innerladder edit: odd may not register in any project; ask an owner for a role with the permission "register"
runa 3$ retire heat-demand@1 -why old
innerladder retire: runa may not prune in any project; ask an owner for a role with the permission "prune"
sif$ retire heat-demand@1 -why old
heat-demand@1 was retired; it stands on retired
sif$ find -rung retired
VERSION                 TASK        RUNG     LABELS  METRICS            FORMAT  ANSWERS  TAGS    REGISTERED  NOTE
heat-demand@1 (vetted)  regression  retired  -       loss=0.3 rmse=0.4  json    -        winter  …     first
sif$ reinstate heat-demand@1 -why "still wanted"
heat-demand@1 was reinstated; it stands on draft
sif$ delete heat-demand@2 -why "personal data"
heat-demand@2 was deleted; its files go with: innerladder collect
runa 1$ show heat-demand@2
innerladder show: heat-demand@2 was deleted by sif on …: personal data; what happened to it: innerladder activity heat-demand@2
runa$ trace heat-demand@1
heat-demand@1  (draft, vetted model)
  made from
  ├─ trained-on winters#1  (3 rows)
  └─ made-by run-1  (finished, by runa on bench-2)
     └─ trained-on winters#1  (see above)
  went into
  └─ derived heat-demand@2  (deleted, vetted model)
sif$ collect -dry-run
0 files that no version needs would be removed, 0 B
`)
}
