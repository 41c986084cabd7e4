package cli

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"strings"
	"time"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/run"
)

// serveMetrics serves what a run does in the open metrics text format, on /metrics of an
// address.
func serveMetrics(address string, r *run.Runner) (stop func(), err error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fault.New(fault.Usage, "usage", "give a free address of this machine, as 127.0.0.1:9741",
			"metrics cannot be served on %s: %v", address, err)
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /metrics", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/openmetrics-text; version=1.0.0; charset=utf-8")
		fmt.Fprint(w, metrics(r.Work()))
	})
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second}
	go server.Serve(l)
	return func() {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		server.Shutdown(ctx)
	}, nil
}

// metrics writes figures in the open metrics text format (OpenMetrics 1.0).
func metrics(w ledger.Work) string {
	var b strings.Builder
	family := func(name, unit, help string) {
		fmt.Fprintf(&b, "# TYPE lastboard_%s gauge\n", name)
		if unit != "" {
			fmt.Fprintf(&b, "# UNIT lastboard_%s %s\n", name, unit)
		}
		fmt.Fprintf(&b, "# HELP lastboard_%s %s\n", name, help)
	}
	gauge := func(name, unit, help string, value float64) {
		family(name, unit, help)
		fmt.Fprintf(&b, "lastboard_%s %g\n", name, value)
	}
	family("step", "", "The step that is done.")
	fmt.Fprintf(&b, "lastboard_step{migration=%s,direction=%s,kind=%s,table=%s} %d\n", label(w.Version),
		label(w.Direction), label(w.Kind), label(w.Table), w.Step)
	gauge("steps", "", "The steps of the migration.", float64(w.Steps))
	gauge("step_seconds", "seconds", "For how long the step is done.", w.Took)
	gauge("step_forecast_seconds", "seconds", "How long the step was to take.", w.Forecast)
	gauge("rows_done", "", "The rows of the step that are done.", float64(w.Rows))
	gauge("rows", "", "The rows of the step in all.", float64(w.Of))
	gauge("rows_per_second", "", "The rows that the last seconds have done.", w.Rate)
	gauge("left_seconds", "seconds", "For how long the step will go on.", w.Left)
	gauge("batches", "", "The batches that are done.", float64(w.Batches))
	gauge("batch_seconds", "seconds", "How long the last batch took.", w.Batch)
	gauge("longest_batch_seconds", "seconds", "How long the longest batch took.", w.Longest)
	holding := 0.0
	if w.Holding != "" {
		holding = 1
	}
	gauge("holding", "", "Whether it holds.", holding)
	gauge("held_seconds", "seconds", "For how long the step has held in all.", w.Held)
	gauge("lock_try", "", "The try for a lock that somebody else holds.", float64(w.Try))
	gauge("in_the_way", "", "The sessions that hold it.", float64(len(w.InTheWay)))
	family("replica_behind_seconds", "seconds", "How far a replica is behind.")
	for _, r := range w.Replicas {
		fmt.Fprintf(&b, "lastboard_replica_behind_seconds{replica=%s} %g\n", label(r.Name), r.Behind)
	}
	return b.String() + "# EOF\n"
}

// label writes the value of a label.
func label(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(s) + `"`
}
