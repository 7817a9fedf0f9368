package compare

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/window"
)

// resources compares what is exposed.
func (c *comparer) resources() {
	for _, a := range c.old.model().Resources {
		b := c.new.model().Resource(a.Name)
		if b == nil {
			c.resourceGone(a)
			continue
		}
		c.resource(a, b)
	}
	for _, b := range c.new.model().Resources {
		if c.old.model().Resource(b.Name) == nil {
			c.add(Compatible, Endpoint, b.Name, "", b.Kind(), "is new: %s; %s", operations(b.Operations), count(len(b.Fields), "field"))
		}
	}
}

func (c *comparer) resourceGone(a *model.Resource) {
	to := ""
	for _, b := range c.new.model().Resources {
		if c.old.model().Resource(b.Name) == nil && a.Kind() == b.Kind() && sameOrigin(a, b) {
			to = b.Name
			break
		}
	}
	hint := ""
	if to != "" {
		hint = fmt.Sprintf("; %s, which is new, shows the same rows, so it may be its new name", to)
	}
	c.breaks(c.any(a, window.Operations...), Endpoint, a.Name, a.Kind(), to, "is gone%s", hint)
}

// sameOrigin reports whether two resources show the same rows.
func sameOrigin(a, b *model.Resource) bool {
	if a.Query != nil {
		return statement(a) == statement(b)
	}
	return sameTable(a, b) && (a.View == nil || a.View.Document.Filter.Value == b.View.Document.Filter.Value)
}

func sameTable(a, b *model.Resource) bool {
	return a.Table.Schema == b.Table.Schema && a.Table.Name == b.Table.Name
}

func operations(ops []window.Operation) string {
	list := make([]string, len(ops))
	for i, op := range ops {
		list[i] = string(op)
	}
	return strings.Join(list, ", ")
}

func count(n int, what string) string {
	if n != 1 {
		what += "s"
	}
	return strconv.Itoa(n) + " " + what
}

// resource compares two versions of a resource.
func (c *comparer) resource(a, b *model.Resource) {
	if a.Kind() != b.Kind() || !sameTable(a, b) {
		effect := Internal // a table that is gone has been renamed
		if c.new.table(a.Table) != nil {
			effect = Compatible
		}
		c.add(effect, Endpoint, a.Name, origin(a), origin(b), "has its rows from %s, it had them from %s", origin(b), origin(a))
	}
	for _, op := range window.Operations {
		switch {
		case a.Can(op) && !b.Can(op):
			c.breaks(c.any(a, op), Endpoint, a.Name, operations(a.Operations), operations(b.Operations), "can't be used to %s any more", op)
		case b.Can(op) && !a.Can(op):
			c.add(Compatible, Endpoint, a.Name, operations(a.Operations), operations(b.Operations), "can be used to %s now", op)
		}
	}
	c.key(a, b)
	c.options(a, b)
	c.fields(a, b, a.Name)
	c.relations(a, b, a.Name)
	if a.View == nil && a.Query == nil && b.View == nil && b.Query == nil {
		c.constraints(a, b)
		c.required(a, b)
	}
	c.view(a, b)
	c.query(a, b)
	c.text(a.Name+" about", a.About, b.About)
	c.text(a.Name+" item", a.Item, b.Item)
	c.deprecated(a.Name, until(a.Deprecated), until(b.Deprecated))
}

func origin(r *model.Resource) string {
	if r.Query != nil {
		return "a named query"
	}
	return string(r.Table.Kind) + " " + r.Table.String()
}

// key compares what names rows: the key, and the alternate ones.
func (c *comparer) key(a, b *model.Resource) {
	from, to := fieldNames(a.Key), fieldNames(b.Key)
	switch {
	case from == to:
	case from == "":
		c.add(Compatible, Endpoint, a.Name, "", to, "has a key now, so its rows can be named by %s", to)
	case to == "":
		c.breaks(c.any(a, window.Operations...), Endpoint, a.Name, from, "", "has no key any more, so its rows can't be named")
	default:
		c.breaks(c.any(a, window.Operations...), Endpoint, a.Name, from, to, "has another key: %s, it was %s", to, from)
	}
	was, is := alternates(a), alternates(b)
	for _, key := range was {
		if !slices.Contains(is, key) && key != to {
			c.breaks(c.any(a, window.Operations...), Endpoint, a.Name, key, "", "can't be found by %s any more", key)
		}
	}
	for _, key := range is {
		if !slices.Contains(was, key) && key != from {
			c.add(Compatible, Endpoint, a.Name, "", key, "can be found by %s, too", key)
		}
	}
}

func fieldNames(fields []*model.Field) string {
	names := make([]string, len(fields))
	for i, f := range fields {
		names[i] = f.Name
	}
	return strings.Join(names, ", ")
}

func alternates(r *model.Resource) (list []string) {
	for _, key := range r.Alternates() {
		list = append(list, fieldNames(key))
	}
	return list
}

// options compares what holds where a request says nothing.
func (c *comparer) options(a, b *model.Resource) {
	if from, to := strings.Join(texts(a.Order), ", "), strings.Join(texts(b.Order), ", "); from != to {
		c.breaks(c.any(a, window.Read), Endpoint, a.Name, from, to, "comes in another order where a request names none")
	}
	if a.Page.Default != b.Page.Default {
		c.add(Internal, Endpoint, a.Name, strconv.Itoa(a.Page.Default), strconv.Itoa(b.Page.Default),
			"has %d rows on a page, it had %d; callers that follow links see no difference", b.Page.Default, a.Page.Default)
	}
	if a.Page.Max != b.Page.Max {
		c.add(Internal, Endpoint, a.Name, limit(a.Page.Max), limit(b.Page.Max),
			"has another limit of rows on a page: %s, it was %s; callers that follow links see no difference", limit(b.Page.Max), limit(a.Page.Max))
	}
	switch {
	case b.IfMatch && !a.IfMatch:
		c.breaks(c.any(a, window.Update, window.Delete), Endpoint, a.Name, "", "required",
			"takes changes only with the version that they change (If-Match)")
	case a.IfMatch && !b.IfMatch:
		c.add(Compatible, Endpoint, a.Name, "required", "", "takes changes without the version that they change (If-Match)")
	}
}

// fields compares the fields of a resource, or of what a saved view shows of a relation.
func (c *comparer) fields(a, b *model.Resource, name string) {
	for _, f := range a.Fields {
		target := name + "." + f.Name
		if now := b.Field(f.Name); now != nil {
			c.field(f, now, target)
			continue
		}
		to, hint := renamed(f, a, b)
		c.breaks(union(c.read(f), c.sent(f)), Endpoint, target, orNull(typeText(f.Type), f.Nullable), to, "is gone%s", hint)
	}
	for _, f := range b.Fields {
		if a.Field(f.Name) == nil {
			c.add(Compatible, Endpoint, name+"."+f.Name, "", orNull(typeText(f.Type), f.Nullable), "is new: %s",
				orNull(typeText(f.Type), f.Nullable))
		}
	}
}

// renamed guesses which new field is one that is gone: that of the same column, or a column of the same type at the same place or with a
// name that is near.
func renamed(f *model.Field, a, b *model.Resource) (to, hint string) {
	var free []string
	place := slices.IndexFunc(a.Table.Columns, func(col *catalog.Column) bool { return col == f.Column })
	for _, now := range b.Fields {
		if a.Field(now.Name) != nil {
			continue
		}
		if now.Column.Name == f.Column.Name {
			return now.Name, fmt.Sprintf("; its column is shown as %s now", now.Name)
		}
		if typeText(now.Type) != typeText(f.Type) || a.Table.Column(now.Column.Name) != nil {
			continue
		}
		if place >= 0 && place < len(b.Table.Columns) && b.Table.Columns[place] == now.Column {
			free = []string{now.Name}
			break
		}
		free = append(free, now.Name)
	}
	to = fault.Nearest(f.Name, free)
	if to == "" && len(free) == 1 && place >= 0 && place < len(b.Table.Columns) && b.Table.Columns[place] == b.Field(free[0]).Column {
		to = free[0]
	}
	if to == "" {
		return "", ""
	}
	return to, fmt.Sprintf("; %s is new and of the same type, so it may be its new name", to)
}

// field compares two versions of a field.
func (c *comparer) field(a, b *model.Field, target string) {
	read, sent := c.read(a), c.sent(a)
	for _, d := range types("", a.Type, b.Type) {
		at := target
		if d.path != "" {
			at = strings.ReplaceAll(target+"/"+d.path, "/[]", "[]")
		}
		var broken []string
		if d.read {
			broken = read
		}
		if d.write {
			broken = union(broken, sent)
		}
		if len(broken) > 0 {
			c.breaks(broken, Endpoint, at, d.from, d.to, "%s", d.message)
			continue
		}
		c.opens(union(read, sent), Endpoint, at, d.from, d.to, "%s", d.message)
	}
	text := typeText(b.Type)
	switch {
	case b.Nullable && !a.Nullable:
		c.breaks(read, Endpoint, target, text, orNull(text, true), "may be null now; it was never null")
	case a.Nullable && !b.Nullable:
		if len(sent) > 0 {
			c.breaks(sent, Endpoint, target, orNull(text, true), text, "is never null any more; null is refused")
		} else {
			c.opens(read, Endpoint, target, orNull(text, true), text, "is never null any more")
		}
	}
	switch {
	case b.ReadOnly && !a.ReadOnly:
		c.breaks(sent, Endpoint, target, "", "", "is filled by the database, so it can't be sent any more")
	case a.ReadOnly && !b.ReadOnly:
		c.add(Compatible, Endpoint, target, "", "", "can be sent now")
	}
	if from, to := a.Column.Default, b.Column.Default; from != to && !b.Required && !a.Required {
		c.opens(c.any(a.Resource, window.Create), Endpoint, target, from, to, "has another default in rows that are created without it")
	}
	if a.Column.Name != b.Column.Name {
		// A column that is gone has been renamed; one that is still there has other values.
		if b.Resource.Table.Column(a.Column.Name) == nil {
			read = nil
		}
		c.breaks(read, Endpoint, target, a.Column.Name, b.Column.Name, "shows column %s, it showed %s", b.Column.Name, a.Column.Name)
	}
	c.text(target+" about", a.About, b.About)
	mark := map[bool]string{true: "deprecated"}
	c.deprecated(target, mark[a.Deprecated], mark[b.Deprecated])
}

// until says for how long a resource is there.
func until(d *window.Deprecated) string {
	if d == nil {
		return ""
	}
	return d.Sentence()
}

// deprecated compares what is said of the end of a resource or a field.
func (c *comparer) deprecated(target, from, to string) {
	switch {
	case from == to:
	case from == "":
		c.add(Internal, Description, target, from, to, "is deprecated")
	case to == "":
		c.add(Internal, Description, target, from, to, "is not deprecated any more")
	default:
		c.add(Internal, Description, target, from, to, "has other days of its deprecation")
	}
}

// required compares which fields must be given to create a row.
func (c *comparer) required(a, b *model.Resource) {
	creates := c.any(a, window.Create)
	if !b.Can(window.Create) {
		creates = nil
	}
	for _, column := range b.Table.Columns {
		if !column.Required() {
			continue
		}
		was := a.Table.Column(column.Name)
		switch f := b.FieldOf(column.Name); {
		case f == nil && (was == nil || !was.Required() || a.FieldOf(column.Name) != nil):
			c.breaks(creates, Endpoint, b.Name, "", column.Name,
				"can't be created any more: column %s must have a value and is not exposed", column.Name)
		case f != nil && f.Required && (was == nil || !was.Required()):
			c.breaks(creates, Endpoint, b.Name+"."+f.Name, "", "required", "must be given to create a row")
		}
	}
	for _, f := range a.Fields {
		if now := b.Field(f.Name); f.Required && now != nil && !now.Required {
			c.opens(creates, Endpoint, a.Name+"."+f.Name, "required", "", "need not be given any more to create a row")
		}
	}
}

// constraints compares what the database asks of rows that are written.
func (c *comparer) constraints(a, b *model.Resource) {
	writes := c.any(a, window.Create, window.Update)
	compare := func(was, is []string, added, gone string) {
		for _, text := range is {
			if !slices.Contains(was, text) {
				c.breaks(writes, Endpoint, a.Name, "", text, added, text)
			}
		}
		for _, text := range was {
			if !slices.Contains(is, text) {
				c.opens(writes, Endpoint, a.Name, text, "", gone, text)
			}
		}
	}
	compare(tableChecks(a), tableChecks(b), "has a new check: %s", "has no check any more: %s")
	compare(uniques(a), uniques(b), "can't have the same %s in two rows any more", "may have the same %s in two rows now")
	compare(references(a), references(b), "must refer to a row that is there: %s", "need not refer to a row any more: %s")
}

func tableChecks(r *model.Resource) (list []string) {
	for _, check := range r.Table.Checks {
		list = append(list, check.Expression)
	}
	return list
}

// uniques are the unique indexes, apart from that of the key.
func uniques(r *model.Resource) (list []string) {
	for _, ix := range r.Table.Indexes {
		if !ix.Unique || slices.Equal(ix.Columns, r.Table.Primary) {
			continue
		}
		text := strings.Join(ix.Columns, ", ")
		if ix.Partial || slices.Contains(ix.Columns, "") {
			text = strings.TrimPrefix(ix.String(), ix.Method+" ")
		}
		list = append(list, text)
	}
	return list
}

func references(r *model.Resource) (list []string) {
	for _, k := range r.Table.ForeignKeys {
		list = append(list, k.String())
	}
	return list
}

// relations compares the relations of a resource, or of what a saved view shows of one.
func (c *comparer) relations(a, b *model.Resource, name string) {
	for _, rel := range a.Relations {
		target := name + "." + rel.Name
		now := b.Relation(rel.Name)
		followed := c.followed(rel)
		if now == nil {
			to, hint := "", ""
			for _, other := range b.Relations {
				if a.Relation(other.Name) == nil && other.To.Name == rel.To.Name && slices.Equal(other.Pairs, rel.Pairs) &&
					(other.Through == nil) == (rel.Through == nil) {
					to, hint = other.Name, fmt.Sprintf("; %s is new and leads the same way, so it may be its new name", other.Name)
				}
			}
			c.breaks(followed, Endpoint, target, rel.To.Name, to, "is gone%s", hint)
			continue
		}
		if part := now.To; part.View != nil && part.View.Top != part && rel.To.View != nil {
			c.fields(rel.To, part, target)
			c.relations(rel.To, part, target)
		} else if rel.To.Name != part.Name {
			c.breaks(followed, Endpoint, target, rel.To.Name, part.Name, "leads to %s, it led to %s", part.Name, rel.To.Name)
			continue
		}
		switch {
		case rel.Many != now.Many:
			c.breaks(followed, Endpoint, target, many(rel), many(now), "leads to %s, it led to %s", many(now), many(rel))
		case !rel.Many && rel.Required && !now.Required:
			c.breaks(followed, Endpoint, target, "one row", "one row or none", "may lead to no row now")
		case !rel.Many && now.Required && !rel.Required:
			c.opens(followed, Endpoint, target, "one row or none", "one row", "always leads to a row now")
		}
		if !slices.Equal(rel.Pairs, now.Pairs) || !sameJunction(rel.Through, now.Through) {
			c.breaks(followed, Endpoint, target, way(rel), way(now), "leads to other rows: by %s, it was by %s", way(now), way(rel))
		}
		c.text(target+" about", rel.About, now.About)
	}
	for _, rel := range b.Relations {
		if a.Relation(rel.Name) == nil {
			c.add(Compatible, Endpoint, name+"."+rel.Name, "", rel.To.Name, "is new: leads to %s of %s", many(rel), rel.To.Name)
		}
	}
}

// followed lists the roles of the old version that may follow a relation of it.
func (c *comparer) followed(rel *model.Relation) []string {
	return c.which(func(s *access.Scope) bool {
		if rel.From.View != nil {
			return s.For(window.Read, rel.From) != nil
		}
		return s.MayFollow(rel) || s.MayLink(rel)
	})
}

func many(rel *model.Relation) string {
	if rel.Many {
		return "many rows"
	}
	return "one row"
}

func sameJunction(a, b *model.Junction) bool {
	if a == nil || b == nil {
		return a == b
	}
	return a.Table.QualifiedName() == b.Table.QualifiedName() && slices.Equal(a.There, b.There)
}

// way is what rows of a relation have in common.
func way(rel *model.Relation) string {
	var list []string
	for _, p := range rel.Pairs {
		list = append(list, p.Own+" = "+p.There)
	}
	if rel.Through != nil {
		list = append(list, "through "+rel.Through.Table.Name)
	}
	return strings.Join(list, ", ")
}

// view compares what a saved view selects.
func (c *comparer) view(a, b *model.Resource) {
	if a.View == nil || b.View == nil {
		return
	}
	was, is := a.View.Document, b.View.Document
	c.rows(a, Endpoint, "has %s", was.Filter.Value, is.Filter.Value, c.any(a, window.Read))
	if was.OrderBy.Value != is.OrderBy.Value {
		c.breaks(c.any(a, window.Read), Endpoint, a.Name, was.OrderBy.Value, is.OrderBy.Value,
			"comes in another order where a request names none")
	}
	if was.Compute.Value != is.Compute.Value {
		c.breaks(c.any(a, window.Read), Endpoint, a.Name, was.Compute.Value, is.Compute.Value, "computes its values in another way")
	}
	// What it shows of relations has been compared; what is left is how many rows, and which.
	if was.Expand.Value != is.Expand.Value && !slices.ContainsFunc(c.list, func(ch Change) bool {
		return strings.HasPrefix(ch.Target,
			a.Name+".")
	}) {
		c.opens(c.any(a, window.Read), Endpoint, a.Name, was.Expand.Value, is.Expand.Value, "shows its relations in another way")
	}
}

// query compares the parameters of a named query, and its statement.
func (c *comparer) query(a, b *model.Resource) {
	if a.Query == nil || b.Query == nil {
		return
	}
	called := c.any(a, window.Read)
	find := func(list []model.Parameter, name string) *model.Parameter {
		if i := slices.IndexFunc(list, func(p model.Parameter) bool { return p.Name == name }); i >= 0 {
			return &list[i]
		}
		return nil
	}
	for _, p := range a.Query.Parameters {
		target := a.Name + "(" + p.Name + ")"
		now := find(b.Query.Parameters, p.Name)
		switch {
		case now == nil:
			c.breaks(called, Endpoint, target, typeText(p.Type), "", "is no parameter any more")
		case now.Type.Kind != p.Type.Kind:
			c.breaks(called, Endpoint, target, typeText(p.Type), typeText(now.Type), "has another type: %s, it was %s", typeText(now.Type),
				typeText(p.Type))
		case p.Optional && !now.Optional:
			c.breaks(called, Endpoint, target, "", "required", "must be given now")
		case now.Optional && !p.Optional:
			c.add(Compatible, Endpoint, target, "required", "", "may be left out now")
		}
	}
	for _, p := range b.Query.Parameters {
		switch {
		case find(a.Query.Parameters, p.Name) != nil:
		case p.Optional:
			c.add(Compatible, Endpoint, a.Name+"("+p.Name+")", "", typeText(p.Type), "is a new parameter that may be left out")
		default:
			c.breaks(called, Endpoint, a.Name+"("+p.Name+")", "", typeText(p.Type), "is a new parameter that must be given")
		}
	}
	if from, to := statement(a), statement(b); from != to {
		c.opens(called, Endpoint, a.Name, from, to, "has another statement; its rows may be others")
	}
}

func statement(r *model.Resource) string {
	var b strings.Builder
	for _, p := range r.Query.Pieces {
		if p.Parameter >= 0 {
			b.WriteString(":" + r.Query.Parameters[p.Parameter].Name)
			continue
		}
		b.WriteString(p.Text)
	}
	return b.String()
}
