package server_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"eagerwindow/demo"
	"eagerwindow/internal/core/compare"
	"eagerwindow/internal/harbourtest"
	"eagerwindow/internal/server"
	"eagerwindow/internal/windows"
)

// alter runs statements in a database by hand.
func alter(t *testing.T, dsn, sql string) {
	t.Helper()
	if _, err := connected(t, dsn).Exec(context.Background(), sql); err != nil {
		t.Fatal(err)
	}
}

func tables(d windows.Drift) string {
	var list []string
	for _, x := range d.Tables {
		list = append(list, x.What+" "+x.Target)
	}
	return strings.Join(list, ", ")
}

// A database changes under a live release: what became of it is found, and what it means to callers.
func TestDrift(t *testing.T) {
	t.Parallel()
	for _, tt := range []struct{ name, sql, tables, changes, wrong string }{
		{"nothing", "analyze harbour.tug", "", "", ""},
		{"rows", "insert into harbour.tug (name, bollard_pull_t) values ('x', 1)", "", "", ""},
		{"column", "alter table harbour.tug add engine text", "added harbour.tug.engine",
			"compatible+ tugs.engine agent; compatible+ tugs.engine pilot; compatible+ tugs.engine office; compatible+ tugs.engine " +
				"harbour_master; " +
				"compatible tugs.engine", ""},
		{"column dropped", "alter table harbour.tug drop bollard_pull_t", "changed harbour.tug, dropped harbour.tug.bollard_pull_t",
			"breaking tugs.bollard_pull_t; compatible tugs", ""},
		{"column renamed", "alter table harbour.berth rename quay to pier", "added harbour.berth.pier, renamed harbour.berth.quay",
			"compatible+ berths.pier agent; compatible+ berths.pier pilot; compatible+ berths.pier office; compatible+ berths.pier " +
				"harbour_master; " +
				"breaking berths.quay; breaking berths.pier; compatible berths.pier", ""},
		{"type", "alter table harbour.due alter amount type numeric(14,2)", "changed harbour.due.amount", "compatible dues.amount", ""},
		{"value of an enum", "alter type harbour.pilot_direction add value 'shifting'", "changed harbour.pilotage.direction",
			"breaking pilotages.direction",
			""},
		{"comment", "comment on column harbour.tug.name is 'How it is called.'", "changed harbour.tug.name", "internal tugs.name", ""},
		{"index", "create index on harbour.tug (bollard_pull_t)", "changed harbour.tug", "", ""},
		{"constraint", "alter table harbour.tug add unique (bollard_pull_t)", "changed harbour.tug", "breaking tugs; compatible tugs", ""},
		{"table", "create table harbour.lock_gate (id int primary key)", "added harbour.lock_gate", "", ""},
		{"table dropped", "drop table harbour.weather_log", "dropped harbour.weather_log", "",
			`has no table or view "harbour.weather_log"`},
		{"table renamed", "alter table harbour.weather_log rename to weather", "added harbour.weather, renamed harbour.weather_log", "",
			`did you mean "harbour.weather"?`},
	} {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			r := start(t)
			alter(t, r.Harbour, tt.sql)
			d, err := r.Operator.Drift(t.Context(), demo.Window)
			if err != nil {
				t.Fatal(err)
			}
			var changes []string
			for _, c := range d.Changes {
				line := string(c.Effect)
				if c.Widens {
					line += "+"
				}
				line += " " + strings.TrimSuffix(c.Target, " about")
				if c.Role != "" {
					line += " " + c.Role
				}
				changes = append(changes, line)
			}
			if got := tables(d); got != tt.tables && !strings.HasPrefix(got, tt.tables+",") {
				t.Errorf("tables\n got %s\nwant %s", got, tt.tables)
			}
			if got := strings.Join(changes, "; "); got != tt.changes {
				t.Errorf("changes\n got %s\nwant %s", got, tt.changes)
			}
			if !strings.Contains(d.Wrong, tt.wrong) || tt.wrong == "" && d.Wrong != "" {
				t.Errorf("wrong: %q, want %q", d.Wrong, tt.wrong)
			}
			if a := within(t, r, "", "/api/saltmere/arrivals_board?top=1", 200); !strings.Contains(a.Text, "value") {
				t.Errorf("what is live: %s", a.Text)
			}
		})
	}
}

// Drift is found by itself, and in what operators look at; a release of the same document takes it up, if that is allowed.
func TestDriftIsTold(t *testing.T) {
	t.Parallel()
	r := start(t)
	ctx := t.Context()
	if _, err := r.Operator.Discard(ctx, demo.Window); err != nil {
		t.Fatal(err)
	}
	_, err := r.Operator.Publish(ctx, demo.Window, windows.NewRelease{})
	wants(t, "publishing what is live", err, "there is nothing to publish")
	alter(t, r.Harbour, "alter table harbour.tug add secret text")
	found := func() *windows.Window {
		list, err := r.Operator.Windows(ctx)
		if err != nil {
			t.Fatal(err)
		}
		return &list[0]
	}
	until(t, "the drift is noticed", func() bool { return found().Drift != nil })
	if d := found().Drift; d.Widening != 4 {
		t.Errorf("%+v", d)
	}
	metrics := get(t, r, r.Operator.Token, "/metrics").Text
	if want := `eager_drift{effect="widening",window="saltmere"} 4`; !strings.Contains(metrics, want) {
		t.Errorf("the metrics lack %s", want)
	}
	_, err = r.Operator.Publish(ctx, demo.Window, windows.NewRelease{AllowBreaking: true})
	wants(t, "publishing what the database opens", err, "publish with --allow-widening\n  tugs.secret is open to agent (read)")
	made, err := r.Operator.Publish(ctx, demo.Window, windows.NewRelease{AllowWidening: true})
	if err != nil || made.Number != 2 || made.Counts.Widening != 4 {
		t.Fatalf("%+v, %v", made, err)
	}
	if d := found().Drift; d != nil {
		t.Errorf("after publishing there is drift: %+v", d)
	}
	if a := within(t, r, r.Token(t, "agent"), "/api/saltmere/tugs?top=1&select=secret", 200); !strings.Contains(a.Text, `"secret":null`) {
		t.Error(a.Text)
	}
}

// With follow, a table that is made answers on the draft within two seconds, and publishing stops at it.
func TestFollow(t *testing.T) {
	t.Parallel()
	r := start(t)
	document := "source: saltmere\nfollow: true\nresources: {tugs: {from: harbour.tug}}\n" +
		"roles: {all: {anonymous: true, may: {\"*\": read}}}\n"
	published(t, r, "growing", document)
	within(t, r, r.Operator.Token, "/draft/growing/lock_gate", 404)
	until(t, "the database is watched", func() bool {
		return column(t, r.Harbour, "select count(*)::text from pg_event_trigger where evtname = 'eager_window_ddl'")[0] == "1"
	})
	alter(t, r.Harbour, "create table harbour.lock_gate (id int primary key, width_m numeric); insert into harbour.lock_gate values (1, 12.5)")
	made := time.Now()
	until(t, "the new table answers", func() bool { return get(t, r, r.Operator.Token, "/draft/growing/lock_gate").StatusCode == 200 })
	t.Logf("it answered after %s", time.Since(made))
	within(t, r, "", "/api/growing/lock_gate", 404)
	_, err := r.Operator.Publish(t.Context(), "growing", windows.NewRelease{})
	wants(t, "publishing a table that came by itself", err, "lock_gate is open to all")
	if _, err := r.Operator.Publish(t.Context(), "growing", windows.NewRelease{AllowWidening: true}); err != nil {
		t.Fatal(err)
	}
	if a := within(t, r, "", "/api/growing/lock_gate", 200); !strings.Contains(a.Text, `"width_m":12.5`) {
		t.Error(a.Text)
	}
	// Another instance makes the same model of the release.
	other := r.Another(t, server.New)
	within(t, other, "", "/api/growing/lock_gate", 200)
}

// A source gets another password, and its windows go on: no request fails.
func TestSources(t *testing.T) {
	t.Parallel()
	r := start(t)
	ctx := t.Context()
	alter(t, r.Harbour, "create role porter_"+suffix(r)+" login superuser password 'first'")
	dsn := func(password string) string {
		return strings.Replace(r.Harbour, r.Harbour[strings.Index(r.Harbour, "://")+3:strings.Index(r.Harbour, "@")],
			"porter_"+suffix(r)+":"+password, 1)
	}
	if _, err := r.Operator.SetSource(ctx, "saltmere", dsn("first")); err != nil {
		t.Fatal(err)
	}
	done, failed := make(chan struct{}), make(chan string, 1)
	var answered atomic.Int64
	more := func() {
		from := answered.Load()
		until(t, "more requests are answered", func() bool { return answered.Load() >= from+100 || len(failed) > 0 })
	}
	go func() {
		defer close(failed)
		for {
			select {
			case <-done:
				return
			default:
			}
			if a := r.Send(t, "", "GET", "/api/saltmere/arrivals_board?top=1", nil); a.StatusCode != 200 {
				failed <- a.Status + a.Text
				return
			}
			answered.Add(1)
		}
	}()
	more()
	alter(t, r.Harbour, "alter role porter_"+suffix(r)+" password 'second'")
	s, err := r.Operator.SetSource(ctx, "saltmere", dsn("second"))
	if err != nil || len(s.Windows) != 1 || !strings.HasSuffix(s.Address, " as porter_"+suffix(r)) {
		t.Errorf("%+v, %v", s, err)
	}
	more()
	close(done)
	if text, is := <-failed; is {
		t.Errorf("a request failed: %s", text)
	}
	for _, tt := range []struct {
		what string
		do   func() error
		want string
	}{
		{"no DSN", func() error { _, err := r.Operator.SetSource(ctx, "saltmere", "hello"); return err }, "this is no DSN"},
		{"nobody there", func() error { _, err := r.Operator.SetSource(ctx, "saltmere", "postgres://127.0.0.1:1/x"); return err },
			"does not answer"},
		{"unknown", func() error { _, err := r.Operator.SetSource(ctx, "saltmre", r.Harbour); return err }, `did you mean "saltmere"?`},
		{"again", func() error { _, err := r.Operator.AddSource(ctx, "saltmere", r.Harbour); return err },
			`there is a source "saltmere" already`},
		{"a name", func() error { _, err := r.Operator.AddSource(ctx, "Salt mere", r.Harbour); return err }, "can't be the name of a source"},
		{"in use", func() error { return r.Operator.RemoveSource(ctx, "saltmere") }, `source "saltmere" is used by saltmere`},
		{"new", func() error { _, err := r.Operator.AddSource(ctx, "copy", r.Harbour); return err }, ""},
		{"free", func() error { return r.Operator.RemoveSource(ctx, "copy") }, ""},
		{"gone", func() error { return r.Operator.RemoveSource(ctx, "copy") }, `there is no source "copy"`},
	} {
		wants(t, tt.what, tt.do(), tt.want)
	}
	if left := column(t, r.Harbour, "select evtname::text from pg_event_trigger"); len(left) > 0 {
		t.Errorf("a source that was removed left %v behind", left)
	}
	a := get(t, r, r.Operator.Token, "/manage/sources")
	if strings.Contains(a.Text, "second") || strings.Contains(a.Text, "://") || !strings.Contains(a.Text, `"name":"saltmere"`) {
		t.Errorf("the sources: %s", a.Text)
	}
	alter(t, r.Harbour, "reassign owned by porter_"+suffix(r)+" to current_user; alter role porter_"+suffix(r)+" nologin")
}

// suffix is a name that no other test's service has.
func suffix(r *harbourtest.Running) string {
	_, rest, _ := strings.Cut(r.Harbour, "/test_")
	number, _, _ := strings.Cut(rest, "?")
	return number
}

// A window is closed: its callers are answered 404, and its database is as it was.
func TestClose(t *testing.T) {
	t.Parallel()
	r := start(t)
	token := r.Token(t, "agent")
	other := r.Another(t, server.New)
	within(t, other, "", "/api/saltmere/arrivals_board?top=1", 200)
	closed, err := r.Operator.Close(t.Context(), demo.Window)
	if err != nil || closed.Releases != 1 || closed.Clients != 4 {
		t.Fatalf("%+v, %v", closed, err)
	}
	within(t, r, token, "/api/saltmere/tugs", 404)
	for until := time.Now().Add(5 * time.Second); get(t, other, "", "/api/saltmere/arrivals_board?top=1").StatusCode != 404; {
		if time.Now().After(until) {
			t.Fatal("another instance still serves it")
		}
	}
	_, err = r.Operator.Close(t.Context(), demo.Window)
	wants(t, "closing it again", err, `there is no window "saltmere"`)
	if n := column(t, r.Harbour, "select count(*)::text from harbour.tug"); n[0] == "0" {
		t.Error("the tugs are gone")
	}
}

// Releases are kept whole: their documents, what they changed, their descriptions; any of them can be live again.
func TestReleases(t *testing.T) {
	t.Parallel()
	r := start(t)
	ctx := t.Context()
	if _, err := r.Operator.Publish(ctx, demo.Window, windows.NewRelease{Note: "inspections"}); err != nil {
		t.Fatal(err)
	}
	first, err := r.Operator.ReleaseDescription(ctx, demo.Window, 1)
	if err != nil || !strings.Contains(string(first), `"version": "1.0.0"`) {
		t.Errorf("the description of 1: %v, %.200s", err, first)
	}
	_, err = r.Operator.ReleaseDescription(ctx, demo.Window, 9)
	wants(t, "the description of 9", err, "has no release 9")
	_, err = r.Operator.Publish(ctx, demo.Window, windows.NewRelease{Restore: 2})
	wants(t, "restoring what is live", err, "release 2 of \"saltmere\" is the same as release 2, which is live")
	_, err = r.Operator.Publish(ctx, demo.Window, windows.NewRelease{Restore: 1})
	wants(t, "restoring 1", err, "publish with --allow-breaking")
	_, err = r.Operator.Publish(ctx, demo.Window, windows.NewRelease{Restore: 7})
	wants(t, "restoring 7", err, "has no release 7")
	back, err := r.Operator.Publish(ctx, demo.Window, windows.NewRelease{Restore: 1, AllowBreaking: true})
	if err != nil || back.Number != 3 || back.Restores != 1 || back.Note != "Restored from release 1." {
		t.Errorf("%+v, %v", back, err)
	}
	within(t, r, r.Token(t, "pilot"), "/api/saltmere/inspections", 403)
	list, err := r.Operator.Releases(ctx, demo.Window)
	if err != nil || len(list) != 3 || !list[0].Live || list[1].Live || list[1].Note != "inspections" || list[1].Counts.Compatible != 1 {
		t.Errorf("%+v, %v", list, err)
	}
	kept, err := r.Operator.Release(ctx, demo.Window, 2)
	if err != nil || kept.Document != demo.Ahead() || len(kept.Changes) != 2 {
		t.Errorf("%+v, %v", kept, err)
	}
	for _, tt := range []struct{ from, to, want string }{
		{"", "", "compatible pilot may read inspections"}, {"1", "3", ""}, {"2", "3", "breaking pilot may not read inspections any more"},
		{"9", "1", "has no release 9"}, {"x", "1", `"x" is neither "draft" nor the number of a release`},
	} {
		d, err := r.Operator.Difference(ctx, demo.Window, tt.from, tt.to)
		text := fmt.Sprint(err)
		for _, c := range d.Changes {
			if c.Area == compare.Permission {
				text += fmt.Sprint(c.Effect, " ", c)
			}
		}
		if tt.want == "" && (err != nil || len(d.Changes) > 0) || !strings.Contains(text, tt.want) {
			t.Errorf("from %q to %q: %s, want %q", tt.from, tt.to, text, tt.want)
		}
	}
}

// What breaks is told with who used it lately, and a changed row rule with how many rows it covers.
func TestUsedBy(t *testing.T) {
	t.Parallel()
	r := start(t)
	token := r.Token(t, "agent")
	within(t, r, token, "/api/saltmere/port_calls?top=1&select=id&filter=hazardous&expand=berth(select=quay)", 200)
	within(t, r, "", "/api/saltmere/arrivals_board?top=1&select=eta", 200)
	if a := write(t, r, token, "POST", "/api/saltmere/port_calls",
		`{"vessel_id":3,"eta":"2026-07-09T12:00:00Z","draught_m":5}`); a.StatusCode != 201 {
		t.Fatal(a.Text)
	}
	document := demo.Document
	for _, change := range [][2]string{
		{"except: [remarks]}", "except: [remarks, hazardous, etd]}"}, {"  berths: read\n      berth_load",
			"  berths: {read: {fields: [code]}}\n      berth_load"},
		{"select: [id, eta, status", "select: [id, status"}, {"fields: [vessel_id, eta, etd, draught_m]", "fields: [vessel_id, etd, draught_m]"},
		{"        read: {rows: agent_id eq @caller/agent_id}", "        read: {rows: agent_id eq @caller/agent_id and flag eq 'NO'}"},
	} {
		if !strings.Contains(document, change[0]) {
			t.Fatalf("the document lacks %q", change[0])
		}
		document = strings.Replace(document, change[0], change[1], 1)
	}
	if _, err := r.Operator.Push(t.Context(), demo.Window, windows.Push{Document: document, Replace: true}); err != nil {
		t.Fatal(err)
	}
	want := map[string]string{"port_calls.hazardous": "[agent-demo]", "port_calls.etd": "[]", "berths.quay": "[agent-demo]",
		"berths.length_m":    "[]",
		"arrivals_board.eta": "[]", "port_calls.eta": "[agent-demo]", "port_calls": "[agent-demo]"}
	want["arrivals_board.eta"] = `[""]`
	var d windows.Difference
	for until := time.Now().Add(20 * time.Second); ; time.Sleep(200 * time.Millisecond) {
		var err error
		if d, err = r.Operator.Difference(t.Context(), demo.Window, "", ""); err != nil {
			t.Fatal(err)
		}
		got := map[string]string{}
		for _, c := range d.Changes {
			got[c.Target] = strings.ReplaceAll(fmt.Sprintf("%q", c.Callers), `"agent-demo"`, "agent-demo")
		}
		wrong := ""
		for target, callers := range want {
			if got[target] != callers {
				wrong += fmt.Sprintf("%s is used by %s, want %s; ", target, got[target], callers)
			}
		}
		if wrong == "" {
			break
		}
		if time.Now().After(until) {
			t.Fatal(wrong)
		}
	}
	alter(t, r.Harbour, "alter table harbour.port_call alter draught_m drop not null")
	s, err := r.Operator.Status(t.Context())
	if err != nil || len(s.Drift) != 1 || !slices.Contains(s.Drift[0].Changes[0].Callers, "agent-demo") {
		t.Errorf("what the database breaks is told without who uses it: %+v, %v", s.Drift, err)
	}
	for _, c := range d.Changes {
		if c.Target == "vessels" && !strings.Contains(c.Message, "may read fewer rows of vessels; 4 of 400 rows for agent-demo, it was 10") {
			t.Errorf("the rule: %s", c.Message)
		}
	}
}
