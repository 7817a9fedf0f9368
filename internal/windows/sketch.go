package windows

import (
	"context"
	"encoding/json"
	"slices"
	"sync"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/compare"
	"eagerwindow/internal/core/describe"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/jsontree"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/postgres"
)

type (
	// NewSketch is a document that is being edited and not saved, and edits to make to it. Without a document, the draft is meant.
	NewSketch struct {
		Document string       `json:"document,omitempty"`
		Edits    []SketchEdit `json:"edits,omitempty"`
		Table    string       `json:"table,omitempty"`    // schema.table: the one to look at
		Describe *string      `json:"describe,omitempty"` // a role whose description is wanted, with the overlay; "" an operator's
	}
	// SketchEdit is an edit of an entry, or shows or hides a whole table, schema.table.
	SketchEdit struct {
		window.Edit
		Show string `json:"show,omitempty"`
		Hide string `json:"hide,omitempty"`
	}
	// Sketch is the document after the edits, and what it means with the database as that is now. Nothing of it is saved.
	Sketch struct {
		Document string          `json:"document"`
		Version  int             `json:"version"` // of the draft, as it is now
		SavedBy  string          `json:"saved_by"`
		Mistakes []fault.Detail  `json:"mistakes"`
		Warnings []string        `json:"warnings"`
		Changes  *Counts         `json:"changes,omitempty"` // against what is live
		Tables   []TableEntry    `json:"tables"`
		Table    *TableView      `json:"table,omitempty"`   // where the document has no mistakes
		OpenAPI  json.RawMessage `json:"openapi,omitempty"` // where it was asked for and the document has no mistakes
	}
	// TableEntry is a table in a list, with the resource that shows it and the lines of the document that say so.
	TableEntry struct {
		Table    string `json:"table"`
		Kind     string `json:"kind"`
		Rows     int64  `json:"rows"`
		Resource string `json:"resource"` // "": it is not shown
		Keyless  bool   `json:"keyless"`
		Line     int    `json:"line"`
		End      int    `json:"end"`
	}
)

// Sketch makes edits to a document and says what it means, and saves nothing.
func (s *Registry) Sketch(ctx context.Context, name string, in NewSketch) (*Sketch, error) {
	w, err := s.window(ctx, name)
	if err != nil {
		return nil, err
	}
	text := in.Document
	if text == "" {
		text = w.Draft
	}
	// Binding reads the catalog too, so it is read by itself only for an edit of a table, or where the text can't be bound.
	read := sync.OnceValues(func() (*catalog.Catalog, error) { return s.catalogOf(ctx, w.Draft) })
	for _, e := range in.Edits {
		if text, err = sketched(text, e, read); err != nil {
			return nil, err
		}
	}
	out := &Sketch{Document: text, Version: w.DraftVersion, SavedBy: w.DraftBy, Mistakes: []fault.Detail{}, Warnings: []string{}}
	b, err := s.bind(ctx, []byte(text))
	if f, is := fault.From(err); is {
		cat, err := read()
		if err != nil {
			return nil, err
		}
		out.Tables = tableEntries(text, cat)
		if out.Mistakes = append(out.Mistakes, f.Details...); len(f.Details) == 0 {
			out.Mistakes = append(out.Mistakes, fault.Detail{Code: f.Code, Message: f.Message})
		}
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	out.Tables = tableEntries(text, b.catalog)
	for _, d := range b.policy.Warnings() {
		out.Warnings = append(out.Warnings, d.String())
	}
	if w.LiveRelease > 0 {
		if d, err := s.difference(ctx, name, w, b); err == nil {
			counts := compare.Count(d.Changes)
			out.Changes = &counts
		}
	}
	if in.Describe != nil {
		if out.OpenAPI, err = describedAs(b, *in.Describe); err != nil {
			return nil, err
		}
	}
	if in.Table != "" {
		if t, r := tableNamed(b.catalog, b.policy.Model(), in.Table); t != nil {
			out.Table = tableView(b, t, r)
		}
	}
	return out, nil
}

// describedAs is the description, as JSON, of what a role may do; "" of what operators may.
func describedAs(b *bound, role string) (json.RawMessage, error) {
	caller := access.Caller{Operator: true}
	if role != "" {
		caller = access.Caller{Subject: "sketch", Roles: []string{role}}
	}
	scope, err := b.policy.Scope(caller)
	if err != nil {
		return nil, err
	}
	doc, err := describe.Describe(b.policy, scope, describe.Place{Server: "/api/" + b.policy.Model().Name}, "")
	if err != nil {
		return nil, err
	}
	return jsontree.Append(nil, doc, false), nil
}

// catalogOf reads the catalog of the source that a document names.
func (s *Registry) catalogOf(ctx context.Context, document string) (*catalog.Catalog, error) {
	doc, err := window.Parse([]byte(document), lookup)
	if err != nil {
		return nil, err
	}
	pool, err := s.pool(ctx, doc.Source.Value)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, introspectLimit)
	defer cancel()
	return postgres.Introspect(ctx, pool)
}

// sketched makes one edit.
func sketched(text string, e SketchEdit, read func() (*catalog.Catalog, error)) (string, error) {
	edits := []window.Edit{e.Edit}
	table := e.Show + e.Hide
	if table != "" {
		cat, err := read()
		if err != nil {
			return "", err
		}
		at := slices.IndexFunc(cat.Tables, func(t *catalog.Table) bool { return t.String() == table })
		if at < 0 {
			return "", fault.New(fault.NotFound, "table.unknown", "the database has no table %q", table)
		}
		edits = tableEdits([]byte(text), cat.Tables[at], e.Hide != "")
	}
	made, err := window.Apply([]byte(text), edits)
	return string(made), err
}

// tableEdits show a table as a resource of its own, or take away all resources over it with what roles may do with them.
func tableEdits(text []byte, t *catalog.Table, hide bool) (edits []window.Edit) {
	used := map[string]bool{}
	for _, section := range window.Outline(text) {
		used[section.Name] = true
		if !hide || !isOver(section, t) {
			continue
		}
		edits = append(edits, window.Edit{At: []string{"resources", section.Name}})
		for _, role := range section.InRoles {
			edits = append(edits, window.Edit{At: []string{"roles", role, "may", section.Name}})
		}
	}
	if hide {
		return edits
	}
	from, _ := json.Marshal(map[string]string{"from": t.String()}) // texts
	return append(edits, window.Edit{At: []string{"resources", window.ResourceName(t, used)}, Value: from})
}

func isOver(s window.Section, t *catalog.Table) bool {
	return s.From == t.String() || s.From == t.Name || s.From == "" && s.Name == t.Name
}

func tableEntries(text string, cat *catalog.Catalog) []TableEntry {
	sections := window.Outline([]byte(text))
	list := []TableEntry{}
	for _, t := range cat.Tables {
		if t.Schema == "eager_window" {
			continue
		}
		one := TableEntry{Table: t.String(), Kind: string(t.Kind), Rows: t.RowEstimate, Keyless: t.Primary == nil && len(t.Uniques) == 0}
		if at := slices.IndexFunc(sections, func(s window.Section) bool { return isOver(s, t) }); at >= 0 {
			one.Resource, one.Line, one.End = sections[at].Name, sections[at].Line, sections[at].End
		}
		list = append(list, one)
	}
	return list
}
