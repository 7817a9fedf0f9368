package describe_test

import (
	"encoding/json"
	"strings"
	"testing"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/coretest"
	"eagerwindow/internal/core/describe"
)

// What generators make names of reads as a person would write it: operations, what they are for, and the schemas of rows.
func TestNamesOfOperations(t *testing.T) {
	t.Parallel()
	out, d := describeAs(t, "agent", place, describe.Form{})
	for _, tt := range []struct{ path, method, id, summary, description string }{
		{"/vessels", "get", "list-vessels", "List vessels", "You see those where `agent_id` is your `agent_id`."},
		{"/vessels/{id}", "get", "get-vessel", "Read a vessel", "You see those where `agent_id` is your `agent_id`."},
		{"/berths/{code}", "get", "get-berth", "Read a berth", "A berth by its key."},
		{"/tugs", "get", "list-tugs", "List tugs", "Tugs stationed in the port."},
		{"/port_calls", "get", "list-port_calls", "List port calls",
			"You see those where `vessel/agent_id` is your `agent_id`, without `remarks`."},
		{"/port_calls", "post", "create-port_call", "Add a port call",
			"You may add those where `vessel/agent_id` is your `agent_id`. The service sets `status`."},
		{"/port_calls", "patch", "apply-changes-to-port_calls", "Change, add and remove many port calls", "All are written, or none."},
		{"/port_calls/{id}", "patch", "change-port_call", "Change fields of a port call",
			"You may change those where `vessel/agent_id` is your `agent_id` and `status` is `'expected'`."},
		{"/port_calls/{id}", "put", "replace-port_call", "Replace a port call", "What is left out goes to its default."},
		{"/port_calls/{id}/{relation}/$ref", "post", "link-to-port_call", "Link one more row to a port call", "Of `tugs`."},
		{"/berth_load", "get", "list-berth_load", "Read berth load", "Hours alongside for each berth between two dates."},
	} {
		op := d.operation(t, tt.method, tt.path)
		if op.OperationID != tt.id || op.Summary != tt.summary || !strings.Contains(op.Description, tt.description) {
			t.Errorf("%s %s is %q, %q, %q", tt.method, tt.path, op.OperationID, op.Summary, op.Description)
		}
	}
	if n := strings.Count(string(out), `"alongside"`); n != 1 {
		t.Errorf("the values of call_status are there %d times", n)
	}
	if got := strings.Join(d.Components.Schemas["vessel"].Required,
		" "); got != "id name imo_number flag kind gross_tonnage tags particulars" {
		t.Errorf("always there in a vessel: %s", got)
	}
	if strings.Contains(string(out), "text/csv") || strings.Contains(string(out), ": done") {
		t.Error("formats that nobody asked for, or words that say nothing")
	}
}

// The document may say what one row is called, and a description may tell of all formats.
func TestItems(t *testing.T) {
	t.Parallel()
	_, p := coretest.Bind(t,
		"window: w\nsource: s\nresources:\n  calls: {from: harbour.port_call, item: visit}\n  call: {from: harbour.tug}\n"+
			"  errors: {from: harbour.agent}\n  vessel_kinds: {from: harbour.vessel}\nroles: {r: {may: {\"*\": [read, update]}}}\n")
	scope, err := p.Scope(access.Caller{Roles: []string{"r"}})
	if err != nil {
		t.Fatal(err)
	}
	out, err := describe.Write(p, scope, describe.Place{Server: "/", Formats: true}, describe.Form{})
	if err != nil {
		t.Fatal(err)
	}
	var d described
	if err := json.Unmarshal(out, &d); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"visit", "visit-list", "visit-change", "call", "error", "error-row", "error-row-list", "vessel_kind",
		"vessel_kind-value", "call_status"} {
		if _, there := d.Components.Schemas[name]; !there {
			t.Errorf("there is no schema %s", name)
		}
	}
	if !strings.Contains(string(out), `"get-visit"`) || !strings.Contains(string(out), "text/csv") {
		t.Error("the item or the formats are missing")
	}
}
