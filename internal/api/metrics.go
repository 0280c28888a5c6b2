package api

import (
	"context"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"

	"hen-roost/internal/service"
)

type metrics struct {
	registry *prometheus.Registry
	took     *prometheus.HistogramVec
}

func newMetrics() *metrics {
	m := &metrics{registry: prometheus.NewRegistry(), took: prometheus.NewHistogramVec(prometheus.HistogramOpts{
		Name: "roost_http_request_seconds", Help: "How long requests took, by route and status.",
		Buckets: prometheus.ExponentialBuckets(0.001, 4, 8),
	}, []string{"method", "route", "status"})}
	m.registry.MustRegister(m.took, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

// working tells of rounds, findings and targets as they stand when it is asked.
type working struct {
	count func(context.Context) (service.Work, error)
}

var (
	aRound   = prometheus.NewDesc("roost_rounds", "Rounds, by state.", []string{"state"}, nil)
	aStep    = prometheus.NewDesc("roost_running_steps", "Steps of rounds that run, by outcome.", []string{"outcome"}, nil)
	aFinding = prometheus.NewDesc("roost_findings", "Findings of the last surveys, by kind.", []string{"kind"}, nil)
	aTarget  = prometheus.NewDesc("roost_targets", "Targets, by the state that the last attempt to survey them left.", []string{"state"},
		nil)
	anEntry = prometheus.NewDesc("roost_record_entries_total", "Entries of the record.", nil, nil)
)

// Describe implements prometheus.Collector.
func (w working) Describe(to chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{aRound, aStep, aFinding, aTarget, anEntry} {
		to <- d
	}
}

// Collect implements prometheus.Collector.
func (w working) Collect(to chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	n, err := w.count(ctx)
	if err != nil {
		to <- prometheus.NewInvalidMetric(anEntry, err)
		return
	}
	for _, g := range []struct {
		desc *prometheus.Desc
		by   map[string]int
	}{{aRound, n.Rounds}, {aStep, n.Steps}, {aFinding, n.Findings}, {aTarget, n.Targets}} {
		for word, count := range g.by {
			to <- prometheus.MustNewConstMetric(g.desc, prometheus.GaugeValue, float64(count), word)
		}
	}
	to <- prometheus.MustNewConstMetric(anEntry, prometheus.CounterValue, float64(n.Entries))
}
