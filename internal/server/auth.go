package server

import (
	"cmp"
	"encoding/json"
	"errors"
	"net"
	"net/http"
	"net/url"

	"github.com/go-chi/chi/v5"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/identity"
)

// auth serves tokens: to programs, to people, and what others need to check them.
func (s *Server) auth(r chi.Router) {
	r.Post("/token", s.token)
	r.Get("/jwks.json", s.keySet)
	r.Get("/me", s.answer(http.StatusOK, func(r *http.Request, name string) (any, error) {
		return s.service.Me(r.Context(), name, bearer(r))
	}))
	r.Post("/sign-up", s.answer(http.StatusCreated, func(r *http.Request, name string) (any, error) {
		in, err := input[signUp](r)
		if err != nil {
			return nil, err
		}
		credentials, err := in.credentials()
		if err != nil {
			return nil, err
		}
		return s.service.SignUp(r.Context(), name, credentials, s.from(r))
	}))
	r.Post("/sign-in", s.answer(http.StatusOK, func(r *http.Request, name string) (any, error) {
		in, err := input[identity.Credentials](r)
		if err != nil {
			return nil, err
		}
		return s.service.AccountToken(r.Context(), name, in, s.from(r))
	}))
	r.Post("/sign-out", s.answer(http.StatusNoContent, func(r *http.Request, name string) (any, error) {
		return nil, s.service.SignAccountOut(r.Context(), name, bearer(r))
	}))
	r.Put("/password", s.answer(http.StatusNoContent, func(r *http.Request, name string) (any, error) {
		in, err := input[identity.PasswordChange](r)
		if err != nil {
			return nil, err
		}
		return nil, s.service.NewPassword(r.Context(), name, bearer(r), in, s.from(r))
	}))
}

// signUp is what a person signs up with.
type signUp struct {
	Email    string          `json:"email"`
	Password string          `json:"password"`
	Role     json.RawMessage `json:"role"`
	Roles    json.RawMessage `json:"roles"`
}

// credentials refuses what nobody chooses for oneself.
func (in signUp) credentials() (identity.Credentials, error) {
	if in.Role != nil || in.Roles != nil {
		return identity.Credentials{}, fault.New(fault.Invalid, "body.invalid",
			"nobody chooses a role at sign-up: the document's default_role is given, and operators may change it; leave it out").On("role")
	}
	return identity.Credentials{Email: in.Email, Password: in.Password}, nil
}

// answer answers with what serve returns, which nobody on the way may keep.
func (s *Server) answer(status int, serve func(*http.Request, string) (any, error)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "no-store")
		out, err := serve(r, chi.URLParam(r, "window"))
		switch {
		case err != nil:
			s.fail(w, r, err)
		case status == http.StatusNoContent:
			w.WriteHeader(status)
		default:
			writeJSON(w, status, out)
		}
	}
}

// token gives access tokens (RFC 6749): to clients, who show their secret by Basic or in the form (4.4), and for refresh tokens (6).
func (s *Server) token(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Cache-Control", "no-store")
	r.Body = http.MaxBytesReader(w, r.Body, maxBody)
	if err := r.ParseForm(); err != nil {
		oauthError(w, &identity.OAuthError{Code: "invalid_request", Description: "the form can't be read"})
		return
	}
	var t *identity.Token
	var err error
	name := chi.URLParam(r, "window")
	switch r.PostForm.Get("grant_type") {
	case "client_credentials":
		id, secret, basic := r.BasicAuth()
		if basic { // RFC 6749, 2.3.1: both are form-encoded inside
			id, _ = url.QueryUnescape(id)
			secret, _ = url.QueryUnescape(secret)
		} else {
			id, secret = r.PostForm.Get("client_id"), r.PostForm.Get("client_secret")
		}
		t, err = s.service.ClientToken(r.Context(), name, id, secret, r.PostForm.Get("scope"), s.from(r))
	case "refresh_token":
		t, err = s.service.RefreshToken(r.Context(), name, r.PostForm.Get("refresh_token"), s.from(r))
	default:
		err = &identity.OAuthError{Code: "unsupported_grant_type",
			Description: "send the form fields grant_type=client_credentials, client_id and client_secret; " +
				"or grant_type=refresh_token and refresh_token"}
	}
	var refused *identity.OAuthError
	switch {
	case errors.As(err, &refused):
		oauthError(w, refused)
	case err != nil:
		s.fail(w, r, err)
	default:
		writeJSON(w, http.StatusOK, t)
	}
}

func oauthError(w http.ResponseWriter, e *identity.OAuthError) {
	status := http.StatusBadRequest
	if e.Code == "invalid_client" {
		status = http.StatusUnauthorized
		w.Header().Set("WWW-Authenticate", `Basic realm="token"`)
	}
	writeJSON(w, status, e)
}

// keySet is the keys by which others check our tokens (RFC 7517, 5).
func (s *Server) keySet(w http.ResponseWriter, r *http.Request) {
	set, err := s.service.KeySet(r.Context())
	if err != nil {
		s.fail(w, r, err)
		return
	}
	w.Header().Set("Cache-Control", "max-age=300")
	w.Header().Set("Content-Type", "application/jwk-set+json")
	writeAs(w, http.StatusOK, set)
}

// authMetadata tells programs where tokens of a window come from (RFC 8414, 3).
func (s *Server) authMetadata(w http.ResponseWriter, r *http.Request) {
	api, err := s.service.Live(r.Context(), chi.URLParam(r, "window"))
	if err != nil {
		s.fail(w, r, err)
		return
	}
	signIn := api.Model.Document.SignIn
	if !signIn.Clients && signIn.Accounts == nil {
		s.fail(w, r, fault.New(fault.NotFound, "tokens.none",
			"this API gives no tokens: its document has neither clients nor accounts under sign_in"))
		return
	}
	issuer := s.origin(r) + "/auth/" + api.Model.Name
	grants := []string{}
	if signIn.Clients {
		grants = append(grants, "client_credentials")
	}
	if signIn.Accounts != nil {
		grants = append(grants, "refresh_token")
	}
	scopes := []string{}
	for _, role := range api.Model.Roles {
		if !role.Anonymous {
			scopes = append(scopes, role.Name)
		}
	}
	writeJSON(w, http.StatusOK, map[string]any{
		"issuer": issuer, "token_endpoint": issuer + "/token", "jwks_uri": issuer + "/jwks.json", "scopes_supported": scopes,
		"response_types_supported": []string{}, "grant_types_supported": grants,
		"token_endpoint_auth_methods_supported": []string{"client_secret_basic", "client_secret_post", "none"},
	})
}

// origin is the address of the service as the caller knows it.
func (s *Server) origin(r *http.Request) string {
	if s.front.PublicURL != "" {
		return s.front.PublicURL
	}
	scheme := r.URL.Scheme // of a proxy
	if scheme == "" && r.TLS != nil {
		scheme = "https"
	}
	return cmp.Or(scheme, "http") + "://" + r.Host
}

// address is where a request comes from, without the port.
func address(r *http.Request) string {
	host, _, _ := net.SplitHostPort(r.RemoteAddr)
	return host
}

func (s *Server) from(r *http.Request) identity.From {
	return identity.From{Address: address(r), Origin: s.origin(r)}
}
