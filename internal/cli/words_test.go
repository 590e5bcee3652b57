package cli

import (
	"encoding/json"
	"io"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// What programs read: the members that pipelines rely on, of the commands that they use.
func TestAnswersForMachines(t *testing.T) {
	h := openHouse(t)
	h.plays("json")
	h.person("runa", "forecasting:author")
	h.person("tove", "forecasting:approver")
	h.file("a.json", `{"weights": [1]}`)
	h.file("b.json", `{"weights": [2]}`)
	h.file("rows.csv", "outdoor_c,demand_mw\n-3.5,1.4\n2,1.1\n")
	h.file("tests.xml",
		`<testsuite name="heat"><testcase name="cold" time="0.2"/><testcase name="wind" time="0.1"/></testsuite>`)
	h.plays("json-2")
}

// A ladder is set, climbed and vouched for; what is refused says why.
func TestTheLadderInWords(t *testing.T) {
	h := openHouse(t)
	h.plays("ladder")
	h.person("runa", "forecasting:author")
	h.person("tove", "forecasting:approver")
	h.person("kari", "forecasting:approver", "forecasting:operator")
	h.person("odd", "forecasting:reader")
	h.file("a.json", `{"weights": [1]}`)
	h.file("b.json", `{"weights": [2]}`)
	h.file("c.json", `{"weights": [3]}`)
	h.file("tests.xml",
		`<testsuite name="heat"><testcase name="cold" time="0.2"/><testcase name="wind" time="0.1"/></testsuite>`)
	h.file("broken.xml",
		`<testsuite name="heat"><testcase name="cold"><failure message="off by 2 MW"/></testcase></testsuite>`)
	h.file("evaluation.json", `{"rows": 100, "metrics": {"rmse": 0.3}, "limits": {"rmse": {"at_most": 0.5}}}`)
	h.file("ladder.yaml", `rungs:
  - name: draft
  - name: proven
    gate:
      - kind: evidence
        evidence: tests
        no_older_than: 24h
  - name: live
    meaning: answers real traffic
    holds_one: true
    displaced: retired
    gate:
      - kind: metric
        metric: rmse
        at_most: 0.5
        no_worse_by_share: 0.1
      - kind: checklist
        items:
          - name: cold-hours
            text: Looked at the coldest hours
      - kind: sign_offs
        count: 1
        roles: [approver]
`)
	h.file("wrong.yaml", "rungs:\n  - name: draft\n  - name: live\n    gate:\n      - kind: guess\n")
	h.file("guess.yaml", "rungs:\n  - name: draft\n  - name: live\n    gate:\n      - kind: metric\n        metric: "+
		"savings\n        no_worse_by: 1\n")
	h.plays("ladder-2")
	// What was exported is one DSSE envelope a line, as other tools read them.
	exported := strings.Split(strings.TrimSpace(h.read("signed.jsonl")), "\n")
	for _, line := range exported {
		var e struct {
			PayloadType string
			Payload     []byte
			Signatures  []struct{ Keyid, Sig string }
		}
		if err := json.Unmarshal([]byte(line), &e); err != nil || e.PayloadType != "application/vnd.in-toto+json" ||
			len(e.Signatures) != 1 || !strings.Contains(string(e.Payload), `"https://in-toto.io/Statement/v1"`) {
			t.Errorf("%v: %s", err, line)
		}
	}
	if len(exported) != 3 {
		t.Errorf("%d envelopes", len(exported))
	}
	h.finds("key", "tove", "signing-keys", `(SHA256:\S+) +tove`)
	h.plays("ladder-3")
}

// People, robots, roles and tokens; who may not is told so.
func TestPeopleInWords(t *testing.T) {
	h := openHouse(t)
	h.plays("people")
	h.person("runa", "forecasting:author")
	h.person("tove", "forecasting:approver")
	h.plays("people-2")
}

// The record is searched, exported, checked; comments and webhooks; what is kept is put away and brought back.
func TestKeepingInWords(t *testing.T) {
	h := openHouse(t)
	h.plays("record")
	h.person("runa", "forecasting:author", "forecasting:operator")
	h.person("odd", "forecasting:reader")
	h.file("a.json", `{"weights": [1]}`)
	h.file("plant.secret", "Bearer hunter2\n")
	h.plays("record-2")
}

// What cannot be is refused with the field and what to do, and nothing of it is kept.
func TestRefusalsInWords(t *testing.T) {
	h := openHouse(t)
	h.plays("refusals")
	h.plays("refusals-2")
	h.person("runa", "forecasting:author", "forecasting:operator", "maintenance:author")
	h.person("tove", "forecasting:approver")
	h.file("a.json", `{"weights": [1]}`)
	h.file("b.json", `{"weights": [2]}`)
	h.file("plot.txt", "a plot\n")
	h.file("empty", "")
	h.file("ask.yaml", "rungs:\n  - name: draft\n  - name: live\n    ask: [owner]\n")
	h.plays("refusals-3")
}

const rows = "outdoor_c,mix,demand_mw\n-3.5,harbour,1.4\n2,works,1.1\n7.5,harbour,0.9\n"

// From a training to a version that can be found, compared and traced.
func TestTheRegistryInWords(t *testing.T) {
	h := openHouse(t)
	h.plays("registry")
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
	h.plays("registry-2")
}

// Everyone sees what their roles show, and nothing says that there is more.
func TestSightInWords(t *testing.T) {
	h := openHouse(t)
	h.plays("sight")
	h.plays("sight-2")
	h.person("runa", "forecasting:author", "forecasting:operator", "maintenance:author", "maintenance:operator")
	h.person("odd", "forecasting:reader")
	h.person("gro", "maintenance:reader")
	h.person("kari", "maintenance:approver")
	h.file("a.json", `{"weights": [1]}`)
	h.file("b.json", `{"weights": [2]}`)
	h.file("rows.csv", "flow,fault\n1,ok\n2,leaking\n")
	h.plays("sight-3")
}

const fittedModel = `{"format":"innerladder-standin-model/1","name":"heat-demand",
 "inputs":[{"name":"outdoor_c","type":"number"},{"name":"mix","type":"text"}],"output":{"name":"demand_mw","type":"number"},
 "terms":[{"of":["outdoor_c"],"how":"below","limit":17,"centre":0,"scale":1}],"weights":[[0.5,0.1]],"fill":{"outdoor_c":7}}`

// twoServers has two people and two model servers: an author and an approver, {one} and {two}.
func (h *house) twoServers() {
	h.t.Helper()
	h.person("runa", "forecasting:author", "forecasting:operator")
	h.person("tove", "forecasting:approver")
	h.file("model.json", fittedModel)
	h.file("other.json", strings.Replace(fittedModel, "0.5", "0.6", 1))
	for word, file := range map[string]string{"one": "model.json", "two": "other.json"} {
		h.words[word] = background(h.t, "standin", "-listen", "127.0.0.1:0", "-model", filepath.Join(h.dir, file)).
			find(h.t, `(http://[0-9.:]+)`)
	}
}

// Placing, splitting, comparing and going back.
func TestTrafficInWords(t *testing.T) {
	h := openHouse(t)
	h.plays("traffic")
	h.twoServers()
	h.plays("traffic-2")
}

// Moving an endpoint by a plan: foreseeing it, starting it, holding it, and how it ends for a pipeline.
func TestRolloutsInWords(t *testing.T) {
	h := openHouse(t)
	h.plays("rollouts")
	h.twoServers()
	h.file("wrong.yaml", "name: ours\nkind: canary\nsteps:\n  - share: 200 %\nbake:\n  time: 1h\n")
	h.file("ours.yaml", "name: ours\nkind: canary\nsteps:\n  - share: 10 %\n    time: 1h\nbake:\n  time: 1h\n")
	h.plays("rollouts-2")
	ended := make(chan int, 1)
	go func() {
		code, _ := h.types("runa", fields(`roll demand-hourly -to heat-demand@2 -plan ours -wait`))
		ended <- code
	}()
	h.awaits("runa", "rollout show R-3", "step 1 of 1")
	h.plays("rollouts-3")
	if code := <-ended; code != RolledBack {
		t.Errorf("the pipeline ended with %d, want %d", code, RolledBack)
	}
}

// Looking up what was asked, trying it again, and what was turned away.
func TestRequestsInWords(t *testing.T) {
	h := openHouse(t)
	h.plays("traffic")
	h.twoServers()
	h.plays("requests")
	h.words["mild"], h.words["cold"] = h.asked("demand-hourly", "4"), h.asked("demand-hourly", "-12")
	h.words["gone"] = h.asked("demand-hourly/versions/9", "1")
	h.words["stray"] = h.asked("demand-houly", "1")
	h.awaits("sif", "requests", h.words["stray"])
	h.awaits("runa", "refusals demand-hourly", "endpoint.no_such_lane")
	h.file("row.json", `{"inputs":[{"name":"outdoor_c","shape":[1],"datatype":"FP64","data":[-12]},`+
		`{"name":"mix","shape":[1],"datatype":"BYTES","data":["harbour"]}]}`)
	h.plays("requests-2")
	h.awaits("runa", "watches demand-hourly", "error_rate")
}

// asked calls an endpoint once, and gives the id of the request.
func (h *house) asked(path, outdoor string) string {
	h.t.Helper()
	res, err := http.Post(h.words["gateway"]+"/v2/models/"+path+"/infer", "application/json", strings.NewReader(
		`{"inputs":[{"name":"outdoor_c","shape":[1],"datatype":"FP64","data":[`+outdoor+
			`]},{"name":"mix","shape":[1],"datatype":"BYTES","data":["harbour"]}]}`))
	if err != nil {
		h.t.Fatal(err)
	}
	defer res.Body.Close()
	_, _ = io.Copy(io.Discard, res.Body)
	return res.Header.Get("Inner-Ladder-Request")
}

// Saying what is watched, telling what was true, and looking at how right it was and what has moved.
func TestJudgingInWords(t *testing.T) {
	h := openHouse(t)
	h.plays("traffic")
	h.twoServers()
	h.plays("requests")
	h.words["mild"], h.words["cold"] = h.asked("demand-hourly", "4"), h.asked("demand-hourly", "-12")
	h.file("truth.csv", "request,demand_mw\n"+h.words["mild"]+",1.5\n"+h.words["cold"]+",3.5\nnobody,1\n,2\n")
	h.file("keys.jsonl", `{"outdoor_c":4,"when":"`+time.Now().UTC().Format(time.RFC3339)+`","metered":2.0}`+"\n"+
		`{"outdoor_c":4,"when":"soon","metered":2.0}`+"\n")
	h.file("watches.yaml", "owner: the desk\nwatches:\n  - signal: error_rate\n    limit: 2 %\n    then: hold\n")
	h.file("wrong.yaml", "watches:\n  - signal: error_rate\n    limit: 200ms\n")
	h.awaits("runa", "request "+h.words["cold"], "heat-demand@1")
	h.plays("judged")
	h.file("costs.csv",
		"request,id,dispatch_cost\n"+h.words["cold"]+",,55.5\n"+h.words["cold"]+",late,4.5\nnobody,,1\n"+
			h.words["mild"]+",,\n")
	h.file("nights.jsonl", `{"version":"heat-demand@1","night":"n5","when":"`+time.Now().UTC().Format(time.RFC3339)+
		`","eur":30}`+"\n"+`{"version":"heat-demand@live","night":"n6","when":"2026-01-31","eur":30}`+"\n")
	h.plays("custom")
}
