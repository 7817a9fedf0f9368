package model

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/window"
)

// Queries are the statements of a document as the database is asked about them: as what stands in brackets after FROM, with
// each parameter as $1, $2 … in its type. A parameter whose type is not known is left to Bind to tell.
func Queries(doc *window.Document) []*catalog.NamedQuery {
	var list []*catalog.NamedQuery
	for _, q := range doc.Queries {
		sql, _ := statementOf(q)
		list = append(list, &catalog.NamedQuery{Name: q.Name.Value, SQL: sql})
	}
	return list
}

const (
	queryBegins = "select * from (\n"
	queryEnds   = "\n) q"
)

// statementOf writes a query's statement, and tells for each of its pieces where it begins there.
func statementOf(q *window.NamedQuery) (sql string, starts []int) {
	var b strings.Builder
	b.WriteString(queryBegins)
	for _, piece := range q.Pieces {
		starts = append(starts, b.Len())
		if piece.Parameter < 0 {
			b.WriteString(piece.Text)
			continue
		}
		name := "text"
		if t := ParameterType(q.Parameters[piece.Parameter].Type.Value); t != nil {
			name = t.SQL
		}
		fmt.Fprintf(&b, "($%d::%s)", piece.Parameter+1, name)
	}
	return strings.TrimRight(b.String(), " \t\n;") + queryEnds, starts
}

// placeOf is where the database's position in a statement is in the document.
func placeOf(q *window.NamedQuery, position int) window.Pos {
	sql, starts := statementOf(q)
	at := 0
	for range position - 1 {
		_, size := utf8.DecodeRuneInString(sql[at:])
		at += size
	}
	for i := len(starts) - 1; i >= 0 && position > 0; i-- {
		if piece := q.Pieces[i]; at >= starts[i] {
			return q.At(piece.Offset + min(at-starts[i], len(piece.Text)))
		}
	}
	return q.SQL.Pos
}

// free reports whether a query or saved view can have its name.
func (b *binder) free(name window.Text) bool {
	other := b.model.byName[name.Value]
	if other != nil {
		b.addError(name.Pos, "name.taken", "there is %q already: a %s in line %d", name.Value, other.Kind(), other.Pos.Line)
	}
	return other == nil
}

func (b *binder) add(r *Resource) {
	r.Model, r.Index, r.Operations = b.model, len(b.model.Resources), []window.Operation{window.Read}
	b.model.Resources = append(b.model.Resources, r)
	b.model.byName[r.Name] = r
}

func (b *binder) query(d *window.NamedQuery) {
	r := &Resource{Name: d.Name.Value, About: d.About, Page: d.Page, Pos: d.Name.Pos, Query: &NamedQuery{Pieces: d.Pieces},
		fields: map[string]*Field{}, relations: map[string]*Relation{}}
	b.failed = append(b.failed, r.Name)
	for _, param := range d.Parameters {
		t := ParameterType(param.Type.Value)
		if t == nil {
			b.addError(param.Type.Pos, "parameter.type",
				"a parameter is integer, number, text, boolean, uuid, date, time, timestamp or duration (with ? where it may be left out), not %q",
				param.Type.Value)
			return
		}
		r.Query.Parameters = append(r.Query.Parameters, Parameter{param.Name.Value, t, param.Optional})
	}
	i := slices.IndexFunc(b.cat.Queries, func(q *catalog.NamedQuery) bool { return q.Name == r.Name })
	if i < 0 || !b.free(d.Name) {
		return
	}
	known := b.cat.Queries[i]
	if m := known.Mistake; m != nil {
		b.addError(placeOf(d, m.Position), "query.invalid", "query %s: the database says: %s", r.Name, m.Message)
		return
	}
	r.Table = &catalog.Table{Name: r.Name, Kind: catalog.FromQuery, Columns: known.Columns, RowEstimate: -1}
	for _, c := range known.Columns {
		name := toIdentifier(c.Name)
		if c.Name == "?column?" {
			b.addError(d.SQL.Pos, "query.column", "query %s: column %d has no name; write \"… as name\"", r.Name, len(r.Fields)+1)
			return
		}
		if r.fields[name] != nil {
			b.addError(d.SQL.Pos, "query.column", "query %s has two columns %q; give one another name with \"as\"", r.Name, c.Name)
			return
		}
		f := &Field{Index: len(r.Fields), Resource: r, Name: name, Column: c, Type: TypeOf(c.Type), Nullable: true, ReadOnly: true}
		r.Fields = append(r.Fields, f)
		r.fields[name] = f
	}
	b.add(r)
}

// savedView adds a saved view without what it shows, which its options settle.
func (b *binder) savedView(d *window.SavedView) {
	of := b.model.byName[d.Of.Value]
	b.failed = append(b.failed, d.Name.Value)
	switch {
	case of == nil && !slices.Contains(b.failed, d.Of.Value):
		b.addError(d.Of.Pos, "resource.unknown", "saved view %s: there is no resource %q%s", d.Name.Value, d.Of.Value,
			fault.Suggest(d.Of.Value, b.model.ResourceNames()))
	case of == nil || !b.free(d.Name):
	case of.View != nil || of.Query != nil:
		b.addError(d.Of.Pos, "view.of", "saved view %s: %s is a %s; a saved view is of a resource", d.Name.Value, of.Name, of.Kind())
	default:
		r := &Resource{Name: d.Name.Value, About: d.About, Table: of.Table, Page: d.Page, Pos: d.Name.Pos, View: &View{Of: of, Document: d},
			fields: map[string]*Field{}, relations: map[string]*Relation{}}
		r.View.Top = r
		b.add(r)
	}
}
