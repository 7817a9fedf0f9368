package payload_test

import (
	"strings"
	"testing"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/coretest"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/payload"
	"eagerwindow/internal/core/window"
)

func TestRead(t *testing.T) {
	t.Parallel()
	m, policy := coretest.Saltmere(t)
	tests := []struct {
		name, role, resource string
		op                   window.Operation
		body, want           string // the values, or the mistakes, parted by |
	}{
		{"create", "harbour_master", "port_calls", window.Create,
			`{"vessel_id":3,"eta":"2026-07-03T10:00:00+02:00","draught_m":7.10,"hazardous":true,"remarks":null}`,
			"vessel_id=3 eta=2026-07-03T08:00:00Z draught_m=7.10 hazardous=true remarks=null"},
		{"all at once", "harbour_master", "port_calls", window.Create,
			`{"vessel_id":"3","eta":"tomorrow","draught_m":"7.1","status":"expectd","hazardous":"true","id":1,"statuss":1}`,
			`vessel_id: an integer is expected, this is a string; leave out the quotes|` +
				`eta: a timestamp is expected, such as "2026-07-01T12:30:00Z"; this is "tomorrow"|` +
				`draught_m: a number (at most 4 digits, 2 of them after the point) is expected, this is a string; leave out the quotes|` +
				`status: one of "expected", "anchored", "alongside", "departed", "cancelled" is expected, this is "expectd"; ` +
				`did you mean "expected"?|hazardous: a boolean is expected, this is a string; leave out the quotes|` +
				`statuss: port_calls has no such field; did you mean "status"?`},
		{"missing", "harbour_master", "port_calls", window.Create, `{"eta":"2026-07-03T10:00:00Z"}`,
			"vessel_id: is required: an integer|draught_m: is required: a number (at most 4 digits, 2 of them after the point)"},
		{"null", "harbour_master", "port_calls", window.Update, `{"eta":null}`, "eta: can't be null: a timestamp is expected"},
		{"precision", "harbour_master", "port_calls", window.Update, `{"draught_m":123.5}`,
			"draught_m: at most 2 digits fit before the point, this has 3"},
		{"scale", "harbour_master", "port_calls", window.Update, `{"draught_m":7.125}`,
			"draught_m: at most 2 digits fit after the point, this has 3"},
		{"length", "harbour_master", "vessels", window.Update, `{"flag":"NOR"}`, "flag: at most 2 characters fit, this has 3"},
		{"exponents", "harbour_master", "port_calls", window.Update, `{"draught_m":1.25E1}`, "draught_m=1.25E1"},
		{"exponent before the point", "harbour_master", "port_calls", window.Update, `{"draught_m":1e2}`,
			"draught_m: at most 2 digits fit before the point, this has 3"},
		{"exponent after the point", "harbour_master", "port_calls", window.Update, `{"draught_m":125e-3}`,
			"draught_m: at most 2 digits fit after the point, this has 3"},
		{"exponent of nought", "harbour_master", "port_calls", window.Update, `{"draught_m":0.00e999}`,
			"draught_m: more than 0 is expected, this is 0.00e999"},
		{"huge exponent", "harbour_master", "port_calls", window.Update, `{"draught_m":1e99999999999}`, "draught_m: the number is out of range"},
		{"range", "harbour_master", "port_calls", window.Update, `{"vessel_id":3000000000}`,
			"vessel_id: the number is out of range: from -2147483648 to 2147483647"},
		{"fraction", "harbour_master", "port_calls", window.Update, `{"vessel_id":3.5}`,
			"vessel_id: an integer is expected, this is a number; it has to be whole"},
		{"fraction by exponent", "harbour_master", "port_calls", window.Update, `{"vessel_id":30e-2}`,
			"vessel_id: an integer is expected, this is a number; it has to be whole"},
		{"none of the labels", "harbour_master", "port_calls", window.Update, `{"status":"lost"}`,
			`status: one of "expected", "anchored", "alongside", "departed", "cancelled" is expected, this is "lost"`},
		{"whole", "harbour_master", "port_calls", window.Update, `{"vessel_id":3.0}`, "vessel_id=3"},
		{"whole by exponent", "harbour_master", "port_calls", window.Update, `{"vessel_id":0.03e4}`, "vessel_id=300"},
		{"whole and negative", "harbour_master", "port_calls", window.Update, `{"vessel_id":-120.00E-1}`, "vessel_id=-12"},
		{"nought", "harbour_master", "port_calls", window.Update, `{"vessel_id":0e-999}`, "vessel_id=0"},
		{"whole and wide", "harbour_master", "port_calls", window.Update, `{"vessel_id":3e9}`,
			"vessel_id: the number is out of range: from -2147483648 to 2147483647"},
		{"whole and much wider", "harbour_master", "port_calls", window.Update, `{"vessel_id":1.0e999}`,
			"vessel_id: the number is out of range: from -2147483648 to 2147483647"},
		{"whole and endless", "harbour_master", "port_calls", window.Update, `{"vessel_id":1e99999999999}`,
			"vessel_id: the number is out of range: from -2147483648 to 2147483647"},
		{"unquoted", "harbour_master", "vessels", window.Update, `{"imo_number":9000097}`,
			"imo_number: a string of at most 7 characters is expected, this is a number; put it in quotes"},
		{"arrays", "harbour_master", "vessels", window.Update, `{"tags":["ice","a\"b\\",null],"particulars":{"a":[1]}}`,
			`tags={"ice","a\"b\\",NULL} particulars={"a":[1]}`},
		{"array item", "harbour_master", "vessels", window.Update, `{"tags":["ice",5]}`,
			"tags: item 2: a string is expected, this is a number; put it in quotes"},
		{"arrays in arrays", "harbour_master", "vessels", window.Update, `{"tags":[["a"],["b"]]}`, `tags={{"a"},{"b"}}`},
		{"ragged arrays", "harbour_master", "vessels", window.Update, `{"tags":[["a"],"b"]}`,
			"tags: item 2: the items of an array are arrays of one length, or none is an array"},
		{"arrays of two lengths", "harbour_master", "vessels", window.Update, `{"tags":[["a"],["b","c"]]}`,
			"tags: item 2: the items of an array are arrays of one length, or none is an array"},
		{"too deep an array", "harbour_master", "vessels", window.Update, `{"tags":` + strings.Repeat("[", 9000) + strings.Repeat("]", 9000) +
			`}`, "tags: item 1: item 1: item 1: item 1: item 1: arrays stand at most 6 deep"},
		{"six deep", "harbour_master", "vessels", window.Update, `{"tags":[[[[[["a"]]]]]]}`, `tags={{{{{{"a"}}}}}}`},
		{"bytes", "harbour_master", "dues", window.Update, `{"receipt":"-_8A","amount":1e2}`, `amount=1e2 receipt=\xfbff00`},
		{"nul", "harbour_master", "vessels", window.Update, `{"name":"a\u0000b"}`, "name: the text holds a NUL character, which can't be stored"},
		{"surrogate", "harbour_master", "vessels", window.Update, `{"name":"a\ud800b"}`,
			"name: the text holds half of a surrogate pair, which is no character"},
		{"surrogates", "harbour_master", "vessels", window.Update,
			`{"name":"\ud800\ud800","flag":"\udc00","particulars":{"a":["\\\udbff","x"]},"tags":["\ud83c\n"]}`,
			"name: the text holds half of a surrogate pair, which is no character|flag: the text holds half of a surrogate pair, " +
				"which is no character|particulars: the text holds half of a surrogate pair, which is no character|" +
				"tags: item 1: the text holds half of a surrogate pair, which is no character"},
		{"escaped escapes", "harbour_master", "vessels", window.Update, `{"name":"\\u0000","particulars":{"\\ud800":"\ud83c\udf0a"}}`,
			`name=\u0000 particulars={"\\ud800":"\ud83c\udf0a"}`},
		{"nul in json", "harbour_master", "vessels", window.Update, `{"particulars":{"a\u0000":1}}`,
			"particulars: the text holds a NUL character, which can't be stored"},
		{"numbers for texts", "harbour_master", "pilotages", window.Create,
			`{"port_call_id":1,"pilot_id":5,"direction":true,"boarded_at":1751371200}`,
			`pilot_id: a uuid is expected, such as "0e2c7a52-3f6d-4c1b-9f0e-2d8a6c4b1e90"; this is a number|` +
				`direction: one of "inbound", "outbound" is expected, this is a boolean|` +
				`boarded_at: a timestamp is expected, such as "2026-07-01T12:30:00Z"; this is a number`},
		{"surrogate pair", "harbour_master", "vessels", window.Update, `{"name":"\ud83c\udf0a \ufffd"}`, "name=🌊 \ufffd"},
		{"preset", "agent", "port_calls", window.Create, `{"vessel_id":3,"eta":"2026-07-03T10:00:00Z","draught_m":7,"status":"departed"}`,
			"status: the service sets this field for your role; leave it out"},
		{"not granted", "agent", "port_calls", window.Update, `{"draught_m":7}`,
			"draught_m: your role may not update this field; it may update eta, etd"},
		{"checks", "harbour_master", "vessels", window.Update, `{"gross_tonnage":0,"imo_number":"12","flag":"NO"}`,
			"gross_tonnage: more than 0 is expected, this is 0|imo_number: text of the form ^[0-9]{7}$ is expected, this is \"12\""},
		{"ranges", "harbour_master", "cargo_items", window.Update, `{"stowage":{"lower":3,"upper":null,"bounds":"(]"}}`,
			`stowage={"bounds":"(]","lower":"3","upper":null}`},
		{"empty range", "harbour_master", "cargo_items", window.Update, `{"stowage":{"empty":true}}`, `stowage={"empty":"true"}`},
		{"bad range", "harbour_master", "cargo_items", window.Update, `{"stowage":{"lower":"3"}}`,
			"stowage: lower: an integer is expected, this is a string; leave out the quotes"},
		{"no range", "harbour_master", "cargo_items", window.Update, `{"stowage":[1,5]}`,
			`stowage: a range is expected, this is an array; as in {"lower":1,"upper":5,"bounds":"[)"}`},
		{"nested rows", "harbour_master", "port_calls", window.Create, `{"eta":"2026-07-03T10:00:00Z","draught_m":7,"vessel":{"name":"Ada",` +
			`"flag":"NOR"},"tugs":[{"@id":"tugs/3"},{"name":5},7],"pilotages":[{"direction":"in"}]}`,
			`vessel/flag: at most 2 characters fit, this has 3|vessel/imo_number: is required: a string of at most 7 characters|` +
				`vessel/kind: is required: one of "cargo", "tanker", "ferry", "fishing", "pleasure"|` +
				`vessel/gross_tonnage: is required: a number (at most 10 digits, 2 of them after the point)|` +
				`tugs/1/name: a string is expected, this is a number; put it in quotes|tugs/1/bollard_pull_t: is required: a number (at most 5 ` +
				`digits, 1 of them after the point)|tugs/2: an object with the row's fields is expected, this is a number|` +
				`pilotages/0/direction: one of "inbound", "outbound" is expected, this is "in"|pilotages/0/pilot_id: is required: a uuid`},
		{"nested changes", "harbour_master", "port_calls", window.Update,
			`{"vessel":{"flag":"NO"},"tugs@delta":[{"@removed":{"reason":"changed"},"@id":"tugs/3"},{"id":4,"name":"Olga"}],"due":null}`, ""},
		{"nested mistakes", "harbour_master", "port_calls", window.Update,
			`{"vessel@delta":[],"tugs":{},"tugs@delta":[{"@removed":{"reason":"gone"}},{"@id":3}]}`,
			`vessel@delta: vessel leads to one row: there is nothing to be added or removed; write "vessel"|` +
				`tugs: tugs leads to many rows: an array is expected, this is an object|` +
				`tugs@delta/0/@removed: {"reason":"changed"} takes the row out of the relation, {"reason":"deleted"} deletes it|` +
				`tugs@delta/0: say which row of tugs: "@id", or all of its key|tugs@delta/1/@id: the path of a row is expected, as in "tugs/…"`},
		{"nested and not granted", "agent", "port_calls", window.Update,
			`{"eta":"2026-07-03T10:00:00Z","vessel":{"@id":"vessels/3"},"tugs":[{"name":"Ada","bollard_pull_t":3}]}`,
			`vessel: your role may not update vessel_id, which holds this relation; it may update eta, etd|` +
				`tugs/0: role "agent" may not create tugs; it may create port_calls`},
		{"key and control", "harbour_master", "port_calls", window.Update, `{"@context":"x","id":17,"remarks":"a"}`, "remarks=a"},
		{"key sent back", "harbour_master", "berths", window.Update, `{"code":"N99","quay":"x"}`, "quay=x"},
		{"nothing", "agent", "port_calls", window.Update, `{}`,
			"the body names no field to change; of those of port_calls, your role may change: eta, etd"},
		{"no body", "agent", "port_calls", window.Update, ` `, "the body is empty; a JSON object with the row's fields is expected"},
		{"array", "agent", "port_calls", window.Update, `[1]`,
			"a JSON object with the row's fields is expected, this is an array; many rows are written at once with " +
				"PATCH of the collection: {\"value\":[…]}"},
		{"not json", "agent", "port_calls", window.Update, "{\n  \"eta\": tomorrow}",
			"the body is not JSON: line 2, column 11: invalid character 'o' in literal true (expecting 'r')"},
		{"cut short", "agent", "port_calls", window.Update, `{"eta": `, "the body is not JSON: line 1, column 8: unexpected end of JSON input"},
		{"twice", "agent", "port_calls", window.Update, `{"eta":null,"eta":null}`, `"eta" stands twice in the body`},
		{"escaped names", "agent", "port_calls", window.Update, `{"\u0065ta":null,"et\u0064":null}`,
			"eta: can't be null: a timestamp is expected"},
		{"twice, once escaped", "agent", "port_calls", window.Update, `{"eta":null,"\u0065ta":null}`, `"eta" stands twice in the body`},
		{"twice among many", "agent", "port_calls", window.Update, `{"a@type":1,"b@type":1,"c@type":1,"d@type":1,"e@type":1,"f@type":1,` +
			`"g@type":1,"h@type":1,"i@type":1,"j@type":1,"k@type":1,"l@type":1,"m@type":1,"n@type":1,"o@type":1,"p@type":1,"q@type":1,"r@type":1,` +
			`"a@type":2}`, `"a@type" stands twice in the body`},
		{"many", "agent", "port_calls", window.Update, `{"a@type":1,"b@type":1,"c@type":1,"d@type":1,"e@type":1,"f@type":1,"g@type":1,` +
			`"h@type":1,"i@type":1,"j@type":1,"k@type":1,"l@type":1,"m@type":1,"n@type":1,"o@type":1,"p@type":1,"q@type":1,"r@type":1,` +
			`"etd":"2026-07-01T12:30:00+02:00"}`, "etd=2026-07-01T10:30:00Z"},
		{"more", "agent", "port_calls", window.Update, `{} {}`,
			"the body is not JSON: line 1, column 4: invalid character '{' after top-level value"},
		{"utf8", "agent", "port_calls", window.Update, "{\"eta\":\"\xff\"}", "the body is not valid UTF-8"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			scope, err := policy.Scope(access.Caller{Subject: "x", Roles: []string{tt.role}})
			if err != nil {
				t.Fatal(err)
			}
			r := m.Resource(tt.resource)
			row, err := read([]byte(tt.body), r, tt.op, scope)
			got := ""
			switch f, _ := fault.From(err); {
			case err == nil:
				got = written(row)
			case f == nil:
				t.Fatalf("%v is no fault", err)
			case len(f.Details) > 0:
				var parts []string
				for _, d := range f.Details {
					parts = append(parts, d.Message)
				}
				got = strings.Join(parts, "|")
			default:
				got = f.Message
			}
			if got != tt.want {
				t.Errorf("got  %s\nwant %s", got, tt.want)
			}
		})
	}
}

// read parses a body and reads it, as requests do.
func read(text []byte, r *model.Resource, op window.Operation, scope *access.Scope) (*payload.Row, error) {
	body, err := payload.Parse(text)
	if err != nil {
		return nil, err
	}
	return body.Read(r, op, scope)
}

func replace(text []byte, r *model.Resource, scope *access.Scope) (*payload.Row, error) {
	body, err := payload.Parse(text)
	if err != nil {
		return nil, err
	}
	return body.Replace(r, scope)
}

func delta(text []byte, r *model.Resource, scope *access.Scope) ([]*payload.Item, error) {
	body, err := payload.Parse(text)
	if err != nil {
		return nil, err
	}
	return body.Delta(r, scope)
}

func FuzzRead(f *testing.F) {
	m, policy := coretest.Saltmere(f)
	scope, _ := policy.Scope(access.Caller{Subject: "x", Roles: []string{"harbour_master"}})
	f.Add([]byte(`{"name":"a","tags":["x",null],"particulars":{"a":1},"gross_tonnage":1.5e3,"built_on":"2020-01-01"}`))
	f.Add([]byte(`{"name":`))
	f.Add([]byte(`{"port_calls":[{"@id":"port_calls/3"},{"tugs":[{"id":3}],"berth":null}],"agent":{"name":"x","email":"y"},` +
		`"port_calls@delta":[{"@removed":{"reason":"changed"},"id":3}]}`))
	f.Add([]byte(`{"@context":"#$delta","value":[{"id":3,"flag":"NO"},{"@id":"vessels/3","name":"A"},{"@removed":{"reason":"deleted"},` +
		`"id":4}]}`))
	f.Add([]byte(`{"requests":[{"id":"1","method":"POST","url":"tugs","headers":{"a":"b"},"body":{}},{"id":"2","method":"GET","url":"$1",` +
		`"dependsOn":["1"],"atomicityGroup":"g"}]}`))
	f.Add([]byte(`{"@id":"tugs/3","@odata.id":null}`))
	f.Fuzz(func(t *testing.T, body []byte) {
		r := m.Resource("vessels")
		_, created := read(body, r, window.Create, scope)
		_, changed := read(body, r, window.Update, scope)
		_, replaced := replace(body, r, scope)
		_, many := delta(body, r, scope)
		_, batch := payload.Batch(body)
		_, link := payload.Link(body)
		for _, err := range []error{created, changed, replaced, many, batch, link} {
			if _, ok := fault.From(err); err != nil && !ok {
				t.Errorf("%v is no fault", err)
			}
		}
	})
}

// BenchmarkRead reads the body of a create as most are: small, flat and in order.
func BenchmarkRead(b *testing.B) {
	m, policy := coretest.Saltmere(b)
	scope, err := policy.Scope(access.Caller{Roles: []string{"harbour_master"}})
	if err != nil {
		b.Fatal(err)
	}
	body := []byte(`{"port_call_id":4711,"description":"Oats","hs_code":"100400","tonnes":12.5}`)
	b.ReportAllocs()
	for b.Loop() {
		if _, err := read(body, m.Resource("cargo_items"), window.Create, scope); err != nil {
			b.Fatal(err)
		}
	}
}
