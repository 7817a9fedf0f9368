package service_test

import (
	"context"
	"log/slog"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/jackc/pgx/v5"

	"eagerwindow/demo"
	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/data"
	"eagerwindow/internal/encode"
	"eagerwindow/internal/harbourtest"
	"eagerwindow/internal/server"
	"eagerwindow/internal/service"
	"eagerwindow/internal/windows"
)

func TestMain(m *testing.M) { os.Exit(harbourtest.Main(m)) }

func execute(t testing.TB, dsn, sql string) {
	t.Helper()
	conn, err := pgx.Connect(context.Background(), dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	if _, err := conn.Exec(context.Background(), sql); err != nil {
		t.Fatalf("%s: %v", sql, err)
	}
}

// read answers a request and returns its rows as JSON, one on a line.
func read(t testing.TB, api *data.API, c access.Caller, path, options string) (string, error) {
	t.Helper()
	page, err := api.Read(context.Background(), c, path, options, data.Preferences{Format: encode.Format{Metadata: query.None}})
	if err != nil {
		return "", err
	}
	var rows []byte
	if page.Single {
		rows = page.AppendRow(nil)
	} else {
		for page.Next() {
			rows = append(page.AppendRow(rows), '\n')
		}
	}
	return string(rows), page.Close()
}

var operator = access.Caller{Subject: "operator", Operator: true}

// A service that starts again serves the release as it was published, whatever became of the draft and the catalog since.
func TestRestart(t *testing.T) {
	t.Parallel()
	ctx, r := context.Background(), harbourtest.Serve(t, nil, server.New)
	execute(t, r.Harbour, "alter table harbour.tug add column built int; create table harbour.buoy (id int primary key)")
	again, err := service.Start(ctx, service.Options{Records: r.Records, Secret: harbourtest.Secret, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	if err := again.Load(ctx); err != nil {
		t.Fatal(err)
	}
	live, err := again.Live(ctx, demo.Window)
	if err != nil {
		t.Fatal(err)
	}
	draft, err := again.DraftAPI(ctx, demo.Window)
	if err != nil {
		t.Fatal(err)
	}
	if live.Release != 1 || live.Model.Resource("tugs").Field("built") != nil || draft.Model.Resource("tugs").Field("built") == nil {
		t.Errorf("release %d; the new column is in live: %v, in the draft: %v", live.Release, live.Model.Resource("tugs").Field("built") != nil,
			draft.Model.Resource("tugs").Field("built") != nil)
	}
	if row, err := read(t, live, operator, "tugs/1", ""); err != nil || row != `{"id":1,"name":"Bram","bollard_pull_t":54.5}` {
		t.Errorf("read %s, %v", row, err)
	}
	if _, err := service.Start(ctx, service.Options{Records: r.Records, Secret: "another secret of some length"}); err == nil ||
		!strings.Contains(err.Error(), "sealed with another EAGER_SECRET") {
		t.Errorf("a start with another secret: %v", err)
	}
}

// Nothing in the records shows a password or a key.
func TestSealed(t *testing.T) {
	t.Parallel()
	r := harbourtest.Serve(t, nil, server.New)
	conn, err := pgx.Connect(context.Background(), r.Records)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	var text string
	if err := conn.QueryRow(context.Background(),
		`select (select string_agg(s::text, ' ') from eager_window.source s) || (select string_agg(c::text, ' ') from eager_window.client c)
		|| (select string_agg(o::text, ' ') from eager_window.operator o) || (select string_agg(k::text, ' ')
		from eager_window.signing_key k)`).Scan(&text); err != nil {
		t.Fatal(err)
	}
	for _, secret := range []string{"postgres://", demo.Password, "saltmere-agent", "706f7374677265733a2f2f" /* postgres:// in hex */} {
		if strings.Contains(text, secret) {
			t.Errorf("the records show %q", secret)
		}
	}
}

// While releases are published, every request gets an answer of one release or the other, none fails.
func TestPublishUnderLoad(t *testing.T) {
	t.Parallel()
	ctx, r := context.Background(), harbourtest.Serve(t, nil, server.New)
	var stop atomic.Bool
	var served atomic.Int64
	var wg sync.WaitGroup
	for range 4 {
		wg.Go(func() {
			for !stop.Load() {
				a := r.Send(t, "", "GET", "/api/saltmere/arrivals_board?top=2&select=id", nil)
				served.Add(1)
				if a.StatusCode != 200 {
					t.Errorf("%s %s", a.Status, a.Text)
					return
				}
			}
		})
	}
	for i, title := range []string{"First", "Second", "Third", "Fourth"} {
		if _, err := r.Service.SaveDraft(ctx, demo.Window, strings.Replace(demo.Document, "Port of Saltmere", title, 1), "a"); err != nil {
			t.Fatal(err)
		}
		if made, err := r.Service.Publish(ctx, demo.Window, windows.NewRelease{Note: "", AllowBreaking: true}, "a"); err != nil ||
			made.Number != i+2 {
			t.Errorf("release %+v, %v", made, err)
		}
	}
	stop.Store(true)
	wg.Wait()
	if served.Load() < 20 {
		t.Errorf("only %d requests came through", served.Load())
	}
}

// Values of one shape share a plan; what a value is still counts each time.
func TestSameShapeOtherValues(t *testing.T) {
	t.Parallel()
	ctx, r := context.Background(), harbourtest.Serve(t, nil, server.New)
	api, err := r.Service.Live(ctx, demo.Window)
	if err != nil {
		t.Fatal(err)
	}
	for _, tt := range []struct{ query, want string }{
		{"filter=id%20in%20(1,2)&select=id", "{\"id\":1}\n{\"id\":2}\n"},
		{"filter=id%20in%20(3,4,5)&select=id", "{\"id\":3}\n{\"id\":4}\n{\"id\":5}\n"},
		{"filter=name%20eq%20'Grey%20Petrel'&select=id&top=1", "{\"id\":3}\n"}, {"filter=name%20eq%20'it''s'&select=id&top=1", ""},
		{"filter=kind%20eq%20'tanker'%20and%20id%20lt%2012&select=id", "{\"id\":11}\n"},
		{"filter=kind%20eq%20'tankr'%20and%20id%20lt%2012&select=id", `did you mean "tanker"?`},
		{"filter=built_on%20eq%201991-03-20&select=id", "{\"id\":1}\n"}, {"filter=built_on%20eq%201991-02-30&select=id", "is no date"},
	} {
		got, err := read(t, api, operator, "vessels", tt.query)
		if err != nil {
			if _, ok := fault.From(err); !ok || !strings.Contains(err.Error(), tt.want) {
				t.Errorf("%s: %v, want %s", tt.query, err, tt.want)
			}
			continue
		}
		if got != tt.want {
			t.Errorf("%s: got %swant %s", tt.query, got, tt.want)
		}
	}
}

// A row by key takes 12 allocations from the URL to the JSON, the answer's buffer being at hand, a list 8: rows add none. Each is
// there because what it holds outlives the call that makes it:
//
//	reading the URL  5  the request, its shape as text, its literals, the segments of the path, and the key of a row
//	the arguments    1  their list, where there are any
//	the page         1
//	company          2  of a row by key: what is asked, and those who go together
//	the statement    2  the cursor, the watch over its time
//	pgconn           1  the tag that ends the statement
func BenchmarkRead(b *testing.B) {
	ctx, r := context.Background(), harbourtest.Serve(b, nil, server.New)
	api, err := r.Service.Live(ctx, demo.Window)
	if err != nil {
		b.Fatal(err)
	}
	for _, bb := range []struct{ name, path, query string }{{"row", "port_calls/17", ""}, {"20 rows", "port_calls", "top=20"},
		{"1000 rows", "port_calls", "top=1000"}} {
		b.Run(bb.name, func(b *testing.B) {
			b.ReportAllocs()
			var rows []byte
			for b.Loop() {
				page, err := api.Read(ctx, operator, bb.path, bb.query, data.Preferences{})
				if err != nil {
					b.Fatal(err)
				}
				rows = rows[:0]
				if page.Single {
					rows = page.AppendRow(rows)
				}
				for page.Next() {
					rows = page.AppendRow(rows)
				}
				if err := page.Close(); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}

// What it takes to know who calls and that there is room for one more request: about 2 µs beside the 300 that a list of 20 rows takes from
// one end to the other.
func BenchmarkAdmission(b *testing.B) {
	ctx, r := context.Background(), harbourtest.Serve(b, nil, server.New)
	api, err := r.Service.Live(ctx, demo.Window)
	if err != nil {
		b.Fatal(err)
	}
	token := r.Token(b, "agent")
	b.ReportAllocs()
	for b.Loop() {
		c, err := r.Service.Caller(ctx, api, token, func() string { return "" })
		if err != nil {
			b.Fatal(err)
		}
		leave, _, err := r.Service.Admit(api, c)
		if f, ok := fault.From(err); ok && f.Code != "limit.requests" {
			b.Fatal(err)
		}
		leave()
	}
}
