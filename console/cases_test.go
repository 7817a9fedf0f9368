package console_test

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"reflect"
	"testing"
)

// evaluate runs functions of the console's modules in node.
func evaluate(t *testing.T, cases []call) []any {
	t.Helper()
	if _, err := os.Stat("node_modules/vite"); err != nil {
		if os.Getenv("TEST_ALL") != "" {
			t.Fatal("the console's packages are not installed; run make console")
		}
		t.Skip("the console's packages are not installed")
	}
	in, err := json.Marshal(cases)
	if err != nil {
		t.Fatal(err)
	}
	c := exec.Command("node", "cases.mjs")
	c.Stdin = bytes.NewReader(in)
	var errs bytes.Buffer
	c.Stderr = &errs
	out, err := c.Output()
	if err != nil {
		t.Fatalf("%v\n%s", err, errs.Bytes())
	}
	var results []struct {
		Value any    `json:"value"`
		Error string `json:"error"`
	}
	if err := json.Unmarshal(out, &results); err != nil {
		t.Fatal(err)
	}
	values := make([]any, len(results))
	for i, r := range results {
		if values[i] = r.Value; r.Error != "" {
			t.Errorf("%s(%v): %s", cases[i].Call, cases[i].Args, r.Error)
		}
	}
	return values
}

type call struct {
	Module string `json:"module"`
	Call   string `json:"call"`
	Args   []any  `json:"args"`
}

const (
	sentenceModule = "pages/ask/sentence.ts"
	writingModule  = "pages/ask/writing.ts"
	speakerModule  = "pages/ask/speaker.ts"
)

// An address is read into a sentence and written again as the same request.
func TestSentenceBothWays(t *testing.T) {
	t.Parallel()
	same := []string{
		"/port_calls",
		"/port_calls?top=20",
		"/port_calls?select=id,status&expand=vessel(select=name,flag),tugs(select=name;orderby=name;top=2)&filter=status eq 'expected'" +
			" and eta lt 2026-07-01T00:00:00Z&orderby=eta desc&top=20&count=true",
		"/vessels?filter=contains(name,'it''s') and flag in ('NO','IS') and built_on eq null",
		"/vessels?filter=not (name eq 'a' or flag eq 'NO')&top=5",
		"/vessels?filter=agent/name eq 'A and B'",
		"/port_calls/17",
		"/port_calls/17/tugs?top=5",
		"/port_calls?apply=groupby((status),aggregate($count as number,draught_m with average as mean))&orderby=number desc",
		"/port_calls?apply=aggregate(draught_m with max as deepest)",
		"/port_calls?apply=filter(status eq 'expected')/groupby((berth_code))",
		"/port_calls?compute=year(eta) as y&select=id,y",
		"/vessels?search=petrel OR wren&skip=10&top=5",
		"/port_calls?orderby=tugs/$count desc",
		"/port_calls?top=5&$format=csv",
		"/port_calls?filter=status eq @s&@s='expected'",
		"/port_calls?top=abc",
		"/vessels?search=a&filter=name eq 'x&y=?z'",
	}
	var cases []call
	for _, address := range same {
		cases = append(cases, call{"../cases.ts", "both", []any{address, []string{}}})
	}
	withParameters := "/berth_load?from=2026-01-01&to=2026-02-01&filter=hours gt 350&top=5"
	cases = append(cases, call{"../cases.ts", "both", []any{withParameters, []string{"from", "to", "quay"}}})
	got := evaluate(t, cases)
	for i, want := range append(same, withParameters) {
		if got[i] != want {
			t.Errorf("%s\nbecomes %v", want, got[i])
		}
	}
}

func TestSentence(t *testing.T) {
	t.Parallel()
	harbour := map[string]any{"resources": []any{
		resource("vessels", []string{"id"}, relation("port_calls", "port_calls", true)),
		resource("port_calls", []string{"id"}, relation("vessel", "vessels", false), relation("tugs", "tugs", true)),
		resource("tugs", []string{"id"}), resource("tide_readings", []string{"station", "read_at"}), resource("berth_load", nil)}}
	condition := func(field, operator, literal string) map[string]any {
		return map[string]any{"field": field, "operator": operator, "literal": literal}
	}
	leadsTo := func(path, to string, single bool) (call, any) {
		return call{"../cases.ts", "leadsTo", []any{harbour, path}}, map[string]any{"to": to, "single": single}
	}
	var cases []call
	var wants []any
	for _, tt := range []struct {
		call string
		args []any
		want any
	}{
		{"wordOf", []any{condition("eta", "lt", "2026-07-01T00:00:00Z")}, "is before"},
		{"wordOf", []any{condition("draught_m", "lt", "7.5")}, "is under"},
		{"wordOf", []any{condition("name", "startswith", "'A'")}, "begins with"},
		{"literalOf", []any{"string", "it's"}, "'it''s'"},
		{"literalOf", []any{"integer", "7"}, "7"},
		{"literalOf", []any{"string", "null"}, "null"},
		{"literalOf", []any{"enum", "a, b", "in"}, "('a','b')"},
		{"typedOf", []any{"('a','it''s')"}, "a, it's"},
		{"typedOf", []any{"'it''s'"}, "it's"},
		{"spoken", []any{"2026-07-01T00:00:00Z"}, "1 Jul 2026"},
		{"spoken", []any{"2026-07-01T12:00:00Z"}, "2026-07-01T12:00:00Z"},
		{"operatorsFor", []any{"boolean"}, []any{"eq", "ne"}},
		{"encoded", []any{"/a?filter=x eq 'ä+#'"}, "/a?filter=x%20eq%20'%C3%A4%2B%23'"},
	} {
		cases, wants = append(cases, call{sentenceModule, tt.call, tt.args}), append(wants, tt.want)
	}
	for _, tt := range []struct {
		path, to string
		single   bool
	}{
		{"port_calls", "port_calls", false}, {"port_calls/17", "port_calls", true}, {"port_calls/17/vessel", "vessels", true},
		{"port_calls/17/tugs", "tugs", false}, {"tide_readings/N/2026-01-01T00:00:00Z", "tide_readings", true},
		{"berth_load(from=1,to=2)", "berth_load", true}, {"port_calls/$count", "", false}, {"nothing", "", false},
		{"port_calls/17/status", "", false},
	} {
		c, want := leadsTo(tt.path, tt.to, tt.single)
		cases, wants = append(cases, c), append(wants, want)
	}
	for i, got := range evaluate(t, cases) {
		if !reflect.DeepEqual(got, wants[i]) {
			t.Errorf("%s(%v) is %v, want %v", cases[i].Call, cases[i].Args, got, wants[i])
		}
	}
}

func resource(name string, key []string, relations ...any) map[string]any {
	return map[string]any{"name": name, "key": key, "relations": append([]any{}, relations...), "fields": []any{
		map[string]any{"name": "id", "kind": "integer", "values": []any{}, "about": ""},
		map[string]any{"name": "status", "kind": "enum", "values": []any{"expected", "departed"}, "about": ""}}}
}

func relation(name, to string, many bool) map[string]any {
	return map[string]any{"name": name, "to": to, "many": many}
}

// Who asks is written as Act-As (RFC 9651) and read back.
func TestSpeaker(t *testing.T) {
	t.Parallel()
	var cases []call
	var wants []any
	for _, tt := range []struct {
		roles  []any
		claims map[string]any
		header any
	}{
		{[]any{}, map[string]any{}, nil},
		{[]any{"agent"}, map[string]any{"agent_id": "3"}, "agent;agent_id=3"},
		{[]any{"agent", "pilot"}, map[string]any{"agent_id": "3", "pilot_id": "db202dc9-ae78"},
			`agent;agent_id=3;pilot_id="db202dc9-ae78", pilot`},
		{[]any{"agent"}, map[string]any{"name": `a "b"; c, d`}, `agent;name="a \"b\"; c, d"`},
		{[]any{"agent"}, map[string]any{"n": "1234567890123456789"}, `agent;n="1234567890123456789"`},
	} {
		speaker := map[string]any{"roles": tt.roles, "claims": tt.claims}
		cases, wants = append(cases, call{speakerModule, "actAs", []any{speaker}}), append(wants, tt.header)
		if header, is := tt.header.(string); is {
			role := ""
			for i, r := range tt.roles {
				if i > 0 {
					role += ","
				}
				role += r.(string)
			}
			cases, wants = append(cases, call{speakerModule, "speakerOf", []any{header}}), append(wants, map[string]any{"role": role,
				"claims": tt.claims})
		}
	}
	for i, got := range evaluate(t, cases) {
		if !reflect.DeepEqual(got, wants[i]) {
			t.Errorf("%s(%v) is %v, want %v", cases[i].Call, cases[i].Args, got, wants[i])
		}
	}
}

// What a write would touch is said before it is sent, and a filtered read becomes a write of every row.
func TestWriting(t *testing.T) {
	t.Parallel()
	var cases []call
	var wants []any
	add := func(name string, want any, args ...any) {
		cases, wants = append(cases, call{writingModule, name, args}), append(wants, want)
	}
	add("addressFor", "/port_calls/$filter(@f)/$each?@f=status eq 'x'", "PATCH", "/port_calls?filter=status eq 'x'&top=5")
	add("addressFor", "/port_calls?filter=status eq 'x'&top=20&count=true", "GET", "/port_calls/$filter(@f)/$each?@f=status eq 'x'")
	add("addressFor", "/port_calls/", "PUT", "/port_calls?filter=a eq 1")
	add("addressFor", "/port_calls", "POST", "/port_calls/17")
	add("addressFor", "/port_calls/17", "DELETE", "/port_calls/17")
	add("methodOf", "GET", "TRACE")
	add("conditionOf", "a eq 1", "/t/$filter(@f)/$each?@f=a eq 1")
	add("touchOf", map[string]any{"says": "Links two rows.", "button": "Link"}, "POST", "/port_calls/17/tugs/$ref", "{}")
	add("touchOf", map[string]any{"says": "Runs 2 requests in their order.", "button": "Run 2 requests"}, "POST", "/$batch",
		`{"requests":[{},{}]}`)
	add("touchOf", map[string]any{"read": "/tugs/1", "says": "tugs/1", "button": "Delete 1 row"}, "DELETE", "/tugs/1", "")
	add("touchOf", map[string]any{"read": "/tugs/$filter(@f)/$each?@f=id gt 1", "many": "PATCH", "says": "tugs", "button": "Change"}, "PATCH",
		"/tugs/$filter(@f)/$each?@f=id gt 1", "{}")
	add("touchOf", map[string]any{"says": "Changes or adds 1 row of tugs and deletes 1 row, all or none.", "button": "Write 2 rows"}, "PATCH",
		"/tugs", `{"value":[{"id":1},{"@removed":{"reason":"deleted"}}]}`)
	for i, got := range evaluate(t, cases) {
		if !reflect.DeepEqual(got, wants[i]) {
			t.Errorf("%s(%v) is %v, want %v", cases[i].Call, cases[i].Args, got, wants[i])
		}
	}
}

// A row rule is offered the fields along relations, the values of an enumeration, and claims.
func TestRuleCompletion(t *testing.T) {
	t.Parallel()
	calls := resource("port_calls", []string{"id"}, relation("vessel", "vessels", false), relation("tugs", "tugs", true))
	model := map[string]any{"resources": []any{calls, resource("vessels", []string{"id"}), resource("tugs", []string{"id"})}}
	var cases []call
	texts := []string{"vessel/", "sta", "status eq ", "status eq 'e", "@c", "id eq 1 and tugs/", "nothing/x"}
	for _, text := range texts {
		cases = append(cases, call{"../cases.ts", "offered", []any{text, model, calls, []string{"agent_id"}}})
	}
	wants := []any{[]any{"id", "status"}, []any{"id", "status", "vessel", "tugs"}, []any{"'expected'", "'departed'"},
		[]any{"'expected'", "'departed'"}, []any{"@caller/agent_id"}, []any{"id", "status"}, nil}
	for i, got := range evaluate(t, cases) {
		list, _ := got.([]any)
		want, _ := wants[i].([]any)
		if texts[i] == "sta" && len(list) > len(want) { // words follow
			list = list[:len(want)]
		}
		if !reflect.DeepEqual(list, want) && len(list)+len(want) > 0 {
			t.Errorf("%q is offered %v, want %v", texts[i], list, want)
		}
	}
}

// What pages compute beside the sentence: words for figures, plans, descriptions, requests of failed checks.
func TestWords(t *testing.T) {
	t.Parallel()
	const format, openapi, plan = "look/format.ts", "pages/description/openapi.ts", "pages/ask/plan.ts"
	schema := func(members ...any) map[string]any {
		m := map[string]any{}
		for i := 0; i < len(members); i += 2 {
			m[members[i].(string)] = members[i+1]
		}
		return m
	}
	tug := schema("type", "object", "properties", schema("id", schema("type", "integer")))
	doc := schema("info", schema("title", "t", "version", "1"), "tags", []any{schema("name", "tugs")},
		"components", schema("schemas", schema("tug", tug, "state", schema("enum", []any{"new", "old", nil}))),
		"paths", schema("/tugs/{id}", schema("parameters", []any{schema("name", "id", "in", "path", "schema", schema("examples", []any{7}))},
			"get", schema("operationId", "get-tug", "summary", "Read a tug", "tags", []any{"tugs"})),
			"/tugs", schema("get", schema("operationId", "list-tugs", "tags", []any{"tugs"}))))
	ref := schema("$ref", "#/components/schemas/tug")
	scan := schema("Node Type", "Seq Scan", "Relation Name", "tug", "Actual Rows", 3, "Actual Loops", 2, "Actual Total Time", 2,
		"Total Cost", 9)
	sort := schema("Node Type", "Sort", "Sort Key", []any{"p.name DESC"}, "Actual Rows", 6, "Actual Loops", 1, "Actual Total Time", 8,
		"Total Cost", 12, "Plans", []any{scan})
	line := func(depth, share, rows float64, says string) map[string]any {
		return map[string]any{"depth": depth, "says": says, "detail": "", "share": share, "rows": rows}
	}
	tests := []struct {
		name, module, call string
		args               []any
		want               any
	}{
		{"one row", format, "counted", []any{1, "row"}, "1 row"},
		{"many rows", format, "counted", []any{12000, "row"}, "12,000 rows"},
		{"an odd plural", format, "counted", []any{2, "table has", "tables have"}, "2 tables have"},
		{"few bytes", format, "bytes", []any{900}, "900 B"},
		{"many bytes", format, "bytes", []any{2 << 20}, "2.0 MB"},
		{"a short time", format, "took", []any{1.26}, "1.3 ms"},
		{"a longer one", format, "took", []any{1500}, "1.5 s"},
		{"UTC", format, "utc", []any{"2026-07-01T10:00:00+02:00"}, "2026-07-01 08:00:00 UTC"},
		{"JSON", format, "pretty", []any{`{"a":1}`}, "{\n  \"a\": 1\n}"},
		{"no JSON", format, "pretty", []any{"id,name"}, "id,name"},
		{"what a rule adds", plan, "marked", []any{"a where r1 and b or r1", []any{"r1", "r2"}}, []any{
			map[string]any{"text": "a where ", "rule": false}, map[string]any{"text": "r1", "rule": true},
			map[string]any{"text": " and b or ", "rule": false}, map[string]any{"text": "r1", "rule": true}}},
		{"no rule", plan, "marked", []any{"a", []any{}}, []any{map[string]any{"text": "a", "rule": false}}},
		{"a type", openapi, "saying", []any{doc, schema("type", []any{"string", "null"}, "format", "date-time")},
			map[string]any{"type": "date-time or null", "values": ""}},
		{"a bound", openapi, "saying", []any{doc, schema("type", "number", "exclusiveMinimum", 0)},
			map[string]any{"type": "number", "values": "above 0"}},
		{"an enumeration", openapi, "saying", []any{doc, schema("$ref", "#/components/schemas/state")},
			map[string]any{"type": "string", "values": "new · old"}},
		{"a list", openapi, "saying", []any{doc, schema("type", "array", "items", schema("type", "integer"))},
			map[string]any{"type": "list of integer", "values": ""}},
		{"fields of a row", openapi, "fieldsOf", []any{doc, ref}, map[string]any{"schema": map[string]any(tug), "rows": false}},
		{"fields of a page", openapi, "fieldsOf", []any{doc, schema("properties", schema("value", schema("items", ref)))},
			map[string]any{"schema": map[string]any(tug), "rows": true}},
		{"a request to copy", openapi, "example", []any{schema("method", "GET", "path", "/tugs/{id}", "parameters", []any{
			schema("name", "id", "in", "path", "schema", schema("examples", []any{7})), schema("name", "top", "in", "query")})}, "/tugs/7?top=2"},
		{"a write to copy", openapi, "example", []any{schema("method", "POST", "path", "/tugs", "parameters", []any{})}, "/tugs"},
		{"a plan", plan, "lines", []any{[]any{schema("Plan", sort)}},
			[]any{line(0, 0.5, 6, "sort by name desc"), line(1, 0.5, 6, "all of tug")}},
		{"what was sent", "pages/checks/sent.ts", "sentOf", []any{"PATCH tugs/1\nAct-As: office\n{\"a\":1}"},
			map[string]any{"method": "PATCH", "path": "/tugs/1", "actAs": "office", "body": `{"a":1}`}},
		{"a refusal to publish", "pages/release/words.ts", "withoutFlags",
			[]any{"the release would break callers; if that is meant, publish with --allow-breaking\ntugs is gone"},
			"the release would break callers\ntugs is gone"},
	}
	cases := make([]call, len(tests))
	for i, tt := range tests {
		cases[i] = call{tt.module, tt.call, tt.args}
	}
	for i, got := range evaluate(t, cases) {
		tt := tests[i]
		want, err := json.Marshal(tt.want)
		if err != nil {
			t.Fatal(err)
		}
		if have, err := json.Marshal(got); err != nil || string(have) != string(want) {
			t.Errorf("%s: %s, want %s", tt.name, have, want)
		}
	}
}
