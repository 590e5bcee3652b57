package runner

import (
	"os"
	"path/filepath"

	"innerladder/internal/core/ensemble"
	"innerladder/internal/core/signature"
)

// Ensemble is what a runner is told of an ensemble: the plan, and the file of each member in its order.
type Ensemble struct {
	Plan  ensemble.Plan `json:"plan"`
	Files []MemberFile  `json:"files"`
}

// MemberFile is what a member is computed from.
type MemberFile struct {
	File      string               `json:"file"`
	Format    string               `json:"format"`
	Signature *signature.Signature `json:"signature"`
}

// File is where a file of a version stands that Write wrote.
func (k *Keeper) File(id, name string) string { return filepath.Join(k.o.Dir, id, name) }

// Has reports whether a file or folder is there.
func (k *Keeper) Has(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// Write writes a file into the folder of a version.
func (k *Keeper) Write(id, name string, text []byte) error {
	if err := os.MkdirAll(filepath.Join(k.o.Dir, id), 0o700); err != nil {
		return err
	}
	return replace(k.File(id, name), text)
}
