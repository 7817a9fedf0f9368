package server_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"eagerwindow/internal/harbourtest"
)

// Many requests in one: what depends on what, groups that are one transaction, references to rows of requests before.
func TestBatch(t *testing.T) {
	t.Parallel()
	r := start(t)
	master, agent := r.Token(t, "harbour_master"), r.Token(t, "agent")
	number := func(sql string) string { return column(t, r.Harbour, sql)[0] }
	tag := r.Send(t, master, "GET", "/api/saltmere/tugs/4", nil).Header.Get("ETag")
	for _, s := range []struct {
		name, token, prefer, requests string
		want                          string // id status, id status …
		parts                         []string
		sql, is                       string
	}{
		{"one after the other", master, "",
			`[{"id":"1","method":"post","url":"port_calls","body":{"vessel_id":3,"eta":"2026-07-09T12:00:00Z","draught_m":5.5}},
			{"id":"2","method":"POST","url":"$1/tugs/$ref","body":{"@id":"tugs/3"},"dependsOn":["1"]},
			{"id":"3","method":"PATCH","url":"$1","headers":{"If-Match":"$1"},"body":{"remarks":"$1 is what it costs"}},
			{"id":"4","method":"GET","url":"/api/saltmere/$1?select=remarks&expand=tugs(select=id)"},
			{"id":"5","method":"POST","url":"cargo_items","body":{"port_call_id":17,"description":"Oats","hs_code":"100400","tonnes":1,
			"port_call":{"@id":"$1"}}}]`,
			"1 201, 2 204, 3 200, 4 200, 5 400", []string{`"remarks":"$1 is what it costs","tugs":[{"id":3}]`,
				`"location":"/api/saltmere/port_calls/`, `port_call/port_call_id: the row around it says`},
			"select count(*) from harbour.port_call_tug t join harbour.port_call p on p.id = port_call_id where remarks = '$1 is what it costs'",
			"1"},
		{"a failure stops", master, "", `[{"id":"a","method":"PATCH","url":"tugs/1","body":{"bollard_pull_t":"5"}},{"id":"b","method":"PATCH",` +
			`"url":"tugs/1","body":{"bollard_pull_t":5}}]`,
			"a 400, b 424", []string{"leave out the quotes", "batch.stopped"}, "select bollard_pull_t <> 5 from harbour.tug where id = 1", "true"},
		{"unless it may go on", master, "continue-on-error", `[{"id":"a","method":"PATCH","url":"tugs/1","body":{"bollard_pull_t":"5"}},` +
			`{"id":"b","method":"PATCH","url":"tugs/1","body":{"bollard_pull_t":5}},{"id":"c","method":"DELETE","url":"tugs/1","dependsOn":["b",` +
			`"a"]}]`,
			"a 400, b 200, c 424", []string{`\"a\", which this request depends on`}, "select bollard_pull_t = 5 from harbour.tug where id = 1",
			"true"},
		{"a group is one", master, "", `[{"id":"a","atomicityGroup":"g","method":"POST","url":"tugs","body":{"name":"Una","bollard_pull_t":5}},
		{"id":"b","atomicityGroup":"g","method":"POST","url":"port_calls/17/tugs/$ref","body":{"@id":"$a"}},
			{"id":"c","method":"GET","url":"$a"}]`,
			"a 201, b 204, c 200", []string{`"name":"Una"`},
			"select count(*) from harbour.tug join harbour.port_call_tug on tug_id = id where name = 'Una' and port_call_id = 17", "1"},
		{"a group that fails is nothing", master, "continue-on-error",
			`[{"id":"a","atomicityGroup":"g","method":"POST","url":"tugs","body":{"name":"Sora","bollard_pull_t":5}},{"id":"b",
			"atomicityGroup":"g","method":"POST","url":"tugs","body":{"name":"Sora","bollard_pull_t":5}},
			{"id":"c","atomicityGroup":"g","method":"GET","url":"tugs"},{"id":"d","method":"GET","url":"tugs","dependsOn":["g"]},{"id":"e",
			"method":"GET","url":"$a"},{"id":"f","method":"GET","url":"tugs/$count"}]`,
			"a 424, b 409, c 424, d 424, e 400, f 200", []string{"nothing of the group was done", "same value where it must be unique",
				`"body":"10"`}, "select count(*) from harbour.tug where name = 'Sora'", "0"},
		{"roles hold", agent, "continue-on-error", `[{"id":"a","method":"POST","url":"dues","body":{}},{"id":"b","method":"GET",` +
			`"url":"vessels/$count"},{"id":"c","method":"PATCH","url":"tugs/4","headers":{"if-match":` + fmt.Sprintf("%q", tag) +
			`},"body":{}},{"id":"d","method":"GET","url":"nowhere"},{"id":"e","method":"POST","url":"$batch","body":{}}]`,
			"a 403, b 200, c 403, d 404, e 400", []string{"may not create dues", "can't stand in a batch"}, "select true", "true"},
		{"other formats", master, "", `[{"id":"a","method":"GET","url":"tugs/1?select=name","headers":{"accept":"text/csv"}},{"id":"b",` +
			`"method":"POST","url":"tugs/$query","headers":{"content-type":"text/plain"},"body":"select=id&top=1"},{"id":"c","method":"GET",` +
			`"url":"/api/saltmere/$metadata"}]`,
			"a 200, b 200, c 200", []string{`"body":"name\r\nBram\r\n"`, `"value":[{"id":1}]`, "edmx:Edmx"}, "select true", "true"},
		{"references to nothing", master, "continue-on-error",
			`[{"id":"a","method":"PATCH","url":"tugs/1","headers":{"If-Match":"$z"},"body":{"bollard_pull_t":1}},{"id":"b","method":"POST",
			"url":"port_calls/17/tugs/$ref","body":{"@id":"$z"}},
			{"id":"c","method":"GET","url":"$z/port_calls"},{"id":"d","method":"GET","url":"tugs/%zz"},{"id":"e","method":"GET",
			"url":"tugs?filter=$z eq 1"},{"id":"f","method":"PATCH","url":"port_calls/17","body":{"tugs@odata.bind":["$z"]}},{"id":"g",
			"method":"DELETE","url":"$metadata"}]`,
			"a 400, b 400, c 400, d 400, e 400, f 400, g 405",
			[]string{"$z stands for what a request before has made or read, and there is none of that id", `the url \"tugs/%zz\" can't be read`},
			"select bollard_pull_t <> 1 from harbour.tug where id = 1", "true"},
		{"references in bodies", master, "",
			`[{"id":"a","method":"POST","url":"tugs","body":{"name":"Vita","bollard_pull_t":5}},{"id":"b","method":"GET",
			"url":"berths/N05?select=code"},
			{"id":"c","method":"PATCH","url":"port_calls/18?select=berth_code","body":{"remarks":"$a","tugs@odata.bind":["$a"],
			"berth":{"@odata.id":"$b"}}},{"id":"d","method":"GET","url":"$c/tugs?select=name"},{"id":"e","method":"DELETE",
			"url":"$c/tugs/$ref?$id=$a"}]`,
			"a 201, b 200, c 200, d 200, e 404", []string{`"berth":{"code":"N05"`, `"value":[{"name":"Vita"}]`},
			"select remarks from harbour.port_call where id = 18", "$a"},
		{"a group that depends on what failed", master, "continue-on-error",
			`[{"id":"a","method":"GET","url":"tugs/999"},{"id":"b","atomicityGroup":"g","method":"PATCH","url":"tugs/1",
			"body":{"bollard_pull_t":1}},{"id":"c","atomicityGroup":"g","method":"PATCH","url":"tugs/2","body":{"bollard_pull_t":1},
			"dependsOn":["a"]},
			{"id":"d","method":"GET","url":"tugs/1?select=name","dependsOn":["b"]}]`,
			"a 404, b 424, c 424, d 424", []string{`\"a\", which this request depends on, has failed`, "nothing of the group was done"},
			"select count(*) from harbour.tug where bollard_pull_t = 1", "0"},
		{"keys in a group", master, "", `[{"id":"a","atomicityGroup":"g","method":"POST","url":"tugs","headers":{"Idempotency-Key":"k"},` +
			`"body":{"name":"Wim","bollard_pull_t":5}}]`,
			"a 400", []string{"in a group, a request takes no Idempotency-Key"}, "select count(*) from harbour.tug where name = 'Wim'", "0"},
		{"a long answer", master, "", `[` + strings.Repeat(`{"id":"%d","method":"GET","url":"tide_readings?top=1000"},`, 5) +
			`{"id":"z","method":"GET","url":"tugs/1?select=name"}]`,
			"1 200, 2 200, 3 200, 4 200, 5 200, z 200", []string{`"name":"Bram"`}, "select true", "true"},
	} {
		for i := 1; strings.Contains(s.requests, `"%d"`); i++ {
			s.requests = strings.Replace(s.requests, `"%d"`, fmt.Sprintf("%q", fmt.Sprint(i)), 1)
		}
		a := write(t, r, s.token, "POST", "/api/saltmere/$batch", `{"requests":`+s.requests+`}`, "Prefer", s.prefer)
		var got struct {
			Responses []struct {
				ID     string
				Status int
				Body   json.RawMessage
			}
		}
		if err := json.Unmarshal([]byte(a.Text), &got); err != nil || a.StatusCode != 200 {
			t.Errorf("%s: %s %v %s", s.name, a.Status, err, a.Text)
			continue
		}
		var told []string
		for _, res := range got.Responses {
			told = append(told, fmt.Sprint(res.ID, " ", res.Status))
		}
		if strings.Join(told, ", ") != s.want {
			t.Errorf("%s: %v, want %s\n%s", s.name, told, s.want, a.Text)
		}
		for _, part := range s.parts {
			if !strings.Contains(a.Text, part) {
				t.Errorf("%s: %q is not in %.2000s", s.name, part, a.Text)
			}
		}
		if is := number(s.sql); is != s.is {
			t.Errorf("%s: %s is %s, want %s", s.name, s.sql, is, s.is)
		}
	}
	for body, want := range map[string]string{
		`{}`:               "from 1 to 1000 are run",
		`{"requests":[7]}`: "requests/0: an object is expected, this is a number",
		`{"requests":[{"id":"1","method":"GET","url":"tugs"},{"id":"1","method":"FLY","url":"tugs","dependsOn":["2"]},{"method":"GET",` +
			`"url":"x","if":"y"}]}`: "the batch has 4 mistakes; nothing was done",
		`{"requests":[{"id":"1","atomicityGroup":"g","method":"GET","url":"tugs"},{"id":"2","method":"GET","url":"tugs"},{"id":"3",` +
			`"atomicityGroup":"g","method":"GET","url":"tugs"}]}`: "side by side",
		`{"requests":[{"id":"1","method":"GET","url":"tugs","headers":{"a":1}}]}`: "requests/0/headers/a: a string is expected",
	} {
		if a := write(t, r, master, "POST", "/api/saltmere/$batch", body); a.StatusCode != 400 || !strings.Contains(a.Text, want) {
			t.Errorf("%s: %s %s\nwant %s", body, a.Status, a.Text, want)
		}
	}
	// The version is that of the batch; bytes stand as base64url.
	paid := number("select min(port_call_id)::text from harbour.due where receipt is not null")
	old := write(t, r, master, "POST", "/api/saltmere/$batch",
		`{"requests":[{"id":"1","method":"GET","url":"tugs/1?select=name"},{"id":"2","method":"GET","url":"dues/`+paid+`/receipt/$value"}]}`,
		"OData-MaxVersion", "4.0")
	receipt := number("select rtrim(translate(encode(receipt, 'base64'), E'+/\\n', '-_'), '=') from harbour.due where port_call_id = " + paid)
	if !strings.Contains(old.Text, `"@odata.context":"../$metadata#tugs(name)/$entity"`) || !strings.Contains(old.Text, `"body":"`+receipt) {
		t.Errorf("in 4.0: %s\nwant %s", old.Text, receipt)
	}
	if a := write(t, r, master, "POST", "/api/saltmere/$batch", `{"requests":[{"id":"1","method":"GET","url":"tugs"}]}`, "Accept",
		"image/png"); a.StatusCode != 406 {
		t.Errorf("as a picture: %s %s", a.Status, a.Text)
	}
	if a := write(t, r, master, "POST", "/api/saltmere/$batch", `{"requests":[]}`, "Content-Type",
		"multipart/form-data; boundary=b"); a.StatusCode != 415 {
		t.Errorf("multipart: %s %s", a.Status, a.Text)
	}
}

// A request with an Idempotency-Key is done once, however often it is sent.
func TestIdempotencyKey(t *testing.T) {
	t.Parallel()
	r := start(t)
	master, office := r.Token(t, "harbour_master"), r.Token(t, "office")
	number := func(sql string) string { return column(t, r.Harbour, sql)[0] }
	const body = `{"name":"Once","bollard_pull_t":5}`
	first := write(t, r, master, "POST", "/api/saltmere/tugs", body, "Idempotency-Key", `"a-1"`)
	again := write(t, r, master, "POST", "/api/saltmere/tugs", body, "Idempotency-Key", `a-1`)
	if first.StatusCode != 201 || again.StatusCode != 201 || again.Text != first.Text ||
		again.Header.Get("Location") != first.Header.Get("Location") || again.Header.Get("ETag") != first.Header.Get("ETag") ||
		number("select count(*) from harbour.tug where name = 'Once'") != "1" {
		t.Errorf("%s %s\n%s %s", first.Status, first.Text, again.Status, again.Text)
	}
	for _, s := range []struct {
		token, method, path, body, key string
		status                         int
		want                           string
	}{
		{master, "POST", "/tugs", `{"name":"Twice","bollard_pull_t":5}`, "a-1", 422, "came with another request before"},
		{master, "POST", "/tugs?select=id", body, "a-1", 422, "came with another request before"},
		{office, "POST", "/tugs", body, "a-1", 409, "must be unique"}, // a key belongs to its caller
		{master, "POST", "/tugs", body, "a-2", 409, "must be unique"}, // a refusal is not remembered:
		{master, "POST", "/tugs", `{"name":"Thrice","bollard_pull_t":5}`, "a-2", 201, "Thrice"},
		{master, "PATCH", "/tugs/1", `{"bollard_pull_t":17}`, "a-3", 200, "17"},
		{master, "DELETE", "/tugs/99", ``, "a-4", 404, "no such row"},
		{master, "POST", "/tugs", `{"name":"Longer","bollard_pull_t":5}`, strings.Repeat("x", 256), 400, "at most 255 characters"},
		{master, "POST", "/$batch", `{"requests":[]}`, "a-5", 400, "a batch takes no Idempotency-Key"},
		{master, "POST", "/$batch", `{"requests":[{"id":"1","method":"POST","url":"tugs","headers":{"idempotency-key":"a-1"},"body":` + body +
			`}]}`, "", 200, `"name":"Once"`},
		{master, "GET", "/tugs/1", ``, "a-1", 200, "Bram"},
	} {
		headers := []string{"Idempotency-Key", s.key}
		if s.key == "" {
			headers = nil
		}
		if a := write(t, r, s.token, s.method, "/api/saltmere"+s.path, s.body, headers...); a.StatusCode != s.status ||
			!strings.Contains(a.Text, s.want) {
			t.Errorf("%s %s %s %s: %s %s\nwant %d %s", s.method, s.path, s.body, s.key, a.Status, a.Text, s.status, s.want)
		}
	}
	// Sent many times at once.
	var senders sync.WaitGroup
	for range 20 {
		senders.Go(func() {
			a := write(t, r, master, "POST", "/api/saltmere/cargo_items", `{"port_call_id":17,"description":"Once","hs_code":"100400","tonnes":1}`,
				"Idempotency-Key", "b-1")
			if a.StatusCode != 201 && a.StatusCode != 409 {
				t.Errorf("%s %s", a.Status, a.Text)
			}
		})
	}
	senders.Wait()
	if n := number("select count(*) from harbour.cargo_item where description = 'Once'"); n != "1" {
		t.Errorf("%s rows of one key", n)
	}
	// A service that died between keeping the answer and hearing of the commit: the database knows whether it was one.
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, r.Harbour)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	var aborted string
	undone := errors.New("undone")
	if err := pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
		if err := tx.QueryRow(ctx, "select pg_current_xact_id()::text").Scan(&aborted); err != nil {
			t.Fatal(err)
		}
		return undone
	}); err != undone {
		t.Fatal(err)
	}
	open, err := conn.Begin(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = open.Rollback(ctx) }()
	var running string
	if err := open.QueryRow(ctx, "select pg_current_xact_id()::text").Scan(&running); err != nil {
		t.Fatal(err)
	}
	for _, s := range []struct{ name, transaction, after, text string }{
		{"committed", "", "1", first.Text},
		{"aborted", aborted, "1", ""},
		{"still running", running, "0", "is being done at this moment"},
		{"of another database", "99999999999", "0", "no longer knows whether it was done"},
	} {
		set := "settled = false"
		if s.transaction != "" {
			set += ", transaction = '" + s.transaction + "'"
			column(t, r.Harbour, "delete from harbour.tug where name = 'Once' returning 1")
		}
		column(t, r.Records, "update eager_window.idempotent_request set "+set+" where key = 'a-1' returning 1")
		a := write(t, r, master, "POST", "/api/saltmere/tugs", body, "Idempotency-Key", "a-1")
		if got := number("select count(*) from harbour.tug where name = 'Once'"); got != s.after || !strings.Contains(a.Text, s.text) {
			t.Errorf("%s: %s %s; %s rows, want %s", s.name, a.Status, a.Text, got, s.after)
		}
	}
}

// While a request with a key is being done, a repeat is reported to wait; afterwards it has the first one's answer.
func TestKeyIsRunning(t *testing.T) {
	t.Parallel()
	r := start(t)
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, r.Harbour)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	lock, err := conn.Begin(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := lock.Exec(ctx, "select from harbour.tug where id = 1 for update"); err != nil {
		t.Fatal(err)
	}
	master := r.Token(t, "harbour_master")
	send := func() harbourtest.Answer {
		return write(t, r, master, "PATCH", "/api/saltmere/tugs/1", `{"bollard_pull_t":51}`, "Idempotency-Key", "slow")
	}
	first := make(chan harbourtest.Answer)
	go func() { first <- send() }()
	for column(t, r.Harbour, "select count(*)::text from pg_stat_activity where wait_event_type = 'Lock'")[0] == "0" {
		time.Sleep(10 * time.Millisecond)
	}
	if a := send(); a.StatusCode != 409 || a.Header.Get("Retry-After") != "1" || !strings.Contains(a.Text, "key.running") {
		t.Errorf("a repeat meanwhile: %s %v %s", a.Status, a.Header, a.Text)
	}
	if err := lock.Rollback(ctx); err != nil {
		t.Fatal(err)
	}
	a := <-first
	if again := send(); a.StatusCode != 200 || again.StatusCode != 200 || again.Text != a.Text ||
		again.Header.Get("ETag") != a.Header.Get("ETag") {
		t.Errorf("%s %s, then %s %s", a.Status, a.Text, again.Status, again.Text)
	}
}

// A multipart batch that can't be read is refused whole, and told why.
func TestMultipartMistakes(t *testing.T) {
	t.Parallel()
	r := start(t)
	master := r.Token(t, "harbour_master")
	const made = "--b\r\nContent-Type: application/http\r\n\r\nPOST tugs HTTP/1.1\r\nContent-Type: application/json\r\n\r\n" +
		`{"name":"Half","bollard_pull_t":5}` + "\r\n"
	for _, tt := range []struct{ kind, body, want string }{
		{"multipart/mixed", made + "--b--", "a multipart/mixed message names its boundary"},
		{"multipart/mixed; boundary=b", "", "the body is no multipart/mixed message of this boundary"},
		{"multipart/mixed; boundary=b", made, "the body is no multipart/mixed message of this boundary"},
		{"multipart/mixed; boundary=b", made + "--b", "the body is no multipart/mixed message of this boundary"},
		{"multipart/mixed; boundary=c", made + "--b--", "the body is no multipart/mixed message of this boundary"},
		{"multipart/mixed; boundary=b", "--b--", "the batch has 0 requests"},
		{"multipart/mixed; boundary=b", made + "--b\r\n\r\nhello\r\n--b--", "a part of a batch is Content-Type: application/http"},
		{"multipart/mixed; boundary=b", made + "--b\r\nContent-Type: application/http\r\n\r\nhello\r\n--b--", "part 2 begins with"},
		{"multipart/mixed; boundary=b", strings.Repeat(made, 1001) + "--b--", "the batch has 1001 requests"},
		{"multipart/mixed; boundary=b", made + "--b\r\nContent-Type: multipart/mixed; boundary=c\r\n\r\n--c\r\nContent-Type: multipart/mixed; " +
			"boundary=d\r\n\r\n--d--\r\n--c--\r\n--b--", "a part of a batch is"},
	} {
		if a := write(t, r, master, "POST", "/api/saltmere/$batch", tt.body, "Content-Type", tt.kind); a.StatusCode != 400 ||
			!strings.Contains(a.Text, tt.want) {
			t.Errorf("%s %.80q: %s %.300s", tt.kind, tt.body, a.Status, a.Text)
		}
	}
	if a := get(t, r, master, "/api/saltmere/tugs/$count?filter=name eq 'Half'"); a.Text != "0" {
		t.Errorf("%s rows were made", a.Text)
	}
}

// Conditions of a batch cost no more than their length: numbers of any size are compared, and large answers are looked into a few times
// only.
func TestConditionsAreBounded(t *testing.T) {
	t.Parallel()
	r := start(t)
	master := r.Token(t, "harbour_master")
	look := strings.TrimSuffix(strings.Repeat("$1/value ne null or ", 45), " or ")
	for _, tt := range []struct{ first, condition, want string }{
		{"tugs/1", "$1/bollard_pull_t lt 1e1000000 and $1/bollard_pull_t gt -1e999999999", `"id":2`},
		{"tugs/1", "$1/nothing/there eq null and not ($1/name gt 3)", `"id":2`},
		{"tugs/1", "$1/name", "$1/name is neither true nor false; compare it with something"},
		{"tugs/1", "$7/$succeeded", "is no answer to a request before this one"},
		{"tide_readings?top=20000", look, "look into more than 33554432 bytes of answers"},
		{"tugs/1", look + look, "a condition has at most 1000 bytes"},
	} {
		body, err := json.Marshal(map[string]any{"requests": []any{map[string]any{"id": "1", "method": "GET", "url": tt.first},
			map[string]any{"id": "2", "method": "GET", "url": "tugs/2?select=id", "if": tt.condition}}})
		if err != nil {
			t.Fatal(err)
		}
		if a := write(t, r, master, "POST", "/api/saltmere/$batch", string(body)); !strings.Contains(a.Text, tt.want) {
			t.Errorf("%s: %s %.300s … %s", tt.condition[:min(60, len(tt.condition))], a.Status, a.Text, a.Text[max(0, len(a.Text)-300):])
		}
	}
}
