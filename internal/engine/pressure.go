package engine

import (
	"context"
	"time"
)

// Replica is a server that follows another one.
type Replica struct {
	Name    string
	Behind  time.Duration
	Stopped bool // it does not follow at all just now
}

// Pressure is what a backfill gives way to.
type Pressure struct {
	Replicas []Replica
	Waiting  []Session // those that wait for a lock on the table
	Old      []Session // those with an old transaction, the oldest first
}

// Pressed is a database that can tell how hard-pressed it is.
type Pressed interface {
	// Pressure looks, between two batches on a table.
	Pressure(ctx context.Context, table string) (Pressure, error)
}

// Follower is a database that may follow another one, and can tell how far it is behind.
type Follower interface {
	Behind(ctx context.Context) (Replica, error)
}
