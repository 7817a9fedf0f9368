package describe_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/coretest"
	"eagerwindow/internal/core/describe"
	"eagerwindow/internal/core/jsontree"
	"eagerwindow/internal/core/window"
)

var place = describe.Place{Server: "http://127.0.0.1:8080/api/saltmere", Token: "http://127.0.0.1:8080/auth/saltmere/token", Bearer: true}

var everyRole = []string{"", "board", "agent", "pilot", "office", "harbour_master"}

// operation is what is read back of one.
type operation struct {
	OperationID, Summary, Description string
	Tags                              []string
	Deprecated                        bool
	Security                          []map[string][]string
	Parameters                        []struct {
		Ref  string `json:"$ref"`
		Name string
	}
	Responses map[string]struct {
		Ref     string `json:"$ref"`
		Headers map[string]any
	}
}

// described is the description as JSON reads it back.
type described struct {
	Paths      map[string]map[string]json.RawMessage
	Components struct {
		Schemas map[string]struct {
			Properties map[string]json.RawMessage
			Required   []string
		}
		Parameters map[string]struct{ Name string }
	}
}

func (d described) operation(t *testing.T, method, path string) operation {
	t.Helper()
	var op operation
	if err := json.Unmarshal(d.Paths[path][method], &op); err != nil {
		t.Fatalf("%s %s: %v", method, path, err)
	}
	return op
}

func scopeOf(t *testing.T, policy *access.Policy, role string) *access.Scope {
	t.Helper()
	scope, err := policy.Scope(access.Caller{Subject: "x", Operator: role == "", Roles: []string{role}})
	if err != nil {
		t.Fatal(err)
	}
	return scope
}

func describeAs(t *testing.T, role string, at describe.Place, form describe.Form) ([]byte, described) {
	t.Helper()
	_, policy := coretest.Saltmere(t)
	out, err := describe.Write(policy, scopeOf(t, policy, role), at, form)
	if err != nil {
		t.Fatal(err)
	}
	var d described
	if !form.YAML {
		if err := json.Unmarshal(out, &d); err != nil {
			t.Fatal(err)
		}
	}
	return out, d
}

// Every form for every role meets the official schema of its version and what linters recommend, is the same each time, and the whole of it
// is small.
func TestForms(t *testing.T) {
	t.Parallel()
	_, policy := coretest.Saltmere(t)
	for _, role := range everyRole {
		scope := scopeOf(t, policy, role)
		for _, version := range describe.Versions {
			for _, at := range []describe.Place{place, {Server: place.Server, Formats: true}, {Server: place.Server, Resource: "arrivals_board"},
				{Server: place.Server, Resource: "port_calls", Token: place.Token}} {
				if at.Resource != "" && (role == "board") != (at.Resource == "arrivals_board") {
					continue
				}
				doc, err := describe.Describe(policy, scope, at, version)
				if err != nil {
					t.Fatalf("%q, OpenAPI %s, %+v: %v", role, version, at, err)
				}
				wrong, err := describe.Check(doc)
				if err != nil || wrong != nil {
					t.Errorf("%q, OpenAPI %s, %+v: %v %v", role, version, at, wrong, err)
				}
				asJSON, form := jsontree.Append(nil, doc, false), describe.Form{Version: version, YAML: true}
				text, err := describe.Write(policy, scope, at, form)
				if err != nil {
					t.Fatal(err)
				}
				if back, err := jsontree.Parse(text); err != nil || !bytes.Equal(jsontree.Append(nil, back, false), asJSON) {
					t.Errorf("%q, OpenAPI %s, %+v: YAML and JSON differ, or two descriptions of one model: %v", role, version, at, err)
				}
				if at != place || version != "3.1" {
					continue
				}
				if most := map[string]int{"": 160_000, "agent": 40_000, "pilot": 40_000, "board": 10_000}[role]; most > 0 && len(asJSON) > most {
					t.Errorf("as %q it has %d bytes, more than %d", role, len(asJSON), most)
				}
			}
		}
	}
}

func TestRoles(t *testing.T) {
	t.Parallel()
	tests := []struct {
		role, path string
		methods    string
		schema     string
		has, lacks []string
	}{
		{"", "/port_calls/{id}", "delete get parameters patch put", "port_call", []string{"remarks", "vessel", "tugs", "tugs@count"}, nil},
		{"board", "/arrivals_board", "get", "arrivals_board", []string{"id", "eta", "status", "tug_count", "vessel"},
			[]string{"remarks", "tugs", "draught_m"}},
		{"board", "/arrivals_board", "get", "arrivals_board.vessel", []string{"name", "flag"}, []string{"id", "agent_id"}},
		{"agent", "/berth_load", "get", "berth_load", []string{"berth_code", "hours"}, nil},
		{"agent", "/port_calls", "get patch post", "port_call-create", []string{"vessel_id", "eta", "etd", "draught_m"},
			[]string{"status", "id", "remarks"}},
		{"agent", "/port_calls/{id}", "get parameters patch put", "port_call", []string{"vessel", "due"}, []string{"remarks", "inspections"}},
		{"pilot", "/pilotages/{port_call_id}/{pilot_id}/{direction}", "get parameters patch put", "pilotage-change", []string{"boarded_at"},
			[]string{"pilot_id"}},
		{"office", "/vessels/{id}", "get parameters patch put", "vessel", []string{"flag"}, []string{"internal_note"}},
		{"", "/weather_log", "get post", "weather_log", []string{"wind_kn"}, nil},
		{"", "/{collection}/$filter({where})/$each", "delete parameters patch", "vessel-change", []string{"agent", "port_calls",
			"port_calls@delta"},
			nil},
		{"", "/port_calls/{id}/{relation}/$ref", "delete parameters post put", "port_call-create", []string{"vessel", "tugs", "cargo_items"},
			[]string{"tugs@delta"}},
		{"", "/dues/{port_call_id}/{relation}/$ref", "", "port_call-replace", []string{"vessel_id"}, []string{"tugs"}},
		{"agent", "/port_calls/{id}/{relation}/$ref", "delete parameters post put", "port_call-change", []string{"eta", "tugs"},
			[]string{"vessel"}},
		{"", "/$batch", "post", "batch-of-requests", []string{"requests"}, nil},
		{"", "/port_calls/{id}/{relation}/$ref", "delete parameters post put", "links-to-rows", []string{"value"}, nil},
	}
	for _, tt := range tests {
		_, d := describeAs(t, tt.role, place, describe.Form{})
		var methods []string
		for m := range d.Paths[tt.path] {
			methods = append(methods, m)
		}
		slices.Sort(methods)
		if got := strings.Join(methods, " "); got != tt.methods {
			t.Errorf("%s as %q has %q, want %q", tt.path, tt.role, got, tt.methods)
		}
		properties := d.Components.Schemas[tt.schema].Properties
		for _, name := range tt.has {
			if properties[name] == nil {
				t.Errorf("schema %s for %q lacks %s", tt.schema, tt.role, name)
			}
		}
		for _, name := range tt.lacks {
			if properties[name] != nil {
				t.Errorf("schema %s for %q shows %s", tt.schema, tt.role, name)
			}
		}
	}
	if _, d := describeAs(t, "board", place, describe.Form{}); len(d.Paths) != 5 {
		t.Errorf("the anonymous role's description has %d paths, want the collection of arrivals_board, its count, its row, "+
			"its vessel and the batch", len(d.Paths))
	}
	if _, d := describeAs(t, "agent", place, describe.Form{}); !slices.Equal(d.Components.Schemas["port_call-create"].Required,
		[]string{"eta", "draught_m"}) {
		t.Errorf("required in a create: %v", d.Components.Schemas["port_call-create"].Required)
	}
}

// What writes take besides their body, and what they answer, is described for each, as far as the role may see it.
func TestWrites(t *testing.T) {
	t.Parallel()
	for _, tt := range []struct{ role, method, path, parameters, statuses string }{
		{"harbour_master", "post", "/tugs", "tugs-select tugs-expand prefer idempotency-key", "201 204 409 422 default"},
		{"harbour_master", "patch", "/tugs", "prefer idempotency-key", "200 204 409 412 422 default"},
		{"harbour_master", "patch", "/berths/{code}", "berths-select berths-expand prefer if-match if-none-match idempotency-key",
			"200 201 204 404 409 412 422 default"},
		{"harbour_master", "put", "/berths/{code}", "berths-select berths-expand prefer if-match if-none-match idempotency-key",
			"200 201 204 404 409 412 422 default"},
		{"harbour_master", "delete", "/berths/{code}", "if-match idempotency-key", "204 404 409 412 default"},
		{"harbour_master", "get", "/berths/{code}", "berths-select berths-expand", "200 404 default"},
		{"harbour_master", "get", "/weather_log", "", "200 400 default"},
		{"harbour_master", "patch", "/{collection}/$filter({where})/$each", "prefer idempotency-key", "200 204 409 422 default"},
		{"harbour_master", "delete", "/{collection}/$filter({where})/$each", "prefer idempotency-key", "204 409 default"},
		{"harbour_master", "post", "/port_calls/{id}/{relation}/$ref", "", "204 404 default"},
		{"harbour_master", "delete", "/port_calls/{id}/{relation}/$ref", "link-id", "204 404 409 default"},
		{"agent", "patch", "/port_calls/{id}", "port_calls-select port_calls-expand prefer if-match idempotency-key",
			"200 204 404 409 412 422 default"},
	} {
		_, d := describeAs(t, tt.role, place, describe.Form{})
		op := d.operation(t, tt.method, tt.path)
		var parameters, statuses []string
		for _, p := range op.Parameters {
			if p.Ref != "" {
				parameters = append(parameters, strings.TrimPrefix(p.Ref, "#/components/parameters/"))
			}
		}
		for status := range op.Responses {
			statuses = append(statuses, status)
		}
		slices.Sort(statuses)
		if got := strings.Join(parameters, " "); tt.parameters != "" && got != tt.parameters {
			t.Errorf("%s %s as %s takes %q, want %q", tt.method, tt.path, tt.role, got, tt.parameters)
		}
		if got := strings.Join(statuses, " "); got != tt.statuses {
			t.Errorf("%s %s as %s answers %q, want %q", tt.method, tt.path, tt.role, got, tt.statuses)
		}
	}
}

// Who may is said for each operation of the whole description, and what the role sees in that of a role.
func TestSecurity(t *testing.T) {
	t.Parallel()
	_, d := describeAs(t, "", place, describe.Form{})
	for _, tt := range []struct{ method, path, want string }{
		{"get", "/vessels", "[map[token:[agent]] map[token:[pilot]] map[token:[office]] map[token:[harbour_master]] map[bearer:[]]]"},
		{"delete", "/vessels/{id}", "[map[token:[harbour_master]] map[bearer:[]]]"},
		{"get", "/arrivals_board", "[map[] map[token:[office]] map[token:[harbour_master]] map[bearer:[]]]"},
		{"post", "/vessels", "[]"}, // as most: above all of them
	} {
		if got := fmt.Sprint(d.operation(t, tt.method, tt.path).Security); got != tt.want {
			t.Errorf("%s %s: %s, want %s", tt.method, tt.path, got, tt.want)
		}
	}
}

// Examples satisfy the schemas of what they are examples of, and fit together.
func TestExamples(t *testing.T) {
	t.Parallel()
	_, policy := coretest.Saltmere(t)
	for _, role := range everyRole {
		doc, err := describe.OpenAPI(policy, scopeOf(t, policy, role), place)
		if err != nil {
			t.Fatal(err)
		}
		tried := tryExamples(t, doc)
		if role == "" && tried < 35 {
			t.Errorf("there are %d examples", tried)
		}
	}
	out, _ := describeAs(t, "", place, describe.Form{})
	var whole struct {
		Components struct{ Schemas map[string]json.RawMessage }
	}
	if err := json.Unmarshal(out, &whole); err != nil {
		t.Fatal(err)
	}
	var call, vessel struct{ Examples []map[string]any }
	for name, into := range map[string]any{"port_call": &call, "vessel": &vessel} {
		if err := json.Unmarshal(whole.Components.Schemas[name], into); err != nil {
			t.Fatal(err)
		}
	}
	if call.Examples[0]["vessel_id"] != vessel.Examples[0]["id"] {
		t.Errorf("the call of vessel %v, and the vessel %v", call.Examples[0]["vessel_id"], vessel.Examples[0]["id"])
	}
}

// tryExamples holds the examples of rows and bodies against their schemas, and returns how many there are.
func tryExamples(t *testing.T, doc *jsontree.Object) (tried int) {
	t.Helper()
	c := jsonschema.NewCompiler()
	c.AssertFormat()
	if err := c.AddResource("https://x.example/d", jsontree.Plain(doc)); err != nil {
		t.Fatal(err)
	}
	try := func(at string, example any) {
		schema, err := c.Compile("https://x.example/d#" + at)
		if err == nil {
			err = schema.Validate(jsontree.Plain(example))
		}
		if err != nil {
			t.Errorf("%s: %v", at, err)
		}
		tried++
	}
	for _, m := range doc.Object("components").Object("schemas").Members {
		for _, example := range m.Value.(*jsontree.Object).List("examples") {
			try("/components/schemas/"+m.Name, example)
		}
	}
	for _, path := range doc.Object("paths").Members {
		for _, m := range path.Value.(*jsontree.Object).Members {
			op, _ := m.Value.(*jsontree.Object)
			media := op.Object("requestBody").Object("content").Object("application/json")
			if example := media.Get("example"); example != nil {
				try(strings.TrimPrefix(media.Object("schema").Text("$ref"), "#"), example)
			}
		}
	}
	return tried
}

// Models of all sorts of types, names, keys and rights are described as every reader of descriptions expects, with examples that fit.
func TestRandomModels(t *testing.T) {
	t.Parallel()
	for seed := range uint64(50) {
		random := rand.New(rand.NewPCG(seed, 1))
		cat := randomCatalog(random)
		text := "window: w\nsource: s\nversion: 1.0.0\nabout: Any.\ndescription: {contact: {name: x}, license: {name: MIT}}\nroles:\n  r: {may: {"
		for _, table := range cat.Tables {
			rights := []string{"create", "create, update", "create, update, delete"}[random.IntN(3)]
			if table.Primary == nil {
				rights = "create"
			}
			text += fmt.Sprintf("%q: [read, %s], ", table.Name, rights)
		}
		text += "}}\nresources:\n"
		for _, table := range cat.Tables {
			text += fmt.Sprintf("  %s: {from: s.%q}\n", table.Name, table.Name)
		}
		parsed, err := window.Parse([]byte(strings.ReplaceAll(text, `s."`, `"s.`)), nil)
		if err != nil {
			t.Fatalf("%d: %v\n%s", seed, err, text)
		}
		policy, err := access.Bind(parsed, cat)
		if err != nil {
			t.Fatalf("%d: %v\n%s", seed, err, text)
		}
		for _, role := range []string{"", "r"} {
			for _, version := range describe.Versions {
				doc, err := describe.Describe(policy, scopeOf(t, policy, role), place, version)
				if err != nil {
					t.Fatal(err)
				}
				wrong, err := describe.Check(doc)
				if err != nil || wrong != nil {
					t.Errorf("%d, %q, OpenAPI %s: %.1000v %v", seed, role, version, wrong, err)
				}
				if version == "3.1" {
					tryExamples(t, doc)
				}
			}
		}
	}
}

// randomCatalog is up to eight tables with columns of any type and names of any letters.
func randomCatalog(random *rand.Rand) *catalog.Catalog {
	scalars := []string{"bool", "int2", "int4", "int8", "numeric", "float4", "float8", "text", "varchar", "bpchar", "date", "time",
		"timestamptz",
		"interval", "uuid", "bytea", "jsonb", "inet", "xml"}
	var anyType func(depth int) *catalog.Type
	anyType = func(depth int) *catalog.Type {
		name := scalars[random.IntN(len(scalars))]
		c := &catalog.Type{Kind: catalog.Scalar, Name: name, SQL: name, Ordered: true}
		switch {
		case name == "numeric" && random.IntN(2) == 0:
			c.Precision = 1 + random.IntN(20)
			c.Scale = random.IntN(c.Precision + 1)
		case name == "varchar" || name == "bpchar":
			c.Length = 1 + random.IntN(6)
		}
		switch random.IntN(6) {
		case 0:
			values := []string{"on", "off", "half way", "\"x\""}[:1+random.IntN(4)]
			return &catalog.Type{Kind: catalog.Enum, Schema: "s", Name: fmt.Sprintf("kind%d", len(values)), SQL: "s.kind", Values: values}
		case 1:
			if depth == 0 {
				return &catalog.Type{Kind: catalog.Array, Name: "_" + name, SQL: name + "[]", Element: anyType(1)}
			}
		case 2:
			if depth == 0 {
				return &catalog.Type{Kind: catalog.Composite, Schema: "s", Name: "pair", SQL: "s.pair", Fields: []*catalog.Column{
					{Name: "one", Type: anyType(1)}, {Name: "other", Type: anyType(1)}}}
			}
		case 3:
			if depth == 0 {
				return &catalog.Type{Kind: catalog.Range, Name: "int4range", SQL: "int4range", Element: &catalog.Type{Kind: catalog.Scalar,
					Name: "int4", SQL: "int4", Ordered: true}}
			}
		}
		return c
	}
	letters := []string{"a", "zeile", "größe", "x_y", "Total", "error", "mistake", "value", "row_id", "data"}
	cat := &catalog.Catalog{Database: "x", Version: 150000}
	for i := range 1 + random.IntN(8) {
		table := &catalog.Table{Schema: "s", Name: fmt.Sprintf("%s%d", letters[random.IntN(len(letters))], i), Kind: catalog.Base,
			Insertable: true,
			Updatable:  true, Deletable: true}
		key := &catalog.Column{Name: "id", Type: &catalog.Type{Kind: catalog.Scalar, Name: "int4", SQL: "int4", Ordered: true}, NotNull: true}
		table.Columns = append(table.Columns, key)
		if random.IntN(4) > 0 {
			table.Primary = []string{"id"}
		}
		for n := range random.IntN(9) {
			c := &catalog.Column{Name: fmt.Sprintf("%s%d", letters[random.IntN(len(letters))], n), Type: anyType(0), NotNull: random.IntN(2) == 0}
			if random.IntN(3) == 0 {
				c.Comment = "Says \"what\" it is: 100 % <b>."
			}
			if name := c.Type.Name; name == "int4" || name == "numeric" {
				table.Checks = append(table.Checks, catalog.Check{Name: c.Name, Columns: []string{c.Name},
					Expression: fmt.Sprintf("(%s > 0)", catalog.Quote(c.Name))})
				if c.Type.Scale == c.Type.Precision && name == "numeric" {
					c.Type.Precision++
				}
			}
			table.Columns = append(table.Columns, c)
		}
		if len(cat.Tables) > 0 && random.IntN(2) == 0 {
			to := cat.Tables[random.IntN(len(cat.Tables))]
			if to.Primary != nil {
				table.Columns = append(table.Columns, &catalog.Column{Name: "to_" + to.Name, Type: key.Type, NotNull: random.IntN(2) == 0})
				table.ForeignKeys = append(table.ForeignKeys, catalog.ForeignKey{Name: "to", Columns: []string{"to_" + to.Name}, ToSchema: "s",
					ToTable: to.Name, ToColumns: []string{"id"}})
			}
		}
		cat.Tables = append(cat.Tables, table)
	}
	return cat
}
