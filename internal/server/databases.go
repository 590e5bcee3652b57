package server

import (
	"io/fs"
	"path/filepath"
	"strings"

	"innerladder/internal/api"
	"innerladder/internal/backup"
)

// databases says how the databases in the data directory stand. What goes away meanwhile is not counted.
func databases(data string) []api.Database {
	out := []api.Database{{Name: backup.Records}, {Name: backup.Signals}, {Name: "requests"}}
	for i := range out {
		d := &out[i]
		count := func(path string, e fs.DirEntry, err error) error {
			if err != nil || e.IsDir() || strings.HasSuffix(path, "-shm") { // which is memory
				return nil
			}
			if info, err := e.Info(); err == nil {
				d.Bytes += info.Size()
				if info.Size() > 0 && info.ModTime().After(d.Written) {
					d.Written = info.ModTime()
				}
			}
			return nil
		}
		for _, suffix := range []string{"", "-wal"} {
			_ = filepath.WalkDir(filepath.Join(data, d.Name)+suffix, count)
		}
	}
	return out
}
