//go:build faults

package run

import (
	"os"
	"strconv"
	"strings"
	"syscall"
)

var seen = map[string]int{}

// point kills this process the n-th time that the place named in LASTBOARD_FAULT
// ("place:n") is reached: only tests build this in.
func point(name string) {
	place, times, _ := strings.Cut(os.Getenv("LASTBOARD_FAULT"), ":")
	if place != name {
		return
	}
	seen[name]++
	if n, err := strconv.Atoi(times); err == nil && seen[name] == n {
		syscall.Kill(os.Getpid(), syscall.SIGKILL)
		select {}
	}
}
