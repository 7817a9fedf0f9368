package windows

import (
	"context"
	"time"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/compare"
	"eagerwindow/internal/core/describe"
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
		Name    string   `json:"name"`
		Source  string   `json:"source"`
		Schemas []string `json:"schemas,omitempty"` // none: all
	}
	// Document is a window document as text. What is not the document is there where a draft is read.
	Document struct {
		Document string     `json:"document"`
		Version  int        `json:"version,omitempty"`
		SavedAt  *time.Time `json:"saved_at,omitempty"`
		SavedBy  string     `json:"saved_by,omitempty"`
	}
	// Push saves a document as a draft. Base is the version of the draft that it was made of: 0 for the last one that whoever sends it has
	// saved. With Replace, whatever others have changed since is lost.
	Push struct {
		Document string `json:"document"`
		Base     int    `json:"base,omitempty"`
		Replace  bool   `json:"replace,omitempty"`
		How      string `json:"-"`
	}
	// DraftVersion is a version of a draft, and how many lines it has more and less than the one before.
	DraftVersion struct {
		Number  int       `json:"number"`
		How     string    `json:"how"`
		SavedAt time.Time `json:"saved_at"`
		SavedBy string    `json:"saved_by"`
		Added   int       `json:"added"`
		Removed int       `json:"removed"`
	}
	// NewRelease publishes the draft, or with Restore the document of an earlier release.
	NewRelease struct {
		Note          string `json:"note,omitempty"`
		AllowBreaking bool   `json:"allow_breaking,omitempty"`
		AllowWidening bool   `json:"allow_widening,omitempty"`
		Restore       int    `json:"restore,omitempty"`
		SkipChecks    string `json:"skip_checks,omitempty"` // why the suites that the document demands are not run
	}
	// Release is a published release and what it changed.
	Release struct {
		Number   int              `json:"number"`
		At       time.Time        `json:"at"`
		By       string           `json:"by"`
		Note     string           `json:"note"`
		Live     bool             `json:"live"`
		Restores int              `json:"restores,omitempty"`
		Counts   Counts           `json:"counts"`
		Changes  []compare.Change `json:"changes,omitempty"`
		Document string           `json:"document,omitempty"`
	}
	// Counts are how many changes there are.
	Counts = compare.Counts
	// Difference is what changes between two versions of a window: "draft", "document", or the number of a release.
	Difference struct {
		Window   string           `json:"window"`
		From     string           `json:"from"` // "" where nothing is live
		To       string           `json:"to"`
		Text     bool             `json:"text"`    // the documents differ as text
		Catalog  bool             `json:"catalog"` // so do the catalogs
		Changes  []compare.Change `json:"changes"`
		Diff     string           `json:"diff,omitempty"` // of the documents, as a unified diff
		Warnings []string         `json:"warnings,omitempty"`
	}
	// Closed is what went with a window.
	Closed struct {
		Releases int `json:"releases"`
		Clients  int `json:"clients"`
		Accounts int `json:"accounts"`
	}
	// Drift is how a database differs from the catalog that the live release was published with.
	Drift struct {
		Window  string               `json:"window"`
		Since   time.Time            `json:"since"`
		Tables  []compare.TableDrift `json:"tables"`
		Changes []compare.Change     `json:"changes"`         // of the live document with the database as it is now
		Wrong   string               `json:"wrong,omitempty"` // why the live document does not fit the database any more
	}
	// Source is a database that the service keeps the DSN of; Address is the DSN without its password.
	Source struct {
		Name    string   `json:"name"`
		Address string   `json:"address"`
		Windows []string `json:"windows"`
		Wrong   string   `json:"wrong,omitempty"` // why it can't be used
	}
	// NewSource keeps a DSN.
	NewSource struct {
		DSN string `json:"dsn"`
	}
	// Status is how the service does.
	Status struct {
		Windows []Window `json:"windows"`
		Sources []Source `json:"sources"`
		Drift   []Drift  `json:"drift"`
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
	Schema     string         `json:"schema"` // of its rows, in the description
	About      string         `json:"about"`
	Table      string         `json:"table"` // schema.table; "" of a saved view and a query
	Rows       int64          `json:"rows"`  // an estimate, -1 where there is none
	Key        []string       `json:"key"`
	Operations []string       `json:"operations"`
	Fields     []FieldView    `json:"fields"`
	Relations  []RelationView `json:"relations"`
	Parameters []Parameter    `json:"parameters,omitempty"` // of a query
}

// Parameter is a parameter of a named query.
type Parameter struct {
	Name     string `json:"name"`
	Kind     string `json:"kind"`
	Optional bool   `json:"optional"`
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
	Name     string `json:"name"`
	To       string `json:"to"`
	Many     bool   `json:"many"`
	Required bool   `json:"required"`          // to one: there is always one
	Through  string `json:"through,omitempty"` // the table between
}

// RoleView is a role with the resources and fields that it may read.
type RoleView struct {
	Name      string              `json:"name"`
	About     string              `json:"about"`
	Anonymous bool                `json:"anonymous"`
	Claims    []ClaimView         `json:"claims"`
	Limits    map[string]string   `json:"limits"` // as the document has them: rows, depth, cost, requests, concurrent, time
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
	view := &ModelView{Window: s.summary(w), Resources: []ResourceView{}, Roles: []RoleView{}}
	for _, r := range api.Model.Resources {
		view.Resources = append(view.Resources, viewOf(r))
	}
	for _, r := range api.Model.Roles {
		role := RoleView{Name: r.Name, About: r.About, Anonymous: r.Anonymous, Claims: claimViews(r),
			Limits: limitTexts(r.Limits), Reads: map[string][]string{}}
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
	v := ResourceView{Name: r.Name, Schema: describe.Component(r), About: r.About, Key: []string{}, Operations: []string{},
		Fields:    []FieldView{},
		Relations: []RelationView{}}
	if r.Query != nil {
		for _, p := range r.Query.Parameters {
			v.Parameters = append(v.Parameters, Parameter{p.Name, kindName(p.Type), p.Optional})
		}
	}
	v.Rows = -1
	if r.View == nil && r.Query == nil {
		v.Table, v.Rows = r.Table.String(), r.Table.RowEstimate
	}
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
		one := RelationView{Name: rel.Name, To: rel.To.Name, Many: rel.Many, Required: rel.Required}
		if rel.Through != nil {
			one.Through = rel.Through.Table.String()
		}
		v.Relations = append(v.Relations, one)
	}
	return v
}

func kindName(t *model.Type) string {
	if t.Kind == model.Enum {
		return "enum"
	}
	return t.Kind.String()
}
