package server

import (
	"io"
	"net/http"
	"slices"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/describe"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/data"
)

// description answers with the OpenAPI document of what is served, as far as the asker may know it: what its roles may do, and those whose
// part is public; with ?role= what that role may do.
func (s *Server) description(find target, kind string, write func(io.Writer, *model.Model, *access.Scope,
	describe.Place) error) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		api, caller, err := find(r)
		if err == nil {
			err = s.admitted(w, r, api, caller, func(w http.ResponseWriter, r *http.Request, api *data.API, caller access.Caller) error {
				return s.describe(w, r, api, caller, kind, write)
			})
		}
		if err != nil {
			s.fail(w, r, err)
		}
	}
}

func (s *Server) describe(w http.ResponseWriter, r *http.Request, api *data.API, caller access.Caller, kind string,
	write func(io.Writer, *model.Model, *access.Scope, describe.Place) error) error {
	scope, err := described(api, caller, r.URL.Query().Get("role"))
	if err != nil {
		return err
	}
	signIn := api.Model.Document.SignIn
	place := describe.Place{Formats: r.URL.Query().Get("formats") == "all", Server: s.origin(r) + root(r), Bearer: signIn.Accounts != nil ||
		signIn.Issuers != nil}
	if signIn.Clients {
		place.Token = s.origin(r) + "/auth/" + api.Model.Name + "/token"
	}
	h := w.Header()
	h.Set("Content-Type", kind)
	h["Vary"], h["Cache-Control"] = vary, private
	if api.Model.Document.Description.All && api.Release > 0 {
		h.Set("Cache-Control", "public, max-age=60")
	}
	if err := write(w, api.Model, scope, place); err != nil { // the caller has gone away, or nothing is sent yet
		s.log.Error("a description broke off", "id", idOf(w), "path", r.URL.Path, "error", err)
		panic(http.ErrAbortHandler)
	}
	return nil
}

// described is what of an API a caller may read the description of: what a role may do, or "" all that it may know.
func described(api *data.API, caller access.Caller, role string) (*access.Scope, error) {
	public := api.Model.Document.Description
	roles := slices.Clone(caller.Roles)
	for _, name := range public.Public {
		roles = append(roles, name.Value)
	}
	if anonymous := api.Model.AnonymousRole(); anonymous != nil {
		roles = append(roles, anonymous.Name)
	}
	whole := caller.Operator || api.Release == 0 || public.All
	switch {
	case role == "" && !whole:
	case role == "" || whole || slices.Contains(roles, role):
		roles = []string{role}
	default:
		kind := fault.Forbidden
		if caller.Anonymous() {
			kind = fault.Unauthenticated
		}
		return nil, fault.New(kind, "description.private", "the description of role %q is not public; callers of that role may read it",
			role).On("role")
	}
	if len(roles) == 0 {
		return nil, fault.New(fault.Unauthenticated, "description.private", "the description of this API is not public; send a token of one of "+
			"its roles as \"Authorization: Bearer …\"")
	}
	scope, err := api.Policy.Scope(access.Caller{Subject: "description", Operator: role == "" && whole, Roles: roles})
	if f, refused := fault.From(err); refused {
		return nil, fault.New(fault.Invalid, f.Code, "%s", f.Message).On("role")
	}
	return scope, err
}
