// Package web holds the console's built files. They are made by `make build`; without
// them the service says how to make them.
package web

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files are the console's files; there is no index.html in them when the console was
// not built.
func Files() fs.FS {
	sub, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the directory is embedded above
	}
	return sub
}
