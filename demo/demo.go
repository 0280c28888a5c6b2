// Package demo holds the sample world's files: the declaration of Tern Sound
// Ferries, and the state in which its hosts and directory are found.
package demo

import (
	"embed"
	"io/fs"
)

//go:embed declaration found dialects crew.csv
var files embed.FS

// Declaration is the folder of the company's declaration.
func Declaration() fs.FS { return sub("declaration") }

// Crew is the crewing office's table of those who join in spring.
func Crew() []byte {
	b, err := files.ReadFile("crew.csv")
	if err != nil {
		panic(err) // the file is part of the package
	}
	return b
}

// Dialects is the folder of the files that teach the company's own kinds of targets.
func Dialects() fs.FS { return sub("dialects") }

// Dialect is one of them, by its kind.
func Dialect(kind string) ([]byte, error) { return files.ReadFile("dialects/" + kind + ".yaml") }

// Found is the folder with the state of each target before Hen Roost looks at it.
func Found() fs.FS { return sub("found") }

func sub(dir string) fs.FS {
	f, err := fs.Sub(files, dir)
	if err != nil {
		panic(err) // the folder is part of the package
	}
	return f
}
