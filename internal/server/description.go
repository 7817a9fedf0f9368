package server

import (
	"net/http"

	"github.com/sv-tools/openapi"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/describe"
	"eagerwindow/internal/core/fault"
)

// description answers with the OpenAPI document of what is served: all of it, or with ?role= what that role may do.
func (s *Server) description(find target, kind string, write func(*openapi.Extendable[openapi.OpenAPI]) ([]byte, error)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		api, _, err := find(r)
		if err != nil {
			s.fail(w, r, err)
			return
		}
		role := r.URL.Query().Get("role")
		scope, err := api.Policy.Scope(access.Caller{Subject: "description", Role: role})
		if err != nil {
			f, _ := fault.From(err)
			s.fail(w, r, fault.New(fault.Invalid, f.Code, "%s", f.Message).On("role"))
			return
		}
		origin := "http://" + r.Host
		if r.TLS != nil {
			origin = "https://" + r.Host
		}
		place := describe.Place{Server: origin + root(r)}
		if api.Model.Document.Clients {
			place.Token = origin + "/auth/" + api.Model.Name + "/token"
		}
		out, err := write(describe.OpenAPI(api.Model, scope, place))
		if err != nil {
			s.fail(w, r, err)
			return
		}
		w.Header().Set("Content-Type", kind)
		_, _ = w.Write(out)
	}
}
