package windows

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/window"
)

// TableView is a table of a window's database, and how the draft shows it.
type TableView struct {
	Table        string         `json:"table"` // schema.table
	Kind         string         `json:"kind"`
	About        string         `json:"about"`
	Rows         int64          `json:"rows"` // an estimate, -1 where there is none
	Columns      []ColumnView   `json:"columns"`
	Primary      []string       `json:"primary"`
	Uniques      [][]string     `json:"uniques"`
	Refers       []string       `json:"refers"`      // its foreign keys
	ReferredBy   []string       `json:"referred_by"` // those of other tables that lead here
	Checks       []string       `json:"checks"`
	Indexes      []string       `json:"indexes"`
	Resource     string         `json:"resource"` // "": the window does not show it
	Key          []string       `json:"key"`
	Order        []string       `json:"order"`
	Page         int            `json:"page"`     // rows of a page where the caller names none
	MaxPage      int            `json:"max_page"` // 0: no maximum
	Operations   []string       `json:"operations"`
	Relations    []RelationView `json:"relations"`
	AlsoShownAs  []string       `json:"also_shown_as,omitempty"` // other resources over the same table
	NotPossible  string         `json:"not_possible,omitempty"`  // why an operation is missing
	RolesReading []string       `json:"roles_reading"`
}

// ColumnView is a column and the field that shows it.
type ColumnView struct {
	Name    string   `json:"name"`
	Type    string   `json:"type"`
	NotNull bool     `json:"not_null"`
	Default string   `json:"default"`
	About   string   `json:"about"`
	Field   string   `json:"field"` // "": it is not shown
	Seen    string   `json:"seen"`  // what callers see of it, in words
	Note    string   `json:"note"`  // who fills it, where that is not the caller
	Roles   []string `json:"roles"` // that may read it
}

// LookAtTable shows a table of a window's database, by the table's name or by that of a resource over it.
func (s *Registry) LookAtTable(ctx context.Context, name, table string) (*TableView, error) {
	w, err := s.window(ctx, name)
	if err != nil {
		return nil, err
	}
	b, err := s.bind(ctx, []byte(w.Draft))
	if err != nil {
		return nil, err
	}
	m := b.policy.Model()
	t, r := tableNamed(b.catalog, m, table)
	if t == nil {
		var names []string
		for _, t := range b.catalog.Tables {
			names = append(names, t.String())
		}
		return nil, fault.New(fault.NotFound, "table.unknown", "the database of %q has no table or resource %q%s", name, table,
			fault.Suggest(table, append(names, m.ResourceNames()...)))
	}
	return tableView(b, t, r), nil
}

func tableView(b *bound, t *catalog.Table, r *model.Resource) *TableView {
	m := b.policy.Model()
	v := &TableView{Table: t.String(), Kind: string(t.Kind), About: t.Comment, Rows: t.RowEstimate, Columns: []ColumnView{},
		Primary: append([]string{}, t.Primary...), Uniques: [][]string{}, Refers: []string{}, ReferredBy: referredBy(b.catalog, t),
		Checks:  []string{},
		Indexes: []string{}, Key: []string{}, Order: []string{}, Operations: []string{}, Relations: []RelationView{}, RolesReading: []string{}}
	for _, u := range t.Uniques {
		v.Uniques = append(v.Uniques, u.Columns)
	}
	for _, k := range t.ForeignKeys {
		v.Refers = append(v.Refers, k.String())
	}
	for _, c := range t.Checks {
		v.Checks = append(v.Checks, c.Expression)
	}
	for _, ix := range t.Indexes {
		v.Indexes = append(v.Indexes, ix.String())
	}
	if r != nil {
		showResource(v, m, r)
	}
	for _, c := range t.Columns {
		v.Columns = append(v.Columns, columnView(b.policy, t, r, c))
	}
	for _, role := range m.Roles {
		if r != nil && role.Grants[r][window.Read] != nil {
			v.RolesReading = append(v.RolesReading, role.Name)
		}
	}
	return v
}

// tableNamed finds a table by its name, with its schema or without, or by a resource over it.
func tableNamed(cat *catalog.Catalog, m *model.Model, name string) (*catalog.Table, *model.Resource) {
	if r := m.Resource(name); r != nil && r.View == nil && r.Query == nil {
		return r.Table, r
	}
	for _, t := range cat.Tables {
		if t.Name != name && t.String() != name {
			continue
		}
		for _, r := range m.Resources {
			if r.Table == t && r.View == nil {
				return t, r
			}
		}
		return t, nil
	}
	return nil, nil
}

func referredBy(cat *catalog.Catalog, to *catalog.Table) []string {
	list := []string{}
	for _, t := range cat.Tables {
		for _, k := range t.ForeignKeys {
			if k.ToSchema == to.Schema && k.ToTable == to.Name {
				list = append(list, t.String()+" ("+strings.Join(k.Columns, ", ")+")")
			}
		}
	}
	return list
}

func showResource(v *TableView, m *model.Model, r *model.Resource) {
	shown := viewOf(r)
	v.Resource, v.Operations, v.Relations = r.Name, shown.Operations, shown.Relations
	v.About, v.Key, v.Page, v.MaxPage = r.About, shown.Key, r.Page.Default, r.Page.Max
	for _, o := range r.Order {
		v.Order = append(v.Order, o.Value)
	}
	for _, other := range m.Resources {
		if other != r && other.Table == r.Table {
			v.AlsoShownAs = append(v.AlsoShownAs, other.Name)
		}
	}
	switch {
	case len(r.Key) == 0:
		v.NotPossible = "it has no key, so no row can be named, changed or deleted; give it one with \"key\""
	case !r.Table.Updates():
		v.NotPossible = "it is a " + string(r.Table.Kind) + " that the database can't write through"
	}
}

// casts are those that the database prints with a default.
var casts = regexp.MustCompile(`::[\w."]+(\[\])?`)

// shortTypes are the names that people write.
var shortTypes = strings.NewReplacer("timestamp with time zone", "timestamptz", "timestamp without time zone", "timestamp",
	"time without time zone", "time", "character varying", "varchar")

func columnView(p *access.Policy, t *catalog.Table, r *model.Resource, c *catalog.Column) ColumnView {
	v := ColumnView{Name: c.Name, Type: strings.TrimPrefix(shortTypes.Replace(c.Type.SQL), t.Schema+"."), NotNull: c.NotNull,
		Default: c.Default, About: c.Comment, Roles: []string{}}
	if r == nil {
		return v
	}
	f := r.FieldOf(c.Name)
	if f == nil {
		return v
	}
	v.Field, v.About, v.Seen = f.Name, f.About, seen(f)
	switch {
	case f.ReadOnly || c.Identity != catalog.NoIdentity:
		v.Note = "made by the database"
	case c.Default != "":
		v.Note = casts.ReplaceAllString(c.Default, "") + " where left out"
	}
	if rel := relationBy(r, f); rel != nil {
		v.Note = "→ " + rel.To.Name
	}
	for _, role := range p.RoleNames() {
		scope, err := p.Scope(access.Caller{Subject: "look", Roles: []string{role}})
		if err == nil && slices.Contains(scope.Readable(r), f) {
			v.Roles = append(v.Roles, role)
		}
	}
	return v
}

// relationBy is the relation to one that a field alone holds.
func relationBy(r *model.Resource, f *model.Field) *model.Relation {
	for _, rel := range r.Relations {
		if own := rel.OwnFields(); rel.Holds() && len(own) == 1 && own[0] == f {
			return rel
		}
	}
	return nil
}

// seen says what callers see of a field.
func seen(f *model.Field) string {
	word := kindName(f.Type)
	switch f.Type.Kind {
	case model.Enum:
		word = fmt.Sprintf("%d values", len(f.Type.Values))
	case model.Boolean:
		word = "true or false"
	case model.Instant:
		word = "date-time"
	}
	if f.Nullable {
		word += " or null"
	}
	return word
}
