// Package web holds the built front end.
package web

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files are the built front end, index.html at the top. Without a build there
// is none; see Built.
func Files() fs.FS {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the path is a constant
	}
	return files
}

// Built tells whether the front end was built before this binary.
func Built() bool {
	_, err := fs.Stat(Files(), "index.html")
	return err == nil
}
