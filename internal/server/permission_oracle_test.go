package server_test

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/url"
	"reflect"
	"slices"
	"strings"
	"testing"

	"eagerwindow/internal/harbourtest"

	"github.com/jackc/pgx/v5"
)

// The oracle is the harbour's small tables in plain Go, and the rules of permissions applied to them without any SQL.
type oracle struct {
	*rand.Rand
	tables map[string]map[string]thing // by resource and key
	keys   map[string]string
	fields map[string][]string
	used   map[string]map[string]bool // rows that tables outside refer to
}

type thing map[string]any

// rule is a row rule as a document has it, and in Go.
type rule struct {
	text string
	test func(thing) bool
}

// permit is what a role may do with one resource in one operation.
type permit struct {
	fields map[string]bool
	rule   *rule
}

// permits are what a caller may do with one resource in one operation, one for each of its roles that has it.
type permits []*permit

type oracleRole struct {
	names []string
	may   map[string]map[string]permits // by resource and operation
}

// joint is a caller with two roles.
func joint(a, b *oracleRole) *oracleRole {
	u := &oracleRole{append(slices.Clone(a.names), b.names...), map[string]map[string]permits{}}
	for _, role := range []*oracleRole{a, b} {
		for resource, ops := range role.may {
			if u.may[resource] == nil {
				u.may[resource] = map[string]permits{}
			}
			for op, p := range ops {
				u.may[resource][op] = append(u.may[resource][op], p...)
			}
		}
	}
	return u
}

const callerAgent = 3

func number(v any) float64 { f, _ := v.(float64); return f }

func (o *oracle) one(list ...string) string { return list[o.IntN(len(list))] }

// simple is a condition over the rows of a resource.
func (o *oracle) simple(resource string) rule {
	n := o.IntN(60)
	id := rule{fmt.Sprintf("id le %d", n), func(t thing) bool { return number(t["id"]) <= float64(n) }}
	switch resource {
	case "vessels":
		kind, tons := o.one("cargo", "tanker", "ferry", "fishing"), o.IntN(20000)
		agent := func(t thing) thing {
			if t["agent_id"] == nil {
				return nil
			}
			return o.tables["agents"][fmt.Sprint(t["agent_id"])]
		}
		return []rule{
			{fmt.Sprintf("kind eq '%s'", kind), func(t thing) bool { return t["kind"] == kind }},
			{fmt.Sprintf("kind in ('%s','pleasure')", kind), func(t thing) bool { return t["kind"] == kind || t["kind"] == "pleasure" }},
			{fmt.Sprintf("gross_tonnage gt %d", tons), func(t thing) bool { return number(t["gross_tonnage"]) > float64(tons) }},
			{fmt.Sprintf("agent_id eq %d", n%40+1), func(t thing) bool { return t["agent_id"] != nil && number(t["agent_id"]) == float64(n%40+1) }},
			{fmt.Sprintf("agent_id ne %d", n%40+1), func(t thing) bool { return t["agent_id"] == nil || number(t["agent_id"]) != float64(n%40+1) }},
			{"agent_id eq @caller/agent_id", func(t thing) bool { return t["agent_id"] != nil && number(t["agent_id"]) == callerAgent }},
			{"built_on eq null", func(t thing) bool { return t["built_on"] == nil }},
			{"agent/phone eq null", func(t thing) bool { a := agent(t); return a == nil || a["phone"] == nil }},
			{"agent/since lt 2010-01-01", func(t thing) bool { a := agent(t); return a != nil && a["since"].(string) < "2010-01-01" }},
		}[o.IntN(9)]
	case "agents":
		kind := o.one("cargo", "tanker", "ferry")
		return []rule{id, {"phone eq null", func(t thing) bool { return t["phone"] == nil }},
			{"since ge 2005-01-01", func(t thing) bool { since, _ := t["since"].(string); return since >= "2005-01-01" }},
			{fmt.Sprintf("vessels/any(v: v/kind eq '%s')", kind), func(t thing) bool {
				for _, v := range o.tables["vessels"] {
					if v["agent_id"] != nil && number(v["agent_id"]) == number(t["id"]) && v["kind"] == kind {
						return true
					}
				}
				return false
			}}}[o.IntN(4)]
	case "berths":
		return []rule{{"shore_power", func(t thing) bool { return t["shore_power"] == true }},
			{fmt.Sprintf("length_m ge %d", 80+n*3), func(t thing) bool { return number(t["length_m"]) >= float64(80+n*3) }}}[o.IntN(2)]
	}
	return id
}

// rule is a condition, some of them, or none: nil.
func (o *oracle) rule(resource string) *rule {
	a, b := o.simple(resource), o.simple(resource)
	switch o.IntN(6) {
	case 0:
		return &rule{a.text + " and " + b.text, func(t thing) bool { return a.test(t) && b.test(t) }}
	case 1:
		return &rule{a.text + " or " + b.text, func(t thing) bool { return a.test(t) || b.test(t) }}
	case 2:
		return &rule{"not (" + a.text + ")", func(t thing) bool { return !a.test(t) }}
	case 3:
		return nil
	}
	return &a
}

// role grants something at random, and writes it as a document does.
func (o *oracle) role(name string) (*oracleRole, string) {
	role, text := &oracleRole{[]string{name}, map[string]map[string]permits{}}, "  "+name+":\n    claims: {agent_id: integer}\n    may:\n"
	text += "      tugs: read\n" // a role that may do nothing has no may
	role.may["tugs"] = map[string]permits{"read": {{fields: all(o.fields["tugs"])}}}
	for _, resource := range []string{"vessels", "agents", "berths"} {
		role.may[resource] = map[string]permits{}
		ops := ""
		for _, op := range []string{"read", "create", "update", "delete"} {
			if o.IntN(3) == 0 && !(op == "read" && o.IntN(2) == 0) {
				continue
			}
			p := &permit{fields: all(o.fields[resource]), rule: o.rule(resource)}
			var parts []string
			if p.rule != nil {
				parts = append(parts, fmt.Sprintf("rows: %q", p.rule.text))
			}
			if op != "delete" && o.IntN(2) == 0 {
				var except []string
				for _, f := range o.fields[resource] {
					if f != o.keys[resource] && o.IntN(4) == 0 {
						except = append(except, f)
						delete(p.fields, f)
					}
				}
				if except != nil {
					parts = append(parts, "except: ["+strings.Join(except, ", ")+"]")
				}
			}
			role.may[resource][op] = permits{p}
			ops += fmt.Sprintf("        %s: {%s}\n", op, strings.Join(parts, ", "))
		}
		if ops != "" {
			text += "      " + resource + ":\n" + ops
		}
	}
	return role, text
}

func all(fields []string) map[string]bool {
	m := map[string]bool{}
	for _, f := range fields {
		m[f] = true
	}
	return m
}

// covers reports whether the caller reaches a row, and each of the fields in it.
func (p permits) covers(t thing, fields ...string) bool {
	reaching := p.reaching(t)
	for _, f := range fields {
		if !reaching.has(f) {
			return false
		}
	}
	return len(reaching) > 0
}

// reaching are those whose rule the row meets.
func (p permits) reaching(t thing) (list permits) {
	for _, one := range p {
		if one.rule == nil || one.rule.test(t) {
			list = append(list, one)
		}
	}
	return list
}

func (p permits) has(field string) bool {
	return slices.ContainsFunc(p, func(p *permit) bool { return p.fields[field] })
}

// shown is a row as the caller is shown it.
func (p permits) shown(t thing, fields ...string) thing {
	out, reaching := thing{}, p.reaching(t)
	for f := range t {
		switch {
		case !p.has(f) || len(fields) > 0 && !slices.Contains(fields, f):
		case reaching.has(f):
			out[f] = t[f]
		default:
			out[f+"@Core.Permissions"] = "None"
		}
	}
	return out
}

// known is a row as a filter sees it: what is not the caller's to read is null.
func (p permits) known(t thing) thing {
	out, reaching := maps.Clone(t), p.reaching(t)
	for f := range t {
		if !reaching.has(f) {
			out[f] = nil
		}
	}
	return out
}

func (o *oracle) load(t *testing.T, conn *pgx.Conn) {
	for resource, table := range map[string]string{"vessels": "vessel", "agents": "agent", "berths": "berth", "tugs": "tug"} {
		o.tables[resource] = map[string]thing{}
		rows, err := conn.Query(context.Background(), "select row_to_json(t)::text from harbour."+table+" t")
		if err != nil {
			t.Fatal(err)
		}
		lines, err := pgx.CollectRows(rows, pgx.RowTo[string])
		if err != nil {
			t.Fatal(err)
		}
		for _, line := range lines {
			row := thing{}
			decode(t, line, &row)
			o.tables[resource][fmt.Sprint(row[o.keys[resource]])] = row
			o.fields[resource] = slices.Sorted(maps.Keys(row))
		}
	}
}

// asked is a random request of one operation; it returns what the answer must be. A status under 0 means 401 or 403.
type asked struct {
	method, path, body string
	status             int
	rows               []thing // of a read, in the order of the key; nil: not looked at
	apply              func()  // what a write that went well has done
}

func (o *oracle) ask(role *oracleRole, op string) asked {
	resource := o.one("vessels", "agents", "berths")
	table, key, p := o.tables[resource], o.keys[resource], role.may[resource][op]
	names := slices.Sorted(maps.Keys(table))
	row := table[names[o.IntN(len(names))]]
	id := fmt.Sprint(row[key])
	read := role.may[resource]["read"]
	field := o.fields[resource][o.IntN(len(o.fields[resource]))]
	switch op {
	case "read":
		return o.askRows(resource, role, p, row, field)
	case "delete":
		a := asked{method: "DELETE", path: "/" + resource + "/" + url.PathEscape(id), apply: func() { delete(table, id) }}
		a.status = writeStatus(p, read, row, nil, func() bool { return o.used[resource][id] })
		return a
	case "update":
		for field == "particulars" { // takes any JSON
			field = o.one(o.fields[resource]...)
		}
		next := maps.Clone(row)
		value, body := o.value(resource, field)
		next[field] = value
		a := asked{method: "PATCH", path: "/" + resource + "/" + url.PathEscape(id), body: fmt.Sprintf(`{%q:%s}`, field, body),
			apply: func() { table[id] = next }}
		switch {
		case p == nil:
		case field == key:
			a.status = 400
			return a
		case !p.has(field):
			a.status = -1
			return a
		case value == nil && body != "null":
			a.status = 400
			return a
		}
		a.status = writeStatus(p, read, row, next, nil, field)
		if a.status == 200 && read == nil {
			a.status = 204
		}
		return a
	}
	// Only berths are made: their keys are the caller's to choose.
	resource, p, read = "berths", role.may["berths"]["create"], role.may["berths"]["read"]
	code := fmt.Sprintf("Z%03d", o.IntN(1000))
	made := thing{"code": code, "quay": o.one("East", "West"), "length_m": float64(60 + o.IntN(200)), "max_draught_m": float64(3 + o.IntN(9)),
		"shore_power": o.IntN(2) == 0}
	body, _ := json.Marshal(made)
	a := asked{method: "POST", path: "/berths", body: string(body), status: 201, apply: func() { o.tables["berths"][code] = made }}
	switch {
	case p == nil || slices.ContainsFunc(slices.Collect(maps.Keys(made)), func(f string) bool { return !p.has(f) }):
		a.status = -1
	case o.tables["berths"][code] != nil:
		a.status = 409
	case !p.covers(made, slices.Collect(maps.Keys(made))...):
		a.status = -1
	case read == nil || !read.covers(made):
		a.status = 204
	}
	return a
}

// writeStatus is what a change from one row to another is answered with; to is nil for a deletion.
func writeStatus(p, read permits, from, to thing, blocked func() bool, fields ...string) int {
	switch {
	case p == nil:
		return -1
	case !p.covers(from, fields...) && read != nil && read.covers(from):
		return -1
	case !p.covers(from, fields...):
		return 404
	case to == nil && blocked():
		return 409
	case to == nil:
		return 204
	case !p.covers(to, fields...):
		return -1
	case read == nil || !read.covers(to):
		return 204
	}
	return 200
}

// value is a new value for a field: as Go has it after a read, and as a body has it. Fields that are not changed here get a body that is
// refused.
func (o *oracle) value(resource, field string) (any, string) {
	switch resource + "." + field {
	case "vessels.kind":
		v := o.one("cargo", "tanker", "ferry", "fishing")
		return v, fmt.Sprintf("%q", v)
	case "vessels.gross_tonnage", "berths.length_m":
		n := 1 + o.IntN(9000)
		return float64(n), fmt.Sprint(n)
	case "vessels.agent_id":
		n := 1 + o.IntN(40)
		return float64(n), fmt.Sprint(n)
	case "vessels.built_on", "agents.phone":
		return nil, "null"
	case "agents.since":
		v := fmt.Sprintf("20%02d-06-01", o.IntN(20))
		return v, fmt.Sprintf("%q", v)
	case "berths.shore_power":
		v := o.IntN(2) == 0
		return v, fmt.Sprint(v)
	}
	return nil, `{"no":"such"}`
}

// askRows is a random read: a list with a filter, an order and a selection, or one row.
func (o *oracle) askRows(resource string, role *oracleRole, p permits, row thing, field string) asked {
	key := o.keys[resource]
	a := asked{method: "GET", path: "/" + resource, status: 200, rows: []thing{}}
	matches, touched := func(thing) bool { return true }, []string{}
	options := "?top=1000&orderby=" + key
	relation := false
	switch o.IntN(5) {
	case 0:
		id := fmt.Sprint(row[key])
		a.path += "/" + url.PathEscape(id)
		if p != nil {
			if a.status = 404; p.covers(row) {
				a.status, a.rows = 200, []thing{p.shown(row)}
			}
		} else {
			a.status = -1
		}
		return a
	case 1:
		r := o.simple(resource)
		for strings.Contains(r.text, "@caller") || strings.Contains(r.text, "/") {
			r = o.simple(resource)
		}
		matches = r.test
		touched = append(touched, strings.Fields(r.text)[0])
		options += "&filter=" + r.text
	case 2:
		options += "&filter=" + field + " ne null"
		matches, touched = func(t thing) bool { return t[field] != nil }, append(touched, field)
	case 3:
		if resource == "vessels" { // the agent as far as the role sees it is another matter: here only that rows are told
			options += "&filter=agent/name ne null"
			relation = true
			matches = func(t thing) bool { return t["agent_id"] != nil }
		}
	}
	chosen := []string{}
	if o.IntN(2) == 0 {
		chosen = append(chosen, key, field)
		options += "&select=" + key + "," + field
		touched = append(touched, field)
	}
	a.path += options
	if p == nil {
		a.status = -1
		return a
	}
	agents := role.may["agents"]["read"]
	for _, f := range touched {
		if !p.has(f) {
			a.status = -1
		}
	}
	if relation && (agents == nil || !agents.has("name") || !p.has("agent_id")) {
		a.status = -1
	}
	if a.status < 0 {
		return a
	}
	for _, t := range o.tables[resource] {
		hidden := relation && p.known(t)["agent_id"] != nil && !agents.covers(o.tables["agents"][fmt.Sprint(t["agent_id"])], "name")
		if !p.covers(t) || !matches(p.known(t)) || hidden {
			continue
		}
		shown := p.shown(t)
		if len(chosen) > 0 {
			shown = p.shown(t, key, field)
		}
		a.rows = append(a.rows, shown)
	}
	slices.SortFunc(a.rows, func(x, y thing) int {
		if s, ok := x[key].(string); ok {
			return strings.Compare(s, y[key].(string))
		}
		return int(number(x[key]) - number(y[key]))
	})
	return a
}

// Two hundred random documents: what each role reads and writes is what the oracle says. No row or field too many, none too few.
func TestOracle(t *testing.T) {
	t.Parallel()
	r := start(t)
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, r.Harbour)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	o := &oracle{Rand: rand.New(rand.NewPCG(3, 5)), tables: map[string]map[string]thing{}, fields: map[string][]string{},
		keys: map[string]string{"vessels": "id", "agents": "id", "berths": "code", "tugs": "id"}, used: map[string]map[string]bool{}}
	o.load(t, conn)
	for resource, sql := range map[string]string{"vessels": "select distinct vessel_id::text from harbour.port_call",
		"berths": "select distinct berth_code from harbour.port_call where berth_code is not null"} {
		o.used[resource] = all(column(t, r.Harbour, sql))
	}
	counts, sent := map[string]int{}, 0
	for doc := range 200 {
		text := "window: oracle\nsource: " + r.Harbour + "\nresources:\n  vessels: {from: harbour.vessel}\n  agents: {from: harbour.agent}\n  " +
			"berths: {from: harbour.berth}\n  tugs: {from: harbour.tug}\nroles:\n"
		var roles []*oracleRole
		for i := range 2 {
			role, part := o.role(fmt.Sprintf("role%d", i))
			roles, text = append(roles, role), text+part
		}
		if _, err := r.Operator.PushDraft(ctx, "oracle", text); err != nil {
			t.Fatalf("%v\n%s", err, text)
		}
		for i, role := range append(roles, joint(roles[0], roles[1])) {
			for _, op := range []string{"read", "create", "update", "delete"} {
				for range []int{20, 20, 8}[i] {
					o.used["agents"] = map[string]bool{}
					for _, v := range o.tables["vessels"] {
						o.used["agents"][fmt.Sprint(v["agent_id"])] = true
					}
					a := o.ask(role, op)
					way := "alone"
					if op != "read" {
						way = o.one("alone", "with a key", "in a group")
					}
					sent++
					status, answer := a.send(t, r, way, sent, fmt.Sprintf("%s;agent_id=%d", strings.Join(role.names, ", "), callerAgent))
					refused := status == 401 || status == 403
					if a.status < 0 && !refused || a.status >= 0 && status != a.status {
						t.Fatalf("document %d, %s, %s: %s %s %s: %d %.600s\nthe oracle says %d\n%s", doc, role.names, way, a.method, a.path, a.body,
							status, answer, a.status, text)
					}
					counts[fmt.Sprint(op, " ", status)]++
					counts[way]++
					if status < 300 && a.apply != nil {
						a.apply()
					}
					if op == "read" && status == 200 {
						compareAsked(t, a, answer, text)
						if strings.Contains(answer, "@Core.Permissions") {
							counts["with masks"]++
						}
					}
				}
			}
		}
	}
	if counts["with masks"] < 100 {
		t.Errorf("%d answers hide fields in some of their rows, which says little", counts["with masks"])
	}
	kept := maps.Clone(o.tables)
	o.tables = map[string]map[string]thing{}
	o.load(t, conn)
	if !reflect.DeepEqual(kept, o.tables) {
		t.Error("the tables are not what the oracle has kept")
	}
	t.Logf("%v", counts)
}

// send asks as the roles of a caller: by itself, with an Idempotency-Key, or as the one request of a group.
func (a asked) send(t *testing.T, r *harbourtest.Running, way string, n int, actAs string) (status int, text string) {
	t.Helper()
	method, path, body, headers := a.method, "/draft/oracle"+a.path, a.body, []string{"Act-As", actAs}
	switch way {
	case "with a key":
		headers = append(headers, "Idempotency-Key", fmt.Sprint("oracle-", n))
	case "in a group":
		one := fmt.Sprintf(`{"id":"1","atomicityGroup":"g","method":%q,"url":%q`, method, strings.TrimPrefix(a.path, "/"))
		if body != "" {
			one += `,"body":` + body
		}
		method, path, body = "POST", "/draft/oracle/$batch", `{"requests":[`+one+`}]}`
	}
	res := write(t, r, r.Operator.Token, method, path, body, headers...)
	if way != "in a group" {
		return res.StatusCode, res.Text
	}
	return outcome(t, res), res.Text
}

func compareAsked(t *testing.T, a asked, text, document string) {
	t.Helper()
	var got []thing
	if strings.Contains(a.path, "?") {
		var l struct{ Value []thing }
		decode(t, text, &l)
		got = l.Value
	} else {
		one := thing{}
		decode(t, text, &one)
		delete(one, "@context")
		got = []thing{one}
	}
	if len(got) != len(a.rows) {
		t.Fatalf("%s: %d rows, the oracle says %d\n%s", a.path, len(got), len(a.rows), document)
	}
	for i := range got {
		if !reflect.DeepEqual(got[i], a.rows[i]) {
			t.Fatalf("%s: row %d is %v, the oracle says %v\n%s", a.path, i, got[i], a.rows[i], document)
		}
	}
}
