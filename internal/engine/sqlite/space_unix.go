//go:build linux || darwin

package sqlite

import "syscall"

// writable reports whether a file or a folder can be written to.
func writable(path string) bool {
	const write = 2 // W_OK
	return syscall.Access(path, write) == nil
}

// freeSpace gives the bytes that are free where a folder is.
func freeSpace(folder string) (bytes int64, ok bool) {
	var s syscall.Statfs_t
	if syscall.Statfs(folder, &s) != nil {
		return 0, false
	}
	return int64(s.Bavail) * int64(s.Bsize), true
}
