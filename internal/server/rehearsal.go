package server

import (
	"net/http"
	"time"

	"github.com/go-chi/chi/v5"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/data"
	"eagerwindow/internal/windows"
)

// onceTime is how long a rehearsal of a single request may last.
const onceTime = time.Minute

func onlyOperators() error {
	return fault.New(fault.Unauthenticated, "rehearsal.operators",
		"only operators rehearse; send an operator's token, and Act-As for a role").On("Rehearsal")
}

// rehearsing serves a request that asks for it in a rehearsal: `Rehearsal: once` in one of its own, another value in the one of that id.
// What it writes is rolled back in the end, and the answer says so.
func (s *Server) rehearsing(r *http.Request, serve serveFunc) serveFunc {
	id := r.Header.Get("Rehearsal")
	if id == "" {
		return serve
	}
	return func(w http.ResponseWriter, r *http.Request, api *data.API, caller access.Caller) error {
		rehearsal, err := s.rehearsal(r, api, caller, id)
		if err != nil {
			return err
		}
		if id == "once" {
			defer rehearsal.Close()
		}
		h := w.Header()
		h.Set("Rehearsed", "rolled-back")
		if id != "once" {
			h.Set("Rehearsed", "open")
		}
		return rehearsal.Do(r.Context(), api, func(api *data.API) error {
			if !writes(r) {
				return serve(w, r, api, caller)
			}
			// Constraints that are put off are checked after the answer is made, so it is sent then.
			rec := newRecorder(w)
			rec.most = maxBatch
			if err := serve(rec, r, api, caller); err != nil {
				return err
			}
			for name, values := range rec.header {
				h[name] = values
			}
			if rec.status == 0 {
				rec.status = http.StatusOK
			}
			w.WriteHeader(rec.status)
			_, _ = w.Write(rec.body.Bytes()) // the caller has gone away if this fails
			return nil
		})
	}
}

func (s *Server) rehearsal(r *http.Request, api *data.API, caller access.Caller, id string) (*data.Rehearsal, error) {
	if id == "once" {
		return api.Rehearse(r.Context(), caller, onceTime)
	}
	return s.service.Rehearsal(id)
}

func (s *Server) manageRehearsals(r chi.Router) {
	r.Post("/windows/{window}/rehearsals", s.forOperator(withInput(func(r *http.Request, email string, in windows.NewRehearsal) (any, error) {
		return s.service.OpenRehearsal(r.Context(), chi.URLParam(r, "window"), email, in)
	})))
	r.Post("/windows/{window}/rehearsals/once", s.forOperator(s.rehearseOnce))
	r.Delete("/windows/{window}/rehearsals/{id}", s.forOperator(func(r *http.Request, _ string) (any, error) {
		return struct{}{}, s.service.CloseRehearsal(chi.URLParam(r, "id"))
	}))
}
