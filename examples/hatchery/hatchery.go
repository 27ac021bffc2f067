// Package hatchery is the demo job: the made-up Fennick trout hatchery, its
// sheets and its recordings.
package hatchery

import "embed"

// Files are the job's folder: sheets, and recordings below recordings/.
//
//go:embed *.rct recordings/*.csv
var Files embed.FS

//go:generate go run ./make -o recordings
