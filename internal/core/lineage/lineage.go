package lineage

import (
	"strings"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/signature"
)

// The relations of the lineage. A link is read from what was made to what it was made
// from: heat-demand@7 trained-on winters#2.
const (
	TrainedOn   = "trained-on"
	ValidatedOn = "validated-on"
	EvaluatedOn = "evaluated-on"
	MadeBy      = "made-by"   // version → run
	FromCode    = "from-code" // version or run → code
	Holds       = "holds"     // version → artifact
)

// CheckRole says whether a data set can be used in a role.
func CheckRole(field, role string) error {
	switch role {
	case TrainedOn, ValidatedOn, EvaluatedOn:
		return nil
	}
	return fault.New(fault.Invalid, "data.role", "%q is no role of a data set", role).In(field).
		Do("use %s, %s or %s", TrainedOn, ValidatedOn, EvaluatedOn)
}

// DataSet is one revision of a data set; immutable.
type DataSet struct {
	Ref         string             `json:"ref" description:"NAME#NUMBER"`
	Name        string             `json:"name"`
	Number      int                `json:"number"`
	Project     string             `json:"project"`
	Address     string             `json:"address,omitempty" description:"where it lies"`
	Digest      string             `json:"digest,omitempty" description:"SHA-256 of its bytes, when they were read"`
	Rows        int64              `json:"rows,omitempty"`
	Size        int64              `json:"size,omitempty" description:"bytes"`
	Schema      []signature.Column `json:"schema,omitempty"`
	Description string             `json:"description,omitempty"`
	AddedBy     string             `json:"added_by"`
	AddedAt     time.Time          `json:"added_at"`
}

// RunState is how far a run is.
type RunState string

// The states of a run.
const (
	Running  RunState = "running"
	Finished RunState = "finished"
	Broken   RunState = "failed"
)

// Run is one training: who ran what, where, on which data, and how the measures
// went.
type Run struct {
	Ref      string             `json:"ref" description:"run-NUMBER"`
	Number   int64              `json:"number"`
	Project  string             `json:"project"`
	Model    string             `json:"model" description:"the model it trains"`
	Title    string             `json:"title,omitempty"`
	State    RunState           `json:"state" enum:"running,finished,failed"`
	By       string             `json:"by"`
	Machine  string             `json:"machine,omitempty"`
	Started  time.Time          `json:"started"`
	Ended    *time.Time         `json:"ended,omitempty"`
	Params   map[string]string  `json:"params"`
	Metrics  map[string]float64 `json:"metrics" description:"the last value of each"`
	Code     *Code              `json:"code,omitempty"`
	Data     []DataUse          `json:"data,omitempty"`
	Versions []string           `json:"versions,omitempty" description:"registered from it"`
	Note     string             `json:"note,omitempty" description:"what was said when it ended"`
}

// Point is one value of a metric in the course of a run.
type Point struct {
	Metric string    `json:"metric" required:"true"`
	Step   int64     `json:"step"`
	Value  float64   `json:"value"`
	At     time.Time `json:"at,omitzero"`
}

// Curve is a metric over the steps of a run.
type Curve struct {
	Run    string  `json:"run"`
	Metric string  `json:"metric"`
	Points []Point `json:"points"`
	// Thinned is set when not all points are listed.
	Thinned bool `json:"thinned,omitempty"`
}

// NodeKind is what a node of the lineage is.
type NodeKind string

// The kinds of nodes.
const (
	VersionNode  NodeKind = "version"
	DataNode     NodeKind = "data"
	RunNode      NodeKind = "run"
	CodeNode     NodeKind = "code"
	ArtifactNode NodeKind = "artifact"
)

// Node is one thing in the lineage.
type Node struct {
	ID   string   `json:"id" description:"heat-demand@7, winters-2024#1, run-12, or a commit"`
	Kind NodeKind `json:"kind" enum:"version,data,run,code,artifact"`
	// Detail says the most important thing about it in a few words.
	Detail string `json:"detail,omitempty"`
	// Depth is the number of links from where the trace began: negative for what it was
	// made from, positive for what was made from it.
	Depth int `json:"depth"`
	// Answering names the endpoints that the version answers for now.
	Answering []string `json:"answering,omitempty"`
}

// Link says that From was made from To.
type Link struct {
	From     string `json:"from"`
	Relation string `json:"relation"`
	To       string `json:"to"`
}

// Directions of a trace: up to what something was made from, down to what was made from it.
const (
	Up   = "up"
	Down = "down"
	Both = "both"
)

// Trace is a part of the lineage around where it began.
type Trace struct {
	Roots []string `json:"roots"`
	Nodes []Node   `json:"nodes"`
	Links []Link   `json:"links"`
	// Cut is set when there is more than was asked for.
	Cut bool `json:"cut,omitempty"`
	// Answer is about the request that was traced, when it was one.
	Answer *Answer `json:"answer,omitempty"`
}

// Answer is who answered a request.
type Answer struct {
	Request  string    `json:"request"`
	At       time.Time `json:"at"`
	Endpoint string    `json:"endpoint"`
	Split    int       `json:"split"`
	Lane     string    `json:"lane" enum:"main,trial"`
	Version  string    `json:"version"`
	// Approval is the promotion that let the version on the rung that the endpoint asks
	// for, when there was one before the request.
	Approval string   `json:"approval,omitempty"`
	SignedBy []string `json:"signed_by,omitempty"`
}

// Reached is one node that Walk came to, with the number of links from the start.
type Reached[K comparable] struct {
	Key   K
	Depth int
}

// Walk goes along links from the start nodes, nearest first, until depth links away or
// `most` nodes were reached. next gives the neighbours of several nodes at once, pairs
// of the node asked for and the neighbour. Loops in the lineage do no harm. cut is set
// when something was left out.
func Walk[K comparable](start []K, depth, most int,
	next func([]K) ([][2]K, error),
) (reached []Reached[K], cut bool, err error) {
	seen := map[K]bool{}
	var frontier []K
	for _, k := range start {
		if !seen[k] {
			seen[k] = true
			reached, frontier = append(reached, Reached[K]{k, 0}), append(frontier, k)
		}
	}
	for d := 1; len(frontier) > 0; d++ {
		pairs, err := next(frontier)
		if err != nil {
			return nil, false, err
		}
		frontier = nil
		for _, p := range pairs {
			switch {
			case seen[p[1]]:
			case d > depth || len(reached) >= most:
				return reached, true, nil
			default:
				seen[p[1]] = true
				reached, frontier = append(reached, Reached[K]{p[1], d}), append(frontier, p[1])
			}
		}
	}
	return reached, false, nil
}

// Tree writes the trace as lines of text, from each root what it was made from and
// then what was made from it. A node that comes up again is named and not opened again.
func (t *Trace) Tree() []string {
	nodes := map[string]*Node{}
	for i := range t.Nodes {
		nodes[t.Nodes[i].ID] = &t.Nodes[i]
	}
	up, down := map[string][]Link{}, map[string][]Link{}
	for _, l := range t.Links {
		up[l.From], down[l.To] = append(up[l.From], l), append(down[l.To], l)
	}
	var out []string
	title := func(id string) string {
		n := nodes[id]
		if n == nil {
			return id
		}
		s := id
		if n.Kind == CodeNode {
			s = "code " + id[:min(12, len(id))]
		}
		if n.Detail != "" {
			s += "  (" + n.Detail + ")"
		}
		if len(n.Answering) > 0 {
			s += "  answers " + strings.Join(n.Answering, ", ")
		}
		return s
	}
	for _, root := range t.Roots {
		out = append(out, title(root))
		for _, side := range []struct {
			heading string
			links   map[string][]Link
			other   func(Link) string
			wanted  func(depth int) bool
		}{
			{"made from", up, func(l Link) string { return l.To }, func(d int) bool { return d <= 0 }},
			{"went into", down, func(l Link) string { return l.From }, func(d int) bool { return d >= 0 }},
		} {
			opened := map[string]bool{root: true}
			var lines []string
			var open func(id, indent string)
			open = func(id, indent string) {
				var links []Link
				for _, l := range side.links[id] {
					if n := nodes[side.other(l)]; n != nil && side.wanted(n.Depth) {
						links = append(links, l)
					}
				}
				for i, l := range links {
					branch, below := "├─ ", "│  "
					if i == len(links)-1 {
						branch, below = "└─ ", "   "
					}
					other := side.other(l)
					if opened[other] {
						name, _, _ := strings.Cut(title(other), "  ")
						lines = append(lines, indent+branch+l.Relation+" "+name+"  (see above)")
						continue
					}
					opened[other] = true
					lines = append(lines, indent+branch+l.Relation+" "+title(other))
					open(other, indent+below)
				}
			}
			open(root, "  ")
			if len(lines) > 0 {
				out = append(append(out, "  "+side.heading), lines...)
			}
		}
	}
	return out
}
