// Package probes has the suites that nobody writes: access, contract and edges. They follow from the document and its description, and are
// tried for real by sending requests, which whoever runs them undoes.
package probes

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/textproto"
	"net/url"
	"slices"
	"strings"
	"time"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/contract"
	"eagerwindow/internal/core/describe"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/suite"
	"eagerwindow/internal/core/window"
)

// Suites are the names of the suites.
var Suites = []string{"access", "contract", "edges"}

// Options are what a suite is tried with.
type Options struct {
	Policy  *access.Policy
	Callers map[string]Caller // of roles that claims are known of, by role
	// Begin gives a check what it sends its requests with, and what undoes them.
	Begin func(context.Context) (send suite.Send, end func(), err error)
	Seed  uint64
	Only  string             // only checks whose name contains this
	Done  func(suite.Result) // hears of each check as it ends; may be nil
}

// Caller is somebody of a role: its claims as literals of the query language.
type Caller struct{ Claims map[string]string }

// prober runs one suite.
type prober struct {
	Options
	ctx     context.Context
	suite   string
	model   *model.Model
	whole   *contract.Contract
	random  *rand.Rand
	results []suite.Result
	samples map[string][]map[string]any // rows by path
	asked   int
	send    suite.Send // of the check that runs
}

// Run runs one of the suites. An error is one of the sender's.
func Run(ctx context.Context, name string, o Options) ([]suite.Result, error) {
	p := &prober{Options: o, ctx: ctx, suite: name, model: o.Policy.Model(), random: rand.New(rand.NewPCG(o.Seed, 1)),
		samples: map[string][]map[string]any{}}
	scope, err := o.Policy.Scope(access.Caller{Operator: true})
	if err != nil {
		return nil, err
	}
	if p.whole, err = p.contract(scope); err != nil {
		return nil, err
	}
	if err := p.within(p.findCallers); err != nil {
		return nil, err
	}
	switch name {
	case "access":
		err = p.access()
	case "contract":
		err = p.contracts()
	case "edges":
		err = p.edges()
	default:
		return nil, fmt.Errorf("there is no suite %q", name)
	}
	return p.results, err
}

func (p *prober) contract(scope *access.Scope) (*contract.Contract, error) {
	doc, err := describe.OpenAPI(p.Policy, scope, describe.Place{Server: "/"})
	if err != nil {
		return nil, err
	}
	return contract.New(doc)
}

func (p *prober) scope(roles ...string) (*access.Scope, error) {
	return p.Policy.Scope(access.Caller{Subject: "check", Roles: roles})
}

// answer is what came back, and what was sent.
type answer struct {
	suite.Answer
	request suite.Request
}

// code is the code of a refusal.
func (a answer) code() string {
	body, _ := a.JSON().(map[string]any)
	inner, _ := body["error"].(map[string]any)
	code, _ := inner["code"].(string)
	return code
}

// rows are those of a list.
func (a answer) rows() []map[string]any {
	body, _ := a.JSON().(map[string]any)
	list, _ := body["value"].([]any)
	var rows []map[string]any
	for _, item := range list {
		if row, is := item.(map[string]any); is {
			rows = append(rows, row)
		}
	}
	return rows
}

// refused reports whether the answer says that the caller may not.
func (a answer) refused() bool {
	return a.Status == 401 || a.Status == 403 || a.code() == "field.preset"
}

// ask sends a request as somebody, "" as an operator.
func (p *prober) ask(actAs, method, path string, body any, headers ...string) (answer, error) {
	r := suite.Request{ActAs: actAs, Method: method, Path: path, Header: textproto.MIMEHeader{}}
	switch body := body.(type) {
	case nil:
	case []byte:
		r.Body = body
	default:
		text, err := json.Marshal(body)
		if err != nil {
			return answer{}, err
		}
		r.Body = text
	}
	if r.Body != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	p.asked++
	a, err := p.send(p.ctx, r)
	return answer{a, r}, err
}

// get reads as somebody.
func (p *prober) get(actAs, path string, query ...string) (answer, error) {
	return p.ask(actAs, "GET", withQuery(path, query...), nil)
}

func withQuery(path string, query ...string) string {
	for i := 0; i+1 < len(query); i += 2 {
		separator := "&"
		if i == 0 {
			separator = "?"
		}
		path += separator + query[i] + "=" + strings.ReplaceAll(url.QueryEscape(query[i+1]), "+", "%20")
	}
	return path
}

// check runs one check and notes what has become of it: do returns what does not hold, "" for nothing.
func (p *prober) check(name string, do func() (wrong string, shown *answer, err error)) error {
	if p.Only != "" && !strings.Contains(name, p.Only) {
		return nil
	}
	before, begun := p.asked, time.Now()
	var wrong string
	var shown *answer
	if err := p.within(func() (err error) {
		wrong, shown, err = do()
		return err
	}); err != nil {
		return err
	}
	r := suite.Result{Suite: p.suite, Check: name, Passed: wrong == "", Failure: wrong, Asked: p.asked - before,
		Seconds: time.Since(begun).Seconds()}
	if wrong != "" && shown != nil {
		r.Request = shown.request.Method + " " + shown.request.Path
		if shown.request.ActAs != "" {
			r.Request += "\nAct-As: " + shown.request.ActAs
		}
		if shown.request.Body != nil {
			r.Request += "\n" + fmt.Sprintf("%.2000s", shown.request.Body)
		}
		r.Answer = fmt.Sprintf("%d\n%.2000s", shown.Status, shown.Body)
	}
	p.results = append(p.results, r)
	if p.Done != nil {
		p.Done(r)
	}
	return nil
}

// within runs do with requests that are undone after it.
func (p *prober) within(do func() error) error {
	send, end, err := p.Begin(p.ctx)
	if err != nil {
		return err
	}
	defer end()
	p.send = send
	return do()
}

// findCallers finds claims for roles that nobody is known of: values that rows have where a row rule compares them with a claim.
func (p *prober) findCallers() error {
	known := map[string]Caller{}
	for _, role := range p.model.Roles {
		c, is := p.Callers[role.Name]
		if !is {
			c = Caller{Claims: map[string]string{}}
			for _, claim := range role.Claims {
				value, err := p.claim(role, claim)
				if err != nil {
					return err
				}
				c.Claims[claim.Name] = value
			}
		}
		known[role.Name] = c
	}
	p.Callers = known
	return nil
}

// claim is a value for a claim of a role.
func (p *prober) claim(role *model.Role, claim model.Claim) (string, error) {
	for r, grants := range role.Grants {
		for _, g := range grants {
			path, is := comparedWith(g.Rows.Value, "@caller/"+claim.Name)
			if !is || r.View != nil {
				continue
			}
			a, err := p.get("", url.PathEscape(r.Name), "apply", "groupby(("+path+"))", "top", "1")
			if err != nil {
				return "", err
			}
			for _, row := range a.rows() {
				var v any = row
				for part := range strings.SplitSeq(path, "/") {
					at, _ := v.(map[string]any)
					v = at[part]
				}
				if text := literal(claim.Type, v); text != "" {
					return text, nil
				}
			}
		}
	}
	return map[model.Kind]string{model.String: "'x'", model.GUID: "00000000-0000-0000-0000-000000000000",
		model.Boolean: "true"}[claim.Type.Kind], nil
}

// comparedWith is the path that a rule compares with a claim.
func comparedWith(rule, claim string) (string, bool) {
	before, _, is := strings.Cut(rule, " eq "+claim)
	if !is {
		return "", false
	}
	return before[strings.LastIndexAny(before, " (")+1:], true
}

// literal is a value of an answer as the query language writes it; "" where there is no literal for it.
func literal(t *model.Type, v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case json.Number:
		return v.String()
	case bool:
		return fmt.Sprint(v)
	case string:
		switch t.Kind {
		case model.String, model.Enum:
			return "'" + strings.ReplaceAll(v, "'", "''") + "'"
		case model.Date, model.Instant, model.TimeOfDay, model.GUID:
			return v
		}
	}
	return ""
}

// actAs is a caller of roles as the header says it.
func (p *prober) actAs(roles ...string) string {
	parts := make([]string, len(roles))
	for i, name := range roles {
		parts[i] = name
		for _, claim := range p.model.Role(name).Claims {
			value := p.Callers[name].Claims[claim.Name]
			switch {
			case value == "":
				value = "0"
			case strings.HasPrefix(value, "'"):
				value = `"` + strings.ReplaceAll(strings.Trim(value, "'"), "''", "'") + `"`
			case claim.Type.Kind == model.GUID:
				value = `"` + value + `"`
			case claim.Type.Kind == model.Boolean:
				value = map[string]string{"true": "?1", "false": "?0"}[value]
			}
			parts[i] += ";" + claim.Name + "=" + value
		}
	}
	return strings.Join(parts, ", ")
}

// ruleOf is the row rule of a decision with the caller's claims in their places; "" for every row.
func (p *prober) ruleOf(role string, d *access.Decision) string {
	if d == nil || d.Rule == nil {
		return ""
	}
	text := d.Rule.Text
	for name, value := range p.Callers[role].Claims {
		text = strings.ReplaceAll(text, "@caller/"+name, value)
	}
	return text
}

// sample are rows of a resource that meet a condition, as the operator sees them: the same each time.
func (p *prober) sample(r *model.Resource, filter string) ([]map[string]any, error) {
	query := []string{"top", "3"}
	if filter != "" {
		query = append(query, "filter", filter)
	}
	if len(r.Key) > 0 {
		names := make([]string, len(r.Key))
		for i, k := range r.Key {
			names[i] = k.Name
		}
		query = append(query, "orderby", strings.Join(names, ","))
	}
	path := withQuery(url.PathEscape(r.Name), query...)
	if rows, known := p.samples[path]; known {
		return rows, nil
	}
	a, err := p.get("", path)
	if err != nil {
		return nil, err
	}
	rows := a.rows()
	p.samples[path] = rows
	return rows, nil
}

// rowPath is the path of a row.
func rowPath(r *model.Resource, row map[string]any) string {
	path := url.PathEscape(r.Name)
	for _, k := range r.Key {
		text, is := row[k.Name].(string)
		if !is {
			text = strings.Trim(string(mustJSON(row[k.Name])), `"`)
		}
		path += "/" + url.PathEscape(text)
	}
	return path
}

func mustJSON(v any) []byte {
	text, err := json.Marshal(v)
	if err != nil {
		return []byte("null")
	}
	return text
}

// newRow is a body for a new row like those that are there: values of a row for what refers to others, made-up ones where each must be
// another.
func (p *prober) newRow(r *model.Resource, d *access.Decision, filter string) (map[string]any, error) {
	rows, err := p.sample(r, filter)
	if err != nil {
		return nil, err
	}
	body := map[string]any{}
	for _, f := range r.Fields {
		if !d.Takes(f) || !access.Possible(f, window.Create) {
			continue
		}
		if len(rows) > 0 && rows[0][f.Name] != nil {
			body[f.Name] = p.fresh(f, rows[0][f.Name])
		}
		if v := body[f.Name]; v == nil {
			delete(body, f.Name)
			if f.Required {
				body[f.Name] = made(f)
			}
		}
	}
	return body, nil
}

// fresh is a value for a new row: another one where no two rows may have the same.
func (p *prober) fresh(f *model.Field, v any) any {
	if !unique(f) {
		return v
	}
	switch v := v.(type) {
	case string:
		if f.Type.Kind == model.GUID {
			return fmt.Sprintf("5f0c1a52-7a1e-4c7b-9d3e-%012d", p.random.IntN(1_000_000_000))
		}
		digits := fmt.Sprintf("%07d", p.random.IntN(10_000_000))
		if len(v) >= 7 && strings.Trim(v, "0123456789") == "" {
			return digits[:min(len(v), 7)]
		}
		if f.Type.Kind == model.String {
			text := "check " + digits
			if f.Type.Length > 0 {
				text = text[:min(len(text), f.Type.Length)]
			}
			return text
		}
	case json.Number:
		return json.Number(fmt.Sprint(1_000_000 + p.random.IntN(1_000_000)))
	}
	return v
}

// unique reports whether no two rows may have the same value of a field by itself.
func unique(f *model.Field) bool {
	t := f.Resource.Table
	return slices.Equal(t.Primary, []string{f.Column.Name}) || slices.ContainsFunc(t.Uniques, func(u catalog.Unique) bool {
		return slices.Equal(u.Columns, []string{f.Column.Name})
	})
}

// made is a value of a type.
func made(f *model.Field) any {
	switch f.Type.Kind {
	case model.Boolean:
		return false
	case model.Int16, model.Int32, model.Int64, model.Decimal, model.Single, model.Double:
		return 1
	case model.Enum:
		return f.Type.Values[0]
	case model.Date:
		return "2026-07-01"
	case model.TimeOfDay:
		return "12:00:00"
	case model.Instant:
		return "2026-07-01T12:00:00Z"
	case model.Duration:
		return "PT1H"
	case model.GUID:
		return "5f0c1a52-7a1e-4c7b-9d3e-000000000001"
	case model.Collection:
		return []any{}
	case model.JSON, model.Complex, model.Range:
		return map[string]any{}
	}
	return "x"
}
