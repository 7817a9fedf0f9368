package windows

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/statement"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/data"
	"eagerwindow/internal/encode"
	"eagerwindow/internal/postgres"
	"eagerwindow/internal/records"
)

// Lights are what each role of a draft may do with each resource.
type Lights struct {
	Roles     []RoleHead      `json:"roles"`
	Resources []ResourceLight `json:"resources"`
}

// RoleHead is a role and who acts in it.
type RoleHead struct {
	Name      string `json:"name"`
	About     string `json:"about"`
	Anonymous bool   `json:"anonymous"`
	Clients   int    `json:"clients"`
	Accounts  int    `json:"accounts"`
}

// ResourceLight is one row of the lights: for each role, in their order, the lights of create, read, update and delete.
type ResourceLight struct {
	Name   string           `json:"name"`
	Lights [][]access.Light `json:"lights"`
}

// lightOrder is the order of the four lights.
var lightOrder = [...]window.Operation{window.Create, window.Read, window.Update, window.Delete}

// Lights tells what the roles of a window's draft may do.
func (s *Registry) Lights(ctx context.Context, name string) (*Lights, error) {
	api, err := s.DraftAPI(ctx, name)
	if err != nil {
		return nil, err
	}
	clients, accounts, err := s.records.Callers(ctx, name)
	if err != nil {
		return nil, err
	}
	out := &Lights{Roles: []RoleHead{}, Resources: []ResourceLight{}}
	for _, role := range api.Model.Roles {
		head := RoleHead{Name: role.Name, About: role.About, Anonymous: role.Anonymous}
		for _, c := range clients {
			if slices.Contains(c.Roles, role.Name) {
				head.Clients++
			}
		}
		for _, a := range accounts {
			if slices.Contains(a.Roles, role.Name) {
				head.Accounts++
			}
		}
		out.Roles = append(out.Roles, head)
	}
	for _, r := range api.Model.Resources {
		line := ResourceLight{Name: r.Name}
		for _, role := range api.Model.Roles {
			scope, err := api.Policy.Scope(access.Caller{Subject: "lights", Roles: []string{role.Name}})
			if err != nil {
				return nil, err
			}
			four := make([]access.Light, len(lightOrder))
			for i, op := range lightOrder {
				four[i] = scope.Light(op, r)
			}
			line.Lights = append(line.Lights, four)
		}
		out.Resources = append(out.Resources, line)
	}
	return out, nil
}

// GrantView is one crossing of the lights, opened.
type GrantView struct {
	Role       string          `json:"role"`
	About      string          `json:"about"`
	Resource   string          `json:"resource"`
	From       string          `json:"from"` // the entry of may that says it: the resource, "*", or "" for none
	Claims     []ClaimView     `json:"claims"`
	Limits     []string        `json:"limits"`
	Operations []OperationView `json:"operations"`
	Warnings   []string        `json:"warnings"`
}

// OperationView is one light, opened.
type OperationView struct {
	Operation string            `json:"operation"`
	Light     access.Light      `json:"light"`
	Line      int               `json:"line"` // of the document, 0 where nothing is granted
	Rows      string            `json:"rows"`
	Fields    []string          `json:"fields"`   // that the role reads or sends
	Possible  []string          `json:"possible"` // that a role could
	Set       map[string]string `json:"set"`
}

// Grant tells what a role of a window's draft may do with a resource.
func (s *Registry) Grant(ctx context.Context, name, role, resource string) (*GrantView, error) {
	w, err := s.window(ctx, name)
	if err != nil {
		return nil, err
	}
	api, scope, r, err := s.crossing(ctx, name, role, resource)
	if err != nil {
		return nil, err
	}
	g, own, err := window.GrantOf([]byte(w.Draft), role, resource)
	if err != nil {
		return nil, err
	}
	known := api.Model.Role(role)
	out := &GrantView{Role: role, About: known.About, Resource: resource, Claims: claimViews(known),
		Limits: append([]string{}, limitsOf(known.Limits)...), Operations: []OperationView{}, Warnings: []string{}}
	switch {
	case own:
		out.From = resource
	case g != nil:
		out.From = "*"
	}
	lines := map[int]bool{}
	for _, op := range lightOrder {
		v := OperationView{Operation: string(op), Light: scope.Light(op, r), Fields: []string{}, Possible: []string{}, Set: map[string]string{}}
		for _, f := range r.Fields {
			if op != window.Delete && r.Can(op) && access.Possible(f, op) {
				v.Possible = append(v.Possible, f.Name)
			}
		}
		if d := scope.For(op, r); d != nil {
			v.Line = d.Pos.Line
			lines[v.Line] = true
			if d.Rule != nil {
				v.Rows = d.Rule.Text
			}
			if op != window.Delete {
				v.Fields = append(v.Fields, d.Names(r, op)...)
			}
			for _, p := range known.Grants[r][op].Set {
				v.Set[p.Field.Name] = p.Value.Value
			}
		}
		out.Operations = append(out.Operations, v)
	}
	for _, d := range api.Policy.Warnings() {
		if lines[d.Line] && (d.Target == resource || r.Field(d.Target) != nil) {
			out.Warnings = append(out.Warnings, d.String())
		}
	}
	return out, nil
}

func (s *Registry) crossing(ctx context.Context, name, role, resource string) (*data.API, *access.Scope, *model.Resource, error) {
	api, err := s.DraftAPI(ctx, name)
	if err != nil {
		return nil, nil, nil, err
	}
	if api.Model.Role(role) == nil {
		return nil, nil, nil, fault.New(fault.NotFound, "role.unknown", "there is no role %q%s", role,
			fault.Suggest(role, api.Policy.RoleNames()))
	}
	r := api.Model.Resource(resource)
	if r == nil {
		return nil, nil, nil, fault.New(fault.NotFound, "resource.unknown", "there is no resource %q%s", resource,
			fault.Suggest(resource, api.Model.ResourceNames()))
	}
	scope, err := api.Policy.Scope(access.Caller{Subject: "lights", Roles: []string{role}})
	return api, scope, r, err
}

func claimViews(role *model.Role) []ClaimView {
	out := []ClaimView{}
	for _, c := range role.Claims {
		out = append(out, ClaimView{c.Name, c.Type.Kind.String()})
	}
	return out
}

// limitsOf says the limits of a role in words.
func limitsOf(l window.Limits) (words []string) {
	if l.Rows > 0 {
		words = append(words, fmt.Sprintf("%d rows at once", l.Rows))
	}
	if l.Depth > 0 {
		words = append(words, fmt.Sprintf("%d relations deep", l.Depth))
	}
	if l.Cost > 0 {
		words = append(words, fmt.Sprintf("cost %.0f", l.Cost))
	}
	if l.Time > 0 {
		words = append(words, fmt.Sprintf("%s for a statement", l.Time))
	}
	if l.Requests.Count > 0 {
		words = append(words, l.Requests.String())
	}
	if l.Concurrent > 0 {
		words = append(words, fmt.Sprintf("%d at once", l.Concurrent))
	}
	return words
}

// limitTexts are the limits of a role as the document has them.
func limitTexts(l window.Limits) map[string]string {
	out := map[string]string{}
	for name, n := range map[string]float64{"rows": float64(l.Rows), "depth": float64(l.Depth), "cost": l.Cost,
		"concurrent": float64(l.Concurrent)} {
		if n > 0 {
			out[name] = strconv.FormatFloat(n, 'f', -1, 64)
		}
	}
	if l.Time > 0 {
		out["time"] = l.Time.String()
	}
	if l.Requests.Count > 0 {
		out["requests"] = l.Requests.Text()
	}
	return out
}

// GrantChange is what a role may do with a resource from now on: by operation, those that are left out are not granted.
type GrantChange map[window.Operation]*OperationChange

// OperationChange is one operation of a grant; Fields nil means all of them.
type OperationChange struct {
	Rows   string            `json:"rows,omitempty"`
	Fields []string          `json:"fields,omitempty"`
	Set    map[string]string `json:"set,omitempty"`
}

// SetGrant changes what a role may do with a resource, in the document of the window's draft. Where that has mistakes, nothing is saved.
func (s *Registry) SetGrant(ctx context.Context, name, role, resource string, in GrantChange, by string) (*Window, error) {
	for {
		out, err := s.setGrant(ctx, name, role, resource, in, by)
		if !errors.Is(err, records.ErrChanged) { // somebody saved the draft just now: edit that
			return out, err
		}
	}
}

func (s *Registry) setGrant(ctx context.Context, name, role, resource string, in GrantChange, by string) (*Window, error) {
	w, err := s.window(ctx, name)
	if err != nil {
		return nil, err
	}
	_, _, r, err := s.crossing(ctx, name, role, resource)
	if err != nil {
		return nil, err
	}
	for op := range in {
		if !slices.Contains(window.Operations, op) {
			return nil, fault.New(fault.Invalid, "operation.unknown", "there is no operation %q; there is read, create, update, delete", op)
		}
	}
	is, _, err := window.GrantOf([]byte(w.Draft), role, resource)
	if err != nil {
		return nil, err
	}
	var allow []*window.Allowance
	for _, op := range window.Operations {
		if change := in[op]; change != nil {
			allow = append(allow, allowance(r, op, change, is))
		}
	}
	document, err := window.SetGrant([]byte(w.Draft), role, resource, allow)
	if err != nil {
		return nil, err
	}
	return s.save(ctx, w, records.Draft{Window: name, Document: string(document), By: by, How: granted, Of: w.DraftVersion})
}

// allowance is an operation of a grant as the document has it. Fields are named, or those that are left out, as they are now.
func allowance(r *model.Resource, op window.Operation, change *OperationChange, is *window.Grant) *window.Allowance {
	a := &window.Allowance{Operation: op, Rows: window.Text{Value: change.Rows}}
	var now *window.Allowance
	if is != nil {
		if i := slices.IndexFunc(is.Allow, func(o *window.Allowance) bool { return o.Operation == op }); i >= 0 {
			now = is.Allow[i]
		}
	}
	if change.Fields != nil && op != window.Delete {
		var rest []window.Text
		a.Fields = []window.Text{}
		for _, f := range r.Fields {
			_, set := change.Set[f.Name]
			switch {
			case slices.Contains(change.Fields, f.Name):
				a.Fields = append(a.Fields, window.Text{Value: f.Name})
			case !set && access.Possible(f, op):
				rest = append(rest, window.Text{Value: f.Name})
			}
		}
		switch {
		case rest == nil:
			a.Fields = nil
		case now != nil && now.Except != nil:
			a.Fields, a.Except = nil, rest
		}
	}
	for _, f := range r.Fields {
		if value, ok := change.Set[f.Name]; ok {
			a.Set = append(a.Set, window.Preset{Field: window.Text{Value: f.Name}, Value: window.Text{Value: value}})
		}
	}
	return a
}

// RuleQuestion asks whether a row rule can be in a document, and what it covers for a caller with some claims.
type RuleQuestion struct {
	Role     string         `json:"role"`
	Resource string         `json:"resource"`
	Rows     string         `json:"rows"`
	Claims   map[string]any `json:"claims,omitempty"`
}

// RuleCheck is the answer. Rows and Of are there if the claims that the rule speaks of are.
type RuleCheck struct {
	Wrong string `json:"wrong,omitempty"` // what is wrong, "" nothing
	Rows  *int64 `json:"rows,omitempty"`
	Of    *int64 `json:"of,omitempty"`
}

// ruleTime is how long counting the rows of a rule may take.
const ruleTime = 2 * time.Second

// CheckRule checks a row rule against a window's draft without saving it.
func (s *Registry) CheckRule(ctx context.Context, name string, q RuleQuestion) (*RuleCheck, error) {
	api, scope, r, err := s.crossing(ctx, name, q.Role, q.Resource)
	if err != nil {
		return nil, err
	}
	return s.covered(ctx, api, scope, r, q.Rows, q.Claims)
}

// covered checks a rule and counts the rows that it covers for a caller with some claims.
func (s *Registry) covered(ctx context.Context, api *data.API, scope *access.Scope, r *model.Resource, text string,
	claims map[string]any) (*RuleCheck, error) {
	rule, err := access.CompileRule(text, r, scope.Claims)
	if err != nil {
		return &RuleCheck{Wrong: err.Error()}, nil
	}
	if r.View != nil || r.Query != nil {
		return &RuleCheck{}, nil
	}
	plan := statement.Covered(rule, r, scope)
	args, err := plan.Args(statement.Input{Claims: claims})
	if err != nil {
		if strings.Contains(text, "@caller") {
			return &RuleCheck{}, nil // not all values are there yet
		}
		return &RuleCheck{Wrong: err.Error()}, nil
	}
	cursor, err := postgres.Compile(plan, nil, encode.Format{}).Open(ctx, api.Source().For(postgres.Share{}), args, ruleTime)
	if err != nil {
		return &RuleCheck{}, nil // it takes too long to count
	}
	defer cursor.Close()
	out := &RuleCheck{}
	if cursor.Next() {
		if err := json.Unmarshal(cursor.AppendRow(nil, nil), out); err != nil {
			return nil, err
		}
	}
	return out, nil
}
