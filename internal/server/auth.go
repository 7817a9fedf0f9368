package server

import (
	"errors"
	"net/http"
	"net/url"

	"github.com/go-chi/chi/v5"

	"eagerwindow/internal/service"
)

// token gives access tokens to clients (RFC 6749, 4.4). The client shows its secret by Basic or in the form.
func (s *Server) token(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Cache-Control", "no-store")
	r.Body = http.MaxBytesReader(w, r.Body, maxBody)
	if err := r.ParseForm(); err != nil {
		oauthError(w, &service.OAuthError{Code: "invalid_request", Description: "the form can't be read"})
		return
	}
	if grant := r.PostForm.Get("grant_type"); grant != "client_credentials" {
		oauthError(w, &service.OAuthError{Code: "unsupported_grant_type", Description: "send the form fields grant_type=client_credentials, client_id and client_secret"})
		return
	}
	id, secret, basic := r.BasicAuth()
	if basic { // RFC 6749, 2.3.1: both are form-encoded inside
		id, _ = url.QueryUnescape(id)
		secret, _ = url.QueryUnescape(secret)
	} else {
		id, secret = r.PostForm.Get("client_id"), r.PostForm.Get("client_secret")
	}
	t, err := s.service.ClientToken(r.Context(), chi.URLParam(r, "window"), id, secret, r.PostForm.Get("scope"))
	var refused *service.OAuthError
	switch {
	case errors.As(err, &refused):
		oauthError(w, refused)
	case err != nil:
		s.fail(w, r, err)
	default:
		writeJSON(w, http.StatusOK, t)
	}
}

func oauthError(w http.ResponseWriter, e *service.OAuthError) {
	status := http.StatusBadRequest
	if e.Code == "invalid_client" {
		status = http.StatusUnauthorized
		w.Header().Set("WWW-Authenticate", `Basic realm="token"`)
	}
	writeJSON(w, status, e)
}
