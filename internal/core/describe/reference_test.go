package describe_test

import (
	"bytes"
	"encoding/json"
	"maps"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"go.yaml.in/yaml/v4"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/coretest"
	"eagerwindow/internal/core/describe"
	"eagerwindow/internal/core/window"
)

// referenceBase is a document in which every key of the reference has its place.
const referenceBase = `
window: board
source: saltmere
resources:
  agents: {from: harbour.agent}
  vessels: {from: harbour.vessel}
  tugs: {from: harbour.tug}
  berths: {from: harbour.berth}
  port_calls: {from: harbour.port_call}
saved_views: {due: {of: port_calls}}
queries: {named: {sql: select id from harbour.tug}}
roles:
  agent: {claims: {agent_id: integer}, may: {"*": read, port_calls: {read: {}, create: {}}}}
sign_in: {issuers: [{issuer: "https://id.example", jwks: "https://id.example/k", role: role, audience: board}]}
`

// referencePlaces are the sections of the reference: where their examples stand in the base, and where their keys stand in the schema.
var referencePlaces = map[string]struct{ at, schema string }{
	"The document":                      {"", ""},
	"resources.NAME":                    {"resources/port_calls", "$defs/resource"},
	"resources.NAME.page":               {"resources/port_calls/page", "$defs/page"},
	"resources.NAME.fields.COLUMN":      {"resources/port_calls/fields/eta", "$defs/resource/properties/fields/additionalProperties"},
	"resources.NAME.relations.RELATION": {"resources/port_calls/relations/berth", "$defs/resource/properties/relations/additionalProperties"},
	"saved_views.NAME":                  {"saved_views/due", "$defs/saved_view"},
	"queries.NAME":                      {"queries/named", "$defs/query"},
	"roles.NAME":                        {"roles/agent", "$defs/role"},
	"roles.NAME.limits":                 {"roles/agent/limits", "$defs/role/properties/limits"},
	"roles.NAME.may.RESOURCE.OPERATION": {"roles/agent/may/port_calls/create", "$defs/allowance"},
	"sign_in":                           {"sign_in", "properties/sign_in"},
	"sign_in.accounts":                  {"sign_in/accounts", "$defs/accounts"},
	"sign_in.issuers":                   {"sign_in/issuers/0", "$defs/issuer"},
	"browsers":                          {"browsers", "properties/browsers"},
	"publish":                           {"publish", "properties/publish"},
	"description":                       {"description", "properties/description"},
}

// referenceAlongside is what an example of a key needs beside it.
var referenceAlongside = map[string]string{
	"sign_up": "default_role: agent", "anonymous": "claims: {}",
	"sql": "parameters: {id: integer}", "parameters": "sql: 'select :id::int as n, :quay::text as quay'",
	"to": "on: {berth_code: code}", "on": "to: berths", "through": "to: tugs",
}

var referenceRow = regexp.MustCompile("(?m)^\\| `([^`]+)` \\| (.*?) \\| `(.+?)` \\| .*\\|$")

// The reference of the window document has every key of the schema and no other; each example can be bound to the harbour; and what is
// said to hold where a key is left out makes no difference to the description.
func TestReference(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../../../docs/window-document.md")
	if err != nil {
		t.Fatal(err)
	}
	var schema any
	if err := json.Unmarshal(window.Schema, &schema); err != nil {
		t.Fatal(err)
	}
	told := map[string]bool{}
	for _, section := range strings.Split(string(text), "\n## ")[1:] {
		title, body, _ := strings.Cut(section, "\n")
		place, known := referencePlaces[title]
		if !known {
			t.Errorf("the reference has a section %q", title)
			continue
		}
		told[title] = true
		var keys []string
		for _, row := range referenceRow.FindAllStringSubmatch(body, -1) {
			key, missing, example := row[1], row[2], row[3]
			keys = append(keys, key)
			if !strings.HasPrefix(example, key+":") {
				t.Errorf("%s: the example of %s is %s", title, key, example)
			}
			bindReference(t, place.at, key, example+"\n"+referenceAlongside[key])
			if code, is := strings.CutPrefix(missing, "`"); is {
				given := bindReference(t, place.at, key, strings.TrimSuffix(code, "`"))
				if left := bindReference(t, place.at, key, ""); !bytes.Equal(given, left) {
					t.Errorf("%s: %s is not what holds where %s is left out", title, missing, key)
				}
			}
		}
		want := slices.Sorted(maps.Keys(at(t, schema, place.schema+"/properties").(map[string]any)))
		if got := slices.Sorted(slices.Values(keys)); !slices.Equal(got, want) {
			t.Errorf("%s: the reference has %v, the schema %v", title, got, want)
		}
		required, _ := at(t, schema, place.schema).(map[string]any)["required"].([]any)
		if strings.Count(body, "| it must be given |") != len(required) {
			t.Errorf("%s: %v must be given", title, required)
		}
	}
	if len(told) != len(referencePlaces) {
		t.Errorf("the reference has only the sections %v", slices.Sorted(maps.Keys(told)))
	}
}

// at is the value below names, between slashes.
func at(t *testing.T, v any, path string) any {
	t.Helper()
	for name := range strings.SplitSeq(path, "/") {
		switch within := v.(type) {
		case map[string]any:
			if name != "" {
				v = within[name]
			}
		case []any:
			v = within[0]
		}
	}
	if v == nil {
		t.Fatalf("there is nothing at %s", path)
	}
	return v
}

// bindReference puts an example into the base, and returns how the whole API is described then.
func bindReference(t *testing.T, where, key, example string) []byte {
	t.Helper()
	var doc, added map[string]any
	if err := yaml.Unmarshal([]byte(referenceBase), &doc); err != nil {
		t.Fatal(err)
	}
	if err := yaml.Unmarshal([]byte(example), &added); err != nil {
		t.Fatalf("%s: %v", example, err)
	}
	var into any = doc
	for name := range strings.SplitSeq(where, "/") {
		switch within := into.(type) {
		case map[string]any:
			if name == "" {
				continue
			}
			if within[name] == nil {
				within[name] = map[string]any{}
			}
			into = within[name]
		case []any:
			into = within[0]
		}
	}
	if where == "" { // what the document has of it may not speak of what the example leaves out
		maps.DeleteFunc(doc, func(k string, _ any) bool { return k == key || k != "resources" && k != "window" && k != "source" })
	}
	delete(into.(map[string]any), key)
	maps.Copy(into.(map[string]any), added)
	text, err := yaml.Marshal(doc)
	if err != nil {
		t.Fatal(err)
	}
	parsed, err := window.Parse(text, func(string) (string, bool) { return "", false })
	if err != nil {
		t.Errorf("%s at %q: %v", example, where, err)
		return nil
	}
	p, err := access.Bind(parsed, coretest.Catalog(t))
	if err != nil {
		t.Errorf("%s at %q: %v", example, where, err)
		return nil
	}
	scope, err := p.Scope(access.Caller{Subject: "x", Operator: true})
	if err != nil {
		t.Fatal(err)
	}
	out, err := describe.Write(p, scope, place, describe.Form{})
	if err != nil {
		t.Fatal(err)
	}
	return out
}
