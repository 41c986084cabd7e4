//go:build faults

// Package mishap names the places of a run where tests let something happen to it.
package mishap

import (
	"os"
	"strconv"
	"strings"
	"syscall"
	"time"
)

var (
	seen = map[string]int{}
	kind string
)

// Chosen reports whether the place named in LASTBOARD_FAULT has that name.
func Chosen(name string) bool {
	place, _, _ := strings.Cut(os.Getenv("LASTBOARD_FAULT"), ":")
	return place == name
}

// In says which kind of step the run is in.
func In(k string) { kind = k }

// wait makes a file that says where the run is and waits until it is gone.
func wait(file string) {
	if os.WriteFile(file+".new", []byte(kind), 0o600) != nil || os.Rename(file+".new", file) != nil {
		return
	}
	for range 6000 {
		if _, err := os.Stat(file); err != nil {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
}

// Place kills this process the n-th time that the place named in LASTBOARD_FAULT
// ("place:n") is reached, or, where LASTBOARD_FAULT_FILE names a file, makes that and
// waits until it is gone: only tests build this in.
func Place(name string) {
	if !Chosen(name) {
		return
	}
	_, times, _ := strings.Cut(os.Getenv("LASTBOARD_FAULT"), ":")
	seen[name]++
	if n, err := strconv.Atoi(times); err == nil && seen[name] == n {
		if file := os.Getenv("LASTBOARD_FAULT_FILE"); file != "" {
			wait(file)
			return
		}
		syscall.Kill(os.Getpid(), syscall.SIGKILL)
		select {}
	}
}
