// Package server is the HTTP side of the service: the data API under /api and /draft, tokens under /auth, the management API
// under /manage, the descriptions, and the console.
package server

import (
	"context"
	"encoding/json"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"eagerwindow/internal/core/window"
	"eagerwindow/internal/service"
	"eagerwindow/internal/sized"
)

// Limits of what one request may be.
const (
	maxURL  = 16 << 10
	maxBody = 1 << 20
	maxBulk = 16 << 20 // of many rows, or many requests
)

// Server answers HTTP requests.
type Server struct {
	service *service.Service
	front   service.Front
	log     *slog.Logger
	console fs.FS // the built console; nil where it was not built
	metrics *metrics
	routes  chi.Routes

	described *sized.Cache[descriptionKey, keptDescription] // of releases
}

// New makes the handler of the service.
func New(s *service.Service, front service.Front) http.Handler {
	if front.Metrics == nil {
		front.Metrics = prometheus.NewRegistry()
	}
	if front.Log == nil {
		front.Log = slog.New(slog.DiscardHandler)
	}
	srv := &Server{service: s, front: front, log: front.Log, console: front.Console, metrics: newMetrics(s, front.Metrics),
		described: sized.New[descriptionKey, keptDescription](maxDescriptions, maxDescriptionsSize, nil)}
	chi.RegisterMethod("QUERY")
	r := chi.NewRouter()
	srv.routes = r
	r.Use(compressed, requestID, srv.proxied, srv.observed, srv.recovered, secured, limited)
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) {
		writeJSON(w, http.StatusOK, map[string]string{"status": "alive"})
	})
	r.Get("/readyz", srv.ready)
	r.Get("/metrics", srv.operatorMetrics)
	r.Get("/schemas/window-document.json", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/schema+json")
		_, _ = w.Write(window.Schema)
	})
	r.With(srv.browsers).Route("/auth/{window}", srv.auth)
	r.Get("/.well-known/oauth-authorization-server/auth/{window}", srv.authMetadata)
	r.Get("/.well-known/api-catalog", srv.catalog)
	r.Get("/describe/-/page.css", srv.referenceFile)
	r.Get("/describe/-/page.js", srv.referenceFile)
	r.With(srv.browsers).Route("/describe/{window}", srv.descriptions)
	srv.data(r.With(srv.browsers), "/api/{window}", srv.live)
	srv.data(r.With(srv.remembered), "/draft/{window}", srv.draft)
	r.Route("/manage", srv.manage)
	r.NotFound(srv.page)
	r.MethodNotAllowed(srv.methodNotAllowed)
	return r
}

// readyLimit is how long it may take to find out whether all is there.
const readyLimit = 900 * time.Millisecond

func (s *Server) ready(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), readyLimit)
	defer cancel()
	if err := s.service.Ready(ctx); err != nil {
		s.fail(w, r, err)
		return
	}
	writeJSON(w, http.StatusOK, map[string]string{"status": "ready"})
}

// Metrics serves what is measured (OpenMetrics).
func Metrics(registry *prometheus.Registry) http.Handler {
	return promhttp.HandlerFor(registry, promhttp.HandlerOpts{EnableOpenMetrics: true, Registry: registry})
}

func (s *Server) operatorMetrics(w http.ResponseWriter, r *http.Request) {
	if _, err := s.operator(r); err != nil {
		s.fail(w, r, err)
		return
	}
	Metrics(s.front.Metrics).ServeHTTP(w, r)
}

func (s *Server) methodNotAllowed(w http.ResponseWriter, r *http.Request) {
	if isData(r) {
		s.unknownMethod(w, r)
		return
	}
	var allow []string
	for _, method := range []string{http.MethodGet, http.MethodHead, "QUERY", http.MethodPost, http.MethodPut, http.MethodPatch,
		http.MethodDelete} {
		if s.routes.Match(chi.NewRouteContext(), method, r.URL.Path) {
			allow = append(allow, method)
		}
	}
	s.fail(w, r, notPossible(r, allow))
}

func writeJSON(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	writeAs(w, status, v)
}

// writeAs writes JSON under a type that has been set.
func writeAs(w http.ResponseWriter, status int, v any) {
	w.WriteHeader(status)
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false) // nosniff, and a type that no browser renders
	_ = e.Encode(v)        // the caller has gone away if this fails
}

// How long the head of a request may take to arrive, all of it, and how long connections are kept without one.
const (
	headerTimeout  = 10 * time.Second
	requestTimeout = time.Minute
	answerTimeout  = 2 * time.Minute // from the head of the request on; an answer that comes in parts has a time for each
	idleTimeout    = 2 * time.Minute
)

// closing is the key of a channel in the context of requests that is closed when the server begins to shut down.
type closing struct{}

// HTTP is an http.Server with the limits that the handler counts on.
func HTTP(h http.Handler) *http.Server {
	ends := make(chan struct{})
	s := &http.Server{Handler: h, ReadHeaderTimeout: headerTimeout, ReadTimeout: requestTimeout, WriteTimeout: answerTimeout,
		IdleTimeout:    idleTimeout,
		MaxHeaderBytes: 64 << 10,
		BaseContext:    func(net.Listener) context.Context { return context.WithValue(context.Background(), closing{}, ends) }}
	s.RegisterOnShutdown(sync.OnceFunc(func() { close(ends) }))
	return s
}
