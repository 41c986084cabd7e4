package plan

import (
	"context"
	"fmt"
	"strconv"

	"lastboard/internal/engine"
)

// Up to how many rows a table has of which those are counted that a condition picks, and what share
// of the time of a fill it takes to pass by a row.
const (
	countedRows = 2_000_000
	passing     = 0.15
)

// countPicked asks how many rows a step is going to write, and forecasts its time by them. What cannot be
// counted stays as it is: the proofs say why.
func (p *Planner) countPicked(ctx context.Context, s *engine.Step) {
	all := p.rows[s.Table]
	if all == 0 || all > countedRows {
		return
	}
	r, err := p.in.DB.Query(ctx, s.Counted)
	if err != nil || len(r.Values) == 0 {
		return
	}
	n, err := strconv.ParseInt(fmt.Sprint(r.Values[0][0]), 10, 64)
	if err != nil {
		return
	}
	s.Rows = n
	s.Seconds *= passing + (1-passing)*min(1, float64(n)/float64(all))
}
