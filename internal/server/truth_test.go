package server_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"eagerwindow/internal/client"
	"eagerwindow/internal/core/payload"
	"eagerwindow/internal/harbourtest"
	"eagerwindow/internal/identity"
	"eagerwindow/internal/server"
	"eagerwindow/internal/windows"
)

// published publishes a window of its own over a database and lets everybody do everything with it.
func published(t *testing.T, r *harbourtest.Running, name, document string) {
	t.Helper()
	if _, err := r.Operator.PushDraft(t.Context(), name, "window: "+name+"\n"+document); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Operator.Publish(t.Context(), name, windows.NewRelease{AllowBreaking: true, AllowWidening: true}); err != nil {
		t.Fatal(err)
	}
}

// Twenty types are changed under a live release. What was read before is refused until the window is published anew, or, where the new type
// is sent alike, answered as before; no value is ever misread, in a row, a list, beside a parent, in a group or in the answer to a write.
func TestTypesChangeUnderneath(t *testing.T) {
	t.Parallel()
	r := start(t)
	changes := []struct{ from, to, value, using string }{
		{"date", "timestamptz", "2026-07-01", ""}, {"timestamptz", "date", "2026-07-01 00:00Z", ""}, {"timestamptz", "timestamp",
			"2026-07-01 00:00Z", ""},
		{"integer", "bigint", "7", ""}, {"bigint", "integer", "7", ""}, {"integer", "numeric", "7", ""}, {"numeric", "double precision", "7.5",
			""},
		{"double precision", "real", "7.5", ""}, {"double precision", "bigint", "7", ""}, {"integer", "text", "7", ""}, {"text", "integer", "7",
			"v::integer"},
		{"text", "varchar(20)", "seven", ""}, {"text", "bytea", "seven", "v::bytea"}, {"uuid", "text", "0e2c7a52-3f6d-4c1b-9f0e-2d8a6c4b1e90",
			""},
		{"boolean", "integer", "true", "v::integer"}, {"interval", "text", "2 hours", ""}, {"jsonb", "text", `"a"`, ""}, {"jsonb", "json",
			`"a"`, ""},
		{"integer[]", "text[]", "{7}", ""}, {"time", "interval", "12:30", ""}, {"smallint", "boolean", "1", "v = 1"},
	}
	var tables, resources strings.Builder
	for i, c := range changes {
		fmt.Fprintf(&tables, `create table box%d (id int primary key); create table thing%d (id int primary key, box_id int references `+
			`box%d, v %s);
			insert into box%d values (1); insert into thing%d values (1, 1, '%s');`, i, i, i, c.from, i, i, c.value)
		fmt.Fprintf(&resources, "  box%d:\n  thing%d:\n", i, i)
	}
	tables.WriteString("create table quiet (id int primary key, v date); insert into quiet values (1, '2026-07-01');")
	dsn := database(t, tables.String())
	published(t, r, "typed", "source: "+dsn+"\nresources:\n"+resources.String()+"  quiet:\nroles: {all: {anonymous: true, may: {\"*\": "+
		"[read, create, update, delete]}}}\n")
	paths := func(i int) []string {
		return []string{fmt.Sprintf("/thing%d/1?select=v", i), fmt.Sprintf("/thing%d?select=v", i),
			fmt.Sprintf("/box%d?expand=thing%d(select=v)", i, i),
			fmt.Sprintf("/box%d/1/thing%d?select=v&format=csv", i, i), fmt.Sprintf("/thing%d?select=v&format=xml", i)}
	}
	before := map[string]string{}
	for i := range changes {
		for _, path := range paths(i) {
			a := get(t, r, "", "/api/typed"+path)
			if a.StatusCode != 200 {
				t.Fatalf("%s: %s", path, a.Text)
			}
			before[path] = a.Text
		}
	}
	for i, c := range changes {
		using := c.using
		if using == "" {
			using = "v::" + c.to
		}
		column(t, dsn, fmt.Sprintf("alter table thing%d alter column v type %s using %s", i, c.to, using))
		for _, path := range paths(i) {
			a := get(t, r, "", "/api/typed"+path)
			if refused := a.StatusCode == 503 && strings.Contains(a.Text, "database.changed"); !refused && a.Text != before[path] {
				t.Errorf("%s to %s: %s: %s %s", c.from, c.to, path, a.Status, a.Text)
			}
		}
		a := write(t, r, "", "PATCH", fmt.Sprintf("/api/typed/thing%d/1?select=v", i), `{"box_id":1}`)
		if refused := a.StatusCode == 503; !refused && !strings.Contains(before[paths(i)[0]], strings.TrimSuffix(a.Text[strings.Index(a.Text,
			`"v":`)+4:], "}\n")) {
			t.Errorf("%s to %s: a write answers %s %s", c.from, c.to, a.Status, a.Text)
		}
	}
	for _, sql := range []string{"alter table thing0 drop column v", "alter table thing1 rename column v to w", "drop table thing2",
		"alter table thing3 rename to other"} {
		column(t, dsn, sql)
	}
	for i := range 4 {
		for _, path := range paths(i) {
			if a := get(t, r, "", "/api/typed"+path); a.StatusCode != 503 || !strings.Contains(a.Text, "database.changed") ||
				a.Header.Get("Retry-After") == "" {
				t.Errorf("%s: %s %s", path, a.Status, a.Text)
			}
		}
	}
	if a := get(t, r, "", "/api/typed/quiet/1"); a.StatusCode != 200 || !strings.Contains(a.Text, "2026-07-01") {
		t.Errorf("the rest of the window: %s %s", a.Status, a.Text)
	}
}

// The SQL of a named query can't write, and leaves no setting or lock behind for whoever gets its connection next.
func TestNamedQueriesLeaveNothing(t *testing.T) {
	t.Parallel()
	r := start(t)
	dsn := database(t, `create table note (id int generated always as identity primary key, text text);
		create function scribble() returns text language sql as $$ insert into note (text) values ('x') returning text $$;
		create view state as select current_setting('transaction_read_only') as read_only, current_setting('app.mark', true) as mark,
			current_setting('search_path') as path, (select count(*) from pg_locks where locktype = 'advisory' and
				database = (select oid from pg_database where datname = current_database())) as locks`)
	published(t, r, "named", "source: "+dsn+`
resources: {note: , state: }
queries:
  mark: {sql: "select set_config('app.mark', 'left', false) as a, set_config('search_path', 'nowhere', false) as b,
    set_config('default_transaction_read_only', 'off', false) as c, pg_advisory_lock(7) is null as d"}
  scribbles: {sql: "select scribble() as text"}
roles: {all: {anonymous: true, may: {"*": read}}}
`)
	for range 40 { // more than there are connections
		if a := get(t, r, "", "/api/named/mark()"); a.StatusCode != 200 {
			t.Fatalf("%s %s", a.Status, a.Text)
		}
		if a := get(t, r, "", "/api/named/scribbles()"); a.StatusCode != 403 || !strings.Contains(a.Text, "database.denied") {
			t.Errorf("a query that writes: %s %s", a.Status, a.Text)
		}
		a := get(t, r, "", "/api/named/state?select=read_only,mark,locks")
		if !strings.Contains(a.Text, `{"read_only":"on","mark":null,"locks":0}`) && !strings.Contains(a.Text,
			`{"read_only":"on","mark":"","locks":0}`) {
			t.Fatalf("afterwards: %s %s", a.Status, a.Text)
		}
	}
	if n := column(t, dsn, "select count(*) from note")[0]; n != "0" {
		t.Errorf("%s rows were written", n)
	}
}

// A write that waits for a lock acts on the row as it is when it gets it: one that has left the role's rule or the filter meanwhile is left
// alone.
func TestLockedRowsAreJudgedAgain(t *testing.T) {
	t.Parallel()
	r := start(t)
	dsn := database(t, `create table owner (id int primary key, mine boolean not null);
		create table item (id int primary key, owner_id int not null references owner, state text not null, note text);
		create table mark (id int primary key, name text); create table item_mark (item_id int references item, mark_id int references mark,
			primary key (item_id, mark_id));
		insert into owner values (1, true), (2, false); insert into mark values (1, 'a')`)
	rule := "rows: owner/mine eq true"
	published(t, r, "judged", "source: "+dsn+`
resources: {owner: , item: , mark: }
roles:
  all:
    anonymous: true
    may: {owner: read, mark: read, item: {read: , create: , update: {`+rule+`}, delete: {`+rule+`}}}
  plain: {may: {owner: read, mark: read, item: {read: {fields: [id, owner_id, state]}, create: , update: {`+rule+`}, delete: {`+rule+`}}}}
  closer: {may: {item: {read: {rows: "id gt 0"}}}}
sign_in: {clients: true}
`)
	ctx := t.Context()
	// In some rows it may not read the note, so far as anybody knows.
	if err := r.Service.SaveClient(ctx, "judged", "both", "a secret for tests", []string{"plain", "closer"}, nil); err != nil {
		t.Fatal(err)
	}
	both, err := (&client.Client{URL: r.URL}).ClientToken(ctx, "judged", "both", "a secret for tests")
	if err != nil {
		t.Fatal(err)
	}
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.WithoutCancel(ctx))
	for _, tt := range []struct {
		name, method, path, body, leaves string
		untouched                        string // SQL that is true of a row that was left alone
	}{
		{"a change", "PATCH", "/item/1", `{"note":"x"}`, "owner_id = 2", "note is null"},
		{"a replacement", "PUT", "/item/1", `{"owner_id":1,"state":"open","note":"x"}`, "owner_id = 2", "note is null"},
		{"a deletion", "DELETE", "/item/1", "", "owner_id = 2", "true"},
		{"one field", "PUT", "/item/1/note", `{"value":"x"}`, "owner_id = 2", "note is null"},
		{"a delta", "PATCH", "/item", `{"@context":"#$delta","value":[{"@id":"item/1","note":"x"}]}`, "owner_id = 2", "note is null"},
		{"a deletion by delta", "PATCH", "/item", `{"@context":"#$delta","value":[{"@removed":{"reason":"deleted"},"@id":"item/1"}]}`,
			"owner_id = 2",
			"true"},
		{"each by the filter", "PATCH", "/item/$filter(state%20eq%20'open')/$each", `{"note":"x"}`, "state = 'shut'", "note is null"},
		{"each by the rule", "PATCH", "/item/$filter(state%20eq%20'open')/$each", `{"note":"x"}`, "owner_id = 2", "note is null"},
		{"deletion of each", "DELETE", "/item/$filter(state%20eq%20'open')/$each", "", "state = 'shut'", "true"},
		{"deletion of each by the rule", "DELETE", "/item/$filter(state%20eq%20'open')/$each", "", "owner_id = 2", "true"},
		{"a link", "POST", "/item/1/mark/$ref", `{"@id":"mark/1"}`, "owner_id = 2", "not exists (select from item_mark)"},
		{"links in a change", "PATCH", "/item/1", `{"mark":[{"@id":"mark/1"}]}`, "owner_id = 2", "not exists (select from item_mark)"},
		{"in a group", "POST", "/$batch", `{"requests":[{"id":"1","atomicityGroup":"g","method":"PATCH","url":"item/1","body":{"note":"x"}}]}`,
			"owner_id = 2", "note is null"},
	} {
		for who, token := range map[string]string{"one role": "", "roles of which one hides a field": both} {
			if _, err := conn.Exec(ctx, "truncate item cascade; insert into item values (1, 1, 'open')"); err != nil {
				t.Fatal(err)
			}
			tx, err := conn.Begin(ctx)
			if err != nil {
				t.Fatal(err)
			}
			if _, err := tx.Exec(ctx, "update item set "+tt.leaves); err != nil {
				t.Fatal(err)
			}
			answers := make(chan harbourtest.Answer, 1)
			go func() { answers <- write(t, r, token, tt.method, "/api/judged"+tt.path, tt.body) }()
			until(t, tt.name+" waits for the lock", func() bool { return waiting(t, dsn) > 0 || len(answers) > 0 })
			if err := tx.Commit(ctx); err != nil {
				t.Fatal(err)
			}
			a := <-answers
			if left := column(t, dsn, "select count(*) from item where "+tt.untouched)[0]; left != "1" || a.StatusCode >= 500 {
				t.Errorf("%s, by %s, wrote the row all the same, or is answered %s %s", tt.name, who, a.Status, a.Text)
			}
		}
	}
}

// A change touches no more than it says: a password that is changed while an operator disables the account does not enable it again, and
// the same the other way round.
func TestChangesOfOneAccountAtOnce(t *testing.T) {
	t.Parallel()
	r := start(t)
	ctx := t.Context()
	for i := range 8 {
		email, old, later := fmt.Sprintf("p%d@board.example", i), "a long pass phrase", "another pass phrase"
		if _, err := r.Operator.AddAccount(ctx, "saltmere", identity.NewAccount{Email: email, Password: old, Roles: []string{"agent"},
			Claims: map[string]any{"agent_id": 3}}); err != nil {
			t.Fatal(err)
		}
		_, in := post(t, r, "", "/sign-in", fmt.Sprintf(`{"email":%q,"password":%q}`, email, old))
		yes := true
		var both sync.WaitGroup
		both.Go(func() {
			write(t, r, in.AccessToken, "PUT", "/auth/saltmere/password", fmt.Sprintf(`{"old":%q,"new":%q}`, old, later))
		})
		both.Go(func() {
			if err := r.Operator.ChangeAccount(ctx, "saltmere", email, identity.CallerChange{Disabled: &yes,
				Roles: []string{"office"}}); err != nil {
				t.Error(err)
			}
		})
		both.Go(func() {
			if err := r.Operator.ChangeAccount(ctx, "saltmere", email, identity.CallerChange{Claims: map[string]any{"dock": i}}); err != nil {
				t.Error(err)
			}
		})
		both.Wait()
		got := column(t, r.Records, "select disabled || ' ' || array_to_string(roles, ',') || ' ' || claims::text from eager_window.account "+
			"where email = '"+email+"'")[0]
		if want := fmt.Sprintf(`true office {"dock": %d, "agent_id": 3}`, i); got != want {
			t.Errorf("the account is %s, want %s", got, want)
		}
	}
}

// Of many who sign up at the same moment from one address, as many get through as one after the other: twenty, and one a second later.
func TestSignUpsAtOnce(t *testing.T) {
	t.Parallel()
	r := start(t)
	var made, refused atomic.Int64
	var all sync.WaitGroup
	for i := range 80 {
		all.Go(func() {
			a := write(t, r, "", "POST", "/auth/saltmere/sign-up", fmt.Sprintf(`{"email":"s%d@board.example","password":"a long pass phrase"}`, i))
			switch a.StatusCode {
			case 201:
				made.Add(1)
			case 429:
				refused.Add(1)
			default:
				t.Errorf("%s %s", a.Status, a.Text)
			}
		})
	}
	all.Wait()
	if made.Load() > 25 || made.Load() < 20 || made.Load()+refused.Load() != 80 {
		t.Errorf("%d signed up, %d were refused", made.Load(), refused.Load())
	}
}

// A client's token is for the client as it was made: after another secret, or after it was removed and added anew, it is refused.
func TestTokensOfRemadeClients(t *testing.T) {
	t.Parallel()
	r := start(t)
	ctx := t.Context()
	add := func(secret string) string {
		if _, err := r.Operator.AddClient(ctx, "saltmere", "crane", identity.NewClient{Secret: secret, Roles: []string{"office"}}); err != nil {
			t.Fatal(err)
		}
		token, err := (&client.Client{URL: r.URL}).ClientToken(ctx, "saltmere", "crane", secret)
		if err != nil {
			t.Fatal(err)
		}
		return token
	}
	first := add("the first secret")
	within(t, r, first, "/api/saltmere/tugs/1", 200)
	second := add("the second secret")
	within(t, r, first, "/api/saltmere/tugs/1", 401)
	within(t, r, second, "/api/saltmere/tugs/1", 200)
	if err := r.Operator.RemoveClient(ctx, "saltmere", "crane"); err != nil {
		t.Fatal(err)
	}
	third := add("the second secret")
	within(t, r, second, "/api/saltmere/tugs/1", 401)
	within(t, r, third, "/api/saltmere/tugs/1", 200)
	for _, id := range []string{"", strings.Repeat("x", 300), "a\x1b[2Jb", "a\nb"} {
		a := write(t, r, "", "POST", "/auth/saltmere/token", "grant_type=client_credentials&client_secret=x&client_id="+strings.ReplaceAll(
			strings.ReplaceAll(id, "\x1b", "%1b"), "\n", "%0a"), "Content-Type", "application/x-www-form-urlencoded")
		if a.StatusCode != 400 || !strings.Contains(a.Text, "invalid_request") {
			t.Errorf("client %q: %s %s", id, a.Status, a.Text)
		}
	}
}

// An Idempotency-Key is its caller's, whatever roles it has at the time.
func TestKeysOfCallersWithOtherRoles(t *testing.T) {
	t.Parallel()
	r := start(t)
	ctx := t.Context()
	if _, err := r.Operator.AddClient(ctx, "saltmere", "roles", identity.NewClient{Secret: "a secret for tests",
		Roles: []string{"office"}}); err != nil {
		t.Fatal(err)
	}
	token, err := (&client.Client{URL: r.URL}).ClientToken(ctx, "saltmere", "roles", "a secret for tests")
	if err != nil {
		t.Fatal(err)
	}
	send := func() harbourtest.Answer {
		return write(t, r, token, "POST", "/api/saltmere/tugs", `{"name":"Once","bollard_pull_t":1}`, "Idempotency-Key", "roles-1")
	}
	first := send()
	if _, err := r.Operator.ChangeClient(ctx, "saltmere", "roles", identity.CallerChange{Roles: []string{"office",
		"harbour_master"}}); err != nil {
		t.Fatal(err)
	}
	until(t, "its new role counts", func() bool { return get(t, r, token, "/api/saltmere/dues?top=1").StatusCode == 200 })
	if again := send(); first.StatusCode != 201 || again.Text != first.Text {
		t.Errorf("%s %s, then %s %s", first.Status, first.Text, again.Status, again.Text)
	}
	if n := column(t, r.Harbour, "select count(*) from harbour.tug where name = 'Once'")[0]; n != "1" {
		t.Errorf("%s rows", n)
	}
}

// Two instances over the same records: while one publishes a hundred times, the other answers every request, with one release or the next,
// and a second after the last publishing with that one.
func TestTwoInstances(t *testing.T) {
	t.Parallel()
	r := start(t)
	other := r.Another(t, server.New)
	dsn := database(t, "create table thing (id int primary key, a int not null, b int not null); insert into thing values (1, 1, 1)")
	document := func(i int) string {
		name := map[bool]string{true: "a", false: "b"}[i%2 == 0]
		return "source: " + dsn + "\nresources: {thing: {fields: {" + name +
			": {expose: false}}}}\nroles: {all: {anonymous: true, may: {thing: read}}}\n# " +
			fmt.Sprint(i)
	}
	published(t, r, "twice", document(1))
	var over atomic.Bool
	var asked atomic.Int64
	var readers sync.WaitGroup
	for range 4 {
		readers.Go(func() {
			for !over.Load() {
				a := get(t, other, "", "/api/twice/thing/1")
				asked.Add(1)
				var row map[string]json.RawMessage
				if a.StatusCode != 200 || json.Unmarshal([]byte(a.Text), &row) != nil || (row["a"] == nil) == (row["b"] == nil) {
					t.Errorf("%s %s", a.Status, a.Text)
					over.Store(true)
				}
				time.Sleep(5 * time.Millisecond)
			}
		})
	}
	for i := 2; i <= 100; i++ {
		published(t, r, "twice", document(i))
	}
	if a := withinSeconds(t, other, "/api/twice/thing/1", `"b":1`); a != "" {
		t.Error(a)
	}
	// Cut off from the notices, it finds out all the same.
	name := column(t, r.Records, "select current_database()")[0]
	column(t, r.Harbour, "select count(pg_terminate_backend(pid)) from pg_stat_activity where datname = '"+name+"' and query = 'listen "+
		"eager_window'")
	published(t, r, "twice", document(101))
	if a := withinSeconds(t, other, "/api/twice/thing/1", `"a":1`); a != "" {
		t.Error(a)
	}
	over.Store(true)
	readers.Wait()
	if asked.Load() < 100 {
		t.Errorf("%d requests only", asked.Load())
	}
}

// withinSeconds asks until an answer holds a text, for two seconds, and returns the last answer where none does.
func withinSeconds(t *testing.T, r *harbourtest.Running, path, want string) string {
	for start := time.Now(); ; time.Sleep(10 * time.Millisecond) {
		a := get(t, r, "", path)
		if strings.Contains(a.Text, want) {
			return ""
		}
		if time.Since(start) > 2*time.Second {
			return a.Text
		}
	}
}

// What a cache keeps of one role's answer is not another's: the tags differ by whatever the representation does, and all of them hold for a
// write.
func TestTagsOfRepresentations(t *testing.T) {
	t.Parallel()
	r := start(t)
	office, master, agent := r.Token(t, "office"), r.Token(t, "harbour_master"), r.Token(t, "agent")
	id := column(t, r.Harbour, "select p.id from harbour.port_call p join harbour.vessel v on v.id = vessel_id where agent_id = 3 limit 1")[0]
	path := "/api/saltmere/port_calls/" + id
	seen := map[string]string{}
	for _, tt := range []struct{ token, options, accept, version string }{
		{office, "", "", ""}, {master, "", "", ""}, {agent, "", "", ""}, {master, "?select=id", "", ""}, {master, "?select=id,eta", "", ""},
		{master, "", "text/csv", ""},
		{master, "", "application/json;metadata=none", ""}, {master, "", "application/json;metadata=full", ""}, {master, "", "", "4.0"},
		{master, "", "application/json;IEEE754Compatible=true", ""},
	} {
		a := get(t, r, tt.token, path+tt.options, "Accept", tt.accept, "OData-MaxVersion", tt.version)
		tag := a.Header.Get("ETag")
		if other, twice := seen[tag]; tag == "" || twice {
			t.Errorf("%+v has the tag %s, as %s has", tt, tag, other)
		}
		seen[tag] = fmt.Sprintf("%+v", tt)
		if vary := a.Header.Get("Vary"); !strings.Contains(vary, "Authorization") || !strings.Contains(vary, "Prefer") ||
			a.Header.Get("Cache-Control") != "private, no-cache" {
			t.Errorf("%s: %v", tt.options, a.Header)
		}
		if again := get(t, r, tt.token, path+tt.options, "Accept", tt.accept, "OData-MaxVersion", tt.version, "If-None-Match",
			tag); again.StatusCode != http.StatusNotModified {
			t.Errorf("%+v again: %s", tt, again.Status)
		}
		if payload.Version(tag) == "0" {
			t.Errorf("%s names no version", tag)
		}
	}
	for tag := range seen {
		if a := write(t, r, master, "PATCH", path, `{"remarks":"Held."}`, "If-Match", tag); a.StatusCode != 200 && a.StatusCode != 412 {
			t.Errorf("If-Match %s: %s %s", tag, a.Status, a.Text)
		}
	}
	for _, options := range []string{"?expand=vessel", "?compute=now() as n&select=n", "?compute=tugs/$count as n"} {
		if a := get(t, r, master, path+options); a.StatusCode != 200 || a.Header.Get("ETag") != "" {
			t.Errorf("%s depends on more than the row, and has the tag %s (%s)", options, a.Header.Get("ETag"), a.Status)
		}
	}
}
