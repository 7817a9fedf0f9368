package server

import (
	"bytes"
	_ "embed"
	"encoding/json"
	"errors"
	"net/http"
	"net/url"
	"strings"

	"github.com/go-chi/chi/v5"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/identity"
	"eagerwindow/internal/windows"
)

// ManageDescription is the OpenAPI description of the management API.
//
//go:embed manage.yaml
var ManageDescription []byte

// sessionCookie holds an operator's token in a browser.
const sessionCookie = "eager_session"

// manage serves the management API, which the console and the command line use.
func (s *Server) manage(r chi.Router) {
	r.Get("/openapi.yaml", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/openapi+yaml")
		_, _ = w.Write(ManageDescription)
	})
	r.Post("/session", s.signIn)
	r.Group(func(r chi.Router) {
		r.Get("/session", s.forOperator(func(_ *http.Request, email string) (any, error) { return identity.Session{Email: email}, nil }))
		r.Delete("/session", s.signOut)
		s.manageWindows(r)
		s.manageAccess(r)
		s.manageCallers(r, s.forOperator)
		s.manageOperators(r)
	})
}

// forOperator answers an operator with what serve returns.
func (s *Server) forOperator(serve func(r *http.Request, email string) (any, error)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		email, err := s.operator(r)
		var out any
		if err == nil {
			out, err = serve(r.WithContext(identity.Acting(r.Context(), email, address(r))), email)
		}
		if err != nil {
			s.fail(w, r, err)
			return
		}
		writeJSON(w, http.StatusOK, out)
	}
}

// withInput reads the body that a call takes.
func withInput[T any](serve func(r *http.Request, email string, in T) (any, error)) func(*http.Request, string) (any, error) {
	return func(r *http.Request, email string) (any, error) {
		in, err := input[T](r)
		if err != nil {
			return nil, err
		}
		return serve(r, email, in)
	}
}

// manageAccess shows and changes what roles may do.
func (s *Server) manageAccess(r chi.Router) {
	const grant = "/windows/{window}/grants/{role}/{resource}"
	r.Get("/windows/{window}/access", s.forOperator(func(r *http.Request, _ string) (any, error) {
		return s.service.Lights(r.Context(), chi.URLParam(r, "window"))
	}))
	r.Post("/windows/{window}/access", s.forOperator(withInput(func(r *http.Request, _ string, in windows.Question) (any, error) {
		return s.service.Why(r.Context(), chi.URLParam(r, "window"), in)
	})))
	r.Get(grant, s.forOperator(func(r *http.Request, _ string) (any, error) {
		return s.service.Grant(r.Context(), chi.URLParam(r, "window"), chi.URLParam(r, "role"), chi.URLParam(r, "resource"))
	}))
	r.Put(grant, s.forOperator(withInput(func(r *http.Request, email string, in windows.GrantChange) (any, error) {
		window, role, resource := chi.URLParam(r, "window"), chi.URLParam(r, "role"), chi.URLParam(r, "resource")
		return s.service.SetGrant(r.Context(), window, role, resource, in, email)
	})))
	r.Post("/windows/{window}/rules", s.forOperator(withInput(func(r *http.Request, _ string, in windows.RuleQuestion) (any, error) {
		return s.service.CheckRule(r.Context(), chi.URLParam(r, "window"), in)
	})))
}

// input reads a JSON body; unknown members are mistakes.
func input[T any](r *http.Request) (T, error) { return inputUpTo[T](r, maxBody) }

// inputUpTo reads a body that may have some bytes.
func inputUpTo[T any](r *http.Request, most int64) (in T, err error) {
	body, err := jsonBody(r, most)
	if err != nil {
		return in, err
	}
	if len(body) == 0 {
		body = []byte("{}")
	}
	d := json.NewDecoder(bytes.NewReader(body))
	d.DisallowUnknownFields()
	if err := d.Decode(&in); err != nil {
		return in, unreadable(err)
	}
	return in, nil
}

// unreadable is the fault of a body that is not of the form that is expected.
func unreadable(err error) error {
	if name, unknown := strings.CutPrefix(err.Error(), "json: unknown field "); unknown {
		return fault.New(fault.Invalid, "body.invalid", "the body has a member %s, which has no meaning here; leave it out",
			name).On(strings.Trim(name, `"`))
	}
	var kind *json.UnmarshalTypeError
	if errors.As(err, &kind) {
		if kind.Field == "" {
			return fault.New(fault.Invalid, "body.invalid", "a JSON object is expected, this is a JSON %s", kind.Value)
		}
		return fault.New(fault.Invalid, "body.invalid", "%s can't be a JSON %s", kind.Field, kind.Value).On(kind.Field)
	}
	return fault.New(fault.Invalid, "body.invalid", "the body is not JSON: %s", err)
}

// operator finds out which operator sends a request, by bearer token or by the console's cookie. A cookie goes along with
// requests that other pages start, so for these the Origin must be ours.
func (s *Server) operator(r *http.Request) (string, error) {
	if token := bearer(r); token != "" {
		return s.service.Operator(r.Context(), token)
	}
	c, err := r.Cookie(sessionCookie)
	if err != nil {
		return s.service.Operator(r.Context(), "")
	}
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		if err := s.sameOrigin(r); err != nil {
			return "", err
		}
	}
	return s.service.Operator(r.Context(), c.Value)
}

// sessionToken is the token that a request carries, in whichever way.
func sessionToken(r *http.Request) string {
	token := bearer(r)
	if c, err := r.Cookie(sessionCookie); token == "" && err == nil {
		return c.Value
	}
	return token
}

func (s *Server) sameOrigin(r *http.Request) error {
	origin, err := url.Parse(r.Header.Get("Origin"))
	_, own, _ := strings.Cut(s.origin(r), "://")
	if r.Header.Get("Origin") == "" || err != nil || origin.Host != r.Host && origin.Host != own {
		return fault.New(fault.Forbidden, "origin.foreign", "this request does not come from the console's own page")
	}
	return nil
}

func (s *Server) signIn(w http.ResponseWriter, r *http.Request) {
	in, err := input[identity.Credentials](r)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	token, err := s.service.SignIn(r.Context(), in.Email, in.Password, address(r))
	if err != nil {
		s.fail(w, r, err)
		return
	}
	http.SetCookie(w, &http.Cookie{Name: sessionCookie, Value: token, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode,
		Secure: strings.HasPrefix(s.origin(r), "https://")})
	w.Header().Set("Cache-Control", "no-store")
	writeJSON(w, http.StatusOK, identity.Session{Email: in.Email, Token: token})
}

func (s *Server) signOut(w http.ResponseWriter, r *http.Request) {
	if _, err := s.operator(r); err != nil {
		s.fail(w, r, err)
		return
	}
	if err := s.service.SignOut(r.Context(), sessionToken(r)); err != nil {
		s.fail(w, r, err)
		return
	}
	http.SetCookie(w, &http.Cookie{Name: sessionCookie, Path: "/", MaxAge: -1, HttpOnly: true, SameSite: http.SameSiteStrictMode})
	w.WriteHeader(http.StatusNoContent)
}
