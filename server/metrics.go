package server

import (
	"database/sql"
	"net/http"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"dravin/core/words"
)

// metrics is what a server tells of itself in numbers.
type metrics struct {
	registry *prometheus.Registry
	requests *prometheus.HistogramVec
	solving  *prometheus.HistogramVec
	imports  *prometheus.HistogramVec
	queued   prometheus.Histogram
	replies  *prometheus.CounterVec
	lost     prometheus.Counter
}

func newMetrics(s *Server) *metrics {
	seconds := []float64{.001, .005, .01, .025, .05, .1, .25, .5, 1, 2.5, 5, 10, 30, 60}
	m := &metrics{
		registry: prometheus.NewRegistry(),
		requests: prometheus.NewHistogramVec(
			prometheus.HistogramOpts{
				Name: "dravin_request_seconds",
				Help: "Time from a request to the end of its answer, without event streams.", Buckets: seconds,
			},
			[]string{"method", "route", "status"},
		),
		solving: prometheus.NewHistogramVec(
			prometheus.HistogramOpts{
				Name:    "dravin_solving_seconds",
				Help:    "Time to work something out of a design that nobody had asked for at its position.",
				Buckets: seconds,
			},
			[]string{"what"},
		),
		imports: prometheus.NewHistogramVec(
			prometheus.HistogramOpts{
				Name: "dravin_import_seconds", Help: "Time of an import, without waiting in the queue.",
				Buckets: seconds,
			},
			[]string{"outcome"},
		),
		queued: prometheus.NewHistogram(
			prometheus.HistogramOpts{
				Name: "dravin_import_queue_seconds", Help: "Time that an import waited in the queue.", Buckets: seconds,
			},
		),
		replies: prometheus.NewCounterVec(
			prometheus.CounterOpts{
				Name: "dravin_answers_total",
				Help: "Answers about designs: made, remembered, or unchanged since the client asked.",
			},
			[]string{"how"},
		),
		lost: prometheus.NewCounter(
			prometheus.CounterOpts{
				Name: "dravin_listening_lost_total", Help: "How often the database connection for news was lost.",
			},
		),
	}
	gauge := func(name, help string, read func() float64) {
		m.registry.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: name, Help: help}, read))
	}
	for _, q := range []*queue{s.queue, s.plans, s.makes} {
		gauge(
			"dravin_"+q.of+"_running", words.Upper(q.of)+" that run.",
			func() float64 { running, _ := q.counts(); return float64(running) },
		)
		gauge(
			"dravin_"+q.of+"_waiting", words.Upper(q.of)+" that wait in the queue.",
			func() float64 { _, waiting := q.counts(); return float64(waiting) },
		)
	}
	gauge("dravin_event_streams", "Browsers that watch a design.", func() float64 { return float64(s.hub.count()) })
	gauge(
		"dravin_listening", "1 while news from the database is heard.",
		func() float64 { return map[bool]float64{true: 1}[s.listening.Load()] },
	)
	for part, stats := range map[string]func() sql.DBStats{
		"read":  func() sql.DBStats { reads, _ := s.store.Stats(); return reads },
		"write": func() sql.DBStats { _, writes := s.store.Stats(); return writes },
	} {
		labels := prometheus.Labels{"part": part}
		m.registry.MustRegister(
			prometheus.NewGaugeFunc(
				prometheus.GaugeOpts{
					Name: "dravin_database_connections", Help: "Database connections in use.", ConstLabels: labels,
				},
				func() float64 { return float64(stats().InUse) },
			),
			prometheus.NewCounterFunc(
				prometheus.CounterOpts{
					Name: "dravin_database_waits_total", Help: "How often a connection had to be waited for.",
					ConstLabels: labels,
				},
				func() float64 { return float64(stats().WaitCount) },
			),
			prometheus.NewCounterFunc(
				prometheus.CounterOpts{
					Name:        "dravin_database_wait_seconds_total",
					Help:        "Time that was waited for connections.",
					ConstLabels: labels,
				},
				func() float64 { return stats().WaitDuration.Seconds() },
			),
		)
	}
	m.registry.MustRegister(
		m.requests, m.solving, m.imports, m.queued, m.replies, m.lost, collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
	)
	return m
}

// Metrics serves the numbers in the form that Prometheus reads. It belongs on a
// listener of its own.
func (s *Server) Metrics() http.Handler {
	mux := http.NewServeMux()
	mux.Handle("GET /metrics", promhttp.HandlerFor(s.metrics.registry, promhttp.HandlerOpts{}))
	return mux
}

// logged writes a line for each request, and counts it.
func (s *Server) logged(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		start := time.Now()
		ww := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		next.ServeHTTP(ww, r)
		took := time.Since(start)
		s.log.Info("request", "id", middleware.GetReqID(r.Context()), "method", r.Method, "path", r.URL.Path,
			"status", ww.Status(), "bytes", ww.BytesWritten(), "took", took.Round(time.Microsecond))
		route := chi.RouteContext(r.Context()).RoutePattern()
		if route == eventsPath {
			return
		}
		if route == "" {
			route = "/*"
		}
		s.metrics.requests.WithLabelValues(
			methodLabel(r.Method), route, strconv.Itoa(ww.Status()),
		).Observe(took.Seconds())
	})
}

// methodLabel keeps made-up methods from making ever more time series.
func methodLabel(method string) string {
	switch method {
	case http.MethodGet,
		http.MethodHead,
		http.MethodPost,
		http.MethodPut,
		http.MethodPatch,
		http.MethodDelete,
		http.MethodOptions:
		return method
	}
	return "other"
}

// timed is how long something takes to be worked out.
func timed[T any](m *metrics, what string, work func() T) func() T {
	return func() T {
		start := time.Now()
		defer func() { m.solving.WithLabelValues(what).Observe(time.Since(start).Seconds()) }()
		return work()
	}
}
