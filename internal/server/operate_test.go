package server_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"strings"
	"testing"

	"go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/sdk/trace/tracetest"

	"eagerwindow/internal/client"
	"eagerwindow/internal/harbourtest"
	"eagerwindow/internal/server"
	"eagerwindow/internal/service"
)

// front serves a running service with another HTTP side.
func front(t *testing.T, r *harbourtest.Running, f service.Front) *harbourtest.Running {
	t.Helper()
	s := httptest.NewServer(server.New(r.Service, f))
	t.Cleanup(s.Close)
	other := *r
	other.URL = s.URL
	client := *r.Operator
	client.URL = s.URL
	other.Operator = &client
	return &other
}

// Behind a proxy that is trusted, addresses, schemes and hosts are those that the proxy was asked with; behind any other they are what the
// request itself says.
func TestProxies(t *testing.T) {
	t.Parallel()
	r := start(t)
	trusting := front(t, r, service.Front{TrustedProxies: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8"),
		netip.MustParsePrefix("10.0.0.0/8")}})
	public := front(t, r, service.Front{PublicURL: "https://api.saltmere.example"})
	const metadata = "/.well-known/oauth-authorization-server/auth/saltmere"
	for _, tt := range []struct {
		name   string
		at     *harbourtest.Running
		header []string
		want   string // the issuer's beginning; "" the service's own address
	}{
		{"nobody says anything", trusting, nil, ""},
		{"forwarded", trusting, []string{"Forwarded", "for=192.0.2.7;proto=https;host=api.example"}, "https://api.example"},
		{"quoted, with other parameters", trusting, []string{"Forwarded", `by=_x;For="[2001:db8::1]:4711";Proto=HTTPS;Host="api.example:8443"`},
			"https://api.example:8443"},
		{"two proxies, the nearer one ours", trusting, []string{"Forwarded",
			"for=192.0.2.7;proto=https;host=api.example, for=10.1.2.3;proto=http;host=inner"},
			"https://api.example"},
		{"what a caller says before our proxy", trusting, []string{"Forwarded",
			"for=10.0.0.9;proto=https;host=evil.example, for=192.0.2.7;host=api.example"},
			"http://api.example"},
		{"the older fields", trusting, []string{"X-Forwarded-For", "192.0.2.7", "X-Forwarded-Proto", "https", "X-Forwarded-Host", "api.example"},
			"https://api.example"},
		{"the scheme alone", trusting, []string{"X-Forwarded-Proto", "https"}, "https://"},
		{"a scheme that is none", trusting, []string{"X-Forwarded-For", "192.0.2.7", "X-Forwarded-Proto", "javascript"}, ""},
		{"from nobody we trust", r, []string{"Forwarded", "for=192.0.2.7;proto=https;host=evil.example", "X-Forwarded-Host", "evil.example"}, ""},
		{"a public address", public, []string{"Forwarded", "host=evil.example"}, "https://api.saltmere.example"},
	} {
		var body struct{ Issuer string }
		decode(t, get(t, tt.at, "", metadata, tt.header...).Text, &body)
		want := tt.want
		if want == "" {
			want = tt.at.URL
		}
		if !strings.HasPrefix(body.Issuer, want) {
			t.Errorf("%s: the issuer is %s, want %s", tt.name, body.Issuer, want)
		}
	}
	// Limits go by the caller's address, not by the proxy's.
	published(t, r, "rated", "source: "+r.Harbour+
		"\nresources: {tugs: {from: harbour.tug}}\nroles: {any: {anonymous: true, may: {tugs: read}, limits: {requests: 3/minute}}}\n")
	statuses := func(at *harbourtest.Running, n int, address func(int) string) (got string) {
		for i := range n {
			got += fmt.Sprint(get(t, at, "", "/api/rated/tugs/1", "X-Forwarded-For", address(i)).StatusCode, " ")
		}
		return got
	}
	if got := statuses(trusting, 4, func(int) string { return "192.0.2.1" }); got != "200 200 200 429 " {
		t.Errorf("one caller: %s", got)
	}
	if got := statuses(trusting, 4, func(i int) string { return fmt.Sprintf("192.0.2.%d", 10+i) }); got != "200 200 200 200 " {
		t.Errorf("four callers: %s", got)
	}
	if got := statuses(r, 5, func(i int) string { return fmt.Sprintf("192.0.2.%d", 20+i) }); !strings.HasSuffix(got, "429 ") {
		t.Errorf("one caller who says that it is five: %s", got)
	}
}

// The log has one line for each request of an API, with what it was and what became of it; the metrics count it, for operators; a trace
// that a caller has begun goes on.
func TestObserved(t *testing.T) {
	t.Parallel()
	r := start(t)
	var log bytes.Buffer
	spans := tracetest.NewSpanRecorder()
	at := front(t, r, service.Front{Log: slog.New(slog.NewJSONHandler(&log, nil)),
		Tracer: trace.NewTracerProvider(trace.WithSpanProcessor(spans)).Tracer("test")})
	agent := r.Token(t, "agent")
	parent := "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01"
	for _, tt := range []struct {
		token, path string
		status      int
		line        map[string]any
	}{
		{agent, "/api/saltmere/vessels?top=2&filter=name ne 'hidden away'&select=id,name", 200, map[string]any{"window": "saltmere",
			"release": 1.0,
			"role":    "agent", "caller": "agent-demo", "rows": 2.0, "shape": "vessels?filter=name ne ?&select=id, name&top=?"}},
		{"", "/api/saltmere/arrivals_board/$count", 200, map[string]any{"role": "board", "caller": ""}},
		{agent, "/api/saltmere/vessels?select=nme", 400, map[string]any{"code": "field.unknown"}},
		{"", "/api/saltmere/vessels", 401, map[string]any{"code": "access.denied", "role": "board"}},
		{"", "/api/nowhere/vessels", 404, map[string]any{"code": "release.none"}},
	} {
		log.Reset()
		a := get(t, at, tt.token, tt.path, "Traceparent", parent)
		var line map[string]any
		if err := json.Unmarshal(bytes.TrimSpace(log.Bytes()), &line); err != nil {
			t.Fatalf("%v: %s", err, log.String())
		}
		tt.line["status"], tt.line["id"], tt.line["bytes"], tt.line["trace"] = float64(tt.status), a.Header.Get("Request-Id"),
			float64(len(a.Raw)),
			"0af7651916cd43dd8448eb211c80319c"
		for name, want := range tt.line {
			if line[name] != want {
				t.Errorf("%s: %s is %v, want %v", tt.path, name, line[name], want)
			}
		}
		if line["took"] == nil || strings.Contains(log.String(), "hidden away") {
			t.Errorf("the log says %s", log.String())
		}
	}
	ended := spans.Ended()
	if len(ended) != 5 || ended[0].Parent().SpanID().String() != "b7ad6b7169203331" || ended[0].Name() != "GET /api/saltmere/vessels" {
		t.Errorf("%d spans, %+v", len(ended), ended)
	}
	if a := get(t, at, "", "/metrics"); a.StatusCode != 401 {
		t.Errorf("the metrics without a token: %s", a.Status)
	}
	get(t, at, agent, "/api/saltmere/vessels/1/made/up/"+strings.Repeat("x", 40))
	a := get(t, at, r.Operator.Token, "/metrics", "Accept", "application/openmetrics-text; version=1.0.0")
	for _, want := range []string{`eager_requests_total{resource="vessels",role="agent",status="200",window="saltmere"} 1.0`,
		`eager_requests_total{resource="vessels",role="board",status="401",window="saltmere"} 1.0`,
		`eager_refusals_total{code="field.unknown"} 1.0`,
		`eager_request_seconds_bucket{resource="vessels",window="saltmere",le="+Inf"}`,
		`eager_connections_limit{for="reading",window="saltmere"} 16.0`,
		`eager_live_release{window="saltmere"} 1.0`, `eager_plans{window="saltmere"}`, "# EOF"} {
		if !strings.Contains(a.Text, want) {
			t.Errorf("the metrics lack %s:\n%s", want, a.Text)
		}
	}
	if a.StatusCode != 200 || !strings.HasPrefix(a.Header.Get("Content-Type"), "application/openmetrics-text") || strings.Contains(a.Text,
		"xxxx") {
		t.Errorf("the metrics: %s %v", a.Status, a.Header)
	}
}

// Nothing but pages of the console is answered with the console's page.
func TestNotThePage(t *testing.T) {
	t.Parallel()
	r := start(t)
	for _, path := range []string{"/favicon.ico", "/robots.txt", "/metrics/x", "/api", "/api/", "/api/saltmere/../x", "/draft",
		"/auth/saltmere/x", "/manage/x",
		"/.well-known/security.txt", "/.well-known", "/schemas/other.json", "/describe/saltmere/99", "/healthz/x", "/readyz/x"} {
		if a := r.Send(t, "", "GET", path, nil); a.StatusCode < 400 {
			t.Errorf("%s answers %s %.60s", path, a.Status, a.Text)
		}
	}
}

// Who has no token learns no more of windows and databases than what is published.
func TestWhatStrangersLearn(t *testing.T) {
	t.Parallel()
	r := start(t)
	if _, err := r.Operator.PushDraft(t.Context(), "secret-plans",
		"window: secret-plans\nsource: "+r.Harbour+"\nresources: {tugs: {from: harbour.tug}}"); err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{"/api/secret-plans/tugs", "/auth/secret-plans/jwks.json",
		"/.well-known/oauth-authorization-server/auth/secret-plans", "/auth/secret-plans/me"} {
		there, nowhere := r.Send(t, "", "GET", path, nil), r.Send(t, "", "GET", strings.Replace(path, "secret-plans", "other-plans", 1), nil)
		if strings.ReplaceAll(there.Text, "secret-plans", "other-plans") != nowhere.Text {
			t.Errorf("%s: %s and %s", path, there.Text, nowhere.Text)
		}
	}
	made := 0
	document := func(description string) string {
		made++
		return "# " + fmt.Sprint(made) + "\nsource: " + r.Harbour + "\nresources: {tugs: {from: harbour.tug}, berths: {from: harbour.berth}}\n" +
			"roles: {any: {anonymous: true, may: {tugs: read}}, crew: {may: {berths: read}}, boss: {may: {\"*\": [read, delete]}}}\nsign_in: " +
			"{clients: true}\n" + description
	}
	for _, tt := range []struct{ description, role, status, has, lacks string }{
		{"", "", "200", `"/tugs"`, `"/berths"`}, {"", "?role=any", "200", `"/tugs"`, `"/berths"`}, {"", "?role=crew", "401",
			"description.private", `"/berths"`},
		{"", "?role=nobody", "401", "description.private", "crew"}, {"description: {public: crew}", "", "200", `"/berths"`, `"delete":`},
		{"description: {public: [crew]}", "?role=crew", "200", `"/berths"`, `"/tugs"`}, {"description: {public: [crew]}", "?role=boss", "401",
			"description.private", `"/tugs"`},
		{"description: {public: all}", "", "200", `"delete"`, "private"}, {"description: {public: all}", "?role=bos", "400",
			`did you mean \"boss\"`, "private"},
	} {
		published(t, r, "told", document(tt.description))
		a := r.Send(t, "", "GET", "/api/told/openapi.json"+tt.role, nil)
		if !strings.HasPrefix(a.Status, tt.status) || !strings.Contains(a.Text, tt.has) || strings.Contains(a.Text, tt.lacks) {
			t.Errorf("%s %s: %s %.300s", tt.description, tt.role, a.Status, a.Text)
		}
	}
	published(t, r, "told", document(""))
	if err := r.Service.SaveClient(t.Context(), "told", "crew", "a secret for tests", []string{"crew"}, nil); err != nil {
		t.Fatal(err)
	}
	token, err := (&client.Client{URL: r.URL}).ClientToken(t.Context(), "told", "crew", "a secret for tests")
	if err != nil {
		t.Fatal(err)
	}
	for role, status := range map[string]int{"": 200, "?role=crew": 200, "?role=any": 200, "?role=boss": 403} {
		if a := r.Send(t, token, "GET", "/api/told/openapi.json"+role, nil); a.StatusCode != status {
			t.Errorf("crew %s: %s %.200s", role, a.Status, a.Text)
		}
	}
	if _, err := r.Operator.PushDraft(t.Context(), "told", "window: told\nsource: s\ntitle: ${EAGER_SECRET} ${HOME}"); err == nil ||
		strings.Count(err.Error(), "can't be read here") != 2 || strings.Contains(err.Error(), harbourtest.Secret) {
		t.Errorf("a document that reads secrets: %v", err)
	}
}

// A draft that can't work is refused or warned about when it is saved, with the place.
func TestDraftsThatCannotWork(t *testing.T) {
	t.Parallel()
	r := start(t)
	dsn := database(t, `create table ship (id int primary key, name text, made int, size int generated always as (made * 2) stored);
		create table log (ship_name text, line int, word text); insert into log values ('a', 1, 'x'), ('a', 2, 'y'), ('b', 1, 'z');
		create view lines as select ship_name, line from log`)
	for _, tt := range []struct{ document, want string }{
		{"resources:\n  ship: {relations: {log: {to: log, on: {made: ship_name}}}}\n  log:",
			`line 4, column 42: relation "log" compares made of ship, which is integer, with ` +
				`ship_name of log, which is text`},
		{"resources:\n  ship:\n  log: {key: [ship_name]}", "line 5, column 15: rows of log have the same ship_name, so it is no key"},
		{"resources:\n  lines: {key: [line]}", "rows of lines have the same line"},
		{"resources: {ship: }\nroles:\n  a: {may: {ship: {update: {fields: [name, size]}}}}",
			"line 5, column 44: role a: the database fills size of ship, so nobody can update it"},
		{"resources: {ship: }\nroles:\n  a: {may: {ship: {create: {set: {size: 3}}}}}", "so it can't be set"},
		{"resources:\n  ship: {relations: {log: {to: log, on: {name: ship_name}}}}\n  log: {key: [ship_name, line]}\n  lines: {key: " +
			"[ship_name, line]}", ""},
	} {
		w, err := r.Operator.PushDraft(t.Context(), "unfit", "window: unfit\nsource: "+dsn+"\n"+tt.document)
		if tt.want == "" {
			if err != nil || len(w.Warnings) != 1 || !strings.Contains(w.Warnings[0],
				"no constraint of log keeps two rows from having the same key") {
				t.Errorf("%v %+v", err, w)
			}
			continue
		}
		if err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s\ngot %v\nwant %s", tt.document, err, tt.want)
		}
	}
}

// Collections inside of rows have pages: what does not fit is linked, and the links lead through all of it.
func TestNestedPages(t *testing.T) {
	t.Parallel()
	r := start(t)
	dsn := database(t, `create table box (id int primary key, name text); create table thing (id int primary key, box_id int references `+
		`box, v text);
		create table tag (id int primary key);
		create table thing_tag (thing_id int references thing, tag_id int references tag, primary key (thing_id, tag_id));
		insert into box values (1, 'a b'), (2, 'b'); insert into thing select i, 1, 'it''s ' || i from generate_series(1, 25) i;
		insert into thing values (26, 2, 'z');
		insert into tag select generate_series(1, 12); insert into thing_tag select 3, i from generate_series(1, 12) i`)
	published(t, r, "pages", "source: "+dsn+"\nresources: {box: , thing: {page: {default: 10, max: 20}}, tag: {page: {default: 5, max: "+
		"100}}}\n"+
		"roles: {all: {anonymous: true, may: {\"*\": read}}}\n")
	for _, tt := range []struct {
		path, relation, key string
		want                string // how many on each page
	}{
		{"/box/1?expand=thing", "thing", "", "10 10 5"}, {"/box?expand=thing(select=id)&filter=id eq 1", "thing", "", "10 10 5"},
		{"/box/1?expand=thing(top=30)", "thing", "", "20 5"}, {"/box/1?expand=thing(top=15;skip=2)", "thing", "", "15"},
		{"/box/1?expand=thing(top=22;skip=2)", "thing", "", "20 2"}, {"/box/1?expand=thing(skip=20)", "thing", "", "5"},
		{"/box/1?expand=thing(filter=v ne @v and id gt 2;orderby=v desc)&@v='it''s 7'", "thing", "", "10 10 2"},
		{"/box/1?expand=thing(compute=id mul 2 as d;filter=d gt 10;select=id,d;search=\"it's\" AND NOT 9)", "thing", "", "10 8"},
		{"/box/2?expand=*", "thing", "", "1"}, {"/box/1?expand=thing/$ref", "thing", "", "10 10 5"},
		{"/thing/3?expand=tag,box(expand=thing(top=3))", "tag", "", "5 5 2"}, {"/thing/3?expand=box(expand=thing)", "box/thing", "", "10 10 5"},
		{"/box/1?expand=thing&OData=x", "thing", "", ""},
	} {
		if tt.want == "" {
			continue
		}
		escaped := strings.ReplaceAll(url.PathEscape(tt.path), "%3F", "?")
		a := get(t, r, "", "/api/pages"+strings.NewReplacer("%2F", "/", "%26", "&", "%3D", "=").Replace(escaped))
		var row map[string]json.RawMessage
		decode(t, a.Text, &row)
		if row["value"] != nil {
			var rows []map[string]json.RawMessage
			decode(t, string(row["value"]), &rows)
			row = rows[0]
		}
		relation := tt.relation
		if outer, inner, deeper := strings.Cut(relation, "/"); deeper {
			text := string(row[outer])
			row, relation = nil, inner
			decode(t, text, &row)
		}
		seen, pages := map[string]bool{}, ""
		next, items := "", []json.RawMessage{}
		decode(t, string(row[relation]), &items)
		if row[relation+"@nextLink"] != nil {
			decode(t, string(row[relation+"@nextLink"]), &next)
		}
		for {
			pages += fmt.Sprint(len(items), " ")
			for _, item := range items {
				if seen[string(item)] {
					t.Errorf("%s: %s comes twice", tt.path, item)
				}
				seen[string(item)] = true
			}
			if next == "" || len(seen) > 100 {
				break
			}
			var page struct {
				Value []json.RawMessage
				Next  string `json:"@nextLink"`
			}
			b := get(t, r, "", next)
			if b.StatusCode != 200 {
				t.Fatalf("%s: %s: %s %s", tt.path, next, b.Status, b.Text)
			}
			decode(t, b.Text, &page)
			items, next = page.Value, page.Next
		}
		if pages != tt.want+" " {
			t.Errorf("%s: pages of %s, want %s", tt.path, pages, tt.want)
		}
	}
	for _, tt := range []struct{ format, want string }{
		{"csv", ",/api/pages/box/1/thing?select=id&skip=10\r\n"}, {"xml", "<next>/api/pages/box/1/thing?select=id&amp;skip=10</next></thing>"},
		{"ndjson", `"thing@nextLink":"/api/pages/box/1/thing?select=id&skip=10"`},
	} {
		if a := get(t, r, "", "/api/pages/box/1?select=id&expand=thing(select=id)&format="+tt.format); !strings.Contains(a.Text, tt.want) {
			t.Errorf("%s: %s", tt.format, a.Text)
		}
	}
	if a := get(t, r, "", "/api/pages/box/1?expand=thing", "OData-MaxVersion", "4.0"); !strings.Contains(a.Text, `"thing@odata.nextLink"`) {
		t.Errorf("in 4.0: %s", a.Text)
	}
}

// After the database has restarted, a read that meets a connection of before is answered on a new one.
func TestBrokenConnections(t *testing.T) {
	t.Parallel()
	r := start(t)
	for range 5 {
		for range 4 {
			if a := r.Send(t, "", "GET", "/api/saltmere/arrivals_board?top=1", nil); a.StatusCode != 200 {
				t.Fatalf("%s %s", a.Status, a.Text)
			}
		}
		column(t, r.Harbour, "select count(pg_terminate_backend(pid)) from pg_stat_activity where datname = current_database() and pid <> "+
			"pg_backend_pid()")
		if a := r.Send(t, "", "GET", "/api/saltmere/arrivals_board?top=1", nil); a.StatusCode != 200 {
			t.Errorf("after the connections broke off: %s %s", a.Status, a.Text)
		}
	}
}
