package window_test

import (
	"bytes"
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"go.yaml.in/yaml/v4"

	"eagerwindow/internal/core/coretest"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/window"
)

func environment(name string) (string, bool) {
	v, ok := map[string]string{"HARBOUR_DSN": "postgres://x"}[name]
	return v, ok
}

func TestParse(t *testing.T) {
	t.Parallel()
	doc, err := window.Parse([]byte("window: w\nsource: ${HARBOUR_DSN}\nversion: 2.30\nresources:\n  a: {from: s.a, "+
		"page: {max: none}}\n  b:\nroles:\n  r: {may: {a: read, b: [read, create], '*': {update: {fields: x}}}}\n"), environment)
	if err != nil {
		t.Fatal(err)
	}
	if doc.Source.Value != "postgres://x" || doc.Version != "2.30" || doc.Resources[0].Page != (window.Page{Default: 50}) ||
		doc.Resources[1].Name.Line != 6 || len(doc.Roles[0].May[1].Allow) != 2 {
		t.Errorf("parsed %+v", doc)
	}
}

// Every mistake with its place; the JSON Schema refuses the same documents, where a schema can see the mistake.
func TestMistakes(t *testing.T) {
	t.Parallel()
	schema := compileSchema(t)
	tests := []struct {
		name, document, want string
		beyond               bool // a schema can't see it
	}{
		{"empty", "", `line 1, column 1: the document is empty; it needs at least "window", "source" and "resources"`, false},
		{"not yaml", "window: [", "this is not YAML", true},
		{"tab", "window: w\nresources:\n\tvessels: {}\n", "a tab indents this line; YAML is indented with blanks", true},
		{"unknown key", "window: w\nsource: s\nresuorces: {}",
			`line 3, column 1: unknown key "resuorces" in the document; did you mean "resources"?`, false},
		{"missing source", "window: w", `"source" is missing`, false},
		{"bad name", "window: Big Port\nsource: s", `line 1, column 9: the window's name "Big Port"`, false},
		{"wrong type", "window: w\nsource: s\nresources: [a]", `line 3, column 12: resources is a mapping of names to values, this is a list`,
			false},
		{"operation", "window: w\nsource: s\nroles: {r: {may: {a: raed}}}", `unknown operation "raed"; did you mean "read"?`, false},
		{"both lists", "window: w\nsource: s\nroles: {r: {may: {a: {read: {fields: [x], except: [y]}}}}}",
			`"fields" and "except" exclude each other`, false},
		{"page", "window: w\nsource: s\nresources: {a: {page: {default: 0}}}", `default is a number of rows from 1`, false},
		{"page order", "window: w\nsource: s\nresources: {a: {page: {default: 20, max: 10}}}", `over the maximum of 10`, true},
		{"variable", "window: w\nsource: ${NOPE_DSN}", `there is no variable NOPE_DSN that documents may read (see EAGER_DOCUMENT_ENV); set ` +
			`it, or write ` +
			`${NOPE_DSN:-default}`, true},
		{"variable in a text", "window: w\nsource: s\ntitle: ${SECRET}",
			"${SECRET} can't be read here: only source, issuers and servers read variables", true},
		{"variable of another kind", "window: w\nsource: ${A_URL}",
			"${A_URL} can't be read here: source reads variables whose names end in _DSN", true},
		{"DSN elsewhere", "window: w\nsource: s\nsign_in: {issuers: [{issuer: a, jwks: '${A_DSN}', role: r, audience: a}]}",
			"${A_DSN} can't be read here: issuers and servers read variables whose names do not end in _DSN", true},
		{"twice", "window: w\nsource: s\nresources:\n  a: {}\n  a: {}", `"a" stands twice in resources, first in line 4`, true},
		{"two anonymous", "window: w\nsource: s\nroles: {a: {anonymous: true}, b: {anonymous: true}}",
			`only one role can be anonymous, and "a" is already`, true},
		{"set on read", "window: w\nsource: s\nroles: {a: {may: {x: {read: {set: {y: 1}}}}}}", `"set" belongs to create and update, not to read`,
			true},
		{"resource name", "window: w\nsource: s\nresources: {1a: {}}", `"1a" can't be the name of a resource`, false},
		{"sign up as what", "window: w\nsource: s\nsign_in: {accounts: {sign_up: true}}", `"default_role" is missing`, true},
		{"sign up as whom", "window: w\nsource: s\nsign_in: {accounts: {default_role: agnt}}\nroles: {agent: {}}",
			`line 3, column 36: there is no role "agnt"`, true},
		{"sign up as anyone", "window: w\nsource: s\nsign_in: {accounts: {default_role: a}}\nroles: {a: {anonymous: true}}",
			`an account needs another one`, true},
		{"issuer", "window: w\nsource: s\nsign_in: {issuers: [{issuer: x, jwks: keys.json, role: r, audience: a}]}",
			`jwks is the URL of a key set`, true},
		{"issuer's audience", "window: w\nsource: s\nsign_in: {issuers: [{issuer: x, jwks: 'https://x/k', role: r}]}", `"audience" is missing`,
			false},
		{"origin", "window: w\nsource: s\nbrowsers: {origins: ['https://board.example/']}", `an origin is scheme, host and port`, true},
		{"way without goal", "window: w\nsource: s\nresources: {a: {relations: {b: {on: {x: y}}}}}", `says how but not where: add "to"`, true},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			_, err := window.Parse([]byte(tt.document), environment)
			if err == nil || !strings.Contains(err.Error(), tt.want) {
				t.Errorf("got %v\nwant %s", err, tt.want)
			}
			var v any
			if yaml.Unmarshal([]byte(tt.document), &v) == nil && !tt.beyond && schema.Validate(v) == nil {
				t.Error("the JSON Schema accepts the document")
			}
		})
	}
}

func TestManyMistakesAtOnce(t *testing.T) {
	t.Parallel()
	_, err := window.Parse([]byte("window: W\nsource: s\nroles: {r: {may: {a: raed}, misc: 1}}"), environment)
	f, _ := fault.From(err)
	if f == nil || len(f.Details) != 3 {
		t.Errorf("got %v, want three mistakes", err)
	}
}

func compileSchema(t *testing.T) *jsonschema.Schema {
	t.Helper()
	v, err := jsonschema.UnmarshalJSON(bytes.NewReader(window.Schema))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("window.json", v); err != nil {
		t.Fatal(err)
	}
	s, err := c.Compile("window.json")
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func TestSchemaAcceptsHarbour(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../../../demo/saltmere.window.yaml")
	if err != nil {
		t.Fatal(err)
	}
	var v any
	if err := yaml.Unmarshal(text, &v); err != nil {
		t.Fatal(err)
	}
	if err := compileSchema(t).Validate(v); err != nil {
		t.Error(err)
	}
}

func TestDraft(t *testing.T) {
	t.Parallel()
	document, err := window.Draft("port", coretest.Catalog(t), "harbour")
	if err != nil {
		t.Fatal(err)
	}
	m, policy := coretest.Bind(t, document)
	if len(m.Resources) != 15 || m.Resource("port_call") == nil || m.AnonymousRole() != nil || len(policy.RoleNames()) != 1 {
		t.Errorf("the draft gives %v for %v", m.ResourceNames(), policy.RoleNames())
	}
	for _, tt := range []struct{ name, schema, want string }{{"Port", "harbour", "lower-case"},
		{"port", "harbor", `did you mean "harbour"?`}} {
		if _, err := window.Draft(tt.name, coretest.Catalog(t), tt.schema); err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("Draft(%q, %q): %v, want %s", tt.name, tt.schema, err, tt.want)
		}
	}
}

// The pieces of a query's SQL are all of it, and a parameter is found wherever SQL takes one and nowhere else.
func FuzzPieces(f *testing.F) {
	for _, seed := range []string{"select :n", "select ':n', \":n\", 1::int, :n::text -- :n", "select $x$ :n $x$, E'\\':n' || :n /* :n */",
		"e':n", "$$ :n", ":n:n", "é:n"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, sql string) {
		text, err := json.Marshal(sql)
		if err != nil {
			t.Skip()
		}
		doc, err := window.Parse([]byte(`{"window":"w","source":"s","queries":{"q":{"parameters":{"n":"integer"},"sql":`+string(text)+`}}}`),
			environment)
		if err != nil {
			return
		}
		q := doc.Queries[0]
		joined := ""
		for _, p := range q.Pieces {
			if p.Offset != len(joined) {
				t.Fatalf("%q: a piece at %d stands at %d", sql, p.Offset, len(joined))
			}
			if p.Parameter >= 0 && p.Text != ":n" {
				t.Fatalf("%q: %q is taken for a parameter", sql, p.Text)
			}
			joined += p.Text
			q.At(p.Offset)
		}
		if joined != q.SQL.Value {
			t.Fatalf("%q is parted into %q", q.SQL.Value, joined)
		}
	})
}

// Queries and saved views are read with their places.
func TestQueriesAndViews(t *testing.T) {
	t.Parallel()
	doc, err := window.Parse([]byte(`window: w
source: s
queries:
  q:
    parameters: {since: date, quay: text?}
    sql: |
      select a
        from b where c >= :since
      and (:quay is null or d = ':quay' or e = :quay)
saved_views:
  v: {of: calls, select: [a, b], filter: a gt 1, page: {default: 5, max: none}}
`), environment)
	if err != nil {
		t.Fatal(err)
	}
	q, v := doc.Queries[0], doc.Views[0]
	if len(q.Parameters) != 2 || q.Parameters[0].Optional || !q.Parameters[1].Optional || q.Parameters[1].Type.Value != "text" {
		t.Errorf("parameters: %+v", q.Parameters)
	}
	places := map[string]window.Pos{}
	parameters := 0
	for _, p := range q.Pieces {
		if p.Parameter >= 0 {
			parameters++
			places[p.Text] = q.At(p.Offset)
		}
	}
	if parameters != 3 || places[":since"] != (window.Pos{Line: 8, Column: 27}) || places[":quay"] != (window.Pos{Line: 9, Column: 48}) {
		t.Errorf("%d parameters at %v", parameters, places)
	}
	if v.Of.Value != "calls" || v.Select.Value != "a,b" || v.Filter.Value != "a gt 1" || v.Page.Default != 5 || v.Page.Max != 0 {
		t.Errorf("view: %+v", v)
	}
}
