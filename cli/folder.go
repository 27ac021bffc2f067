package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
)

// jobFolder opens the folder of a job for reading. Nothing outside of it is read by a link in it, and nothing but regular files: a pipe
// or a device in the folder would have no end.
func jobFolder(folder string) (fs.FS, error) {
	root, err := os.OpenRoot(folder)
	if err != nil {
		return nil, fmt.Errorf("opening the job: %w", err)
	}
	return regular{root.FS()}, nil
}

// regular is a file system of folders and regular files.
type regular struct{ fs.FS }

var errIrregular = errors.New("it is no regular file")

// Open opens a folder or a regular file.
func (r regular) Open(name string) (fs.File, error) {
	info, err := fs.Stat(r.FS, name)
	if err != nil {
		return nil, err
	}
	if !info.IsDir() && !info.Mode().IsRegular() {
		return nil, &fs.PathError{Op: "open", Path: name, Err: errIrregular}
	}
	return r.FS.Open(name)
}
