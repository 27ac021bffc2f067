// Package console holds the built web console, so that the service can serve it
// without any other file. Until the console is built, it holds a page that says
// how to build it.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files are the console's files, with index.html at the root; built is false
// if they are only the page that says how to build it.
func Files() (files fs.FS, built bool) {
	sub := "dist"
	if _, err := fs.Stat(dist, "dist/app/index.html"); err == nil {
		sub, built = "dist/app", true
	}
	files, err := fs.Sub(dist, sub)
	if err != nil {
		panic(err) // the folder is part of the program
	}
	return files, built
}
