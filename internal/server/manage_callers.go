package server

import (
	"net/http"
	"net/url"

	"eagerwindow/internal/identity"

	"github.com/go-chi/chi/v5"
)

// manageCallers serves what operators do with those who call a window.
func (s *Server) manageCallers(r chi.Router, handle func(func(*http.Request, string) (any, error)) http.HandlerFunc) {
	r.Get("/windows/{window}/callers", handle(func(r *http.Request, _ string) (any, error) {
		return s.service.Roster(r.Context(), chi.URLParam(r, "window"))
	}))
	r.Put("/windows/{window}/clients/{caller}", handle(func(r *http.Request, _ string) (any, error) {
		in, err := input[identity.NewClient](r)
		if err != nil {
			return nil, err
		}
		return s.service.AddClient(r.Context(), chi.URLParam(r, "window"), caller(r), in)
	}))
	r.Post("/windows/{window}/accounts", handle(func(r *http.Request, _ string) (any, error) {
		in, err := input[identity.NewAccount](r)
		if err != nil {
			return nil, err
		}
		return s.service.AddAccount(r.Context(), chi.URLParam(r, "window"), in)
	}))
	r.Patch("/windows/{window}/clients/{caller}", handle(withInput(func(r *http.Request, _ string, in identity.CallerChange) (any, error) {
		return s.service.ChangeClient(r.Context(), chi.URLParam(r, "window"), caller(r), in)
	})))
	r.Patch("/windows/{window}/accounts/{caller}", handle(withInput(func(r *http.Request, _ string, in identity.CallerChange) (any, error) {
		return struct{}{}, s.service.ChangeAccount(r.Context(), chi.URLParam(r, "window"), caller(r), in)
	})))
	r.Delete("/windows/{window}/clients/{caller}", handle(func(r *http.Request, _ string) (any, error) {
		return struct{}{}, s.service.RemoveClient(r.Context(), chi.URLParam(r, "window"), caller(r))
	}))
	r.Delete("/windows/{window}/accounts/{caller}", handle(func(r *http.Request, _ string) (any, error) {
		return struct{}{}, s.service.RemoveAccount(r.Context(), chi.URLParam(r, "window"), caller(r))
	}))
	r.Post("/signing-keys", handle(func(r *http.Request, _ string) (any, error) {
		in, err := input[identity.SigningKeys](r)
		if err != nil {
			return nil, err
		}
		return struct{}{}, s.service.RotateKeys(r.Context(), in.Forget)
	}))
}

// caller is the id of a client or the address of an account in the path.
func caller(r *http.Request) string {
	id := chi.URLParam(r, "caller")
	if plain, err := url.PathUnescape(id); err == nil {
		return plain
	}
	return id
}
