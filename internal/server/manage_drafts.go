package server

import (
	"net/http"
	"strconv"

	"github.com/go-chi/chi/v5"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/windows"
)

// manageWindows opens windows, edits their drafts, compares and publishes them.
func (s *Server) manageWindows(r chi.Router) {
	r.Post("/look", s.forOperator(withInput(func(r *http.Request, _ string, in windows.LookAt) (any, error) {
		return s.service.Look(r.Context(), in.Source)
	})))
	r.Get("/status", s.forOperator(func(r *http.Request, _ string) (any, error) { return s.service.Status(r.Context()) }))
	r.Get("/windows", s.forOperator(func(r *http.Request, _ string) (any, error) { return s.service.Windows(r.Context()) }))
	r.Post("/windows", s.forOperator(withInput(func(r *http.Request, email string, in windows.NewWindow) (any, error) {
		document, err := s.service.Open(r.Context(), in.Name, in.Source, in.Schemas, email)
		return windows.Document{Document: document}, err
	})))
	r.Delete("/windows/{window}", s.forOperator(func(r *http.Request, _ string) (any, error) {
		return s.service.CloseWindow(r.Context(), chi.URLParam(r, "window"))
	}))
	r.Get("/windows/{window}/model", s.forOperator(func(r *http.Request, _ string) (any, error) {
		return s.service.ModelOf(r.Context(), chi.URLParam(r, "window"))
	}))
	r.Get("/windows/{window}/drift", s.forOperator(func(r *http.Request, _ string) (any, error) {
		return s.service.DriftOf(r.Context(), chi.URLParam(r, "window"))
	}))
	r.Get("/windows/{window}/doctor", s.forOperator(func(r *http.Request, _ string) (any, error) {
		return s.service.Doctor(r.Context(), chi.URLParam(r, "window"))
	}))
	r.Get("/windows/{window}/tables/{table}", s.forOperator(func(r *http.Request, _ string) (any, error) {
		return s.service.LookAtTable(r.Context(), chi.URLParam(r, "window"), chi.URLParam(r, "table"))
	}))
	s.manageTraffic(r)
	s.manageDrafts(r)
	s.manageReleases(r)
	s.manageRehearsals(r)
	s.manageChecks(r)
	s.manageSources(r)
}

func (s *Server) manageDrafts(r chi.Router) {
	const draft = "/windows/{window}/draft"
	r.Get(draft, s.forOperator(func(r *http.Request, _ string) (any, error) {
		return s.service.Draft(r.Context(), chi.URLParam(r, "window"))
	}))
	r.Put(draft, s.forOperator(withInput(func(r *http.Request, email string, in windows.Push) (any, error) {
		return s.service.PushDraft(r.Context(), chi.URLParam(r, "window"), in, email)
	})))
	r.Delete(draft, s.forOperator(func(r *http.Request, email string) (any, error) {
		return s.service.Discard(r.Context(), chi.URLParam(r, "window"), email)
	}))
	r.Get(draft+"/versions", s.forOperator(func(r *http.Request, _ string) (any, error) {
		return s.service.History(r.Context(), chi.URLParam(r, "window"))
	}))
	r.Get(draft+"/versions/{number}", s.forOperator(func(r *http.Request, _ string) (any, error) {
		number, err := numberOf(r)
		if err != nil {
			return nil, err
		}
		return s.service.Version(r.Context(), chi.URLParam(r, "window"), number)
	}))
	r.Post("/windows/{window}/sketch", s.forOperator(withInput(func(r *http.Request, _ string, in windows.NewSketch) (any, error) {
		return s.service.Sketch(r.Context(), chi.URLParam(r, "window"), in)
	})))
	r.Post("/check", s.forOperator(withInput(func(r *http.Request, _ string, in windows.Document) (any, error) {
		return s.service.Check(r.Context(), in.Document)
	})))
}

// numberOf is the number in a path.
func numberOf(r *http.Request) (int, error) {
	text := chi.URLParam(r, "number")
	number, err := strconv.Atoi(text)
	if err != nil || number < 1 {
		return 0, fault.New(fault.Invalid, "path.number", "%q is no number; write 1, 2, 3 …", text)
	}
	return number, nil
}

func (s *Server) manageReleases(r chi.Router) {
	const releases = "/windows/{window}/releases"
	r.Get(releases, s.forOperator(func(r *http.Request, _ string) (any, error) {
		return s.service.Releases(r.Context(), chi.URLParam(r, "window"))
	}))
	r.Post(releases, s.forOperator(withInput(func(r *http.Request, email string, in windows.NewRelease) (any, error) {
		if in.SkipChecks == "" && in.Restore == 0 {
			if err := s.required(r.Context(), chi.URLParam(r, "window"), email); err != nil {
				return nil, err
			}
		}
		return s.service.Publish(r.Context(), chi.URLParam(r, "window"), in, email)
	})))
	r.Get(releases+"/{number}", s.forOperator(func(r *http.Request, _ string) (any, error) {
		number, err := numberOf(r)
		if err != nil {
			return nil, err
		}
		return s.service.ReleaseOf(r.Context(), chi.URLParam(r, "window"), number)
	}))
	r.Get(releases+"/{number}/description", func(w http.ResponseWriter, r *http.Request) {
		_, err := s.operator(r)
		var number int
		if err == nil {
			number, err = numberOf(r)
		}
		var text []byte
		if err == nil {
			text, err = s.service.Description(r.Context(), chi.URLParam(r, "window"), number)
		}
		if err != nil {
			s.fail(w, r, err)
			return
		}
		w.Header().Set("Content-Type", "application/openapi+json")
		_, _ = w.Write(text) // the operator has gone away if this fails
	})
	r.Get("/windows/{window}/difference", s.forOperator(func(r *http.Request, _ string) (any, error) {
		q := r.URL.Query()
		return s.service.Difference(r.Context(), chi.URLParam(r, "window"), q.Get("from"), q.Get("to"))
	}))
}

func (s *Server) manageSources(r chi.Router) {
	const source = "/sources/{source}"
	r.Get("/sources", s.forOperator(func(r *http.Request, _ string) (any, error) { return s.service.Sources(r.Context()) }))
	r.Post(source, s.forOperator(withInput(func(r *http.Request, _ string, in windows.NewSource) (any, error) {
		return s.service.AddSource(r.Context(), chi.URLParam(r, "source"), in)
	})))
	r.Put(source, s.forOperator(withInput(func(r *http.Request, _ string, in windows.NewSource) (any, error) {
		return s.service.SetSource(r.Context(), chi.URLParam(r, "source"), in)
	})))
	r.Delete(source, s.forOperator(func(r *http.Request, _ string) (any, error) {
		return struct{}{}, s.service.RemoveSource(r.Context(), chi.URLParam(r, "source"))
	}))
}
