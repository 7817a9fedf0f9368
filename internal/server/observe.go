package server

import (
	"context"
	"log/slog"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/propagation"
	"go.opentelemetry.io/otel/trace"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/compare"
	"eagerwindow/internal/data"
	"eagerwindow/internal/service"
	"eagerwindow/internal/traffic"
)

// exchange is a request with what became of it, for the log, the metrics and the trace. It is the ResponseWriter that handlers get.
type exchange struct {
	http.ResponseWriter
	status  int
	bytes   int64
	api     *data.API // nil where the request is for none
	caller  access.Caller
	shape   string
	rows    int64
	waited  time.Duration // for the database
	refused string        // the code of a refusal
	says    string        // what it says
	cause   string        // of a 503
}

var exchanges = sync.Pool{New: func() any { return &exchange{} }}

// exchangeOf is the exchange that a handler answers; a part of a batch has none.
func exchangeOf(w http.ResponseWriter) *exchange {
	if e, ok := w.(*exchange); ok {
		return e
	}
	return &exchange{}
}

func (e *exchange) WriteHeader(status int) {
	if e.status == 0 {
		e.status = status
	}
	e.ResponseWriter.WriteHeader(status)
}

func (e *exchange) Write(p []byte) (int, error) {
	if e.status == 0 {
		e.status = http.StatusOK
	}
	n, err := e.ResponseWriter.Write(p)
	e.bytes += int64(n)
	return n, err
}

// Unwrap is for http.ResponseController.
func (e *exchange) Unwrap() http.ResponseWriter { return e.ResponseWriter }

// role is what the caller calls as, in words.
func (e *exchange) role() string {
	switch {
	case e.api == nil:
		return ""
	case e.caller.Operator:
		return "operator"
	case len(e.caller.Roles) > 0:
		return strings.Join(e.caller.Roles, "+")
	}
	if anonymous := e.api.Model.AnonymousRole(); anonymous != nil {
		return anonymous.Name
	}
	return "none"
}

// knownRole is the role as a label: one that the window has, so that callers can't make up labels.
func (e *exchange) knownRole() string {
	if len(e.caller.Roles) == 1 && e.api.Model.Role(e.caller.Roles[0]) == nil {
		return "unknown"
	}
	if len(e.caller.Roles) > 1 {
		return "several"
	}
	return e.role()
}

// resource is the resource that the path begins with, where the window has it.
func (e *exchange) resource(r *http.Request) string {
	first := below(r)
	if i := strings.IndexAny(first, "/(?"); i >= 0 {
		first = first[:i]
	}
	if e.api.Model.Resource(first) != nil || first == "$batch" || first == "$metadata" {
		return first
	}
	return "other"
}

// metrics are what is counted of requests. Their labels have as many values as windows, resources and roles are published.
type metrics struct {
	requests *prometheus.CounterVec
	seconds  *prometheus.HistogramVec
	database *prometheus.HistogramVec
	refusals *prometheus.CounterVec
}

var latencies = []float64{.001, .0025, .005, .01, .025, .05, .1, .25, .5, 1, 2.5, 5, 10, 30}

func newMetrics(s *service.Service, registry *prometheus.Registry) *metrics {
	m := &metrics{
		requests: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "eager_requests_total",
			Help: "Requests of data APIs, by the status of the answer."}, []string{"window", "resource", "role", "status"}),
		seconds: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "eager_request_seconds", Buckets: latencies,
			Help: "How long requests of data APIs took."}, []string{"window", "resource"}),
		database: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "eager_database_seconds", Buckets: latencies,
			Help: "How long requests waited for the database until its first row, or until a write was done."}, []string{"window"}),
		refusals: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "eager_refusals_total",
			Help: "Requests that were refused, by the code of the error."}, []string{"code"}),
	}
	registry.MustRegister(m.requests, m.seconds, m.database, m.refusals)
	if s != nil {
		registry.MustRegister(state{s})
	}
	return m
}

func (m *metrics) count(e *exchange, r *http.Request, took time.Duration) {
	if e.refused != "" {
		m.refusals.WithLabelValues(e.refused).Inc()
	}
	if e.api == nil {
		return
	}
	window, resource := e.api.Model.Name, e.resource(r)
	m.requests.WithLabelValues(window, resource, e.knownRole(), strconv.Itoa(e.status)).Inc()
	m.seconds.WithLabelValues(window, resource).Observe(took.Seconds())
	if e.waited > 0 {
		m.database.WithLabelValues(window).Observe(e.waited.Seconds())
	}
}

// state tells what the service holds at the moment.
type state struct{ service *service.Service }

var (
	connectionsDesc = prometheus.NewDesc("eager_connections", "Connections to the source of a window that are in use.",
		[]string{"window", "for"}, nil)
	connectionsMostDesc = prometheus.NewDesc("eager_connections_limit", "Connections to the source of a window that there may be.",
		[]string{"window", "for"}, nil)
	waitingDesc = prometheus.NewDesc("eager_connections_waiting", "Requests that wait for a connection to the source of a window.",
		[]string{"window", "for"}, nil)
	plansDesc   = prometheus.NewDesc("eager_plans", "Shapes of requests whose statement is remembered.", []string{"window"}, nil)
	releaseDesc = prometheus.NewDesc("eager_live_release", "The number of the release that is live.", []string{"window"}, nil)
	driftDesc   = prometheus.NewDesc("eager_drift", "Changes that the database would make to the live release, by what they mean to callers.",
		[]string{"window", "effect"}, nil)
)

// Describe is a part of prometheus.Collector.
func (state) Describe(to chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{connectionsDesc, connectionsMostDesc, waitingDesc, plansDesc, releaseDesc, driftDesc} {
		to <- d
	}
}

// Collect is a part of prometheus.Collector.
func (s state) Collect(to chan<- prometheus.Metric) {
	gauge := func(d *prometheus.Desc, value int, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, float64(value), labels...)
	}
	for name, api := range s.service.Served() {
		for purpose, use := range map[string]data.Use{"reading": api.Use().Reading, "writing": api.Use().Writing} {
			gauge(connectionsDesc, use.Held, name, purpose)
			gauge(connectionsMostDesc, use.Most, name, purpose)
			gauge(waitingDesc, use.Waiting, name, purpose)
		}
		gauge(plansDesc, api.Plans(), name)
		gauge(releaseDesc, api.Release, name)
	}
	for _, d := range s.service.Drifts() {
		n := compare.Count(d.Changes)
		for effect, count := range map[string]int{"breaking": n.Breaking, "compatible": n.Compatible, "internal": n.Internal,
			"widening": n.Widening} {
			gauge(driftDesc, count, d.Window, effect)
		}
	}
}

// observed logs, counts and traces each request. Queries are left out: they may hold what nobody should read in a log.
func (s *Server) observed(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		start := time.Now()
		e := exchanges.Get().(*exchange)
		*e = exchange{ResponseWriter: w}
		span := trace.SpanFromContext(r.Context()) // one that does nothing
		if s.front.Tracer != nil || r.Header["Traceparent"] != nil {
			r, span = s.traced(r)
		}
		defer func() {
			took := time.Since(start)
			s.metrics.count(e, r, took)
			s.recordTraffic(e, r, took)
			if s.log.Enabled(r.Context(), slog.LevelInfo) {
				s.logRequest(e, r, span, took)
			}
			if s.front.Tracer != nil {
				endSpan(span, e, r)
			}
			*e = exchange{}
			exchanges.Put(e)
		}()
		next.ServeHTTP(e, r)
	})
}

// traced takes up the trace that a caller has begun (W3C Trace Context), and begins a span in it where there is somebody to tell.
func (s *Server) traced(r *http.Request) (*http.Request, trace.Span) {
	ctx := propagation.TraceContext{}.Extract(r.Context(), propagation.HeaderCarrier(r.Header))
	if s.front.Tracer == nil {
		return r, trace.SpanFromContext(ctx)
	}
	ctx, span := s.front.Tracer.Start(ctx, r.Method, trace.WithSpanKind(trace.SpanKindServer))
	return r.WithContext(ctx), span
}

func endSpan(span trace.Span, e *exchange, r *http.Request) {
	if e.api != nil {
		resource := e.resource(r)
		span.SetName(r.Method + " " + e.api.Root() + "/" + resource)
		span.SetAttributes(attribute.String("eager.window", e.api.Model.Name), attribute.Int("eager.release", e.api.Release),
			attribute.String("eager.role", e.role()), attribute.Int64("eager.rows", e.rows))
	}
	span.SetAttributes(attribute.String("http.request.method", r.Method), attribute.String("url.path", r.URL.Path),
		attribute.Int("http.response.status_code", e.status))
	if e.status >= 500 {
		span.SetStatus(codes.Error, e.refused)
	}
	span.End()
}

// logRequest writes one line of a request that is over.
func (s *Server) logRequest(e *exchange, r *http.Request, span trace.Span, took time.Duration) {
	attrs := make([]slog.Attr, 0, 18)
	attrs = append(attrs, slog.String("id", idOf(e)), slog.String("method", r.Method), slog.String("path", r.URL.EscapedPath()),
		slog.Int("status", e.status), slog.Int64("bytes", e.bytes), slog.Duration("took", took))
	if e.api != nil {
		attrs = append(attrs, slog.String("window", e.api.Model.Name), slog.Int("release", e.api.Release), slog.String("role", e.role()),
			slog.String("caller", e.caller.Subject), slog.Int64("rows", e.rows), slog.Duration("database", e.waited))
	}
	if e.shape != "" {
		attrs = append(attrs, slog.String("shape", e.shape))
	}
	if e.refused != "" {
		attrs = append(attrs, slog.String("code", e.refused))
	}
	if e.cause != "" {
		attrs = append(attrs, slog.String("cause", e.cause))
	}
	if span.SpanContext().IsValid() {
		attrs = append(attrs, slog.String("trace", span.SpanContext().TraceID().String()))
	}
	level := slog.LevelInfo
	switch {
	case e.status == http.StatusServiceUnavailable:
		level = slog.LevelWarn
	case e.api == nil && r.Method == http.MethodGet && e.status < 400: // probes, and the console's own files
		level = slog.LevelDebug
	}
	s.log.LogAttrs(context.WithoutCancel(r.Context()), level, "request", attrs...)
}

// recordTraffic adds a request of a live release to what operators see of its traffic. Their own are left out.
func (s *Server) recordTraffic(e *exchange, r *http.Request, took time.Duration) {
	if e.api == nil || e.api.Release == 0 || e.caller.Operator || r.Header["Rehearsal"] != nil {
		return
	}
	window, role := e.api.Model.Name, e.knownRole()
	s.service.Traffic.Add(traffic.Request{Key: traffic.Key{Window: window, Resource: e.resource(r), Role: role, Status: e.status},
		Shape: e.shape, Rows: e.rows, Took: took, Waited: e.waited})
	if e.status >= http.StatusBadRequest {
		s.service.Traffic.Refuse(traffic.Refusal{Window: window, At: time.Now(), Caller: e.caller.Subject, Role: role, Method: r.Method,
			Path: cutText(below(r), maxRefusedPath), Status: e.status, Code: e.refused, Message: cutText(e.says, maxRefusedPath)})
	}
}

// maxRefusedPath is how much of a path and of a message is kept of a refusal, in bytes.
const maxRefusedPath = 400

func cutText(text string, most int) string {
	if len(text) > most {
		text = text[:most] + "…"
	}
	return storable(text)
}
