package probes

import (
	"bytes"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/contract"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/window"
)

// hostile are values that no field takes by accident: wrong types, what is too long, what other languages would run.
var hostile = []any{"", "'; drop table x; --", "{{7*7}}", strings.Repeat("a", 100_000), "\u0000", "\ufffe", "NaN", true, -1, 1e308, []any{},
	map[string]any{"a": map[string]any{"b": []any{1}}}, nil, "9999-99-99", strings.Repeat("[", 50)}

// edges sends to every operation what it can't take: each must be refused with a status of 4xx and a code, and leave nothing behind.
func (p *prober) edges() error {
	for _, op := range p.whole.Operations {
		if err := p.check(op.ID, func() (string, *answer, error) { return p.edge(op) }); err != nil {
			return err
		}
	}
	return nil
}

// wrongRequest is a request that can't be right, or may be by accident.
type wrongRequest struct {
	what     string
	method   string
	path     string
	body     any
	headers  []string
	mayBe    bool  // right for some values
	statuses []int // those that are expected; nil: any of 4xx
}

func (p *prober) edge(op *contract.Operation) (string, *answer, error) {
	r := p.model.Resource(op.Tag)
	requests, err := p.wrongRequests(op, r)
	if err != nil {
		return "", nil, err
	}
	before, err := p.number(r)
	if err != nil {
		return "", nil, err
	}
	for _, q := range requests {
		a, err := p.ask("", q.method, q.path, q.body, q.headers...)
		if err != nil {
			return "", nil, err
		}
		switch {
		case a.Status >= 500 && a.Status != 501:
			return fmt.Sprintf("%s: the answer has the status %d", q.what, a.Status), &a, nil
		case a.Status < 400 && !q.mayBe:
			return fmt.Sprintf("%s: it is taken, with %d", q.what, a.Status), &a, nil
		case a.Status >= 400 && a.code() == "" && op.Method != "HEAD":
			return fmt.Sprintf("%s: the refusal %d has no code", q.what, a.Status), &a, nil
		case q.statuses != nil && !slices.Contains(q.statuses, a.Status):
			return fmt.Sprintf("%s: the answer has the status %d, not %s", q.what, a.Status, strings.Trim(fmt.Sprint(q.statuses), "[]")), &a, nil
		}
		if a.Status < 300 && q.mayBe && op.Method != "GET" { // what was taken changes the numbers
			if before, err = p.number(r); err != nil {
				return "", nil, err
			}
		}
		if a.Status >= 400 && q.method != "GET" {
			now, err := p.number(r)
			if err != nil {
				return "", nil, err
			}
			if now != before {
				return fmt.Sprintf("%s: it is refused, and there are %s rows, where %s were", q.what, now, before), &a, nil
			}
		}
	}
	return "", nil, nil
}

// number is how many rows a resource has.
func (p *prober) number(r *model.Resource) (string, error) {
	if r == nil || r.Query != nil || !r.Can(window.Create) {
		return "", nil
	}
	a, err := p.get("", url.PathEscape(r.Name)+"/$count")
	return string(a.Body), err
}

func (p *prober) wrongRequests(op *contract.Operation, r *model.Resource) ([]wrongRequest, error) {
	if r == nil {
		return p.wrongForWindow(op), nil
	}
	path, at := url.PathEscape(r.Name), url.PathEscape(r.Name)
	rows, err := p.sample(r, "")
	if err != nil {
		return nil, err
	}
	single := strings.Contains(op.Path, "{")
	if single && len(rows) == 0 {
		return nil, nil
	}
	var list []wrongRequest
	if single {
		at = rowPath(r, rows[0])
		if strings.HasSuffix(op.Path, "/$ref") {
			return p.wrongLinks(op, r, at), nil
		}
		for _, key := range []string{"%00", "..", "'", strings.Repeat("9", 400), "%20", "1e400", "null", "true;x", "%F0%9F%92%A5"} {
			list = append(list, wrongRequest{what: "a key " + key[:min(len(key), 12)], method: op.Method, path: path + strings.Repeat("/"+key,
				len(r.Key)),
				body: bodyFor(op), headers: []string{"If-Match", "*"}})
		}
	}
	fixed := parametersOf(r)
	if op.Method == "GET" {
		for _, q := range [][2]string{{"no_such_option", "1"}, {"filter", "no_such_field eq 1"}, {"filter", "("}, {"filter", strings.Repeat("(",
			3000)},
			{"orderby", "no_such_field"}, {"select", "no_such_field"}, {"expand", "no_such_relation"}, {"top", "-1"}, {"top", "many"}, {"skip",
				"-1"},
			{"count", "perhaps"}, {"filter", strings.Repeat("1 eq 1 and ", 3000) + "true"}, {"search", "\"open"}, {"apply", "no_such(x)"},
			{"compute", "1"}, {"format", "no-such-format"}, {"filter", "'; drop table x; --"}, {"skiptoken", "forged"}} {
			if single && slices.Contains([]string{"orderby", "top", "skip", "count", "search", "apply", "filter", "skiptoken"}, q[0]) {
				continue
			}
			list = append(list, wrongRequest{what: q[0] + "=" + q[1][:min(len(q[1]), 30)], method: "GET",
				path: withQuery(at, append(slices.Clone(fixed), q[0], q[1])...)})
		}
		list = append(list, wrongRequest{what: "a format that is not written", method: "GET", path: withQuery(at, fixed...),
			headers: []string{"Accept",
				"application/no-such-type"}, statuses: []int{406}},
			wrongRequest{what: "a method that is not there", method: "TRACE", path: at, statuses: []int{405}})
		return list, nil
	}
	if op.Method == "DELETE" {
		return append(list, wrongRequest{what: "a version that was never", method: "DELETE", path: at, headers: []string{"If-Match", `"none"`},
			statuses: []int{412}}), nil
	}
	return append(list, p.wrongBodies(op, r, at)...), nil
}

func bodyFor(op *contract.Operation) any {
	if op.Method == "PATCH" || op.Method == "PUT" || op.Method == "POST" {
		return map[string]any{"no_such_field": 1}
	}
	return nil
}

// wrongBodies are bodies that can't be right: of no JSON, of another type, with fields that are not there, with values of no field.
func (p *prober) wrongBodies(op *contract.Operation, r *model.Resource, at string) (list []wrongRequest) {
	add := func(what string, body any, mayBe bool, statuses []int, headers ...string) {
		list = append(list, wrongRequest{what, op.Method, at, body, append([]string{"If-Match", "*"}, headers...), mayBe, statuses})
	}
	if op.Method == "POST" || !strings.Contains(op.Path, "{") {
		add = func(what string, body any, mayBe bool, statuses []int, headers ...string) {
			list = append(list, wrongRequest{what, op.Method, at, body, headers, mayBe, statuses})
		}
	}
	add("no JSON", []byte("{"), false, []int{400})
	add("an empty body", []byte(""), false, []int{400, 415})
	add("a list", []byte("[1]"), false, []int{400})
	add("a text", []byte(`"x"`), false, []int{400})
	add("deep JSON", bytes.Repeat([]byte("["), 20_000), false, nil)
	add("a large body", append(append([]byte(`{"x":"`), bytes.Repeat([]byte("x"), 20<<20)...), `"}`...), false, []int{400, 413})
	add("another type", []byte("<x/>"), false, []int{415}, "Content-Type", "application/xml")
	if strings.HasPrefix(op.ID, "apply-changes-to-") {
		add("no value", map[string]any{"x": 1}, false, []int{400})
		add("rows that are none", map[string]any{"value": []any{1, "x"}}, false, []int{400})
		add("an unknown field", map[string]any{"value": []any{map[string]any{"no_such_field": 1}}}, false, []int{400})
		return list
	}
	add("an unknown field", map[string]any{"no_such_field": 1}, false, []int{400})
	does := window.Update
	if op.Method == "POST" {
		does = window.Create
	}
	for _, f := range r.Fields {
		if f.ReadOnly || !access.Possible(f, does) {
			continue
		}
		for _, v := range hostile {
			add(fmt.Sprintf("%s: %.20s", f.Name, mustJSON(v)), map[string]any{f.Name: v}, true, nil)
		}
	}
	return list
}

func (p *prober) wrongLinks(op *contract.Operation, r *model.Resource, at string) (list []wrongRequest) {
	path := at + "/no_such_relation/$ref"
	list = append(list, wrongRequest{what: "a relation that is not there", method: op.Method, path: path, body: bodyFor(op)})
	for _, rel := range r.Relations {
		if op.Method == "POST" && !rel.Many || op.Method == "DELETE" {
			continue
		}
		path := at + "/" + url.PathEscape(rel.Name) + "/$ref"
		for _, id := range []any{"", "no_such_resource/1", "../../etc", url.PathEscape(rel.To.Name) + "/no-such-key", 1, nil,
			strings.Repeat("x/", 5000)} {
			body := map[string]any{"@id": id}
			if rel.Many && op.Method == "PUT" {
				body = map[string]any{"value": []any{body}}
			}
			list = append(list, wrongRequest{what: fmt.Sprintf("%s: %.30v", rel.Name, id), method: op.Method, path: path, body: body})
		}
		break
	}
	return list
}

// wrongForWindow are wrong requests to what belongs to no resource.
func (p *prober) wrongForWindow(op *contract.Operation) []wrongRequest {
	switch op.ID {
	case "batch":
		one := func(q map[string]any) any { return map[string]any{"requests": []any{q}} }
		return []wrongRequest{{what: "no requests", method: "POST", path: "$batch", body: map[string]any{"requests": []any{}}, mayBe: true},
			{what: "no JSON", method: "POST", path: "$batch", body: []byte("{"), statuses: []int{400}},
			{what: "a request without a method", method: "POST", path: "$batch", body: one(map[string]any{"id": "1", "url": "x"})},
			{what: "a foreign address", method: "POST", path: "$batch", body: one(map[string]any{"id": "1", "method": "GET",
				"url": "http://elsewhere.example/"}),
				mayBe: true}}
	case "metadata":
		return []wrongRequest{{what: "another method", method: "POST", path: "$metadata", body: map[string]any{}, statuses: []int{405}}}
	case "change-each", "delete-each":
		for _, r := range p.model.Resources {
			if len(r.Key) > 0 && r.Can(window.Update) {
				return []wrongRequest{{what: "a condition that is none", method: op.Method, path: url.PathEscape(r.Name) +
					"/$filter(no_such%20eq%201)/$each",
					body: bodyFor(op), statuses: []int{400}},
					{what: "no condition", method: op.Method, path: url.PathEscape(r.Name) + "/$each", body: bodyFor(op)}}
			}
		}
	}
	return []wrongRequest{{what: "a resource that is not there", method: "GET", path: "no_such_resource", statuses: []int{404}},
		{what: "a path that leads nowhere", method: "GET", path: "no/such/path/at/all", statuses: []int{404}},
		{what: "a path of signs", method: "GET", path: "%00%ff", mayBe: false}}
}
