package api

import (
	"context"
	"net"
	"net/http"
	"runtime"
	"slices"
	"strconv"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/adaptor"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"wideknot/internal/server/store"
)

// metrics are what /metrics tells.
type metrics struct {
	s        *Server
	requests *prometheus.HistogramVec
	streams  prometheus.Gauge
	handler  fiber.Handler
}

func newMetrics(s *Server) *metrics {
	m := &metrics{
		s: s,
		requests: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name: "wideknot_http_request_duration_seconds", Help: "Time to answer, by route, method and status.",
			Buckets: []float64{.002, .005, .01, .025, .05, .1, .2, .5, 1, 2, 5},
		}, []string{"route", "method", "status"}),
		streams: prometheus.NewGauge(prometheus.GaugeOpts{Name: "wideknot_event_streams", Help: "Open streams of events."}),
	}
	r := prometheus.NewRegistry()
	r.MustRegister(m.requests, m.streams, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	r.MustRegister(prometheus.NewCounterFunc(prometheus.CounterOpts{
		Name: "wideknot_transactions_repeated_total", Help: "Transactions run again because another one stood in their way.",
	}, func() float64 { return float64(store.LostTransactions()) }))
	build := prometheus.NewGauge(prometheus.GaugeOpts{
		Name: "wideknot_build_info", Help: "The running program; always 1.", ConstLabels: prometheus.Labels{"version": s.Version, "goversion": runtime.Version()},
	})
	build.Set(1)
	r.MustRegister(build)
	if s.Store != nil {
		r.MustRegister(holdings{s})
		if pool, err := s.Store.Pool(); err == nil {
			r.MustRegister(collectors.NewDBStatsCollector(pool, "wideknot"))
		}
	}
	m.handler = adaptor.HTTPHandler(promhttp.HandlerFor(r, promhttp.HandlerOpts{}))
	return m
}

// serve answers this machine, and who else was named.
func (m *metrics) serve(c fiber.Ctx) error {
	from := m.s.client(c)
	ip := net.ParseIP(from)
	if (ip == nil || !ip.IsLoopback()) && !slices.Contains(m.s.MetricsFrom, from) {
		return fiber.NewError(http.StatusForbidden, "metrics are for this machine and the addresses given with --metrics-from")
	}
	return m.handler(c)
}

func (m *metrics) measure(c fiber.Ctx) error {
	start := time.Now()
	err := c.Next()
	m.requests.WithLabelValues(c.Route().Path, c.Method(), strconv.Itoa(c.Response().StatusCode())).Observe(time.Since(start).Seconds())
	return err
}

// holdings are counted when they are asked for.
type holdings struct{ s *Server }

var (
	kept     = prometheus.NewDesc("wideknot_stored", "What the database holds, by kind.", []string{"kind"}, nil)
	findings = prometheus.NewDesc("wideknot_findings", "Findings of the drafts and releases that somebody looked at lately, by severity.", []string{"severity"}, nil)
)

func (h holdings) Describe(out chan<- *prometheus.Desc) {
	out <- kept
	out <- findings
}

func (h holdings) Collect(out chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	counts, err := h.s.Store.Counts(ctx)
	if err != nil {
		return // the database is away: the other figures are told all the same
	}
	for kind, n := range counts {
		out <- prometheus.MustNewConstMetric(kept, prometheus.GaugeValue, float64(n), kind)
	}
	for severity, n := range h.s.Desk.FindingsKnown() {
		out <- prometheus.MustNewConstMetric(findings, prometheus.GaugeValue, float64(n), string(severity))
	}
}
