package server

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"

	"github.com/go-chi/chi/v5"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/describe"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/data"
)

// writeDescription writes a description in one of its forms.
type writeDescription func(io.Writer, *model.Model, *access.Scope, describe.Place) error

// descriptionForm is a form of descriptions: the end of their address, their type, and what writes them.
type descriptionForm struct {
	name, kind string
	write      writeDescription
}

var descriptionForms = []descriptionForm{
	{"json", "application/openapi+json", describe.JSON},
	{"yaml", "application/openapi+yaml", describe.YAML},
}

// descriptionKey tells the descriptions of live releases apart.
type descriptionKey struct {
	api     uint64
	scope   string
	form    string
	server  string
	formats bool
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

// description answers with the OpenAPI document of what is served, as far as the asker may know it: what its roles may do, and those whose
// part is public; with ?role= what that role may do.
func (s *Server) description(find target, form descriptionForm) http.HandlerFunc {
	return s.describing(find, form, func(_ *http.Request, api *data.API) (described, error) {
		d := described{policy: api.Policy, release: api.Release}
		if d.release > 0 {
			d.live = api.ID
		}
		return d, nil
	})
}

// releaseDescription answers with that of an earlier release, for ever the same.
func (s *Server) releaseDescription(form descriptionForm) http.HandlerFunc {
	return s.describing(s.live, form, func(r *http.Request, api *data.API) (described, error) {
		number, err := numberOf(r)
		if err != nil {
			return described{}, err
		}
		policy, err := s.service.PolicyOf(r.Context(), chi.URLParam(r, "window"), number)
		return described{policy: policy, release: number}, err
	})
}

func (s *Server) describing(find target, form descriptionForm, version func(*http.Request, *data.API) (described, error)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		api, caller, err := find(r)
		if err == nil {
			err = s.admitted(w, r, api, caller, func(w http.ResponseWriter, r *http.Request, api *data.API, caller access.Caller) error {
				d, err := version(r, api)
				if err != nil {
					return err
				}
				return s.describe(w, r, d, caller, form)
			})
		}
		if err != nil {
			s.fail(w, r, err)
		}
	}
}

func (s *Server) describe(w http.ResponseWriter, r *http.Request, d described, caller access.Caller, form descriptionForm) error {
	scope, err := d.scope(caller, r.URL.Query().Get("role"))
	if err != nil {
		return err
	}
	document := d.policy.Model().Document
	name := d.policy.Model().Name
	server := s.origin(r) + "/api/" + name
	if d.release == 0 {
		server = s.origin(r) + "/draft/" + name
	}
	place := describe.Place{Formats: r.URL.Query().Get("formats") == "all", Server: server,
		Bearer: document.SignIn.Accounts != nil || document.SignIn.Issuers != nil}
	if document.SignIn.Clients {
		place.Token = s.origin(r) + "/auth/" + name + "/token"
	}
	key := descriptionKey{d.live, scope.Key(), form.name, server, place.Formats}
	kept, known := s.descriptions.Get(key)
	if !known || d.live == 0 {
		var out bytes.Buffer
		if err := form.write(&out, d.policy.Model(), scope, place); err != nil {
			return fmt.Errorf("describe %q: %w", name, err)
		}
		sum := sha256.Sum256(out.Bytes())
		kept = keptDescription{out.Bytes(), `"` + hex.EncodeToString(sum[:12]) + `"`}
		if d.live > 0 {
			s.descriptions.Add(key, kept, len(kept.text))
		}
	}
	h := w.Header()
	h.Set("Content-Type", form.kind)
	h.Set("ETag", kept.tag)
	h.Set("Content-Disposition", fmt.Sprintf(`inline; filename="%s.openapi.%s"`, fileName(name, d.release, scope.Name), form.name))
	h["Vary"], h["Cache-Control"] = vary, private
	if document.Description.All && d.release > 0 {
		h.Set("Cache-Control", "public, max-age=60")
		if d.live == 0 { // it stays as it was published
			h.Set("Cache-Control", "public, max-age=86400")
		}
	}
	if asked := r.Header.Get("If-None-Match"); asked != "" && matches(asked, kept.tag) {
		w.WriteHeader(http.StatusNotModified)
		return nil
	}
	_, _ = w.Write(kept.text) // the caller has gone away if this fails
	return nil
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

// scope is what of a version a caller may read the description of: what a role may do, or "" all that it may know.
func (d described) scope(caller access.Caller, role string) (*access.Scope, error) {
	public := d.policy.Model().Document.Description
	roles := slices.Clone(caller.Roles)
	for _, name := range public.Public {
		roles = append(roles, name.Value)
	}
	if anonymous := d.policy.Model().AnonymousRole(); anonymous != nil {
		roles = append(roles, anonymous.Name)
	}
	whole := caller.Operator || d.release == 0 || public.All
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
