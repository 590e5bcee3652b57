package records

import (
	"io/fs"
	"path/filepath"
	"testing"
	"testing/fstest"

	"innerladder/internal/seal"
	"innerladder/internal/sqlite"
)

// stores are the ways in which a store comes about. What holds of a new one holds of all.
var stores = map[string]func(*testing.T) *DB{
	"new": func(t *testing.T) *DB {
		s, _ := open2(t)
		return s
	},
	"opened again": func(t *testing.T) *DB {
		s, path := open2(t)
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
		return openAt(t, path)
	},
	"from a snapshot": func(t *testing.T) *DB {
		s, _ := open2(t)
		path := filepath.Join(t.TempDir(), "snapshot.db")
		if err := s.Snapshot(t.Context(), path); err != nil {
			t.Fatal(err)
		}
		return openAt(t, path)
	},
	"from the first release": func(t *testing.T) *DB {
		path := filepath.Join(t.TempDir(), "ladder.db")
		first, err := fs.ReadFile(ladderMigrations, "ladder/0001_records.sql")
		if err != nil {
			t.Fatal(err)
		}
		old, err := sqlite.Open(t.Context(), path,
			sqlite.Options{Synchronous: "FULL", Migrations: fstest.MapFS{"0001_records.sql": {Data: first}}})
		if err != nil {
			t.Fatal(err)
		}
		if err := old.Close(); err != nil {
			t.Fatal(err)
		}
		return openAt(t, path)
	},
}

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
	for name, open := range stores {
		t.Run(name, func(t *testing.T) {
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
				t.Run(name, func(t *testing.T) { test(t, open(t)) })
			}
		})
	}
}
