package cli

import "testing"

// What programs read: the members that pipelines rely on, of the commands that they use.
func TestAnswersForMachines(t *testing.T) {
	h := openHouse(t)
	h.plays(`
sif$ project add forecasting
forecasting
`)
	h.person("runa", "forecasting:author")
	h.person("tove", "forecasting:approver")
	h.file("a.json", `{"weights": [1]}`)
	h.file("b.json", `{"weights": [2]}`)
	h.file("rows.csv", "outdoor_c,demand_mw\n-3.5,1.4\n2,1.1\n")
	h.file("tests.xml", `<testsuite name="heat"><testcase name="cold" time="0.2"/><testcase name="wind" time="0.1"/></testsuite>`)
	h.plays(`
runa$ whoami -json
{
  "name": "runa",
  "added_by": "sif",
  "added_at": "…",
  "memberships": [
    {
      "project": "forecasting",
      "role": "author"
    }
  ],
  "may": {
    "forecasting": [
      "read",
      "comment",
      "register",
      "ask"
    ]
  },
  "has_password": true,
  "unread": 0
}
runa$ data add winters {dir}/rows.csv -project forecasting -address s3://tarnholm/winters -json
{
  "ref": "winters#1",
  "name": "winters",
  "number": 1,
  "project": "forecasting",
  "address": "s3://tarnholm/winters",
  "digest": "…",
  "rows": 2,
  "size": 35,
  "schema": [
    {
      "name": "outdoor_c",
      "type": "number",
      "nullable": false,
      "min": -3.5,
      "max": 2
    },
    {
      "name": "demand_mw",
      "type": "number",
      "nullable": false,
      "min": 1.1,
      "max": 1.4
    }
  ],
  "added_by": "runa",
  "added_at": "…",
  "created": true
}
runa$ run start heat-demand -no-code -machine bench-2 -param depth=6 -data winters -project forecasting -json
{
  "ref": "run-1",
  "number": 1,
  "project": "forecasting",
  "model": "heat-demand",
  "state": "running",
  "by": "runa",
  "machine": "bench-2",
  "started": "…",
  "params": {
    "depth": "6"
  },
  "metrics": {},
  "data": [
    {
      "data": "winters#1",
      "role": "trained-on"
    }
  ]
}
runa$ run log run-1 -step 1 -metric loss=0.5 -json
{
  "run": "run-1",
  "points": 1,
  "params": 0
}
runa$ run end run-1 -json
{
  "ref": "run-1",
  "number": 1,
  "project": "forecasting",
  "model": "heat-demand",
  "state": "finished",
  "by": "runa",
  "machine": "bench-2",
  "started": "…",
  "ended": "…",
  "params": {
    "depth": "6"
  },
  "metrics": {
    "loss": 0.5
  },
  "data": [
    {
      "data": "winters#1",
      "role": "trained-on"
    }
  ]
}
runa$ register heat-demand -no-code -project forecasting -file {dir}/a.json -metric rmse=0.4 -run run-1 -sample {dir}/rows.csv -target demand_mw -json
{
  "ref": "heat-demand@1",
  "project": "forecasting",
  "model": "heat-demand",
  "number": 1,
  "digest": "…",
  "artifacts": [
    {
      "name": "a.json",
      "digest": "…",
      "size": 16,
      "stored": true,
      "contents": {
        "format": "json",
        "facts": [
          {
            "name": "members",
            "value": "weights"
          }
        ]
      }
    }
  ],
  "metrics": {
    "loss": 0.5,
    "rmse": 0.4
  },
  "params": {
    "depth": "6"
  },
  "signature": {
    "inputs": [
      {
        "name": "outdoor_c",
        "type": "number",
        "nullable": false,
        "min": -3.5,
        "max": 2
      }
    ],
    "outputs": [
      {
        "name": "demand_mw",
        "type": "number",
        "nullable": false,
        "min": 1.1,
        "max": 1.4
      }
    ]
  },
  "run": "run-1",
  "data": [
    {
      "data": "winters#1",
      "role": "trained-on"
    }
  ],
  "sample_request": {
    "inputs": [
      {
        "name": "outdoor_c",
        "shape": [
          1
        ],
        "datatype": "FP64",
        "data": [
          -3.5
        ]
      }
    ]
  },
  "rung": "draft",
  "rung_since": "…",
  "created_by": "runa",
  "created_at": "…",
  "created": true
}
runa$ register heat-demand -no-code -file {dir}/b.json -metric rmse=0.3 -parent heat-demand@1 -json
{
  "ref": "heat-demand@2",
  "project": "forecasting",
  "model": "heat-demand",
  "number": 2,
  "digest": "…",
  "artifacts": [
    {
      "name": "b.json",
      "digest": "…",
      "size": 16,
      "stored": true,
      "contents": {
        "format": "json",
        "facts": [
          {
            "name": "members",
            "value": "weights"
          }
        ]
      }
    }
  ],
  "metrics": {
    "rmse": 0.3
  },
  "params": {},
  "parents": [
    {
      "version": "heat-demand@1",
      "relation": "derived"
    }
  ],
  "rung": "draft",
  "rung_since": "…",
  "created_by": "runa",
  "created_at": "…",
  "created": true
}
runa$ list heat-demand -json
{
  "items": [
    {
      "ref": "heat-demand@2",
      "project": "forecasting",
      "model": "heat-demand",
      "number": 2,
      "digest": "…",
      "artifacts": [
        {
          "name": "b.json",
          "digest": "…",
          "size": 16,
          "stored": true,
          "contents": {
            "format": "json"
          }
        }
      ],
      "metrics": {
        "rmse": 0.3
      },
      "params": {},
      "rung": "draft",
      "rung_since": "…",
      "created_by": "runa",
      "created_at": "…"
    },
    {
      "ref": "heat-demand@1",
      "project": "forecasting",
      "model": "heat-demand",
      "number": 1,
      "digest": "…",
      "artifacts": [
        {
          "name": "a.json",
          "digest": "…",
          "size": 16,
          "stored": true,
          "contents": {
            "format": "json"
          }
        }
      ],
      "metrics": {
        "loss": 0.5,
        "rmse": 0.4
      },
      "params": {
        "depth": "6"
      },
      "run": "run-1",
      "data": [
        {
          "data": "winters#1",
          "role": "trained-on"
        }
      ],
      "rung": "draft",
      "rung_since": "…",
      "created_by": "runa",
      "created_at": "…"
    }
  ]
}
runa$ diff heat-demand@1 heat-demand@2 -json
{
  "from": "heat-demand@1",
  "to": "heat-demand@2",
  "metrics": [
    {
      "name": "loss",
      "from": 0.5,
      "verdict": "only in from"
    },
    {
      "name": "rmse",
      "from": 0.4,
      "to": 0.3,
      "difference": -0.…,
      "verdict": "better"
    }
  ],
  "params": [
    {
      "name": "depth",
      "from": "6",
      "to": "",
      "kind": "removed"
    }
  ],
  "signature": [],
  "artifacts": [
    {
      "name": "a.json",
      "from": "sha256 …, 16 bytes",
      "to": "",
      "kind": "removed"
    },
    {
      "name": "b.json",
      "from": "",
      "to": "sha256 …, 16 bytes",
      "kind": "added"
    }
  ],
  "code": [],
  "data": [
    {
      "name": "trained-on winters",
      "from": "winters#1",
      "to": "",
      "kind": "removed"
    }
  ],
  "dependencies": [],
  "importance": [],
  "compatibility": "unknown"
}
runa$ attach heat-demand@1 -kind tests {dir}/tests.xml -json
{
  "id": "E-1",
  "version": "heat-demand@1",
  "project": "forecasting",
  "kind": "tests",
  "name": "tests.xml",
  "digest": "…",
  "size": 103,
  "media": "text/plain; charset=utf-8",
  "verdict": "passed",
  "added_by": "runa",
  "added_at": "…",
  "says": "2 tests in 300ms, all passed",
  "tests": {
    "total": 2,
    "failures": 0,
    "errors": 0,
    "skipped": 0,
    "seconds": 0.…,
    "suites": [
      {
        "name": "heat",
        "total": 2,
        "failed": 0,
        "skipped": 0,
        "seconds": 0.…
      }
    ]
  }
}
runa 3$ gate heat-demand@1 -for live -json
{
  "version": "heat-demand@1",
  "from": "draft",
  "to": "live",
  "ladder": 0,
  "met": false,
  "findings": [
    {
      "rung": "proven",
      "requirement": "artifact_stored",
      "state": "passed",
      "sentence": "1 artifact stored; the bytes had the registered digest when they were read, at ….",
      "proof": "heat-demand@1"
    },
    {
      "rung": "proven",
      "requirement": "metric_recorded",
      "state": "passed",
      "sentence": "2 metrics recorded.",
      "proof": "heat-demand@1"
    },
    {
      "rung": "rehearsal",
      "requirement": "signature_not_broken",
      "state": "passed",
      "sentence": "Nobody stands on live whose callers could break."
    },
    {
      "rung": "live",
      "requirement": "sign_offs",
      "state": "waiting",
      "sentence": "Waits for 1 sign-off by someone other than the one who asks.",
      "by_people": true
    }
  ]
}
innerladder gate: 1 of 4 requirements are not met
runa$ promote heat-demand@1 -to live -note "better" -json
{
  "id": "P-1",
  "project": "forecasting",
  "version": "heat-demand@1",
  "from": "draft",
  "to": "live",
  "asked_by": "runa",
  "note": "better",
  "state": "open",
  "opened_at": "…",
  "sign_offs": [],
  "ladder": 0,
  "findings": [
    {
      "rung": "proven",
      "requirement": "artifact_stored",
      "state": "passed",
      "sentence": "1 artifact stored; the bytes had the registered digest when they were read, at ….",
      "proof": "heat-demand@1"
    },
    {
      "rung": "proven",
      "requirement": "metric_recorded",
      "state": "passed",
      "sentence": "2 metrics recorded.",
      "proof": "heat-demand@1"
    },
    {
      "rung": "rehearsal",
      "requirement": "signature_not_broken",
      "state": "passed",
      "sentence": "Nobody stands on live whose callers could break."
    },
    {
      "rung": "live",
      "requirement": "sign_offs",
      "state": "waiting",
      "sentence": "Waits for 1 sign-off by someone other than runa.",
      "proof": "P-1",
      "by_people": true
    }
  ]
}
tove$ reviews -for-me -json
{
  "items": [
    {
      "id": "P-1",
      "project": "forecasting",
      "version": "heat-demand@1",
      "from": "draft",
      "to": "live",
      "asked_by": "runa",
      "note": "better",
      "state": "open",
      "opened_at": "…",
      "sign_offs": [],
      "ladder": 0,
      "findings": [
        {
          "rung": "proven",
          "requirement": "artifact_stored",
          "state": "passed",
          "sentence": "1 artifact stored; the bytes had the registered digest when they were read, at ….",
          "proof": "heat-demand@1"
        },
        {
          "rung": "proven",
          "requirement": "metric_recorded",
          "state": "passed",
          "sentence": "2 metrics recorded.",
          "proof": "heat-demand@1"
        },
        {
          "rung": "rehearsal",
          "requirement": "signature_not_broken",
          "state": "passed",
          "sentence": "Nobody stands on live whose callers could break."
        },
        {
          "rung": "live",
          "requirement": "sign_offs",
          "state": "waiting",
          "sentence": "Waits for 1 sign-off by someone other than runa.",
          "proof": "P-1",
          "by_people": true
        }
      ]
    }
  ]
}
tove$ sign P-1 -yes -note "read it" -json
{
  "id": "P-1",
  "project": "forecasting",
  "version": "heat-demand@1",
  "from": "draft",
  "to": "live",
  "asked_by": "runa",
  "note": "better",
  "state": "carried_out",
  "opened_at": "…",
  "closed_at": "…",
  "sign_offs": [
    {
      "by": "tove",
      "answer": "yes",
      "note": "read it",
      "at": "…",
      "roles": [
        "approver"
      ],
      "candidate_digest": "…",
      "stale": false,
      "key": "SHA256:…
    }
  ],
  "ladder": 0,
  "findings": [
    {
      "rung": "proven",
      "requirement": "artifact_stored",
      "state": "passed",
      "sentence": "1 artifact stored; the bytes had the registered digest when they were read, at ….",
      "proof": "heat-demand@1"
    },
    {
      "rung": "proven",
      "requirement": "metric_recorded",
      "state": "passed",
      "sentence": "2 metrics recorded.",
      "proof": "heat-demand@1"
    },
    {
      "rung": "rehearsal",
      "requirement": "signature_not_broken",
      "state": "passed",
      "sentence": "Nobody stands on live whose callers could break."
    },
    {
      "rung": "live",
      "requirement": "sign_offs",
      "state": "passed",
      "sentence": "Signed by tove.",
      "proof": "P-1",
      "by_people": true
    }
  ]
}
runa$ show P-1 -json
{
  "id": "P-1",
  "project": "forecasting",
  "version": "heat-demand@1",
  "from": "draft",
  "to": "live",
  "asked_by": "runa",
  "note": "better",
  "state": "carried_out",
  "opened_at": "…",
  "closed_at": "…",
  "sign_offs": [
    {
      "by": "tove",
      "answer": "yes",
      "note": "read it",
      "at": "…",
      "roles": [
        "approver"
      ],
      "candidate_digest": "…",
      "stale": false,
      "key": "SHA256:…
    }
  ],
  "ladder": 0,
  "findings": [
    {
      "rung": "proven",
      "requirement": "artifact_stored",
      "state": "passed",
      "sentence": "1 artifact stored; the bytes had the registered digest when they were read, at ….",
      "proof": "heat-demand@1"
    },
    {
      "rung": "proven",
      "requirement": "metric_recorded",
      "state": "passed",
      "sentence": "2 metrics recorded.",
      "proof": "heat-demand@1"
    },
    {
      "rung": "rehearsal",
      "requirement": "signature_not_broken",
      "state": "passed",
      "sentence": "Nobody stands on live whose callers could break."
    },
    {
      "rung": "live",
      "requirement": "sign_offs",
      "state": "passed",
      "sentence": "Signed by tove.",
      "proof": "P-1",
      "by_people": true
    }
  ]
}
runa$ trace heat-demand@1 -json
{
  "roots": [
    "heat-demand@1"
  ],
  "nodes": [
    {
      "id": "heat-demand@1",
      "kind": "version",
      "detail": "live",
      "depth": 0
    },
    {
      "id": "winters#1",
      "kind": "data",
      "detail": "2 rows",
      "depth": -1
    },
    {
      "id": "run-1",
      "kind": "run",
      "detail": "finished, by runa on bench-2",
      "depth": -1
    },
    {
      "id": "heat-demand@2",
      "kind": "version",
      "detail": "draft",
      "depth": 1
    }
  ],
  "links": [
    {
      "from": "heat-demand@1",
      "relation": "trained-on",
      "to": "winters#1"
    },
    {
      "from": "heat-demand@1",
      "relation": "made-by",
      "to": "run-1"
    },
    {
      "from": "run-1",
      "relation": "trained-on",
      "to": "winters#1"
    },
    {
      "from": "heat-demand@2",
      "relation": "derived",
      "to": "heat-demand@1"
    }
  ]
}
runa$ ladder forecasting -json
{
  "project": "forecasting",
  "number": 0,
  "rungs": [
    {
      "name": "draft",
      "meaning": "registered, nothing asked yet",
      "gate": []
    },
    {
      "name": "proven",
      "meaning": "its bytes are here and it was measured",
      "gate": [
        {
          "kind": "artifact_stored"
        },
        {
          "kind": "metric_recorded"
        }
      ]
    },
    {
      "name": "rehearsal",
      "meaning": "may run beside the live ones",
      "skip": true,
      "gate": [
        {
          "kind": "signature_not_broken"
        }
      ]
    },
    {
      "name": "live",
      "meaning": "may answer real traffic",
      "skip": true,
      "gate": [
        {
          "kind": "sign_offs",
          "count": 1
        }
      ]
    }
  ],
  "carry_out": "at_once",
  "remind_after": "24h",
  "expire_after": "336h"
}
runa$ find -metric "rmse<0.35" -json
{
  "items": [
    {
      "ref": "heat-demand@2",
      "model": "heat-demand",
      "number": 2,
      "project": "forecasting",
      "task": "regression",
      "owner": "runa",
      "rung": "draft",
      "formats": [
        "json"
      ],
      "metrics": {
        "rmse": 0.3
      },
      "size": 16,
      "created_at": "…",
      "created_by": "runa"
    }
  ]
}
runa$ label heat-demand@1 beta -json
{
  "name": "beta",
  "version": "heat-demand@1",
  "moved_by": "runa",
  "moved_at": "…"
}
tove$ audit -kind promotion -json
{
  "items": [
    {
      "seq": 26,
      "at": "…",
      "project": "forecasting",
      "actor": "tove",
      "kind": "promotion.carried_out",
      "subject": "heat-demand@1",
      "also": [
        "P-1"
      ],
      "sentence": "P-1: heat-demand@1 stepped up to live.",
      "before": {
        "rung": "draft"
      },
      "after": {
        "rung": "live",
        "state": "carried_out"
      },
      "address": "127.0.0.1",
      "request_id": "…"
    },
    {
      "seq": 25,
      "at": "…",
      "project": "forecasting",
      "actor": "tove",
      "kind": "promotion.signed",
      "subject": "heat-demand@1",
      "also": [
        "P-1"
      ],
      "sentence": "P-1: tove said yes to heat-demand@1 on live.",
      "reason": "read it",
      "after": {
        "by": "tove",
        "answer": "yes",
        "note": "read it",
        "at": "…",
        "roles": [
          "approver"
        ],
        "candidate_digest": "…",
        "stale": false,
        "key": "SHA256:…
      },
      "address": "127.0.0.1",
      "request_id": "…"
    },
    {
      "seq": 24,
      "at": "…",
      "project": "forecasting",
      "actor": "runa",
      "kind": "promotion.opened",
      "subject": "heat-demand@1",
      "also": [
        "P-1"
      ],
      "sentence": "P-1: runa asks for heat-demand@1 to live.",
      "reason": "better",
      "after": {
        "id": "P-1",
        "project": "forecasting",
        "version": "heat-demand@1",
        "from": "draft",
        "to": "live",
        "asked_by": "runa",
        "note": "better",
        "state": "open",
        "opened_at": "…",
        "sign_offs": [],
        "ladder": 0,
        "findings": []
      },
      "address": "127.0.0.1",
      "request_id": "…"
    }
  ]
}
runa$ activity heat-demand@1 -limit 2 -json
{
  "items": [
    {
      "seq": 27,
      "at": "…",
      "project": "forecasting",
      "actor": "runa",
      "kind": "label.moved",
      "subject": "heat-demand@beta",
      "also": [
        "heat-demand@1"
      ],
      "sentence": "heat-demand@beta now means heat-demand@1."
    },
    {
      "seq": 26,
      "at": "…",
      "project": "forecasting",
      "actor": "tove",
      "kind": "promotion.carried_out",
      "subject": "heat-demand@1",
      "also": [
        "P-1"
      ],
      "sentence": "P-1: heat-demand@1 stepped up to live."
    }
  ],
  "next_cursor": "MjY"
}
`)
}
