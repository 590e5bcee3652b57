// Package template copies what takes long to make for each test anew: databases in which nothing is yet.
package template

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"sync"
	"testing"
)

var made sync.Map // by name, a func() ([]byte, error)

// Copy writes to path the file of a name, which make is asked for once while the tests of a package run.
func Copy(t testing.TB, name, path string, make func(ctx context.Context, path string) error) {
	t.Helper()
	once, _ := made.LoadOrStore(name, sync.OnceValues(func() ([]byte, error) {
		dir, err := os.MkdirTemp("", "innerladder-template-")
		if err != nil {
			return nil, err
		}
		defer os.RemoveAll(dir)
		first := filepath.Join(dir, "file")
		if err := make(context.Background(), first); err != nil {
			return nil, err
		}
		return os.ReadFile(first)
	}))
	content, err := once.(func() ([]byte, error))()
	if err != nil {
		t.Fatalf("making %s: %v", name, err)
	}
	if err := os.WriteFile(path, content, 0o600); err != nil {
		t.Fatal(err)
	}
}

// Of makes a file by opening and closing it.
func Of[T io.Closer](open func(ctx context.Context, path string) (T, error)) func(context.Context, string) error {
	return func(ctx context.Context, path string) error {
		opened, err := open(ctx, path)
		if err != nil {
			return err
		}
		return opened.Close()
	}
}
