package browsertest_test

import (
	"context"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/jackc/pgx/v5"

	"eagerwindow/browsertest"
	"eagerwindow/console"
	"eagerwindow/demo"
	"eagerwindow/internal/harbourtest"
	"eagerwindow/internal/server"
)

func TestMain(m *testing.M) { os.Exit(harbourtest.Main(m)) }

// page is a browser's tab with the console in it; every step has half a minute.
type page struct {
	t      *testing.T
	ctx    context.Context
	clicks *int
}

func open(t *testing.T) (page, *harbourtest.Running) {
	t.Helper()
	harbourtest.Need(t, console.Files() != nil, "the console is not built; run make console")
	r := harbourtest.Serve(t, console.Files(), server.New)
	ctx, cancel, err := browsertest.Start(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(cancel)
	return page{t, ctx, new(int)}, r
}

func (p page) do(what string, actions ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, 30*time.Second)
	defer cancel()
	if err := chromedp.Do(ctx, actions...); err != nil {
		text, _ := chromedp.Run(p.ctx, chromedp.Text(`body`))
		p.t.Fatalf("%s: %v; the page shows\n%s", what, err, text)
	}
}

// shows waits until an element's text holds all of these.
func (p page) shows(selector string, want ...string) {
	p.t.Helper()
	text := ""
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		text, _ = chromedp.Run(p.ctx, chromedp.Evaluate[string](`document.querySelector('`+selector+`')?.innerText ?? ''`))
		missing := false
		for _, w := range want {
			missing = missing || !strings.Contains(text, w)
		}
		if !missing {
			return
		}
	}
	p.t.Fatalf("%s shows\n%s\nwant %q", selector, text, want)
}

// click clicks the button of that name.
func (p page) click(name string) {
	p.t.Helper()
	*p.clicks++
	p.do("click "+name, browsertest.Click(`//button[@data-chip="`+name+`" or @aria-label="`+name+`" or normalize-space()="`+name+`"]`))
}

// press clicks what a selector finds.
func (p page) press(selector string) {
	p.t.Helper()
	*p.clicks++
	p.do("press "+selector, browsertest.Click(selector))
}

// fill puts a text into an entry, in place of what is there.
func (p page) fill(selector, text string) {
	p.t.Helper()
	p.do("fill "+selector, chromedp.WaitVisible(selector), mark(selector), browsertest.Type(selector, text))
}

// goTo follows a link of the pages on the left.
func (p page) goTo(title string) {
	p.t.Helper()
	*p.clicks++
	p.do("go to "+title, browsertest.Click(`//nav//a[starts-with(normalize-space(), "`+title+`")]`))
}

// signIn opens a page as the operator.
func (p page) signIn(r *harbourtest.Running, path, waitFor string) {
	p.t.Helper()
	p.do("sign in", chromedp.Navigate(r.URL+path), chromedp.WaitVisible(`input[name=email]`),
		browsertest.Type(`input[name=email]`, demo.Operator), browsertest.Type(`input[name=password]`, demo.Password+"\n"),
		chromedp.WaitVisible(waitFor))
}

// clean reports whether the page fits and asks nothing of others.
func (p page) clean() {
	p.t.Helper()
	wide, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool](`document.documentElement.scrollWidth > innerWidth`))
	if err != nil || wide {
		p.t.Errorf("the page is wider than 1280: %v, %v", wide, err)
	}
	foreign, err := chromedp.Run(p.ctx,
		chromedp.Evaluate[[]string](`performance.getEntriesByType('resource').map(e => e.name).filter(n => !n.startsWith(location.origin))`))
	if err != nil || len(foreign) > 0 {
		p.t.Errorf("the page asks elsewhere: %v, %v", foreign, err)
	}
}

// count is a number that the harbour tells.
func count(t *testing.T, r *harbourtest.Running, sql string) (n int) {
	t.Helper()
	conn, err := pgx.Connect(context.Background(), r.Harbour)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	if err := conn.QueryRow(context.Background(), sql).Scan(&n); err != nil {
		t.Fatal(err)
	}
	return n
}

// grouped is a number as pages write it.
func grouped(n int) string {
	if n < 1000 {
		return fmt.Sprint(n)
	}
	return fmt.Sprintf("%d,%03d", n/1000, n%1000)
}

// mark selects what an entry holds, so that typing replaces it.
func mark(selector string) chromedp.Action[chromedp.Void] {
	return chromedp.Evaluate[chromedp.Void](`document.querySelector('` + selector + `').select()`)
}

// choose picks an option the way a person does: React hears of it.
func choose(name, value string) chromedp.Action[chromedp.Void] {
	return chromedp.Evaluate[chromedp.Void](`(() => { const s = document.querySelector('select[name=` + name + `]'); s.value = '` + value +
		`'; s.dispatchEvent(new Event('change', {bubbles: true})); })()`)
}
