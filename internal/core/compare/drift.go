package compare

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"eagerwindow/internal/core/catalog"
)

// TableDrift is what became of a table or a column of it, exposed or not.
type TableDrift struct {
	What    string `json:"what"`   // added, changed, dropped, renamed
	Target  string `json:"target"` // schema.table, or schema.table.column
	Message string `json:"message"`
}

// String is the drift on one line.
func (d TableDrift) String() string { return d.Target + " " + d.Message }

// Catalogs lists what became of the tables of a database, by table.
func Catalogs(before, after *catalog.Catalog) []TableDrift {
	var list []TableDrift
	add := func(what, target, format string, args ...any) {
		list = append(list, TableDrift{what, target, fmt.Sprintf(format, args...)})
	}
	for _, a := range before.Tables {
		name := a.String()
		b := after.Find(a.Schema, a.Name)
		if b == nil {
			if to := renamedTable(a, before, after); to != "" {
				add("renamed", name, "is gone, and %s has its columns: it was probably renamed", to)
			} else {
				add("dropped", name, "is gone")
			}
			continue
		}
		for _, d := range columnDrift(a, b) {
			add(d.What, name+"."+d.Target, "%s", d.Message)
		}
		for _, d := range tableDrift(a, b) {
			add("changed", name, "%s", d)
		}
	}
	for _, b := range after.Tables {
		if before.Find(b.Schema, b.Name) == nil {
			add("added", b.String(), "is a new %s of %s", b.Kind, count(len(b.Columns), "column"))
		}
	}
	slices.SortStableFunc(list, func(x, y TableDrift) int { return cmp.Compare(x.Target, y.Target) })
	return list
}

// renamedTable is a new table with the same columns, or the same identity in the database.
func renamedTable(a *catalog.Table, before, after *catalog.Catalog) string {
	columns := func(t *catalog.Table) string {
		var list []string
		for _, c := range t.Columns {
			list = append(list, c.Name+" "+c.Type.SQL)
		}
		return strings.Join(list, ", ")
	}
	for _, b := range after.Tables {
		if before.Find(b.Schema, b.Name) == nil && (b.OID == a.OID && a.OID != 0 || columns(a) == columns(b)) {
			return b.String()
		}
	}
	return ""
}

func columnDrift(a, b *catalog.Table) (list []TableDrift) {
	for i, c := range a.Columns {
		now := b.Column(c.Name)
		if now == nil {
			if i < len(b.Columns) && a.Column(b.Columns[i].Name) == nil && b.Columns[i].Type.SQL == c.Type.SQL {
				list = append(list, TableDrift{"renamed", c.Name, "is gone; it was probably renamed to " + b.Columns[i].Name})
			} else {
				list = append(list, TableDrift{"dropped", c.Name, "is gone"})
			}
			continue
		}
		for _, what := range []struct{ name, was, is string }{
			{"type", columnType(c), columnType(now)}, {"default", dashed(c.Default), dashed(now.Default)}, {"comment", dashed(c.Comment),
				dashed(now.Comment)},
			{"generation", dashed(c.Expression + string(c.Identity)), dashed(now.Expression + string(now.Identity))},
		} {
			if what.was != what.is {
				list = append(list, TableDrift{"changed", c.Name, fmt.Sprintf("has another %s: %s, it was %s", what.name, what.is, what.was)})
			}
		}
	}
	for _, c := range b.Columns {
		if a.Column(c.Name) == nil {
			list = append(list, TableDrift{"added", c.Name, "is a new column: " + columnType(c)})
		}
	}
	return list
}

func dashed(text string) string {
	if text == "" {
		return "none"
	}
	return text
}

func columnType(c *catalog.Column) string {
	text := c.Type.SQL
	if values := c.Type.Base().Values; values != nil {
		text += " (" + strings.Join(values, ", ") + ")"
	}
	if c.NotNull {
		text += " not null"
	}
	return text
}

// tableDrift lists what became of keys, constraints and the kind of a table.
func tableDrift(a, b *catalog.Table) (list []string) {
	keys := func(t *catalog.Table) (out []string) {
		if t.Primary != nil {
			out = append(out, "primary key ("+strings.Join(t.Primary, ", ")+")")
		}
		for _, k := range t.ForeignKeys {
			out = append(out, "foreign key "+k.String())
		}
		for _, c := range t.Checks {
			out = append(out, "check "+c.Expression)
		}
		for _, ix := range t.Indexes {
			what := "index"
			if ix.Unique {
				what = "unique index"
			}
			out = append(out, what+" "+ix.String())
		}
		return out
	}
	was, is := keys(a), keys(b)
	if a.Kind != b.Kind {
		list = append(list, fmt.Sprintf("is a %s, it was a %s", b.Kind, a.Kind))
	}
	for _, text := range was {
		if !slices.Contains(is, text) {
			list = append(list, "has no "+text+" any more")
		}
	}
	for _, text := range is {
		if !slices.Contains(was, text) {
			list = append(list, "has a new "+text)
		}
	}
	return list
}
