package payload_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/coretest"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/payload"
)

// asFault is a fault's message, and those of its details.
func asFault(err error) string {
	f, ok := fault.From(err)
	if !ok {
		return fmt.Sprintf("no fault: %v", err)
	}
	parts := []string{f.Code + " " + f.Message}
	for _, d := range f.Details {
		parts = append(parts, d.Code+" "+d.Message)
	}
	return strings.Join(parts, "|")
}

// The items of a delta: which rows they speak of, what they give them, and what must be so.
func TestDelta(t *testing.T) {
	t.Parallel()
	m, policy := coretest.Saltmere(t)
	for _, tt := range []struct{ name, role, resource, value, want string }{
		{"by key", "harbour_master", "tugs", `{"id":1,"name":"Otter"}`, `value/0 key [1] name=Otter`},
		{"by path", "harbour_master", "tugs", `{"@id":"tugs/1","name":"Otter"},{"@odata.id":"tugs(2)","name":null}`,
			`field.null value/1/name: can't be null: a string is expected`},
		{"by path alone", "harbour_master", "tugs", `{"@id":"tugs/1"}`, `value/0 at tugs/1`},
		{"new", "harbour_master", "tugs", `{"name":"Puck","bollard_pull_t":33}`, `value/0 name=Puck bollard_pull_t=33`},
		{"gone", "harbour_master", "tugs",
			`{"@removed":{"reason":"deleted"},"id":3},{"@odata.removed":{"reason":"deleted"},"@id":"tugs/4","name":5}`,
			`value/0 key [3] deleted; value/1 at tugs/4 deleted`},
		{"versions", "harbour_master", "tugs",
			`{"id":1,"@etag":"W/\"12\"","name":"A"},{"id":2,"@odata.etag":"\"13\"","name":"B"},{"id":3,"@etag":"*","name":"C"}`,
			`value/0 key [1] name=A of 12; value/1 key [2] name=B of 13; value/2 key [3] name=C of 0`},
		{"a version that is none", "harbour_master", "tugs", `{"id":1,"@etag":12}`,
			`value.invalid value/0/@etag: the version of the row is expected, as it was read: a string`},
		{"composite keys", "harbour_master", "pilotages",
			`{"port_call_id":17,"pilot_id":"0e2c7a52-3f6d-4c1b-9f0e-2d8a6c4b1e90","direction":"inbound","boarded_at":null}`,
			`value/0 key [17,"0e2c7a52-3f6d-4c1b-9f0e-2d8a6c4b1e90","inbound"] boarded_at=null`},
		{"half a key", "harbour_master", "pilotages", `{"@removed":{"reason":"deleted"},"port_call_id":17}`,
			`key.missing value/0: say which row of pilotages: "@id", or all of its key`},
		{"half a key is a new row", "harbour_master", "pilotages", `{"port_call_id":17,"direction":"inbound"}`,
			`field.missing value/0/pilot_id: is required: a uuid`},
		{"a key of the wrong type", "harbour_master", "tugs", `{"id":"1","name":"A"}`,
			`value.invalid value/0/id: an integer is expected, this is a string; leave out the quotes`},
		{"no rows", "harbour_master", "tugs", `1,"x",[],null`, `body.invalid the body has 4 mistakes|value.invalid value/0: an object with ` +
			`the row's fields is expected, this is a number|value.invalid value/1: an object with the row's fields is expected, this is a string|` +
			`value.invalid value/2: an object with the row's fields is expected, this is an array|` +
			`value.invalid value/3: an object with the row's fields is expected, this is null`},
		{"relations", "harbour_master", "port_calls", `{"id":1,"vessel":{"@id":"vessels/3"}},{"id":2,"tugs@delta":[]},{"id":3,"tug@delta":[]}`,
			`body.invalid the body has 3 mistakes|field.unknown value/0/vessel: in a change of many rows, ` +
				`relations are written by their fields: vessel_id, berth_code, status, eta, etd, arrived_at, departed_at, draught_m, hazardous, ` +
				`remarks, created_at, updated_at|field.unknown value/1/tugs@delta: in a change of many rows, ` +
				`relations are written by their fields: vessel_id, berth_code, status, eta, etd, arrived_at, departed_at, draught_m, hazardous, ` +
				`remarks, created_at, updated_at|relation.unknown value/2/tug@delta: port_calls has no relation "tug"; did you mean "tugs"?`},
		{"unlinked", "harbour_master", "tugs", `{"@removed":{"reason":"changed"},"id":1}`,
			`value.invalid value/0: the rows of a collection are deleted, not unlinked: {"reason":"deleted"}`},
		{"removed for no reason", "harbour_master", "tugs", `{"@removed":true,"id":1}`,
			`value.invalid value/0/@removed: {"reason":"changed"} takes the row out of the relation, {"reason":"deleted"} deletes it`},
		{"no path", "harbour_master", "tugs", `{"@id":"","name":"A"},{"@id":7}`, `body.invalid the body has 2 mistakes|` +
			`value.invalid value/0/@id: the path of a row is expected, as in "tugs/…"|` +
			`value.invalid value/1/@id: the path of a row is expected, as in "tugs/…"`},
		{"named twice", "harbour_master", "tugs", `{"@id":"tugs/1","@odata.id":"tugs/2"}`,
			`body.duplicate value/0/@odata.id: the row is named already`},
		{"misspelled", "harbour_master", "tugs", `{"@remove":{"reason":"deleted"},"id":8},{"id":1,"@odata.etg":"W/\"1\"","name@tpe":"x",` +
			`"name":"A"},{"id":2,"@Core.Permissions":"None","name@Core.Permissions":"None","name":"B"}`,
			`body.invalid the body has 3 mistakes|field.unknown value/0/@remove: there is no @remove in the standard; did you mean "@removed"?|` +
				`field.unknown value/1/@odata.etg: there is no @etg in the standard; did you mean "@etag"?|` +
				`field.unknown value/1/name@tpe: there is no @tpe in the standard; did you mean "@type"?`},
		{"twice", "harbour_master", "tugs", `{"id":1,"id":2}`, `body.duplicate value/0: "id" stands twice in the body`},
		{"granted fields", "agent", "port_calls", `{"id":1,"eta":"2026-07-01T10:00:00Z"},{"id":2,"status":"departed"},{"vessel_id":3,` +
			`"eta":"2026-07-01T10:00:00Z","draught_m":5,"status":"expected"}`, `body.invalid the body has 2 mistakes|access.field ` +
			`value/1/status: your role may not update this field; it may update eta, etd|` +
			`field.preset value/2/status: the service sets this field for your role; leave it out`},
		{"granted operations", "pilot", "pilotages", `{"port_call_id":17,"pilot_id":"0e2c7a52-3f6d-4c1b-9f0e-2d8a6c4b1e90",` +
			`"direction":"inbound","boarded_at":null},{"direction":"inbound"}`,
			`access.denied value/1: role "pilot" may not create pilotages; it may create nothing`},
	} {
		scope, err := policy.Scope(access.Caller{Subject: "x", Roles: []string{tt.role}})
		if err != nil {
			t.Fatal(err)
		}
		items, err := delta([]byte(`{"@context":"#$delta","value":[`+tt.value+`]}`), m.Resource(tt.resource), scope)
		got := ""
		if err != nil {
			got = asFault(err)
		}
		for i, item := range items {
			if err != nil {
				break
			}
			if i > 0 {
				got += "; "
			}
			got += item.At
			if item.Ref != "" {
				got += " at " + item.Ref
			}
			if item.Key != nil {
				key, _ := json.Marshal(item.Key)
				got += " key " + string(key)
			}
			if item.Row != nil && len(item.Row.Fields) > 0 {
				got += " " + written(item.Row)
			}
			if item.Version != "" {
				got += " of " + item.Version
			}
			if item.Removed != payload.NotRemoved {
				got += " " + string(item.Removed)
			}
		}
		if got != tt.want {
			t.Errorf("%s\ngot  %s\nwant %s", tt.name, got, tt.want)
		}
	}
	for body, want := range map[string]string{
		`{"value":{}}`:              "body.type a change of one row goes to its own path",
		`{"name":"x"}`:              "body.type a change of one row goes to its own path",
		`{}`:                        "body.type a change of one row goes to its own path",
		`[]`:                        "body.type a JSON object",
		``:                          "body.missing the body is empty",
		`{"value":[],"value":[]}`:   `body.duplicate "value" stands twice`,
		`{"value":[{}],"value2":1}`: "body.type a change of one row goes to its own path",
	} {
		scope, _ := policy.Scope(access.Caller{Subject: "x", Roles: []string{"harbour_master"}})
		if _, err := delta([]byte(body), m.Resource("tugs"), scope); !strings.HasPrefix(asFault(err), want) {
			t.Errorf("%s: %s, want %s", body, asFault(err), want)
		}
	}
}

// written are a row's fields and values.
func written(row *payload.Row) string {
	parts := make([]string, len(row.Fields))
	for i, f := range row.Fields {
		parts[i] = f.Name + "=null"
		if v := row.Values[i]; v != nil {
			parts[i] = f.Name + "=" + *v
		}
	}
	return strings.Join(parts, " ")
}

func TestVersion(t *testing.T) {
	t.Parallel()
	for tag, want := range map[string]string{`W/"752"`: "752", `"752"`: "752", "752": "752", `W/"0752"`: "0", `W/"-1"`: "0",
		`W/"4294967296"`: "0", `W/"abc"`: "0", "": "0", "*": "0", `W/""`: "0", `w/"7"`: "0"} {
		if got := payload.Version(tag); got != want {
			t.Errorf("%s: %s, want %s", tag, got, want)
		}
	}
}
