// Package patterns holds the trade's standard building blocks, each a small job
// with a recording and a trial that passes.
package patterns

import (
	"embed"
	"fmt"
	"io/fs"
	"strings"
)

//go:embed */job.rct */recordings/*.csv
var files embed.FS

// A Pattern is one building block.
type Pattern struct {
	Name  string
	Title string // in a sentence: what it does
	Sheet string // the text of its sheet
}

// order is how they are listed: the usual first.
var order = []string{
	"start-stop",
	"two-position",
	"high-low-alarm",
	"three-lamps",
	"lamp-ladder",
	"proportional",
	"loop",
	"lead-lag",
	"duty-standby",
	"exclusive-outputs",
	"run-fail",
	"pulse-and-wait",
	"high-rate",
	"two-of-three",
	"start-up-hold",
	"latching-trip",
	"first-up",
	"watchdog",
	"debounce",
}

// All lists the patterns.
func All() ([]Pattern, error) {
	var all []Pattern
	for _, name := range order {
		p, err := Find(name)
		if err != nil {
			return nil, err
		}
		all = append(all, p)
	}
	return all, nil
}

// Names lists the names of the patterns.
func Names() []string { return append([]string{}, order...) }

// Find finds a pattern by name.
func Find(name string) (Pattern, error) {
	text, err := fs.ReadFile(files, name+"/job.rct")
	if err != nil {
		return Pattern{}, fmt.Errorf("no pattern is named %q; there are %s", name, strings.Join(order, ", "))
	}
	title, _, _ := strings.Cut(strings.TrimPrefix(string(text), "# "), "\n")
	return Pattern{Name: name, Title: strings.TrimSuffix(title, "."), Sheet: string(text)}, nil
}

// Folder is the job that a pattern is: its sheet, and its recording below
// recordings/.
func (p Pattern) Folder() (fs.FS, error) { return fs.Sub(files, p.Name) }
