package windows

import (
	"context"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/window"
)

// What goes in and out of the management API, as its description (internal/server/manage.yaml) has it.
type (
	// LookAt names a source by DSN or by the name that the service keeps it under.
	LookAt struct {
		Source string `json:"source"`
	}
	// NewWindow opens a window over a database.
	NewWindow struct {
		Name   string `json:"name"`
		Source string `json:"source"`
		Schema string `json:"schema,omitempty"`
	}
	// Document is a window document as text.
	Document struct {
		Document string `json:"document"`
	}
	// NewRelease publishes the draft.
	NewRelease struct {
		Note string `json:"note,omitempty"`
	}
	// Release is a published release.
	Release struct {
		Number int `json:"number"`
	}
)

// ModelView is what the console needs to know of a window to build requests.
type ModelView struct {
	Window    Window         `json:"window"`
	Resources []ResourceView `json:"resources"`
	Roles     []RoleView     `json:"roles"`
}

// ResourceView is a resource with its fields and relations.
type ResourceView struct {
	Name       string         `json:"name"`
	About      string         `json:"about"`
	Key        []string       `json:"key"`
	Operations []string       `json:"operations"`
	Fields     []FieldView    `json:"fields"`
	Relations  []RelationView `json:"relations"`
}

// FieldView is a field; Kind is what messages call its type, Values are those of an enum.
type FieldView struct {
	Name     string   `json:"name"`
	Kind     string   `json:"kind"`
	About    string   `json:"about"`
	Nullable bool     `json:"nullable"`
	Values   []string `json:"values"`
}

// RelationView is a relation.
type RelationView struct {
	Name string `json:"name"`
	To   string `json:"to"`
	Many bool   `json:"many"`
}

// RoleView is a role with the resources and fields that it may read.
type RoleView struct {
	Name      string              `json:"name"`
	About     string              `json:"about"`
	Anonymous bool                `json:"anonymous"`
	Claims    []ClaimView         `json:"claims"`
	Reads     map[string][]string `json:"reads"`
}

// ClaimView is a claim that a role needs.
type ClaimView struct {
	Name string `json:"name"`
	Kind string `json:"kind"`
}

// ModelOf is the model of a window's draft, for the console.
func (s *Registry) ModelOf(ctx context.Context, name string) (*ModelView, error) {
	api, err := s.DraftAPI(ctx, name)
	if err != nil {
		return nil, err
	}
	w, err := s.window(ctx, name)
	if err != nil {
		return nil, err
	}
	view := &ModelView{Window: summary(w), Resources: []ResourceView{}, Roles: []RoleView{}}
	for _, r := range api.Model.Resources {
		view.Resources = append(view.Resources, viewOf(r))
	}
	for _, r := range api.Model.Roles {
		role := RoleView{Name: r.Name, About: r.About, Anonymous: r.Anonymous, Claims: claimViews(r), Reads: map[string][]string{}}
		scope, err := api.Policy.Scope(access.Caller{Subject: "model", Roles: []string{r.Name}})
		if err != nil {
			return nil, err
		}
		for _, res := range api.Model.Resources {
			if r.Grants[res][window.Read] == nil {
				continue
			}
			fields := []string{}
			for _, f := range scope.Readable(res) {
				fields = append(fields, f.Name)
			}
			role.Reads[res.Name] = fields
		}
		view.Roles = append(view.Roles, role)
	}
	return view, nil
}

func viewOf(r *model.Resource) ResourceView {
	v := ResourceView{Name: r.Name, About: r.About, Key: []string{}, Operations: []string{}, Fields: []FieldView{},
		Relations: []RelationView{}}
	for _, k := range r.Key {
		v.Key = append(v.Key, k.Name)
	}
	for _, op := range r.Operations {
		v.Operations = append(v.Operations, string(op))
	}
	for _, f := range r.Fields {
		v.Fields = append(v.Fields, FieldView{f.Name, kindName(f.Type), f.About, f.Nullable, append([]string{}, f.Type.Values...)})
	}
	for _, rel := range r.Relations {
		if r.View != nil {
			break // they stand in every row, and lead to nothing that could be asked by itself
		}
		v.Relations = append(v.Relations, RelationView{rel.Name, rel.To.Name, rel.Many})
	}
	return v
}

func kindName(t *model.Type) string {
	if t.Kind == model.Enum {
		return "enum"
	}
	return t.Kind.String()
}
