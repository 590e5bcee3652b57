package intake

import (
	"bytes"
	"io"

	"innerladder/internal/core/ensemble"
	"innerladder/internal/core/registry"
)

// Ensemble reads what an ensemble is made of, a YAML file of ours. What is wrong is said with line and column.
func Ensemble(text []byte) (ensemble.Plan, error) {
	var p ensemble.Plan
	err := bound(text, "ensemble", "innerladder help register", &p, p.Check)
	return p, err
}

// looksLikeEnsemble reports whether a YAML file says how versions are put together: no other begins so.
func looksLikeEnsemble(head []byte) bool {
	for line := range bytes.Lines(head) {
		line = bytes.TrimSpace(line)
		if len(line) == 0 || line[0] == '#' || bytes.HasPrefix(line, []byte("---")) {
			continue
		}
		return bytes.HasPrefix(line, []byte("ensemble:"))
	}
	return false
}

func readEnsemble(r io.ReaderAt, size int64) (registry.Contents, error) {
	c := registry.Contents{Format: registry.FormatEnsemble}
	text := make([]byte, min(size, largestYAML+1))
	if _, err := r.ReadAt(text, 0); err != nil && err != io.EOF {
		return c, err
	}
	p, err := Ensemble(text)
	if err != nil {
		return c, err
	}
	c.Ensemble = &p
	c.Say("made of", p.String())
	return c, nil
}
