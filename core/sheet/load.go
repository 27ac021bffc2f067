package sheet

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
)

// ErrNoSheets is the error of a folder that is no job.
var ErrNoSheets = errors.New("no sheet (a file NAME.rct) is in this folder")

// ReadSources reads the sheets of a job's folder, in order of file name. A
// sheet above MaxSize is read only so far that the parser can refuse it.
func ReadSources(folder fs.FS) ([]Source, error) {
	names, err := fs.Glob(folder, "*.rct")
	if err != nil {
		return nil, fmt.Errorf("listing sheets: %w", err)
	}
	if len(names) == 0 {
		if _, err := fs.Stat(folder, "."); err != nil {
			return nil, fmt.Errorf("opening the job's folder: %w", err)
		}
		return nil, ErrNoSheets
	}
	slices.Sort(names)
	var sources []Source
	for _, name := range names {
		text, err := readLimited(folder, name)
		if err != nil {
			return nil, fmt.Errorf("reading sheet %s: %w", name, err)
		}
		sources = append(sources, Source{path.Base(name), text})
	}
	return sources, nil
}

func readLimited(folder fs.FS, name string) (text []byte, err error) {
	f, err := folder.Open(name)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	return io.ReadAll(io.LimitReader(f, MaxSize+1))
}
