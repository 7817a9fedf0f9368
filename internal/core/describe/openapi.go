// Package describe writes the description of a window from its model: what callers can send and what they get, as everyone
// or as one role sees it. The same model gives the same bytes.
package describe

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/jsontree"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/window"
)

type (
	object = jsontree.Object
	list   = jsontree.List
)

// Place is where the API is served, and how much of it is described.
type Place struct {
	Server   string // http://127.0.0.1:8080/api/saltmere
	Token    string // where programs get tokens; "" where they can't
	Bearer   bool   // people have tokens, or other issuers give them
	Formats  bool   // describe all formats of answers, not JSON alone
	Resource string // describe this resource alone; "": all
}

// OpenAPI is the description as OpenAPI 3.1: what the scope may do and no more. The error is a fault if there is no such resource.
func OpenAPI(p *access.Policy, scope *access.Scope, at Place) (*object, error) {
	m := p.Model()
	w := &writer{model: m, scope: scope, at: at, limited: limited(m, scope), paths: &object{}, examples: map[*model.Field]any{},
		components: map[string]map[string]any{}}
	for _, name := range p.RoleNames() {
		role, err := p.Scope(access.Caller{Subject: "description", Roles: []string{name}})
		if err != nil {
			return nil, err
		}
		w.roles = append(w.roles, role)
	}
	resources := described(m, scope)
	if at.Resource != "" {
		names := make([]string, len(resources))
		for i, r := range resources {
			names[i] = r.Name
		}
		i := slices.Index(names, at.Resource)
		if i < 0 {
			return nil, unknownResource(at.Resource, names)
		}
		resources = resources[i : i+1]
	}
	w.shared()
	for _, r := range resources {
		w.resource(r)
	}
	if at.Resource == "" {
		w.whole()
	}
	return w.document(resources), nil
}

// limited reports whether the requests of a scope are counted; those of everyone, if any role's are.
func limited(m *model.Model, scope *access.Scope) bool {
	counts := func(l window.Limits) bool { return l.Requests.Count > 0 || l.Concurrent > 0 }
	if scope.Name != "" {
		return counts(scope.Limits)
	}
	return slices.ContainsFunc(m.Roles, func(r *model.Role) bool { return counts(r.Limits) })
}

// described lists the resources that the scope may do anything with.
func described(m *model.Model, scope *access.Scope) []*model.Resource {
	return slices.DeleteFunc(slices.Clone(m.Resources), func(r *model.Resource) bool { return len(scope.Operations(r)) == 0 })
}

// writer collects the parts of a description. Components are made where something refers to them first, so none is there for nothing.
type writer struct {
	model      *model.Model
	scope      *access.Scope
	roles      []*access.Scope // each role of the model by itself
	at         Place
	limited    bool // requests are counted
	paths      *object
	components map[string]map[string]any // by kind and name; nil while it is made
	pending    []func()                  // schemas that are referred to and not yet written
	lazy       map[string]func() any     // shared components, by kind and name
	examples   map[*model.Field]any
}

// componentKinds are the kinds of components in the order in which they are written.
var componentKinds = []string{"schemas", "responses", "parameters", "headers", "securitySchemes"}

// document puts the description together.
func (w *writer) document(resources []*model.Resource) *object {
	for len(w.pending) > 0 {
		next := w.pending[0]
		w.pending = w.pending[1:]
		next()
	}
	doc := w.model.Document
	info := jsontree.New("title", cmp.Or(doc.Title, w.model.Name), "version", cmp.Or(doc.Version, "0"), "description", w.about())
	if c := doc.Description.Contact; c != (window.Contact{}) {
		info.Set("contact", jsontree.New("name", optional(c.Name), "url", optional(c.URL), "email", optional(c.Email)))
	}
	if l := doc.Description.License; l.Name != "" {
		info.Set("license", jsontree.New("name", l.Name, "identifier", optional(l.Identifier), "url", optional(l.URL)))
	}
	servers := list{}
	for _, s := range doc.Description.Servers {
		servers = append(servers, jsontree.New("url", s.Value))
	}
	if len(servers) == 0 {
		servers = list{jsontree.New("url", w.at.Server)}
	}
	tags := list{}
	for _, r := range resources {
		tags = append(tags, jsontree.New("name", r.Name, "description", cmp.Or(r.About, sentence(words(r.Name)))))
	}
	if w.at.Resource == "" {
		tags = append(tags, jsontree.New("name", wholeTag, "description", "Several requests in one, and the model behind the API."))
	}
	out := jsontree.New("openapi", "3.1.1", "info", info, "servers", servers)
	if security := w.common(); len(security) > 0 {
		out.Set("security", security)
	}
	out.Set("tags", tags)
	w.paths.Sort()
	out.Set("paths", w.paths)
	components := &object{}
	for _, kind := range componentKinds {
		if made := w.components[kind]; made != nil {
			group := &object{}
			for _, name := range slices.Sorted(maps.Keys(made)) {
				group.Add(name, made[name])
			}
			components.Add(kind, group)
		}
	}
	out.Set("components", components)
	inlineOnce(out)
	return out
}

// inlineOnce writes responses and parameters that one place alone refers to into that place.
func inlineOnce(doc *object) {
	uses := map[string][]*object{}
	jsontree.Walk(doc.Get("paths"), func(o *object) {
		if ref := o.Text("$ref"); ref != "" {
			uses[ref] = append(uses[ref], o)
		}
	})
	for _, kind := range []string{"responses", "parameters"} {
		group := doc.Object("components").Object(kind)
		if group == nil {
			continue
		}
		group.Members = slices.DeleteFunc(group.Members, func(m jsontree.Member) bool {
			at := uses["#/components/"+kind+"/"+m.Name]
			if len(at) != 1 {
				return false
			}
			at[0].Members = m.Value.(*object).Members
			return true
		})
	}
}

// about is what stands above the description.
func (w *writer) about() string {
	about := w.model.Document.About
	if w.scope.Name != "" {
		about += fmt.Sprintf("\n\nAs role `%s` sees it.", w.scope.Name)
	}
	return strings.TrimSpace(about +
		"\n\nQuery options are those of OData 4.01, with or without `$`; `compute` and `apply` work too. Fields that a " +
		"`select` leaves out are missing, relations are there with `expand`. `…/$count` after a list is its number of rows, `POST " +
		"…/$query` " +
		"takes long options as `text/plain`; `…/$value` after a field is its bare value.")
}

// add adds a component where there is none of that name, and returns a reference to it.
func (w *writer) add(kind, name string, make func() any) *object {
	if w.claim(kind, name) { // first, as what it is made of may refer to it
		w.components[kind][name] = make()
	}
	return reference(kind, name)
}

// claim reports whether a component is not there yet, and takes its name.
func (w *writer) claim(kind, name string) bool {
	if w.components[kind] == nil {
		w.components[kind] = map[string]any{}
	}
	_, there := w.components[kind][name]
	if !there {
		w.components[kind][name] = nil
	}
	return !there
}

func reference(kind, name string) *object {
	return jsontree.New("$ref", "#/components/"+kind+"/"+name)
}

// use is a reference to a shared component.
func (w *writer) use(kind, name string) *object {
	return w.add(kind, name, w.lazy[kind+"/"+name])
}

// schemaRef refers to a schema that is written once the operations are.
func (w *writer) schemaRef(name string, make func() any) *object {
	if w.claim("schemas", name) {
		w.pending = append(w.pending, func() { w.components["schemas"][name] = make() })
	}
	return reference("schemas", name)
}

// optional is a text, or nothing where it is empty.
func optional(text string) any {
	if text == "" {
		return nil
	}
	return text
}

// reserved are the names of schemas that every description may have.
var reserved = []string{"error", "mistake", "row-id", "removed", "link-to-row", "link-or-removal", "links-to-rows", "link-or-links",
	"batch-of-requests", "answers-of-batch"}

// Component is the name of the schema of a resource's rows; those of bodies have -create, -change and -replace after it.
func Component(r *model.Resource) string { return component(r, "") }

// component is what one row of a resource is called as a key of components, where only ASCII may stand.
func component(r *model.Resource, part string) string {
	return keyName(cmp.Or(r.Item, r.Name), r) + part
}

// plural is what the rows of a resource are called as a part of such a key.
func plural(r *model.Resource) string { return keyName(r.Name, r) }

func keyName(name string, r *model.Resource) string {
	if slices.Contains(reserved, name) {
		name += "-row"
	}
	for _, c := range name {
		if c >= 0x80 {
			return fmt.Sprintf("resource-%d", r.Index+1)
		}
	}
	return name
}
