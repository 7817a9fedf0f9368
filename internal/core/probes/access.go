package probes

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/window"
)

// access tries every role on every resource: what the document grants must be possible, and nothing else.
func (p *prober) access() error {
	for _, role := range p.model.Roles {
		scope, err := p.scope(role.Name)
		if err != nil {
			return err
		}
		who := &roleProbe{prober: p, role: role.Name, scope: scope, actAs: p.actAs(role.Name)}
		for _, r := range p.model.Resources {
			for _, op := range window.Operations {
				if !r.Can(op) {
					continue
				}
				try := map[window.Operation]func(*model.Resource, *access.Decision) (string, *answer, error){window.Read: who.reads,
					window.Create: who.creates, window.Update: who.updates, window.Delete: who.deletes}[op]
				if err := p.check(fmt.Sprintf("%s: %s %s", role.Name, op, r.Name), func() (string, *answer, error) {
					return try(r, scope.For(op, r))
				}); err != nil {
					return err
				}
			}
		}
	}
	return p.joint()
}

// roleProbe is somebody of one role.
type roleProbe struct {
	*prober
	role, actAs string
	scope       *access.Scope
}

// expect says what is wrong with an answer that must be a refusal, or must be none.
func expect(a answer, allowed bool, what string) string {
	switch {
	case allowed && a.refused():
		return fmt.Sprintf("the document grants %s, and it is refused with %d", what, a.Status)
	case !allowed && !a.refused():
		return fmt.Sprintf("the document does not grant %s, and it is answered with %d", what, a.Status)
	case a.Status >= 500:
		return fmt.Sprintf("%s is answered with %d", what, a.Status)
	}
	return ""
}

func parametersOf(r *model.Resource) (query []string) {
	if r.Query == nil {
		return nil
	}
	for _, parameter := range r.Query.Parameters {
		if !parameter.Optional {
			query = append(query, parameter.Name, fmt.Sprint(made(&model.Field{Type: parameter.Type})))
		}
	}
	return query
}

func (w *roleProbe) reads(r *model.Resource, d *access.Decision) (string, *answer, error) {
	at := url.PathEscape(r.Name)
	fixed := parametersOf(r)
	a, err := w.get(w.actAs, at, append(slices.Clone(fixed), "top", "2")...)
	if err != nil {
		return "", nil, err
	}
	if wrong := expect(a, d != nil, "to read "+r.Name); wrong != "" || d == nil {
		return wrong, &a, nil
	}
	for _, f := range r.Fields {
		readable := slices.Contains(w.scope.Readable(r), f)
		queries := []string{"select", f.Name, "orderby", f.Name}
		if literal(f.Type, made(f)) != "" {
			queries = append(queries, "filter", f.Name+" eq null")
		}
		for i := 0; i < len(queries); i += 2 {
			if queries[i] == "orderby" && !f.Type.Kind.Numeric() && f.Type.Kind != model.String {
				continue
			}
			a, err := w.get(w.actAs, at, append(slices.Clone(fixed), queries[i], queries[i+1], "top", "1")...)
			if err != nil {
				return "", nil, err
			}
			if wrong := expect(a, readable, fmt.Sprintf("%s of %s in %s", f.Name, r.Name, queries[i])); wrong != "" {
				return wrong, &a, nil
			}
			if readable && queries[i] == "select" && a.Status != 200 {
				return fmt.Sprintf("%s of %s is answered with %d", f.Name, r.Name, a.Status), &a, nil
			}
		}
		for _, row := range a.rows() {
			if _, shown := row[f.Name]; shown && !readable {
				return fmt.Sprintf("the answer shows %s, which the document does not grant", f.Name), &a, nil
			}
		}
	}
	for _, row := range a.rows() {
		for name := range row {
			if !strings.Contains(name, "@") && r.Field(name) == nil && r.Relation(name) == nil {
				return fmt.Sprintf("the answer shows %s, which %s does not have", name, r.Name), &a, nil
			}
		}
	}
	for _, rel := range r.Relations {
		a, err := w.get(w.actAs, at, append(slices.Clone(fixed), "expand", rel.Name, "top", "1")...)
		if err != nil {
			return "", nil, err
		}
		if wrong := expect(a, w.scope.MayFollow(rel), fmt.Sprintf("to follow %s from %s", rel.Name, r.Name)); wrong != "" {
			return wrong, &a, nil
		}
	}
	if r.View != nil || r.Query != nil {
		return "", nil, nil
	}
	return w.counts(r, at, w.actAs, w.ruleOf(w.role, d))
}

// counts compares how many rows somebody sees with how many the rule covers.
func (p *prober) counts(r *model.Resource, at, actAs, rule string) (string, *answer, error) {
	var query []string
	if rule != "" {
		query = []string{"filter", rule}
	}
	covered, err := p.get("", at+"/$count", query...)
	if err != nil {
		return "", nil, err
	}
	if covered.Status != 200 {
		return "", nil, nil // a rule that no filter says
	}
	seen, err := p.get(actAs, at+"/$count")
	if err != nil {
		return "", nil, err
	}
	if string(seen.Body) != string(covered.Body) {
		return fmt.Sprintf("the rule covers %s rows of %s, and %s are seen", covered.Body, r.Name, seen.Body), &seen, nil
	}
	return "", nil, nil
}

func (w *roleProbe) creates(r *model.Resource, d *access.Decision) (string, *answer, error) {
	all, err := w.Policy.Scope(access.Caller{Operator: true})
	if err != nil {
		return "", nil, err
	}
	rule := ""
	given := all.For(window.Create, r)
	if d != nil {
		given, rule = d, w.ruleOf(w.role, d)
	}
	body, err := w.newRow(r, given, rule)
	if err != nil {
		return "", nil, err
	}
	if len(body) == 0 && d != nil {
		return "", nil, nil
	}
	a, err := w.ask(w.actAs, "POST", url.PathEscape(r.Name), body)
	if err != nil {
		return "", nil, err
	}
	wrong := expect(a, d != nil, "to create "+r.Name)
	if d != nil && a.refused() && rule != "" && a.code() != "access.field" {
		wrong = "" // no row is there that meets the rule, so none like it can be made
		rows, err := w.sample(r, rule)
		if err != nil {
			return "", nil, err
		}
		if len(rows) > 0 && len(d.Set) == 0 {
			wrong = fmt.Sprintf("the document grants to create %s like a row that meets the rule, and it is refused with %d", r.Name, a.Status)
		}
	}
	if wrong != "" || d == nil {
		return wrong, &a, nil
	}
	for _, f := range r.Fields {
		if f.ReadOnly || !access.Possible(f, window.Create) || d.Takes(f) {
			continue
		}
		with := map[string]any{f.Name: made(f)}
		for name, v := range body {
			with[name] = v
		}
		a, err := w.ask(w.actAs, "POST", url.PathEscape(r.Name), with)
		if err != nil {
			return "", nil, err
		}
		if wrong := expect(a, false, fmt.Sprintf("to give %s of a new %s", f.Name, r.Item)); wrong != "" {
			return wrong, &a, nil
		}
	}
	return w.outside(r, rule, d, body)
}

// outside tries a new row like one that does not meet the rule.
func (w *roleProbe) outside(r *model.Resource, rule string, d *access.Decision, body map[string]any) (string, *answer,
	error) {
	if rule == "" {
		return "", nil, nil
	}
	rows, err := w.sample(r, "not ("+rule+")")
	if err != nil || len(rows) == 0 {
		return "", nil, err
	}
	other, err := w.newRow(r, d, "not ("+rule+")")
	if err != nil {
		return "", nil, err
	}
	// A row that only the preset makes meet the rule tells nothing.
	for _, set := range d.Set {
		if strings.Contains(rule, set.Field.Name) {
			return "", nil, nil
		}
	}
	for _, f := range r.Fields { // what the rule speaks of must be in the body
		if strings.Contains(rule, f.Name) && other[f.Name] == nil && !strings.Contains(rule, "/") {
			return "", nil, nil
		}
	}
	if string(mustJSON(body)) == string(mustJSON(other)) {
		return "", nil, nil
	}
	a, err := w.ask(w.actAs, "POST", url.PathEscape(r.Name), other)
	if err != nil {
		return "", nil, err
	}
	if a.Status < 300 {
		return fmt.Sprintf("a new row of %s that does not meet the rule is made: %s", r.Name, rule), &a, nil
	}
	return "", nil, nil
}

// rowsAround are a row that meets a rule, and one that does not; nil where there is none.
func (w *roleProbe) rowsAround(r *model.Resource, rule string) (in, out map[string]any, err error) {
	rows, err := w.sample(r, rule)
	if err != nil {
		return nil, nil, err
	}
	if len(rows) > 0 {
		in = rows[0]
	}
	if rule != "" {
		if rows, err = w.sample(r, "not ("+rule+")"); err == nil && len(rows) > 0 {
			out = rows[0]
		}
	}
	return in, out, err
}

// version are the headers of a change that is of any version, where the resource asks for one.
func version(r *model.Resource) []string {
	if r.IfMatch {
		return []string{"If-Match", "*"}
	}
	return nil
}

func (w *roleProbe) updates(r *model.Resource, d *access.Decision) (string, *answer, error) {
	if len(r.Key) == 0 {
		return "", nil, nil
	}
	rule := w.ruleOf(w.role, d)
	in, out, err := w.rowsAround(r, rule)
	if err != nil || in == nil {
		return "", nil, err
	}
	change := func(row map[string]any, f *model.Field) (answer, error) {
		return w.ask(w.actAs, "PATCH", rowPath(r, row), map[string]any{f.Name: row[f.Name]}, version(r)...)
	}
	for _, f := range r.Fields {
		if !access.Possible(f, window.Update) {
			continue
		}
		a, err := change(in, f)
		if err != nil {
			return "", nil, err
		}
		takes := d != nil && d.Takes(f)
		if wrong := expect(a, takes, fmt.Sprintf("to update %s of %s", f.Name, r.Name)); wrong != "" {
			return wrong, &a, nil
		}
		if takes && a.Status == 404 {
			return fmt.Sprintf("a row of %s that the rule covers can't be updated: %d", r.Name, a.Status), &a, nil
		}
		if takes && out != nil {
			a, err := change(out, f)
			if err != nil {
				return "", nil, err
			}
			if a.Status < 300 {
				return fmt.Sprintf("a row of %s that the rule does not cover is updated: %s", r.Name, rule), &a, nil
			}
		}
	}
	return "", nil, nil
}

func (w *roleProbe) deletes(r *model.Resource, d *access.Decision) (string, *answer, error) {
	if len(r.Key) == 0 {
		return "", nil, nil
	}
	rule := w.ruleOf(w.role, d)
	in, out, err := w.rowsAround(r, rule)
	if err != nil || in == nil {
		return "", nil, err
	}
	if out != nil {
		a, err := w.ask(w.actAs, "DELETE", rowPath(r, out), nil, version(r)...)
		if err != nil {
			return "", nil, err
		}
		if a.Status < 300 {
			return fmt.Sprintf("a row of %s that the rule does not cover is deleted: %s", r.Name, rule), &a, nil
		}
	}
	a, err := w.ask(w.actAs, "DELETE", rowPath(r, in), nil, version(r)...)
	if err != nil {
		return "", nil, err
	}
	clear(w.samples) // a row may be gone
	return expect(a, d != nil, "to delete "+r.Name), &a, nil
}

// joint tries callers with two roles: they reach what one of the two reaches, and no more.
func (p *prober) joint() error {
	for i, one := range p.model.Roles {
		for _, other := range p.model.Roles[i+1:] {
			if one.Anonymous || other.Anonymous {
				continue
			}
			scope, err := p.scope(one.Name, other.Name)
			if err != nil {
				return err
			}
			actAs := p.actAs(one.Name, other.Name)
			if err := p.check(one.Name+" and "+other.Name+": read", func() (string, *answer, error) {
				return p.jointReads(scope, actAs, one.Name, other.Name)
			}); err != nil {
				return err
			}
		}
	}
	return nil
}

func (p *prober) jointReads(scope *access.Scope, actAs, one, other string) (string, *answer, error) {
	for _, r := range p.model.Resources {
		at := url.PathEscape(r.Name)
		a, err := p.get(actAs, at, append(parametersOf(r), "top", "1")...)
		if err != nil {
			return "", nil, err
		}
		d := scope.For(window.Read, r)
		if wrong := expect(a, d != nil, "to read "+r.Name); wrong != "" {
			return wrong, &a, nil
		}
		if d == nil || r.View != nil || r.Query != nil {
			continue
		}
		var rules []string
		open := false
		for _, name := range []string{one, other} {
			single, err := p.scope(name)
			if err != nil {
				return "", nil, err
			}
			if own := single.For(window.Read, r); own != nil {
				rule := p.ruleOf(name, own)
				open = open || rule == ""
				rules = append(rules, "("+rule+")")
			}
		}
		rule := strings.Join(rules, " or ")
		if open {
			rule = ""
		}
		if wrong, shown, err := p.counts(r, at, actAs, rule); wrong != "" || err != nil {
			return wrong, shown, err
		}
	}
	return "", nil, nil
}
