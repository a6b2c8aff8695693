package api

import (
	"net"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/adaptor"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"wideknot/internal/store"
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
			Name: "wideknot_request_seconds", Help: "Time to answer, by operation and status.",
			Buckets: []float64{.002, .005, .01, .025, .05, .1, .2, .5, 1, 2, 5},
		}, []string{"route", "method", "status"}),
		streams: prometheus.NewGauge(prometheus.GaugeOpts{Name: "wideknot_streams", Help: "Open streams of events."}),
	}
	r := prometheus.NewRegistry()
	r.MustRegister(m.requests, m.streams, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	r.MustRegister(prometheus.NewCounterFunc(prometheus.CounterOpts{
		Name: "wideknot_transactions_repeated_total", Help: "Transactions run again because another one stood in their way.",
	}, func() float64 { return float64(store.LostTransactions()) }))
	if s.Store != nil {
		if pool, err := s.Store.Pool(); err == nil {
			r.MustRegister(collectors.NewDBStatsCollector(pool, "wideknot"))
		}
	}
	m.handler = adaptor.HTTPHandler(promhttp.HandlerFor(r, promhttp.HandlerOpts{}))
	return m
}

// serve answers this machine, and who else was named.
func (m *metrics) serve(c fiber.Ctx) error {
	ip := net.ParseIP(c.IP())
	if (ip == nil || !ip.IsLoopback()) && !slices.Contains(m.s.MetricsFrom, c.IP()) {
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
