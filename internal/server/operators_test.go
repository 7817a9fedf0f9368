package server_test

import (
	"strings"
	"testing"
	"time"

	"eagerwindow/demo"
	"eagerwindow/internal/client"
	"eagerwindow/internal/harbourtest"
	"eagerwindow/internal/identity"
)

// Operators are added, disabled, given other passwords and removed; the last one who can sign in stays.
func TestOperators(t *testing.T) {
	t.Parallel()
	r := start(t)
	ctx := t.Context()
	ada := another(t, r)
	yes, no := true, false
	for _, tt := range []struct {
		what string
		do   func() error
		want string
	}{
		{"the same again", func() error {
			_, err := r.Operator.AddOperator(ctx, identity.NewOperator{Email: "Ada@saltmere.example"})
			return err
		}, `there is an operator "Ada@saltmere.example" already`},
		{"no address", func() error { _, err := r.Operator.AddOperator(ctx, identity.NewOperator{Email: "ada"}); return err }, "ada"},
		{"a short password", func() error {
			return r.Operator.ChangeOperator(ctx, "ada@saltmere.example", identity.OperatorChange{Password: "short"})
		}, "at least 12 characters"},
		{"unknown", func() error { return r.Operator.RemoveOperator(ctx, "adda@saltmere.example") }, `did you mean "ada@saltmere.example"?`},
		{"disabled", func() error {
			return r.Operator.ChangeOperator(ctx, "ada@saltmere.example", identity.OperatorChange{Disabled: &yes})
		}, ""},
		{"what a disabled one does", func() error { _, err := ada.Windows(ctx); return err }, "the session has ended"},
		{"the last one disabled", func() error {
			return r.Operator.ChangeOperator(ctx, demo.Operator, identity.OperatorChange{Disabled: &yes})
		}, "the last operator who can sign in"},
		{"the last one removed", func() error { return r.Operator.RemoveOperator(ctx, demo.Operator) }, "the last operator who can sign in"},
		{"what the last one does", func() error { _, err := r.Operator.Windows(ctx); return err }, ""},
		{"enabled", func() error {
			return r.Operator.ChangeOperator(ctx, "ada@saltmere.example", identity.OperatorChange{Disabled: &no, Password: "another password"})
		}, ""},
		{"signing in", func() error {
			s, err := (&client.Client{URL: r.URL}).SignIn(ctx, "ada@saltmere.example", "another password")
			ada.Token = s.Token
			return err
		}, ""},
		{"one's own password", func() error {
			return ada.ChangeOperator(ctx, "ada@saltmere.example", identity.OperatorChange{Password: "a third password"})
		}, ""},
		{"one's own session goes on", func() error { _, err := ada.Windows(ctx); return err }, ""},
		{"removed", func() error { return r.Operator.RemoveOperator(ctx, "ada@saltmere.example") }, ""},
		{"what a removed one does", func() error { _, err := ada.Windows(ctx); return err }, "the session has ended"},
	} {
		wants(t, tt.what, tt.do(), tt.want)
	}
	list, err := r.Operator.Operators(ctx)
	if err != nil || len(list) != 1 || list[0].Email != demo.Operator || list[0].LastSignIn == nil {
		t.Errorf("%+v, %v", list, err)
	}
}

// A client gets another secret, or is disabled: its tokens are refused at once, and so is whoever asks for one.
func TestClientSecrets(t *testing.T) {
	t.Parallel()
	r := start(t)
	ctx := t.Context()
	token := r.Token(t, "office")
	within(t, r, token, "/api/saltmere/tugs?top=1", 200)
	changed, err := r.Operator.ChangeClient(ctx, demo.Window, "office-demo", identity.CallerChange{NewSecret: true})
	if err != nil || changed.Secret == "" {
		t.Fatalf("%+v, %v", changed, err)
	}
	within(t, r, token, "/api/saltmere/tugs?top=1", 401)
	c := &client.Client{URL: r.URL}
	_, err = c.ClientToken(ctx, demo.Window, "office-demo", "saltmere-office")
	wants(t, "the old secret", err, "no client with this id and secret")
	token, err = c.ClientToken(ctx, demo.Window, "office-demo", changed.Secret)
	if err != nil {
		t.Fatal(err)
	}
	within(t, r, token, "/api/saltmere/tugs?top=1", 200)
	yes, no := true, false
	if _, err := r.Operator.ChangeClient(ctx, demo.Window, "office-demo", identity.CallerChange{Disabled: &yes}); err != nil {
		t.Fatal(err)
	}
	if a := within(t, r, token, "/api/saltmere/tugs?top=1", 401); !strings.Contains(a.Text, "an operator of this API has disabled it") {
		t.Error(a.Text)
	}
	_, err = c.ClientToken(ctx, demo.Window, "office-demo", changed.Secret)
	wants(t, "a token of a disabled client", err, "an operator of this API has disabled it")
	if _, err := r.Operator.ChangeClient(ctx, demo.Window, "office-demo", identity.CallerChange{Disabled: &no}); err != nil {
		t.Fatal(err)
	}
	within(t, r, token, "/api/saltmere/tugs?top=1", 200)
}

// Everything that an operator changes is in the audit, with who, from where and what; reading is not. Whoever changes, removes or adds an
// entry by hand is found out.
func TestAudit(t *testing.T) {
	t.Parallel()
	r := start(t)
	ctx := t.Context()
	before, err := r.Operator.Audit(ctx, "", 0, 100)
	if err != nil {
		t.Fatal(err)
	}
	acts := []struct{ method, path, body, act, target string }{
		{"POST", "/manage/operators", `{"email":"ada@saltmere.example"}`, "add operator", "operator/ada@saltmere.example"},
		{"PATCH", "/manage/operators/ada@saltmere.example", `{"disabled":true}`, "change operator", "operator/ada@saltmere.example"},
		{"DELETE", "/manage/operators/ada@saltmere.example", "", "remove operator", "operator/ada@saltmere.example"},
		{"PUT", "/manage/windows/saltmere/grants/pilot/tugs", `{}`, "save draft", "saltmere"},
		{"POST", "/manage/windows/saltmere/releases", `{"note":"x","allow_breaking":true}`, "publish", "saltmere"},
		{"POST", "/manage/windows/saltmere/releases", `{"restore":1,"allow_breaking":true}`, "restore", "saltmere"},
		{"DELETE", "/manage/windows/saltmere/draft", "", "save draft", "saltmere"},
		{"PATCH", "/draft/saltmere/tugs/1", `{"bollard_pull_t":31}`, "write rows", "saltmere"},
		{"POST", "/draft/saltmere/$batch", `{"requests":[{"id":"1","method":"GET","url":"tugs/1"}]}`, "write rows", "saltmere"},
		{"PUT", "/manage/windows/saltmere/clients/c", `{"roles":["office"]}`, "add client", "saltmere/client/c"},
		{"PATCH", "/manage/windows/saltmere/clients/c", `{"new_secret":true}`, "change client", "saltmere/client/c"},
		{"DELETE", "/manage/windows/saltmere/clients/c", "", "remove client", "saltmere/client/c"},
		{"POST", "/manage/windows/saltmere/accounts", `{"email":"b@x.example","roles":["office"]}`, "add account",
			"saltmere/account/b@x.example"},
		{"PATCH", "/manage/windows/saltmere/accounts/b@x.example", `{"disabled":true}`, "change account", ""},
		{"DELETE", "/manage/windows/saltmere/accounts/b@x.example", "", "remove account", ""},
		{"POST", "/manage/signing-keys", `{"forget":true}`, "rotate keys", "signing-keys"},
		{"DELETE", "/manage/windows/saltmere", "", "close window", "saltmere"},
		{"DELETE", "/manage/sources/saltmere", "", "remove source", "source/saltmere"},
	}
	for _, a := range acts {
		get(t, r, r.Operator.Token, "/manage/windows")
		get(t, r, r.Operator.Token, "/draft/saltmere/tugs?top=1")
		if res := write(t, r, r.Operator.Token, a.method, a.path, a.body, "Content-Type", "application/json"); res.StatusCode >= 300 {
			t.Fatalf("%s %s: %s %s", a.method, a.path, res.Status, res.Text)
		}
	}
	write(t, r, r.Operator.Token, "DELETE", "/manage/windows/saltmere", "") // which is refused
	list, err := r.Operator.Audit(ctx, "", 0, 100)
	if err != nil || len(list) != len(before)+len(acts) {
		t.Fatalf("%d entries, want %d and %d, %v", len(list), len(before), len(acts), err)
	}
	for i, a := range acts {
		e := list[len(acts)-1-i]
		if e.Act != a.act || a.target != "" && e.Target != a.target || e.Who != demo.Operator || e.From != "127.0.0.1" ||
			time.Since(e.At) > time.Minute {
			t.Errorf("%s %s is %+v", a.method, a.path, e)
		}
		if text := string(e.Details); strings.Contains(text, "$argon2") || strings.Contains(text, "postgres") {
			t.Errorf("an entry shows a secret: %s", text)
		}
	}
	if of, err := r.Operator.Audit(ctx, "saltmere", 0, 100); err != nil || len(of) != 11 {
		t.Errorf("%d entries of saltmere, %v", len(of), err)
	}
	state, err := r.Operator.VerifyAudit(ctx, "")
	if err != nil || state.Broken != 0 || state.Entries != int64(len(list)) {
		t.Fatalf("%+v, %v", state, err)
	}
	conn := connected(t, r.Records)
	for _, sql := range []string{"update eager_window.audit set who = 'x'", "delete from eager_window.audit", "truncate eager_window.audit"} {
		_, err := conn.Exec(ctx, sql)
		wants(t, sql, err, "never changed or removed")
	}
	tamper(t, r, state.Seal)
}

// tamper changes the audit as somebody could who owns the database, each time from the state as it was.
func tamper(t *testing.T, r *harbourtest.Running, last string) {
	t.Helper()
	for _, tt := range []struct{ what, sql, seal, want string }{
		{"changed", "update eager_window.audit set who = 'x' where id = 4", "", "entry 4 is not as it was written"},
		{"changed in its details", "update eager_window.audit set details = '{}' where id = 7", "", "entry 7 is not as it was written"},
		{"removed", "delete from eager_window.audit where id = 5", "", "entry 5 is missing"},
		{"two exchanged", "update eager_window.audit set id = -1 where id = 2; update eager_window.audit set id = 2 where id = 3; " +
			"update eager_window.audit set id = 3 where id = -1", "", "entry 2 is not as it was written"},
		{"one put in", "insert into eager_window.audit select id + 1, at, who, address, act, target, details, seal from eager_window.audit " +
			"order by id desc " +
			"limit 1", "", "is not as it was written"},
		{"the last removed", "delete from eager_window.audit where id = (select max(id) from eager_window.audit)", last,
			"some were removed from the end"},
	} {
		alter(t, r.Records, "create table eager_window.kept as table eager_window.audit; alter table eager_window.audit disable trigger "+
			"all; "+tt.sql)
		state, err := r.Operator.VerifyAudit(t.Context(), tt.seal)
		if err != nil || state.Broken == 0 || !strings.Contains(state.Why, tt.want) {
			t.Errorf("%s: %+v, %v, want %s", tt.what, state, err, tt.want)
		}
		alter(t, r.Records, "delete from eager_window.audit; insert into eager_window.audit table eager_window.kept; drop table "+
			"eager_window.kept")
	}
	if state, err := r.Operator.VerifyAudit(t.Context(), last); err != nil || state.Broken != 0 {
		t.Errorf("as it was: %+v, %v", state, err)
	}
}

// The doctor finds each thing that is not as it should be, with what to do; where all is well it finds nothing.
func TestDoctor(t *testing.T) {
	t.Parallel()
	r := start(t)
	name := "nurse_" + suffix(r)
	alter(t, r.Harbour, `create schema ward;
		create table ward.item (id int primary key, owner int, note text);
		create table ward.part (id int primary key, item_id int not null references ward.item);
		create table ward.log (at timestamptz, what text);
		create table ward.policed (id int primary key, who text);
		create table ward.keyed (code text not null, n int);
		create schema cellar; create table cellar.wine (id int);
		insert into ward.item select n, n % 900 from generate_series(1, 30000) n;
		insert into ward.part select n, 1 + n % 30000 from generate_series(1, 30000) n;
		alter table ward.policed enable row level security;
		analyze ward.item; analyze ward.part;
		create role `+name+` login password 'x' createdb;
		grant usage on schema ward, cellar to `+name+`; grant select, insert on ward.item, ward.part, ward.log, ward.keyed to `+name+`;
		alter table ward.policed owner to `+name+`; grant select, update on cellar.wine to `+name)
	user := r.Harbour[strings.Index(r.Harbour, "://")+3 : strings.Index(r.Harbour, "@")]
	if _, err := r.Operator.AddSource(t.Context(), "ward", strings.Replace(r.Harbour, user, name+":x", 1)); err != nil {
		t.Fatal(err)
	}
	const document = `source: SOURCE
resources:
  items: {from: ward.item}
  parts: {from: ward.part}
  log: {from: ward.log}
  policed: {from: ward.policed}
  keyed: {from: ward.keyed, key: [code]}
roles:
  nurse:
    claims: {owner: integer}
    may:
      items: {read: {rows: owner eq @caller/owner}, update: {}}
      parts: [read, create]
      log: read
      policed: read
      keyed: read
`
	published(t, r, "ward", strings.Replace(document, "SOURCE", "ward", 1))
	published(t, r, "super", strings.Replace(document, "SOURCE", "saltmere", 1))
	read := func(window string) string {
		list, err := r.Operator.Doctor(t.Context(), window)
		if err != nil {
			t.Fatal(err)
		}
		var b strings.Builder
		for _, f := range list {
			b.WriteString(f.About + " | " + f.Target + " | " + f.Message + " | " + f.SQL + " | " + f.Do + "\n")
		}
		return strings.ReplaceAll(b.String(), name, "nurse_n")
	}
	got := read("ward")
	for _, want := range []string{
		`key | log | ward.log has no key`,
		`key | keyed | nothing keeps two rows of ward.keyed from having the same key | create unique index concurrently on "ward"."keyed" ` +
			`("code")`,
		`privilege | items | roles are granted what the database's user nurse_n may not: update on ward.item | grant update on ` +
			`"ward"."item" to "nurse_n"`,
		`privilege | nurse_n | the database's user nurse_n may make databases, which nothing here needs | alter role "nurse_n" nocreatedb`,
		`privilege | cellar | the database's user nurse_n may write to 1 tables of schema cellar that the window does not show`,
		`security | policed | ward.policed has row-level security, and its owner nurse_n passes it by`,
		`index | ward.part | no index on (item_id) of about 30,000 rows, for the foreign key to ward.item`,
		`as planned now, the whole table is read`,
	} {
		if !strings.Contains(got, want) {
			t.Errorf("the doctor does not say %q, but\n%s", want, got)
		}
	}
	super, user := read("super"), user[:strings.Index(user, ":")]
	for _, want := range []string{
		`privilege | ` + user + ` | the database's user ` + user + ` is a superuser; `,
		`create role "eager_super" login password '…'; grant usage on schema "ward"`,
		`security | policed | ward.policed has row-level security, and the database's user ` + user + ` passes it by: its policies`,
		`index | ward.item | no index on (owner) of about 30,000 rows, for the row rule of role nurse: owner eq @caller/owner; on paper, ` +
			`the planner's cost falls from`,
		`create index concurrently on "ward"."part" ("item_id")`,
	} {
		if !strings.Contains(super, want) {
			t.Errorf("the doctor does not say %q, but\n%s", want, super)
		}
	}
	if extensions := column(t, r.Harbour, "select extname::text from pg_extension where extname = 'hypopg'"); len(extensions) > 0 {
		t.Error("the doctor left an extension behind")
	}
	alter(t, r.Harbour, `create index on ward.part (item_id); create index on ward.item (owner); alter table ward.log add id int primary key;
		create unique index on ward.keyed (code); alter table ward.policed force row level security; grant update on ward.item to `+name+`;
		alter role `+name+` nocreatedb; revoke update on cellar.wine from `+name+`; drop table ward.policed`)
	left := strings.Replace(strings.Replace(document, "SOURCE", "ward", 1), "  policed: {from: ward.policed}\n", "", 1)
	published(t, r, "ward", strings.Replace(left, "      policed: read\n", "", 1))
	if got := read("ward"); got != "" {
		t.Errorf("all is as it should be, yet the doctor says\n%s", got)
	}
	alter(t, r.Harbour, "drop table ward.keyed")
	if got := read("ward"); !strings.Contains(got, `drift | ward | the draft can't be served: `) {
		t.Errorf("a table is gone, and the doctor says\n%s", got)
	}
	alter(t, r.Harbour, "alter role "+name+" nologin; select pg_terminate_backend(pid) from pg_stat_activity where usename = '"+name+"'")
	if got := read("ward"); !strings.Contains(got, `source | ward | the draft can't be served: `) {
		t.Errorf("the source is out of reach, and the doctor says\n%s", got)
	}
	alter(t, r.Harbour, "drop schema ward, cellar cascade; drop owned by "+name+" cascade; drop role "+name)
}

// What a document says of a table is shown with the table.
func TestLookAtTable(t *testing.T) {
	t.Parallel()
	r := start(t)
	for _, name := range []string{"vessel", "harbour.vessel", "vessels"} {
		v, err := r.Operator.LookAtTable(t.Context(), demo.Window, name)
		if err != nil || v.Table != "harbour.vessel" || v.Resource != "vessels" || len(v.Columns) != 11 || len(v.ReferredBy) != 1 {
			t.Fatalf("%s: %+v, %v", name, v, err)
		}
		for _, c := range v.Columns {
			want := c.Name
			if c.Name == "internal_note" {
				want = ""
			}
			if c.Field != want || c.Name == "agent_id" && strings.Join(c.Roles, ",") != "agent,office,harbour_master" {
				t.Errorf("%+v", c)
			}
		}
	}
	v, err := r.Operator.LookAtTable(t.Context(), demo.Window, "port_call_tug")
	if err != nil || v.Resource != "" || len(v.Refers) != 2 {
		t.Errorf("a table that is not shown: %+v, %v", v, err)
	}
	_, err = r.Operator.LookAtTable(t.Context(), demo.Window, "vesel")
	wants(t, "a table that is not there", err, `did you mean "vessels"?`)
}
