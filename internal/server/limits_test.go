package server_test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"eagerwindow/internal/client"
	"eagerwindow/internal/windows"
)

// What a role may ask for at most, each limit told with its figure; and what is too much for anybody.
func TestLimits(t *testing.T) {
	t.Parallel()
	r := start(t)
	document := "window: limited\nsource: " + r.Harbour + `
resources:
  calls: {from: harbour.port_call}
  vessels: {from: harbour.vessel}
  tugs: {from: harbour.tug}
  readings: {from: harbour.tide_reading, page: {max: none}}
queries:
  slow: {sql: "select pg_sleep(5)::text as nothing"}
roles:
  small:
    limits: {rows: 7, depth: 1, cost: 600, time: 2s}
    may: {"*": read}
  free: {may: {"*": read}}
`
	for _, tt := range []struct{ limits, want string }{
		{"{cost: 0}", `cost is a number over 0, as the database's planner reckons, this is "0"`}, {"{depth: 9}", "from 1 to 8"},
		{"{time: soon}", `such as 3s or 500ms, this is "soon"`},
		{"{rows: none}", "a number of rows from 1"}, {"{row: 1}", `did you mean "rows"?`},
	} {
		_, err := r.Operator.PushDraft(context.Background(), "limited",
			strings.Replace(document, "{rows: 7, depth: 1, cost: 600, time: 2s}", tt.limits, 1))
		if err == nil || !strings.Contains(err.Error(), "line 12, column") || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("limits: %s: %v", tt.limits, err)
		}
	}
	if _, err := r.Operator.PushDraft(context.Background(), "limited", document); err != nil {
		t.Fatal(err)
	}
	ask := func(role, path string) (int, string, time.Duration) {
		t.Helper()
		header := http.Header{"Act-As": {role}}
		start := time.Now()
		res, err := (&client.Client{URL: r.URL, Token: r.Operator.Token}).Send(context.Background(),
			client.Request{Method: "GET", Path: "/draft/limited/" + path, Header: header})
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		text, err := io.ReadAll(res.Body)
		if err != nil {
			t.Fatal(err)
		}
		return res.StatusCode, string(text), time.Since(start)
	}
	for _, tt := range []struct {
		role, path string
		status     int
		want       string
	}{
		{"small", "tugs?top=9", 200, `"@nextLink"`},
		{"small", "tugs?top=5", 200, `"id":5`},
		{"small", "calls/17?expand=vessel", 200, `"vessel":{`},
		{"small", "calls/17?expand=vessel(expand=calls)", 403, `the request goes 2 relations deep; role \"small\" may go 1 deep`},
		{"small", "calls?filter=vessel/calls/any()", 403, "2 relations deep"},
		{"small", "calls/17/vessel/calls", 403, "2 relations deep"},
		{"free", "calls/17/vessel/calls", 200, `"value":[`},
		{"small", "readings?orderby=height_m", 403, `role \"small\" may spend 600`},
		{"small", "readings?filter=height_m gt 4.4", 403, "the database expects this request to cost"},
		{"small", "readings?filter=station eq 'Breakwater' and read_at eq 2026-01-01T00:00:00Z", 200, `"value":[`},
		{"free", "readings?filter=height_m gt 4.4&top=1", 200, `"value":[`},
		{"small", "slow", 504, "the database took longer than the limit of 2s"},
		{"free", "calls?filter=" + strings.Repeat("id eq 1 or ", 600) + "id eq 2", 400, "at most 2000 are read"},
		{"free", "calls?filter=id in (" + strings.Repeat("1,", 2500) + "1)", 200, `"value":[`},
		{"free", "calls?expand=vessel(levels=2)", 400, "levels goes with"},
	} {
		if status, text, _ := ask(tt.role, tt.path); status != tt.status || !strings.Contains(text, tt.want) {
			t.Errorf("%s as %s: %d %.400s\nwant %d %s", tt.path, tt.role, status, text, tt.status, tt.want)
		}
	}
	everything := "/api/saltmere/port_calls?expand=" + strings.Repeat("*(expand=", 7) + "*" + strings.Repeat(")", 7)
	if a := r.Send(t, r.Token(t, "harbour_master"), "GET", everything, nil); a.StatusCode != 400 ||
		!strings.Contains(a.Text, "the request expands more than 100 relations") {
		t.Errorf("everything of everything: %s %s", a.Status, a.Text)
	}
	_, text, took := ask("small", "readings?orderby=height_m desc,read_at&filter=height_m lt 100")
	t.Logf("refused in %s: %s", took, text)
}

// An operator is reported how the database answers, and which index it lacks; callers are not.
func TestExplain(t *testing.T) {
	t.Parallel()
	r := start(t)
	for _, tt := range []struct{ path, want string }{
		{"cargo_items?filter=hs_code eq '270900'", `an index on (hs_code) would lead to those that are`},
		{"cargo_items?orderby=tonnes desc&top=10",
			`30000 rows of \"harbour\".\"cargo_item\" are sorted for the first 10; an index on (tonnes desc, id) has them in order`},
		{"cargo_items?filter=tonnes gt 490 and hs_code in ('270900','440710')&orderby=id&top=1000",
			`an index on (hs_code, tonnes) would lead to those that are`},
		{"port_calls?filter=status eq 'anchored'&top=5", `"advice":[]`}, // an index is there
		{"vessels?filter=flag eq 'NO'&top=5", `"advice":[]`},            // too few rows to be worth one
		{"port_calls/17", `"arguments":[17],"took_ms":`},
		{"arrivals_board?top=3", `"Node Type"`},
		{"berth_load?from=2026-01-01&to=2026-02-01", `extract(epoch from departed_at`},
	} {
		a := get(t, r, r.Operator.Token, "/draft/saltmere/"+tt.path, "Prefer", "explain")
		if a.StatusCode != 200 || !strings.Contains(a.Text, tt.want) || a.Header.Get("Preference-Applied") != "explain" {
			t.Errorf("%s: %s %.1500s\nwant %s", tt.path, a.Status, a.Text, tt.want)
		}
	}
	if a := get(t, r, r.Token(t, "harbour_master"), "/api/saltmere/tugs?select=name&top=1", "Prefer", "explain"); !strings.Contains(a.Text,
		`"value":[`) || a.Header.Get("Preference-Applied") != "" {
		t.Errorf("a caller of the live API is told %s", a.Text)
	}
	if a := get(t, r, r.Operator.Token, "/draft/saltmere/tide_readings?filter=1 div 0 eq 1", "Prefer", "explain"); a.StatusCode != 400 {
		t.Errorf("a mistake: %s %s", a.Status, a.Text)
	}
}

// Who asks how a write would be done is reported how many rows it would touch, as it would be, and nothing is written; of a write that is
// not told of, nothing is done either.
func TestExplainedWrites(t *testing.T) {
	t.Parallel()
	r := start(t)
	const expected = "/port_calls/$filter(status eq 'expected')/$each"
	rows := func(sql string) string {
		return column(t, r.Harbour, "select count(*) from harbour.port_call p join harbour.vessel v on v.id = vessel_id where "+sql)[0]
	}
	document, err := r.Operator.Draft(t.Context(), "saltmere")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.Operator.PushDraft(t.Context(), "saltmere", strings.Replace(document.Document, "roles:\n",
		"roles:\n  timid: {limits: {rows: 5}, may: {tugs: [read, update]}}\n", 1)); err != nil {
		t.Fatal(err)
	}
	before := column(t, r.Harbour, "select max(xmin::text::bigint) from harbour.port_call")[0]
	for _, s := range []struct {
		as, method, path, body string
		status                 int
		want                   string
	}{
		{"", "DELETE", expected, "", 200, `"rows":` + rows("status = 'expected'")},
		{"", "PATCH", "/port_calls/$filter(@f)/$each?@f=draught_m gt 13", "", 200, `"rows":` + rows("draught_m > 13")},
		// the rule of changes, not that of reading
		{"agent;agent_id=3", "PATCH", "/port_calls/$filter(draught_m gt 0)/$each", `{"eta":`, 200, `"rows":` +
			rows("agent_id = 3 and status = 'expected'")},
		{"agent;agent_id=3", "DELETE", expected, "", 403, `may not delete port_calls`},
		{"timid", "PATCH", "/tugs/$filter(id gt 0)/$each", "", 409, "9 rows of tugs meet the filter"},
		{"", "PATCH", "/cargo_items/$filter(hs_code eq '270900')/$each", "", 200, `an index on (hs_code) would lead to those that are`},
		{"", "PATCH", "/port_calls/$filter(statuss eq 'x')/$each", "", 400, `unknown field`},
		{"", "DELETE", "/port_calls/17", "", 400, "nothing was written"},
		{"", "PATCH", "/port_calls/17", `{"remarks":"x"}`, 400, "nothing was written"},
		{"", "PUT", "/berths/N05", `{"quay":"x","length_m":1,"max_draught_m":1}`, 400, "nothing was written"},
		{"", "POST", "/tugs", `{"name":"x","bollard_pull_t":1}`, 400, "nothing was written"},
		{"", "PATCH", "/tugs", `{"@context":"#$delta","value":[]}`, 400, "nothing was written"},
		{"", "POST", "/port_calls/17/tugs/$ref", `{"@id":"tugs/3"}`, 400, "nothing was written"},
		{"", "DELETE", "/port_calls/17/berth/$ref", "", 400, "nothing was written"},
		{"", "POST", "/$batch", `{"requests":[{"id":"1","method":"DELETE","url":"port_calls/17"}]}`, 400, "nothing was written"},
		{"", "POST", "/port_calls/$query", "select=id&top=1", 200, `"Node Type"`},
	} {
		headers := []string{"Prefer", "return=minimal, explain", "Idempotency-Key", "k"}
		if s.as != "" {
			headers = append(headers, "Act-As", s.as)
		}
		if strings.HasSuffix(s.path, "$query") {
			headers = append(headers, "Content-Type", "text/plain")
		}
		a := write(t, r, r.Operator.Token, s.method, "/draft/saltmere"+s.path, s.body, headers...)
		if a.StatusCode != s.status || !strings.Contains(a.Text, s.want) {
			t.Errorf("as %q %s %s: %s %.900s\nwant %d %s", s.as, s.method, s.path, a.Status, a.Text, s.status, s.want)
		}
	}
	inner := write(t, r, r.Operator.Token, "POST", "/draft/saltmere/$batch",
		`{"requests":[{"id":"1","method":"DELETE","url":"port_calls/17","headers":{"Prefer":"explain"}}]}`)
	if !strings.Contains(inner.Text, `"status":400`) {
		t.Errorf("in a batch: %s", inner.Text)
	}
	live := write(t, r, r.Token(t, "harbour_master"), "DELETE", "/api/saltmere"+expected, "", "Prefer", "explain")
	if live.StatusCode != 400 || !strings.Contains(live.Text, "nothing was written") {
		t.Errorf("live: %s %s", live.Status, live.Text)
	}
	if after := column(t, r.Harbour, "select max(xmin::text::bigint) from harbour.port_call")[0]; after != before {
		t.Error("something was written")
	}
	if n := rows("true"); n != "12000" {
		t.Errorf("%s rows are left", n)
	}
}

// A write may take as long as its role's statements may, and what it began is undone.
func TestSlowWrite(t *testing.T) {
	t.Parallel()
	r := start(t)
	dsn := database(t, `create table slow (id int primary key, n int not null); insert into slow values (1, 1);
		create function wait() returns trigger language plpgsql as $$ begin perform pg_sleep(5); return new; end $$;
		create trigger wait after update on slow for each row execute function wait()`)
	if _, err := r.Operator.PushDraft(context.Background(), "slow", "window: slow\nsource: "+dsn+
		"\nroles: {hasty: {limits: {time: 100ms}, may: {slow: [read, update]}}}\nresources: {slow: {from: slow}}\n"); err != nil {
		t.Fatal(err)
	}
	start := time.Now()
	a := write(t, r, r.Operator.Token, "PATCH", "/draft/slow/slow/1", `{"n":2}`, "Act-As", "hasty")
	if a.StatusCode != 504 || !strings.Contains(a.Text, "the limit of 100ms") || time.Since(start) > 3*time.Second {
		t.Errorf("%s %s after %s", a.Status, a.Text, time.Since(start))
	}
	if n := column(t, dsn, "select n::text from slow"); n[0] != "1" {
		t.Errorf("n is %v", n)
	}
}

// Callers have so many requests over a time and so many at once, each for itself; the answers say what is left.
func TestRates(t *testing.T) {
	t.Parallel()
	r := start(t)
	ctx := context.Background()
	document := "window: rated\nsource: " + r.Harbour + `
resources: {tugs: {from: harbour.tug}}
queries: {nap: {sql: "select pg_sleep(1)::text as done"}}
roles:
  anyone: {anonymous: true, limits: {requests: 4/hour}, may: {tugs: read}}
  few: {limits: {concurrent: 2}, may: {nap: read, tugs: read}}
  many: {limits: {requests: 100000/day}, may: {tugs: read}}
sign_in: {clients: true}
`
	if _, err := r.Operator.PushDraft(ctx, "rated", document); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Operator.Publish(ctx, "rated", windows.NewRelease{Note: "", AllowBreaking: true}); err != nil {
		t.Fatal(err)
	}
	for i := range 6 {
		a := r.Send(t, "", "GET", "/api/rated/tugs", nil)
		left := max(3-i, 0)
		if a.Header.Get("RateLimit-Policy") != `"role";q=4;w=3600` ||
			!strings.HasPrefix(a.Header.Get("RateLimit"), fmt.Sprintf(`"role";r=%d;t=`, left)) {
			t.Errorf("request %d: %v", i, a.Header)
		}
		if refused := i >= 4; refused != (a.StatusCode == 429) || refused != (a.Header.Get("Retry-After") != "") || refused &&
			!strings.Contains(a.Text, `role \"anyone\" may send 4 requests per hour`) {
			t.Errorf("request %d: %s %s", i, a.Status, a.Text)
		}
	}
	token := func(role string) string {
		for _, name := range []string{"one", "two"} {
			if err := r.Service.SaveClient(ctx, "rated", name+role, "a secret for tests", []string{role}, nil); err != nil {
				t.Fatal(err)
			}
		}
		token, err := (&client.Client{URL: r.URL}).ClientToken(ctx, "rated", "one"+role, "a secret for tests")
		if err != nil {
			t.Fatal(err)
		}
		return token
	}
	many := token("many")
	if a := write(t, r, many, "POST", "/api/rated/$batch", `{"requests":[{"id":"1","method":"GET","url":"tugs"},{"id":"2","method":"GET",`+
		`"url":"tugs"},{"id":"3","method":"GET","url":"tugs"}]}`); a.StatusCode != 200 {
		t.Errorf("a batch: %s %s", a.Status, a.Text)
	}
	if a := r.Send(t, many, "GET", "/api/rated/tugs", nil); !strings.HasPrefix(a.Header.Get("RateLimit"), `"role";r=99996;`) {
		t.Errorf("each request of a batch counts: %v", a.Header)
	}
	few := token("few")
	statuses := make(chan int, 4)
	for range 4 {
		go func() { statuses <- r.Send(t, few, "GET", "/api/rated/nap", nil).StatusCode }()
	}
	counts := map[int]int{}
	for range 4 {
		counts[<-statuses]++
	}
	if counts[200] != 2 || counts[429] != 2 {
		t.Errorf("four at once where two may be: %v", counts)
	}
	if a := r.Send(t, few, "GET", "/api/rated/tugs", nil); a.StatusCode != 200 || a.Header.Get("RateLimit") != "" {
		t.Errorf("afterwards: %s %v", a.Status, a.Header)
	}
	for _, bad := range []string{"600", "600/week", "0/minute", "many/second"} {
		if _, err := r.Operator.PushDraft(ctx, "rated", strings.Replace(document, "4/hour", bad, 1)); err == nil ||
			!strings.Contains(err.Error(), "such as 600/minute") {
			t.Errorf("%s: %v", bad, err)
		}
	}
}

// A caller that goes on after many refusals is refused late, so that a flood takes nobody else's time; one that heeds them is not.
func TestFlood(t *testing.T) {
	t.Parallel()
	r := start(t)
	ctx := t.Context()
	if _, err := r.Operator.PushDraft(ctx, "flooded", "window: flooded\nsource: "+r.Harbour+`
resources: {tugs: {from: harbour.tug}}
roles:
  anyone: {anonymous: true, limits: {requests: 1/day}, may: {tugs: read}}
`); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Operator.Publish(ctx, "flooded", windows.NewRelease{AllowBreaking: true}); err != nil {
		t.Fatal(err)
	}
	ask := func(ctx context.Context) (status int) {
		req, err := http.NewRequestWithContext(ctx, "GET", r.URL+"/api/flooded/tugs", nil)
		if err != nil {
			t.Error(err)
			return 0
		}
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			return 0
		}
		defer res.Body.Close()
		if _, err := io.Copy(io.Discard, res.Body); err != nil {
			return 0
		}
		return res.StatusCode
	}
	if status := ask(ctx); status != 200 {
		t.Errorf("the first request: %d", status)
	}
	const senders, long = 20, 1200 * time.Millisecond
	flood, stop := context.WithTimeout(ctx, long)
	defer stop()
	var refused atomic.Int64
	var all sync.WaitGroup
	for range senders {
		all.Go(func() {
			for flood.Err() == nil {
				if ask(flood) == 429 {
					refused.Add(1)
				}
			}
		})
	}
	if a := get(t, r, r.Token(t, "harbour_master"), "/api/saltmere/tugs/1"); a.StatusCode != 200 {
		t.Errorf("another caller: %s", a.Status)
	}
	all.Wait()
	// Ten at once in each second that it touches, and of each sender one every half second.
	if n := refused.Load(); n < 10 || n > 3*10+senders*3 {
		t.Errorf("%d refusals in %s", n, long)
	}
}
