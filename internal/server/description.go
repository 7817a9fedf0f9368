package server

import (
	"io"
	"net/http"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/describe"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
)

// description answers with the OpenAPI document of what is served: all of it, or with ?role= what that role may do.
func (s *Server) description(find target, kind string, write func(io.Writer, *model.Model, *access.Scope,
	describe.Place) error) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		api, _, err := find(r)
		if err != nil {
			s.fail(w, r, err)
			return
		}
		role := r.URL.Query().Get("role")
		scope, err := api.Policy.Scope(access.Caller{Subject: "description", Operator: role == "", Roles: []string{role}})
		if err != nil {
			f, _ := fault.From(err)
			s.fail(w, r, fault.New(fault.Invalid, f.Code, "%s", f.Message).On("role"))
			return
		}
		signIn := api.Model.Document.SignIn
		place := describe.Place{Server: s.origin(r) + root(r), Bearer: signIn.Accounts != nil || signIn.Issuers != nil}
		if signIn.Clients {
			place.Token = s.origin(r) + "/auth/" + api.Model.Name + "/token"
		}
		w.Header().Set("Content-Type", kind)
		if err := write(w, api.Model, scope, place); err != nil { // the caller has gone away, or nothing is sent yet
			s.log.Error("a description broke off", "id", idOf(w), "path", r.URL.Path, "error", err)
			panic(http.ErrAbortHandler)
		}
	}
}
