package cli

import (
	"path/filepath"
	"strings"
	"testing"
)

const fittedModel = `{"format":"innerladder-standin-model/1","name":"heat-demand",
 "inputs":[{"name":"outdoor_c","type":"number"},{"name":"mix","type":"text"}],"output":{"name":"demand_mw","type":"number"},
 "terms":[{"of":["outdoor_c"],"how":"below","limit":17,"centre":0,"scale":1}],"weights":[[0.5,0.1]],"fill":{"outdoor_c":7}}`

// Placing, splitting, comparing and going back.
func TestTrafficInWords(t *testing.T) {
	h := openHouse(t)
	h.plays(`
sif$ project add forecasting
forecasting
`)
	h.person("runa", "forecasting:author", "forecasting:operator")
	h.person("tove", "forecasting:approver")
	h.file("model.json", fittedModel)
	h.file("other.json", strings.Replace(fittedModel, "0.5", "0.6", 1))
	h.words["one"] = background(t, "standin", "-listen", "127.0.0.1:0", "-model", filepath.Join(h.dir, "model.json")).
		find(t, `(http://[0-9.:]+)`)
	h.words["two"] = background(t, "standin", "-listen", "127.0.0.1:0", "-model", filepath.Join(h.dir, "other.json")).
		find(t, `(http://[0-9.:]+)`)
	h.plays(`
runa$ register heat-demand -no-code -project forecasting -task regression -file {dir}/model.json -metric rmse=0.4
heat-demand@1
runa$ register heat-demand -no-code -file {dir}/other.json -metric rmse=0.3
heat-demand@2
runa$ promote heat-demand@1 -to live
P-1: heat-demand@1 from draft to live, open
  asked by  runa, …
  passed   proven     1 artifact stored; the bytes had the registered digest when they were read, at ….
  passed   proven     1 metric recorded.
  passed   rehearsal  Nobody stands on live whose callers could break.
  waiting  live       Waits for 1 sign-off by someone other than runa.
tove$ sign P-1 -yes
P-1: heat-demand@1 from draft to live, carried out
  asked by  runa, …
  passed   proven     1 artifact stored; the bytes had the registered digest when they were read, at ….
  passed   proven     1 metric recorded.
  passed   rehearsal  Nobody stands on live whose callers could break.
  passed   live       Signed by tove.
  signed   tove said yes
runa$ environment list
ENVIRONMENT  PLACEMENTS  ABOUT
runa 1$ place heat-demand@1 -env plant-north -at {one}
innerladder place: there is no environment "plant-north"; there are no environments yet; add it with: innerladder environment add NAME
sif$ environment add plant-north
plant-north
runa 3$ place heat-demand@1 -env plant-north -at http://127.0.0.1:9
innerladder place: heat-demand at http://127.0.0.1:…: connection refused; start the model server, see that it speaks the Open Inference Protocol and is ready, and name the model with -as if it is called otherwise there
runa$ place heat-demand@1 -env plant-north -at {one}
VERSION        ENVIRONMENT  ADDRESS                 HEALTH   SINCE    SERVED AS
heat-demand@1  plant-north  http://127.0.0.1:…  healthy  …  heat-demand
runa$ place heat-demand@2 -env plant-north -at {two}
VERSION        ENVIRONMENT  ADDRESS                 HEALTH   SINCE    SERVED AS
heat-demand@2  plant-north  http://127.0.0.1:…  healthy  …  heat-demand
runa$ placements
VERSION        ENVIRONMENT  ADDRESS                 HEALTH   SINCE    SERVED AS
heat-demand@1  plant-north  http://127.0.0.1:…  healthy  …  heat-demand
heat-demand@2  plant-north  http://127.0.0.1:…  healthy  …  heat-demand
runa 1$ endpoint add demand-hourly -model heat-demands -env plant-north
innerladder endpoint add: there is no model "heat-demands"; the models are heat-demand
runa$ endpoint add demand-hourly -model heat-demand -env plant-north -about "for the dispatch desk"
demand-hourly
runa 3$ endpoint add demand-hourly -model heat-demand -env plant-north
innerladder endpoint add: there is an endpoint demand-hourly already; use it, or choose another name
runa 3$ split demand-hourly heat-demand@2=100
innerladder split: heat-demand@2 stands on draft; demand-hourly demands live; ask for it with: innerladder promote heat-demand@2 -to live
runa$ split demand-hourly heat-demand@1=100 -why "opening night"
demand-hourly#1 is in force: heat-demand@1 100 %
runa$ promote heat-demand@2 -to live
P-2: heat-demand@2 from draft to live, open
  asked by  runa, …
  against   heat-demand@1
  passed   proven     1 artifact stored; the bytes had the registered digest when they were read, at ….
  passed   proven     1 metric recorded.
  passed   rehearsal  Not compared with heat-demand@1: a signature is missing.
  waiting  live       Waits for 1 sign-off by someone other than runa.
tove$ sign P-2 -yes
P-2: heat-demand@2 from draft to live, carried out
  asked by  runa, …
  against   heat-demand@1
  passed   proven     1 artifact stored; the bytes had the registered digest when they were read, at ….
  passed   proven     1 metric recorded.
  passed   rehearsal  Not compared with heat-demand@1: a signature is missing.
  passed   live       Signed by tove.
  signed   tove said yes
runa$ split demand-hourly heat-demand@1=90 heat-demand@2=10 -why "first look"
demand-hourly#2 is in force: heat-demand@1 90 %, heat-demand@2 10 % trial
runa 3$ split demand-hourly heat-demand@1=50 heat-demand@2=50 -if 1
innerladder split: the split in force is demand-hourly#2, not #1; look at it, and decide again
runa$ endpoint show demand-hourly
endpoint     demand-hourly
model        heat-demand
environment  plant-north
demands      live
about        for the dispatch desk
#2 by runa, … “first look”
LANE   VERSION        SHARE  HEALTH   REQUESTS  FAILED  A SECOND  ERRORS NOW  P50     P95     P99
main   heat-demand@1  90 %   healthy  0         0       0.0       0.00 %      0.0 ms  0.0 ms  0.0 ms
trial  heat-demand@2  10 %   healthy  0         0       0.0       0.00 %      0.0 ms  0.0 ms  0.0 ms
guards
  error_rate         0 % of what rolls back: heat-demand@2 failed 0 of 0 requests (0.00 %), heat-demand@1 0 of 0 (0.00 %); no sign that it is worse than allowed.
  prediction_drift   0 % of what rolls back: heat-demand@2 has no predictions to compare yet.
runa$ endpoint list
ENDPOINT       MODEL        ENVIRONMENT  SPLIT  LANES                                         SINCE
demand-hourly  heat-demand  plant-north  #2     heat-demand@1 90 %, heat-demand@2 10 % trial  …
runa$ compare demand-hourly heat-demand@1 heat-demand@2
demand-hourly, … to …
             heat-demand@1  95 %           heat-demand@2  95 %           DIFFERENCE  95 %  VERDICT
requests     0              -              0              -              -           -     -
error_rate   0.00 %         0.00 … 100.00  0.00 %         0.00 … 100.00  -           -     not enough to tell
latency_p50  0.0 ms         -              0.0 ms         -              -           -     not enough to tell
latency_p90  0.0 ms         -              0.0 ms         -              -           -     not enough to tell
latency_p95  0.0 ms         -              0.0 ms         -              -           -     not enough to tell
latency_p99  0.0 ms         -              0.0 ms         -              -           -     not enough to tell
heat-demand@2 answered 0 requests, heat-demand@1 0. Neither answered anything in this time.
runa$ back demand-hourly -why "complaints"
demand-hourly#3 is in force: heat-demand@1 100 %
runa 3$ back demand-hourly -why "again" -if 1
innerladder back: the split in force is demand-hourly#3, not #1; look at it, and decide again
runa$ splits demand-hourly
SPLIT  LANES                                         RETURNS TO  BY    WHEN     WHY
#3     heat-demand@1 100 %                           #1          runa  …  complaints
#2     heat-demand@1 90 %, heat-demand@2 10 % trial  -           runa  …  first look
#1     heat-demand@1 100 %                           -           runa  …  opening night
runa$ alerts
there are no alerts
runa 1$ alert A-1 -resolve
innerladder alert: there is no A-1; see them with: innerladder alerts
runa$ caller add demand-hourly dispatch-tool
dispatch-tool sends it as Inner-Ladder-Key; it is shown this once:
il…
runa$ callers demand-hourly
demand-hourly answers only callers that have a key
CALLER         ENDS IN  GIVEN BY
dispatch-tool  …    runa, …
runa$ caller remove demand-hourly dispatch-tool
the key of dispatch-tool holds no more
runa$ callers demand-hourly -open -reason "nobody else reaches it"
demand-hourly answers anyone who can reach the gateway
CALLER  ENDS IN  GIVEN BY
runa 3$ unplace heat-demand@1 -env plant-north
innerladder unplace: heat-demand@1 answers for demand-hourly; take it out of the split first with: innerladder split demand-hourly …
runa$ unplace heat-demand@2 -env plant-north
VERSION        ENVIRONMENT  ADDRESS                 HEALTH   SINCE    SERVED AS
heat-demand@2  plant-north  http://127.0.0.1:…  healthy  …  heat-demand
runa$ standin tell {one} -delay 5ms
ready after 0s, delay 5ms, 0 % of requests fail, bias +0, crash after 0s
runa 2$ standin tell {one} -fail 200
innerladder standin tell: give delays from 0, a share of failures from 0 to 100, and a finite bias
`)
}
