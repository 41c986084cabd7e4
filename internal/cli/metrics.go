package cli

import (
	"context"
	"net"
	"net/http"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/run"
)

// meter turns what a run does into metrics.
type meter struct {
	work     func() ledger.Work
	registry *prometheus.Registry
	rows     map[int]float64 // done so far of each step

	written, tries, holds prometheus.Counter
	batch, lock, commit   prometheus.Histogram
}

// gauge is a figure of what a run does just now.
type gauge struct {
	desc  *prometheus.Desc
	value func(ledger.Work) float64
}

func figure(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("lastboard_"+name, help, labels, nil)
}

var (
	stepDesc   = figure("step", "The step that is done.", "migration", "direction", "kind", "table")
	behindDesc = figure("replica_behind_seconds", "How far a replica is behind.", "replica")
	gauges     = []gauge{
		{figure("steps", "The steps of the migration."), func(w ledger.Work) float64 { return float64(w.Steps) }},
		{figure("step_seconds", "For how long the step is done."), func(w ledger.Work) float64 { return w.Took }},
		{figure("step_forecast_seconds", "How long the step was to take."),
			func(w ledger.Work) float64 { return w.Forecast }},
		{figure("rows_done", "The rows of the step that are done."), func(w ledger.Work) float64 { return float64(w.Rows) }},
		{figure("rows", "The rows of the step in all."), func(w ledger.Work) float64 { return float64(w.Of) }},
		{figure("rows_per_second", "The rows that the last seconds have done."),
			func(w ledger.Work) float64 { return w.Rate }},
		{figure("left_seconds", "For how long the step will go on."), func(w ledger.Work) float64 { return w.Left }},
		{figure("longest_batch_seconds", "How long the longest batch took."),
			func(w ledger.Work) float64 { return w.Longest }},
		{figure("work_share", "The share of time that it works."), func(w ledger.Work) float64 { return w.WorkShare }},
		{figure("holding", "Whether it holds."), func(w ledger.Work) float64 { return one(w.Holding != "") }},
		{figure("held_seconds", "For how long the step has held in all."), func(w ledger.Work) float64 { return w.Held }},
		{figure("in_the_way", "The sessions that hold a lock which it waits for."),
			func(w ledger.Work) float64 { return float64(len(w.InTheWay)) }},
	}
)

func one(b bool) float64 {
	if b {
		return 1
	}
	return 0
}

// Describe implements prometheus.Collector.
func (m *meter) Describe(to chan<- *prometheus.Desc) {
	to <- stepDesc
	to <- behindDesc
	for _, g := range gauges {
		to <- g.desc
	}
}

// Collect implements prometheus.Collector.
func (m *meter) Collect(to chan<- prometheus.Metric) {
	w := m.work()
	put := func(d *prometheus.Desc, value float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, value, labels...)
	}
	put(stepDesc, float64(w.Step), w.Version, w.Direction, w.Kind, w.Table)
	for _, g := range gauges {
		put(g.desc, g.value(w))
	}
	for _, r := range w.Replicas {
		put(behindDesc, r.Behind, r.Name)
	}
}

// newMeter makes the metrics of a run, and lets them hear of what it does.
func newMeter(r *run.Runner) *meter {
	counter := func(name, help string) prometheus.Counter {
		return prometheus.NewCounter(prometheus.CounterOpts{Name: "lastboard_" + name + "_total", Help: help})
	}
	histogram := func(name, help string) prometheus.Histogram {
		return prometheus.NewHistogram(prometheus.HistogramOpts{Name: "lastboard_" + name + "_seconds", Help: help,
			Buckets: prometheus.ExponentialBuckets(0.001, 2, 13)}) // from 1 ms to 4 s
	}
	m := &meter{work: r.Work, registry: prometheus.NewRegistry(), rows: map[int]float64{},
		written: counter("rows_written", "Rows that were written."),
		tries:   counter("lock_tries", "Tries for a lock that somebody else held."),
		holds:   counter("holds", "Times that it has held, to let others go on."),
		batch:   histogram("batch", "How long batches took."),
		lock:    histogram("lock", "How long the locks of other steps were held."),
		commit:  histogram("commit", "How long commits of batches took."),
	}
	m.registry.MustRegister(m, m.written, m.tries, m.holds, m.batch, m.lock, m.commit)
	observe := r.Observe
	r.Observe = func(e run.Event) {
		m.observe(e)
		observe(e)
	}
	return m
}

// observe notes what has happened; a run tells of one thing after the other.
func (m *meter) observe(e run.Event) {
	switch e.What {
	case "progress":
		m.batch.Observe(e.Batch.Seconds())
		m.commit.Observe(e.Commit.Seconds())
		m.wrote(e)
	case "step-done":
		if e.Step.Batch == nil && e.Held > 0 {
			m.lock.Observe(e.Held.Seconds())
		}
		m.wrote(e)
	case "waiting":
		m.tries.Inc()
	case "holding":
		m.holds.Inc()
	}
}

// wrote counts the rows that came since the step was last heard of.
func (m *meter) wrote(e run.Event) {
	if more := float64(e.Rows) - m.rows[e.Step.Number]; more > 0 {
		m.written.Add(more)
		m.rows[e.Step.Number] = float64(e.Rows)
	}
}

// serve lets collectors read the metrics on /metrics of an address.
func (m *meter) serve(address string) (stop func(), err error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fault.New(fault.Usage, "usage", "give a free address of this machine, as 127.0.0.1:9741",
			"metrics cannot be served on %s: %v", address, err)
	}
	mux := http.NewServeMux()
	mux.Handle("GET /metrics", promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{EnableOpenMetrics: true}))
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second}
	go server.Serve(l)
	return func() {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		server.Shutdown(ctx)
	}, nil
}

// every is how often the file of the metrics is written anew.
const every = 5 * time.Second

// file writes the metrics into a file for collectors that read files, now and then and at the end.
func (m *meter) file(path string) (stop func(), err error) {
	if err := prometheus.WriteToTextfile(path, m.registry); err != nil {
		return nil, fault.New(fault.Usage, "usage", "name a file in a folder that can be written to",
			"metrics cannot be written into %s: %v", path, err)
	}
	end, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		ticks := time.NewTicker(every)
		defer ticks.Stop()
		for {
			select {
			case <-ticks.C:
			case <-end:
				_ = prometheus.WriteToTextfile(path, m.registry) // the run itself is done
				return
			}
			_ = prometheus.WriteToTextfile(path, m.registry)
		}
	}()
	return func() { close(end); <-ended }, nil
}

// meters begins the metrics that were asked for.
func meters(f runFlags, r *run.Runner) (stop func(), err error) {
	var stops []func()
	stop = func() {
		for _, s := range stops {
			s()
		}
	}
	if f.metrics == "" && f.metricsFile == "" {
		return stop, nil
	}
	m := newMeter(r)
	for _, to := range []struct {
		where string
		begin func(string) (func(), error)
	}{{f.metrics, m.serve}, {f.metricsFile, m.file}} {
		if to.where == "" {
			continue
		}
		s, err := to.begin(to.where)
		if err != nil {
			stop()
			return nil, err
		}
		stops = append(stops, s)
	}
	return stop, nil
}
