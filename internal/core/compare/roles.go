package compare

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/syntax"
	"eagerwindow/internal/core/window"
)

// roles compares what each role may do.
func (c *comparer) roles() {
	for _, a := range c.old.model().Roles {
		b := c.new.model().Role(a.Name)
		if b == nil {
			c.roleGone(a)
			continue
		}
		c.role(a, b)
		c.grants(a, b)
	}
	for _, b := range c.new.model().Roles {
		if c.old.model().Role(b.Name) != nil {
			continue
		}
		names := c.new.scope(b.Name).Granted(window.Read)
		c.permission(b, Compatible, "", "", strings.Join(names, ", "), "is new and may read %s", listed(names))
	}
}

// listed is a list in words.
func listed(names []string) string {
	switch {
	case len(names) == 0:
		return "nothing"
	case len(names) > 4:
		return strings.Join(names[:3], ", ") + fmt.Sprintf(" and %d more", len(names)-3)
	}
	return strings.Join(names, ", ")
}

// permission adds a change of what a role may do. What anyone gains without a token is said.
func (c *comparer) permission(role *model.Role, effect Effect, target, from, to, format string, args ...any) *Change {
	message := fmt.Sprintf(format, args...)
	if role.Anonymous && effect == Compatible {
		message += withoutToken
	}
	ch := c.add(effect, Permission, target, from, to, "%s", message)
	ch.Role = role.Name
	return ch
}

const withoutToken = "; anyone may, without a token"

func (c *comparer) roleGone(a *model.Role) {
	to, hint := "", ""
	for _, b := range c.new.model().Roles {
		if c.old.model().Role(b.Name) == nil && slices.Equal(c.grantedBy(c.old, a), c.grantedBy(c.new, b)) {
			to, hint = b.Name, fmt.Sprintf("; %s, which is new, may do the same, so it may be its new name", b.Name)
		}
	}
	c.permission(a, Breaking, "", a.Name, to, "is gone%s; its callers are refused", hint)
}

// grantedBy is what a role may do, in words.
func (c *comparer) grantedBy(s Side, role *model.Role) (list []string) {
	for _, r := range s.model().Resources {
		list = append(list, r.Name+" "+operations(s.scope(role.Name).Operations(r)))
	}
	slices.Sort(list)
	return list
}

// role compares what a role is apart from its grants.
func (c *comparer) role(a, b *model.Role) {
	switch {
	case a.Anonymous && !b.Anonymous:
		c.permission(b, Breaking, "", "anonymous", "", "is not the role of callers without a token any more; they are refused")
	case b.Anonymous && !a.Anonymous:
		c.permission(b, Compatible, "", "", "anonymous", "is the role of callers without a token now")
	}
	c.claims(a, b)
	c.limits(b, a.Limits, b.Limits)
	c.text("role "+a.Name+" expect", strings.Join(texts(a.Expect), "; "), strings.Join(texts(b.Expect), "; "))
	if a.About != b.About {
		c.add(Internal, Description, "role "+a.Name+" about", a.About, b.About, "has another text")
	}
}

func (c *comparer) claims(a, b *model.Role) {
	find := func(list []model.Claim, name string) *model.Claim {
		if i := slices.IndexFunc(list, func(x model.Claim) bool { return x.Name == name }); i >= 0 {
			return &list[i]
		}
		return nil
	}
	for _, claim := range b.Claims {
		before := find(a.Claims, claim.Name)
		switch {
		case before == nil:
			c.permission(b, Breaking, "", "", claim.Name, "needs a claim %s now; callers without it are refused", claim.Name)
		case before.Type != claim.Type:
			c.permission(b, Breaking, "", before.Type.Kind.String(), claim.Type.Kind.String(), "needs its claim %s as %s, it was %s", claim.Name,
				claim.Type.Kind, before.Type.Kind)
		}
	}
	for _, claim := range a.Claims {
		if find(b.Claims, claim.Name) == nil {
			c.permission(b, Compatible, "", claim.Name, "", "needs no claim %s any more", claim.Name)
		}
	}
}

func (c *comparer) limits(role *model.Role, a, b window.Limits) {
	rate := func(r window.Rate) float64 {
		if r.Count == 0 {
			return 0
		}
		return float64(r.Count) / r.Per.Seconds()
	}
	for _, l := range []struct {
		name            string
		was, is         float64
		wasText, isText string
	}{
		{"rows", float64(a.Rows), float64(b.Rows), limit(a.Rows), limit(b.Rows)},
		{"depth", float64(a.Depth), float64(b.Depth), limit(a.Depth), limit(b.Depth)},
		{"cost", a.Cost, b.Cost, limit(int(a.Cost)), limit(int(b.Cost))},
		{"time", a.Time.Seconds(), b.Time.Seconds(), duration(a.Time), duration(b.Time)},
		{"requests", rate(a.Requests), rate(b.Requests), rateText(a.Requests), rateText(b.Requests)},
		{"concurrent", float64(a.Concurrent), float64(b.Concurrent), limit(a.Concurrent), limit(b.Concurrent)},
	} {
		if l.wasText == l.isText {
			continue
		}
		effect := Compatible
		if l.is > 0 && (l.was == 0 || l.is < l.was) {
			effect = Breaking
		}
		ch := c.add(effect, Permission, "", l.wasText, l.isText, "has another limit of %s: %s, it was %s", l.name, l.isText, l.wasText)
		ch.Role = role.Name
	}
}

func duration(d time.Duration) string {
	if d == 0 {
		return "none"
	}
	return d.String()
}

func rateText(r window.Rate) string {
	if r.Count == 0 {
		return "none"
	}
	return r.String()
}

// grants compares what a role may do with each resource that is in both versions, or new.
func (c *comparer) grants(a, b *model.Role) {
	was, is := c.old.scope(a.Name), c.new.scope(b.Name)
	for _, r := range c.new.model().Resources {
		before := c.old.model().Resource(r.Name)
		var gained []window.Operation
		for _, op := range window.Operations {
			var d1 *access.Decision
			if before != nil {
				d1 = was.For(op, before)
			}
			d2 := is.For(op, r)
			switch {
			case d1 == nil && d2 == nil:
			case d1 == nil:
				gained = append(gained, op)
			case d2 == nil && !r.Can(op): // reported of the resource
			case d2 == nil:
				c.permission(b, Breaking, r.Name, string(op), "", "may not %s %s any more", op, r.Name)
			default:
				c.rule(b, before, op, d1, d2)
				c.presets(b, before, r, op, d1, d2)
			}
		}
		if gained != nil {
			c.gained(b, r, gained, is)
		}
		if before != nil {
			c.granted(b, before, r, was, is)
		}
	}
}

// gained reports operations that a role may do now.
func (c *comparer) gained(role *model.Role, r *model.Resource, ops []window.Operation, is *access.Scope) {
	rule := ""
	if d := is.For(ops[0], r); d.Rule != nil {
		rule = d.Rule.Text
	}
	where := ""
	if rule != "" {
		where = " where " + rule
	}
	ch := c.permission(role, Compatible, r.Name, "", rule, "may %s %s%s", operations(ops), r.Name, where)
	ch.Operation, ch.Gained = ops[0], true
	if r.View == nil && r.Query == nil && !c.namedResource(r) { // the document follows the database
		ch.Widens = true
		ch.Message += "; the document does not name the table"
	}
}

func (c *comparer) namedResource(r *model.Resource) bool {
	return slices.ContainsFunc(c.new.model().Document.Resources, func(d *window.Resource) bool { return d.Name.Value == r.Name })
}

// granted compares the fields that a role may read and send. Those that are gone are reported of the resource.
func (c *comparer) granted(role *model.Role, a, b *model.Resource, was, is *access.Scope) {
	for _, f := range b.Fields {
		before := a.Field(f.Name)
		var gained, lost []string
		for _, op := range []window.Operation{window.Read, window.Create, window.Update} {
			d1, d2 := was.For(op, a), is.For(op, b)
			if d1 == nil || d2 == nil {
				continue
			}
			could := before != nil && may(d1, before, op)
			can := may(d2, f, op)
			switch {
			case could && !can && !d2.Presets(f) && !(op != window.Read && f.ReadOnly):
				lost = append(lost, string(op))
			case can && !could && !(before != nil && d1.Presets(before)) && !(before != nil && op != window.Read && before.ReadOnly):
				gained = append(gained, string(op))
			}
		}
		target := b.Name + "." + f.Name
		if lost != nil {
			c.permission(role, Breaking, target, strings.Join(lost, ", "), "", "may not %s %s any more", strings.Join(lost, ", "), target)
		}
		if gained == nil {
			continue
		}
		ch := c.permission(role, Compatible, target, "", strings.Join(gained, ", "), "may %s %s", strings.Join(gained, ", "), target)
		if before == nil && c.unnamed(role, a, b, f) {
			ch.Widens, ch.Secret = true, access.LooksSecret(f.Column.Name)
			ch.Message += unnamedColumn(ch.Secret)
		}
	}
	c.partFields(role, a, b, is)
}

// unnamedColumn says why a field widens what a role may do.
func unnamedColumn(secret bool) string {
	if secret {
		return "; the column is new, the document does not name it, and its name is like that of a secret"
	}
	return "; the column is new and the document does not name it"
}

func may(d *access.Decision, f *model.Field, op window.Operation) bool {
	if op == window.Read {
		return d.Fields[f.Index]
	}
	return d.Takes(f)
}

// partFields reports fields that a saved view shows of relations and that came with a new column.
func (c *comparer) partFields(role *model.Role, a, b *model.Resource, is *access.Scope) {
	if a.View == nil || b.View == nil || is.For(window.Read, b) == nil {
		return
	}
	for _, rel := range b.Relations {
		before := a.Relation(rel.Name)
		if before == nil || before.To.View == nil || rel.To.View == nil || rel.To.View.Top == rel.To {
			continue
		}
		for _, f := range rel.To.Fields {
			if before.To.Field(f.Name) == nil && c.cameSince(rel.To.View.Of, f) && !names(b.View.Document.Expand.Value, f.Name) {
				ch := c.permission(role, Compatible, b.Name+"."+rel.Name+"."+f.Name, "", "read",
					"may read %s of %s in %s", f.Name, rel.Name, b.Name)
				ch.Widens, ch.Secret = true, access.LooksSecret(f.Column.Name)
				ch.Message += unnamedColumn(ch.Secret)
			}
		}
	}
}

// names reports whether an expression holds a name.
func names(text, name string) bool {
	ok, err := regexp.MatchString(`(^|\W)`+regexp.QuoteMeta(name)+`($|\W)`, text)
	return ok && err == nil
}

// cameSince reports whether the column of a field is not in the old version's catalog.
func (c *comparer) cameSince(r *model.Resource, f *model.Field) bool {
	t := c.old.table(r.Table)
	return t != nil && t.Column(f.Column.Name) == nil && r.Table.Column(f.Column.Name) != nil
}

// unnamed reports whether a field's column came with the database, and neither the resource nor the grant names it.
func (c *comparer) unnamed(role *model.Role, a, b *model.Resource, f *model.Field) bool {
	switch {
	case b.Query != nil:
		return a.Query != nil && statement(a) == statement(b)
	case b.View != nil:
		return c.cameSince(b.View.Of, f) && !names(b.View.Document.Select.Value, f.Name)
	case !c.cameSince(b, f):
		return false
	}
	document := c.new.model().Document
	for _, d := range document.Resources {
		if d.Name.Value == b.Name && slices.ContainsFunc(d.Fields, func(x *window.Field) bool { return x.Column.Value == f.Column.Name }) {
			return false
		}
	}
	for _, r := range document.Roles {
		for _, g := range r.May {
			if r.Name.Value != role.Name || g.Resource.Value != b.Name {
				continue
			}
			for _, allow := range g.Allow {
				if slices.ContainsFunc(allow.Fields, func(x window.Text) bool { return x.Value == f.Name }) {
					return false
				}
			}
		}
	}
	return true
}

// rule compares the row rules of one operation.
func (c *comparer) rule(role *model.Role, r *model.Resource, op window.Operation, d1, d2 *access.Decision) {
	text := func(d *access.Decision) string {
		if d.Rule == nil {
			return ""
		}
		return d.Rule.Text
	}
	ch := c.rows(r, Permission, "may "+string(op)+" %s of "+r.Name, text(d1), text(d2), []string{role.Name})
	if ch == nil {
		return
	}
	ch.Role, ch.Operation, ch.Roles = role.Name, op, nil
	if role.Anonymous && ch.Effect == Compatible {
		ch.Message += withoutToken
	}
}

// rows compares two conditions that limit rows; format says what happens with "fewer rows", "more rows" or "other rows". The change is nil
// where they are the same.
func (c *comparer) rows(r *model.Resource, area Area, format, from, to string, used []string) *Change {
	a, b := printed(from), printed(to)
	switch {
	case a == b:
		return nil
	case from == "", joins(b, "and", a):
		return c.breaks(used, area, r.Name, from, to, format, "fewer rows")
	case to == "", joins(b, "or", a), joins(a, "and", b):
		return c.opens(used, area, r.Name, from, to, format, "more rows")
	}
	return c.breaks(used, area, r.Name, from, to, format, "other rows")
}

// printed is a condition as the language prints it.
func printed(text string) string {
	if text == "" {
		return ""
	}
	node, err := syntax.ParseRule(text)
	if err != nil {
		return text
	}
	return node.String()
}

// joins reports whether one of the terms that an expression joins by the operator is another expression, or all of those that it joins.
func joins(text, operator, other string) bool {
	terms := func(text string) []string {
		node, err := syntax.ParseRule(text)
		if err != nil {
			return nil
		}
		var list []string
		var visit func(syntax.Node)
		visit = func(n syntax.Node) {
			if b, ok := n.(*syntax.BinaryNode); ok && b.Operator == operator {
				visit(b.Left)
				visit(b.Right)
				return
			}
			list = append(list, n.String())
		}
		visit(node)
		return list
	}
	all, some := terms(text), terms(other)
	return len(all) > len(some) && len(some) > 0 && !slices.ContainsFunc(some, func(s string) bool { return !slices.Contains(all, s) })
}

// presets compares the values that the service gives fields in a write.
func (c *comparer) presets(role *model.Role, a, b *model.Resource, op window.Operation, d1, d2 *access.Decision) {
	values := func(role *model.Role, r *model.Resource) map[string]string {
		out := map[string]string{}
		for _, p := range role.Grants[r][op].Set {
			out[p.Field.Name] = p.Value.Value
		}
		return out
	}
	was, is := values(c.old.model().Role(role.Name), a), values(role, b)
	for _, name := range slices.Sorted(maps.Keys(is)) {
		before, there := was[name]
		f := a.Field(name)
		switch {
		case there && before == is[name]:
		case there:
			c.permission(role, Compatible, b.Name+"."+name, before, is[name], "%s sets %s.%s to another value", op, b.Name, name)
		case f != nil && d1.Takes(f):
			c.permission(role, Breaking, b.Name+"."+name, "", is[name], "%s sets %s.%s, so it can't be sent any more", op, b.Name, name)
		default:
			c.permission(role, Compatible, b.Name+"."+name, "", is[name], "%s sets %s.%s now", op, b.Name, name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(was)) {
		if _, there := is[name]; there || b.Field(name) == nil {
			continue
		}
		f := b.Field(name)
		switch {
		case op == window.Create && f.Required && d2.Takes(f):
			c.permission(role, Breaking, b.Name+"."+name, was[name], "", "create does not set %s.%s any more, so it must be sent", b.Name, name)
		case op == window.Create && f.Required:
			c.permission(role, Breaking, b.Name+"."+name, was[name], "", "create does not set %s.%s any more, and the role may not send it",
				b.Name, name)
		default:
			c.permission(role, Compatible, b.Name+"."+name, was[name], "", "%s does not set %s.%s any more", op, b.Name, name)
		}
	}
	if op == window.Create {
		c.creatable(role, a, b, d1, d2)
	}
}

// creatable reports a required field that a role may not give any more.
func (c *comparer) creatable(role *model.Role, a, b *model.Resource, d1, d2 *access.Decision) {
	for _, f := range b.Fields {
		before := a.Field(f.Name)
		if f.Required && !d2.Takes(f) && !d2.Presets(f) && before != nil && before.Required && d1.Takes(before) {
			c.permission(role, Breaking, b.Name, "", strconv.Quote(f.Name), "can't create %s any more: %s must be given, and the role may not",
				b.Name, f.Name)
		}
	}
}
