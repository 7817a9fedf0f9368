// Package harbourtest runs the Port of Saltmere for tests: a private PostgreSQL server for each test binary, with the harbour
// as a template that every test copies, and a service on loopback.
package harbourtest

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"eagerwindow/demo"
	"eagerwindow/internal/client"
	"eagerwindow/internal/identity"
	"eagerwindow/internal/localpg"
	"eagerwindow/internal/service"
)

const template = "harbour_template"

var (
	pg   *localpg.Server
	next atomic.Int64
)

// Main runs a test binary's tests with a database server beside them.
func Main(m *testing.M) int {
	forgetShell()
	ctx := context.Background()
	dir, err := os.MkdirTemp("", "eager-test-")
	if err == nil {
		err = os.Chmod(dir, 0o755)
	}
	if err == nil {
		pg, err = localpg.Start(ctx, localpg.Options{Dir: dir + "/postgres", Throwaway: true})
	}
	if err == nil {
		defer func() {
			_ = pg.Remove()
			_ = os.RemoveAll(dir)
		}()
		if _, err = pg.CreateDatabase(ctx, template, ""); err == nil {
			err = demo.Load(ctx, pg.DSN(template))
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "harbourtest:", err)
		return 1
	}
	return m.Run()
}

// forgetShell drops what the shell says of another service, as one does in which the demo's demo.env was read.
func forgetShell() {
	for _, line := range os.Environ() {
		if name, _, _ := strings.Cut(line, "="); strings.HasPrefix(name, "EAGER_") || name == "JWKS_URL" {
			_ = os.Unsetenv(name)
		}
	}
}

// Need skips a test where something is missing that a bare checkout lacks, and fails it where everything has to be tested, as with
// make test.
func Need(t testing.TB, is bool, what string) {
	t.Helper()
	switch {
	case is:
	case os.Getenv("TEST_ALL") != "":
		t.Fatal(what)
	default:
		t.Skip(what)
	}
}

// Database makes a database for one test and returns its DSN: a copy of the harbour, or an empty one.
func Database(t testing.TB, harbour bool) string {
	t.Helper()
	name, from := fmt.Sprintf("test_%d", next.Add(1)), ""
	if harbour {
		from = template
	}
	if _, err := pg.CreateDatabase(context.Background(), name, from); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := pg.DropDatabase(context.Background(), name); err != nil {
			t.Error(err)
		}
	})
	return pg.DSN(name)
}

// Running is a service that answers on loopback, with the harbour published in it.
type Running struct {
	URL      string
	Harbour  string         // DSN of the harbour
	Records  string         // DSN of the records
	Operator *client.Client // signed in
	Service  *service.Service

	callers *callers
}

// Secret seals the records of tests.
const Secret = "a secret for tests alone"

// Serve starts a service over a copy of the harbour. handler makes its HTTP side.
func Serve(t testing.TB, console fs.FS, handler func(*service.Service, service.Front) http.Handler) *Running {
	t.Helper()
	r := &Running{Harbour: Database(t, true), Records: Database(t, false)}
	r.serve(t, console, handler, func(ctx context.Context, s *service.Service) error { return demo.Publish(ctx, s, r.Harbour) })
	return r
}

// Another is one more instance of the service over the same records.
func (r *Running) Another(t testing.TB, handler func(*service.Service, service.Front) http.Handler) *Running {
	t.Helper()
	other := &Running{Harbour: r.Harbour, Records: r.Records}
	other.serve(t, nil, handler, func(context.Context, *service.Service) error { return nil })
	return other
}

// callers is what is known of those who call a service.
type callers struct {
	roles   sync.Map    // of the tokens that Token gave out
	changed atomic.Bool // an operator has done something
}

func (r *Running) serve(t testing.TB, console fs.FS, handler func(*service.Service, service.Front) http.Handler,
	prepare func(context.Context, *service.Service) error) {
	t.Helper()
	r.callers = &callers{}
	ctx := context.Background()
	log := slog.New(slog.NewTextHandler(logTo{t}, &slog.HandlerOptions{Level: slog.LevelWarn}))
	s, err := service.Start(ctx, service.Options{Records: r.Records, Secret: Secret, Log: log,
		Hashing: identity.Hashing{Memory: 64, Passes: 1}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	if err := prepare(ctx, s); err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	server := &http.Server{Handler: r.witnessed(t, handler(s, service.Front{Console: console, Log: log}))}
	go server.Serve(l)
	t.Cleanup(func() { _ = server.Close() })
	token, err := s.SignIn(ctx, demo.Operator, demo.Password, "")
	if err != nil {
		t.Fatal(err)
	}
	r.URL, r.Service = "http://"+l.Addr().String(), s
	r.Operator = &client.Client{URL: r.URL, Token: token}
}

// Token is an access token of one of the demo's clients, by role.
func (r *Running) Token(t testing.TB, role string) string {
	t.Helper()
	for _, c := range demo.Clients {
		if c.Role == role {
			token, err := (&client.Client{URL: r.URL}).ClientToken(context.Background(), demo.Window, c.ID, c.Secret)
			if err != nil {
				t.Fatal(err)
			}
			r.callers.roles.Store(token, role)
			return token
		}
	}
	t.Fatalf("the demo has no client of role %q", role)
	return ""
}

// Answer is an answer whose body has been read. Text is the body without the versions of its rows, which are others in each run; Raw has
// them too.
type Answer struct {
	*http.Response
	Text, Raw string
}

var versions = regexp.MustCompile(`"@(odata\.)?etag":"W/\\"\d+\\"",?`)

// Send sends a request with a token ("" for none) and reads the answer.
func (r *Running) Send(t testing.TB, token, method, path string, body io.Reader) Answer {
	t.Helper()
	res, err := (&client.Client{URL: r.URL, Token: token}).Send(context.Background(), client.Request{Method: method, Path: path, Body: body})
	if err != nil {
		t.Fatal(err)
	}
	return Read(t, res)
}

// Read reads an answer.
func Read(t testing.TB, res *http.Response) Answer {
	t.Helper()
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	if err != nil {
		t.Fatal(err)
	}
	return Answer{res, Unversioned(string(text)), string(text)}
}

// Unversioned is a text of rows without their versions.
func Unversioned(text string) string {
	return strings.ReplaceAll(versions.ReplaceAllString(text, ""), ",}", "}")
}

// logTo writes the service's log into the test's, where it shows if the test fails.
type logTo struct{ t testing.TB }

func (l logTo) Write(p []byte) (int, error) {
	l.t.Helper()
	l.t.Logf("%s", p)
	return len(p), nil
}
