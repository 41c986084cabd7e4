//go:build !linux && !darwin

package sqlite

// writable reports whether a file or a folder can be written to, as far as that is known.
func writable(string) bool { return true }

// freeSpace gives the bytes that are free where a folder is, where that is known.
func freeSpace(string) (bytes int64, ok bool) { return 0, false }
