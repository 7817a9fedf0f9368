package server_test

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"eagerwindow/internal/core/suite"
	"eagerwindow/internal/windows"
)

// sum is a sum over all rows of the harbour.
func sum(t *testing.T, dsn string) string {
	t.Helper()
	tables := column(t, dsn,
		"select format('select %L || coalesce(sum(hashtextextended(t::text, 0)), 0) from %s t', c.oid::regclass, c.oid::regclass) "+
			"from pg_class c join pg_namespace n on n.oid = relnamespace where nspname = 'harbour' and relkind = 'r' order by 1")
	var out strings.Builder
	for _, statement := range tables {
		out.WriteString(column(t, dsn, statement)[0] + "\n")
	}
	return out.String()
}

// In a rehearsal requests run for real and see each other; others see nothing of them, and nothing of them stays.
func TestRehearsals(t *testing.T) {
	t.Parallel()
	r := start(t)
	before := sum(t, r.Harbour)
	op := r.Operator.Token
	open, err := r.Operator.OpenRehearsal(t.Context(), "saltmere", windows.NewRehearsal{Seconds: 60})
	if err != nil {
		t.Fatal(err)
	}
	if fmt.Sprint(open.Lasting) != "[the numbers that sequences give out stay used]" {
		t.Errorf("what lasts: %v", open.Lasting)
	}
	in := func(headers ...string) []string { return append([]string{"Rehearsal", open.ID}, headers...) }
	for _, tt := range []struct {
		method, path, body string
		headers            []string
		status             int
		want               string
	}{
		{"POST", "/draft/saltmere/tugs", `{"name":"Ghost","bollard_pull_t":10}`, in(), 201, `"name":"Ghost"`},
		{"GET", "/draft/saltmere/tugs?filter=name%20eq%20'Ghost'", "", in(), 200, `"Ghost"`},
		{"GET", "/draft/saltmere/tugs?filter=name%20eq%20'Ghost'", "", nil, 200, "\"value\":[\n]"},
		{"POST", "/api/saltmere/tugs", `{"name":"Ghost","bollard_pull_t":10}`, in("Act-As", "harbour_master"), 409, "row.conflict"},
		{"GET", "/api/saltmere/tugs?filter=name%20eq%20'Ghost'", "", in("Act-As", "agent;agent_id=3"), 200, `"Ghost"`},
		// a failing statement does not end it
		{"GET", "/api/saltmere/tugs?compute=1%20div%200%20as%20x", "", in("Act-As", "harbour_master"), 400, "value.division"},
		{"POST", "/api/saltmere/$batch",
			`{"requests":[{"id":"1","method":"POST","url":"tugs","body":{"name":"Ghost"}},{"id":"2","method":"POST","url":"tugs",` +
				`"body":{"name":"Second","bollard_pull_t":1}}]}`,
			in("Act-As", "harbour_master", "Prefer", "continue-on-error"), 200, `"id":"2","status":201`},
		{"POST", "/api/saltmere/$batch",
			`{"requests":[{"id":"1","atomicityGroup":"g","method":"POST","url":"tugs","body":{"name":"Third","bollard_pull_t":1}},{"id":"2",` +
				`"atomicityGroup":"g","method":"POST","url":"tugs","body":{}}]}`,
			in("Act-As", "harbour_master"), 200, "batch.undone"},
		{"GET", "/draft/saltmere/tugs/$count?filter=name%20in%20('Ghost','Second','Third')", "", in(), 200, "2"},
		{"DELETE", "/draft/saltmere/$filter(true)/$each", "", in(), 404, "resource.unknown"},
		{"DELETE", "/draft/saltmere/dues/$filter(true)/$each", "", in(), 204, ""},
		{"GET", "/draft/saltmere/dues/$count", "", in(), 200, "0"},
		{"POST", "/draft/saltmere/tugs", `{"name":"Once","bollard_pull_t":1}`, []string{"Rehearsal", "once", "Idempotency-Key", "k1"}, 201,
			`"Once"`},
		{"POST", "/draft/saltmere/tugs", `{"name":"Once","bollard_pull_t":1}`, []string{"Rehearsal", "once", "Idempotency-Key", "k1"}, 201,
			`"Once"`},
		{"GET", "/draft/saltmere/tugs", "", []string{"Rehearsal", "nothing"}, 404, "rehearsal.ended"},
	} {
		a := write(t, r, op, tt.method, tt.path, tt.body, tt.headers...)
		if a.StatusCode != tt.status || !strings.Contains(a.Text, tt.want) {
			t.Errorf("%s %s: %s %.400s, want %d %s", tt.method, tt.path, a.Status, a.Text, tt.status, tt.want)
		}
		if tt.headers != nil && a.StatusCode < 300 && a.Header.Get("Rehearsed") == "" {
			t.Errorf("%s %s does not say that it is rehearsed", tt.method, tt.path)
		}
	}
	for _, token := range []string{"", r.Token(t, "agent")} {
		if a := write(t, r, token, "GET", "/api/saltmere/arrivals_board", "", "Rehearsal", "once"); a.StatusCode != 401 ||
			!strings.Contains(a.Text, "rehearsal.operators") {
			t.Errorf("a caller who rehearses: %s %s", a.Status, a.Text)
		}
	}
	if err := r.Operator.CloseRehearsal(t.Context(), "saltmere", open.ID); err != nil {
		t.Fatal(err)
	}
	if a := write(t, r, op, "GET", "/draft/saltmere/tugs", "", in()...); a.StatusCode != 404 {
		t.Errorf("after its end: %s", a.Status)
	}
	if after := sum(t, r.Harbour); after != before {
		t.Errorf("before\n%s\nafter\n%s", before, after)
	}
}

// A write that is rehearsed by itself tells what it does to each row, as whoever it is sent as, and does none of it.
func TestRehearseOnce(t *testing.T) {
	t.Parallel()
	r := start(t)
	before := sum(t, r.Harbour)
	const visit, office = "port_calls/12000", "office"
	for _, tt := range []struct {
		name, as, method, path, body string
		status                       int
		want                         string // rows and what became of them; its fields for one row
		more                         int
	}{
		{"a new row", "", "POST", "tugs", `{"name":"Petra","bollard_pull_t":41.5}`, 201,
			`tugs/10 created id:>10 name:>"Petra" bollard_pull_t:>41.5`, 0},
		{"a change", "", "PATCH", "tugs/3", `{"name":"Olga"}`, 200, `tugs/3 changed name:"Tern">"Olga"`, 0},
		{"none", "", "PATCH", "tugs/3", `{"name":"Tern"}`, 200, `tugs/3 unchanged`, 0},
		{"what is lost", "", "DELETE", "cargo_items/1", "", 204, "cargo_items/1 deleted", 0},
		{"a replacement that makes a row", "", "PUT", "berths/Q77", `{"quay":"West","length_m":90,"max_draught_m":5}`, 201,
			`berths/Q77 created`, 0},
		{"many, by a parameter", "", "PATCH", "port_calls/$filter(@f)/$each?@f=id%20gt%2011995", `{"remarks":"Late."}`, 204,
			"port_calls/12000 changed, port_calls/11999 changed, port_calls/11998 changed, port_calls/11996 changed, port_calls/11997 changed", 0},
		{"more than are shown", "", "PATCH", "port_calls/$filter(id%20gt%2011970)/$each", `{"remarks":"Late."}`, 204, "20 rows", 10},
		{"out of the filter", "", "DELETE", "cargo_items/$filter(id%20lt%203)/$each", "", 204, "cargo_items/1 deleted, cargo_items/2 deleted", 0},
		{"a link to one", "", "PUT", visit + "/vessel/$ref", `{"@id":"vessels/1"}`, 204, "linked and unlinked", 0},
		{"a delta", "", "PATCH", "port_calls", `{"@context":"#$delta","value":[{"@id":"port_calls/17","remarks":"x"},{"@id":"tugs/1",` +
			`"@removed":{}}]}`, 400, "", 0},
		{"rows of a delta", "", "PATCH", "cargo_items", `{"@context":"#$delta","value":[{"@id":"cargo_items/17","description":"x"},` +
			`{"@id":"cargo_items/18","@removed":{"reason":"deleted"}}]}`, 200, "cargo_items/17 changed, cargo_items/18 deleted", 0},
		{"one field", "", "PUT", "tugs/3/name", `{"value":"Olga"}`, 200, `tugs/3 changed name:"Tern">"Olga"`, 0},
		{"a field that is emptied", "", "DELETE", "cargo_items/3/stowage", "", 204, "cargo_items/3 changed", 0},
		{"refused by the rows", "", "DELETE", "tugs/3", "", 409, "", 0},
		{"refused to a role", "agent;agent_id=3", "DELETE", "tugs/3", "", 403, "", 0},
		{"a role's own view", office, "PATCH", visit, `{"berth_code":null,"remarks":"Gone."}`, 200, visit + " changed", 0},
		{"nobody's row", "", "PATCH", "tugs/777", `{"name":"x"}`, 404, "", 0},
	} {
		in := windows.Write{Method: tt.method, Path: tt.path, ActAs: tt.as, Body: tt.body,
			Headers: map[string]string{"Prefer": "return=representation"}}
		if strings.Contains(tt.path, "$each") {
			in.Headers = nil
		}
		out, err := r.Operator.RehearseOnce(t.Context(), "saltmere", in)
		if err != nil {
			t.Errorf("%s: %v", tt.name, err)
			continue
		}
		if got := rowsSay(out.Rows); out.Status != tt.status || got != tt.want && rowsSum(out.Rows) != tt.want || out.More != tt.more {
			t.Errorf("%s: %d %s and %d more, want %d %s\n%.300s", tt.name, out.Status, got, out.More, tt.status, tt.want, out.Body)
		}
		if lasts := len(out.Lasting) > 0; lasts != (tt.method == "POST") {
			t.Errorf("%s: it lasts %v", tt.name, out.Lasting)
		}
	}
	asked, err := r.Operator.Asked(t.Context(), "saltmere", 50)
	if err != nil || len(asked) != 17 || asked[0].Method != "PATCH" || asked[0].Path != "tugs/777" {
		t.Errorf("the history has %d requests, so others than those that were made: %v", len(asked), err)
	}
	// A row that its writer loses sight of is not said to be deleted.
	draft, err := r.Operator.Draft(t.Context(), "saltmere")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.Operator.Push(t.Context(), "saltmere", windows.Push{Replace: true, Document: strings.Replace(draft.Document, "\nroles:\n",
		"\nroles:\n  clerk:\n    may:\n      port_calls: {read: {rows: status eq 'expected'}, update: {rows: draught_m gt 0}}\n",
		1)}); err != nil {
		t.Fatal(err)
	}
	id := column(t, r.Harbour, "select min(id)::text from harbour.port_call where status = 'expected'")[0]
	out, err := r.Operator.RehearseOnce(t.Context(), "saltmere", windows.Write{Method: "PATCH", Path: "port_calls/" + id, ActAs: "clerk",
		Body: `{"status":"cancelled"}`})
	if got := rowsSay(out.Rows); err != nil || got != "port_calls/"+id+" hidden" {
		t.Errorf("a row that is out of sight then: %d %s %v\n%s", out.Status, got, err, out.Body)
	}
	for method, want := range map[string]string{"GET": "does not write", "": "does not write"} {
		if _, err := r.Operator.RehearseOnce(t.Context(), "saltmere", windows.Write{Method: method, Path: "tugs"}); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", method, err)
		}
	}
	if after := sum(t, r.Harbour); after != before {
		t.Errorf("before\n%s\nafter\n%s", before, after)
	}
}

// rowsSay tells of rows what became of them, and of one row its fields too.
func rowsSay(rows []windows.RowChange) string {
	var list []string
	for _, row := range rows {
		says := row.Row + " " + row.Became
		for _, f := range row.Fields {
			if len(rows) == 1 && len(row.Fields) < 4 {
				says += fmt.Sprintf(" %s:%s>%s", f.Name, f.Before, f.After)
			}
		}
		list = append(list, says)
	}
	return strings.Join(list, ", ")
}

// rowsSum tells of rows how many there are, or the kinds of what became of them.
func rowsSum(rows []windows.RowChange) string {
	kinds := map[string]bool{}
	for _, row := range rows {
		kinds[row.Became] = true
	}
	if len(rows) == 1 {
		return rows[0].Row + " " + rows[0].Became
	}
	if kinds["linked"] {
		return strings.Join(slices.Sorted(maps.Keys(kinds)), " and ")
	}
	return fmt.Sprintf("%d rows", len(rows))
}

// A rehearsal ends by its time, gives its connection back, and there are not too many; what is checked at the end of a transaction is
// checked.
func TestRehearsalLimits(t *testing.T) {
	t.Parallel()
	r := start(t)
	column(t, r.Harbour,
		"alter table harbour.port_call_tug drop constraint port_call_tug_tug_id_fkey, add constraint port_call_tug_tug_id_fkey foreign key "+
			"(tug_id) references harbour.tug deferrable initially deferred")
	if a := write(t, r, r.Operator.Token, "DELETE", "/draft/saltmere/tugs/1", "", "Rehearsal", "once"); a.StatusCode != 409 {
		t.Errorf("a constraint that is put off: %s %s", a.Status, a.Text)
	}
	var ids []string
	for range 8 {
		open, err := r.Operator.OpenRehearsal(t.Context(), "saltmere", windows.NewRehearsal{Seconds: 1})
		if err != nil {
			t.Fatal(err)
		}
		ids = append(ids, open.ID)
	}
	if _, err := r.Operator.OpenRehearsal(t.Context(), "saltmere", windows.NewRehearsal{}); err == nil || !strings.Contains(err.Error(),
		"8 rehearsals are open") {
		t.Errorf("one too many: %v", err)
	}
	for _, seconds := range []int{-1, 601} {
		if _, err := r.Operator.OpenRehearsal(t.Context(), "saltmere", windows.NewRehearsal{Seconds: seconds}); err == nil {
			t.Errorf("%d seconds are taken", seconds)
		}
	}
	// A client that goes away takes its request with it, and no connection.
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, "GET",
		r.URL+"/draft/saltmere/cargo_items?apply=groupby((hs_code),aggregate($count%20as%20n))&orderby=n", nil)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+r.Operator.Token)
	req.Header.Set("Rehearsal", ids[0])
	if res, err := http.DefaultClient.Do(req); err == nil {
		res.Body.Close()
	}
	for end := time.Now().Add(10 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		if open, err := r.Operator.OpenRehearsal(t.Context(), "saltmere", windows.NewRehearsal{Seconds: 1}); err == nil {
			_ = r.Operator.CloseRehearsal(t.Context(), "saltmere", open.ID)
			break
		} else if time.Now().After(end) {
			t.Fatal(err)
		}
	}
	for end := time.Now().Add(10 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		if idle := column(t, r.Harbour,
			"select count(*) from pg_stat_activity where datname = current_database() and state like 'idle in transaction%'")[0]; idle == "0" {
			break
		} else if time.Now().After(end) {
			t.Fatalf("%s connections are in a transaction", idle)
		}
	}
}

// A suite that creates, links, changes and deletes, a hundred times and four at once: the harbour is as it was, and callers beside it
// notice nothing.
func TestSuiteManyTimes(t *testing.T) {
	t.Parallel()
	r := start(t)
	text, err := os.ReadFile("testdata/suites/visit.yaml")
	if err != nil {
		t.Fatal(err)
	}
	before, token := sum(t, r.Harbour), r.Token(t, "agent")
	want := r.Send(t, token, "GET", "/api/saltmere/port_calls?top=20", nil).Text
	ctx, cancel := context.WithCancel(t.Context())
	var callers, runners sync.WaitGroup
	callers.Go(func() {
		for ctx.Err() == nil {
			if a := r.Send(t, token, "GET", "/api/saltmere/port_calls?top=20", nil); a.Text != want {
				t.Errorf("a caller beside it is answered %s %.300s", a.Status, a.Text)
				return
			}
		}
	})
	for range 4 {
		runners.Go(func() {
			for range 25 {
				if err := r.Operator.RunChecks(t.Context(), "saltmere", windows.NewChecks{Documents: []windows.NamedDocument{{Name: "visit",
					Text: string(text)}}},
					func(one suite.Result) {
						if !one.Passed {
							t.Errorf("%s: %s %s\n%s\n%s", one.Check, one.At, one.Failure, one.Request, one.Answer)
						}
					}); err != nil {
					t.Error(err)
					return
				}
			}
		})
	}
	runners.Wait()
	cancel()
	callers.Wait()
	if after := sum(t, r.Harbour); after != before {
		t.Errorf("before\n%s\nafter\n%s", before, after)
	}
}

// The suites that follow from the document hold on the harbour, all of them; releases can demand them.
func TestDemandedChecks(t *testing.T) {
	t.Parallel()
	r := start(t)
	document, err := r.Operator.Draft(t.Context(), "saltmere")
	if err != nil {
		t.Fatal(err)
	}
	visit := readFile(t, "testdata/suites/visit.yaml")
	if _, err := r.Operator.SaveSuite(t.Context(), "saltmere", "visit", visit); err != nil {
		t.Fatal(err)
	}
	for _, bad := range [][2]string{{"access", visit}, {"Visit", visit}, {"other", "arazzo: 2"}} {
		if _, err := r.Operator.SaveSuite(t.Context(), "saltmere", bad[0], bad[1]); err == nil {
			t.Errorf("a suite %s is taken: %.40s", bad[0], bad[1])
		}
	}
	if _, err := r.Operator.Push(t.Context(), "saltmere", windows.Push{Replace: true, Document: document.Document +
		"\npublish: {require: [access, contract, visit]}\n"}); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Operator.Publish(t.Context(), "saltmere", windows.NewRelease{}); err != nil {
		t.Fatal(err)
	}
	// One that does not hold stops a release, unless somebody says why it may.
	if _, err := r.Operator.Push(t.Context(), "saltmere", windows.Push{Replace: true, Document: strings.Replace(document.Document,
		"title: Port of Saltmere",
		"title: The port", 1) + "\npublish: {require: visit}\n"}); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Operator.SaveSuite(t.Context(), "saltmere", "visit", strings.Replace(visit, "$statusCode == 201", "$statusCode == 200",
		1)); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Operator.Publish(t.Context(), "saltmere", windows.NewRelease{}); err == nil || !strings.Contains(err.Error(),
		"visit, a-visit: does not hold: $statusCode == 200") {
		t.Errorf("a check that fails: %v", err)
	}
	runs, err := r.Operator.Runs(t.Context(), "saltmere")
	if err != nil || len(runs) != 2 || runs[0].Failed != 1 || runs[1].Failed != 0 || runs[1].Passed < 100 {
		t.Errorf("the runs that the releases demanded: %+v %v", runs, err)
	}
	release, err := r.Operator.Publish(t.Context(), "saltmere", windows.NewRelease{SkipChecks: "the harbour is on fire"})
	if err != nil || release.Number != 3 {
		t.Errorf("with a reason: %v %v", release.Number, err)
	}
	entries := r.Send(t, r.Operator.Token, "GET", "/manage/audit?limit=5", nil)
	if !strings.Contains(entries.Text, "the harbour is on fire") {
		t.Errorf("the reason is not in the audit: %.600s", entries.Text)
	}
	list, err := r.Operator.CompareAnswers(t.Context(), "saltmere", windows.NewComparison{From: "1", To: "draft",
		Paths: []string{"tugs?top=2", "nothing"}})
	if err != nil || len(list) != 2 || list[0].Difference != "" || list[0].To.Statements != 1 || list[1].From.Status != 404 ||
		list[1].From.Statements != 0 {
		text, _ := json.Marshal(list)
		t.Errorf("two versions side by side: %s %v", text, err)
	}
	misspelt := windows.NewComparison{From: "1", To: "draft", ActAs: "agnet"}
	if _, err := r.Operator.CompareAnswers(t.Context(), "saltmere", misspelt); err == nil ||
		!strings.Contains(err.Error(), `there is no role "agnet"`) {
		t.Errorf("a role of neither: %v", err)
	}
}
