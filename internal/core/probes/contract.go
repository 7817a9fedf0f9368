package probes

import (
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/contract"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/window"
)

// contracts calls every operation of each role's description, with values of the schema and of the data: every answer must be as described.
func (p *prober) contracts() error {
	for _, role := range p.model.Roles {
		scope, err := p.scope(role.Name)
		if err != nil {
			return err
		}
		described, err := p.contract(scope)
		if err != nil {
			return err
		}
		c := &caller{prober: p, role: role.Name, scope: scope, actAs: p.actAs(role.Name), contract: described}
		for _, op := range described.Operations {
			if err := p.check(role.Name+": "+op.ID, func() (string, *answer, error) { return c.operation(op) }); err != nil {
				return err
			}
		}
	}
	return nil
}

// caller calls operations as a role.
type caller struct {
	*prober
	role, actAs string
	scope       *access.Scope
	contract    *contract.Contract
}

// try sends one request of an operation and holds the answer against the description. A body that is answered otherwise is made smaller as
// long as it still is.
func (c *caller) try(op *contract.Operation, path string, body map[string]any, headers ...string) (string, *answer, error) {
	send := func(body map[string]any) (string, *answer, error) {
		var sent any
		if body != nil {
			sent = body
		}
		a, err := c.ask(c.actAs, op.Method, path, sent, headers...)
		if err != nil {
			return "", nil, err
		}
		bare, query, _ := strings.Cut(path, "?")
		wrong := c.contract.Check(op, contract.Exchange{Method: op.Method, Path: bare, Query: query, Status: a.Status,
			Kind: a.Header.Get("Content-Type"), Body: a.Body})
		if a.Status >= 500 {
			wrong = append(wrong, fmt.Sprintf("the answer has the status %d", a.Status))
		}
		return strings.Join(wrong, "; "), &a, nil
	}
	wrong, shown, err := send(body)
	if err != nil || wrong == "" || body == nil {
		return wrong, shown, err
	}
	for _, name := range slices.Sorted(maps.Keys(body)) {
		smaller := maps.Clone(body)
		delete(smaller, name)
		still, other, err := send(smaller)
		if err != nil {
			return "", nil, err
		}
		if still == wrong {
			body, shown = smaller, other
		}
	}
	return wrong, shown, nil
}

func (c *caller) operation(op *contract.Operation) (string, *answer, error) {
	r := c.model.Resource(op.Tag)
	if r == nil {
		return c.windowOperation(op)
	}
	kind, _, _ := strings.Cut(op.ID, "-")
	collection := url.PathEscape(r.Name)
	if !strings.Contains(op.Path, "{") {
		switch op.Method {
		case "GET":
			return c.lists(op, r, collection)
		case "POST":
			return c.creates(op, r, collection)
		}
		return c.try(op, collection, map[string]any{"value": []any{}})
	}
	rows, err := c.sample(r, c.ruleOf(c.role, c.scope.For(window.Read, r)))
	if err != nil || len(rows) == 0 {
		return "", nil, err
	}
	path := rowPath(r, rows[0])
	if strings.HasSuffix(op.Path, "/{relation}/$ref") {
		return c.linking(op, r, rows[0], kind)
	}
	switch op.Method {
	case "GET":
		for _, query := range c.queries(op) {
			if wrong, shown, err := c.try(op, withQuery(path, query...), nil); wrong != "" || err != nil {
				return wrong, shown, err
			}
		}
		return "", nil, nil
	case "DELETE":
		if wrong, shown, err := c.try(op, path, nil, "If-Match", `"none"`); wrong != "" || err != nil {
			return wrong, shown, err
		}
		clear(c.samples)
		return c.try(op, path, nil, "If-Match", "*")
	}
	return c.updates(op, r, rows)
}

func (c *caller) creates(op *contract.Operation, r *model.Resource, path string) (string, *answer, error) {
	d := c.scope.For(window.Create, r)
	for _, headers := range [][]string{nil, {"Prefer", "return=minimal"}} {
		body, err := c.newRow(r, d, c.ruleOf(c.role, d))
		if err != nil {
			return "", nil, err
		}
		if wrong, shown, err := c.try(op, path, body, headers...); wrong != "" || err != nil {
			return wrong, shown, err
		}
	}
	return c.try(op, path, map[string]any{})
}

// updates writes fields of a row as they are, for any version, without an answer, and for a version that is not.
func (c *caller) updates(op *contract.Operation, r *model.Resource, rows []map[string]any) (string, *answer, error) {
	d := c.scope.For(window.Update, r)
	if rule := c.ruleOf(c.role, d); rule != "" {
		var err error
		if rows, err = c.sample(r, rule); err != nil || len(rows) == 0 {
			return "", nil, err
		}
	}
	path := rowPath(r, rows[0])
	body := map[string]any{}
	for _, f := range r.Fields {
		if v, known := rows[0][f.Name]; known && d.Takes(f) && access.Possible(f, window.Update) {
			body[f.Name] = v
		}
	}
	for _, headers := range [][]string{{"If-Match", "*"}, {"If-Match", "*", "Prefer", "return=minimal"}, {"If-Match", `"none"`}} {
		if wrong, shown, err := c.try(op, path, body, headers...); wrong != "" || err != nil {
			return wrong, shown, err
		}
	}
	return "", nil, nil
}

// lists asks with each query option, by its examples.
func (c *caller) lists(op *contract.Operation, r *model.Resource, path string) (string, *answer, error) {
	fixed := parametersOf(r)
	for _, query := range c.queries(op) {
		if wrong, shown, err := c.try(op, withQuery(path, append(slices.Clone(fixed), query...)...), nil); wrong != "" || err != nil {
			return wrong, shown, err
		}
	}
	return "", nil, nil
}

// queries are query options of an operation, one at a time, with the values of their examples.
func (c *caller) queries(op *contract.Operation) [][]string {
	list := [][]string{nil}
	for _, parameter := range op.Parameters {
		if parameter.Text("in") != "query" || parameter.Get("required") == true {
			continue
		}
		name, schema := parameter.Text("name"), parameter.Object("schema")
		for _, example := range schema.List("examples") {
			if text, is := example.(string); is {
				list = append(list, []string{name, text})
			}
		}
		switch schema.Text("type") {
		case "integer":
			list = append(list, []string{name, "1"})
		case "boolean":
			list = append(list, []string{name, "true"})
		}
		if name == "search" {
			list = append(list, []string{name, "a"})
		}
	}
	return list
}

// linking links a row with what it is linked to already, or to nothing.
func (c *caller) linking(op *contract.Operation, r *model.Resource, row map[string]any, kind string) (string, *answer, error) {
	for _, rel := range r.Relations {
		if !c.scope.MayFollow(rel) || !c.scope.MayLink(rel) {
			continue
		}
		path := rowPath(r, row) + "/" + url.PathEscape(rel.Name) + "/$ref"
		there, err := c.sample(rel.To, "")
		if err != nil || len(there) == 0 {
			return "", nil, err
		}
		link := map[string]any{"@id": rowPath(rel.To, there[0])}
		var body map[string]any
		switch {
		case op.Method == "DELETE" && rel.Many:
			path = withQuery(path, "id", link["@id"].(string))
		case op.Method == "DELETE":
		case op.Method == "POST" && !rel.Many:
			continue
		case op.Method == "PUT" && rel.Many:
			body = map[string]any{"value": []any{link}}
		default:
			body = link
		}
		clear(c.samples)
		return c.try(op, path, body)
	}
	return "", nil, nil
}

// windowOperation calls what belongs to no resource.
func (c *caller) windowOperation(op *contract.Operation) (string, *answer, error) {
	var first *model.Resource
	for _, r := range c.model.Resources {
		if first == nil && len(r.Key) > 0 && r.Query == nil && c.scope.For(window.Read, r) != nil {
			first = r
		}
	}
	switch {
	case op.ID == "batch" && first != nil:
		return c.try(op, "$batch", map[string]any{"requests": []any{
			map[string]any{"id": "1", "method": "GET", "url": url.PathEscape(first.Name) + "?top=1"},
			map[string]any{"id": "2", "method": "GET", "url": "no_such_resource"}}})
	case op.ID == "metadata":
		return c.try(op, "$metadata", nil)
	case op.ID == "get-part" && first != nil:
		rows, err := c.sample(first, c.ruleOf(c.role, c.scope.For(window.Read, first)))
		if err != nil || len(rows) == 0 {
			return "", nil, err
		}
		for _, f := range c.scope.Readable(first) {
			path := rowPath(first, rows[0])
			if wrong, shown, err := c.try(op, path+"/"+url.PathEscape(f.Name), nil); wrong != "" || err != nil {
				return wrong, shown, err
			}
		}
	case op.ID == "change-each", op.ID == "delete-each":
		for _, r := range c.model.Resources {
			does := window.Update
			if op.ID == "delete-each" {
				does = window.Delete
			}
			d := c.scope.For(does, r)
			if d == nil || c.scope.For(window.Read, r) == nil || len(r.Key) == 0 {
				continue
			}
			var body map[string]any
			if does == window.Update {
				body = map[string]any{}
				for _, f := range r.Fields {
					if d.Takes(f) && access.Possible(f, does) && len(body) == 0 {
						body[f.Name] = made(f)
					}
				}
			}
			return c.try(op, url.PathEscape(r.Name)+"/$filter(1%20eq%200)/$each", body)
		}
	}
	return "", nil, nil
}
