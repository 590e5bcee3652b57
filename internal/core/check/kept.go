package check

import (
	"strconv"
	"time"
)

// Kept are the cases of a model, as a file of ours. Others in their place have the next number.
type Kept struct {
	Model   string    `json:"model"`
	Project string    `json:"project"`
	Number  int       `json:"number" description:"counts up with each change"`
	Text    string    `json:"text" description:"the file, YAML"`
	Count   int       `json:"count" description:"how many cases it has"`
	By      string    `json:"by"`
	SetAt   time.Time `json:"set_at"`
}

// ID names them: heat-demand#2.
func (k *Kept) ID() string { return k.Model + "#" + strconv.Itoa(k.Number) }
