package live

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// leaseFolders are where services of one machine find each other.
var leaseFolders = []string{"/run/lock", "/var/lock"}

// A leaseFile is a file that all services of a machine share. Locks of ranges of it belong to the open file, and end with the process
// (open file description locks, fcntl(2)).
type leaseFile struct{ file *os.File }

func openLeaseFile() (leaseFile, error) {
	var errs []error
	for _, folder := range append(leaseFolders, os.TempDir()) {
		name := filepath.Join(folder, "rectura-leases")
		f, err := os.OpenFile(name, os.O_RDWR|unix.O_NOFOLLOW, 0)
		if errors.Is(err, fs.ErrNotExist) {
			f, err = os.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_EXCL|unix.O_NOFOLLOW, 0o666)
			if errors.Is(err, fs.ErrExist) { // another service was quicker
				f, err = os.OpenFile(name, os.O_RDWR|unix.O_NOFOLLOW, 0)
			} else if err == nil {
				err = f.Chmod(0o666) // for the services of other users
			}
		}
		if err == nil {
			return leaseFile{f}, nil
		}
		errs = append(errs, err)
	}
	return leaseFile{}, fmt.Errorf("opening the file of leases: %w", errors.Join(errs...))
}

func (f leaseFile) close() error {
	if f.file == nil {
		return nil
	}
	return f.file.Close()
}

// lock takes a place, and reports false if another service holds part of it.
func (f leaseFile) lock(x *leasable) bool {
	if f.file == nil {
		return true
	}
	for _, at := range x.offsets() {
		lock := x.flock(at, unix.F_WRLCK)
		if err := unix.FcntlFlock(f.file.Fd(), unix.F_OFD_SETLK, &lock); err != nil {
			return false
		}
	}
	return true
}

// unlock gives a place back.
func (f leaseFile) unlock(x *leasable) {
	if f.file == nil {
		return
	}
	for _, at := range x.offsets() {
		lock := x.flock(at, unix.F_UNLCK)
		_ = unix.FcntlFlock(f.file.Fd(), unix.F_OFD_SETLK, &lock) // it cannot fail but for a closed file
	}
}

func (x *leasable) flock(at uint64, kind int16) unix.Flock_t {
	lock := unix.Flock_t{Type: kind, Whence: int16(io.SeekStart), Start: int64(at), Len: 1}
	if x.Unit < 0 {
		lock.Len = unitsAt
	}
	return lock
}
