//go:build unix

package sqlite

import (
	"errors"
	"os"
	"path/filepath"
	"strconv"
	"syscall"
	"time"
)

// Claim locks a file beside the database, never the database itself: closing any
// handle of a file drops every lock that SQLite has on it in this process.
func (d *database) Claim() (release func(), ok bool, err error) {
	path := d.path + "-lastboard"
	for try := 1; ; try++ {
		f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
		if err != nil {
			return nil, false, err
		}
		err = syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
		if err == nil && sameFile(f, path) {
			return func() {
				os.Remove(path)
				f.Close()
			}, true, nil
		}
		f.Close()
		switch {
		case err != nil && !errors.Is(err, syscall.EWOULDBLOCK):
			return nil, false, err
		case try == claimTries:
			return nil, false, nil
		}
		time.Sleep(10 * time.Millisecond) // who only looks lets go at once
	}
}

// claimTries is how often the lock is asked for: one who only looks at it has it for a moment,
// and one who ends takes its file away.
const claimTries = 5

// sameFile reports whether an open file is still the one at a path.
func sameFile(f *os.File, path string) bool {
	mine, err := f.Stat()
	if err != nil {
		return false
	}
	there, err := os.Stat(path)
	return err == nil && os.SameFile(mine, there)
}

// Claimed looks at the lock without taking it.
func (d *database) Claimed() bool {
	f, err := os.Open(d.path + "-lastboard")
	if err != nil {
		return false
	}
	defer f.Close()
	return syscall.Flock(int(f.Fd()), syscall.LOCK_SH|syscall.LOCK_NB) != nil
}

// Users finds the processes of this machine that have the file open, where the
// system shows them.
func (d *database) Users() []string {
	var list []string
	links, err := filepath.Glob("/proc/[0-9]*/fd/*")
	if err != nil {
		return nil
	}
	seen := map[string]bool{strconv.Itoa(os.Getpid()): true}
	for _, l := range links {
		pid := filepath.Base(filepath.Dir(filepath.Dir(l)))
		if seen[pid] {
			continue
		}
		if target, err := os.Readlink(l); err == nil && target == d.path {
			seen[pid] = true
			name, err := os.ReadFile("/proc/" + pid + "/comm")
			if err == nil {
				list = append(list, string(name[:max(0, len(name)-1)])+" (process "+pid+")")
			}
		}
	}
	return list
}
