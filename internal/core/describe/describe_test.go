package describe_test

import (
	"bytes"
	"encoding/json"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/sv-tools/openapi"
	"go.yaml.in/yaml/v4"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/coretest"
	"eagerwindow/internal/core/describe"
)

var place = describe.Place{Server: "http://127.0.0.1:8080/api/saltmere", Token: "http://127.0.0.1:8080/auth/saltmere/token"}

// described is the description as JSON reads it back.
type described struct {
	Paths      map[string]map[string]json.RawMessage
	Components struct {
		Schemas map[string]struct {
			Properties map[string]json.RawMessage
			Required   []string
		}
	}
}

func describeAs(t *testing.T, role string) (*openapi.Extendable[openapi.OpenAPI], []byte, described) {
	t.Helper()
	m, policy := coretest.Saltmere(t)
	scope, err := policy.Scope(access.Caller{Subject: "x", Operator: role == "", Roles: []string{role}})
	if err != nil {
		t.Fatal(err)
	}
	spec := describe.OpenAPI(m, scope, place)
	var out bytes.Buffer
	if err := describe.JSON(&out, m, scope, place); err != nil {
		t.Fatal(err)
	}
	var d described
	if err := json.Unmarshal(out.Bytes(), &d); err != nil {
		t.Fatal(err)
	}
	return spec, out.Bytes(), d
}

func TestValid(t *testing.T) {
	t.Parallel()
	for _, role := range []string{"", "board", "agent", "pilot", "office", "harbour_master"} {
		spec, out, _ := describeAs(t, role)
		v, err := openapi.NewValidator(spec, openapi.AllowUnusedComponents())
		if err != nil {
			t.Fatal(err)
		}
		if err := v.ValidateSpec(); err != nil {
			t.Errorf("the description for role %q is not valid: %v", role, err)
		}
		if _, again, _ := describeAs(t, role); !bytes.Equal(out, again) {
			t.Errorf("two descriptions of one model differ for role %q", role)
		}
	}
}

// What is written in one pass is what the library writes.
func TestJSONSaysTheSame(t *testing.T) {
	t.Parallel()
	for _, role := range []string{"", "board", "agent", "harbour_master"} {
		spec, out, _ := describeAs(t, role)
		want, err := json.Marshal(spec)
		if err != nil {
			t.Fatal(err)
		}
		var a, b any
		if err := json.Unmarshal(out, &a); err != nil {
			t.Fatal(err)
		}
		if err := json.Unmarshal(want, &b); err != nil {
			t.Fatal(err)
		}
		if !reflect.DeepEqual(a, b) {
			t.Errorf("as role %q\ngot  %.2000s\nwant %.2000s", role, out, want)
		}
	}
}

func TestYAMLSaysTheSame(t *testing.T) {
	t.Parallel()
	_, asJSON, _ := describeAs(t, "agent")
	m, policy := coretest.Saltmere(t)
	scope, err := policy.Scope(access.Caller{Subject: "x", Roles: []string{"agent"}})
	if err != nil {
		t.Fatal(err)
	}
	var asYAML bytes.Buffer
	if err := describe.YAML(&asYAML, m, scope, place); err != nil {
		t.Fatal(err)
	}
	var a, b any
	if err := yaml.Unmarshal(asYAML.Bytes(), &a); err != nil {
		t.Fatal(err)
	}
	if err := yaml.Unmarshal(asJSON, &b); err != nil {
		t.Fatal(err)
	}
	x, _ := json.Marshal(a)
	y, _ := json.Marshal(b)
	if !bytes.Equal(x, y) {
		t.Errorf("YAML and JSON differ:\n%.600s\n%.600s", x, y)
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
		{"", "/vessels/$filter({where})/$each", "delete parameters patch", "vessel-change", []string{"agent", "port_calls", "port_calls@delta"},
			nil},
		{"", "/port_calls/{id}/tugs/$ref", "delete parameters post put", "port_call-create", []string{"vessel", "tugs", "cargo_items"},
			[]string{"tugs@delta"}},
		{"", "/port_calls/{id}/vessel/$ref", "parameters put", "port_call-replace", []string{"vessel_id"}, []string{"tugs"}},
		{"agent", "/port_calls/{id}/tugs/$ref", "delete parameters post put", "port_call-change", []string{"eta", "tugs"}, []string{"vessel"}},
		{"", "/$batch", "post", "batch-of-requests", []string{"requests"}, nil},
		{"", "/port_calls/{id}/tugs/$ref", "delete parameters post put", "links-to-rows", []string{"value"}, nil},
	}
	for _, tt := range tests {
		_, _, d := describeAs(t, tt.role)
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
	if _, _, d := describeAs(t, "board"); len(d.Paths) != 5 {
		t.Errorf("the anonymous role's description has %d paths, want the collection of arrivals_board, its count, its row, "+
			"its vessel and the batch", len(d.Paths))
	}
	if _, _, d := describeAs(t, "agent"); !slices.Equal(d.Components.Schemas["port_call-create"].Required, []string{"eta", "draught_m"}) {
		t.Errorf("required in a create: %v", d.Components.Schemas["port_call-create"].Required)
	}
}

// What writes take besides their body, and what they answer, is described for each, as far as the role may see it.
func TestWrites(t *testing.T) {
	t.Parallel()
	for _, tt := range []struct{ role, path, method, parameters, statuses, headers string }{
		{"harbour_master", "/tugs", "post", "compute select expand prefer idempotency-key", "201 204 400 401 403 404 406 409 415 422 503",
			"201 ETag, 201 Location, 204 ETag"},
		{"harbour_master", "/tugs", "patch", "compute select expand prefer idempotency-key", "200 204 400 401 403 404 406 409 412 415 422 503",
			"200 Rows-Affected, 204 Rows-Affected"},
		{"harbour_master", "/berths/{code}", "patch", "compute select expand prefer idempotency-key if-match if-none-match",
			"200 201 204 400 401 403 404 406 409 412 415 422 503", "200 ETag, 201 ETag, 201 Location, 204 ETag"},
		{"harbour_master", "/berths/{code}", "put", "compute select expand prefer idempotency-key if-match if-none-match",
			"200 201 204 400 401 403 404 406 409 412 415 422 503", "200 ETag, 201 ETag, 201 Location, 204 ETag"},
		{"harbour_master", "/berths/{code}", "delete", "idempotency-key if-match", "204 400 401 403 404 409 412 503", ""},
		{"harbour_master", "/berths/{code}", "get", "compute select expand format", "200 400 401 403 404 406 503", "200 ETag"},
		{"harbour_master", "/berth_occupancy/{berth_code}", "get", "compute select expand format", "200 400 401 403 404 406 503", ""},
		{"harbour_master", "/port_calls/$filter({where})/$each", "patch", "compute select expand prefer idempotency-key",
			"200 204 400 401 403 404 406 409 415 422 503", "200 Rows-Affected, 204 Rows-Affected"},
		{"harbour_master", "/port_calls/$filter({where})/$each", "delete", "idempotency-key", "204 400 401 403 409 503", "204 Rows-Affected"},
		{"harbour_master", "/port_calls/{id}/tugs/$ref", "post", "idempotency-key", "204 400 401 403 404 409 415 422 503", ""},
		{"harbour_master", "/port_calls/{id}/tugs/$ref", "delete", "idempotency-key link-id", "204 400 401 403 404 409 503", ""},
		{"agent", "/port_calls/{id}", "patch", "compute select expand prefer idempotency-key if-match",
			"200 204 400 401 403 404 406 409 412 415 422 429 503", "200 ETag, 204 ETag"},
		{"pilot", "/pilotages/{port_call_id}/{pilot_id}/{direction}", "patch", "compute select expand prefer idempotency-key if-match",
			"200 204 400 401 403 404 406 409 412 415 422 503", "200 ETag, 204 ETag"},
	} {
		_, _, d := describeAs(t, tt.role)
		var op struct {
			Parameters []struct {
				Ref string `json:"$ref"`
			}
			Responses map[string]struct{ Headers map[string]json.RawMessage }
		}
		if err := json.Unmarshal(d.Paths[tt.path][tt.method], &op); err != nil {
			t.Errorf("%s %s as %s: %v", tt.method, tt.path, tt.role, err)
			continue
		}
		var parameters, statuses, headers []string
		for _, p := range op.Parameters {
			parameters = append(parameters, strings.TrimPrefix(p.Ref, "#/components/parameters/"))
		}
		for status, answer := range op.Responses {
			statuses = append(statuses, status)
			for name := range answer.Headers {
				headers = append(headers, status+" "+name)
			}
		}
		slices.Sort(statuses)
		slices.Sort(headers)
		for _, c := range []struct{ what, got, want string }{
			{"takes", strings.Join(parameters, " "), tt.parameters}, {"answers", strings.Join(statuses, " "), tt.statuses},
			{"has the headers", strings.Join(headers, ", "), tt.headers},
		} {
			if c.got != c.want {
				t.Errorf("%s %s as %s %s %q, want %q", tt.method, tt.path, tt.role, c.what, c.got, c.want)
			}
		}
	}
}
