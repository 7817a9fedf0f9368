package server

import (
	"encoding/json"
	"net/http"
	"slices"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/describe"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/data"
	"eagerwindow/internal/encode"
)

// serviceDocument lists what the caller may read (JSON Format, 5), and links the description (RFC 8631). Named queries that need
// parameters are called, not followed, so only those without stand here.
func (s *Server) serviceDocument(w http.ResponseWriter, r *http.Request, api *data.API, caller access.Caller) error {
	scope, err := api.Policy.Scope(caller)
	if err != nil {
		return err
	}
	f, err := negotiateFormat(w, r, r.URL.RawQuery)
	if err != nil {
		return err
	}
	type entry struct {
		Name string `json:"name"`
		Kind string `json:"kind"`
		URL  string `json:"url"`
	}
	list := []entry{}
	for _, name := range scope.Granted(window.Read) {
		kind := "EntitySet"
		if res := api.Model.Resource(name); res.Query != nil || len(res.Key) == 0 {
			kind = "FunctionImport"
			if res.Query != nil && slices.ContainsFunc(res.Query.Parameters, func(p model.Parameter) bool { return !p.Optional }) {
				continue
			}
		}
		list = append(list, entry{name, kind, name})
	}
	w.Header().Set("Link", "<"+root(r)+`/openapi.json>; rel="service-desc"; type="application/openapi+json"`)
	f.Kind = encode.JSON // the list is small, and has one form
	w.Header().Set("Content-Type", f.contentType())
	out := f.envelope(root(r) + "/$metadata").Context(nil)
	text, err := json.Marshal(list)
	if err != nil {
		return err
	}
	_, _ = w.Write(append(append(append(out, `"value":`...), text...), "}\n"...))
	return nil
}

// metadata is the model as the caller's role sees it (CSDL 4.01): XML, or JSON where that is asked for.
func (s *Server) metadata(w http.ResponseWriter, r *http.Request, api *data.API, caller access.Caller) error {
	scope, err := api.Policy.Scope(caller)
	if err != nil {
		return err
	}
	f, err := negotiateFormat(w, r, r.URL.RawQuery)
	if err != nil {
		return err
	}
	asked, given := formatOption(r.URL.RawQuery)
	accept := strings.Join(r.Header.Values("Accept"), ",")
	csdl := describe.CSDL(api.Model, scope, f.version()[0])
	write, kind := csdl.XML, "application/xml"
	switch {
	case f.Kind == encode.CSV || f.Kind == encode.NDJSON:
		return fault.New(fault.NotAcceptable, "format.unknown", "metadata is written as XML or JSON").On("format")
	case f.Kind == encode.JSON && (given && asked != "" || strings.Contains(accept, "json")):
		write, kind = csdl.JSON, "application/json"
	}
	out, err := write()
	if err != nil {
		return err
	}
	w.Header().Set("Content-Type", kind)
	_, _ = w.Write(out)
	return nil
}
