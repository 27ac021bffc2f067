//go:build unix

package store

import "golang.org/x/sys/unix"

// diskFree is how many bytes a folder's disk has left.
func diskFree(folder string) (int64, error) {
	var s unix.Statfs_t
	if err := unix.Statfs(folder, &s); err != nil {
		return 0, err
	}
	return int64(s.Bavail) * int64(s.Bsize), nil
}
