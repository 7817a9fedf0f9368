package server

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/go-chi/chi/v5"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/describe"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/jsontree"
	"eagerwindow/internal/data"
)

// descriptionForm is a form of descriptions: the end of their address, and their type.
type descriptionForm struct{ name, kind string }

var descriptionForms = []descriptionForm{{"json", "application/openapi+json"}, {"yaml", "application/openapi+yaml"}}

// descriptionKey tells the descriptions of live releases apart.
type descriptionKey struct {
	api   uint64
	scope string
	form  string // what is made of it
	place describe.Place
}

// keptDescription is a description as it is sent.
type keptDescription struct {
	text []byte
	tag  string
}

// How many descriptions are kept, and how many bytes of them.
const (
	maxDescriptions     = 200
	maxDescriptionsSize = 64 << 20
)

// described is one version of a window: the one that is live, the draft, or an earlier release.
type described struct {
	policy  *access.Policy
	release int    // 0: the draft
	live    uint64 // the ID of the API that serves it; 0 for the draft and for an earlier release
}

// descriptions serves the descriptions of a window, which is live, or one of its releases, for ever the same: OpenAPI, the JSON Schema of a
// resource, and the page that people read.
func (s *Server) descriptions(r chi.Router) {
	get := func(path string, h http.HandlerFunc) {
		r.Get(path, h)
		r.Head(path, h)
	}
	for _, at := range []struct {
		path, page string
		find       target
		version    versionOfWindow
	}{{"", "/", s.reader, servedVersion}, {"/draft", "/draft", s.draft, servedVersion}, {"/{number}", "/{number}", s.reader,
		s.releasedVersion}} {
		for _, form := range descriptionForms {
			get(at.path+"/openapi."+form.name, s.describing(at.find, at.version, s.openAPI(form)))
		}
		get(at.page, s.describing(at.find, at.version, s.reference))
		get(at.path+"/schemas/{resource}.json", s.describing(at.find, at.version, s.resourceSchema))
		get(at.path+"/metadata.xml", s.describing(at.find, at.version, s.csdl("xml")))
		get(at.path+"/metadata.json", s.describing(at.find, at.version, s.csdl("json")))
	}
}

// versionOfWindow finds out which version of a window is to be described.
type versionOfWindow func(*http.Request, *data.API) (described, error)

// reader finds out which API is to be described, and who reads: callers of it, and operators, who may read everything.
func (s *Server) reader(r *http.Request) (*data.API, access.Caller, error) {
	email, err := s.operator(r)
	if err != nil {
		return s.live(r)
	}
	api, err := s.service.Live(r.Context(), chi.URLParam(r, "window"))
	return api, access.Caller{Operator: true, Subject: email}, err
}

// servedVersion is the one that is served, which may be the draft.
func servedVersion(_ *http.Request, api *data.API) (described, error) {
	d := described{policy: api.Policy, release: api.Release}
	if d.release > 0 {
		d.live = api.ID
	}
	return d, nil
}

func (s *Server) releasedVersion(r *http.Request, _ *data.API) (described, error) {
	number, err := numberOf(r)
	if err != nil {
		return described{}, err
	}
	policy, err := s.service.PolicyOf(r.Context(), chi.URLParam(r, "window"), number)
	return described{policy: policy, release: number}, err
}

// answering writes an answer about a version for a caller.
type answering func(w http.ResponseWriter, r *http.Request, d described, caller access.Caller) error

func (s *Server) describing(find target, version versionOfWindow, answer answering) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		api, caller, err := find(r)
		if err == nil {
			err = s.admitted(w, r, api, caller, func(w http.ResponseWriter, r *http.Request, api *data.API, caller access.Caller) error {
				d, err := version(r, api)
				if err != nil {
					return err
				}
				return answer(w, r, d, caller)
			})
		}
		if err != nil {
			s.fail(w, r, err)
		}
	}
}

// openAPI answers with a description in a form and a version of OpenAPI, as far as the asker may know it: what its roles may do, and those
// whose part is public; with ?role= what that role may do.
func (s *Server) openAPI(form descriptionForm) answering {
	return func(w http.ResponseWriter, r *http.Request, d described, caller access.Caller) error {
		version, name := r.URL.Query().Get("openapi"), "openapi"
		if version != "" && version != describe.Versions[0] {
			name += "-" + version
		}
		return s.sendDescription(w, r, d, caller, answerForm{form.name + version, form.kind, name + "." + form.name},
			func(scope *access.Scope, place describe.Place) ([]byte, error) {
				return describe.Write(d.policy, scope, place, describe.Form{Version: version, YAML: form.name == "yaml", Compact: true})
			})
	}
}

// csdl answers with the metadata of OData, as XML or as JSON.
func (s *Server) csdl(form string) answering {
	return func(w http.ResponseWriter, r *http.Request, d described, caller access.Caller) error {
		return s.sendDescription(w, r, d, caller, answerForm{"csdl " + form, "application/" + form, "metadata." + form},
			func(scope *access.Scope, _ describe.Place) ([]byte, error) {
				metadata := describe.CSDL(d.policy.Model(), scope, "4.01")
				if form == "json" {
					return metadata.JSON()
				}
				return metadata.XML()
			})
	}
}

// resourceSchema answers with the JSON Schema of a resource's rows.
func (s *Server) resourceSchema(w http.ResponseWriter, r *http.Request, d described, caller access.Caller) error {
	name, err := url.PathUnescape(chi.URLParam(r, "resource"))
	if err != nil {
		return fault.New(fault.NotFound, "resource.unknown", "there is nothing at %s", r.URL.Path)
	}
	return s.sendDescription(w, r, d, caller, answerForm{"schema " + name, "application/schema+json", name + ".schema.json"},
		func(scope *access.Scope, _ describe.Place) ([]byte, error) {
			schema, err := describe.JSONSchema(d.policy, scope, name, s.origin(r)+r.URL.EscapedPath())
			if err != nil {
				return nil, err
			}
			return append(jsontree.Append(nil, schema, true), '\n'), nil
		})
}

// answerForm is what is made of a description: by which it is kept, its type, and the end of its file name.
type answerForm struct{ key, kind, file string }

// sendDescription answers with what is made of the description of a version for a caller, or of what was kept.
func (s *Server) sendDescription(w http.ResponseWriter, r *http.Request, d described, caller access.Caller, form answerForm,
	write func(*access.Scope, describe.Place) ([]byte, error)) error {
	scope, err := d.scope(caller, r.URL.Query().Get("role"))
	if err != nil {
		return err
	}
	place := s.place(r, d)
	key := descriptionKey{d.live, scope.Key(), form.key, place}
	kept, known := s.described.Get(key)
	if !known || d.live == 0 {
		text, err := write(scope, place)
		if err != nil {
			return fmt.Errorf("describe %s: %w", d.policy.Model().Name, err)
		}
		sum := sha256.Sum256(text)
		kept = keptDescription{text, `"` + hex.EncodeToString(sum[:12]) + `"`}
		if d.live > 0 {
			s.described.Add(key, kept, len(kept.text))
		}
	}
	h := w.Header()
	h.Set("Content-Type", form.kind)
	h.Set("ETag", kept.tag)
	if form.file != "" {
		parts := fileName(d.policy.Model().Name, d.release, scope.Name)
		if place.Resource != "" {
			parts += "-" + strings.Map(plainLetter, place.Resource)
		}
		h.Set("Content-Disposition", fmt.Sprintf(`inline; filename="%s.%s"`, parts, form.file))
	}
	h["Vary"], h["Cache-Control"] = vary, private
	if d.policy.Model().Document.Description.All && d.release > 0 {
		h.Set("Cache-Control", "public, max-age=60")
		if d.live == 0 { // it stays as it was published
			h.Set("Cache-Control", "public, max-age=86400")
		}
		if h.Get("Access-Control-Allow-Origin") == "" { // any page may read what anyone may
			h.Set("Access-Control-Allow-Origin", "*")
		}
	}
	if asked := r.Header.Get("If-None-Match"); asked != "" && matches(asked, kept.tag) {
		w.WriteHeader(http.StatusNotModified)
		return nil
	}
	_, _ = w.Write(kept.text) // the caller has gone away if this fails
	return nil
}

// place is where a version is served, and how much of it is asked for.
func (s *Server) place(r *http.Request, d described) describe.Place {
	document, name := d.policy.Model().Document, d.policy.Model().Name
	at := "/api/"
	if d.release == 0 {
		at = "/draft/"
	}
	place := describe.Place{Formats: r.URL.Query().Get("formats") == "all", Server: s.origin(r) + at + name,
		Bearer: document.SignIn.Accounts != nil || document.SignIn.Issuers != nil, Resource: r.URL.Query().Get("resource")}
	if document.SignIn.Clients {
		place.Token = s.origin(r) + "/auth/" + name + "/token"
	}
	return place
}

// fileName is what a description is called where it is saved.
func fileName(window string, release int, role string) string {
	name := window + "-draft"
	if release > 0 {
		name = fmt.Sprintf("%s-%d", window, release)
	}
	if role = strings.Map(plainLetter, role); role != "" {
		name += "-" + role
	}
	return name
}

// plainLetter keeps letters, digits and underscores of ASCII.
func plainLetter(c rune) rune {
	if c == '_' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' {
		return c
	}
	return -1
}

// mayReadAll reports whether a caller may read the description of all roles.
func (d described) mayReadAll(caller access.Caller) bool {
	return caller.Operator || d.release == 0 || d.policy.Model().Document.Description.All
}

// readable lists the roles whose part of the description a caller may read.
func (d described) readable(caller access.Caller) []string {
	if d.mayReadAll(caller) {
		return d.policy.RoleNames()
	}
	roles := slices.Clone(caller.Roles)
	for _, name := range d.policy.Model().Document.Description.Public {
		roles = append(roles, name.Value)
	}
	if anonymous := d.policy.Model().AnonymousRole(); anonymous != nil {
		roles = append(roles, anonymous.Name)
	}
	slices.Sort(roles)
	return slices.Compact(roles)
}

// scope is what of a version a caller may read the description of: what a role may do, or "" all that it may know.
func (d described) scope(caller access.Caller, role string) (*access.Scope, error) {
	roles, whole := d.readable(caller), d.mayReadAll(caller)
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
	scope, err := d.policy.Scope(access.Caller{Subject: "description", Operator: role == "" && whole, Roles: roles})
	if f, refused := fault.From(err); refused {
		return nil, fault.New(fault.Invalid, f.Code, "%s", f.Message).On("role")
	}
	return scope, err
}

// catalog lists the APIs that are live, with their descriptions (RFC 9727), as a linkset (RFC 9264).
func (s *Server) catalog(w http.ResponseWriter, r *http.Request) {
	type link struct {
		Href string `json:"href"`
		Type string `json:"type"`
	}
	type set struct {
		Anchor  string `json:"anchor"`
		Service []link `json:"service-desc"`
	}
	list := []set{}
	for _, name := range s.service.ServedNames() {
		at := s.origin(r) + "/api/" + name
		links := make([]link, len(descriptionForms))
		for i, f := range descriptionForms {
			links[i] = link{at + "/openapi." + f.name, f.kind}
		}
		list = append(list, set{at, links})
	}
	w.Header().Set("Content-Type", `application/linkset+json; profile="https://www.rfc-editor.org/info/rfc9727"`)
	writeAs(w, http.StatusOK, map[string]any{"linkset": list})
}
