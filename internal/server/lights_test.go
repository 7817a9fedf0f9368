package server_test

import (
	"encoding/json"
	"strings"
	"testing"

	"eagerwindow/internal/windows"
)

// Grants are looked at, changed in the draft and checked before; what can't stand is refused and nothing is kept.
func TestGrants(t *testing.T) {
	t.Parallel()
	r := start(t)
	manage := func(method, path, body string, out any) (int, string) {
		t.Helper()
		a := write(t, r, r.Operator.Token, method, "/manage/windows/saltmere"+path, body, "Content-Type", "application/json")
		if a.StatusCode == 200 && out != nil {
			decode(t, a.Text, out)
		}
		return a.StatusCode, a.Text
	}
	var g windows.GrantView
	grant := func(crossing string) windows.GrantView {
		t.Helper()
		g = windows.GrantView{}
		if status, text := manage("GET", "/grants/"+crossing, "", &g); status != 200 {
			t.Fatalf("%s: %d %s", crossing, status, text)
		}
		return g
	}
	lights := func(g windows.GrantView) string {
		var all []string
		for _, o := range g.Operations {
			all = append(all, string(o.Light))
		}
		return strings.Join(all, " ")
	}
	for crossing, want := range map[string]string{"agent/port_calls": "half half half dark", "board/port_calls": "dark dark dark dark",
		"harbour_master/tugs": "lit lit lit lit", "office/weather_log": "lit lit none none"} {
		if got := lights(grant(crossing)); got != want {
			t.Errorf("%s: %s, want %s", crossing, got, want)
		}
	}
	if g := grant("office/tugs"); g.From != "*" {
		t.Errorf("the office has tugs from %q", g.From)
	}
	before, err := r.Operator.Draft(t.Context(), "saltmere")
	if err != nil {
		t.Fatal(err)
	}
	for _, tt := range []struct{ path, body, want string }{
		{"/grants/agent/tugs", `{"read":{"rows":"nam eq 'x'"}}`, `unknown field \"nam\"`},
		{"/grants/agent/tugs", `{"read":{"rows":"name eq @caller/agent"}}`, `the role has no claim \"agent\"`},
		{"/grants/agent/tugs", `{"reed":{}}`, `there is no operation \"reed\"`},
		{"/grants/agent/weather_log", `{"update":{}}`, "weather_log can't update"},
		{"/grants/agent/vessels", `{"create":{"set":{"agent_id":"@caller/agent"}}}`, `the role has no claim \"agent\"`},
		{"/grants/agnt/tugs", `{}`, `did you mean \"agent\"?`},
		{"/grants/agent/tug", `{}`, `did you mean \"tugs\"?`},
	} {
		if status, text := manage("PUT", tt.path, tt.body, nil); status < 400 || status > 404 || !strings.Contains(text, tt.want) {
			t.Errorf("%s %s: %d %s, want %s", tt.path, tt.body, status, text, tt.want)
		}
	}
	if after, _ := r.Operator.Draft(t.Context(), "saltmere"); after.Document != before.Document {
		t.Error("a change that was refused was kept")
	}
	for _, tt := range []struct{ crossing, body, lights, line string }{
		{"agent/vessels", `{"read":{"rows":"agent_id eq @caller/agent_id","fields":["id","name"]},"update":{"fields":["tags"],` +
			`"set":{"agent_id":"@caller/agent_id"}}}`, "dark half half dark",
			`        update: {fields: [tags], set: {agent_id: "@caller/agent_id"}}`},
		{"agent/port_calls", `{"read":{"rows":"vessel/agent_id eq @caller/agent_id","fields":["id","vessel_id","berth_code","status","eta",` +
			`"etd","arrived_at","departed_at","draught_m","hazardous","created_at"]}}`, "dark half dark dark", "except: [remarks, updated_at]}"},
		{"office/tugs", `{}`, "dark dark dark dark", "      tugs: []"},
		{"board/tugs", `{"read":{}}`, "dark lit dark dark", "      tugs: read"},
	} {
		if status, text := manage("PUT", "/grants/"+tt.crossing, tt.body, nil); status != 200 {
			t.Errorf("%s: %d %s", tt.crossing, status, text)
		}
		if got := lights(grant(tt.crossing)); got != tt.lights {
			t.Errorf("%s after the change: %s, want %s", tt.crossing, got, tt.lights)
		}
		if draft, _ := r.Operator.Draft(t.Context(), "saltmere"); !strings.Contains(draft.Document, tt.line) {
			t.Errorf("%s: the draft has no line %q\n%s", tt.crossing, tt.line, draft.Document)
		}
	}
	for _, tt := range []struct {
		question windows.RuleQuestion
		want     string
	}{
		{windows.RuleQuestion{Role: "agent", Resource: "vessels", Rows: "agent_id eq @caller/agent_id", Claims: map[string]any{"agent_id": 3}},
			`{"rows":10,"of":400}`},
		{windows.RuleQuestion{Role: "agent", Resource: "vessels", Rows: "agent_id eq @caller/agent_id"}, `{}`},
		{windows.RuleQuestion{Role: "agent", Resource: "vessels", Rows: "agent_id eq"}, `{"wrong":"`},
		{windows.RuleQuestion{Role: "agent", Resource: "vessels", Rows: "kind eq 'tank'"}, `did you mean \"tanker\"`},
		{windows.RuleQuestion{Role: "board", Resource: "arrivals_board", Rows: "hazardous"}, `{}`},
	} {
		body, _ := json.Marshal(tt.question)
		if status, text := manage("POST", "/rules", string(body), nil); status != 200 || !strings.Contains(text, tt.want) {
			t.Errorf("%s: %d %s, want %s", body, status, text, tt.want)
		}
	}
}
