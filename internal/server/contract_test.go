package server_test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"eagerwindow/demo"
	"eagerwindow/internal/client"
	"eagerwindow/internal/core/contract"
	"eagerwindow/internal/harbourtest"
)

// Every operation of the whole description is served to the roles whose description has it, with a status that it names, and refused to the
// others.
func TestDescriptionIsServed(t *testing.T) {
	t.Parallel()
	r := start(t)
	rows := map[string]string{"agents": "1", "vessels": "3", "berths": "N01", "pilots": demo.Pilot, "tugs": "1", "cargo_items": "1",
		"berth_occupancy": "N01",
		"port_calls": column(t, r.Harbour, "select p.id from harbour.port_call p join harbour.vessel v on v.id = p.vessel_id where "+
			"v.agent_id = 3 and p.status = 'departed' and exists (select from harbour.due d where d.port_call_id = p.id) limit 1")[0],
		"inspections": column(t, r.Harbour, "select id from harbour.inspection limit 1")[0],
		"pilotages": column(t, r.Harbour,
			"select port_call_id || '/' || pilot_id || '/' || direction from harbour.pilotage where pilot_id = '"+demo.Pilot+"' limit 1")[0],
		"tide_readings":   "Breakwater/2026-06-30T23:50:00Z",
		"monthly_traffic": "2026-06-01/tanker"}
	rows["dues"] = rows["port_calls"]
	links := map[string]string{"agents": "vessels", "vessels": "agent", "port_calls": "tugs", "tugs": "port_calls", "pilots": "mentor",
		"berths": "port_calls"}
	contracts := map[string]*contract.Contract{}
	api, err := r.Service.Live(t.Context(), "saltmere")
	if err != nil {
		t.Fatal(err)
	}
	for _, role := range []string{"", "board", "agent", "pilot", "office", "harbour_master"} {
		if contracts[role], err = harbourtest.Contract(role, api.Catalog); err != nil {
			t.Fatal(err)
		}
	}
	for role, described := range contracts {
		if role == "" {
			continue
		}
		token := ""
		if role != "board" {
			token = r.Token(t, role)
		}
		for _, op := range contracts[""].Operations {
			resource := op.Tag
			key := rows[resource]
			if op.Method == "DELETE" {
				key = absent(resource, key)
			}
			path := op.Path
			switch resource {
			case "window":
				path = strings.NewReplacer("{collection}({key})/{part}", "port_calls("+rows["port_calls"]+")/eta", "{collection}", "port_calls",
					"{where}", "1%20eq%200").Replace(path)
			default:
				if at := strings.IndexByte(path, '{'); at > 0 {
					rest := ""
					if _, after, is := strings.Cut(path, "/{relation}"); is {
						relation := links[resource]
						if relation == "" {
							relation = "port_call"
						}
						rest = "/" + relation + after
					}
					path = path[:at] + key + rest
				}
			}
			var body io.Reader
			switch op.Method {
			case "POST", "PATCH", "PUT":
				body = strings.NewReader(`{"no such field":1}`) // understood or refused before anything is written
			}
			a := r.Send(t, token, op.Method, "/api/saltmere"+path, body)
			own := described.Find(op.Method, path)
			switch {
			case own != nil && !own.Describes(a.StatusCode):
				t.Errorf("%s %s as %s answers %s, which is not described: %.200s", op.Method, path, role, a.Status, a.Text)
			case own != nil && resource != "window" && (a.StatusCode == 401 || a.StatusCode == 403):
				t.Errorf("%s %s is described for %s but refused: %.300s", op.Method, path, role, a.Text)
			case own == nil && a.StatusCode != 401 && a.StatusCode != 403:
				t.Errorf("%s %s is not described for %s but answers %s: %.200s", op.Method, path, role, a.Status, a.Text)
			}
		}
	}
}

// absent is a key like the one given that names no row.
func absent(resource, key string) string {
	switch resource {
	case "berths":
		return "none"
	case "pilots":
		return "00000000-0000-0000-0000-000000000000"
	case "pilotages", "tide_readings", "monthly_traffic":
		_, rest, _ := strings.Cut(key, "/")
		return map[string]string{"pilotages": "0", "tide_readings": "none", "monthly_traffic": "1900-01-01"}[resource] + "/" + rest
	}
	return "0"
}

// A database goes away and comes back, the harbour's or that of the records: 503 in between, and nothing needs to be started anew.
func TestDatabaseAway(t *testing.T) {
	t.Parallel()
	r := start(t)
	token := r.Token(t, "agent")
	for _, tt := range []struct {
		name, away, from, token, path, want string
		ready                               int // without it
	}{
		{"the harbour", r.Harbour, r.Records, "", "/api/saltmere/arrivals_board?top=1", "the database is away", 503},
		{"the records", r.Records, r.Harbour, token, "/api/saltmere/vessels?top=1", "who calls can't be looked up now", 503},
	} {
		for _, path := range []string{tt.path, "/readyz", "/healthz"} {
			if a := r.Send(t, tt.token, "GET", path, nil); a.StatusCode != 200 {
				t.Fatal(a.Text)
			}
		}
		name := column(t, tt.away, "select current_database()")[0]
		column(t, tt.from, fmt.Sprintf(`alter database %q with allow_connections false`, name))
		column(t, tt.from, "select count(pg_terminate_backend(pid)) from pg_stat_activity where datname = '"+name+"'")
		// What was looked up a moment ago is good for less than a second.
		until(t, tt.name+" is missed", func() bool { return r.Send(t, tt.token, "GET", tt.path, nil).StatusCode != 200 })
		if a := r.Send(t, tt.token, "GET", tt.path, nil); a.StatusCode != 503 || a.Header.Get("Retry-After") == "" ||
			!strings.Contains(a.Text, tt.want) {
			t.Errorf("while %s is away: %s %s", tt.name, a.Status, a.Text)
		}
		for path, want := range map[string]int{"/readyz": tt.ready, "/healthz": 200} {
			if a := r.Send(t, "", "GET", path, nil); a.StatusCode != want || want == 503 && a.Header.Get("Retry-After") == "" {
				t.Errorf("%s while %s is away: %s %s", path, tt.name, a.Status, a.Text)
			}
		}
		column(t, tt.from, fmt.Sprintf(`alter database %q with allow_connections true`, name))
		for end := time.Now().Add(5 * time.Second); ; time.Sleep(50 * time.Millisecond) {
			a := r.Send(t, tt.token, "GET", tt.path, nil)
			if a.StatusCode == 200 {
				break
			}
			if time.Now().After(end) {
				t.Fatalf("%s does not heal: %s %s", tt.name, a.Status, a.Text)
			}
		}
	}
}

// A session by cookie works for the console's own pages and for no other page.
func TestCookie(t *testing.T) {
	t.Parallel()
	r := start(t)
	res, err := http.Post(r.URL+"/manage/session", "application/json",
		strings.NewReader(`{"email":"`+demo.Operator+`","password":"`+demo.Password+`"}`))
	if err != nil {
		t.Fatal(err)
	}
	res.Body.Close()
	cookies := res.Cookies()
	if len(cookies) != 1 || !cookies[0].HttpOnly || cookies[0].SameSite != http.SameSiteStrictMode {
		t.Fatalf("the cookie is %v", cookies)
	}
	send := func(method, path, origin string) int {
		req, err := http.NewRequest(method, r.URL+path, strings.NewReader("{}"))
		if err != nil {
			t.Fatal(err)
		}
		req.AddCookie(cookies[0])
		req.Header.Set("Content-Type", "application/json")
		if origin != "" {
			req.Header.Set("Origin", origin)
		}
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		return res.StatusCode
	}
	for _, tt := range []struct {
		method, path, origin string
		want                 int
	}{
		{"GET", "/manage/session", "", 200}, {"GET", "/draft/saltmere/tugs", "", 200},
		{"POST", "/draft/saltmere/tugs", "http://elsewhere.example", 403},
		{"POST", "/draft/saltmere/tugs", "", 403}, {"POST", "/draft/saltmere/tugs", r.URL, 400},
		{"DELETE", "/manage/session", "http://elsewhere.example", 403},
		{"DELETE", "/manage/session", r.URL, 204}, {"GET", "/manage/session", "", 401},
	} {
		if got := send(tt.method, tt.path, tt.origin); got != tt.want {
			t.Errorf("%s %s from %q: %d, want %d", tt.method, tt.path, tt.origin, got, tt.want)
		}
	}
}

// Operators are reported the database's own words on the draft; callers are not.
func TestInnerError(t *testing.T) {
	t.Parallel()
	r := start(t)
	const body = `{"name":"Bram","bollard_pull_t":30}`
	res, err := r.Operator.Send(context.Background(), client.Request{Method: "POST", Path: "/draft/saltmere/tugs",
		Body: strings.NewReader(body)})
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	if text, _ := io.ReadAll(res.Body); !strings.Contains(string(text),
		`"innererror":{"database":"duplicate key value violates unique constraint \"tug_name_key\"","constraint":"tug_name_key"}`) {
		t.Errorf("on the draft: %s", text)
	}
	if a := r.Send(t, r.Token(t, "harbour_master"), "POST", "/api/saltmere/tugs", strings.NewReader(body)); strings.Contains(a.Text,
		"innererror") {
		t.Errorf("live: %s", a.Text)
	}
}
