package records

import (
	"context"
	"errors"
	"io/fs"
	"path/filepath"
	"testing"
	"testing/fstest"

	"innerladder/internal/seal"
	"innerladder/internal/sqlite"
	"innerladder/test/template"
)

// stores are the ways in which a store comes about. What holds of a new one holds of all.
var stores = map[string]func(ctx context.Context, path string) error{
	"new": empty,
	"opened again": func(ctx context.Context, path string) error {
		if err := empty(ctx, path); err != nil {
			return err
		}
		return empty(ctx, path)
	},
	"from a snapshot": func(ctx context.Context, path string) error {
		if err := empty(ctx, path+".first"); err != nil {
			return err
		}
		s, err := Open(ctx, path+".first")
		if err != nil {
			return err
		}
		return errors.Join(s.Snapshot(ctx, path), s.Close())
	},
	"from the first release": func(ctx context.Context, path string) error {
		first, err := fs.ReadFile(ladderMigrations, "ladder/0001_records.sql")
		if err != nil {
			return err
		}
		old, err := sqlite.Open(ctx, path,
			sqlite.Options{Synchronous: "FULL", Migrations: fstest.MapFS{"0001_records.sql": {Data: first}}})
		if err != nil {
			return err
		}
		if err := old.Close(); err != nil {
			return err
		}
		return empty(ctx, path)
	},
}

// empty makes the tables of a store, or brings them up to date.
var empty = template.Of(Open)

// openAt opens the store at a path and signs it as open2 does.
func openAt(t *testing.T, path string) *DB {
	t.Helper()
	s, err := Open(t.Context(), path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Close() })
	if err := s.SignWith(t.Context(), seal.NewSigner(make([]byte, 32))); err != nil {
		t.Fatal(err)
	}
	return s
}

// TestStores holds every store to what the rooms above rely on, however it came about.
func TestStores(t *testing.T) {
	for kind, make := range stores {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			for name, test := range map[string]func(*testing.T, *DB){
				"the schema holds the rules":     schemaHoldsTheRules,
				"a failed change leaves nothing": failedChangeLeavesNothing,
				"reading does not write":         readingDoesNotWrite,
				"numbers are given once":         numbersAreGivenOnce,
				"foreign keys have indexes":      foreignKeysHaveIndexes,
				"the record is searched":         recordIsSearched,
				"lines are read as written":      linesAreReadAsWritten,
				"many write one chain":           manyWriteOneChain,
				"curves are thinned evenly":      curvesAreThinnedEvenly,
				"statements are prepared once":   statementsArePreparedOnce,
			} {
				t.Run(name, func(t *testing.T) {
					path := filepath.Join(t.TempDir(), "ladder.db")
					template.Copy(t, kind, path, make)
					test(t, openAt(t, path))
				})
			}
		})
	}
}
