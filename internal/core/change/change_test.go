package change_test

import (
	"fmt"
	"strings"
	"testing"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/change"
	"eagerwindow/internal/core/coretest"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/payload"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/window"
)

// compile compiles one write of the harbour, as requests do.
func compile(m *model.Model, scope *access.Scope, method, path, text string) (*change.Change, error) {
	r, err := request.Read(m, path, "")
	if err != nil {
		return nil, err
	}
	c := &change.Compiler{Scope: scope, Refer: func(ref string) (*request.Request, error) { return request.Read(m, ref, "") }}
	if r.View == query.Refs {
		near, err := r.Before().Places()
		if err != nil {
			return nil, err
		}
		t := change.Target{Resource: near[0].Resource, Path: near, Via: r.Via()}
		if method != "DELETE" {
			return c.Link(t, text)
		}
		if text == "" {
			return c.Unlink(t, nil)
		}
		far, err := c.Far(r.Via(), text)
		if err != nil {
			return nil, err
		}
		return c.Unlink(t, far)
	}
	places, err := r.Places()
	if err != nil {
		return nil, err
	}
	t := change.Target{Resource: r.Resource, Path: places}
	if method == "DELETE" {
		return c.Delete(t)
	}
	body, err := payload.Parse([]byte(text))
	if err != nil {
		return nil, err
	}
	var row *payload.Row
	switch {
	case method == "POST" && r.Parent() != "":
		if t.Path, err = r.Before().Places(); err != nil {
			return nil, err
		}
		t.Via = r.Via()
		if row, err = body.CreateUnder(r.Resource, scope, t.Via.ThereFields()); err != nil {
			return nil, err
		}
		return c.Create(t, row)
	case method == "POST":
		if row, err = body.Read(r.Resource, window.Create, scope); err != nil {
			return nil, err
		}
		return c.Create(t, row)
	case method == "PUT":
		row, err = body.Replace(r.Resource, scope)
	case r.Single:
		row, err = body.Read(r.Resource, window.Update, scope)
	default:
		items, err := body.Delta(r.Resource, scope)
		if err != nil {
			return nil, err
		}
		return c.Delta(r.Resource, items)
	}
	if err != nil {
		return nil, err
	}
	return c.Update(t, row)
}

// What writes of all kinds compile to.
func TestCompile(t *testing.T) {
	t.Parallel()
	m, policy := coretest.Saltmere(t)
	const call = `"eta":"2026-07-09T12:00:00Z","draught_m":5.5`
	const pilot = "0e2c7a52-3f6d-4c1b-9f0e-2d8a6c4b1e90"
	var got strings.Builder
	for _, tt := range []struct{ name, role, method, path, body string }{
		{"a new row", "harbour_master", "POST", "tugs", `{"name":"Otter","bollard_pull_t":40}`},
		{"a change", "harbour_master", "PATCH", "port_calls/17", `{"remarks":null,"eta":"2026-07-09T12:00:00Z"}`},
		{"a replacement", "harbour_master", "PUT", "berths/N05", `{"quay":"North","length_m":200,"max_draught_m":9}`},
		{"a deletion", "harbour_master", "DELETE", "tugs/3", ``},
		{"a change along a relation", "harbour_master", "PATCH", "port_calls/17/vessel", `{"flag":"NO"}`},
		{"a deletion along relations", "harbour_master", "DELETE", "vessels/3/port_calls/17/due", ``},
		{"a new row along a relation", "harbour_master", "POST", "vessels/3/port_calls", `{` + call + `}`},
		{"the path and the body say which vessel", "harbour_master", "POST", "vessels/3/port_calls", `{` + call + `,"vessel_id":4}`},
		{"a link by a junction", "harbour_master", "POST", "port_calls/17/tugs/$ref", "tugs/3"},
		{"a link that the far row holds", "harbour_master", "POST", "vessels/3/port_calls/$ref", "port_calls/17"},
		{"a link that the near row holds", "harbour_master", "PUT", "port_calls/17/berth/$ref", "berths/N05"},
		{"a link to the end of a path", "harbour_master", "PUT", "vessels/3/agent/$ref", "port_calls/17/vessel/agent"},
		{"a junction is untied", "harbour_master", "DELETE", "port_calls/17/tugs/$ref", "tugs/3"},
		{"a link is removed that the far row holds", "harbour_master", "DELETE", "berths/N05/port_calls/$ref", "port_calls/17"},
		{"a link is removed that can't be", "harbour_master", "DELETE", "vessels/3/port_calls/$ref", "port_calls/17"},
		{"a link to another kind of row", "harbour_master", "POST", "port_calls/17/tugs/$ref", "vessels/3"},
		{"new rows in a new row", "harbour_master", "POST", "port_calls", `{` + call +
			`,"vessel":{"name":"Ada","imo_number":"9999901","flag":"NO","kind":"cargo","gross_tonnage":5,"agent":{"@id":"agents/3"}},
			"tugs":[{"@id":"tugs/3"},{"name":"Zara","bollard_pull_t":9}],"cargo_items":[{"description":"Oats","hs_code":"100400","tonnes":12.5},
			{"description":"Rye","hs_code":"100200","tonnes":1}],"due":{"amount":5}}`},
		{"sets in a change", "harbour_master", "PATCH", "port_calls/17", `{"berth":null,"tugs":[{"@id":"tugs/3"},{"@id":"tugs/4",` +
			`"bollard_pull_t":44}],"cargo_items":[{"id":5,"tonnes":1},{"description":"Rye","hs_code":"100200","tonnes":1}],"due":{"amount":99}}`},
		{"deltas in a change", "harbour_master", "PATCH", "port_calls/17", `{"tugs@delta":[{"@removed":{"reason":"changed"},"@id":"tugs/3"},` +
			`{"@id":"tugs/4"}],"cargo_items@delta":[{"@removed":{"reason":"deleted"},"id":5,"@etag":"W/\"7\""},{"id":6,"tonnes":2,` +
			`"@etag":"W/\"8\""}]}`},
		{"rows that come and go by their key", "harbour_master", "PATCH", "port_calls/17",
			`{"berth":{"code":"Q77","quay":"New","length_m":90,"max_draught_m":6},"pilotages":[{"pilot_id":"` + pilot +
				`","direction":"inbound"}]}`},
		{"what the row leads to now", "harbour_master", "PATCH", "port_calls/17", `{"vessel":{"flag":"IS","agent":{"phone":"5"}}}`},
		{"a row taken out of a relation that it holds", "harbour_master", "PATCH", "berths/N05",
			`{"port_calls@delta":[{"@removed":{"reason":"changed"},"id":17}]}`},
		{"a row that can't be without the one around it", "harbour_master", "PATCH", "vessels/3",
			`{"port_calls@delta":[{"@removed":{"reason":"changed"},"id":17}]}`},
		{"a field that the relation gives is another", "harbour_master", "POST", "port_calls", `{` + call +
			`,"vessel_id":4,"vessel":{"@id":"vessels/3"}}`},
		{"null where there must be a row", "harbour_master", "POST", "port_calls", `{` + call + `,"vessel":null}`},
		{"rows that the role may not change", "office", "PATCH", "port_calls/17",
			`{"cargo_items@delta":[{"@removed":{"reason":"deleted"},"id":5}]}`},
		{"ties that the role may not make", "agent", "PATCH", "port_calls/17", `{"eta":"2026-07-09T12:00:00Z","tugs":[{"@id":"tugs/3"}]}`},
		{"a delta", "harbour_master", "PATCH", "berths", `{"value":[{"@id":"berths/N05","quay":"North"},{"code":"Q78","quay":"New",` +
			`"length_m":9,"max_draught_m":6},{"code":"Q79"},{"@removed":{"reason":"deleted"},"code":"N06"}]}`},
		{"a delta that names a row twice", "harbour_master", "PATCH", "berths",
			`{"value":[{"@id":"berths/N05","quay":"North"},{"code":"N05","quay":"South"}]}`},
	} {
		scope, err := policy.Scope(access.Caller{Subject: "x", Roles: []string{tt.role}})
		if err != nil {
			t.Fatal(err)
		}
		c, err := compile(m, scope, tt.method, tt.path, tt.body)
		fmt.Fprintf(&got, "-- %s, as %s: %s /%s\n", tt.name, tt.role, tt.method, tt.path)
		switch f, ok := fault.From(err); {
		case err == nil:
			got.WriteString(c.String())
		case !ok:
			t.Errorf("%s: %v is no fault", tt.name, err)
		default:
			fmt.Fprintf(&got, "refused: %s %s\n", f.Code, f.Error())
		}
		got.WriteByte('\n')
	}
	coretest.Golden(t, "testdata/changes.txt", got.String())
}

// However many rows a body has, they share their steps.
func TestStepsDoNotGrow(t *testing.T) {
	t.Parallel()
	m, policy := coretest.Saltmere(t)
	scope, err := policy.Scope(access.Caller{Operator: true})
	if err != nil {
		t.Fatal(err)
	}
	for _, n := range []int{1, 7, 300} {
		item := `{"eta":"2026-07-09T12:00:00Z","draught_m":5.5,"berth":{"@id":"berths/N05"},"cargo_items":[{"description":"Oats",` +
			`"hs_code":"100400","tonnes":1}],"tugs":[{"@id":"tugs/3"}]}`
		c, err := compile(m, scope, "PATCH", "vessels/3", `{"port_calls@delta":[`+strings.TrimSuffix(strings.Repeat(item+",", n), ",")+`]}`)
		if err != nil {
			t.Fatal(err)
		}
		if len(c.Steps) != 5 {
			t.Errorf("%d rows: %d steps\n%s", n, len(c.Steps), c)
		}
	}
}

// What a value must be that is known only once other rows are written.
func TestMust(t *testing.T) {
	t.Parallel()
	m, _ := coretest.Saltmere(t)
	text := func(s string) *string { return &s }
	vessel, berth := m.Resource("port_calls").Field("vessel_id"), m.Resource("port_calls").Field("berth_code")
	for _, tt := range []struct {
		must      change.Must
		value, is *string
		want      string
	}{
		{change.Must{Field: vessel, At: "tugs/0"}, text("3"), text("3"), ""},
		{change.Must{Field: vessel, At: "tugs/0"}, text("4"), text("3"), "value.path tugs/0/vessel_id: the row around it says 4; leave it out"},
		{change.Must{Field: vessel, At: "tugs/0"}, text("4"), nil, "value.path tugs/0/vessel_id: the row around it says 4; leave it out"},
		{change.Must{Field: vessel, At: "tugs/0"}, nil, text("3"), "value.path tugs/0/vessel_id: the row around it says null; leave it out"},
		{change.Must{Field: berth, At: "tugs/0"}, text(`N"5`), text("3"),
			`value.path tugs/0/berth_code: the row around it says "N\"5"; leave it out`},
		{change.Must{Field: vessel}, text("4"), text("3"), "value.path vessel_id: the path says 4, the body 3; leave it out"},
		{change.Must{Reason: change.SameKey, Field: vessel}, text("4"), text("3"),
			"link.key vessel_id is part of the key of rows/1, so the row can't be taken from another one; nothing was changed"},
		{change.Must{Reason: change.SameKey, Field: vessel}, nil, nil, ""},
		{change.Must{Reason: change.NotNull, Field: vessel, At: "vessel"}, nil, nil,
			"link.required vessel: a row of port_calls can't be without vessel_id; link it to another row; nothing was changed"},
		{change.Must{Reason: change.NotNull, Field: vessel, At: "vessel"}, text("3"), nil, ""},
	} {
		got := ""
		if f, ok := fault.From(tt.must.Check(tt.value, tt.is, func() string { return "rows/1" })); ok {
			got = f.Code + " " + f.Message
		}
		if got != tt.want {
			t.Errorf("%+v: got %q, want %q", tt.must, got, tt.want)
		}
	}
}
