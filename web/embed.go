// Package web holds the built console, to be served from the one binary.
package web

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Console returns the console's files. They are missing from a binary built
// without building the console first.
func Console() fs.FS {
	sub, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the folder is part of the package
	}
	return sub
}
