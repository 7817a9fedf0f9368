// Command screenshots makes the pictures in docs/screenshots from a running demo, which demo.env describes: pages of the
// console, and what the commands print, set as a terminal sets it.
package main

import (
	"bytes"
	"context"
	_ "embed"
	"encoding/json"
	"fmt"
	"html"
	"log"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/chromedp/chromedp"
	"github.com/jackc/pgx/v5"

	"eagerwindow/browsertest"
	"eagerwindow/demo"
	"eagerwindow/internal/client"
	"eagerwindow/internal/core/suite"
	"eagerwindow/internal/identity"
	"eagerwindow/internal/windows"
)

const dir = "../docs/screenshots" // go run works in the folder of its module

// shape is the one of a day's traffic that costs most.
const shape = "cargo_items?filter=hs_code eq ? and tonnes gt ?&orderby=tonnes desc&top=?"

// pages are shots of the console, each when what it waits for is there.
var pages = []struct {
	file, address, mode string
	query               url.Values
	shows               string
}{
	{"tables.png", "/tables/saltmere", "dark", url.Values{"table": {"harbour.port_call"}}, `[data-part=table] table`},
	{"map.png", "/map/saltmere", "dark", url.Values{"role": {"agent"}, "resource": {"port_calls"}}, `[data-part=resource]`},
	{"lights.png", "/lights/saltmere", "dark", url.Values{"role": {"agent"}, "resource": {"port_calls"}, "claim.agent_id": {"3"}},
		`[data-part=grant]`},
	{"ask.png", "/ask/saltmere", "dark", url.Values{"as": {"agent"}, "claim.agent_id": {"3"}, "side": {"SQL"},
		"q": {"/port_calls?select=id,status,eta&expand=vessel(select=name,flag),tugs(select=name;orderby=name;top=2)&filter=status eq " +
			"'departed' and eta lt 2026-07-01T00:00:00Z&orderby=eta desc&top=20"}}, `[data-part=plan]`},
	{"checks.png", "/checks/saltmere", "dark", url.Values{"suite": {"a-visit"}}, `[data-part=check]`},
	{"description.png", "/description/saltmere", "dark", url.Values{"role": {"agent"}, "operation": {"list-port_calls"}},
		`[data-part=operation]`},
	{"callers.png", "/callers/saltmere", "dark", url.Values{"account": {"ada@board.example"}}, `[data-part=caller] form`},
	{"traffic.png", "/traffic/saltmere", "dark", url.Values{"shape": {shape}}, `[data-part=shape] pre`},
	{"traffic-light.png", "/traffic/saltmere", "light", url.Values{"over": {"day"}}, `.recharts-line`},
	{"lights-light.png", "/lights/saltmere", "light", url.Values{"role": {"agent"}}, `input[name=role]`},
}

// commands are shots of what commands print.
var commands = []struct {
	file string
	args []string
}{
	{"ask-terminal.png", []string{"ask", "saltmere", "/port_calls?filter=status eq 'expected' and vessel/flag eq 'NO'&orderby=eta " +
		"desc&top=5&select=id,eta&expand=vessel(select=name)&count=true", "--as", "agent", "--claim", "agent_id=3"}},
	{"diff-terminal.png", []string{"draft", "diff", "saltmere"}},
	{"doctor-terminal.png", []string{"doctor", "saltmere"}},
	{"check-terminal.png", []string{"check", "run", "saltmere"}},
}

func main() {
	log.SetFlags(0)
	if err := run(); err != nil {
		log.Fatal("screenshots: ", err)
	}
}

func run() error {
	base := os.Getenv("EAGER_URL")
	if base == "" {
		return fmt.Errorf("EAGER_URL is not set; \"make screenshots\" starts a demo and sets it")
	}
	ctx, cancel, err := browsertest.Start(context.Background())
	if err != nil {
		return err
	}
	defer cancel()
	ctx, stop := context.WithTimeout(ctx, 5*time.Minute)
	defer stop()
	if err := chromedp.Do(ctx,
		chromedp.Navigate(base+"/"),
		keepMode("dark"),
		chromedp.Reload(),
		chromedp.WaitVisible(`input[name=email]`),
		browsertest.Type(`input[name=email]`, demo.Operator),
		browsertest.Type(`input[name=password]`, demo.Password+"\n"),
		chromedp.WaitVisible(`[data-part=windows]`)); err != nil {
		return fmt.Errorf("sign in: %w", err)
	}
	for _, prepare := range []func(context.Context, string) error{day, callers, runs, others} {
		if err := prepare(ctx, base); err != nil {
			return err
		}
	}
	for _, p := range pages {
		address := base + p.address + "?" + p.query.Encode()
		if err := chromedp.Do(ctx, keepMode(p.mode), chromedp.Navigate(address), chromedp.WaitVisible(p.shows), shot(p.file)); err != nil {
			return fmt.Errorf("%s: %w", p.file, err)
		}
	}
	write := url.Values{"method": {"PATCH"}, "q": {"/port_calls/$filter(@f)/$each?@f=status eq 'cancelled' and eta lt 2025-08-01T00:00:00Z"},
		"body": {"{\n  \"remarks\": \"Cancelled long ago.\",\n  \"berth_code\": null\n}"}}
	if err := chromedp.Do(ctx, keepMode("dark"), chromedp.Navigate(base+"/ask/saltmere?"+write.Encode()),
		browsertest.Click(`[data-part=touch] button`), chromedp.WaitVisible(`[data-part=changes]`), shot("write.png")); err != nil {
		return fmt.Errorf("write.png: %w", err)
	}
	if err := chromedp.Do(ctx, chromedp.Navigate(base+"/describe/saltmere?role=agent#list-port_calls"),
		chromedp.WaitVisible(`.js #list-port_calls`), shot("reference.png")); err != nil {
		return fmt.Errorf("reference.png: %w", err)
	}
	if err := changes(ctx, base); err != nil {
		return err
	}
	if err := chromedp.Do(ctx, keepMode("dark"), chromedp.Navigate(base+"/release/saltmere"), chromedp.WaitVisible(`[data-part=change]`),
		shot("release.png"), chromedp.Navigate(base+"/windows"), chromedp.WaitVisible(`[data-part=open] input`),
		browsertest.Type(`input[name=dsn]`, os.Getenv("EAGER_DEMO_DSN")+"\n"), chromedp.WaitVisible(`input[name=name]`),
		shot("windows.png")); err != nil {
		return fmt.Errorf("release.png and windows.png: %w", err)
	}
	for _, c := range commands {
		out, _ := exec.Command("../bin/eager", c.args...).CombinedOutput() // a refusal is worth a picture too
		if err := chromedp.Do(ctx, chromedp.Navigate("data:text/html;charset=utf-8,"+url.PathEscape(terminal(c.args, string(out)))),
			picture(c.file, chromedp.Screenshot(`pre`))); err != nil {
			return fmt.Errorf("%s: %w", c.file, err)
		}
	}
	return nil
}

// made is a day of made-up traffic.
//
//go:embed day.sql
var made string

// day puts the traffic of a day into the records, and lets the shape that costs most be known.
func day(ctx context.Context, base string) error {
	records, err := pgx.Connect(ctx, os.Getenv("EAGER_RECORDS"))
	if err != nil {
		return err
	}
	defer records.Close(ctx)
	if _, err := records.Exec(ctx, made); err != nil {
		return err
	}
	program := &client.Client{URL: base}
	if program.Token, err = program.ClientToken(ctx, demo.Window, "office-demo", "saltmere-office"); err != nil {
		return err
	}
	res, err := program.Send(ctx, client.Request{Method: "GET", Path: "/api/" + demo.Window +
		"/cargo_items?filter=hs_code%20eq%20'250100'%20and%20tonnes%20gt%20490&orderby=tonnes%20desc&top=5"})
	if err != nil {
		return err
	}
	return res.Body.Close()
}

// runs are some of the checks, in the last of which one fails.
func runs(ctx context.Context, base string) error {
	db, err := pgx.Connect(ctx, os.Getenv("EAGER_DEMO_DSN"))
	if err != nil {
		return err
	}
	defer db.Close(ctx)
	s := &client.Client{URL: base, Token: os.Getenv("EAGER_TOKEN")}
	checks := windows.NewChecks{Suites: []string{"a-visit", "the-board"}}
	const seldom = 7
	for n := range 24 {
		breaks := n%seldom == seldom-1 || n == 23
		if breaks {
			_, err = db.Exec(ctx, "alter table harbour.port_call add constraint departs_later check (departed_at < '2027-01-01') not valid")
		}
		if err == nil {
			err = s.RunChecks(ctx, demo.Window, checks, func(suite.Result) {})
		}
		if breaks && err == nil {
			_, err = db.Exec(ctx, "alter table harbour.port_call drop constraint departs_later")
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// others are two more windows over the harbour: one that is live, and one that never was.
func others(ctx context.Context, base string) error {
	s := &client.Client{URL: base, Token: os.Getenv("EAGER_TOKEN")}
	for name, title := range map[string]string{"ferries": "Ferry timetable", "chandlery": "Chandlery"} {
		document, err := s.Open(ctx, windows.NewWindow{Name: name, Source: os.Getenv("EAGER_DEMO_DSN"), Schemas: []string{"harbour"}})
		if err != nil {
			return err
		}
		document = strings.Replace(document, `title: "saltmere"`, "title: "+title, 1)
		if _, err := s.Push(ctx, name, windows.Push{Document: document, Replace: true}); err != nil {
			return err
		}
	}
	_, err := s.Publish(ctx, "ferries", windows.NewRelease{Note: "The first release."})
	return err
}

// changes are those of a day: somebody alters the database, somebody else edits the draft, and a program goes on calling.
func changes(ctx context.Context, base string) error {
	db, err := pgx.Connect(ctx, os.Getenv("EAGER_DEMO_DSN"))
	if err != nil {
		return err
	}
	defer db.Close(ctx)
	if _, err := db.Exec(ctx,
		"alter table harbour.berth add crane_t numeric(5,1); alter table harbour.port_call alter draught_m drop not null"); err != nil {
		return err
	}
	s := &client.Client{URL: base, Token: os.Getenv("EAGER_TOKEN")}
	program := &client.Client{URL: base}
	if program.Token, err = program.ClientToken(ctx, demo.Window, "agent-demo", "saltmere-agent"); err != nil {
		return err
	}
	res, err := program.Send(ctx, client.Request{Method: "GET", Path: "/api/" + demo.Window + "/port_calls?top=3"})
	if err != nil {
		return err
	}
	_ = res.Body.Close()
	document := strings.Replace(demo.Ahead(), "read: {rows: agent_id eq @caller/agent_id}",
		"read: {rows: agent_id eq @caller/agent_id and flag eq 'NO'}", 1)
	if _, err := s.Push(ctx, demo.Window, windows.Push{Document: document, Replace: true}); err != nil {
		return err
	}
	time.Sleep(6 * time.Second) // until it is written down who called
	return nil
}

// callers are two people, of whom one has just asked for something.
func callers(ctx context.Context, base string) error {
	s := &client.Client{URL: base, Token: os.Getenv("EAGER_TOKEN")}
	ada, err := s.AddAccount(ctx, demo.Window, identity.NewAccount{Email: "ada@board.example", Roles: []string{"agent"},
		Claims: map[string]any{"agent_id": 3}})
	if err != nil {
		return err
	}
	if _, err := s.AddAccount(ctx, demo.Window, identity.NewAccount{Email: "bo@board.example", Roles: []string{"pilot", "agent"},
		Claims: map[string]any{"agent_id": 4, "pilot_id": demo.Pilot}}); err != nil {
		return err
	}
	body, err := json.Marshal(identity.Credentials{Email: ada.Email, Password: ada.Password})
	if err != nil {
		return err
	}
	anyone := &client.Client{URL: base}
	res, err := anyone.Send(ctx, client.Request{Method: "POST", Path: "/auth/" + demo.Window + "/sign-in", Body: bytes.NewReader(body)})
	if err != nil {
		return err
	}
	defer res.Body.Close()
	var token identity.Token
	if err := json.NewDecoder(res.Body).Decode(&token); err != nil {
		return err
	}
	anyone.Token = token.AccessToken
	vessels, err := anyone.Send(ctx, client.Request{Method: "GET", Path: "/api/" + demo.Window + "/vessels?top=3"})
	if err != nil {
		return err
	}
	return vessels.Body.Close()
}

// keepMode sets the colour mode for the pages that follow.
func keepMode(mode string) chromedp.Action[chromedp.Void] {
	return chromedp.Evaluate[chromedp.Void](`localStorage.setItem('eager-mode', '` + mode + `')`)
}

// shot writes a picture of the page as it is when its fonts are there.
func shot(file string) chromedp.Action[chromedp.Void] {
	return picture(file, chromedp.CaptureScreenshot())
}

func picture(file string, take chromedp.Action[[]byte]) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		if err := chromedp.Do(ctx, chromedp.Evaluate[chromedp.Void](`document.fonts.ready.then(() => true)`, chromedp.EvalAwaitPromise),
			chromedp.Sleep(time.Second)); err != nil {
			return err
		}
		picture, err := chromedp.Run(ctx, take)
		if err != nil {
			return err
		}
		return os.WriteFile(filepath.Join(dir, file), picture, 0o644)
	})
}

// mostLines is how much of a command's output a picture shows, in lines of so many columns.
const mostLines, columns = 36, 140

// terminal is a page that looks like a terminal.
func terminal(args []string, out string) string {
	quoted := make([]string, len(args))
	for i, a := range args {
		quoted[i] = a
		if strings.ContainsAny(a, " ?&'()") {
			quoted[i] = `"` + a + `"`
		}
	}
	lines, rows := strings.Split(out, "\n"), 0
	for i, line := range lines {
		if rows += 1 + utf8.RuneCountInString(line)/columns; rows > mostLines {
			out = strings.Join(lines[:i], "\n") + "\n…"
			break
		}
	}
	return `<body style="margin:0;background:#0f1720;color:#e9e6dc;font:13px/1.5 'DejaVu Sans Mono',` +
		`monospace"><pre style="padding:20px;margin:0;white-space:pre-wrap">` +
		`<span style="color:#7cc9a8">$</span> eager ` + html.EscapeString(strings.Join(quoted, " ")) + "\n" + html.EscapeString(out) +
		`</pre></body>`
}
