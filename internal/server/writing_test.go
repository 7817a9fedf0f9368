package server_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"

	"eagerwindow/internal/client"
	"eagerwindow/internal/core/payload"
	"eagerwindow/internal/harbourtest"
)

// write sends a request with a body and headers, given as name and value in turn.
func write(t *testing.T, r *harbourtest.Running, token, method, path, body string, headers ...string) harbourtest.Answer {
	t.Helper()
	header := http.Header{}
	for i := 0; i+1 < len(headers); i += 2 {
		if headers[i+1] != "" {
			header.Add(headers[i], headers[i+1])
		}
	}
	in := client.Request{Method: method, Path: path, Header: header}
	if body != "" {
		in.Body = strings.NewReader(body)
	}
	res, err := (&client.Client{URL: r.URL, Token: token}).Send(context.Background(), in)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	if err != nil {
		t.Fatal(err)
	}
	return harbourtest.Answer{Response: res, Text: harbourtest.Unversioned(string(text)), Raw: string(text)}
}

// PUT gives the whole row: what is left out goes to its default. A key that callers choose is created where it is not there.
func TestReplace(t *testing.T) {
	t.Parallel()
	r := start(t)
	master, agent, pilot := r.Token(t, "harbour_master"), r.Token(t, "agent"), r.Token(t, "pilot")
	for _, s := range []struct {
		token, method, path, body string
		status                    int
		want                      string
	}{
		{master, "PUT", "/vessels/3", `{"name":"Grey Petrel","imo_number":"9900027","flag":"NO","kind":"fishing","gross_tonnage":566.4}`, 200,
			`"built_on":null,"agent_id":null,"tags":[],"particulars":`},
		{master, "PUT", "/vessels/3?select=name,tags",
			`{"name":"Grey Petrel","imo_number":"9900027","flag":"NO","kind":"fishing","gross_tonnage":1,"tags":["ice"],"id":99}`, 200,
			`#vessels(name,tags)/$entity","name":"Grey Petrel","tags":["ice"]}`},
		{master, "PUT", "/vessels/3", `{"name":"Grey Petrel"}`, 400, "flag: is required"},
		{master, "PUT", "/vessels/3", `{}`, 400, "a replacement gives the whole row, PATCH changes what it names"},
		// the database makes its keys
		{master, "PUT", "/vessels/999999", `{"name":"X","imo_number":"9900027","flag":"NO","kind":"fishing","gross_tonnage":1}`, 404,
			"no such row"},
		{master, "PUT", "/vessels", `{}`, 405, "only a single row can be replaced with PUT"},
		{master, "PUT", "/berths/Z01", `{"quay":"New","length_m":90,"max_draught_m":6}`, 201, `"code":"Z01","quay":"New"`},
		{master, "PUT", "/berths/Z01", `{"quay":"Newer","length_m":91,"max_draught_m":6,"shore_power":true}`, 200,
			`"quay":"Newer","length_m":91.0`},
		{master, "PUT", "/berths/Z01", `{"quay":"Newer","length_m":91,"max_draught_m":6}`, 200, `"shore_power":false`},
		{master, "PATCH", "/berths/Z02", `{"quay":"New","length_m":90,"max_draught_m":6}`, 201, `"code":"Z02"`},
		{master, "PATCH", "/berths/Z03", `{"quay":"New"}`, 404, "no such row"},
		{master, "PUT", "/berths/Z03", `{"quay":"New"}`, 400, "length_m: is required"},
		{master, "PUT", "/pilotages/17/5d6e4aa8-0000-0000-0000-000000000001/inbound", `{}`, 409, "refers to one that does not exist"},
		{agent, "PUT", "/berths/Z04", `{"quay":"New","length_m":90,"max_draught_m":6}`, 403, "may not update berths"},
		{pilot, "PUT", "/port_calls/17", `{}`, 403, "may not update port_calls"},
		{master, "PUT", "/arrivals_board/17", `{}`, 405, "it is a saved view"},
		{master, "PATCH", "/vessels/3?filter=id eq 3", `{"flag":"IS"}`, 400, "filter goes with a collection"},
		{master, "POST", "/tugs?filter=id eq 3", `{"name":"Z","bollard_pull_t":1}`, 400, "filter does not go with a write"},
		{master, "PATCH", "/vessels/3?expand=port_calls(top=1;select=id),agent&select=flag", `{"flag":"IS"}`, 200,
			`"flag":"IS","port_calls":[{"id":`},
		{master, "POST", "/tugs?select=name&compute=bollard_pull_t mul 2 as twice", `{"name":"Petra","bollard_pull_t":41.5}`, 201,
			`"name":"Petra"}`},
		{agent, "PATCH", "/port_calls/1?select=remarks", `{"eta":"2026-07-09T12:00:00Z"}`, 403, "may not read remarks"},
	} {
		if a := write(t, r, s.token, s.method, "/api/saltmere"+s.path, s.body); a.StatusCode != s.status || !strings.Contains(a.Text, s.want) {
			t.Errorf("%s %s %s: %s %s\nwant %d %s", s.method, s.path, s.body, a.Status, a.Text, s.status, s.want)
		}
	}
	// Where only a part is the role's to write, the rest stays.
	before := column(t, r.Harbour, "select id from harbour.port_call p join harbour.vessel v using (id) where false union select min(p.id) "+
		"from harbour.port_call p join harbour.vessel v on v.id = p.vessel_id where v.agent_id = 3 and p.status = 'expected'")
	if len(before) == 1 && before[0] != "" {
		a := write(t, r, agent, "PUT", "/api/saltmere/port_calls/"+before[0], `{"eta":"2026-07-19T12:00:00Z"}`)
		if a.StatusCode != 200 || !strings.Contains(a.Text, `"eta":"2026-07-19T12:00:00Z","etd":null`) ||
			!strings.Contains(a.Text, `"status":"expected"`) {
			t.Errorf("a replacement by part: %s %s", a.Status, a.Text)
		}
	}
	// What the caller wants to see of it.
	a := write(t, r, master, "PATCH", "/api/saltmere/tugs/1", `{"bollard_pull_t":50}`, "Prefer", "return=minimal")
	if a.StatusCode != 204 || a.Text != "" || a.Header.Get("Preference-Applied") != "return=minimal" ||
		a.Header.Get("OData-EntityId") != "/api/saltmere/tugs/1" || a.Header.Get("ETag") == "" {
		t.Errorf("return=minimal: %s %v", a.Status, a.Header)
	}
	a = write(t, r, master, "POST", "/api/saltmere/tugs", `{"name":"Olga","bollard_pull_t":50}`, "Prefer", "return=representation")
	if a.StatusCode != 201 || a.Header.Get("Preference-Applied") != "return=representation" || a.Header.Get("Location") == "" ||
		a.Header.Get("ETag") == "" {
		t.Errorf("return=representation: %s %v", a.Status, a.Header)
	}
	old := write(t, r, master, "PATCH", "/api/saltmere/tugs/1?select=name&expand=port_calls(top=0;count=true)", `{"bollard_pull_t":50}`,
		"OData-MaxVersion", "4.0")
	if old.Header.Get("OData-Version") != "4.0" || !strings.HasPrefix(old.Text,
		`{"@odata.context":"../$metadata#tugs(name,port_calls())/$entity","name":"Bram","port_calls@odata.count":`) {
		t.Errorf("4.0: %v %s", old.Header, old.Text)
	}
	if again := get(t, r, master, a.Header.Get("Location"), "If-None-Match", a.Header.Get("ETag")); again.StatusCode != 304 {
		t.Errorf("the version that a create tells is not the row's: %s", again.Status)
	}
}

// A change may say which version it changes; one that is not the row's any more changes nothing.
func TestVersions(t *testing.T) {
	t.Parallel()
	r := start(t)
	master := r.Token(t, "harbour_master")
	const path = "/api/saltmere/tugs/1"
	first := r.Send(t, master, "GET", path, nil).Header.Get("ETag")
	changed := write(t, r, master, "PATCH", path, `{"bollard_pull_t":51}`, "If-Match", first)
	second := changed.Header.Get("ETag")
	if changed.StatusCode != 200 || second == "" || second == first {
		t.Fatalf("%s %s: %s to %s", changed.Status, changed.Text, first, second)
	}
	for _, s := range []struct {
		method, path, body, condition, value string
		status                               int
		want                                 string
	}{
		{"PATCH", path, `{"bollard_pull_t":52}`, "If-Match", first, 412, "its version is W/\\\"" + strings.Trim(second, `W/"`)},
		{"PUT", path, `{"name":"Bram","bollard_pull_t":52}`, "If-Match", first, 412, "has changed since"},
		{"DELETE", path, "", "If-Match", first, 412, "has changed since"},
		{"PATCH", path, `{"bollard_pull_t":52}`, "If-Match", `"nonsense"`, 412, "has changed since"},
		{"PATCH", path, `{"bollard_pull_t":52}`, "If-Match", `"1", ` + second, 200, `52`},
		{"PATCH", path, `{"bollard_pull_t":53}`, "If-Match", "*", 200, `53`},
		{"PATCH", "/api/saltmere/tugs/99999", `{"bollard_pull_t":53}`, "If-Match", second, 412, "no such row"},
		{"PUT", "/api/saltmere/berths/Y01", `{"quay":"New","length_m":90,"max_draught_m":6}`, "If-Match", "*", 412, "no such row"},
		{"PUT", "/api/saltmere/berths/Y01", `{"quay":"New","length_m":90,"max_draught_m":6}`, "If-None-Match", "*", 201, `"code":"Y01"`},
		{"PUT", "/api/saltmere/berths/Y01", `{"quay":"Old","length_m":90,"max_draught_m":6}`, "If-None-Match", "*", 412,
			"there is such a row of berths already"},
		{"PATCH", path, `{"bollard_pull_t":53}`, "If-None-Match", second, 400, "a version goes into If-Match"},
	} {
		if a := write(t, r, master, s.method, s.path, s.body, s.condition, s.value); a.StatusCode != s.status ||
			!strings.Contains(a.Text, s.want) {
			t.Errorf("%s %s %s: %s: %s %s\nwant %d %s", s.method, s.path, s.condition, s.value, a.Status, a.Text, s.status, s.want)
		}
	}
	// A condition that can't be held is not passed over.
	for _, s := range []struct{ method, path, body, want string }{
		{"PATCH", "/tugs/$filter(id eq 1)/$each", `{"bollard_pull_t":1}`, "the filter is the condition"},
		{"DELETE", "/tugs/$filter(id eq 1)/$each", "", "the filter is the condition"},
		{"PATCH", "/tugs", `{"value":[{"id":1,"bollard_pull_t":1}]}`, "each row takes its @etag"},
		{"POST", "/tugs", `{"name":"Condor","bollard_pull_t":1}`, "has no version yet"},
		{"POST", "/port_calls/17/tugs/$ref", `{"@id":"tugs/1"}`, "as a part of its row"},
		{"DELETE", "/port_calls/17/berth/$ref", "", "as a part of its row"},
	} {
		if a := write(t, r, master, s.method, "/api/saltmere"+s.path, s.body, "If-Match", second); a.StatusCode != 400 ||
			!strings.Contains(a.Text, "version.condition") || !strings.Contains(a.Text, s.want) {
			t.Errorf("%s %s: %s %s", s.method, s.path, a.Status, a.Text)
		}
	}
	if a := write(t, r, master, "DELETE", path, "", "If-None-Match", "*"); a.StatusCode != 400 {
		t.Errorf("deleted if it is new: %s %s", a.Status, a.Text)
	}
	if a := write(t, r, master, "POST", "/api/saltmere/tugs", `{"name":"Condor","bollard_pull_t":1}`, "If-None-Match",
		"*"); a.StatusCode != 201 {
		t.Errorf("a new row that must be new: %s %s", a.Status, a.Text)
	}
	// A resource may ask for the version each time.
	document := "window: careful\nsource: " + r.Harbour + "\nresources:\n  tugs: {from: harbour.tug, if_match: required}\n  port_calls: " +
		"{from: harbour.port_call, relations: {tugs: {to: tugs, through: harbour.port_call_tug}}}\nroles: {all: {may: {tugs: [read, update, " +
		"delete]}}}\n"
	if _, err := r.Operator.PushDraft(context.Background(), "careful", document); err != nil {
		t.Fatal(err)
	}
	for _, method := range []string{"PATCH", "PUT", "DELETE"} {
		if a := write(t, r, r.Operator.Token, method, "/draft/careful/tugs/1", `{"name":"Bram","bollard_pull_t":1}`); a.StatusCode != 428 ||
			!strings.Contains(a.Text, "send its ETag back") {
			t.Errorf("%s without a version: %s %s", method, a.Status, a.Text)
		}
	}
	for _, s := range []struct {
		method, path, body string
		status             int
		want               string
	}{
		{"PATCH", "/tugs", `{"@context":"#$delta","value":[{"name":"New","bollard_pull_t":1},{"id":1,"bollard_pull_t":2}]}`, 428,
			"value/1: tugs is changed with its version alone"},
		{"PATCH", "/tugs", `{"@context":"#$delta","value":[{"@removed":{"reason":"deleted"},"id":2}]}`, 428, "value/0: tugs is"},
		{"PATCH", "/port_calls/1", `{"tugs@delta":[{"@id":"tugs/1","bollard_pull_t":2}]}`, 428, "tugs@delta/0: tugs is"},
		{"PATCH", "/port_calls/1", `{"tugs@delta":[{"@id":"tugs/1","@removed":{"reason":"deleted"}}]}`, 428, "tugs@delta/0: tugs is"},
		{"PATCH", "/port_calls/1", `{"tugs@delta":[{"@id":"tugs/9"},{"name":"Own","bollard_pull_t":2}]}`, 200, `"Own"`},
		{"POST", "/tugs", `{"name":"Posted","bollard_pull_t":2}`, 201, ""},
		{"PATCH", "/tugs/$filter(name eq 'Posted')/$each", `{"bollard_pull_t":3}`, 204, ""}, // a filter is a condition too
	} {
		if a := write(t, r, r.Operator.Token, s.method, "/draft/careful"+s.path, s.body); a.StatusCode != s.status ||
			!strings.Contains(a.Text, s.want) {
			t.Errorf("%s %s %s: %s %s\nwant %d %s", s.method, s.path, s.body, a.Status, a.Text, s.status, s.want)
		}
	}
	if _, err := r.Operator.PushDraft(context.Background(), "careful", strings.Replace(document, "required", "maybe", 1)); err == nil ||
		!strings.Contains(err.Error(), `if_match is "required" or left out`) {
		t.Errorf("if_match: maybe: %v", err)
	}
}

// The version of each row of a list, and of rows in rows, is there with all metadata, and holds where it is sent back in a body.
func TestVersionsInBodies(t *testing.T) {
	t.Parallel()
	r := start(t)
	master := r.Token(t, "harbour_master")
	tag := func(path string) string {
		t.Helper()
		a := get(t, r, master, "/api/saltmere"+path, "Accept", "application/json;metadata=full")
		var row struct {
			Etag  string `json:"@etag"`
			Value []struct {
				Etag string `json:"@etag"`
			}
		}
		decode(t, a.Raw, &row)
		if len(row.Value) > 0 {
			row.Etag = row.Value[0].Etag
		}
		if !strings.HasPrefix(row.Etag, `W/"`) {
			t.Fatalf("%s: %s", path, a.Text)
		}
		return row.Etag
	}
	one := tag("/tugs?filter=id eq 1")
	if header := get(t, r, master, "/api/saltmere/tugs/1").Header.Get("ETag"); payload.Version(header) != payload.Version(one) ||
		tag("/tugs/1?expand=port_calls") != one ||
		tag("/tugs?filter=id eq 1&expand=port_calls(top=1)&orderby=port_calls/$count") != one {
		t.Errorf("the version is %s in the header, %s in a list", header, one)
	}
	nested := get(t, r, master, "/api/saltmere/port_calls?top=1&filter=id eq 17&select=id&expand=vessel(select=id),berth,tugs(select=id)",
		"Accept", "application/json;metadata=full")
	if n := strings.Count(nested.Raw, `"@etag":"W/`); n < 3 {
		t.Errorf("%d versions in %s", n, nested.Raw)
	}
	for _, path := range []string{"/arrivals_board?top=1", "/berth_occupancy?top=1", "/tugs?apply=groupby((name))",
		"/port_calls?top=1&apply=filter(id eq 17)&expand=vessel(select=name)"} {
		if a := get(t, r, master, "/api/saltmere"+path, "Accept", "application/json;metadata=full"); a.StatusCode != 200 ||
			strings.Contains(a.Text, `{"@id":"arrivals_board/17","@etag"`) {
			t.Errorf("%s: %s %s", path, a.Status, a.Text)
		}
	}
	if a := get(t, r, master, "/api/saltmere/tugs?top=1", "Accept", "application/json;metadata=full", "OData-MaxVersion",
		"4.0"); !strings.Contains(a.Raw, `"@odata.etag":"W/`) {
		t.Errorf("in 4.0: %s", a.Text)
	}

	const old = `"@etag":"W/\"1\""`
	now := func(path string) string { text, _ := json.Marshal(tag(path)); return `"@etag":` + string(text) }
	for _, s := range []struct {
		method, path, body string
		status             int
		want               string
	}{
		{"PATCH", "/tugs/1", `{` + old + `,"bollard_pull_t":61}`, 412, "has changed since; its version is"},
		{"PATCH", "/tugs/1", `{` + now("/tugs/1") + `,"bollard_pull_t":61}`, 200, "61.0"},
		{"PUT", "/tugs/1", `{` + old + `,"name":"Bram","bollard_pull_t":62}`, 412, "has changed since"},
		// it was asked for before the change
		{"PUT", "/tugs/1", `{` + now("/tugs/1") + `,"name":"Bram","bollard_pull_t":62}`, 412, "has changed since"},
		{"PATCH", "/tugs/1", `{"@etag":7,"bollard_pull_t":61}`, 400, "@etag: the version of the row is expected"},
		{"PATCH", "/tugs", `{"@context":"#$delta","value":[{"id":2,"bollard_pull_t":1},{"id":3,` + old + `,"bollard_pull_t":1}]}`, 412,
			"value/1: the row of tugs has changed since"},
		{"PATCH", "/tugs", `{"@context":"#$delta","value":[{"id":2,"bollard_pull_t":1},{"@removed":{"reason":"deleted"},"@id":"tugs/3",` + old +
			`}]}`, 412, "value/1: the row of tugs has changed since"},
		{"PATCH", "/tugs", `{"@context":"#$delta","value":[{"id":2,"bollard_pull_t":22},{"id":3,` + now("/tugs/3") + `,"bollard_pull_t":33}]}`,
			204, ""},
		// it is not made
		{"PATCH", "/berths", `{"@context":"#$delta","value":[{"code":"Q77",` + old + `,"quay":"x","length_m":1,"max_draught_m":1}]}`, 412,
			"value/0: the row of berths"},
		{"PATCH", "/port_calls/17?select=id", `{"vessel":{` + old + `,"flag":"NO"}}`, 412, "vessel: the row of vessels has changed since"},
		{"PATCH", "/port_calls/17?select=id", `{"remarks":"x","vessel":{` + now("/port_calls/17/vessel") + `,"flag":"NO"}}`, 200, `"id":17`},
		{"PATCH", "/port_calls/17?select=id", `{"tugs@delta":[{"@id":"tugs/4",` + old + `,"bollard_pull_t":1}]}`, 412,
			"tugs@delta/0: the row of tugs has changed since"},
		{"PATCH", "/port_calls/17?select=id", `{"tugs@delta":[{"@id":"tugs/4",` + now("/tugs/4") + `,"bollard_pull_t":44}]}`, 200, ""},
		{"POST", "/tugs", `{` + old + `,"name":"Etna","bollard_pull_t":40}`, 201, "Etna"}, // a new row has no version yet
	} {
		if a := write(t, r, master, s.method, "/api/saltmere"+s.path, s.body); a.StatusCode != s.status || !strings.Contains(a.Text, s.want) {
			t.Errorf("%s %s %s: %s %s\nwant %d %s", s.method, s.path, s.body, a.Status, a.Text, s.status, s.want)
		}
	}
	const pulls = "select string_agg(id || ' ' || bollard_pull_t, ', ' order by id) from harbour.tug where id <= 4"
	if got := column(t, r.Harbour, pulls)[0]; got != "1 61.0, 2 22.0, 3 33.0, 4 44.0" {
		t.Errorf("the tugs are %s", got)
	}
}

// Two writers who each read, add one, and write with the version they read: no addition is lost.
func TestNoUpdateIsLost(t *testing.T) {
	t.Parallel()
	r := start(t)
	master := r.Token(t, "harbour_master")
	const path, rounds = "/api/saltmere/tugs/2", 1000
	write(t, r, master, "PATCH", path, `{"bollard_pull_t":1}`)
	var writers sync.WaitGroup
	refused := make([]int, 2)
	for i := range refused {
		writers.Go(func() {
			for done := 0; done < rounds; {
				read := r.Send(t, master, "GET", path+"?select=bollard_pull_t", nil)
				var row struct {
					Pull float64 `json:"bollard_pull_t"`
				}
				decode(t, read.Text, &row)
				a := write(t, r, master, "PATCH", path, fmt.Sprintf(`{"bollard_pull_t":%g}`, (row.Pull*10+1)/10), "If-Match", read.Header.Get("ETag"),
					"Prefer", "return=minimal")
				switch a.StatusCode {
				case 204:
					done++
				case 412:
					refused[i]++
				default:
					t.Errorf("%s %s", a.Status, a.Text)
					return
				}
			}
		})
	}
	writers.Wait()
	if sum := column(t, r.Harbour, "select bollard_pull_t * 10 = 2010 from harbour.tug where id = 2")[0]; sum != "true" {
		t.Errorf("of 2,000 additions to 10, %s are there", column(t, r.Harbour,
			"select (bollard_pull_t * 10)::text from harbour.tug where id = 2")[0])
	}
	t.Logf("refused and tried again: %v", refused)
}

// PATCH and DELETE over every row of a filter: in one statement, all or none, never without a filter.
func TestEach(t *testing.T) {
	t.Parallel()
	r := start(t)
	document := "window: bulk\nsource: " + r.Harbour + `
resources:
  calls: {from: harbour.port_call}
  vessels: {from: harbour.vessel}
  items: {from: harbour.cargo_item}
  readings: {from: harbour.tide_reading}
  log: {from: harbour.weather_log}
roles:
  clerk:
    limits: {rows: 50}
    may:
      vessels: {read: {rows: agent_id eq 3}}
      calls:
        read: {rows: vessel/agent_id eq 3, except: [remarks]}
        update: {rows: vessel/agent_id eq 3 and draught_m lt 12, fields: [etd, draught_m]}
        delete: {rows: vessel/agent_id eq 3 and status eq 'cancelled'}
  all: {may: {"*": [read, update, delete]}}
`
	if _, err := r.Operator.PushDraft(context.Background(), "bulk", document); err != nil {
		t.Fatal(err)
	}
	number := func(sql string) string { return column(t, r.Harbour, sql)[0] }
	const own = "harbour.port_call p join harbour.vessel v on v.id = p.vessel_id where v.agent_id = 3 "
	for _, s := range []struct {
		role, method, path, body string
		status                   int
		want, rows, check        string // check: SQL that must be true afterwards
	}{
		{"all", "PATCH", "/items/$filter(tonnes gt 490)/$each", `{"description":"Heavy"}`, 204, "",
			number("select count(*) from harbour.cargo_item where tonnes > 490"),
			"select bool_and((description = 'Heavy') = (tonnes > 490)) from harbour.cargo_item where tonnes > 480"},
		{"all", "PATCH", "/items/$filter(@f)/$each?@f=tonnes gt 490 and port_call/hazardous", `{"hs_code":"000000"}`, 204, "",
			number("select count(*) from harbour.cargo_item c join harbour.port_call p on p.id = port_call_id where tonnes > 490 and hazardous"),
			"select count(*) > 0 from harbour.cargo_item where hs_code = '000000'"},
		{"all", "DELETE", "/items/$filter(hs_code eq '000000')/$each", "", 204, "",
			number("select count(*) from harbour.cargo_item c join harbour.port_call p on p.id = port_call_id where tonnes > 490 and hazardous"),
			"select count(*) = 0 from harbour.cargo_item where hs_code = '000000'"},
		{"all", "DELETE", "/items/$filter(id lt 0)/$each", "", 204, "", "0", "select true"},
		{"all", "DELETE", "/items/$each", "", 400, "without one it would mean every row", "", "select count(*) > 10000 from harbour.cargo_item"},
		{"all", "DELETE", "/items", "", 405, "only a single row can be deleted", "", "select count(*) > 10000 from harbour.cargo_item"},
		{"all", "PATCH", "/items/$filter(id gt 0)/$each", `{"tonnes":"1"}`, 400, "leave out the quotes", "",
			"select count(*) > 1 from (select distinct tonnes from harbour.cargo_item) q"},
		{"all", "PATCH", "/items/$filter(id gt 0)/$each", `{"tonnes":-1}`, 422, "", "", "select min(tonnes) >= 0 from harbour.cargo_item"},
		{"all", "DELETE", "/vessels/$filter(id eq 3)/$each", "", 409, "other rows still refer to this one", "",
			"select count(*) = 1 from harbour.vessel where id = 3"},
		{"all", "GET", "/items/$filter(id eq 3)/$each", "", 405, "leave it out to read them", "", "select true"},
		{"all", "PATCH", "/log/$filter(wind_kn gt 3)/$each", `{"note":"x"}`, 405, "", "", "select true"},
		{"clerk", "PATCH", "/calls/$filter(id gt 0)/$each", `{"etd":null}`, 409,
			"rows of calls meet the filter, and role \\\"clerk\\\" may update 50 at once; nothing was changed", "",
			"select bool_or(etd is not null) from " + own},
		{"clerk", "PATCH", "/calls/$filter(status eq 'expected' and draught_m lt 8)/$each", `{"etd":null}`, 204, "",
			number("select count(*) from " + own + "and status = 'expected' and draught_m < 8"), "select bool_and(etd is null) from " + own +
				"and status = 'expected' and draught_m < 8"},
		{"clerk", "PATCH", "/calls/$filter(status eq 'expected' and draught_m lt 8)/$each", `{"draught_m":12.5}`, 403, "some of these", "",
			"select count(*) > 0 from " + own + "and status = 'expected' and draught_m < 8"},
		{"clerk", "PATCH", "/calls/$filter(remarks eq null)/$each", `{"etd":null}`, 403, "may not read remarks", "", "select true"},
		{"clerk", "PATCH", "/calls/$filter(id eq 17)/$each", `{"remarks":"x"}`, 403, "may not update this field", "", "select true"},
		{"clerk", "DELETE", "/vessels/$filter(id eq 3)/$each", "", 403, "may not delete vessels", "", "select true"},
	} {
		a := write(t, r, r.Operator.Token, s.method, "/draft/bulk"+s.path, s.body, "Act-As", s.role)
		if a.StatusCode != s.status || !strings.Contains(a.Text, s.want) || a.Header.Get("Rows-Affected") != s.rows {
			t.Errorf("%s %s %s as %s: %s, %q rows, %s\nwant %d, %q rows, %s", s.method, s.path, s.body, s.role, a.Status,
				a.Header.Get("Rows-Affected"), a.Text, s.status, s.rows, s.want)
		}
		if ok := number(s.check); ok != "true" {
			t.Errorf("after %s %s: %s is %s", s.method, s.path, s.check, ok)
		}
	}
	// The rows as they are now, where they are asked for and the role may read them.
	shown := write(t, r, r.Operator.Token, "PATCH", "/draft/bulk/calls/$filter(draught_m lt 8 and status eq 'expected')/$each?select=id,etd",
		`{"etd":"2026-09-01T00:00:00Z"}`, "Act-As", "clerk", "Prefer", "return=representation")
	l := readList(t, shown)
	if n := len(l.Value); n == 0 || fmt.Sprint(n) != shown.Header.Get("Rows-Affected") ||
		shown.Header.Get("Preference-Applied") != "return=representation" || string(l.Value[0]["etd"]) != `"2026-09-01T00:00:00Z"` ||
		l.Context != "../../$metadata#calls(id,etd)" {
		t.Errorf("return=representation: %v %s", shown.Header, shown.Text)
	}
	none := write(t, r, r.Operator.Token, "PATCH", "/draft/bulk/items/$filter(id lt 0)/$each", `{"tonnes":1}`, "Prefer",
		"return=representation")
	if none.StatusCode != 200 || none.Text != `{"@context":"../../$metadata#items","value":[]}`+"\n" {
		t.Errorf("nothing to show: %s %s", none.Status, none.Text)
	}
	many := write(t, r, r.Operator.Token, "PATCH", "/draft/bulk/items/$filter(id gt 0)/$each", `{"dangerous_class":null}`, "Prefer",
		"return=representation")
	if many.StatusCode != 204 || many.Header.Get("Preference-Applied") != "" {
		t.Errorf("more than can be shown: %s %d bytes", many.Status, len(many.Text))
	}
}

// Links are made and removed by themselves: through a junction, by a foreign key here, by one there. Nothing is deleted.
func TestLinks(t *testing.T) {
	t.Parallel()
	r := start(t)
	master, agent := r.Token(t, "harbour_master"), r.Token(t, "agent")
	number := func(sql string) string { return column(t, r.Harbour, sql)[0] }
	call := number("select min(p.id) from harbour.port_call p join harbour.vessel v on v.id = vessel_id where v.agent_id = 3 and p.status " +
		"= 'expected' and not exists (select from harbour.port_call_tug j where j.port_call_id = p.id)")
	if call == "" {
		call = number("select max(p.id) from harbour.port_call p where not exists (select from harbour.port_call_tug j where j.port_call_id = " +
			"p.id)")
	}
	tugs := "select coalesce(string_agg(tug_id::text, ' ' order by tug_id), '') from harbour.port_call_tug where port_call_id = " + call
	for _, s := range []struct {
		token, method, path, body string
		status                    int
		want, sql, is             string
	}{
		{master, "POST", "/port_calls/" + call + "/tugs/$ref", `{"@id":"tugs/3"}`, 204, "", tugs, "3"},
		{master, "POST", "/port_calls/" + call + "/tugs/$ref", `{"@odata.id":"` + r.URL + `/api/saltmere/tugs(5)"}`, 204, "", tugs, "3 5"},
		{master, "POST", "/port_calls/" + call + "/tugs/$ref", `{"@id":"tugs/3"}`, 204, "", tugs, "3 5"},
		{master, "POST", "/port_calls/" + call + "/tugs/$ref", `{"@id":"tugs/999"}`, 404, "no such row", tugs, "3 5"},
		{master, "POST", "/port_calls/999999/tugs/$ref", `{"@id":"tugs/3"}`, 404, "no such row of port_calls", tugs, "3 5"},
		{master, "POST", "/port_calls/" + call + "/tugs/$ref", `{"@id":"vessels/3"}`, 400,
			`tugs leads to rows of tugs, and \"vessels/3\" is none`, tugs, "3 5"},
		{master, "POST", "/port_calls/" + call + "/tugs/$ref", `{}`, 400, "the body names no row", tugs, "3 5"},
		{master, "POST", "/port_calls/" + call + "/tugs/$ref", `{"@id":3}`, 400, "is a string", tugs, "3 5"},
		{master, "POST", "/port_calls/" + call + "/tugs", `{"name":"Zora","bollard_pull_t":1}`, 501, "linked with POST", tugs, "3 5"},
		{master, "POST", "/port_calls/$ref", `{"@id":"tugs/3"}`, 400, "along a relation", tugs, "3 5"},
		{agent, "POST", "/vessels/3/port_calls/$ref", `{"@id":"port_calls/1"}`, 403, "may not update vessel_id of port_calls", tugs, "3 5"},
		{master, "DELETE", "/port_calls/" + call + "/tugs/$ref", "", 400, "say which row of tugs", tugs, "3 5"},
		{master, "DELETE", "/port_calls/" + call + "/tugs/3/$ref", "", 204, "", tugs, "5"},
		{master, "DELETE", "/port_calls/" + call + "/tugs/3/$ref", "", 404, "there is no such link", tugs, "5"},
		{master, "DELETE", "/port_calls/" + call + "/tugs/$ref?$id=tugs/5", "", 204, "", "select count(*) || '" +
			"' from harbour.tug where id in (3, 5)", "2"},
		{master, "PUT", "/port_calls/" + call + "/berth/$ref", `{"@id":"berths/N05"}`, 204, "",
			"select berth_code from harbour.port_call where id = " + call, "N05"},
		{master, "PUT", "/port_calls/" + call + "/berth/$ref", `{"@id":"berths/none"}`, 404, "no such row",
			"select berth_code from harbour.port_call where id = " + call, "N05"},
		{master, "DELETE", "/port_calls/" + call + "/berth/$ref", "", 204, "", "select berth_code is null from harbour.port_call where id = " +
			call, "true"},
		{master, "DELETE", "/port_calls/" + call + "/vessel/$ref", "", 409, "a row of port_calls can't be without vessel_id",
			"select vessel_id is null from harbour.port_call where id = " + call, "false"},
		{master, "POST", "/agents/3/vessels/$ref", `{"@id":"vessels/1"}`, 204, "", "select agent_id from harbour.vessel where id = 1", "3"},
		{master, "DELETE", "/agents/4/vessels/1/$ref", "", 404, "no such row", "select agent_id from harbour.vessel where id = 1", "3"},
		{master, "DELETE", "/agents/3/vessels/1/$ref", "", 204, "", "select agent_id is null from harbour.vessel where id = 1", "true"},
		{master, "DELETE", "/vessels/3/port_calls/" + number("select min(id) from harbour.port_call where vessel_id = 3") + "/$ref", "", 409,
			"link it to another one, or delete it", "select count(*) > 0 from harbour.port_call where vessel_id = 3", "true"},
	} {
		a := write(t, r, s.token, s.method, "/api/saltmere"+s.path, s.body)
		if a.StatusCode != s.status || !strings.Contains(a.Text, s.want) {
			t.Errorf("%s %s %s: %s %s\nwant %d %s", s.method, s.path, s.body, a.Status, a.Text, s.status, s.want)
		}
		if got := number(s.sql); got != s.is {
			t.Errorf("after %s %s %s: %q, want %q", s.method, s.path, s.body, got, s.is)
		}
	}
}

// A row is created along a relation, and a field is set by itself.
func TestWritesByPath(t *testing.T) {
	t.Parallel()
	r := start(t)
	master, agent := r.Token(t, "harbour_master"), r.Token(t, "agent")
	for _, s := range []struct {
		token, method, path, body string
		status                    int
		want                      string
	}{
		{agent, "POST", "/vessels/3/port_calls", `{"eta":"2026-07-09T12:00:00Z","draught_m":5.5}`, 201, `"vessel_id":3,`},
		{master, "POST", "/vessels/3/port_calls", ` {"vessel_id":3,"eta":"2026-07-09T12:00:00Z","draught_m":5.5,"status":"expected"}`, 201,
			`"vessel_id":3,`},
		{master, "POST", "/vessels/3/port_calls", `{"vessel_id":4,"eta":"2026-07-09T12:00:00Z","draught_m":5.5,"status":"expected"}`, 400,
			"vessel_id: the path says 3, the body 4"},
		{master, "POST", "/vessels/3/port_calls", `{}`, 400, "eta: is required"},
		{master, "POST", "/vessels/3/port_calls", `[]`, 400, "a JSON object with the row's fields is expected"},
		{master, "POST", "/vessels/3/port_calls", `{"eta":`, 400, "the body is not JSON: line 1"},
		{master, "POST", "/vessels/999999/port_calls", `{"eta":"2026-07-09T12:00:00Z","draught_m":5.5}`, 404, "no such row of vessels"},
		{agent, "POST", "/vessels/1/port_calls", `{"eta":"2026-07-09T12:00:00Z","draught_m":5.5}`, 404, "no such row of vessels"},
		{master, "POST", "/port_calls/17/vessel", `{}`, 405, "added with POST to the collection /vessels"},
		{master, "PUT", "/port_calls/17/draught_m", `{"value":6.25}`, 200, `"draught_m":6.25`},
		{master, "PATCH", "/port_calls/17/remarks", `{"value":"Late."}`, 200, `"remarks":"Late."`},
		{master, "DELETE", "/port_calls/17/remarks", "", 204, ""},
		{master, "GET", "/port_calls/17/remarks", "", 204, ""},
		{master, "DELETE", "/port_calls/17/eta", "", 400, "eta"},
		{master, "PUT", "/port_calls/17/draught_m", `6.25`, 400, `the body is no JSON object; send {\"value\": …}`},
		{master, "PUT", "/port_calls/17/draught_m", `{"value":"6.25"}`, 400, "leave out the quotes"},
		{agent, "PUT", "/port_calls/17/remarks", `{"value":"x"}`, 403, "may not update this field"},
	} {
		if a := write(t, r, s.token, s.method, "/api/saltmere"+s.path, s.body); a.StatusCode != s.status || !strings.Contains(a.Text, s.want) {
			t.Errorf("%s %s %s: %s %s\nwant %d %s", s.method, s.path, s.body, a.Status, a.Text, s.status, s.want)
		}
	}
}

// Many to many through a table that says more than who belongs together, declared in the document; also from a table to itself. Where
// the fields behind a relation are not exposed, it can be read and not written.
func TestDeclaredJunctions(t *testing.T) {
	t.Parallel()
	r := start(t)
	dsn := harbourtest.Database(t, false)
	for _, sql := range strings.Split(`create table person (id int primary key, name text not null, boss_id int references person);
			create table boat (id int generated by default as identity (start with 10) primary key, name text not null,
			owner_id int references person);
			create table crew (person_id int references person, boat_id int references boat, rank text not null default 'hand',
			since date default '2026-07-01', primary key (person_id, boat_id));
			create table friendship (id int generated always as identity primary key, one_id int not null references person,
			other_id int not null references person, unique (one_id, other_id));
			insert into person values (1, 'Ada'), (2, 'Bo'), (3, 'Cy'); insert into boat values (1, 'Wren'), (2, 'Tern');
			insert into crew values (2, 1, 'mate', '2020-01-01')`, ";") {
		column(t, dsn, sql)
	}
	document := "window: boats\nsource: " + dsn + `
resources:
  people:
    from: person
    relations: {boats: {to: boats, through: crew}, friends: {to: people, through: friendship}}
    fields: {boss_id: {expose: false}}
  boats:
    from: boat
    relations: {hands: {to: people, through: crew}}
`
	if _, err := r.Operator.PushDraft(context.Background(), "boats", document); err != nil {
		t.Fatal(err)
	}
	crew := "select coalesce(string_agg(concat_ws(' ', person_id, boat_id, rank, since), ', ' order by person_id, boat_id), '') from crew"
	for _, s := range []struct {
		method, path, body string
		status             int
		want, sql, is      string
	}{
		{"POST", "/people/1/boats/$ref", `{"@id":"boats/2"}`, 204, "", crew, "1 2 hand 2026-07-01, 2 1 mate 2020-01-01"},
		{"POST", "/people/2/boats/$ref", `{"@id":"boats/1"}`, 204, "", crew, "1 2 hand 2026-07-01, 2 1 mate 2020-01-01"}, // it was tied before
		{"POST", "/boats/1/hands/$ref", `{"@id":"people(3)"}`, 204, "", crew, "1 2 hand 2026-07-01, 2 1 mate 2020-01-01, 3 1 hand 2026-07-01"},
		{"GET", "/boats?select=name&expand=hands(select=name;orderby=name)&orderby=id", "", 200,
			`{"name":"Wren","hands":[{"name":"Bo"},{"name":"Cy"}]},` + "\n" + `{"name":"Tern","hands":[{"name":"Ada"}]}`, "select 1", "1"},
		{"GET", "/people?filter=boats/any(b: b/name eq 'Wren')&select=id", "", 200, `{"id":2},` + "\n" + `{"id":3}`, "select 1", "1"},
		{"PATCH", "/boats/1", `{"hands@delta":[{"@removed":{"reason":"changed"},"@id":"people/3"},{"@id":"people/1"}]}`, 200, "", crew,
			"1 1 hand 2026-07-01, 1 2 hand 2026-07-01, 2 1 mate 2020-01-01"},
		{"PATCH", "/people/1?select=id", `{"boats":[{"@id":"boats/2"},{"name":"Rook"}]}`, 200, "", crew,
			"1 2 hand 2026-07-01, 1 10 hand 2026-07-01, 2 1 mate 2020-01-01"},
		{"POST", "/people?select=id&expand=boats(select=name;orderby=name)", `{"id":4,"name":"Di","boats":[{"@id":"boats/1"},{"name":"Sorrel"}]}`,
			201, `"boats":[{"name":"Sorrel"},{"name":"Wren"}]`, "select count(*) from boat", "4"},
		{"DELETE", "/people/1/boats/10/$ref", "", 204, "", "select count(*) from boat where id = 10", "1"},
		{"POST", "/people/1/friends/$ref", `{"@id":"people/2"}`, 204, "",
			"select string_agg(one_id || ' ' || other_id, ', ' order by id) from friendship", "1 2"},
		{"POST", "/people/2/friends/$ref", `{"@id":"people/2"}`, 204, "",
			"select string_agg(one_id || ' ' || other_id, ', ' order by id) from friendship", "1 2, 2 2"},
		{"GET", "/people/1/friends?select=name", "", 200, `{"name":"Bo"}`, "select 1", "1"},
		{"DELETE", "/people/2/friends/1/$ref", "", 404, "no such link", "select count(*) from friendship", "2"}, // the other way round
		{"DELETE", "/people/1/friends/2/$ref", "", 204, "", "select count(*) from friendship", "1"},
		{"PUT", "/people/1/boss/$ref", `{"@id":"people/2"}`, 501, "the fields behind boss are not shown here",
			"select count(boss_id) from person", "0"},
		{"DELETE", "/people/1/boss/$ref", "", 501, "the fields behind boss are not shown here", "select count(boss_id) from person", "0"},
		{"PUT", "/boats/1/owner/$ref", `{"@id":"people/2"}`, 204, "", "select owner_id from boat where id = 1", "2"},
	} {
		a := r.Send(t, r.Operator.Token, s.method, "/draft/boats"+s.path, strings.NewReader(s.body))
		if a.StatusCode != s.status || !strings.Contains(a.Text, s.want) {
			t.Errorf("%s %s %s: %s %s\nwant %d %s", s.method, s.path, s.body, a.Status, a.Text, s.status, s.want)
		}
		if got := column(t, dsn, s.sql)[0]; got != s.is {
			t.Errorf("after %s %s %s: %q, want %q", s.method, s.path, s.body, got, s.is)
		}
	}
	for _, m := range []struct{ through, want string }{
		{"boat", `boat has no foreign keys to both people and boats`},
		{"crw", `has no table or view "crw"`},
	} {
		_, err := r.Operator.PushDraft(context.Background(), "boats",
			strings.Replace(document, "boats, through: crew}", "boats, through: "+m.through+"}", 1))
		if err == nil || !strings.Contains(err.Error(), m.want) {
			t.Errorf("through %s: %v", m.through, err)
		}
	}
}
