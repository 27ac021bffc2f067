package service

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/gofrs/flock"
)

// A lock keeps a data folder for one process. Its file says which that is.
type lock struct{ *flock.Flock }

// ErrLocked is the error of a data folder that another process holds.
var ErrLocked = errors.New("the data folder is in use")

func takeLock(folder string) (*lock, error) {
	file := filepath.Join(folder, "lock")
	if info, err := os.Lstat(file); err == nil && !info.Mode().IsRegular() { // to write there would write elsewhere
		return nil, fmt.Errorf("locking the data folder: %s is no regular file; remove it", file)
	}
	l := flock.New(filepath.Join(folder, "lock"), flock.SetPermissions(0o600))
	got, err := l.TryLock()
	if err != nil {
		return nil, fmt.Errorf("locking the data folder: %w", err)
	}
	if got {
		return &lock{l}, nil
	}
	holder := "another process"
	if text, err := os.ReadFile(l.Path()); err == nil && len(text) > 0 {
		holder = strings.TrimSpace(string(text))
	}
	return nil, fmt.Errorf("%w: %s is held by %s; end that, use it, or choose another folder with --data", ErrLocked, folder, holder)
}

// says writes down who holds the lock.
func (l *lock) says(url string) error {
	text := fmt.Sprintf("process %d, at %s\n", os.Getpid(), url)
	if err := os.WriteFile(l.Path(), []byte(text), 0o600); err != nil {
		return fmt.Errorf("writing the lock of the data folder: %w", err)
	}
	return nil
}
