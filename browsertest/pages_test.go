package browsertest_test

import (
	"context"
	"fmt"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/jackc/pgx/v5"

	"eagerwindow/browsertest"
	"eagerwindow/demo"
	"eagerwindow/internal/harbourtest"
	"eagerwindow/internal/windows"
)

// execute changes the harbour.
func execute(t *testing.T, dsn, sql string) {
	t.Helper()
	conn, err := pgx.Connect(context.Background(), dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	if _, err := conn.Exec(context.Background(), sql); err != nil {
		t.Fatal(err)
	}
}

// draft is the harbour's document as it is saved.
func draft(t *testing.T, r *harbourtest.Running) string {
	t.Helper()
	return mustDraft(t, r, demo.Window)
}

// The tables edit the document and the document edits the tables; every edit can be undone, and a mistake saves nothing and loses nothing.
func TestTables(t *testing.T) {
	t.Parallel()
	p, r := open(t)
	const document, tree, table = `[data-part=document]`, `[data-part=tree]`, `[data-part=table]`
	p.signIn(r, "/tables/saltmere?table=harbour.tug", table)
	before := draft(t, r)
	p.shows(table, "harbour.tug is /tugs with read, create, update, delete, by key id")

	p.do("two clicks at once", chromedp.Evaluate[chromedp.Void](`['name', 'bollard_pull_t'].forEach(c =>
		document.querySelector('[aria-label="' + c + ' in the API"]').click())`))
	p.shows(document, "name: {expose: false}", "bollard_pull_t: {expose: false}")
	p.click("Undo")
	p.click("Undo")
	p.press(`[aria-label="harbour.weather_log in the API"]`)
	p.shows(tree, "13 of 15 in the API")
	p.press(`[aria-label="Hide all of harbour"], [aria-label="Show all of harbour"]`)
	p.shows(tree, "15 of 15 in the API")
	p.click("Undo")
	p.shows(tree, "13 of 15 in the API")
	p.click("Undo")
	p.shows(tree, "14 of 15 in the API")
	p.do("nothing is edited", chromedp.WaitVisible(`//button[normalize-space()="Save draft" and @disabled]`))

	p.press(`[data-chip=Name]`)
	p.fill(`[data-scope=popover][data-part=content] input`, "tugboats\n")
	p.shows(table, "is /tugboats with")
	p.press(`[data-chip=Operations]`)
	p.press(`input[name=delete]`)
	p.shows(document, "operations: [read, create, update]")
	p.do("close", chromedp.KeyEvent("\x1b"), chromedp.WaitNotPresent(`[data-scope=popover][data-part=content]`))
	p.do("a name of a column", browsertest.Click(`//button[.//span[normalize-space()="bollard_pull_t"]]`))
	p.fill(`input[aria-label="Name of bollard_pull_t"]`, "pull_t\n")
	p.shows(document, "bollard_pull_t: {name: pull_t}")

	p.do("type into the document", browsertest.Click(document+` .cm-content`), chromedp.Evaluate[chromedp.Void](`(() => {
		const at = [...document.querySelectorAll('.cm-line')].find(l => l.textContent.includes('name: pull_t'));
		getSelection().selectAllChildren(at); getSelection().collapseToEnd() })()`),
		chromedp.KeyEvent("\n  x: 1"))
	p.shows(document, "is a mapping of names to values")
	p.do("it can't be saved", chromedp.WaitVisible(`//button[normalize-space()="Save draft" and @disabled]`))
	p.click("Undo")
	p.shows(document, "Valid for the database as it is now", "breaking")
	p.click("Save draft")
	p.shows(document, "version 3")
	after := draft(t, r)
	for _, want := range []string{"  tugboats:\n", "operations: [read, create, update]", "bollard_pull_t: {name: pull_t}",
		"      tugboats: read\n"} {
		if !strings.Contains(after, want) {
			t.Errorf("the draft lacks %q", want)
		}
	}
	if strings.Count(before, "#") != strings.Count(after, "#") {
		t.Error("comments are lost")
	}

	p.click("weather_log2,000")
	p.shows(`[data-part=why-not]`, "no row can be named")
	p.click("Name a key")
	p.press(`input[name="key wind_kn"]`)
	p.click("Set key")
	p.shows(document, "rows of weather_log have the same wind_kn, so it is no key")
	p.click("Undo")
	p.click("Name a key")
	p.press(`input[name="key taken_at"]`)
	p.click("Set key")
	p.shows(table, "by key taken_at")
	p.clean()
}

// What another operator does shows by itself; edits of both are put together, and a clash loses nothing.
func TestTwoOperators(t *testing.T) {
	t.Parallel()
	p, r := open(t)
	ctx := context.Background()
	const document = `[data-part=document]`
	p.signIn(r, "/tables/saltmere?table=harbour.tug", `[data-part=table]`)
	titled := strings.Replace(demo.Ahead(), "title: Port of Saltmere", "title: Harbour of Saltmere", 1)
	if _, err := r.Operator.PushDraft(ctx, demo.Window, titled); err != nil {
		t.Fatal(err)
	}
	p.shows(`header`, "Harbour of Saltmere")
	p.shows(document, "title: Harbour of Saltmere")
	p.press(`[aria-label="bollard_pull_t in the API"]`)
	p.shows(document, "not saved")
	now := draft(t, r)
	if _, err := r.Operator.Push(ctx, demo.Window, windows.Push{Document: strings.Replace(now, "version: 1.1.0", "version: 1.2.0", 1),
		Replace: true}); err != nil {
		t.Fatal(err)
	}
	p.shows(document, "saved the draft meanwhile")
	p.click("Save draft")
	p.shows(document, "version 5")
	if text := draft(t, r); !strings.Contains(text, "version: 1.2.0") || !strings.Contains(text, "bollard_pull_t: {expose: false}") {
		t.Errorf("one of the edits is lost:\n%s", text)
	}
	if _, err := r.Operator.Publish(ctx, demo.Window, windows.NewRelease{AllowBreaking: true}); err != nil {
		t.Fatal(err)
	}
	p.shows(`header`, "live, release 2")
	execute(t, r.Harbour, "alter table harbour.berth drop column shore_power")
	p.shows(`footer`, "since release 2", "breaking")
}

// A role is added, limited, renamed and removed where the lights are.
func TestRoles(t *testing.T) {
	t.Parallel()
	p, r := open(t)
	const grant = `[data-part=grant]`
	p.signIn(r, "/lights/saltmere?role=agent", `input[name=role]`)
	p.shows(grant, "agent", "agent_id")
	p.fill(`input[name="limit rows"]`, "many")
	p.click("Save in the draft")
	p.shows(grant, "rows is a number of rows from 1")
	p.fill(`input[name="limit rows"]`, "250")
	p.fill(`input[name=role]`, "shipper")
	p.click("Save in the draft")
	p.shows(`[data-part=facade]`, "shipper")
	text := draft(t, r)
	for _, want := range []string{"\n  shipper:\n", "rows: 250", "default_role: shipper"} {
		if !strings.Contains(text, want) {
			t.Errorf("the draft lacks %q", want)
		}
	}
	p.click("pilot")
	p.click("Remove …")
	p.shows(grant, "loses role pilot")
	p.click("Remove pilot")
	p.shows(grant, "Choose a crossing")
	if text := draft(t, r); strings.Contains(text, "\n  pilot:\n") {
		t.Error("the role is there still")
	}
}

// Suites run with progress; what fails is shown with its request, which opens in Ask; a suite is edited, and mistakes in it are told.
func TestChecksPage(t *testing.T) {
	t.Parallel()
	p, r := open(t)
	const results, check = `[data-part=results]`, `[data-part=check]`
	p.signIn(r, "/checks/saltmere?suite=a-visit", `[data-part=suites]`)
	p.shows(results, "This suite was not part of the run", "not run yet")
	p.click("Run")
	p.shows(results, "1 passed, 0 failed", "book a call", "POST port_calls", "201")
	p.click("Edit")
	p.do("break it", browsertest.Click(`[aria-label=Suite]`), chromedp.Evaluate[chromedp.Void](`(() => {
		const at = [...document.querySelectorAll('.cm-line')].find(l => l.textContent.includes('$statusCode == 201'));
		getSelection().selectAllChildren(at); getSelection().collapseToEnd() })()`), chromedp.KeyEvent("\n  nonsense"))
	p.click("Save suite")
	p.shows(`[data-part=suite-text] [role=alert]`, "line ")
	p.do("as it was", browsertest.Click(`[aria-label=Suite]`), chromedp.KeyEvent("z", chromedp.KeyModifiers(2)))
	// What it got is taken as right: only that criterion is written anew, and it passes.
	suites, err := r.Operator.Suites(t.Context(), "saltmere")
	if err != nil || suites[0].Name != "a-visit" {
		t.Fatal(suites, err)
	}
	if _, err := r.Operator.SaveSuite(t.Context(), "saltmere", "a-visit", strings.Replace(suites[0].Text, "== 201", "== 202", 1)); err != nil {
		t.Fatal(err)
	}
	p.click("Close")
	p.click("Run")
	p.shows(check, "failed", "$statusCode == 202 becomes $statusCode == 201")
	p.click("Accept this answer")
	p.shows(results, "1 passed, 0 failed")
	if now, err := r.Operator.Suites(t.Context(), "saltmere"); err != nil || now[0].Text != suites[0].Text {
		t.Errorf("accepted: %v\n%s", err, now[0].Text)
	}
	execute(t, r.Harbour, "alter table harbour.port_call add constraint none_departs check (departed_at is null) not valid")
	p.click("Run")
	p.shows(results, "0 passed, 1 failed")
	p.shows(check, "failed", "step it-departs", "expected", "$statusCode == 200", "sent, as office", "PATCH /port_calls/", "none_departs")
	p.do("open it in Ask", browsertest.Click(check+` a`), chromedp.WaitVisible(`[data-part=touch]`))
	p.shows(sentence, "As office change port_calls/")
	p.goTo("Checks")
	p.click("Run all")
	p.shows(`[data-part=suites]`, "edges", "passed", "1 failed")
	p.press(`//*[@data-part="suites"]//button[starts-with(normalize-space(), "access")]`)
	p.fill(`[aria-label="Find a check"]`, "pilot: read tugs")
	p.shows(results, "pilot: read tugs")
	p.do("find it again by the address", chromedp.Reload(), chromedp.WaitVisible(`[aria-label="Find a check"]`))
	p.shows(results, "pilot: read tugs")
	p.shows(`nav`, "failed")
	p.clean()
}

// The difference to live, breaking changes first; what breaks must be accepted; any two releases compared; an earlier one restored.
func TestReleasePage(t *testing.T) {
	t.Parallel()
	p, r := open(t)
	ctx := context.Background()
	const difference, publish, history = `[data-part=difference]`, `[data-part=publish]`, `[data-part=history]`
	const hidden = "internal_note: {expose: false}"
	if _, err := r.Operator.Push(ctx, demo.Window, windows.Push{Replace: true,
		Document: strings.Replace(demo.Ahead(), hidden, hidden+"\n      built_on: {expose: false}", 1)}); err != nil {
		t.Fatal(err)
	}
	p.signIn(r, "/release/saltmere", difference)
	p.shows(difference, "vessels.built_on", "breaks", "pilot may read inspections", "1 breaks callers")
	p.shows(publish, "1 change breaks callers", "Not checked yet")
	p.do("it waits", chromedp.WaitVisible(`//button[normalize-space()="Publish release 2" and @disabled]`))
	p.press(`input[name=breaking]`)
	p.fill(`textarea[name=note]`, "Nobody asks when vessels were built")
	p.click("Publish release 2")
	p.shows(publish, "Release 2 is live")
	p.shows(history, "Nobody asks when vessels were built", "The first release.")
	p.click("Release 1")
	p.click("Restore …")
	p.shows(history, "live callers are answered by it at once")
	p.click("Restore release 1")
	p.shows(history, "the release would break callers", "pilot may not read inspections any more")
	p.press(history + ` input[type=checkbox]`)
	p.click("Restore release 1")
	p.shows(history, "Restored from release 1.")
	p.shows(`header`, "live, release 3")
	p.click("Release 2")
	p.click("What it changed")
	p.shows(difference, "vessels.built_on", "breaks")
	p.click("Text")
	p.shows(difference, "+      built_on: {expose: false}")
	p.clean()
}

// The map shows what a role can't see as dark, finds resources, and leads on.
func TestMap(t *testing.T) {
	t.Parallel()
	p, r := open(t)
	p.signIn(r, "/map/saltmere", `[data-part=map]`)
	p.do("as pilot", choose("role", "agent"))
	p.shows(`[data-part=map]`, "of 16 dark", "cargo_items", "dark")
	p.do("find", browsertest.Type(`input[aria-label="Find a resource"]`, "insp\n"))
	p.shows(`[data-part=resource]`, "inspections", "agent may", "not read it", "port_call")
	p.do("on to Ask", browsertest.Click(`//a[normalize-space()="Ask"][not(ancestor::nav)]`), chromedp.WaitVisible(answer))
	p.shows(answer, "403")
	p.clean()
}

// The description by role, with requests that run, and an overlay that is told where it is wrong.
func TestDescriptionPage(t *testing.T) {
	t.Parallel()
	p, r := open(t)
	const operation = `[data-part=operation]`
	p.signIn(r, "/description/saltmere?operation=list-port_calls", operation)
	p.shows(operation, "List port calls", "GET /port_calls", "filter", "remarks")
	p.do("as agent", choose("role", "agent"))
	p.shows(operation, "You see those where vessel/agent_id is your agent_id, without remarks.")
	p.click("Python")
	p.shows(`[data-part=try]`, "import", "/api/saltmere/port_calls")
	p.do("find", browsertest.Type(`input[aria-label="Find an operation"]`, "berths list"))
	p.click("List berthsGET")
	p.shows(operation, "GET /berths")
	p.click("Ask the draft")
	p.shows(`[data-part=try]`, "the caller has no claim")
	p.fill(`input[name=agent_id]`, "3")
	p.click("Ask the draft")
	p.shows(`[data-part=try]`, "200 OK", `"value"`)
	p.click("as agent")
	address, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](`document.querySelector('[data-part=hand-out] input').value`))
	if err != nil || !strings.HasSuffix(address, "/describe/saltmere/1/openapi.json?role=agent") {
		t.Errorf("the address is %q, %v", address, err)
	}
	path := strings.TrimPrefix(address, r.URL)
	if a := r.Send(t, r.Operator.Token, "GET", path, nil); a.StatusCode != 200 || !strings.Contains(a.Text, "list-port_calls") {
		t.Errorf("%s: %s", address, a.Status)
	}
	p.click("Overlay")
	p.click("begin with an example")
	p.shows(`[data-part=overlay]`, "overlay: 1.0.0")
	p.do("another summary", browsertest.Click(`[aria-label=Overlay]`), chromedp.KeyEvent("a", chromedp.KeyModifiers(2)),
		chromedp.KeyEvent("overlay: 1.0.0\ninfo: {title: t, version: 1.0.0}\nactions:\n- target: $.paths['/berths'].get\n"+
			"  update: {summary: Where ships lie}\n"))
	p.click("Preview")
	p.shows(operation, "Where ships lie")
	p.click("as it is saved")
	p.shows(operation, "List berths")
	p.click("Overlay")
	p.shows(`[data-part=overlay]`, "Where ships lie") // what was typed is there still
	p.do("break it", browsertest.Click(`[aria-label=Overlay]`), chromedp.KeyEvent("a", chromedp.KeyModifiers(2)),
		chromedp.KeyEvent("overlay: 1.0.0\ninfo: {title: t, version: 1.0.0}\nactions:\n- target: $.paths['/tugboats']\n  update: {x-a: 1}\n"))
	p.click("Save in the draft")
	p.shows(`[data-part=overlay] [role=alert]`, "tugboats")
	p.clean()
}

// What was asked for shows within seconds, is narrowed, and the shape that costs most is told with its statement.
func TestTrafficPage(t *testing.T) {
	t.Parallel()
	p, r := open(t)
	p.signIn(r, "/traffic/saltmere", `[data-part=traffic]`)
	p.shows(`[data-part=traffic]`, "Nobody has asked for anything in this time")
	traffic(t, r, func(token, path string) { r.Send(t, token, "GET", path, nil) })
	p.shows(`[data-part=traffic]`, "9 requests, 3 refused, 0 failed", "Requests a minute", "Time to answer", "may not read inspections")
	p.do("it is drawn", chromedp.WaitVisible(`.recharts-bar-rectangle path`), chromedp.WaitVisible(`.recharts-line`))
	p.click("vessels?top=?")
	p.shows(`[data-part=shape]`, "select", `"harbour"."vessel"`)
	p.do("of the board", chromedp.Evaluate[chromedp.Void](`(() => { const s = document.querySelector('select[aria-label=Role]');
		s.value = 'board'; s.dispatchEvent(new Event('change', {bubbles: true})); })()`))
	p.shows(`[data-part=traffic]`, "3 requests, 0 refused")
	p.click("week")
	p.shows(`[data-part=traffic]`, "Requests in 2 hours", "3 requests")
	p.goTo("Windows")
	p.shows(`[data-part=windows]`, "Port of Saltmere", "release 1")
	p.clean()
}

// Ask keeps requests as checks, opens earlier ones, compares with live, copies, and draws what it can of every option.
func TestAskMore(t *testing.T) {
	t.Parallel()
	p, r := open(t)
	p.signIn(r, "/ask/saltmere?q="+url.QueryEscape("/berth_load?from=2026-01-01&to=2026-02-01&top=3"), answer)
	p.shows(sentence, "read berth_load with from 2026-01-01, to 2026-02-01, quay any")
	p.shows(answer, "200", "3 rows")
	p.click("Parameter quay")
	p.fill(`[data-scope=popover][data-part=content] input`, "N\n")
	p.shows(sentence, "quay N")
	at := func(address, want string) {
		p.do("ask "+address, mark(`textarea[name=address]`), browsertest.Type(`textarea[name=address]`, address+"\r"))
		p.shows(sentence, want)
	}
	at("/port_calls?apply=groupby((status),aggregate($count as number))&orderby=number desc",
		"put together by status with how many as number, by number, "+
			"last first")
	p.shows(answer, "200", "departed")
	at("/port_calls?filter=not hazardous or draught_m gt 9&compute=year(eta) as y&top=2", "where not hazardous or draught_m gt 9")
	p.shows(sentence, "and as text compute=year(eta) as y")
	at("/port_calls/17?expand=vessel", "read one row of port_calls/17 with vessel")
	p.click("As whom")
	p.do("two roles", browsertest.Click(`input[name="role agent"]`), browsertest.Click(`input[name="role office"]`))
	p.fill(`input[name=agent_id]`, "3\n")
	p.shows(sentence, "As agent and office agent_id 3 read")
	p.click("SQL")
	p.shows(`[data-part=plan]`, "share of time", "port_call by", "select")
	p.click("Live")
	p.shows(`[data-part=live]`, "answer the same", "statements")
	p.click("Copy as")
	p.shows(`[data-scope=popover][data-part=content]`, "curl", "Act-As: agent;agent_id=3, office")
	p.do("close", chromedp.KeyEvent("\x1b"), chromedp.WaitNotPresent(`[data-scope=popover][data-part=content]`))
	p.click("Keep as check")
	p.fill(`input[name=suite]`, "one-call\n")
	p.shows(`[data-scope=popover][data-part=content]`, "Kept as one-call")
	suites, err := r.Operator.Suites(context.Background(), demo.Window)
	if err != nil || len(suites) != 3 {
		t.Errorf("%d suites, %v", len(suites), err)
	}
	p.do("close", chromedp.KeyEvent("\x1b"), chromedp.WaitNotPresent(`[data-scope=popover][data-part=content]`))
	p.click("History")
	p.shows(`[data-part=history]`, "GET /berth_load", "GET /port_calls/17")
	p.do("open an earlier one", browsertest.Click(`//*[@data-part="history"]//button[contains(., "groupby")]`))
	p.shows(sentence, "put together by status")
	p.click("Tree")
	p.shows(answer, "value")
	p.clean()
}

// By the keyboard alone: the palette goes to anything, g and a letter to a page.
func TestPalette(t *testing.T) {
	t.Parallel()
	p, r := open(t)
	p.signIn(r, "/windows", `[data-part=windows]`)
	keys := func(what string, list ...string) {
		for _, k := range list {
			p.do(what, chromedp.KeyEvent(k))
		}
	}
	p.do("open it", chromedp.KeyEvent("k", chromedp.KeyModifiers(2)), chromedp.WaitVisible(`dialog[open]`))
	p.shows(`dialog`, "Tables", "g t", "Ask port_calls")
	p.do("type", chromedp.KeyEvent("cargo"), chromedp.Sleep(200*time.Millisecond), chromedp.KeyEvent("\r"), chromedp.WaitVisible(answer))
	p.shows(sentence, "read cargo_items")
	p.do("leave the entry", chromedp.Evaluate[chromedp.Void](`document.activeElement.blur()`))
	keys("go to Map", "g", "m")
	p.do("the map", chromedp.WaitVisible(`[data-part=map]`))
	p.do("open it", chromedp.KeyEvent("k", chromedp.KeyModifiers(2)), chromedp.WaitVisible(`dialog[open]`), chromedp.KeyEvent("\x1b"),
		chromedp.WaitNotPresent(`dialog[open]`))
	seen, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool](`(() => { const b = document.querySelector('nav a');
		b.focus({focusVisible: true}); return getComputedStyle(b).outlineStyle === 'solid' })()`))
	if err != nil || !seen {
		t.Errorf("focus is not seen: %v", err)
	}
}

// A thousand tables and ten thousand rows: what is out of sight is not in the page, and what is sought is found.
func TestThousand(t *testing.T) {
	t.Parallel()
	p, r := open(t)
	ctx := context.Background()
	dsn := harbourtest.Database(t, false)
	var sql strings.Builder
	for i := range 1000 {
		fmt.Fprintf(&sql, "create table stock_%04d (id int primary key, name text);\n", i)
	}
	execute(t, dsn, sql.String()+"insert into stock_0007 select n, 'Item ' || n from generate_series(1, 10000) n; analyze stock_0007")
	if _, err := r.Service.Open(ctx, "large", dsn, nil, demo.Operator); err != nil {
		t.Fatal(err)
	}
	elements := func() int {
		n, err := chromedp.Run(p.ctx, chromedp.Evaluate[int](`document.querySelectorAll('*').length`))
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	p.signIn(r, "/tables/large", `[data-part=tree]`)
	p.shows(`[data-part=tree]`, "1,000 of 1,000 in the API")
	p.fill(`input[aria-label="Find a table"]`, "0999")
	p.shows(`[data-part=tree]`, "stock_0999")
	p.do("lights", chromedp.Navigate(r.URL+"/lights/large"), chromedp.WaitVisible(`[data-part=facade] table`))
	if n := elements(); n > 3000 {
		t.Errorf("the lights of a thousand resources are %d elements", n)
	}
	p.do("to the end", chromedp.Evaluate[chromedp.Void](`document.querySelector('[data-part=facade] > div').scrollTo(0, 1e6)`))
	p.shows(`[data-part=facade]`, "stock_0999")
	p.do("ask", chromedp.Navigate(r.URL+"/ask/large?q="+url.QueryEscape("/stock_0007?top=1000&orderby=id")),
		chromedp.WaitVisible(answer+` table`))
	if _, err := r.Operator.Push(ctx, "large", windows.Push{Replace: true, Document: strings.Replace(mustDraft(t, r, "large"),
		"stock_0007: {from: public.stock_0007}", "stock_0007: {from: public.stock_0007, page: {max: none}}", 1)}); err != nil {
		t.Fatal(err)
	}
	p.do("ask for all", mark(`textarea[name=address]`), browsertest.Type(`textarea[name=address]`, "/stock_0007?top=10000&orderby=id\r"))
	p.shows(answer, "10,000 rows")
	if n := elements(); n > 3000 {
		t.Errorf("ten thousand rows are %d elements", n)
	}
	p.do("to the end", chromedp.Evaluate[chromedp.Void](`document.querySelector('[data-part=answer] table').parentElement.scrollTo(0, 1e7)`))
	p.shows(answer, "Item 10000")
	p.do("map", chromedp.Navigate(r.URL+"/map/large"), chromedp.WaitVisible(`[data-part=map] button`))
	p.clean()
}

func mustDraft(t *testing.T, r *harbourtest.Running, window string) string {
	t.Helper()
	d, err := r.Operator.Draft(context.Background(), window)
	if err != nil {
		t.Fatal(err)
	}
	return d.Document
}
