package statement

import (
	"fmt"
	"strconv"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/window"
)

// builder makes one statement: it counts the arguments and the aliases.
type builder struct {
	scope    *access.Scope
	slots    []Slot
	aliases  map[string]int
	values   map[valueKey]string // placeholders of literals that stand in two places of the statement
	vars     map[*query.Element]string
	fields   []*model.Field          // that are written
	params   []query.Value           // of the named query that is read
	prefixes map[*query.Apply]string // what the branches of concat begin with, by name
	with     []string                // those, as they stand before the statement
	uses     map[string]*Use
	rules    []string // conditions that row rules add
	lists    int      // of a write of many: how many lists its input has so far
	paged    bool     // relations to many show a page, with a link to the rest
	isolated bool     // SQL of the document is in the statement
	metadata query.Metadata
}

type valueKey struct {
	index int
	t     *model.Type
}

func newBuilder(scope *access.Scope) *builder {
	return &builder{scope: scope, aliases: map[string]int{}, values: map[valueKey]string{}, vars: map[*query.Element]string{},
		uses: map[string]*Use{}, prefixes: map[*query.Apply]string{}}
}

// arg adds an argument and returns its placeholder with the cast that makes its type certain.
func (b *builder) arg(s Slot, sqlType string) string {
	b.slots = append(b.slots, s)
	return "$" + strconv.Itoa(len(b.slots)) + "::" + sqlType
}

// alias is a short name for a table in the statement: the first letter of its resource, numbered from the second on.
func (b *builder) alias(name string) string {
	letter := "t"
	if c := name[0]; c >= 'a' && c <= 'z' {
		letter = string(c)
	}
	b.aliases[letter]++
	if n := b.aliases[letter]; n > 1 {
		return letter + strconv.Itoa(n)
	}
	return letter
}

// tables is how many tables the statement has come to speak of, each time that it does.
func (b *builder) tables() (n int) {
	for _, times := range b.aliases {
		n += times
	}
	return n
}

// from is a FROM clause that grows: rows get aliases, and joins where they are reached for the first time. In a trusted one,
// which belongs to a row rule, related rows are not limited by rules of their own.
type from struct {
	b       *builder
	outer   *from // of a subquery: the FROM around it, whose rows it may speak of
	trusted bool
	aliases map[*query.Row]string
	shared  map[*query.Shared]string // what is computed once for each row, by its column
	joins   strings.Builder
}

func (b *builder) from(root *query.Row, alias string, trusted bool) *from {
	return &from{b: b, trusted: trusted, aliases: map[*query.Row]string{root: alias}}
}

// row is the alias of a row; the joins that lead to it are added.
func (f *from) row(r *query.Row) string {
	if a, ok := f.aliases[r]; ok {
		return a
	}
	if f.outer != nil && !f.holds(r) {
		return f.outer.row(r)
	}
	parent := f.row(r.Parent)
	a := f.b.alias(r.Resource.Name)
	f.aliases[r] = a
	on := pairs(r.Via.Pairs, parent, a)
	source := f.b.source(r.Resource, f.trusted)
	if !f.trusted {
		if rule, joins := f.b.rule(window.Read, r.Resource, a); joins != "" {
			list := a + ".*"
			if r.Resource.Table.Kind == catalog.Base && r.Resource.View == nil {
				list += ", " + a + ".xmin"
			}
			source = fmt.Sprintf("(select %s from %s %s%s where %s)", list, source, a, joins, rule)
		} else if rule != "" {
			on += " and " + rule
		}
	}
	fmt.Fprintf(&f.joins, "\nleft join %s %s on %s", source, a, on)
	return a
}

// holds reports whether a row is reached from one of this FROM's own.
func (f *from) holds(r *query.Row) bool {
	for ; r != nil; r = r.Parent {
		if _, ok := f.aliases[r]; ok {
			return true
		}
	}
	return false
}

// rule is the row rule of the role for a resource under that alias, and the joins that it needs; "" where all rows are granted.
func (b *builder) rule(op window.Operation, r *model.Resource, alias string) (condition, joins string) {
	d := b.scope.For(op, r)
	if d == nil {
		return "false", "" // access has refused before; this is the second lock
	}
	if op == window.Read && d.Masks != nil {
		return "", "" // it stands in the source
	}
	return b.meets(d.Rules(b.given(op), false), alias)
}

// kept is what a row that was written must meet.
func (b *builder) kept(op window.Operation, r *model.Resource, alias string) (condition, joins string) {
	return b.meets(b.scope.For(op, r).Rules(b.given(op), true), alias)
}

// given are the fields that the statement writes, which are nothing to what it reads.
func (b *builder) given(op window.Operation) []*model.Field {
	if op == window.Read {
		return nil
	}
	return b.fields
}

// meets writes rules: a row must meet one of each list.
func (b *builder) meets(all []access.AnyOf, alias string) (condition, joins string) {
	var parts []string
	for _, any := range all {
		part, more := b.anyOf(any, alias)
		parts, joins = append(parts, part), joins+more
	}
	if condition = strings.Join(parts, " and "); condition != "" {
		b.rules = append(b.rules, condition)
	}
	return condition, joins
}

// anyOf writes rules of which a row must meet one.
func (b *builder) anyOf(rules access.AnyOf, alias string) (condition, joins string) {
	parts := make([]string, len(rules))
	for i, rule := range rules {
		f := b.from(rule.Root, alias, true)
		parts[i] = f.condition(rule.Where, false)
		joins += f.joins.String()
	}
	if len(parts) == 1 {
		return parts[0], joins
	}
	return "(" + strings.Join(parts, " or ") + ")", joins
}

func pairs(list []model.Pair, own, there string) string {
	on := make([]string, len(list))
	for i, p := range list {
		on[i] = there + "." + catalog.Quote(p.There) + " = " + own + "." + catalog.Quote(p.Own)
	}
	return strings.Join(on, " and ")
}

func column(alias string, f *model.Field) string { return alias + "." + catalog.Quote(f.Column.Name) }

// sharedValue writes an expression that stands in several places. A heavy one is computed beside the row and named; "offset 0" keeps the
// planner from writing it out again.
func (f *from) sharedValue(s *query.Shared) string {
	for outer := f; outer != nil; outer = outer.outer {
		if name, ok := outer.shared[s]; ok {
			return name
		}
	}
	sql := f.expr(s.Of)
	alias := f.b.alias("value")
	fmt.Fprintf(&f.joins, "\ncross join lateral (select %s as v offset 0) %s", sql, alias)
	if f.shared == nil {
		f.shared = map[*query.Shared]string{}
	}
	f.shared[s] = alias + ".v"
	return alias + ".v"
}

// own writes an expression that is a column or an order of its own: the database finds by itself that two of these are alike.
func (f *from) own(e query.Expr) string { return f.expr(f.unwrapped(e)) }

// unwrapped is what a shared expression is of, unless that has been computed already.
func (f *from) unwrapped(e query.Expr) query.Expr {
	if s, ok := e.(*query.Shared); ok && f.shared[s] == "" {
		return s.Of
	}
	return e
}

// condition writes a boolean expression. Where exact is not asked for, null may stand for false, which keeps plain
// comparisons and so the use of indexes; under "not" the difference counts, and eq and ne must not give null
// (URL Conventions, 5.1.1.1).
func (f *from) condition(e query.Expr, exact bool) string {
	switch e := e.(type) {
	case *query.Call:
		switch e.Op {
		case "and", "or":
			return "(" + f.condition(e.Args[0], exact) + " " + e.Op + " " + f.condition(e.Args[1], exact) + ")"
		case "not":
			return "(not " + f.condition(e.Args[0], true) + ")"
		case "eq", "ne", "gt", "ge", "lt", "le":
			return f.comparison(e, exact)
		}
	case *query.Member:
		return f.member(e, exact)
	case *query.Searched:
		return f.searched(e, exact)
	case *query.Shared:
		if e.Inline() {
			return f.condition(e.Of, exact)
		}
	case *query.Constant:
		if e.T.Kind == model.Unknown {
			return "null::boolean"
		}
	}
	return f.expr(e)
}

var comparisons = map[string]string{"eq": "=", "ne": "<>", "gt": ">", "ge": ">=", "lt": "<", "le": "<="}

func (f *from) comparison(c *query.Call, exact bool) string {
	left, right := c.Args[0], c.Args[1]
	if isNull(left) {
		left, right = right, left
	}
	if isNull(right) && (c.Op == "eq" || c.Op == "ne") {
		if isNull(left) {
			return map[string]string{"eq": "true", "ne": "false"}[c.Op]
		}
		return "(" + f.expr(left) + map[string]string{"eq": " is null)", "ne": " is not null)"}[c.Op]
	}
	f.noteComparison(c)
	l, r := f.pair(c.Args[0], c.Args[1])
	nl, nr := f.nullable(c.Args[0]), f.nullable(c.Args[1])
	plain := "(" + l + " " + comparisons[c.Op] + " " + r + ")"
	switch {
	case !nl && !nr:
		return plain
	case c.Op == "eq" && (exact || nl && nr):
		return "(" + l + " is not distinct from " + r + ")"
	case c.Op == "ne":
		return "(" + l + " is distinct from " + r + ")"
	case exact:
		return "coalesce(" + plain + ", false)"
	}
	return plain
}

// pair writes two expressions so that PostgreSQL can compare them.
func (f *from) pair(a, b query.Expr) (string, string) {
	l, r := f.expr(a), f.expr(b)
	ta, tb := a.Type(), b.Type()
	if ta.Kind == model.Collection && tb.Kind == model.Collection && ta.SQL != tb.SQL {
		if _, given := a.(*query.Value); given {
			return "(" + l + ")::" + tb.SQL, r
		}
		return l, "(" + r + ")::" + ta.SQL
	}
	if ta.Kind == model.Instant && tb.Kind == model.Instant && ta.Local != tb.Local {
		return instant(l, ta), instant(r, tb)
	}
	if ta.Kind == model.Enum && tb.SQL != ta.SQL || tb.Kind == model.Enum && tb.SQL != ta.SQL {
		return l + "::text", r + "::text"
	}
	return l, r
}

// instant makes a timestamptz of a timestamp, which is read as UTC.
func instant(sql string, t *model.Type) string {
	if t.Local {
		return "(" + sql + " at time zone 'UTC')"
	}
	return sql
}

func (f *from) member(m *query.Member, exact bool) string {
	x := f.expr(m.X)
	if m.List != nil {
		f.note(m.X, func(u *Use, column string) { u.Equal = appendNew(u.Equal, column) })
		sql := "(" + x + " = any(" + f.list(m.List) + "))"
		if exact && f.nullable(m.X) {
			return "coalesce(" + sql + ", false)"
		}
		return sql
	}
	parts := make([]string, len(m.Items))
	for i, item := range m.Items {
		parts[i] = f.comparison(&query.Call{T: model.BooleanType, Op: "eq", Args: []query.Expr{m.X, item}}, exact)
	}
	return "(" + strings.Join(parts, " or ") + ")"
}

// list writes the argument of a list: an array of the type itself where it has a binary form, else by way of text.
func (f *from) list(v *query.Value) string {
	switch v.T.Kind {
	case model.Int64:
		return f.value(v, "bigint[]")
	case model.Single, model.Double:
		return f.value(v, "double precision[]") + "::" + v.T.SQL + "[]"
	case model.Instant:
		if v.T.Local {
			return "array(select x at time zone 'UTC' from unnest(" + f.value(v, "timestamptz[]") + ") x)"
		}
		return f.value(v, "timestamptz[]")
	}
	return f.value(v, "text[]") + "::" + v.T.SQL + "[]"
}

func (f *from) value(v *query.Value, sqlType string) string {
	if v.Fixed != nil {
		return f.b.arg(Slot{Value: v}, sqlType)
	}
	key := valueKey{v.Index, v.T}
	if known, ok := f.b.values[key]; ok {
		return known
	}
	placeholder := f.b.arg(Slot{Value: v}, sqlType)
	f.b.values[key] = placeholder
	return placeholder
}

// expr writes an expression.
func (f *from) expr(e query.Expr) string {
	switch e := e.(type) {
	case *query.FieldOf:
		return column(f.row(e.Row), e.Field)
	case *query.RootOf:
		return f.rootOf(e)
	case *query.Value:
		if e.T.Kind == model.Collection {
			return f.list(&query.Value{T: e.T.Element, Index: e.Index, Fixed: e.Fixed})
		}
		if e.T.Kind == model.Instant && e.T.Local {
			return "(" + f.value(e, "timestamptz") + " at time zone 'UTC')"
		}
		return f.value(e, e.T.SQL)
	case *query.Claim:
		return f.b.arg(Slot{Claim: e}, e.T.SQL)
	case *query.Constant:
		if e.Text == "null" && e.T.Kind != model.Unknown {
			return "null::" + plainSQL(e.T)
		}
		return e.Text
	case *query.Call:
		return f.call(e)
	case *query.Shared:
		if e.Inline() {
			return f.expr(e.Of)
		}
		return f.sharedValue(e)
	case *query.Member:
		return f.member(e, true)
	case *query.Quantifier:
		return f.quantifier(e)
	case *query.Count:
		return f.count(e)
	case *query.Searched:
		return f.searched(e, true)
	case *query.ElementOf:
		return f.b.vars[e.Var]
	case *query.JSONPath:
		return f.jsonPath(e)
	case *query.JSONAs:
		return f.jsonAs(e)
	case *query.SubField:
		return "(" + f.expr(e.Of) + ")." + catalog.Quote(e.Name)
	}
	panic(fmt.Sprintf("no SQL for %T", e))
}

func isNull(e query.Expr) bool {
	if s, ok := e.(*query.Shared); ok {
		e = s.Of
	}
	c, ok := e.(*query.Constant)
	return ok && c.T.Kind == model.Unknown
}

// nullable reports whether an expression may be null. A row that is reached by a join may be missing, and all its fields with it; so is
// a field in rows in which it is not the caller's to read.
func (f *from) nullable(e query.Expr) bool {
	switch e := e.(type) {
	case *query.FieldOf:
		return e.Field.Nullable || !f.trusted && f.b.mask(e.Field) >= 0 || e.Row.Parent != nil && e.Row.Via != nil && !e.Row.Via.Many
	case *query.Call:
		switch e.Op {
		case "cast", "case", "lower", "upper", "hassubset", "hassubsequence":
			return true
		case "eq", "ne", "gt", "ge", "lt", "le":
			return false
		}
		for _, a := range e.Args {
			if f.nullable(a) {
				return true
			}
		}
		return false
	case *query.Constant:
		return e.Text == "null"
	case *query.Shared:
		return !e.Inline() || f.nullable(e.Of)
	case *query.ElementOf, *query.JSONPath, *query.JSONAs, *query.SubField, *query.RootOf:
		return true
	}
	return false
}
