package ladder

import (
	"encoding/json"
	"fmt"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/registry"
)

// A sign-off is written down as an in-toto statement, version 1, so that it can be checked
// without us: https://github.com/in-toto/attestation. The predicate is ours.
const (
	StatementType = "https://in-toto.io/Statement/v1"
	// PayloadType is what envelopes say that statements are.
	PayloadType = "application/vnd.in-toto+json"
	// SignOffPredicate names the predicate of sign-offs; docs/guide.md describes it.
	SignOffPredicate = "https://inner-ladder.example/sign-off/v1"
)

// Statement says something about bytes.
type Statement struct {
	Type          string    `json:"_type"`
	Subject       []Subject `json:"subject"`
	PredicateType string    `json:"predicateType"`
	Predicate     Vouching  `json:"predicate"`
}

// Subject is a file with its digest.
type Subject struct {
	Name   string            `json:"name"`
	Digest map[string]string `json:"digest"`
}

// Vouching is what someone who signed said.
type Vouching struct {
	Promotion string      `json:"promotion"`
	Project   string      `json:"project"`
	Version   string      `json:"version"`
	From      string      `json:"from"`
	To        string      `json:"to"`
	AskedBy   string      `json:"askedBy"`
	Emergency bool        `json:"emergency,omitempty"`
	Candidate string      `json:"candidateDigest"`
	Incumbent string      `json:"incumbent,omitempty"`
	Answer    rule.Answer `json:"answer"`
	Note      string      `json:"note,omitempty"`
	By        string      `json:"by"`
	Roles     []string    `json:"roles,omitempty"`
	Until     *time.Time  `json:"until,omitempty"`
	HandedTo  string      `json:"handedTo,omitempty"`
	At        time.Time   `json:"at"`
	Ladder    int         `json:"ladderRevision"`
}

// StatementOf writes what a person says by a sign-off. The subjects are the version's
// files; a version without files has itself as the subject, with the digest of its
// identity.
func StatementOf(p *Promotion, v *registry.Version, s rule.SignOff) Statement {
	out := Statement{Type: StatementType, PredicateType: SignOffPredicate, Predicate: Vouching{
		Promotion: p.ID, Project: p.Project, Version: p.Version, From: p.From, To: p.To, AskedBy: p.AskedBy,
		Emergency: p.Emergency,
		Candidate: s.CandidateDigest, Incumbent: s.Incumbent, Answer: s.Answer, Note: s.Note, By: s.By, Roles: s.Roles,
		Until: s.Until, HandedTo: s.To, At: s.At, Ladder: p.Ladder,
	}}
	for _, a := range v.Artifacts {
		out.Subject = append(out.Subject, Subject{a.Name, map[string]string{"sha256": a.Digest}})
	}
	if len(out.Subject) == 0 {
		out.Subject = []Subject{{v.Ref, map[string]string{"innerLadderVersion": v.Digest}}}
	}
	return out
}

// Bytes is the statement as it is signed.
func (s Statement) Bytes() ([]byte, error) { return json.Marshal(s) }

// ParseStatement reads a statement of a sign-off.
func ParseStatement(b []byte) (Statement, error) {
	var s Statement
	if err := json.Unmarshal(b, &s); err != nil {
		return s, fault.New(fault.Invalid, "statement.form", "the signed text is no statement: %v", err).In("envelope").
			Do("sign the statement that the service gives")
	}
	if s.Type != StatementType || s.PredicateType != SignOffPredicate {
		return s, fault.New(fault.Invalid, "statement.type", "the signed statement is a %s about %s", s.Type,
			s.PredicateType).In("envelope").Do("sign the statement that the service gives")
	}
	return s, nil
}

// Misfits says what a statement vouched for that is not so of a version and the digests
// of its files now; empty when it fits. digests has the digest of every file by name, as
// it was computed from the bytes.
func (s Statement) Misfits(v *registry.Version, digests map[string]string) []string {
	var out []string
	if s.Predicate.Version != v.Ref || s.Predicate.Candidate != v.Digest {
		out = append(out, fmt.Sprintf("it is about %s with another digest", s.Predicate.Version))
	}
	named := map[string]bool{}
	for _, f := range s.Subject {
		want, isFile := f.Digest["sha256"]
		if !isFile {
			continue
		}
		named[f.Name] = true
		switch got, there := digests[f.Name]; {
		case !there:
			out = append(out, f.Name+" is not in the store")
		case got != want:
			out = append(out, f.Name+" has other bytes")
		}
	}
	for _, a := range v.Artifacts {
		if !named[a.Name] {
			out = append(out, a.Name+" was not vouched for")
		}
	}
	return out
}
