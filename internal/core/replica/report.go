package replica

import "time"

// Replica is how one process of a version is.
type Replica struct {
	Number int `json:"number"`
	// State is one of starting, ready, waiting (until it is started again), refused, stopping.
	State   string `json:"state" enum:"starting,ready,waiting,refused,stopping"`
	Reason  string `json:"reason,omitempty" description:"why it is not ready"`
	Address string `json:"address,omitempty"`
	PID     int    `json:"pid,omitempty"`
	// Since is when the process began.
	Since    time.Time `json:"since,omitzero"`
	Restarts int       `json:"restarts" description:"how often it was started again since the service began"`
	// CPU is in cores, Memory in bytes.
	CPU         float64 `json:"cpu" description:"cores in use, over the last seconds"`
	CPULimit    int     `json:"cpu_limit" description:"cores of this machine"`
	Memory      int64   `json:"memory" description:"bytes in use"`
	MemoryLimit int64   `json:"memory_limit" description:"bytes that processes here may use together"`
	Files       int     `json:"files" description:"open files and connections"`
	FilesLimit  int     `json:"files_limit"`
	Work        Work    `json:"work"`
	// Series is the last quarter of an hour, every five seconds.
	Series []Usage `json:"series"`
}

// Usage is what a replica used at a moment.
type Usage struct {
	At     time.Time `json:"at"`
	CPU    float64   `json:"cpu" description:"cores"`
	Memory int64     `json:"memory" description:"bytes"`
	Files  int       `json:"files"`
}

// Work is what a replica has measured of its requests over the last seconds.
type Work struct {
	Requests float64 `json:"requests" description:"a second"`
	// UnderWay is how many requests were under way at the same time on the average.
	UnderWay float64 `json:"under_way" description:"requests at the same time, on the average"`
	// RowsTogether is how many rows were computed together, WaitMillis how long a request waited for others and for its
	// turn, both on the average: what putting requests together gains, and what it costs.
	RowsTogether float64 `json:"rows_together" description:"rows that were computed together, on the average"`
	WaitMillis   float64 `json:"wait_ms" description:"how long a request waited before it was computed, on the average"`
	ComputeMicro float64 `json:"compute_us_per_row" description:"how long a row was computed, on the average"`
	// Members are those of an ensemble, in the order of their names.
	Members []Member `json:"members,omitempty" description:"what members of an ensemble did"`
}

// Member is what a member of an ensemble did over the last seconds.
type Member struct {
	Version string `json:"version"`
	// Micro is how long it took for a batch on the average; Apart how far it was from the ensemble in each output: the
	// mean of absolute differences of numbers, the share of other values.
	Micro float64            `json:"us_per_batch" description:"how long it took for a batch, on the average"`
	Apart map[string]float64 `json:"apart" description:"how far from the ensemble in each output: absolute, or a share"`
}
