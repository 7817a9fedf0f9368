package doctor_test

import (
	"strings"
	"testing"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/coretest"
	"eagerwindow/internal/core/doctor"
	"eagerwindow/internal/core/statement"
)

// A slow statement asks for an index on what it compares, or sorts by, where none begins with that.
func TestOfPlan(t *testing.T) {
	m, p := coretest.Saltmere(t)
	for _, tt := range []struct{ path, options, want string }{
		{"cargo_items", "filter=hs_code eq '250100' and tonnes gt 490",
			`create index concurrently on "harbour"."cargo_item" ("hs_code", "tonnes")`},
		{"port_calls", "orderby=draught_m desc&top=5", `create index concurrently on "harbour"."port_call" ("draught_m" desc, "id")`},
		{"port_calls", "filter=vessel_id eq 3", ""},
		{"port_calls", "filter=status eq 'expected' and hazardous", ""},
		{"tugs", "filter=bollard_pull_t gt 3", ""}, // there are few
	} {
		scope, _, q := coretest.Request(t, m, p, access.Caller{Operator: true}, tt.path, tt.options)
		var got []string
		for _, ix := range doctor.OfPlan(statement.Read(q, scope, nil, statement.Bounds{}), "it is slow") {
			got = append(got, ix.Definition(true))
			if ix.TryOn() == "" || ix.Why != "it is slow" {
				t.Errorf("%s?%s: %+v", tt.path, tt.options, ix)
			}
		}
		if strings.Join(got, "; ") != tt.want {
			t.Errorf("%s?%s: %v, want %s", tt.path, tt.options, got, tt.want)
		}
	}
}

// The harbour itself lacks no index for its foreign keys and row rules.
func TestIndexesOfTheHarbour(t *testing.T) {
	_, p := coretest.Saltmere(t)
	if list := doctor.Indexes(p); len(list) > 0 {
		t.Errorf("%+v", list)
	}
	_, p = coretest.Bind(t,
		"window: w\nsource: s\nresources:\n  calls: {from: harbour.port_call}\n  cargo: {from: harbour.cargo_item}\nroles:\n"+
			"  r:\n    claims: {hs: text}\n    may: {cargo: {read: {rows: hs_code eq @caller/hs}}}\n")
	list := doctor.Indexes(p)
	if len(list) != 1 || list[0].Definition(false) != `create index on "harbour"."cargo_item" ("hs_code")` ||
		list[0].TryOn() != `select * from "harbour"."cargo_item" where "hs_code" = $1::character(6)` {
		t.Errorf("%+v", list)
	}
}

// What is weak in the settings of a database, and what its user may do too much.
func TestExamine(t *testing.T) {
	_, p := coretest.Bind(t, "window: w\nsource: s\nresources: {tugs: {from: harbour.tug}}\nroles: {r: {may: {tugs: read}}}\n")
	may := map[string]doctor.TableFacts{"harbour.tug": {Select: true}}
	for _, tt := range []struct {
		name  string
		facts doctor.Facts
		want  string
	}{
		{"all well", doctor.Facts{User: "u", TLS: true, Password: "scram-sha-256", Most: 100, Needed: 32, Tables: may}, ""},
		{"in the clear on one machine", doctor.Facts{User: "u", Local: true, Tables: may}, ""},
		{"in the clear", doctor.Facts{User: "u", Tables: may}, "setting ssl"},
		{"md5", doctor.Facts{User: "u", TLS: true, Password: "md5", Tables: may}, "setting password_encryption"},
		{"few connections", doctor.Facts{User: "u", TLS: true, Most: 20, Needed: 32, Tables: may}, "setting max_connections"},
		{"may not read", doctor.Facts{User: "u", TLS: true, Tables: map[string]doctor.TableFacts{"harbour.tug": {}}}, "privilege tugs"},
		{"makes roles", doctor.Facts{User: "u", TLS: true, CreateRole: true, Tables: may}, "privilege u"},
		{"writes elsewhere", doctor.Facts{User: "u", TLS: true, Tables: map[string]doctor.TableFacts{"harbour.tug": {Select: true},
			"other.x": {Update: true}}}, "privilege other"},
	} {
		var got []string
		for _, f := range doctor.Examine(p, tt.facts) {
			got = append(got, f.About+" "+f.Target)
		}
		if strings.Join(got, "; ") != tt.want {
			t.Errorf("%s: %v, want %s", tt.name, got, tt.want)
		}
	}
}
