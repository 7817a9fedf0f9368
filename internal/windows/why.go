package windows

import (
	"context"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/statement"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/data"
	"eagerwindow/internal/encode"
	"eagerwindow/internal/postgres"
)

// Question asks why a role may or may not do something.
type Question struct {
	Roles     []string       `json:"roles"`
	Claims    map[string]any `json:"claims"`
	Operation string         `json:"operation"`
	Resource  string         `json:"resource"`
	Key       []string       `json:"key,omitempty"`   // of a row, by the order of the key's fields
	Field     string         `json:"field,omitempty"` // that is to be read or written
}

// Reason is the answer.
type Reason struct {
	May        bool        `json:"may"`
	Says       string      `json:"says"`
	Grant      string      `json:"grant,omitempty"` // where in the document, "" where there is none
	Line       int         `json:"line,omitempty"`
	Fields     []string    `json:"fields,omitempty"`
	Rule       string      `json:"rule,omitempty"`
	Conditions []Condition `json:"conditions,omitempty"`
	SQL        string      `json:"sql,omitempty"`
	Change     string      `json:"change,omitempty"` // the smallest change of the document that would allow it
}

// Condition is a part of a row rule, with the caller's values, and whether the row meets it; nil where no row is asked for.
type Condition struct {
	Text  string `json:"text"`
	Holds *bool  `json:"holds,omitempty"`
}

// Why says why a role of the draft may or may not do an operation with a resource, or with one row of it.
func (s *Registry) Why(ctx context.Context, name string, q Question) (*Reason, error) {
	api, err := s.DraftAPI(ctx, name)
	if err != nil {
		return nil, err
	}
	r := api.Model.Resource(q.Resource)
	if r == nil {
		return nil, fault.New(fault.Invalid, "resource.unknown", "there is no resource %q%s", q.Resource,
			fault.Suggest(q.Resource, api.Model.ResourceNames())).On("resource")
	}
	op := window.Operation(q.Operation)
	if !slices.Contains(window.Operations, op) {
		return nil, fault.New(fault.Invalid, "operation.unknown", "there is no operation %q; there is read, create, update, delete",
			q.Operation).On("operation")
	}
	if q.Field != "" && r.Field(q.Field) == nil {
		return nil, fault.New(fault.Invalid, "field.unknown", "%s has no field %q%s", r.Name, q.Field,
			fault.Suggest(q.Field, r.FieldNames())).On("field")
	}
	if len(q.Roles) == 0 {
		return nil, fault.New(fault.Invalid, "role.missing", "say as which role: %s", strings.Join(api.Policy.RoleNames(), ", ")).On("roles")
	}
	// A caller with several roles may do what one of them may: the first that may is the reason.
	var first *Reason
	for _, role := range q.Roles {
		if api.Model.Role(role) == nil {
			return nil, fault.New(fault.Invalid, "role.unknown", "there is no role %q%s", role,
				fault.Suggest(role, api.Policy.RoleNames())).On("roles")
		}
		c := access.Caller{Subject: "why", Roles: []string{role}, Claims: q.Claims}
		scope, err := api.Scope(c)
		if err != nil {
			return nil, err
		}
		w := &why{api: api, ctx: ctx, caller: c, scope: scope, op: op, resource: r, asked: q}
		reason, err := w.reason()
		if err != nil || reason.May {
			return reason, err
		}
		if first == nil {
			first = reason
		} else {
			first.Says += " " + reason.Says
		}
	}
	return first, nil
}

// why gathers the parts of a reason.
type why struct {
	api      *data.API
	ctx      context.Context
	caller   access.Caller
	scope    *access.Scope
	op       window.Operation
	resource *model.Resource
	asked    Question
}

func (w *why) reason() (*Reason, error) {
	r, place := w.resource, "roles."+w.scope.Name+".may."+w.resource.Name
	deed := fmt.Sprintf("%s %s", w.op, strings.Join(append([]string{r.Name}, w.asked.Key...), "/"))
	d := w.scope.For(w.op, r)
	if d == nil {
		out := &Reason{Says: fmt.Sprintf("%s may not %s: nothing grants it.", w.scope.Name, deed),
			Change: fmt.Sprintf("add %s to %s", w.op, place)}
		if !r.Can(w.op) {
			out.Says = fmt.Sprintf("Nobody may %s: %s is a %s, and offers less.", deed, r.Name, r.Kind())
			out.Change = ""
		}
		return out, nil
	}
	out := &Reason{May: true, Says: fmt.Sprintf("%s may %s.", w.scope.Name, deed), Grant: place + "." + string(w.op), Line: d.Pos.Line,
		Fields: d.Names(r, w.op)}
	if d.Rule != nil {
		out.Rule = d.Rule.Text
	}
	rules, err := w.scope.Conditions(w.op, r)
	if err != nil {
		return nil, err
	}
	for _, rule := range rules {
		out.Conditions = append(out.Conditions, Condition{Text: withValues(rule.Text, w.scope, w.caller.Claims)})
	}
	if err := w.onRow(out, rules, deed); err != nil {
		return nil, err
	}
	if f := w.asked.Field; f != "" && out.May && !slices.Contains(out.Fields, f) {
		out.May, out.Says = false, fmt.Sprintf("%s may %s, but not its field %s.", w.scope.Name, deed, f)
		out.Change = fmt.Sprintf("let %s have %s: add it to fields, or take it out of except", out.Grant, f)
		switch field := r.Field(f); {
		case w.op != window.Read && field.ReadOnly:
			out.Says, out.Change = fmt.Sprintf("Nobody may send %s: the database fills it.", f), ""
		case d.Presets(field):
			out.Says, out.Change = fmt.Sprintf("%s can't send %s: the service sets it.", w.scope.Name, f),
				fmt.Sprintf("take %s out of set in %s", f, out.Grant)
		}
	}
	return out, nil
}

// onRow looks at the row that is asked for, and at the statement.
func (w *why) onRow(out *Reason, rules []*access.Rule, deed string) error {
	r := w.resource
	at, err := request.Read(w.api.Model, request.RowPath(r, w.asked.Key), "")
	if err != nil {
		return err
	}
	q, err := at.Resolve()
	if err != nil {
		return err
	}
	var fields []*model.Field
	for _, name := range out.Fields {
		fields = append(fields, r.Field(name))
	}
	if at.Single || w.op == window.Read || w.op == window.Create {
		out.SQL = statement.Shown(q, w.op, fields, w.scope)
	}
	if !at.Single || w.op == window.Create || r.View != nil {
		return nil
	}
	plan := statement.Conditions(q, rules, w.scope)
	args, err := plan.Args(statement.Input{Literals: at.Literals, Claims: w.caller.Claims})
	if err != nil {
		return err
	}
	cursor, err := postgres.Compile(plan, nil, encode.Format{}).Open(w.ctx, w.api.Source().For(postgres.Share{}), args, data.TimeLimit)
	if err != nil {
		return err
	}
	defer cursor.Close()
	if !cursor.Next() {
		out.May, out.Says = false, fmt.Sprintf("There is no row %s.", strings.TrimPrefix(deed, string(w.op)+" "))
		return nil
	}
	holds := map[string]bool{}
	if err := json.Unmarshal(cursor.AppendRow(nil, nil), &holds); err != nil {
		return err
	}
	for i, c := range plan.Columns[1:] {
		met := holds[c.Name]
		out.Conditions[i].Holds = &met
	}
	w.judge(out, rules, deed)
	return cursor.Close()
}

// judge says which conditions the row does not meet, and what of the rule would let it through.
func (w *why) judge(out *Reason, rules []*access.Rule, deed string) {
	var failing, rest []string
	for i, c := range out.Conditions {
		switch {
		case c.Holds == nil:
		case *c.Holds:
			rest = append(rest, rules[i].Text)
		default:
			failing = append(failing, c.Text)
		}
	}
	if len(failing) == 0 {
		return
	}
	does := "does"
	if len(failing) > 1 {
		does = "do"
	}
	out.May, out.Says = false, fmt.Sprintf("%s may not %s: %s %s not hold for it.", w.scope.Name, deed, strings.Join(failing, " and "), does)
	out.Change = fmt.Sprintf("in %s, leave rows out", out.Grant)
	if len(rest) > 0 {
		out.Change = fmt.Sprintf("in %s, rows: %s", out.Grant, strings.Join(rest, " and "))
	}
}

var callerValue = regexp.MustCompile(`@caller/(\w+)`)

// withValues puts the caller's values into the text of a rule.
func withValues(rule string, scope *access.Scope, claims map[string]any) string {
	return callerValue.ReplaceAllStringFunc(rule, func(name string) string {
		for _, c := range scope.Claims {
			if "@caller/"+c.Name != name {
				continue
			}
			v, err := access.ClaimValue(claims, c.Name, c.Type)
			if text, isText := v.(string); isText && c.Type.Kind == model.String {
				return "'" + strings.ReplaceAll(text, "'", "''") + "'"
			}
			if err == nil {
				return fmt.Sprint(v)
			}
		}
		return name
	})
}
