package cli

import (
	"cmp"
	"context"
	"errors"
	"strings"
	"time"

	"lastboard/internal/core/backfill"
	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/project"
	"lastboard/internal/core/run"
	"lastboard/internal/engine"
)

// The defaults of a pace. On SQLite a live database is held for half of 50 ms, so
// that a batch that takes longer than the one before stays below that, and let go
// for at least as long. On a server a batch holds the rows that it writes, what others
// commit waits for its log, and where processors are few others wait for theirs: it
// works in stretches of a millisecond, and rests half as long again after each.
const (
	fileBatch     = 25 * time.Millisecond
	serverBatch   = 50 * time.Millisecond
	serverStretch = time.Millisecond
	serverPause   = 1.5
	serverFlush   = 2
	idleBatch     = time.Second
	lockWait      = 200 * time.Millisecond
	lockTries     = 30
	shortPause    = 5 * time.Millisecond
)

func (s *session) pace() backfill.Pace {
	p := s.restingPace()
	limit := max(serverLimit*p.BatchTime, leastServerLimit)
	if s.db.Info().Host == "" { // the file is held for all
		limit = max(fileLimit*p.BatchTime, leastFileLimit)
	}
	p.Limit = cmp.Or(s.database.Pace.BatchLimit, limit)
	return p
}

// What one statement of a batch may take against the time of a batch, and at least.
const (
	serverLimit      = 20
	leastServerLimit = time.Second
	fileLimit        = 4
	leastFileLimit   = 200 * time.Millisecond
)

func (s *session) restingPace() backfill.Pace {
	wanted := s.database.Pace.BatchTime
	if !s.database.Live {
		return backfill.Pace{BatchTime: cmp.Or(wanted, idleBatch)}
	}
	p := backfill.Pace{BatchTime: min(cmp.Or(wanted, fileBatch), fileBatch), Rest: shortPause, Pause: 1}
	if s.db.Info().Host != "" {
		p = backfill.Pace{BatchTime: cmp.Or(wanted, serverBatch), Stretch: serverStretch, Rest: shortPause,
			Pause: serverPause, Flush: serverFlush}
	}
	if share := s.database.Pace.WorkShare; share > 0 {
		p = p.Resting(ledger.PauseOf(share))
	}
	return p
}

// slower gives how many times as long as usual a backfill takes, by the share of time that the
// project lets it work.
func (s *session) slower() float64 {
	share, usual := s.database.Pace.WorkShare, ledger.ShareOf(serverPause)
	if s.db.Info().Host == "" {
		usual = project.MostOfAFile
	}
	if share == 0 || !s.database.Live {
		return 1
	}
	return usual / share
}

// What a backfill of a live database gives way to unless the project says otherwise.
const (
	replicaBehind  = 5 * time.Second
	oldTransaction = 5 * time.Minute
)

// bound gives what the project says, or the default of a live database.
func (s *session) bound(said *time.Duration, usual time.Duration) time.Duration {
	switch {
	case said != nil:
		return *said
	case s.database.Live:
		return usual
	}
	return 0
}

// followers opens the replicas that the project names.
func (s *session) followers(ctx context.Context) ([]run.Follower, error) {
	var list []run.Follower
	for _, url := range s.database.Replicas {
		if strings.Contains(url, "${") {
			return nil, fault.New(fault.Usage, "configuration", "set the variable",
				"a replica of database %s is %s, and the environment does not say what that is", s.database.Name, url)
		}
		db, err := s.engine.Open(ctx, s.project.Path(url), engine.Read)
		if err != nil {
			return nil, openFault(err)
		}
		i := db.Info()
		follower, ok := db.(engine.Follower)
		if !ok {
			return nil, errors.Join(fault.New(fault.Usage, "configuration", "leave out replicas",
				"a database of %s has no replicas", i.Engine), db.Close())
		}
		list = append(list, run.Follower{Name: i.Host, DB: follower})
		s.replicas = append(s.replicas, db)
	}
	return list, nil
}

func (s *session) lockWait() time.Duration {
	if w := s.database.Pace.LockWait; w > 0 {
		return w
	}
	return lockWait
}

func (s *session) lockTries() int {
	if n := s.database.Pace.LockTries; n > 0 {
		return n
	}
	return lockTries
}
