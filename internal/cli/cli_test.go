package cli_test

import (
	"bufio"
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"eagerwindow/internal/cli"
	"eagerwindow/internal/harbourtest"
	"eagerwindow/internal/server"
)

func TestMain(m *testing.M) {
	if os.Getenv("CLI_TEST_RUN") != "" { // this binary stands in for eager where a test needs a process of its own
		os.Exit(cli.Run(os.Args[1:], cli.Surroundings{In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Handler: server.New,
			Metrics: server.Metrics, HTTP: server.HTTP}))
	}
	os.Exit(harbourtest.Main(m))
}

// run runs one command in this process.
func run(in string, args ...string) (out string, status int) {
	var b bytes.Buffer
	status = cli.Run(args, cli.Surroundings{In: strings.NewReader(in), Out: &b, Err: &b, Handler: server.New, Metrics: server.Metrics,
		HTTP: server.HTTP})
	return b.String(), status
}

// service points the commands at a service over a harbour.
func service(t *testing.T) *harbourtest.Running {
	r := harbourtest.Serve(t, nil, server.New)
	t.Setenv("EAGER_URL", r.URL)
	t.Setenv("EAGER_TOKEN", r.Operator.Token)
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	t.Chdir(t.TempDir())
	return r
}

func TestCommands(t *testing.T) {
	r := service(t)
	file := filepath.Join(t.TempDir(), "body.json")
	if err := os.WriteFile(file, []byte(`{"name":"Petra","bollard_pull_t":41.5}`), 0o600); err != nil {
		t.Fatal(err)
	}
	token := filepath.Join(t.TempDir(), "token")
	if err := os.WriteFile(token, []byte(r.Token(t, "agent")+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	tests := []struct {
		args   []string
		status int
		want   string
	}{
		{[]string{"version"}, 0, "eager 0.1.0"},
		{[]string{"look", "saltmere"}, 0, "harbour.tide_reading     table                 250000        3  station, read_at"},
		{[]string{"look", "saltmere", "-o", "json"}, 0, `"schema": "harbour"`},
		{[]string{"look", "saltmere", "-o", "xml"}, 2, `-o is table, json or yaml, not "xml"`},
		{[]string{"look", "nowhere"}, 3, `there is no source "nowhere"`},
		{[]string{"look"}, 2, "SOURCE is missing; write: eager look SOURCE"},
		{[]string{"look", "a", "b", "c"}, 2, `unexpected argument "b"`},
		{[]string{"look", "saltmere", "port_calls"}, 0, "harbour.port_call, a table, about 12000 rows, shown as port_calls"},
		{[]string{"look", "saltmere", "port_cal"}, 3, `did you mean "port_calls"?`},
		{[]string{"look", "saltmre", "tugs"}, 3, `did you mean "saltmere"?`},
		{[]string{"ask", "saltmere", "/vessels/3?select=name,flag&expand=agent(select=name)"}, 0, "name   Grey Petrel\nflag   NO\nagent  "},
		{[]string{"ask", "saltmere", "/vessels?top=2&select=id,name&orderby=id&count=true"}, 0,
			"id  name\n1   Saint Orla\n2   Quiet Skerry\n\n2 rows of 400\n"},
		{[]string{"ask", "saltmere", "vessels?top=2&select=id", "-o", "yaml"}, 0, "value:\n"},
		{[]string{"ask", "saltmere", "/vessels?count=true&top=0", "--as", "agent", "--claim", "agent_id=3"}, 0, "0 rows of 10"},
		{[]string{"ask", "saltmere", "/vessels", "--as", "agent"}, 3, `403 Forbidden: the caller has no claim "agent_id"`},
		{[]string{"ask", "saltmere", "/vessels?filter=nam eq 'x'"}, 3,
			`400 Bad Request: unknown field "nam" in filter at 1; resource "vessels" has "name"`},
		{[]string{"ask", "saltmere", "/arrivals_board", "--live"}, 0, "more at /api/saltmere/arrivals_board?skiptoken="},
		{[]string{"ask", "saltmere", "/vessels?select=id&top=1", "--live", "--token-file", token}, 0, "1 row"},
		{[]string{"ask", "saltmere", "/vessels", "--live", "--as", "agent"}, 3, `has no claim "agent_id"`},
		{[]string{"ask", "--for-real", "saltmere", "/tugs", "--body", "@" + file}, 0, "name            Petra"},
		{[]string{"ask", "--for-real", "saltmere", "/tugs/10", "--method", "delete"}, 0, "204 No Content"},
		{[]string{"access", "show", "saltmere"}, 0, "port_calls       ····   ◐◐◐·   ·◐··   ●●●·    ●●●●"},
		{[]string{"access", "show", "saltmere", "-o", "json"}, 0, `"harbour_master"`},
		{[]string{"access", "show", "nowhere"}, 3, `there is no window "nowhere"`},
		{[]string{"access", "why", "saltmere", "--as", "agent", "--claim", "agent_id=3", "update", "port_calls", "17"}, 1,
			"  change  in roles.agent.may.port_calls.update, leave rows out"},
		{[]string{"access", "why", "saltmere", "--as", "agent", "--claim", "agent_id=3", "--field", "remarks", "read", "port_calls"}, 1,
			"agent may read port_calls, but not its field remarks.\n"},
		{[]string{"access", "why", "saltmere", "--as", "agent", "--claim", "agent_id=3", "--field", "status", "create", "port_calls"}, 1,
			"agent can't send status: the service sets it.\n"},
		{[]string{"access", "why", "saltmere", "--as", "agent", "--claim", "agent_id=3", "update", "port_calls", "999999"}, 1,
			"There is no row port_calls/999999.\n"},
		{[]string{"access", "why", "saltmere", "--as", "agent", "update", "port_calls"}, 3, `the caller has no claim "agent_id"`},
		{[]string{"access", "why", "saltmere", "--as", "board", "read", "vessels"}, 1,
			"board may not read vessels: nothing grants it.\n  change  add read to roles.board.may.vessels"},
		{[]string{"access", "why", "saltmere", "--as", "office", "delete", "berth_occupancy"}, 1,
			"Nobody may delete berth_occupancy: berth_occupancy is a view, and offers less."},
		{[]string{"access", "why", "saltmere", "--as", "harbour_master", "create", "tugs"}, 0, "harbour_master may create tugs.\n"},
		{[]string{"access", "why", "saltmere", "--as", "harbour_master", "--field", "id", "create", "tugs"}, 1,
			"Nobody may send id: the database fills it."},
		{[]string{"access", "why", "saltmere", "--as", "harbourmaster", "create", "tugs"}, 3, `did you mean "harbour_master"?`},
		{[]string{"access", "why", "saltmere", "--as", "office", "drop", "tugs"}, 3, `there is no operation "drop"`},
		{[]string{"access", "why", "saltmere", "--as", "office", "read", "tug"}, 3, `did you mean "tugs"?`},
		{[]string{"access", "why", "saltmere", "read", "tugs"}, 2, "--as is missing"},
		{[]string{"access", "why", "saltmere", "--as", "office", "read"}, 2, "RESOURCE is missing"},
		{[]string{"describe", "saltmere", "--as", "agent", "-o", "yaml"}, 0, "openapi: 3.1.1"},
		{[]string{"describe", "saltmere", "--as", "agnt"}, 3, `did you mean "agent"?`},
		{[]string{"describe", "saltmere", "--draft"}, 0, `"version": "1.1.0"`},
		{[]string{"windows"}, 0, "saltmere  release 1, just now  version 2, by keeper@saltmere.example  as published  "},
		{[]string{"windows", "-o", "json"}, 0, `"live_release": 1`},
		{[]string{"status"}, 0, "SOURCE    DATABASE"},
		{[]string{"draft", "show", "saltmere", "--version", "1"}, 0, "window: saltmere\n"},
		{[]string{"draft", "show", "saltmere", "--version", "7"}, 3, "no version 7 that is kept"},
		{[]string{"draft", "show", "saltmre"}, 3, `did you mean "saltmere"?`},
		{[]string{"draft", "diff", "saltmere"}, 0, "compatible  pilot may read inspections"},
		{[]string{"draft", "diff", "saltmere", "--text"}, 0, "--- release 1\n+++ draft\n"},
		{[]string{"draft", "diff", "saltmere", "-o", "json"}, 0, `"effect": "compatible"`},
		{[]string{"draft", "log", "saltmere"}, 0, "      2  "},
		{[]string{"diff", "saltmere", "1", "1"}, 0, "Release 1 of saltmere is the same as release 1."},
		{[]string{"diff", "saltmere", "1", "x"}, 3, `"x" is neither "draft" nor the number of a release`},
		{[]string{"restore", "saltmere", "x"}, 2, `a release is a number such as 3, not "x"`},
		{[]string{"restore", "saltmere", "1"}, 3, "is the same as release 1, which is live"},
		{[]string{"publish", "saltmere", "--note", "x"}, 0, "Release 2 of saltmere is live at"},
		{[]string{"restore", "saltmere", "1"}, 3, "publish with --allow-breaking"},
		{[]string{"restore", "saltmere", "1", "-o", "json"}, 3, `"code": "release.breaks"`},
		{[]string{"releases", "saltmere"}, 0, "2 live   "},
		{[]string{"releases", "saltmere", "-o", "yaml"}, 0, "note: x"},
		{[]string{"releases", "saltmere", "2"}, 0, "compatible  pilot may read inspections"},
		{[]string{"releases", "saltmere", "9"}, 3, "has no release 9"},
		{[]string{"describe", "saltmere", "--release", "1"}, 0, `"version": "1.0.0"`},
		{[]string{"describe", "saltmere", "--release", "1", "-o", "yaml"}, 0, "openapi: 3.1.1"},
		{[]string{"describe", "saltmere", "--release", "1", "--draft"}, 2, "release"},
		{[]string{"doctor", "saltmere"}, 1, "harbour.weather_log has no key"},
		{[]string{"doctor"}, 1, "saltmere: 2 findings"},
		{[]string{"source", "list"}, 0, "answers"},
		{[]string{"source", "set", "saltmere", "nothing"}, 3, "this is no DSN"},
		{[]string{"source", "remove", "saltmere"}, 3, `source "saltmere" is used by saltmere`},
		{[]string{"operator", "add", "ada@saltmere.example"}, 0, "ada@saltmere.example may sign in. The password, told this once:"},
		{[]string{"operator", "disable", "ada@saltmere.example"}, 0, "may not sign in any more"},
		{[]string{"operator", "list"}, 0, "ada@saltmere.example     disabled"},
		{[]string{"operator", "password", "ada@saltmere.example"}, 2, "the password is missing"},
		{[]string{"operator", "remove", "ada@saltmere.example"}, 0, "is removed and signed out"},
		{[]string{"operator", "remove", "keeper@saltmere.example"}, 3, "the last operator who can sign in"},
		{[]string{"client", "set", "saltmere", "pilot-demo", "--new-secret"}, 0, "has another secret, told this once"},
		{[]string{"client", "set", "saltmere", "pilot-demo", "--disabled"}, 0, "Changed."},
		{[]string{"client", "list", "saltmere"}, 0, "pilot-demo (disabled)"},
		{[]string{"client", "set", "saltmere", "pilot-demo"}, 2, "nothing is to be changed"},
		{[]string{"audit", "--target", "saltmere", "--limit", "1"}, 0, "change client  saltmere/client/pilot-demo  disabled true"},
		{[]string{"audit", "--limit", "0"}, 3, "limit is a number from 1 to 1000"},
		{[]string{"audit", "verify"}, 0, "all as they were written"},
		{[]string{"audit", "verify", "--seal", "ab"}, 1, "some were removed from the end"},
		{[]string{"close", "saltmre", "--yes"}, 3, `did you mean "saltmere"?`},
		{[]string{"close", "saltmere"}, 2, "nothing is closed"},
		{[]string{"publish", "saltmere"}, 3, "there is nothing to publish"},
		{[]string{"client", "add", "saltmere", "board-2", "--role", "agent"}, 3, `role "agent" needs the claim "agent_id" (integer)`},
		{[]string{"client", "add", "saltmere", "timetable", "--role", "agent", "--claim", "agent_id=3"}, 0, "Client timetable may act as agent."},
		{[]string{"ask", "--for-real", "saltmere", "/tugs?select=name,bollard_pull_t", "--set", "name=Ada 2", "--set", "bollard_pull_t=12.5",
			"-o", "json"}, 0,
			`"name":"Ada 2","bollard_pull_t":12.5}`},
		{[]string{"ask", "--for-real", "saltmere", "/tugs", "--set", "name=Zed", "--set", "bollard_pull_t=1", "-o", "xml"}, 2,
			`-o is table, json or yaml, not "xml"`},
		{[]string{"ask", "saltmere", "/tugs/$count?filter=name eq 'Zed'"}, 0, "0"}, // nothing was sent
		{[]string{"ask", "--for-real", "saltmere", "/tugs", "--method", "POST"}, 3, "400 Bad Request: the body is empty"},
		{[]string{"ask", "--for-real", "saltmere", "/tugs/1/$ref", "--method", "PUT"}, 3, "400 Bad Request: a link is written along a relation"},
		{[]string{"ask", "--for-real", "saltmere", "/port_calls/1/tugs/$ref", "--method", "POST"}, 3,
			`400 Bad Request: the body is empty; send {"@id":"…"}`},
		{[]string{"ask", "--for-real", "saltmere", "/tugs", "--method", "PATCH"}, 3, "400 Bad Request: the body is empty"},
		{[]string{"ask", "--for-real", "saltmere", "/$batch", "--method", "POST"}, 3, "400 Bad Request: the body is empty; send {\"requests\":"},
		{[]string{"ask", "--for-real", "saltmere", "/tugs", "--body", "@/nowhere/at/all"}, 2, "no such file"},
		{[]string{"ask", "saltmere", "/tugs", "--live", "--token-file", "/nowhere/at/all"}, 2, "no such file"},
		{[]string{"ask", "--for-real", "saltmere", "/tugs", "--method", "FLY"}, 3, "405 Method Not Allowed: FLY is not possible here"},
		{[]string{"ask", "--for-real", "saltmere", "/tugs", "--set", "name"}, 2, `--set takes name=value, not "name"`},
		{[]string{"ask", "--for-real", "saltmere", "/tugs", "--set", "name=x", "--body", "{}"}, 2, "keep one"},
		{[]string{"ask", "saltmere", "/tugs?top=1&select=name&format=csv"}, 0, "name\r\nBram\r\n"},
		{[]string{"ask", "saltmere", "/cargo_items?filter=hs_code eq '270900'", "--plan"}, 0, "and none is wanted; an index on (hs_code)"},
		{[]string{"ask", "saltmere", "/port_calls/$filter(status eq 'cancelled')/$each", "--method", "DELETE", "--plan"}, 0,
			"445 rows would be deleted; nothing was."},
		{[]string{"ask", "saltmere", "/port_calls/17", "--method", "DELETE", "--plan"}, 3, "nothing was written"},
		{[]string{"ask", "saltmere", "/tugs", "--plan", "--live"}, 2, "--plan works on the draft"},
		{[]string{"draft", "schema"}, 0, `"title": "Window document"`},
		{[]string{"draft", "push", "nowhere.yaml"}, 2, "no such file"},
		{[]string{"frobnicate"}, 2, "unknown command"},
		{[]string{"draft", "pusch"}, 2, `unknown command "pusch" of "eager draft"; did you mean "push"?`},
		{[]string{"audit", "verfy"}, 2, `did you mean "verify"?`},
		{[]string{"--version"}, 0, "eager 0.1.0"},
		{[]string{"draft", "push", "--help"}, 0, "Exit status: 0 done, 1 a check"},
		{[]string{"ask", "--wrong"}, 2, `unknown flag: --wrong; see "eager ask --help"`},
		{[]string{"completion", "bash"}, 0, "bash completion"},
		{[]string{"--url", "http://127.0.0.1:1", "look", "x"}, 4, "no service answers at http://127.0.0.1:1"},
	}
	for _, tt := range tests {
		t.Run(strings.Join(tt.args, " ")[:min(50, len(strings.Join(tt.args, " ")))], func(t *testing.T) {
			out, status := run("", tt.args...)
			if status != tt.status || !strings.Contains(out, tt.want) {
				t.Errorf("status %d, want %d\n%.600s\nwant %s", status, tt.status, out, tt.want)
			}
		})
	}
	if out, status := run("open-the-window\n", "login", "--email", "keeper@saltmere.example"); status != 0 ||
		!strings.Contains(out, "Signed in at") {
		t.Errorf("login: %d %s", status, out)
	}
	t.Setenv("EAGER_TOKEN", "")
	if out, status := run("", "look", "saltmere"); status != 0 {
		t.Errorf("after login: %d %s", status, out)
	}
}

// A database of somebody's own: opened, cut down, pushed, published, asked.
func TestOwnDatabase(t *testing.T) {
	r := service(t)
	dsn := library(t)
	step := func(want string, args ...string) {
		t.Helper()
		if out, status := run("", args...); status != 0 || !strings.Contains(out, want) {
			t.Fatalf("%v: %d\n%s\nwant %s", args, status, out, want)
		}
	}
	step("Window library is open as a draft; its document is library.window.yaml.", "open", dsn, "--name", "library")
	if out, status := run("", "open", dsn, "--name", "library"); status != 2 || !strings.Contains(out, "is there already") {
		t.Errorf("opening twice: %d %s", status, out)
	}
	step("Tides", "ask", "library", "/book?expand=shelf(select=label)", "--as", "reader")
	document, err := os.ReadFile("library.window.yaml")
	if err != nil {
		t.Fatal(err)
	}
	changed := strings.Replace(string(document), "    may: {\"*\": read}", "    anonymous: true\n    may: {book: read}", 1)
	if err := os.WriteFile("library.window.yaml", []byte(changed), 0o600); err != nil {
		t.Fatal(err)
	}
	step("Draft of library saved", "draft", "push", "library.window.yaml")
	step("Release 1 of library is live", "publish", "library")
	if a := r.Send(t, "", "GET", "/api/library/book?filter=shelf_id eq 1", nil); a.StatusCode != 200 || !strings.Contains(a.Text, "Tides") {
		t.Errorf("the live API: %s %s", a.Status, a.Text)
	}
	if a := r.Send(t, "", "GET", "/api/library/shelf", nil); a.StatusCode != 401 {
		t.Errorf("what is not granted: %s %s", a.Status, a.Text)
	}
}

// The demo as a process: it starts, says where it is, refuses a second one in its home, ends on a signal, and starts again.
func TestDemo(t *testing.T) {
	home, err := os.MkdirTemp("", "eager-home-")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(home)
	if err := os.Chmod(home, 0o755); err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	address := l.Addr().String()
	l.Close()
	for round, want := range []string{"Filling the harbour", "The Port of Saltmere is open"} {
		cmd := exec.Command(os.Args[0], "demo", "--home", home, "--listen", address)
		cmd.Env = append(os.Environ(), "CLI_TEST_RUN=1")
		out, err := cmd.StdoutPipe()
		if err != nil {
			t.Fatal(err)
		}
		cmd.Stderr = os.Stderr
		start := time.Now()
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		said := ""
		for lines := bufio.NewScanner(out); lines.Scan() && !strings.Contains(lines.Text(), "Ctrl-C"); {
			said += lines.Text() + "\n"
		}
		go io.Copy(io.Discard, out)
		t.Logf("start %d took %s", round+1, time.Since(start))
		if !strings.Contains(said, want) {
			t.Errorf("start %d says\n%s", round+1, said)
		}
		env, err := os.ReadFile(filepath.Join(home, "demo.env"))
		if err != nil {
			t.Fatal(err)
		}
		for _, name := range []string{"EAGER_URL='http://" + address, "EAGER_TOKEN='operator-", "EAGER_DEMO_DSN='postgres://",
			"EAGER_RECORDS='postgres://", "EAGER_SECRET='"} {
			if !strings.Contains(string(env), name) {
				t.Errorf("demo.env lacks %s", name)
			}
		}
		if out, status := run("", "demo", "--home", home, "--listen", "127.0.0.1:0"); status != 2 ||
			!strings.Contains(out, "another eager runs with the home") {
			t.Errorf("a second demo: %d %s", status, out)
		}
		if out, status := run("", "demo", "--home", home, "--listen", address); status != 2 ||
			!strings.Contains(out, "address already in use; choose another address with --listen") {
			t.Errorf("an address in use: %d %s", status, out)
		}
		if err := cmd.Process.Signal(syscall.SIGTERM); err != nil {
			t.Fatal(err)
		}
		if err := cmd.Wait(); err != nil {
			t.Errorf("on SIGTERM: %v", err)
		}
	}
}

// A service over records of its own: the first operator comes from the environment, settings from a file.
func TestServe(t *testing.T) {
	config := filepath.Join(t.TempDir(), "eager.yaml")
	if err := os.WriteFile(config, []byte("listen: 127.0.0.1:0\nrecords: "+harbourtest.Database(t, false)+"\nsecret: 0123456789abcdef0123\n"),
		0o600); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(os.Args[0], "serve", "--config", config)
	cmd.Env = append(os.Environ(), "CLI_TEST_RUN=1", "EAGER_OPERATOR_EMAIL=me@saltmere.example", "EAGER_OPERATOR_PASSWORD=a long password")
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	var url string
	if _, err := fmt.Fscanf(out, "Eager Window serves at %s\n", &url); err != nil {
		t.Fatal(err)
	}
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	if out, status := run("a long password\n", "login", "--email", "me@saltmere.example", "--url", url); status != 0 {
		t.Errorf("login: %d %s", status, out)
	}
	if out, status := run("wrong\n", "login", "--email", "me@saltmere.example", "--url", url); status != 3 {
		t.Errorf("login with a wrong password: %d %s", status, out)
	}
	if err := cmd.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	if err := cmd.Wait(); err != nil {
		t.Errorf("on SIGTERM: %v", err)
	}
	for _, tt := range []struct{ env, want string }{{"EAGER_SECRET=short", "EAGER_SECRET is missing or too short"},
		{"EAGER_LOG_LEVEL=loud", `log-level is debug, info, warn or error, not "loud"`}} {
		cmd := exec.Command(os.Args[0], "serve", "--config", config)
		cmd.Env = append(os.Environ(), "CLI_TEST_RUN=1", tt.env)
		if text, err := cmd.CombinedOutput(); err == nil || !strings.Contains(string(text), tt.want) {
			t.Errorf("%s: %v %s", tt.env, err, text)
		}
	}
}

// Settings that can't be meant are refused with their place, before anything is opened.
func TestSettings(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for i, tt := range []struct{ file, args, want string }{
		{"listen: [1]\n", "", "line 1, column 9: listen is one text; write listen: 127.0.0.1:8080"},
		{"home: /tmp\nlisen: 127.0.0.1:0\n", "", `line 2, column 1: there is no setting "lisen"; did you mean "listen"?`},
		{"listen: 127.0.0.1:0\nlisten: 127.0.0.1:1\n", "", "line 2, column 1: listen stands twice"},
		{"listen:\n", "", "line 1, column 8: listen is one text"}, {"- listen\n", "", "settings are lines such as"}, {"listen: \"", "", "yaml"},
		{"listen: 8080\n", "", `listen is an address and a port, such as 127.0.0.1:8080, not "8080"`},
		{"", "--metrics-listen 9090", "metrics-listen is an address and a port"},
		{"", "--public-url api.saltmere.example", "public-url is a scheme and a host, such as https://api.saltmere.example"},
		{"", "--public-url https://api.saltmere.example/port", "public-url is a scheme and a host"},
		{"", "--trusted-proxies 10.0.0.0/8,localhost", `"localhost" is none`},
		{"", "--tls-cert cert.pem", "tls-cert and tls-key go together"}, {"", "--tls-cert no.pem --tls-key no.pem", "read the TLS certificate"},
	} {
		path := filepath.Join(dir, fmt.Sprintf("%d.yaml", i))
		if err := os.WriteFile(path, []byte(tt.file), 0o600); err != nil {
			t.Fatal(err)
		}
		out, status := run("", append([]string{"serve", "--home", dir, "--config", path}, strings.Fields(tt.args)...)...)
		if status != 2 || !strings.Contains(out, tt.want) {
			t.Errorf("%q %s: %d %s, want %s", tt.file, tt.args, status, out, tt.want)
		}
	}
}

// A service with TLS takes up another certificate when its files change, and serves its metrics at an address of their own.
func TestServeTLS(t *testing.T) {
	dir := t.TempDir()
	cert, key := filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	certify := func(serial int64) {
		public, private, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		template := &x509.Certificate{SerialNumber: big.NewInt(serial), NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127,
			0, 0, 1)}}
		made, err := x509.CreateCertificate(rand.Reader, template, template, public, private)
		if err != nil {
			t.Fatal(err)
		}
		der, err := x509.MarshalPKCS8PrivateKey(private)
		if err != nil {
			t.Fatal(err)
		}
		for path, block := range map[string]*pem.Block{cert: {Type: "CERTIFICATE", Bytes: made}, key: {Type: "PRIVATE KEY", Bytes: der}} {
			if err := os.WriteFile(path, pem.EncodeToMemory(block), 0o600); err != nil {
				t.Fatal(err)
			}
		}
	}
	certify(1)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	metrics := l.Addr().String()
	l.Close()
	cmd := exec.Command(os.Args[0], "serve", "--listen", "127.0.0.1:0", "--tls-cert", cert, "--tls-key", key, "--metrics-listen", metrics)
	cmd.Env = append(os.Environ(), "CLI_TEST_RUN=1", "EAGER_RECORDS="+harbourtest.Database(t, false), "EAGER_SECRET=0123456789abcdef0123",
		"EAGER_OPERATOR_EMAIL=me@saltmere.example", "EAGER_OPERATOR_PASSWORD=a long password")
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		_ = cmd.Wait()
	}()
	var url string
	if _, err := fmt.Fscanf(out, "Eager Window serves at %s\n", &url); err != nil || !strings.HasPrefix(url, "https://") {
		t.Fatal(url, err)
	}
	serial := func() int64 {
		conn, err := tls.Dial("tcp", strings.TrimPrefix(url, "https://"), &tls.Config{InsecureSkipVerify: true})
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		return conn.ConnectionState().PeerCertificates[0].SerialNumber.Int64()
	}
	if n := serial(); n != 1 {
		t.Errorf("the certificate is number %d", n)
	}
	certify(2)
	later := time.Now().Add(time.Minute)
	for _, path := range []string{cert, key} {
		if err := os.Chtimes(path, later, later); err != nil {
			t.Fatal(err)
		}
	}
	if n := serial(); n != 2 {
		t.Errorf("after another one was put there, the certificate is number %d", n)
	}
	res, err := http.Get("http://" + metrics + "/metrics")
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	text, _ := io.ReadAll(res.Body)
	if res.StatusCode != 200 || !strings.Contains(string(text), "go_goroutines") {
		t.Errorf("the metrics: %s %.200s", res.Status, text)
	}
}

// Files and the draft are two equal homes of a document: what others have changed comes into the file, and a new window is announced.
func TestPullAndPush(t *testing.T) {
	r := service(t)
	step := func(in string, status int, want string, args ...string) {
		t.Helper()
		out, got := run(in, args...)
		if got != status || !strings.Contains(out, want) {
			t.Fatalf("eager %s: status %d, want %d\n%s\nwant %s", strings.Join(args, " "), got, status, out, want)
		}
	}
	const file = "saltmere.window.yaml"
	edit := func(old, new string) {
		t.Helper()
		text, err := os.ReadFile(file)
		if err != nil || !strings.Contains(string(text), old) {
			t.Fatalf("%v: the file lacks %q", err, old)
		}
		if err := os.WriteFile(file, []byte(strings.Replace(string(text), old, new, 1)), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	step("", 0, "is version 2 of the draft of saltmere", "draft", "pull", "saltmere")
	step("", 0, "is version 2", "draft", "pull", "saltmere")
	edit("title: Port of Saltmere", "title: Saltmere")
	step("", 2, "differs from the draft", "draft", "pull", "saltmere")
	step("", 1, "title has another text", "draft", "check", file)
	// Somebody else edits meanwhile, in the console.
	draft, err := r.Operator.Draft(t.Context(), "saltmere")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.Service.SaveDraft(t.Context(), "saltmere", strings.Replace(draft.Document, "about: All of it.", "about: All.", 1),
		"ada"); err != nil {
		t.Fatal(err)
	}
	step("", 0, "edits of others were kept, and written into the file", "draft", "push", file)
	if text, _ := os.ReadFile(file); !strings.Contains(string(text), "about: All.") || !strings.Contains(string(text), "title: Saltmere") {
		t.Errorf("the file is\n%s", text)
	}
	if _, err := r.Service.SaveDraft(t.Context(), "saltmere", strings.Replace(draft.Document, "title: Port of Saltmere", "title: The port",
		1), "ada"); err != nil {
		t.Fatal(err)
	}
	edit("title: Saltmere", "title: Harbour")
	step("", 3, "the draft:\n    title: The port", "draft", "push", file)
	step("", 0, "saved as version 6", "draft", "push", file, "--replace")
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	step(string(text), 0, "saved as version 6", "draft", "push", "-")
	step("window: saltmer\nsource: saltmere\n", 2, `did you mean "saltmere"? If a new one is meant, push with --new`, "draft", "push", "-")
	step("window: saltmer\nsource: saltmere\n", 0, "saltmer is a new window.", "draft", "push", "-", "--new")
	step("window: quay\nsource: saltmere\n", 0, "quay is a new window.", "draft", "push", "-")
	step("window: quay\nsource: nowhere\n", 3, "line 2, column 9: there is no source", "draft", "check", "-")
	step("window: quay\nsource: saltmere\ntitle: x\n", 0, "Nothing of quay is published yet", "draft", "check", "-")
	step("", 0, "The draft of saltmere is release 1 again.", "draft", "discard", "saltmere")
	step("quay\n", 0, "quay is closed; with it went 0 releases, 0 clients and 0 accounts.", "close", "quay")
	step("", 0, "saltmer is closed", "close", "saltmer", "--yes")
	step(r.Harbour, 0, "Source copy is 127.0.0.1:", "source", "add", "copy", "-")
	step("a longer password\n", 0, "has another password", "operator", "password", "keeper@saltmere.example")
}
