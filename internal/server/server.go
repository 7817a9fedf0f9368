// Package server is the HTTP side of the service: the data API under /api and /draft, tokens under /auth, the management API
// under /manage, the descriptions, and the console.
package server

import (
	"encoding/json"
	"io/fs"
	"log/slog"
	"net/http"
	"time"

	"github.com/go-chi/chi/v5"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/service"
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
	log     *slog.Logger
	console fs.FS // the built console; nil where it was not built
	routes  chi.Routes
}

// New makes the handler of the service.
func New(s *service.Service, console fs.FS, log *slog.Logger) http.Handler {
	srv := &Server{service: s, log: log, console: console}
	chi.RegisterMethod("QUERY")
	r := chi.NewRouter()
	srv.routes = r
	r.Use(compressed, requestID, srv.logged, srv.recovered, secured, limited)
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) {
		writeJSON(w, http.StatusOK, map[string]string{"status": "alive"})
	})
	r.Get("/readyz", srv.ready)
	r.Get("/schemas/window-document.json", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/schema+json")
		_, _ = w.Write(window.Schema)
	})
	r.With(srv.browsers).Route("/auth/{window}", srv.auth)
	r.Get("/.well-known/oauth-authorization-server/auth/{window}", srv.authMetadata)
	srv.data(r.With(srv.browsers), "/api/{window}", srv.live)
	srv.data(r, "/draft/{window}", srv.draft)
	r.Route("/manage", srv.manage)
	r.NotFound(srv.page)
	r.MethodNotAllowed(srv.methodNotAllowed)
	return r
}

func (s *Server) ready(w http.ResponseWriter, r *http.Request) {
	if err := s.service.Ready(r.Context()); err != nil {
		s.fail(w, r, fault.New(fault.Unavailable, "records.unavailable", "the records do not answer"))
		return
	}
	writeJSON(w, http.StatusOK, map[string]string{"status": "ready"})
}

func (s *Server) methodNotAllowed(w http.ResponseWriter, r *http.Request) {
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
	requestTimeout = 3 * time.Minute
	idleTimeout    = 2 * time.Minute
)

// HTTP is an http.Server with the limits that the handler counts on.
func HTTP(h http.Handler) *http.Server {
	return &http.Server{Handler: h, ReadHeaderTimeout: headerTimeout, ReadTimeout: requestTimeout, IdleTimeout: idleTimeout,
		MaxHeaderBytes: 64 << 10}
}
