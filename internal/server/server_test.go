package server_test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/jackc/pgx/v5"
	"go.yaml.in/yaml/v4"

	"eagerwindow/demo"
	"eagerwindow/internal/client"
	"eagerwindow/internal/harbourtest"
	"eagerwindow/internal/server"
	"eagerwindow/internal/service"
	"eagerwindow/internal/windows"
)

func start(t testing.TB) *harbourtest.Running { return harbourtest.Serve(t, nil, server.New) }

// until waits until something holds, which it does in a moment.
func until(t *testing.T, what string, holds func() bool) {
	t.Helper()
	for end := time.Now().Add(20 * time.Second); !holds(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("it never came about that %s", what)
		}
	}
}

// waiting is how many statements of a database wait for a lock.
func waiting(t *testing.T, dsn string) (n int) {
	t.Helper()
	text := column(t, dsn, "select count(*)::text from pg_stat_activity where datname = current_database() and wait_event_type = 'Lock'")[0]
	if _, err := fmt.Sscan(text, &n); err != nil {
		t.Fatal(err)
	}
	return n
}

// database is a database of a test's own, as the statements make it.
func database(t testing.TB, statements string) string {
	t.Helper()
	ctx, dsn := context.Background(), harbourtest.Database(t, false)
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	if _, err := conn.Exec(ctx, statements); err != nil {
		t.Fatal(err)
	}
	return dsn
}

// column runs SQL by hand and returns the first column as text.
func column(t testing.TB, dsn, sql string) []string {
	t.Helper()
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	rows, err := conn.Query(ctx, sql)
	if err != nil {
		t.Fatal(err)
	}
	list, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (s string, err error) {
		var v any
		err = row.Scan(&v)
		return fmt.Sprint(v), err
	})
	if err != nil {
		t.Fatalf("%s: %v", sql, err)
	}
	return list
}

type list struct {
	Context  string                       `json:"@context"`
	Count    *int                         `json:"@count"`
	NextLink string                       `json:"@nextLink"`
	Value    []map[string]json.RawMessage `json:"value"`
}

func readList(t testing.TB, a harbourtest.Answer) list {
	t.Helper()
	var l list
	if a.StatusCode != http.StatusOK {
		t.Fatalf("%s: %s", a.Status, a.Text)
	}
	if err := json.Unmarshal([]byte(a.Text), &l); err != nil {
		t.Fatalf("%v in %.300s", err, a.Text)
	}
	return l
}

func fields(l list, name string) []string {
	out := []string{}
	for _, row := range l.Value {
		out = append(out, strings.Trim(string(row[name]), `"`))
	}
	return out
}

// What a role reads is what SQL by hand finds under its rule.
func TestRead(t *testing.T) {
	t.Parallel()
	r := start(t)
	const agents = "from harbour.port_call p join harbour.vessel v on v.id = p.vessel_id where v.agent_id = 3"
	tests := []struct{ role, path, field, sql string }{
		{"", "/arrivals_board?top=200", "id",
			"select id from harbour.port_call where status in ('expected','anchored') order by eta, id limit 200"},
		{"agent", "/port_calls?filter=status eq 'expected' and vessel/flag eq 'NO'&orderby=eta desc&top=5&select=id," +
			"eta&expand=vessel(select=name)&count=true", "id",
			"select p.id " + agents + " and p.status = 'expected' and v.flag = 'NO' order by eta desc limit 5"},
		{"agent", "/port_calls?filter=berth_code ne 'N01'&orderby=berth_code,eta&top=1000", "id", "select p.id " + agents +
			" and p.berth_code is distinct from 'N01' order by berth_code nulls first, eta"},
		{"agent", "/port_calls?filter=not (berth_code eq 'N01') and not (berth_code gt 'O')&top=1000&orderby=id", "id", "select p.id " + agents +
			" and p.berth_code is distinct from 'N01' and not coalesce(p.berth_code > 'O', false) order by id"},
		{"agent", "/vessels?filter=(kind in ('tanker','cargo') or built_on eq null) and not contains(tolower(name),'star')&orderby=name desc,id",
			"id",
			"select id from harbour.vessel where agent_id = 3 and (kind in ('tanker'," +
				"'cargo') or built_on is null) and name not ilike '%star%' order by name desc, id"},
		{"harbour_master", "/vessels?filter=agent/name eq null&orderby=id", "id",
			"select id from harbour.vessel where agent_id is null order by id"},
		{"harbour_master", "/vessels?filter=startswith(name,'Grey') and endswith(name,'II')&orderby=gross_tonnage", "id",
			"select id from harbour.vessel where name like 'Grey%II' order by gross_tonnage, id"},
		{"harbour_master", "/vessels?filter=built_on in (1991-03-20,null)&select=id&orderby=id&top=1000", "id",
			"select id from harbour.vessel where built_on = '1991-03-20' or built_on is null order by id"},
		{"harbour_master", "/inspections?filter=port_call/vessel/agent/since lt 2000-01-01&orderby=id&top=1000", "id",
			"select i.id from harbour.inspection i join harbour.port_call p on p.id = i.port_call_id join harbour.vessel v on v.id = p.vessel_id " +
				"join harbour.agent a on a.id = v.agent_id where a.since < '2000-01-01' order by i.id limit 1000"},
		{"harbour_master", "/port_calls?filter=draught_m gt 13 and eta lt 2025-09-01T00:00:00+02:00&skip=3&top=4&orderby=draught_m", "id",
			"select id from harbour.port_call where draught_m > 13 and eta < '2025-09-01 00:00+02' order by draught_m, id offset 3 limit 4"},
		{"pilot", "/pilotages?orderby=boarded_at desc&top=10", "port_call_id", "select port_call_id from harbour.pilotage where pilot_id = '" +
			demo.Pilot + "' order by boarded_at desc nulls last, port_call_id, pilot_id, direction limit 10"},
		{"harbour_master", "/berths/N05", "quay", "select quay from harbour.berth where code = 'N05'"},
		{"harbour_master", "/port_calls?filter=vessel_id eq 99999999999", "id", "select 1 where false"},
	}
	for _, tt := range tests {
		t.Run(tt.role+tt.path, func(t *testing.T) {
			token := ""
			if tt.role != "" {
				token = r.Token(t, tt.role)
			}
			a := r.Send(t, token, "GET", "/api/saltmere"+tt.path, nil)
			var got []string
			if strings.Contains(a.Text, `"value"`) {
				got = fields(readList(t, a), tt.field)
			} else {
				var row map[string]any
				if err := json.Unmarshal([]byte(a.Text), &row); err != nil {
					t.Fatal(err)
				}
				got = []string{fmt.Sprint(row[tt.field])}
			}
			if want := column(t, r.Harbour, tt.sql); !slices.Equal(got, want) {
				t.Errorf("got %v\nwant %v", got, want)
			}
		})
	}
	counted := readList(t, r.Send(t, r.Token(t, "agent"), "GET", "/api/saltmere/port_calls?top=0&count=true", nil))
	if want := column(t, r.Harbour, "select count(*) "+agents); counted.Count == nil || fmt.Sprint(*counted.Count) != want[0] ||
		len(counted.Value) != 0 {
		t.Errorf("the count is %v with %d rows, want %s and none", counted.Count, len(counted.Value), want[0])
	}
}

func TestExpand(t *testing.T) {
	t.Parallel()
	r := start(t)
	token := r.Token(t, "agent")
	tests := []struct{ path, want string }{
		{"/vessels/3?select=name&expand=port_calls(select=id;orderby=id;top=2;count=true)", `{"@context":"../$metadata#vessels(name,` +
			`port_calls(id))/$entity","name":"Grey Petrel","port_calls@count":%COUNT%,"port_calls":[%CALLS%]}`},
		{"/port_calls?select=id&top=1&orderby=id&expand=vessel(select=id;expand=port_calls(select=id;top=1;orderby=id))", ""},
	}
	calls := column(t, r.Harbour, "select id from harbour.port_call where vessel_id = 3 order by id limit 2")
	count := column(t, r.Harbour, "select count(*) from harbour.port_call where vessel_id = 3")
	want := strings.NewReplacer("%COUNT%", count[0], "%CALLS%", `{"id":`+strings.Join(calls, `},{"id":`)+`}`).Replace(tests[0].want)
	if a := r.Send(t, token, "GET", "/api/saltmere"+tests[0].path, nil); strings.TrimSpace(a.Text) != want {
		t.Errorf("got  %s\nwant %s", a.Text, want)
	}
	if a := r.Send(t, token, "GET", "/api/saltmere"+tests[1].path, nil); a.StatusCode != 200 {
		t.Errorf("%s: %s", a.Status, a.Text)
	}
	// The rule of a role holds for what it expands: an agent's tug sees that agent's calls only.
	a := r.Send(t, token, "GET", "/api/saltmere/tugs/1?select=id&expand=port_calls(select=id;orderby=id)", nil)
	var tug struct {
		Calls []struct{ ID int } `json:"port_calls"`
	}
	if err := json.Unmarshal([]byte(a.Text), &tug); err != nil {
		t.Fatal(err)
	}
	own := column(t, r.Harbour, "select p.id from harbour.port_call p join harbour.vessel v on v.id = p.vessel_id join "+
		"harbour.port_call_tug j on j.port_call_id = p.id where v.agent_id = 3 and j.tug_id = 1 order by 1")
	if len(tug.Calls) != len(own) || len(own) == 0 || fmt.Sprint(tug.Calls[0].ID) != own[0] {
		t.Errorf("expanded %d calls, want %d of the agent's own", len(tug.Calls), len(own))
	}
}

func TestRefusals(t *testing.T) {
	t.Parallel()
	r := start(t)
	agent, master := r.Token(t, "agent"), r.Token(t, "harbour_master")
	other := column(t, r.Harbour, "select p.id from harbour.port_call p join harbour.vessel v on v.id = p.vessel_id where v.agent_id = 4 "+
		"limit 1")[0]
	departed := column(t, r.Harbour, "select p.id from harbour.port_call p join harbour.vessel v on v.id = p.vessel_id where v.agent_id = "+
		"3 and status = 'departed' limit 1")[0]
	tests := []struct {
		token, method, path, body string
		status                    int
		want                      string
	}{
		{"", "GET", "/api/saltmere/vessels", "", 401,
			`without a token the role is \"board\", which may not read vessels; it may read arrivals_board`},
		{agent, "GET", "/api/saltmere/inspections", "", 403, `role \"agent\" may not read inspections; it may read vessels, berths`},
		{agent, "GET", "/api/saltmere/port_calls?filter=statuss eq 1", "", 400,
			`unknown field \"statuss\" in filter at 1; resource \"port_calls\" has \"status\"`},
		{agent, "GET", "/api/saltmere/port_calls/" + other, "", 404, "there is no such row of port_calls, or none that you may see"},
		{agent, "GET", "/api/saltmere/port_calls/abc", "", 400, `\"abc\" is no whole number of 64 bits in path`},
		{agent, "GET", "/api/saltmere/port_calls/99999999999", "", 404, "no such row"},
		{agent, "GET", "/api/saltmere/port_calls(-2147483649)", "", 404, "no such row"},
		{agent, "GET", "/api/saltmere/port_calls/2147483648/vessel", "", 404, "no such row"},
		{agent, "GET", "/api/saltmere/port_calls/99999999999999999999", "", 400, "whole number of 64 bits"},
		{agent, "PATCH", "/api/saltmere/port_calls/99999999999", `{"etd":"2026-07-03T10:00:00Z"}`, 404, "no such row"},
		{"nonsense", "GET", "/api/saltmere/port_calls", "", 401, "it is not a token of this service; ask for one at /auth/saltmere/token"},
		{r.Operator.Token, "GET", "/api/saltmere/port_calls", "", 401, "an operator's token does not call the live API"},
		{agent, "GET", "/api/saltmer/port_calls", "", 404, `there is no published window \"saltmer\"; did you mean \"saltmere\"?`},
		{agent, "GET", "/draft/saltmere/port_calls", "", 401, "this is no operator's token"},
		{"", "GET", "/draft/saltmere/port_calls", "", 401, "sign in first"},
		{agent, "PUT", "/api/saltmere/port_calls", "{}", 405, "only a single row can be replaced"},
		{agent, "POST", "/api/saltmere/vessels", "{}", 403, `role \"agent\" may not create vessels; it may create port_calls`},
		{agent, "DELETE", "/api/saltmere/port_calls/1", "", 403, `role \"agent\" may not delete port_calls; it may delete nothing`},
		{master, "POST", "/api/saltmere/berth_occupancy", "{}", 405,
			"berth_occupancy can't be used to create rows: it is a view, and offers read"},
		{master, "POST", "/api/saltmere/vessels/3", "{}", 405, "a row is added with POST to the collection /vessels"},
		{master, "PATCH", "/api/saltmere/vessels", "{}", 400, "a change of one row goes to its own path, as in /vessels/…"},
		{agent, "PATCH", "/api/saltmere/port_calls/" + other, `{"eta":"2026-08-01T00:00:00Z"}`, 404, "no such row"},
		{agent, "PATCH", "/api/saltmere/port_calls/" + departed, `{"eta":"2026-08-01T00:00:00Z"}`, 403,
			`role \"agent\" may read this row of port_calls but not update it`},
		{agent, "POST", "/api/saltmere/port_calls", `{"vessel_id":1,"eta":"2026-07-09T10:00:00Z","draught_m":5}`, 403, "nothing was changed"},
		{master, "POST", "/api/saltmere/tugs", `{"name":"Bram","bollard_pull_t":30}`, 409,
			"name: another row has the same value where it must be unique"},
		{master, "PATCH", "/api/saltmere/port_calls/1", `{"vessel_id":5555}`, 409, "vessel_id: the row refers to one that does not exist"},
		{master, "DELETE", "/api/saltmere/vessels/3", "", 409, "other rows still refer to this one"},
		{master, "PATCH", "/api/saltmere/port_calls/1", `{"draught_m":-1}`, 422, "draught_m: more than 0 is expected, this is -1"},
		{master, "PATCH", "/api/saltmere/port_calls/1", `{"draught_m":"7.1"}`, 400,
			"draught_m: a number (at most 4 digits, 2 of them after the point) is expected, this is a string; leave out the quotes"},
		{master, "PATCH", "/api/saltmere/port_calls/1", `{"remarks":"` + strings.Repeat("x", 1<<20) + `"}`, 413,
			"the body has more than 1048576 bytes"},
		{agent, "GET", "/api/saltmere/port_calls?filter=id in (" + strings.Repeat("1,", 9000) + "1)", "", 414, "at most 16384 are read"},
		{"", "GET", "/api/nowhere/x", "", 404, `there is no published window \"nowhere\"`},
		{"", "GET", "/manage/windows", "", 401, "sign in first"},
		{"", "GET", "/manage/nothing", "", 404, "there is nothing at /manage/nothing"},
	}
	for _, tt := range tests {
		t.Run(tt.method+" "+tt.path[:min(len(tt.path), 60)], func(t *testing.T) {
			var body io.Reader
			if tt.body != "" {
				body = strings.NewReader(tt.body)
			}
			a := r.Send(t, tt.token, tt.method, tt.path, body)
			if a.StatusCode != tt.status || !strings.Contains(a.Text, tt.want) {
				t.Errorf("got %s %.400s\nwant %d %s", a.Status, a.Text, tt.status, tt.want)
			}
			if tt.status == 405 && a.Header.Get("Allow") == "" {
				t.Error("a 405 without Allow")
			}
			if tt.status == 401 && a.Header.Get("WWW-Authenticate") == "" {
				t.Error("a 401 without WWW-Authenticate")
			}
			for _, secret := range []string{"harbour.", "_fkey", "_check", "select "} {
				if strings.Contains(a.Text, secret) {
					t.Errorf("the answer tells %q: %s", secret, a.Text)
				}
			}
		})
	}
	media := write(t, r, r.Token(t, "harbour_master"), "POST", "/api/saltmere/vessels", "x", "Content-Type", "text/plain")
	if media.StatusCode != 415 || !strings.Contains(media.Text, "Content-Type: application/json") {
		t.Errorf("a text/plain body: %s %s", media.Status, media.Text)
	}
}

func TestWrites(t *testing.T) {
	t.Parallel()
	r := start(t)
	agent, master := r.Token(t, "agent"), r.Token(t, "harbour_master")
	created := r.Send(t, agent, "POST", "/api/saltmere/port_calls",
		strings.NewReader(`{"vessel_id":3,"eta":"2026-07-09T12:00:00+02:00","draught_m":5.5}`))
	var row map[string]any
	if err := json.Unmarshal([]byte(created.Text), &row); err != nil || created.StatusCode != 201 {
		t.Fatalf("%s %s", created.Status, created.Text)
	}
	path := created.Header.Get("Location")
	if row["status"] != "expected" || row["eta"] != "2026-07-09T10:00:00Z" || path != fmt.Sprintf("/api/saltmere/port_calls/%v", row["id"]) {
		t.Errorf("created %v at %s", row, path)
	}
	if _, shown := row["remarks"]; shown {
		t.Error("the answer shows a field that the role may not read")
	}
	steps := []struct {
		token, method, body string
		status              int
		want                string
	}{
		{agent, "GET", "", 200, `"draught_m":5.50`},
		{agent, "PATCH", `{"eta":"2026-07-10T10:00:00Z"}`, 200, `"eta":"2026-07-10T10:00:00Z"`},
		{master, "PATCH", `{"status":"anchored","remarks":"O'Neill \"here\""}`, 200, `"remarks":"O'Neill \"here\""`},
		{agent, "PATCH", `{"eta":"2026-07-11T10:00:00Z"}`, 403, "but not update it"},
		{master, "PATCH", `{"remarks":null}`, 200, `"remarks":null`},
		{master, "DELETE", "", 204, ""},
		{master, "DELETE", "", 404, "no such row"},
		{agent, "GET", "", 404, "no such row"},
	}
	for _, s := range steps {
		var body io.Reader
		if s.body != "" {
			body = strings.NewReader(s.body)
		}
		if a := r.Send(t, s.token, s.method, path, body); a.StatusCode != s.status || !strings.Contains(a.Text, s.want) {
			t.Errorf("%s %s: got %s %s\nwant %d %s", s.method, s.body, a.Status, a.Text, s.status, s.want)
		}
	}
	// A composite key, an array, a range of characters that need encoding in the path.
	berth := r.Send(t, master, "POST", "/api/saltmere/berths",
		strings.NewReader(`{"code":"X/1 é","quay":"New","length_m":90,"max_draught_m":6}`))
	if at := berth.Header.Get("Location"); at != "/api/saltmere/berths/X%2F1%20%C3%A9" || r.Send(t, master, "GET", at, nil).StatusCode != 200 {
		t.Errorf("a key with a slash is at %q: %s", at, berth.Text)
	}
	tags := r.Send(t, master, "PATCH", "/api/saltmere/vessels/3", strings.NewReader(`{"tags":["a\"b","c,d",null],"particulars":{"x":[1,2]}}`))
	if !strings.Contains(tags.Text, `"tags":["a\"b","c,d",null],"particulars":{"x": [1, 2]}`) {
		t.Errorf("arrays and JSON: %s", tags.Text)
	}
}

// Pages follow each other through every order: each row once, and in the order of the whole.
func TestPaging(t *testing.T) {
	t.Parallel()
	r := start(t)
	token := r.Token(t, "harbour_master")
	for _, tt := range []struct{ resource, query, field, sql string }{
		{"vessels", "orderby=name&select=id", "id", "select id from harbour.vessel order by name, id"},
		{"vessels", "orderby=built_on desc,flag&select=id", "id", "select id from harbour.vessel order by built_on desc nulls last, flag, id"},
		{"vessels", "orderby=built_on,agent/name desc&select=id&filter=kind ne 'ferry'", "id", "select v.id from harbour.vessel v left join " +
			"harbour.agent a on a.id = v.agent_id where kind <> 'ferry' order by built_on nulls first, a.name desc nulls last, v.id"},
		{"vessels", "orderby=gross_tonnage desc,id desc&expand=agent&select=id", "id",
			"select id from harbour.vessel order by gross_tonnage desc, id desc"},
		{"vessels", "top=333&orderby=id&select=id", "id", "select id from harbour.vessel order by id limit 333"},
		{"pilotages", "filter=port_call_id lt 200", "pilot_id",
			"select pilot_id from harbour.pilotage where port_call_id < 200 order by port_call_id, pilot_id, direction"},
		{"weather_log", "filter=wind_kn gt 40", "taken_at", "select to_char(taken_at at time zone 'UTC', 'YYYY-MM-DD\"T\"HH24:MI:SS\"Z\"') " +
			"from harbour.weather_log where wind_kn > 40 order by taken_at desc"},
	} {
		var got []string
		next, pages := "/api/saltmere/"+tt.resource+"?"+tt.query, 0
		for ; next != ""; pages++ {
			l, link := nextPage(t, r, token, next, "maxpagesize=37")
			if len(l.Value) > 37 || l.NextLink != "" && len(l.Value) != 37 || (l.NextLink != "") != strings.Contains(link, `rel="next"`) {
				t.Errorf("%s: a page of %d rows, next link %q, Link %q", tt.query, len(l.Value), l.NextLink, link)
			}
			got = append(got, fields(l, tt.field)...)
			next = l.NextLink
		}
		if want := column(t, r.Harbour, tt.sql); !slices.Equal(got, uuids(want)) {
			t.Errorf("%s?%s: %d rows on %d pages, want %d", tt.resource, tt.query, len(got), pages, len(want))
		}
	}
	// A link that was changed, or is used for another request, is refused.
	first := readList(t, r.Send(t, token, "GET", "/api/saltmere/vessels?orderby=name", nil))
	u, err := url.Parse(first.NextLink)
	if err != nil {
		t.Fatal(err)
	}
	link := u.Query().Get("skiptoken")
	for _, query := range []string{"orderby=name&skiptoken=" + link[:len(link)-2] + "AA", "orderby=name&skiptoken=x",
		"orderby=name desc&skiptoken=" + link, "skiptoken=" + link} {
		if a := r.Send(t, token, "GET", "/api/saltmere/vessels?"+query, nil); a.StatusCode != 400 ||
			!strings.Contains(a.Text, "begin again without skiptoken") {
			t.Errorf("%s: %s %s", query, a.Status, a.Text)
		}
	}
}

// nextPage reads a page of a size that the preference asks for, and its Link header.
func nextPage(t *testing.T, r *harbourtest.Running, token, path, prefer string) (l list, link string) {
	t.Helper()
	res, err := (&client.Client{URL: r.URL, Token: token}).Send(context.Background(),
		client.Request{Method: "GET", Path: path, Header: http.Header{"Prefer": {prefer}}})
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	if applied := res.Header.Get("Preference-Applied"); applied == "" || !strings.HasSuffix(prefer, applied) {
		t.Errorf("%s: Prefer: %s, applied %q", path, prefer, applied)
	}
	text, err := io.ReadAll(res.Body)
	if err != nil {
		t.Fatal(err)
	}
	return readList(t, harbourtest.Answer{Response: res, Text: harbourtest.Unversioned(string(text))}), res.Header.Get("Link")
}

// uuids writes uuids that pgx scanned as bytes the way they are read.
func uuids(values []string) []string {
	out := make([]string, len(values))
	for i, v := range values {
		out[i] = v
		if strings.HasPrefix(v, "[") {
			var b [16]byte
			for j, f := range strings.Fields(strings.Trim(v, "[]")) {
				fmt.Sscan(f, &b[j])
			}
			out[i] = fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
		}
	}
	return out
}

// All tide readings as one answer: the service does not hold them.
func TestStreams(t *testing.T) {
	r := start(t)
	heap := func() uint64 {
		var m runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&m)
		return m.HeapAlloc
	}
	before := heap()
	res, err := r.Operator.Send(context.Background(), client.Request{Method: "GET",
		Path: "/draft/saltmere/tide_readings?top=250000&orderby=station,read_at"})
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	rows, most := 0, uint64(0)
	lines := bufio.NewScanner(res.Body)
	for lines.Scan() {
		if strings.Contains(lines.Text(), `"station"`) {
			if rows++; rows%50_000 == 0 {
				most = max(most, heap())
			}
		}
	}
	if rows != 250_000 || lines.Err() != nil {
		t.Errorf("%d rows, %v", rows, lines.Err())
	}
	if most > before+30<<20 {
		t.Errorf("the heap grew by %d MB", (most-before)>>20)
	}
}

func TestDraftAndRelease(t *testing.T) {
	t.Parallel()
	r := start(t)
	ctx := context.Background()
	pilot := r.Token(t, "pilot")
	if a := r.Send(t, pilot, "GET", "/api/saltmere/inspections", nil); a.StatusCode != 403 {
		t.Fatalf("an unpublished change reaches live callers: %s", a.Status)
	}
	as := func(role string) int {
		res, err := r.Operator.Send(ctx, client.Request{Method: "GET", Path: "/draft/saltmere/inspections", ActAs: role})
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		return res.StatusCode
	}
	for role, want := range map[string]int{`pilot;pilot_id="` + demo.Pilot + `"`: 200, "pilot": 403, "agent;agent_id=3": 403, "board": 401,
		"plot": 400, "": 200, "(": 400} {
		if got := as(role); got != want {
			t.Errorf("the draft as %q: %d, want %d", role, got, want)
		}
	}
	bad := strings.Replace(demo.Ahead(), "harbour.tug\n", "harbour.tugg\n", 1)
	if _, err := r.Operator.PushDraft(ctx, demo.Window, bad); err == nil || !strings.Contains(err.Error(), `did you mean "harbour.tug"?`) {
		t.Errorf("a draft with a mistake: %v", err)
	}
	if kept, err := r.Operator.Draft(ctx, demo.Window); err != nil || kept.Document != demo.Ahead() {
		t.Error("a refused draft replaced the one before")
	}
	release, err := r.Operator.Publish(ctx, demo.Window, windows.NewRelease{Note: "inspections", AllowBreaking: true})
	if err != nil || release.Number != 2 {
		t.Fatalf("release %d, %v", release.Number, err)
	}
	if a := r.Send(t, pilot, "GET", "/api/saltmere/inspections?top=1", nil); a.StatusCode != 200 {
		t.Errorf("after publishing: %s %s", a.Status, a.Text)
	}
	if _, err := r.Operator.Publish(ctx, demo.Window, windows.NewRelease{Note: "", AllowBreaking: true}); err == nil ||
		!strings.Contains(err.Error(), "there is nothing to publish") {
		t.Errorf("publishing twice: %v", err)
	}
}

func TestClients(t *testing.T) {
	t.Parallel()
	r := start(t)
	ctx := context.Background()
	c := &client.Client{URL: r.URL}
	for _, tt := range [][3]string{{"agent-demo", "wrong", "no client with this id and secret"},
		{"nobody", "x", "no client with this id and secret"}} {
		if _, err := c.ClientToken(ctx, demo.Window, tt[0], tt[1]); err == nil || !strings.Contains(err.Error(), tt[2]) {
			t.Errorf("%s: %v", tt[0], err)
		}
	}
	res, err := http.PostForm(r.URL+"/auth/saltmere/token", url.Values{"grant_type": {"password"}})
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	if text, _ := io.ReadAll(res.Body); res.StatusCode != 400 || !strings.Contains(string(text), "unsupported_grant_type") {
		t.Errorf("another grant: %s %s", res.Status, text)
	}
	token := r.Token(t, "agent")
	parts := strings.Split(token, ".")
	for _, forged := range []string{parts[0] + "." + parts[1] + ".", "eyJhbGciOiJub25lIn0." + parts[1] + ".", parts[0] + "." + parts[1] +
		"x." + parts[2]} {
		if a := r.Send(t, forged, "GET", "/api/saltmere/vessels", nil); a.StatusCode != 401 {
			t.Errorf("a forged token: %s", a.Status)
		}
	}
}

// The description of the management API names what the router serves, and nothing else.
func TestManageDescription(t *testing.T) {
	t.Parallel()
	var doc struct {
		Paths map[string]map[string]any
	}
	if err := yaml.Unmarshal(server.ManageDescription, &doc); err != nil {
		t.Fatal(err)
	}
	described := map[string]bool{}
	for path, item := range doc.Paths {
		for method := range item {
			if method != "parameters" {
				described[strings.ToUpper(method)+" /manage"+path] = true
			}
		}
	}
	served := map[string]bool{}
	routes := server.New(nil, service.Front{}).(chi.Routes)
	if err := chi.Walk(routes, func(method, route string, _ http.Handler, _ ...func(http.Handler) http.Handler) error {
		if strings.HasPrefix(route, "/manage") && !strings.HasSuffix(route, "openapi.yaml") {
			served[method+" "+route] = true
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	for name := range served {
		if !described[name] {
			t.Errorf("%s is served but not described", name)
		}
	}
	for name := range described {
		if !served[name] {
			t.Errorf("%s is described but not served", name)
		}
	}
}

func TestPlaces(t *testing.T) {
	t.Parallel()
	r := start(t)
	for _, tt := range []struct{ path, kind, want string }{
		{"/healthz", "application/json", "alive"}, {"/readyz", "application/json", "ready"},
		{"/schemas/window-document.json", "application/schema+json", `"title": "Window document"`},
		{"/api/saltmere", "application/json;metadata=minimal", `"name":"arrivals_board","kind":"EntitySet","url":"arrivals_board"`},
		{"/api/saltmere/openapi.json", "application/openapi+json", `"/vessels/{id}"`},
		{"/api/saltmere/openapi.yaml?role=board", "application/openapi+yaml", "As role `board` sees it."},
	} {
		a := r.Send(t, "", "GET", tt.path, nil)
		if a.StatusCode != 200 || a.Header.Get("Content-Type") != tt.kind || !strings.Contains(a.Text, tt.want) {
			t.Errorf("%s: %s %s %.200s", tt.path, a.Status, a.Header.Get("Content-Type"), a.Text)
		}
		if tt.path == "/api/saltmere" && !strings.Contains(a.Header.Get("Link"), `rel="service-desc"`) {
			t.Errorf("the service document links no description: %q", a.Header.Get("Link"))
		}
	}
	if a := r.Send(t, "", "GET", "/api/saltmere/openapi.json?role=bord", nil); a.StatusCode != 400 ||
		!strings.Contains(a.Text, `did you mean \"board\"?`) {
		t.Errorf("a wrong role: %s %s", a.Status, a.Text)
	}
}
