package browsertest_test

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"

	"eagerwindow/demo"
	"eagerwindow/internal/core/suite"
	"eagerwindow/internal/harbourtest"
	"eagerwindow/internal/windows"
)

// everywhere are all pages, with something open on each, and what tells that one is there.
var everywhere = []struct{ name, address, shows string }{
	{"windows", "/windows", `[data-part=windows] table`},
	{"tables", "/tables/saltmere?table=harbour.port_call", `[data-part=table] table`},
	{"a table without a key", "/tables/saltmere?table=harbour.weather_log", `[data-part=why-not]`},
	{"map", "/map/saltmere?role=agent&resource=port_calls", `[data-part=resource]`},
	{"lights", "/lights/saltmere?role=agent&resource=port_calls&claim.agent_id=3", `[data-part=grant] form, [data-part=grant]`},
	{"role", "/lights/saltmere?role=agent", `input[name=role]`},
	{"ask", "/ask/saltmere?as=agent&claim.agent_id=3&q=/port_calls?top=5", `[data-part=answer] table`},
	{"plan", "/ask/saltmere?side=SQL&q=/port_calls?top=5%26expand=vessel", `[data-part=plan]`},
	{"history", "/ask/saltmere?side=History&q=/port_calls?top=5", `[data-part=history] button`},
	{"live", "/ask/saltmere?side=Live&q=/port_calls?top=5", `[data-part=live] table`},
	{"write", "/ask/saltmere?method=PATCH&q=/tugs/1&body={}", `[data-part=touch]`},
	{"checks", "/checks/saltmere?suite=a-visit", `[data-part=results]`},
	{"suite", "/checks/saltmere?suite=a-visit&edit=text", `[data-part=suite-text]`},
	{"description", "/description/saltmere?role=agent&operation=list-port_calls", `[data-part=operation]`},
	{"overlay", "/description/saltmere?view=Overlay", `[data-part=overlay]`},
	{"release", "/release/saltmere?release=1", `[data-part=release]`},
	{"callers", "/callers/saltmere?client=agent-demo", `[data-part=caller] form`},
	{"traffic", "/traffic/saltmere", `[data-part=traffic]`},
}

// complaints listens to the browser's log; what is returned ends that and tells what was written.
func (p page) complaints() func() []string {
	p.do("listen to the browser's log", chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
		_, err := cdp.Call(ctx, target, log.Enable, cdp.Empty{})
		return err
	}))
	listening, stop := context.WithCancel(p.ctx)
	entries, heard := chromedp.Events(listening, log.EntryAdded), make(chan []string)
	go func() {
		var said []string
		for e, err := range entries {
			if err != nil {
				break
			}
			if e.Entry.Source != log.EntrySourceNetwork { // being refused before signing in is no fault of the page
				said = append(said, e.Entry.Text)
			}
		}
		heard <- said
	}()
	return func() []string {
		stop()
		return <-heard
	}
}

// traffic lets two callers ask for something, so that there is something to see.
func traffic(t *testing.T, r interface {
	Token(testing.TB, string) string
}, send func(token, path string)) {
	t.Helper()
	agent := r.Token(t, "agent")
	for range 3 {
		send(agent, "/api/saltmere/vessels?top=2")
		send("", "/api/saltmere/arrivals_board?top=1")
		send(agent, "/api/saltmere/inspections")
	}
}

// writtenDown waits until that traffic is written down, as it is every few seconds.
func writtenDown(t *testing.T, r *harbourtest.Running) {
	t.Helper()
	for end := time.Now().Add(30 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		list, err := r.Operator.Windows(t.Context())
		if err != nil || time.Now().After(end) {
			t.Fatalf("the traffic is not written down: %+v, %v", list, err)
		}
		counted := 0
		for _, n := range list[0].Minutes {
			counted += int(n)
		}
		if counted >= 9 {
			return
		}
	}
}

// On every page, in both modes: nothing that hinders people (axe-core), no complaint of the browser, nothing from elsewhere, no horizontal
// bar from 1280 to 2560 pixels.
func TestEveryPage(t *testing.T) {
	t.Parallel()
	axe, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatal(err)
	}
	p, r := open(t)
	traffic(t, r, func(token, path string) { r.Send(t, token, "GET", path, nil) })
	checks := windows.NewChecks{Suites: []string{"a-visit", "the-board"}}
	if err := r.Operator.RunChecks(context.Background(), demo.Window, checks, func(suite.Result) {}); err != nil {
		t.Fatal(err)
	}
	writtenDown(t, r)
	said := p.complaints()
	p.signIn(r, "/windows", `[data-part=windows]`)
	for _, mode := range []string{"dark", "light"} {
		p.do(mode, chromedp.Evaluate[chromedp.Void](`localStorage.setItem('eager-mode', '`+mode+`')`))
		for _, one := range everywhere {
			p.do(one.name, chromedp.Navigate(r.URL+one.address), chromedp.WaitVisible(one.shows))
			time.Sleep(300 * time.Millisecond)
			p.do("axe", chromedp.Evaluate[chromedp.Void](string(axe)+`;undefined`))
			found, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](`axe.run(document, {resultTypes: ['violations']})
				.then(r => JSON.stringify(r.violations.map(v => ({id: v.id,
					nodes: v.nodes.slice(0, 4).map(n => n.html.slice(0, 160) + ' … ' + n.failureSummary)}))))`, chromedp.EvalAwaitPromise))
			if err != nil {
				t.Fatal(err)
			}
			var violations []struct {
				ID    string   `json:"id"`
				Nodes []string `json:"nodes"`
			}
			if err := json.Unmarshal([]byte(found), &violations); err != nil {
				t.Fatal(err)
			}
			for _, v := range violations {
				t.Errorf("%s, %s: %s\n%s", one.name, mode, v.ID, strings.Join(v.Nodes, "\n"))
			}
			p.clean()
		}
	}
	for _, one := range everywhere {
		p.do(one.name, chromedp.EmulateViewport(2560, 1440), chromedp.Navigate(r.URL+one.address), chromedp.WaitVisible(one.shows))
		p.clean()
	}
	if list := said(); len(list) > 0 {
		t.Errorf("the browser complains: %v", list)
	}
}

// What a page has to load first, and what each further page adds, in bytes as they are sent.
func TestDownloads(t *testing.T) {
	t.Parallel()
	p, r := open(t)
	p.signIn(r, "/windows", `[data-part=windows]`)
	loaded := func(address, shows string) int {
		p.do("load "+address, chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
			_, err := cdp.Call(ctx, target, network.ClearBrowserCache, cdp.Empty{})
			return err
		}), chromedp.Navigate(r.URL+address), chromedp.WaitVisible(shows))
		n, err := chromedp.Run(p.ctx, chromedp.Evaluate[int](`performance.getEntriesByType('resource').filter(e => e.name.includes('/assets/'))
			.reduce((sum, e) => sum + e.encodedBodySize, performance.getEntriesByType('navigation')[0].encodedBodySize)`))
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	first := loaded("/windows", `[data-part=windows] table`)
	if first == 0 || first > 250_000 {
		t.Errorf("the first page loads %d bytes", first)
	}
	sizes := []string{fmt.Sprint("first ", first)}
	for _, one := range everywhere {
		more := loaded(one.address, one.shows) - first
		sizes = append(sizes, fmt.Sprint(one.name, " ", more))
		if more > 120_000 {
			t.Errorf("%s loads %d bytes more", one.name, more)
		}
	}
	t.Log(strings.Join(sizes, ", "))
}
