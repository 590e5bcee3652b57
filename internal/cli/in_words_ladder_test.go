package cli

import (
	"encoding/json"
	"strings"
	"testing"
)

// A ladder is set, climbed and vouched for; what is refused says why.
func TestTheLadderInWords(t *testing.T) {
	h := openHouse(t)
	h.plays(`
sif$ project add forecasting
forecasting
`)
	h.person("runa", "forecasting:author")
	h.person("tove", "forecasting:approver")
	h.person("kari", "forecasting:approver", "forecasting:operator")
	h.person("odd", "forecasting:reader")
	h.file("a.json", `{"weights": [1]}`)
	h.file("b.json", `{"weights": [2]}`)
	h.file("c.json", `{"weights": [3]}`)
	h.file("tests.xml", `<testsuite name="heat"><testcase name="cold" time="0.2"/><testcase name="wind" time="0.1"/></testsuite>`)
	h.file("broken.xml", `<testsuite name="heat"><testcase name="cold"><failure message="off by 2 MW"/></testcase></testsuite>`)
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
	h.plays(`
runa$ register heat-demand -no-code -project forecasting -task regression -file {dir}/a.json -metric rmse=0.4
heat-demand@1
runa$ ladder forecasting
forecasting: the default ladder
  carried out at once; reminds after 24h, expires after 336h
  live  may answer real traffic
      (rungs below may be skipped)
    - sign_offs count=1
  rehearsal  may run beside the live ones
      (rungs below may be skipped)
    - signature_not_broken
  proven  its bytes are here and it was measured
    - artifact_stored
    - metric_recorded
  draft  registered, nothing asked yet
runa$ ladder try forecasting
TO RUNG    ASKED  WOULD PASS  WAIT FOR PEOPLE  KEPT BACK  BY
live       0      0           0                0          -
rehearsal  0      0           0                0          -
proven     1      1           0                0          -
sif 2$ ladder set forecasting -file {dir}/wrong.yaml -why x
innerladder ladder set: {dir}/wrong.yaml is no ladder: "guess" is no kind of requirement; use one of artifact_stored, metric_recorded, metric, evidence, sign_offs, checklist, card_sections, lineage, signature_not_broken, no_denied_dependency, placed, shadowed, no_freeze
sif 2$ ladder set forecasting -file {dir}/guess.yaml -why x
innerladder ladder set: the name savings does not say whether lower or higher is better; add better: lower, or better: higher
runa 3$ ladder set forecasting -file {dir}/ladder.yaml -why x
innerladder ladder set: runa may not manage in any project; ask an owner for a role with the permission "manage"
sif 2$ ladder set forecasting -file {dir}/ladder.yaml
innerladder ladder set: no reason is given; say why the ladder changes; it is read when someone asks what was demanded then
sif$ ladder set forecasting -file {dir}/ladder.yaml -why "tests first, and one version live"
forecasting: revision 1, … by sif: tests first, and one version live
  carried out at once; reminds after 24h, expires after 336h
  live  answers real traffic
      (holds one version, the other steps down off the ladder)
    - metric at_most=0.5 metric=rmse no_worse_by_share=0.1
    - checklist items=cold-hours
    - sign_offs count=1 roles=approver
  proven
    - evidence evidence=tests no_older_than=24h
  draft
sif 3$ ladder set forecasting -file {dir}/ladder.yaml -why "again" -based-on 0
innerladder ladder set: the ladder of forecasting is at revision 1, not 0; look at it, and decide again
sif$ ladder revisions forecasting
REVISION  RUNGS                  BY   WHEN                               WHY
1         draft → proven → live  sif  …  tests first, and one version live
runa$ ladder try forecasting -file {dir}/ladder.yaml
TO RUNG  ASKED  WOULD PASS  WAIT FOR PEOPLE  KEPT BACK  BY
live     0      0           0                0          -
proven   1      0           0                1          evidence (1)
heat-demand@1 to proven
  waiting  proven     Nothing of kind tests is attached; add it with: innerladder attach heat-demand@1 -kind tests FILE.
runa 3$ gate heat-demand@1
heat-demand@1 from draft to proven
  waiting  proven     Nothing of kind tests is attached; add it with: innerladder attach heat-demand@1 -kind tests FILE.
innerladder gate: 1 of 1 requirements are not met
runa$ attach heat-demand@1 -kind tests {dir}/broken.xml
E-1: tests of heat-demand@1, FAILED
  file    broken.xml, 100 B
  sha256  …
  says    1 of 1 test in 0s failed
  by      runa, …
  failed  cold: off by 2 MW
runa 3$ gate heat-demand@1 -for proven
heat-demand@1 from draft to proven
  FAILED   proven     E-1, broken.xml, failed: 1 of 1 test in 0s failed.
innerladder gate: 1 of 1 requirements are not met
runa 3$ attach heat-demand@1 -kind tests {dir}/broken.xml -verdict passed
innerladder attach: the report failed: 1 of 1 test in 0s failed; attach it without a verdict; what a report says cannot be overruled
runa 2$ attach heat-demand@1 -kind tests {dir}/a.json
innerladder attach: this is no report of tests in JUnit XML: it is empty; attach a JUnit XML file, with the element testsuite or testsuites outside
runa$ attach heat-demand@1 -kind tests {dir}/tests.xml
E-2: tests of heat-demand@1, passed
  file    tests.xml, 103 B
  sha256  …
  says    2 tests in 300ms, all passed
  by      runa, …
runa$ attach heat-demand@1 -kind evaluation {dir}/evaluation.json
E-3: evaluation of heat-demand@1, passed
  file     evaluation.json, 77 B
  sha256   …
  says     rmse 0.3 on 100 rows
  by       runa, …
  metrics  rmse=0.3
runa$ evidence heat-demand@1
ID   KIND        VERDICT  FILE             SAYS                          BY    WHEN
E-3  evaluation  passed   evaluation.json  rmse 0.3 on 100 rows          runa  …
E-2  tests       passed   tests.xml        2 tests in 300ms, all passed  runa  …
E-1  tests       failed   broken.xml       1 of 1 test in 0s failed      runa  …
runa$ evidence E-1
E-1: tests of heat-demand@1, FAILED
  file    broken.xml, 100 B
  sha256  …
  says    1 of 1 test in 0s failed
  by      runa, …
  failed  cold: off by 2 MW
runa 1$ evidence E-9
innerladder evidence: there is no E-9; see what is attached with: innerladder evidence MODEL@NUMBER
runa$ gate heat-demand@1 -for proven
heat-demand@1 from draft to proven
  passed   proven     E-2, tests.xml: 2 tests in 300ms, all passed.
runa 3$ promote heat-demand@1 -to live
innerladder promote: heat-demand@1 stands on draft, and live does not let versions skip a rung; ask for proven first
runa$ promote heat-demand@1 -to proven -wait
P-1: heat-demand@1 from draft to proven, carried out
  asked by  runa, …
  passed   proven     E-2, tests.xml: 2 tests in 300ms, all passed.
runa$ gate heat-demand@1 -for proven
heat-demand@1 stands on proven: nothing is missing for proven
runa$ promote heat-demand@1 -to proven -wait
heat-demand@1 stands on proven already
runa 3$ promote heat-demand@1 -to proven
innerladder promote: heat-demand@1 stands on proven already; nothing needs doing
runa$ promote heat-demand@1 -to live -note "better in wind"
P-2: heat-demand@1 from proven to live, open
  asked by  runa, …
  note      better in wind
  passed   live       rmse is 0.4; nobody stands on live to be worse than.
  waiting  live       1 item of the checklist to look at: cold-hours.
  waiting  live       Waits for 1 sign-off by approver other than runa.
runa 3$ promote heat-demand@1 -to live
innerladder promote: P-2 asks for heat-demand@1 to live already; sign it with: innerladder sign P-2 -yes
runa 5$ promote heat-demand@1 -to live -wait -timeout 10ms
P-2 waits; sign it with: innerladder sign P-2 -yes
P-2: heat-demand@1 from proven to live, open
  asked by  runa, …
  note      better in wind
  passed   live       rmse is 0.4; nobody stands on live to be worse than.
  waiting  live       1 item of the checklist to look at: cold-hours.
  waiting  live       Waits for 1 sign-off by approver other than runa.
innerladder promote: P-2 was not decided within 10ms; ask again with -wait to go on waiting
runa$ gate heat-demand@1 -for live -machines-only
heat-demand@1 from proven to live
  passed   live       rmse is 0.4; nobody stands on live to be worse than.
tove$ reviews -for-me
P-2: heat-demand@1 from proven to live, open
  asked by  runa, …
  note      better in wind
  passed   live       rmse is 0.4; nobody stands on live to be worse than.
  waiting  live       1 item of the checklist to look at: cold-hours.
  waiting  live       Waits for 1 sign-off by approver other than runa.
odd$ reviews -for-me
nothing waits
runa$ reviews -by runa
P-2: heat-demand@1 from proven to live, open
  asked by  runa, …
  note      better in wind
  passed   live       rmse is 0.4; nobody stands on live to be worse than.
  waiting  live       1 item of the checklist to look at: cold-hours.
  waiting  live       Waits for 1 sign-off by approver other than runa.
tove$ review P-2
P-2: heat-demand@1 from proven to live, open
  asked by  runa, …
  note      better in wind
  passed   live       rmse is 0.4; nobody stands on live to be worse than.
  waiting  live       1 item of the checklist to look at: cold-hours.
  waiting  live       Waits for 1 sign-off by approver other than runa.
  [ ] cold-hours: Looked at the coldest hours
  E-3  evaluation, passed: rmse 0.3 on 100 rows
  E-2  tests, passed: 2 tests in 300ms, all passed
runa 3$ sign P-2 -yes
innerladder sign: runa may not sign in any project; ask an owner for a role with the permission "sign"
odd 3$ sign P-2 -yes
innerladder sign: odd may not sign in any project; ask an owner for a role with the permission "sign"
tove 2$ sign P-2 -no
innerladder sign: a no needs a reason; say what must change first
tove 3$ sign P-2 -to odd -note "you know it"
innerladder sign: odd cannot sign P-2; hand it to someone who may sign for live in forecasting
tove$ sign P-2 -to kari -note "you know the harbour"
P-2: heat-demand@1 from proven to live, open
  asked by  runa, …
  note      better in wind
  passed   live       rmse is 0.4; nobody stands on live to be worse than.
  waiting  live       1 item of the checklist to look at: cold-hours.
  waiting  live       Waits for 1 sign-off by approver other than runa; tove handed it to kari.
  signed   tove handed it to kari “you know the harbour”
kari$ sign P-2 -later 48h -note "after the holidays"
P-2: heat-demand@1 from proven to live, open
  asked by  runa, …
  note      better in wind
  passed   live       rmse is 0.4; nobody stands on live to be worse than.
  waiting  live       1 item of the checklist to look at: cold-hours.
  waiting  live       Waits for 1 sign-off by approver other than runa; tove handed it to kari, kari answers after ….
  signed   tove handed it to kari “you know the harbour”
  signed   kari answers after … “after the holidays”
kari 2$ tick P-2 cold-hours
innerladder tick: the tick says nothing; give a note or a link: what did you see?
kari 2$ tick P-2 summer -note x
innerladder tick: the checklist of P-2 has no item "summer"; its items are cold-hours for live
kari$ tick P-2 cold-hours -note "within 0.2 MW"
P-2: heat-demand@1 from proven to live, open
  asked by  runa, …
  note      better in wind
  passed   live       rmse is 0.4; nobody stands on live to be worse than.
  passed   live       All of 1 item ticked.
  waiting  live       Waits for 1 sign-off by approver other than runa; tove handed it to kari, kari answers after ….
  signed   tove handed it to kari “you know the harbour”
  signed   kari answers after … “after the holidays”
  ticked   cold-hours by kari “within 0.2 MW”
tove 3$ carry P-2
innerladder carry: tove may not ask in any project; ask an owner for a role with the permission "ask"
tove$ signing-key make {dir}/tove.pem -title laptop
SHA256:…
the key is in {dir}/tove.pem; keep it to yourself, and sign with: innerladder sign P-1 -yes -key {dir}/tove.pem
tove 2$ signing-key make {dir}/tove.pem
innerladder signing-key make: {dir}/tove.pem is there already; name another file
tove$ signing-keys
FINGERPRINT                                         OWNER         TITLE              PUBLIC KEY                                    ENDED
SHA256:…  inner-ladder  the service's key  …  -
SHA256:…  tove          laptop             …  -
tove$ sign P-2 -yes -note "read the measures" -key {dir}/tove.pem
P-2: heat-demand@1 from proven to live, carried out
  asked by  runa, …
  note      better in wind
  passed   live       rmse is 0.4; nobody stands on live to be worse than.
  passed   live       All of 1 item ticked.
  passed   live       Signed by tove.
  signed   kari answers after … “after the holidays”
  signed   tove said yes “read the measures”
  ticked   cold-hours by kari “within 0.2 MW”
tove$ verify heat-demand@1 -export {dir}/signed.jsonl
3 envelopes are in {dir}/signed.jsonl
heat-demand@1 stands on live; digest …
  right    file a.json, sha256 …
  right    P-2 live: tove handed it over, …, does not count any more “you know the harbour”
           key of the service SHA256:…
  right    P-2 live: kari answers later, … “after the holidays”
           key of the service SHA256:…
  right    P-2 live: tove said yes, … “read the measures”
           own key SHA256:…
runa$ show heat-demand@1
version     heat-demand@1
rung        live, since …, by P-2
registered  … by runa
metrics     rmse=0.4
digest      …
ARTIFACT  FORMAT  SIZE  SHA-256                                                           WHERE
a.json    json    16 B  …  kept here
  a.json: members weights
runa$ register heat-demand -no-code -file {dir}/b.json -metric rmse=0.6
heat-demand@2
runa$ attach heat-demand@2 -kind tests {dir}/tests.xml
E-4: tests of heat-demand@2, passed
  file    tests.xml, 103 B
  sha256  …
  says    2 tests in 300ms, all passed
  by      runa, …
runa$ promote heat-demand@2 -to proven
P-3: heat-demand@2 from draft to proven, carried out
  asked by  runa, …
  passed   proven     E-4, tests.xml: 2 tests in 300ms, all passed.
runa$ promote heat-demand@2 -to live
P-4: heat-demand@2 from proven to live, open
  asked by  runa, …
  against   heat-demand@1
  FAILED   live       rmse is 0.6 and must be at most 0.5.
  waiting  live       1 item of the checklist to look at: cold-hours.
  waiting  live       Waits for 1 sign-off by approver other than runa.
tove$ sign P-4 -no -note "worse in the cold"
P-4: heat-demand@2 from proven to live, refused
  asked by  runa, …
  against   heat-demand@1
  FAILED   live       rmse is 0.6 and must be at most 0.5.
  waiting  live       1 item of the checklist to look at: cold-hours.
  FAILED   live       tove said no: worse in the cold.
  signed   tove said no “worse in the cold”
runa 3$ withdraw P-4
innerladder withdraw: P-4 is closed already; nothing needs doing
runa 3$ promote heat-demand@2 -to live -emergency -note "the other one is down"
innerladder promote: runa may not override in the project forecasting; ask an owner of forecasting for a role with the permission "override"
sif 2$ promote heat-demand@2 -to live -emergency
innerladder promote: an emergency needs a reason; say why it cannot wait for its gate
sif$ promote heat-demand@2 -to live -emergency -note "the other one is down"
EMERGENCY P-5: heat-demand@2 from proven to live, to review
  asked by  sif, …
  note      the other one is down
  against   heat-demand@1
  FAILED   live       rmse is 0.6 and must be at most 0.5.
  waiting  live       1 item of the checklist to look at: cold-hours.
  waiting  live       Waits for 1 sign-off by approver other than sif.
  it was carried out past its gate; someone other than sif must say whether that was right: innerladder sign P-5 -yes
runa$ list heat-demand
VERSION        RUNG              LABELS  METRICS   FORMAT  SIZE  REGISTERED  BY    NOTE
heat-demand@2  live (EMERGENCY)  -       rmse=0.6  json    16 B  …     runa  -
heat-demand@1  retired           -       rmse=0.4  json    16 B  …     runa  -
sif 3$ sign P-5 -yes
innerladder sign: sif carried P-5 out past its gate and cannot sign it; someone else must say whether that was right
sif 3$ withdraw P-5
innerladder withdraw: P-5 was carried out in an emergency and waits for its review; someone else signs it; a no takes the version down again
tove$ sign P-5 -yes -note "it was needed"
EMERGENCY P-5: heat-demand@2 from proven to live, carried out
  asked by  sif, …
  note      the other one is down
  FAILED   live       rmse is 0.6 and must be at most 0.5.
  waiting  live       1 item of the checklist to look at: cold-hours.
  waiting  live       Waits for 1 sign-off by approver other than sif.
  signed   tove said yes “it was needed”
runa$ show heat-demand@2
version     heat-demand@2
rung        live, since …, emergency by P-5, reviewed
registered  … by runa
metrics     rmse=0.6
digest      …
ARTIFACT  FORMAT  SIZE  SHA-256                                                           WHERE
b.json    json    16 B  …  kept here
  b.json: members weights
runa 1$ verify heat-demand@9x
innerladder verify: heat-demand has no label "9x", and no rung is called so; heat-demand has no labels; the rungs are draft, proven, live; there is heat-demand@1 on retired, heat-demand@2 on live
`)
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
	h.plays(`
tove$ signing-key end {key}
SHA256:… signs nothing any more; what it signed stays signed
tove 1$ signing-key end {key}
innerladder signing-key end: tove has no key SHA256:… in use; see yours with: innerladder signing-keys
runa$ register heat-demand -no-code -file {dir}/c.json -metric rmse=0.3
heat-demand@3
runa$ attach heat-demand@3 -kind tests {dir}/tests.xml
E-5: tests of heat-demand@3, passed
  file    tests.xml, 103 B
  sha256  …
  says    2 tests in 300ms, all passed
  by      runa, …
runa$ promote heat-demand@3 -to proven
P-6: heat-demand@3 from draft to proven, carried out
  asked by  runa, …
  passed   proven     E-5, tests.xml: 2 tests in 300ms, all passed.
runa$ promote heat-demand@3 -to live
P-7: heat-demand@3 from proven to live, open
  asked by  runa, …
  against   heat-demand@2
  passed   live       rmse is 0.3, heat-demand@2 has 0.6.
  waiting  live       1 item of the checklist to look at: cold-hours.
  waiting  live       Waits for 1 sign-off by approver other than runa.
runa$ withdraw P-7 -why "wrong version"
P-7: heat-demand@3 from proven to live, withdrawn
  asked by  runa, …
  against   heat-demand@2
  passed   live       rmse is 0.3, heat-demand@2 has 0.6.
  waiting  live       1 item of the checklist to look at: cold-hours.
  waiting  live       Waits for 1 sign-off by approver other than runa.
runa$ reviews
nothing waits
runa$ reviews -all -limit 3
P-7: heat-demand@3 from proven to live, withdrawn
  asked by  runa, …
  against   heat-demand@2
  passed   live       rmse is 0.3, heat-demand@2 has 0.6.
  waiting  live       1 item of the checklist to look at: cold-hours.
  waiting  live       Waits for 1 sign-off by approver other than runa.
P-6: heat-demand@3 from draft to proven, carried out
  asked by  runa, …
  passed   proven     E-5, tests.xml: 2 tests in 300ms, all passed.
EMERGENCY P-5: heat-demand@2 from proven to live, carried out
  asked by  sif, …
  note      the other one is down
  against   heat-demand@1
  FAILED   live       rmse is 0.6 and must be at most 0.5.
  waiting  live       1 item of the checklist to look at: cold-hours.
  waiting  live       Waits for 1 sign-off by approver other than sif.
  signed   tove said yes “it was needed”
there are more: -cursor NQ
runa$ activity heat-demand@1
    51  …  sif          heat-demand@1 stepped down from live to retired: live holds one version of a model, and heat-demand@2 came.
    42  …  tove         P-2: heat-demand@1 stepped up to live.
    41  …  tove         P-2: tove said yes to heat-demand@1 on live.
                                          “read the measures”
    39  …  kari         P-2: kari looked at cold-hours.
                                          “within 0.2 MW”
    38  …  kari         P-2: kari answers later about heat-demand@1 on live.
                                          “after the holidays”
    37  …  tove         P-2: tove handed the review of heat-demand@1 to kari.
                                          “you know the harbour”
    36  …  runa         P-2: runa asks for heat-demand@1 to live.
                                          “better in wind”
    35  …  runa         P-1: heat-demand@1 stepped up to proven.
    34  …  runa         P-1: runa asks for heat-demand@1 to proven.
    33  …  runa         E-3: evaluation.json was attached to heat-demand@1 as evidence of kind evaluation: rmse 0.3 on 100 rows.
    32  …  runa         E-2: tests.xml was attached to heat-demand@1 as evidence of kind tests: 2 tests in 300ms, all passed.
    31  …  runa         E-1: broken.xml was attached to heat-demand@1 as evidence of kind tests: 1 of 1 test in 0s failed.
    29  …  runa         heat-demand@1 was registered.
`)
}
