package browsertest_test

import (
	"context"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/jackc/pgx/v5"

	"eagerwindow/browsertest"
	"eagerwindow/demo"
	"eagerwindow/internal/client"
	"eagerwindow/internal/harbourtest"
)

// A chandlery of the harbour: ten tables, one of them without a key, and a column that is nobody's business.
const chandlery = `
create table customer (id bigint primary key generated always as identity, name text not null, email text unique);
create table supplier (id bigint primary key generated always as identity, name text not null);
create table product (id bigint primary key generated always as identity, name text not null,
  price numeric(10,2) not null check (price > 0), supplier_id bigint references supplier);
create table employee (id bigint primary key generated always as identity, name text not null, wage numeric(10,2));
create table purchase (id bigint primary key generated always as identity, customer_id bigint not null references customer,
  sold_by bigint references employee, state text not null default 'open', ordered_at timestamptz not null default now());
create index on purchase (customer_id);
create table purchase_line (purchase_id bigint references purchase, product_id bigint references product, quantity integer not null,
  primary key (purchase_id, product_id));
create table stock (product_id bigint primary key references product, quantity integer not null);
create table delivery (id bigint primary key generated always as identity, purchase_id bigint references purchase, left_at timestamptz);
create table invoice (id bigint primary key generated always as identity, purchase_id bigint references purchase, amount numeric(12,2));
create table opening_note (day date, note text);
insert into customer (name) select 'Customer ' || n from generate_series(1, 20) n;
insert into employee (name, wage) values ('Ada', 1000);
insert into purchase (customer_id, sold_by) select 1 + n % 20, 1 from generate_series(1, 100) n;
insert into opening_note select date '2026-01-01' + n, 'open' from generate_series(0, 9) n;
analyze`

// From an empty service to a published API that a program calls, by the pages alone: opened, chosen, permitted, tried, checked, published,
// handed out, watched.
func TestWholeJob(t *testing.T) {
	t.Parallel()
	p, r := open(t)
	ctx := context.Background()
	if _, err := r.Service.CloseWindow(ctx, demo.Window); err != nil {
		t.Fatal(err)
	}
	dsn := harbourtest.Database(t, false)
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	if _, err := conn.Exec(ctx, chandlery); err != nil {
		t.Fatal(err)
	}
	begun := time.Now()
	p.signIn(r, "/", `[data-part=open]`)
	p.shows(`[data-part=windows]`, "A window turns the tables of a database into an API")

	p.fill(`input[name=dsn]`, "postgres://nobody:x@127.0.0.1:1/none\n")
	p.shows(`[data-part=open] [role=alert]`, "127.0.0.1")
	p.fill(`input[name=dsn]`, dsn+"\n")
	p.shows(`[data-part=open]`, "PostgreSQL 15", "10 tables", "1 table has no primary key")
	p.fill(`input[name=name]`, "chandlery")
	p.click("Open as a draft")
	p.shows(`[data-part=tree]`, "10 of 10 in the API")
	p.shows(`[aria-label="To the first release"]`, "Open the database", "Publish")

	p.press(`[aria-label="public.opening_note in the API"]`)
	p.shows(`[data-part=tree]`, "9 of 10 in the API")
	p.click("employee1")
	p.press(`[aria-label="wage in the API"]`)
	p.shows(`[data-part=document]`, "not saved", "wage: {expose: false}")
	p.click("Save draft")
	p.shows(`[data-part=document]`, "version 2")

	p.goTo("Lights")
	p.do("a role", browsertest.Click(`//a[normalize-space()="+ role"]`))
	p.fill(`input[name=role]`, "customer")
	p.fill(`input[name=claim]`, "customer_id")
	p.fill(`input[name="limit requests"]`, "600/minute")
	p.click("Add the role")
	p.click("customer on purchase: create not granted, read not granted, update not granted, delete not granted")
	p.click("Edit grant")
	p.press(`input[name=read]`)
	p.do("type a rule", browsertest.Click(`[aria-label="Rows of read"]`), chromedp.KeyEvent("customer_id eq @caller/customer_id "))
	p.shows(`[data-part=edit]`, "valid")
	p.click("Save in the draft")
	p.shows(`[data-part=grant]`, "customer_id eq @caller/customer_id", "all 5 fields")
	p.do("another role", browsertest.Click(`//a[normalize-space()="+ role"]`))
	p.fill(`input[name=role]`, "clerk")
	p.do("what it begins with", choose("begin", "read, create and update everything"))
	p.click("Add the role")
	p.click("clerk on purchase: create all, read all, update all, delete not granted")
	p.click("Edit grant")
	p.press(`input[name=create]`)
	p.click("Save in the draft")
	p.shows(`[data-part=grant]`, "its own entry", "create")

	p.goTo("Ask")
	p.click("As whom")
	p.press(`input[name="role customer"]`)
	p.fill(`input[name=customer_id]`, "3\n")
	p.click("Resource")
	p.click("purchase")
	p.shows(`[data-part=answer]`, "5 of 5 rows")

	p.goTo("Checks")
	p.click("Run all")
	p.shows(`[data-part=results]`, "against the draft, in a rehearsal")
	p.shows(`[data-part=suites]`, "passed")

	p.goTo("Release")
	p.shows(`[data-part=publish]`, "Publish as release 1", "Nobody is answered yet", "checks passed",
		"Valid for the database as it is now")
	p.click("Publish release 1")
	p.shows(`[data-part=publish]`, "Release 1 is live", "/api/chandlery")
	p.do("a program", browsertest.Click(`//a[normalize-space()="Give a program access"]`))
	p.fill(`input[name=id]`, "portal")
	p.press(`input[name="role customer"]`)
	p.fill(`input[name="claim customer_id"]`, "3")
	p.click("Add")
	p.shows(`[data-part=secret]`, "portal may call")
	secret, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](`document.querySelector('[data-secret]').textContent`))
	if err != nil {
		t.Fatal(err)
	}
	links := 4 // that were followed by their text
	t.Logf("%d clicks, %s", *p.clicks+links, time.Since(begun).Round(time.Second))
	if *p.clicks+links >= 40 {
		t.Errorf("it took %d clicks", *p.clicks+links)
	}

	token, err := (&client.Client{URL: r.URL}).ClientToken(ctx, "chandlery", "portal", secret)
	if err != nil {
		t.Fatal(err)
	}
	a := r.Send(t, token, "GET", "/api/chandlery/purchase?count=true", nil)
	if a.StatusCode != 200 || !strings.Contains(a.Text, `"@count":5`) {
		t.Errorf("the program gets %s %s", a.Status, a.Text)
	}
	if a := r.Send(t, token, "GET", "/api/chandlery/employee", nil); a.StatusCode != 403 {
		t.Errorf("what is not granted: %s", a.Status)
	}
	p.goTo("Traffic")
	p.shows(`[data-part=traffic]`, "2 requests, 1 refused", "may not read employee")
	p.clean()
}

// A page that has been open while the session ended asks to sign in, and is as it was then; nothing typed is lost.
func TestSessionEnds(t *testing.T) {
	t.Parallel()
	p, r := open(t)
	p.signIn(r, "/tables/saltmere?table=harbour.tug", `[data-part=table]`)
	p.press(`[aria-label="bollard_pull_t in the API"]`)
	p.shows(`[data-part=document]`, "bollard_pull_t: {expose: false}", "not saved")
	p.do("the session ends elsewhere", chromedp.Evaluate[chromedp.Void](`fetch('/manage/session', {method: 'DELETE'}).then(() => true)`,
		chromedp.EvalAwaitPromise))
	p.click("Save draft")
	p.do("it asks to sign in", chromedp.WaitVisible(`input[name=password]`))
	p.shows(`body`, "Your session has ended", "nothing that you typed is lost")
	p.do("sign in again", browsertest.Type(`input[name=email]`, demo.Operator), browsertest.Type(`input[name=password]`, demo.Password+"\n"),
		chromedp.WaitNotPresent(`input[name=password]`))
	p.shows(`[data-part=document]`, "bollard_pull_t: {expose: false}", "not saved")
	p.do("reload", chromedp.Reload(), chromedp.WaitVisible(`[data-part=table]`))
	p.shows(`[data-part=document]`, "bollard_pull_t: {expose: false}", "not saved")
	p.click("Save draft")
	p.shows(`[data-part=document]`, "version 3")
	p.click("Sign out")
	p.do("nothing stays", chromedp.WaitVisible(`input[name=password]`))
	p.shows(`body`, "For operators")
}

// While the service is away the page stays, and it goes on by itself when the service is back.
func TestServiceRestarts(t *testing.T) {
	t.Parallel()
	p, r := open(t)
	at, stop := front(t, r.URL)
	p.signIn(&harbourtest.Running{URL: at}, "/ask/saltmere?q="+url.QueryEscape("/tugs?top=2"), answer)
	p.shows(answer, "200", "2 rows")
	back := stop()
	p.click("Ask")
	p.shows(answer, "The service does not answer")
	p.shows(sentence, "read tugs")
	back()
	p.click("Ask")
	p.shows(answer, "200", "2 rows")
	titled := strings.Replace(demo.Ahead(), "Port of Saltmere", "Saltmere Port", 1)
	if _, err := r.Operator.PushDraft(context.Background(), demo.Window, titled); err != nil {
		t.Fatal(err)
	}
	p.shows(`header`, "Saltmere Port") // heard of over a new stream of events
}

// front passes requests on to a service, so that the service seems to go away and come back at the same address.
func front(t *testing.T, to string) (address string, stop func() (back func())) {
	t.Helper()
	listen := func(at string) (*http.Server, string) {
		l, err := net.Listen("tcp", at)
		if err != nil {
			t.Fatal(err)
		}
		s := &http.Server{Handler: passOn(to)}
		go s.Serve(l)
		return s, l.Addr().String()
	}
	s, at := listen("127.0.0.1:0")
	t.Cleanup(func() { _ = s.Close() })
	return "http://" + at, func() func() {
		_ = s.Close()
		return func() { s, _ = listen(at) }
	}
}

// passOn answers as another server does.
func passOn(to string) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		out, err := http.NewRequestWithContext(q.Context(), q.Method, to+q.URL.RequestURI(), q.Body)
		if err != nil {
			panic(err)
		}
		out.Header = q.Header.Clone()
		if out.Header.Get("Origin") != "" {
			out.Header.Set("Origin", to)
		}
		res, err := http.DefaultTransport.RoundTrip(out)
		if err != nil {
			w.WriteHeader(http.StatusBadGateway)
			return
		}
		defer res.Body.Close()
		for name, values := range res.Header {
			w.Header()[name] = values
		}
		w.WriteHeader(res.StatusCode)
		part := make([]byte, 32<<10)
		for {
			n, err := res.Body.Read(part)
			_, _ = w.Write(part[:n])
			_ = http.NewResponseController(w).Flush()
			if err != nil {
				if err != io.EOF {
					panic(http.ErrAbortHandler)
				}
				return
			}
		}
	})
}
