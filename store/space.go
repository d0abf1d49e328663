//go:build linux || darwin

package store

import "syscall"

// space is how many bytes are left for us on the disk of a folder.
func space(dir string) (uint64, error) {
	var s syscall.Statfs_t
	if err := syscall.Statfs(dir, &s); err != nil {
		return 0, err
	}
	return s.Bavail * uint64(s.Bsize), nil
}
