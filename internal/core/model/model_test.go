package model_test

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"eagerwindow/internal/core/coretest"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/window"
)

func TestRelations(t *testing.T) {
	t.Parallel()
	m, _ := coretest.Saltmere(t)
	tests := []struct{ resource, relation, want string }{
		{"vessels", "agent", "one agents"}, {"vessels", "port_calls", "many port_calls"}, {"agents", "vessels", "many vessels"},
		{"port_calls", "vessel", "required one vessels"}, {"port_calls", "berth", "one berths"}, {"port_calls", "due", "one dues"},
		{"port_calls", "tugs", "many tugs through port_call_tug"}, {"tugs", "port_calls", "many port_calls through port_call_tug"},
		{"pilots", "mentor", "one pilots"}, {"pilots", "trainees", "many pilots"}, {"berth_occupancy", "berth", "one berths"},
		{"dues", "port_call", "required one port_calls"},
	}
	for _, tt := range tests {
		rel := m.Resource(tt.resource).Relation(tt.relation)
		if rel == nil {
			t.Errorf("%s has no relation %s; it has %v", tt.resource, tt.relation, m.Resource(tt.resource).RelationNames())
			continue
		}
		got := map[bool]string{true: "many ", false: "one "}[rel.Many] + rel.To.Name
		if rel.Required {
			got = "required " + got
		}
		if rel.Through != nil {
			got += " through " + rel.Through.Table.Name
		}
		if got != tt.want {
			t.Errorf("%s/%s: got %s, want %s", tt.resource, tt.relation, got, tt.want)
		}
	}
}

func TestFields(t *testing.T) {
	t.Parallel()
	m, _ := coretest.Saltmere(t)
	if m.Resource("vessels").Field("internal_note") != nil {
		t.Error("a hidden field is exposed")
	}
	calls := m.Resource("port_calls")
	id, vessel, status := calls.Field("id"), calls.Field("vessel_id"), calls.Field("status")
	if !id.ReadOnly || !id.InKey || !vessel.Required || vessel.Nullable || status.Required || status.Type.Kind != model.Enum ||
		len(status.Type.Values) != 5 {
		t.Errorf("id %+v\nvessel_id %+v\nstatus %+v", id, vessel, status)
	}
	if d := calls.Field("draught_m").Type; d.Precision != 4 || d.Scale != 2 || d.SQL != "numeric" {
		t.Errorf("draught_m is %+v", d)
	}
	if key := m.Resource("pilotages").Key; len(key) != 3 || key[2].Name != "direction" {
		t.Errorf("the key of pilotages is %v", key)
	}
}

func TestMistakes(t *testing.T) {
	t.Parallel()
	tests := []struct{ name, document, want string }{
		{"table", "resources: {vessels: {from: harbour.vesel}}",
			`line 3, column 29: the database "saltmere" has no table or view "harbour.vesel"; did you mean "harbour.vessel"?`},
		{"column", "resources: {v: {from: vessel, fields: {flagg: {expose: false}}}}", `v has no column "flagg"; did you mean "flag"?`},
		{"relation", "resources: {v: {from: vessel, relations: {agnt: {about: x}}}}", `no foreign key gives v a relation "agnt"`},
		{"relation's goal", "resources: {v: {from: vessel, relations: {a: {to: agents}}}}", `leads to "agents", which is no resource`},
		{"grant", "resources: {v: {from: vessel}}\nroles: {r: {may: {vv: read}}}", `role r: there is no resource "vv"; did you mean "v"?`},
		{"grant's field", "resources: {v: {from: vessel}}\nroles: {r: {may: {v: {read: {fields: [nam]}}}}}",
			`role r: v has no field "nam"; did you mean "name"?`},
		{"impossible", "resources: {w: {from: weather_log, operations: [read, update]}}", `w can't update: it has no key`},
		{"impossible grant", "resources: {b: {from: berth_occupancy}}\nroles: {r: {may: {b: delete}}}", `b can't delete; it can read`},
		{"claim type", "resources: {v: {from: vessel}}\nroles: {r: {claims: {a: int}}}",
			`a claim is integer, number, text, boolean, uuid or date, not "int"; did you mean "integer"?`},
		{"name taken", "resources: {v: {from: vessel, fields: {name: {name: flag}}}}", `v has a field "flag" already`},
		{"key", "resources: {v: {from: berth_occupancy, key: [code]}}", `the key of v names "code", which it does not have`},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			doc, err := window.Parse([]byte("window: w\nsource: s\n"+tt.document), os.LookupEnv)
			if err != nil {
				t.Fatal(err)
			}
			if _, err = model.Bind(doc, coretest.Catalog(t)); err == nil || !strings.Contains(err.Error(), tt.want) {
				t.Errorf("got %v\nwant %s", err, tt.want)
			}
		})
	}
}

func ExampleKind_String() {
	fmt.Println(model.Instant, model.Instant.EDM())
	// Output: timestamp Edm.DateTimeOffset
}
