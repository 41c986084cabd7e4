package engine

import (
	"fmt"
	"time"
)

// Standing is how one thing of a database is on which a run depends.
type Standing struct {
	What  string // "rights"
	Level Level
	Found string // in words
	Cure  string // "" where nothing has to be done
}

// Level says what a thing means for a run.
type Level int

// The levels.
const (
	Good  Level = iota // as it should be
	Look               // a run can begin, and may not do all that it could
	Wrong              // no run can begin
)

// Clock judges how far a server's clock is from the one here: the ledger has the server's time,
// and what waits for a time of day has this one's.
func Clock(server time.Time) Standing {
	apart := time.Since(server).Abs().Round(time.Second)
	if apart < 5*time.Second {
		return Standing{What: "clock", Found: "the server's is that of this machine"}
	}
	return Standing{What: "clock", Level: Look, Found: fmt.Sprintf("the server's is %s from that of this machine", apart),
		Cure: "set both by a time server: the ledger has the server's time"}
}

// Free judges how many connections a server still takes.
func Free(left, all int64, setting string) Standing {
	s := Standing{What: "connections", Found: fmt.Sprintf("%d of %d are free", left, all)}
	if left < runConnections {
		s.Level, s.Cure = Look, fmt.Sprintf("raise %s, or close some: a run takes up to %d", setting, runConnections)
	}
	return s
}

// runConnections is how many connections a run takes at the most: of the work, the claim, one that
// looks on, and a second worker with one that looks on.
const runConnections = 5

// Size writes bytes as people say them.
func Size(n int64) string {
	units := []string{"B", "kB", "MB", "GB", "TB"}
	f := float64(n)
	i := 0
	for f >= 1000 && i < len(units)-1 {
		f /= 1000
		i++
	}
	if i == 0 || f >= 100 {
		return fmt.Sprintf("%.0f %s", f, units[i])
	}
	return fmt.Sprintf("%.1f %s", f, units[i])
}
