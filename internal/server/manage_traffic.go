package server

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/windows"
)

// manageTraffic shows what callers asked for, runs of checks, and what becomes different.
func (s *Server) manageTraffic(r chi.Router) {
	r.Get("/events", s.streamEvents)
	r.Get("/windows/{window}/traffic", s.forOperator(func(r *http.Request, _ string) (any, error) {
		q := r.URL.Query()
		return s.service.TrafficOf(r.Context(), chi.URLParam(r, "window"), windows.TrafficQuestion{Over: q.Get("over"),
			Resource: q.Get("resource"), Role: q.Get("role"), Status: q.Get("status")})
	}))
	r.Get("/windows/{window}/traffic/shape", s.forOperator(func(r *http.Request, _ string) (any, error) {
		return s.service.ShapeOf(r.Context(), chi.URLParam(r, "window"), r.URL.Query().Get("shape"))
	}))
	r.Get("/windows/{window}/runs", s.forOperator(func(r *http.Request, _ string) (any, error) {
		return s.service.Runs(r.Context(), chi.URLParam(r, "window"))
	}))
	r.Get("/windows/{window}/runs/{run}", s.forOperator(func(r *http.Request, _ string) (any, error) {
		id, err := strconv.ParseInt(chi.URLParam(r, "run"), 10, 64)
		if err != nil {
			return nil, fault.New(fault.Invalid, "path.number", "%q is no number of a run", chi.URLParam(r, "run"))
		}
		return s.service.RunOf(r.Context(), chi.URLParam(r, "window"), id)
	}))
}

// How often a stream of events says that it is still there, and for how long it goes on before the browser opens another one.
const (
	eventBeat = 15 * time.Second
	eventTime = 10 * time.Minute
)

// streamEvents tells an operator what becomes different as it does (server-sent events, WHATWG HTML 9.2). The session is looked at
// again with each beat.
func (s *Server) streamEvents(w http.ResponseWriter, r *http.Request) {
	if _, err := s.operator(r); err != nil {
		s.fail(w, r, err)
		return
	}
	heard, end := s.service.Listen()
	defer end()
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	control := http.NewResponseController(w)
	send := func(text string) error {
		_ = control.SetWriteDeadline(time.Now().Add(writeLimit)) // a recorder has none
		if _, err := fmt.Fprint(w, text); err != nil {
			return err
		}
		return control.Flush()
	}
	_ = control.SetReadDeadline(time.Time{}) // nothing more is read; its end would end the stream
	ends, _ := r.Context().Value(closing{}).(chan struct{})
	beat, last := time.NewTicker(eventBeat), time.After(eventTime)
	defer beat.Stop()
	err := send(": what becomes different\n\n")
	for err == nil {
		select {
		case <-r.Context().Done():
			return
		case <-last:
			return
		case <-ends:
			return
		case e := <-heard:
			text, _ := json.Marshal(e) // texts
			err = send("data: " + string(text) + "\n\n")
		case <-beat.C:
			if _, err = s.operator(r); err == nil {
				err = send(":\n\n")
			}
		}
	}
}
