package registry

import (
	"time"

	"innerladder/internal/core/metric"
)

// Found is one version in the catalogue.
type Found struct {
	Ref       string                     `json:"ref"`
	Model     string                     `json:"model"`
	Number    int                        `json:"number"`
	Project   string                     `json:"project"`
	Task      Task                       `json:"task" enum:"regression,classification,other"`
	Owner     string                     `json:"owner"`
	Vetted    bool                       `json:"vetted,omitempty" description:"the model is vetted"`
	Rung      string                     `json:"rung"`
	Note      string                     `json:"note,omitempty"`
	Licence   string                     `json:"licence,omitempty"`
	Labels    []string                   `json:"labels,omitempty"`
	Tags      []string                   `json:"tags,omitempty" description:"of the version and of its model"`
	Formats   []string                   `json:"formats"`
	Metrics   map[string]float64         `json:"metrics" description:"measured by a report, else as claimed"`
	Measured  map[string]metric.Measured `json:"measured,omitempty" description:"those that a report measured"`
	Size      int64                      `json:"size" description:"bytes of all artifacts"`
	Answering []string                   `json:"answering,omitempty" description:"endpoints it answers for now"`
	PlacedIn  []string                   `json:"placed_in,omitempty"`
	// RolledBack is set as in the version.
	RolledBack *RolledBack `json:"rolled_back,omitempty" description:"when it was last taken out of an endpoint"`
	CreatedAt  time.Time   `json:"created_at"`
	CreatedBy  string      `json:"created_by"`
	// ID is the version's number in the records, Value what the search puts it in order by.
	ID    int64   `json:"-"`
	Value float64 `json:"-"`
}
