package server_test

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"eagerwindow/internal/server"
	"eagerwindow/internal/service"

	"github.com/jackc/pgx/v5"
)

// What one hostile request may take at most. The bounds are wide, as the machine may be busy; what grew exponentially passed them at a
// fraction of the sizes below.
const (
	hostileTime    = 10 * time.Second
	hostileAnswer  = 80 << 20
	hostileBackend = 300 << 20  // memory of one process of the database
	hostileHeap    = 1500 << 20 // of the service, and of the tests beside this one
)

// repeated joins n texts, which may hold their number.
func repeated(n int, between, format string) string {
	parts := make([]string, n)
	for i := range parts {
		parts[i] = strings.ReplaceAll(format, "#", strconv.Itoa(i))
	}
	return strings.Join(parts, between)
}

// wrapped puts a text into an expression n times, where it stands for _.
func wrapped(n int, text, in string) string {
	for range n {
		text = strings.ReplaceAll(in, "_", text)
		if len(text) > 16<<10 {
			break
		}
	}
	return text
}

type hostile struct{ name, method, path, body string }

// hostileRequests are one request of each family, of a size.
func hostileRequests(n int) []hostile {
	read := func(name, resource string, options ...string) hostile {
		values := make([]string, 0, len(options)/2)
		for i := 0; i+1 < len(options); i += 2 {
			values = append(values, options[i]+"="+strings.ReplaceAll(url.QueryEscape(options[i+1]), "+", "%20"))
		}
		return hostile{name, "GET", "/" + resource + "?" + strings.Join(values, "&"), ""}
	}
	chain := "length(status) as x0" + strings.ReplaceAll(repeated(n, "", ",x# add x# as y#"), ",x0 add x0 as y0", "")
	for i := n - 1; i > 0; i-- { // x1 is made of x0, x2 of x1 …
		chain = strings.Replace(chain, fmt.Sprintf("x%d add x%d as y%d", i, i, i), fmt.Sprintf("x%d add x%d as x%d", i-1, i-1, i), 1)
	}
	group := "concat(groupby((status),aggregate(n with sum as n)),groupby((status),aggregate(n with max as n)))"
	doubled := "compute(concat(name,name) as a0)/groupby((a0))"
	for i := 1; i < n; i++ {
		doubled += fmt.Sprintf("/compute(concat(a%d,a%d) as a%d)/groupby((a%d))", i-1, i-1, i, i)
	}
	aliases := "filter=" + url.QueryEscape("@a0 eq 1")
	for i := range min(n, 7) {
		aliases += fmt.Sprintf("&@a%d=%s", i, strings.ReplaceAll(url.QueryEscape(strings.TrimSuffix(strings.Repeat(fmt.Sprintf("@a%d add ",
			i+1), 40),
			" add ")), "+", "%20"))
	}
	return []hostile{
		read("computed from computed", "port_calls", "top", "2", "compute", chain),
		read("sorted by computed", "port_calls", "top", "2", "select", "id", "compute", chain, "orderby", fmt.Sprintf("x%d", n-1)),
		read("in of in", "port_calls", "top", "2", "filter", "hazardous"+strings.Repeat(" in (true,null)", n)),
		read("cast of cast", "port_calls", "top", "2", "filter", wrapped(n, "status", "cast(cast(_,Edm.Decimal),Edm.String)")+" eq '1'"),
		read("endswith of itself", "vessels", "top", "2", "filter", "endswith(name,"+wrapped(n, "name", "concat(_,name)")+")"),
		read("case of case", "port_calls", "top", "2", "filter", wrapped(n, "id", "case(id gt 1:_,true:_)")+" gt 1"),
		read("rollups", "port_calls", "apply", "groupby(("+strings.Join(slices.Repeat([]string{"rollup($all,status)"}, n), ",")+"))"),
		read("rollup of all", "port_calls", "apply", "groupby((rollup($all,status),rollup($all,eta),rollup($all,etd),rollup($all,berth_code),"+
			"rollup($all,vessel_id),rollup($all,hazardous),rollup($all,draught_m),rollup($all,arrived_at)),aggregate($count as n))"),
		read("concat after concat", "port_calls", "top", "2", "apply", "groupby((status),aggregate($count as n))/"+repeated(n, "/", group)),
		read("concat in concat", "port_calls", "top", "2", "apply", wrapped(n, "aggregate($count as n)", "concat(_,aggregate($count as n))")),
		read("doubled texts", "vessels", "top", "1", "apply", doubled),
		{"aliases of aliases", "GET", "/vessels?top=1&" + aliases, ""},
		read("or after or", "vessels", "top", "1", "filter", repeated(n, " or ", "id eq #")),
		read("brackets", "vessels", "top", "1", "filter", wrapped(n, "id eq 1", "(_)")),
		read("not of not", "vessels", "top", "1", "filter", wrapped(n, "id eq 1", "not (_)")),
		read("arithmetic", "vessels", "top", "1", "filter", "id "+strings.Repeat("mul 1 add 1 ", n)+"gt 1"),
		read("words", "vessels", "top", "1", "search", repeated(n, " OR ", "word#")),
		read("words everywhere", "vessels", "top", "1", "expand", "port_calls(search="+repeated(n, " OR ", "w#")+")"),
		read("any in any", "vessels", "top", "1", "filter", wrapped(min(n, 20), "true", "port_calls/any(p:p/tugs/any(t:_))")),
		read("orders", "vessels", "top", "1", "orderby", repeated(n, ",", "id add #")),
		read("expand all", "vessels", "top", "20", "expand", wrapped(min(n, 4), "*", "*(expand=_)")),
		read("levels", "pilots", "expand", fmt.Sprintf("mentor(levels=%d)", n)),
		read("json", "vessels", "top", "1", "filter", "particulars/"+repeated(n, "/", "a#")+" eq 'x'"),
		read("a list", "vessels", "top", "1", "filter", "id in ("+repeated(n, ",", "#")+")"),
		read("pages", "tide_readings", "top", strconv.Itoa(n*1000), "skip", strconv.Itoa(n*1000)),
		{"a long query", "POST", "/vessels/$query", "filter=" + repeated(n*100, " or ", "id eq #")},
		{"many words", "POST", "/vessels/$query", "expand=*(search=" + repeated(n*100, " OR ", "w#") + ")"},
		{"many words at once", "POST", "/vessels/$query", "top=1&search=" + repeated(n*100, " OR ", "w#")},
		{"a long list", "POST", "/vessels/$query", "top=1&filter=id in (" + repeated(n*100, ",", "#") + ")"},
		{"batch of lists", "POST", "/$batch", `{"requests":[` + repeated(min(n, 40), ",", `{"id":"#","method":"GET",`+
			`"url":"tide_readings?top=1000000"}`) + "]}"},
		{"batch in batch", "POST", "/$batch", `{"requests":[` + repeated(n, ",",
			`{"id":"#","method":"POST","url":"$batch","body":{"requests":[]}}`) + "]}"},
		{"body of brackets", "POST", "/vessels", wrapped(n, "1", "[_]")},
		{"body of objects", "POST", "/vessels", wrapped(n, "{}", `{"port_calls":[_]}`)},
		{"wide body", "POST", "/tugs", "{" + repeated(n*10, ",", `"f#":#`) + "}"},
		{"a long path", "GET", "/" + repeated(n, "/", "vessels/1/port_calls"), ""},
		{"filters in the path", "GET", "/vessels" + strings.Repeat("/$filter(id%20gt%201)", n), ""},
	}
}

// backends is the memory of the largest process of the database that serves a test, of its own.
func backends(t *testing.T, dsn string) (largest int) {
	for _, pid := range column(t, dsn, "select pid from pg_stat_activity where datname = current_database() and pid <> pg_backend_pid()") {
		status, err := os.ReadFile("/proc/" + pid + "/status")
		if err != nil {
			continue // it has ended
		}
		for line := range strings.Lines(string(status)) {
			if kib, ok := strings.CutPrefix(line, "RssAnon:"); ok {
				n, _ := strconv.Atoi(strings.TrimSuffix(strings.TrimSpace(kib), " kB"))
				largest = max(largest, n<<10)
			}
		}
	}
	return largest
}

func heap() int {
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return int(m.HeapInuse)
}

// No request takes the service or the database down, however large it is made: each is answered in a bounded time, with no more than the
// memory that there is for it, and not by "internal error". HOSTILE says for how long they go on, at once and beside each other.
func TestHostileRequests(t *testing.T) {
	t.Parallel()
	r := start(t)
	token := r.Token(t, "harbour_master")
	try := func(h hostile, n int) {
		began := time.Now()
		a := write(t, r, token, h.method, "/api/saltmere"+h.path, h.body, "Content-Type", contentTypeOf(h))
		if took := time.Since(began); a.StatusCode >= 500 && a.StatusCode != 501 || took > hostileTime || len(a.Text) > hostileAnswer {
			t.Errorf("%s of %d: %s after %v, %d bytes: %.300s", h.name, n, a.Status, took, len(a.Text), a.Text)
		}
	}
	statuses := map[string]int{}
	for _, n := range []int{1, 4, 16, 64, 256} {
		for _, h := range hostileRequests(n) {
			try(h, n)
			statuses[h.name]++
		}
	}
	for end := time.Now().Add(hostileDuration(t)); time.Now().Before(end); {
		var all sync.WaitGroup
		for _, n := range []int{16, 64} {
			for _, h := range hostileRequests(n) {
				all.Go(func() { try(h, n) })
			}
		}
		all.Wait()
	}
	if most := backends(t, r.Harbour); most > hostileBackend {
		t.Errorf("a process of the database holds %d MB", most>>20)
	}
	if most := heap(); most > hostileHeap {
		t.Errorf("the service holds %d MB", most>>20)
	}
}

func contentTypeOf(h hostile) string {
	switch {
	case h.body == "":
		return ""
	case strings.HasSuffix(h.path, "/$query"):
		return "text/plain"
	}
	return "application/json"
}

func hostileDuration(t *testing.T) time.Duration {
	text := os.Getenv("HOSTILE")
	if text == "" {
		return 0
	}
	d, err := time.ParseDuration(text)
	if err != nil {
		t.Fatal(err)
	}
	return d
}

// Many shapes that nobody sends again do not fill the memory of the database's processes, which keep what is prepared.
func TestManyShapes(t *testing.T) {
	t.Parallel()
	r := start(t)
	token := r.Token(t, "harbour_master")
	var next atomic.Int64
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for i := next.Add(1); i <= 1200; i = next.Add(1) {
				order := fmt.Sprintf("id mul %d.5%s", i, strings.Repeat(" add id", int(i%40)))
				a := get(t, r, token, fmt.Sprintf("/api/saltmere/vessels?top=1&expand=port_calls(top=1;expand=tugs(top=1))&compute=%s as "+
					"x%d&orderby=x%d",
					order, i, i))
				if a.StatusCode != 200 {
					t.Errorf("%s %s", a.Status, a.Text)
				}
			}
		})
	}
	all.Wait()
	if most := backends(t, r.Harbour); most > 120<<20 {
		t.Errorf("a process of the database holds %d MB", most>>20)
	}
}

// A body that is only announced takes no room.
func TestAnnouncedBodies(t *testing.T) {
	t.Parallel()
	r := start(t)
	token := r.Token(t, "harbour_master")
	address := strings.TrimPrefix(r.URL, "http://")
	before := heap()
	for range 300 {
		conn, err := net.Dial("tcp", address)
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		fmt.Fprintf(conn, "POST /api/saltmere/$batch HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nContent-Type: application/json\r\n"+
			"Content-Length: 16000000\r\n\r\n{", token)
	}
	if a := get(t, r, token, "/api/saltmere/tugs/1"); a.StatusCode != 200 {
		t.Errorf("another caller: %s", a.Status)
	}
	if more := heap() - before; more > 1<<30 { // with the tests beside this one
		t.Errorf("300 announced bodies take %d MB", more>>20)
	}
}

// The parts of a batch have room for 8 MiB each; what is larger is refused by itself, and the rest is done.
func TestBatchOfLargeAnswers(t *testing.T) {
	t.Parallel()
	r := start(t)
	if _, err := r.Operator.PushDraft(t.Context(), "wide", "window: wide\nsource: "+r.Harbour+
		"\nresources: {tide_readings: {from: harbour.tide_reading, page: {max: none}}, tugs: {from: harbour.tug}}"); err != nil {
		t.Fatal(err)
	}
	a := write(t, r, r.Operator.Token, "POST", "/draft/wide/$batch", `{"requests":[{"id":"1","method":"GET","url":"tide_readings?top=250000"},
		{"id":"2","method":"GET","url":"tugs/1"},{"id":"3","method":"PATCH","url":"tugs/1","body":{"name":"Bram II"}}]}`, "Prefer",
		"continue-on-error")
	var got struct {
		Responses []struct {
			Status int
			Body   struct {
				Error struct{ Code string }
				Name  string
			}
		}
	}
	decode(t, a.Text, &got)
	if a.StatusCode != 200 || len(got.Responses) != 3 || got.Responses[0].Status != 413 ||
		got.Responses[0].Body.Error.Code != "answer.large" ||
		got.Responses[1].Status != 200 || got.Responses[2].Body.Name != "Bram II" {
		t.Errorf("%s %.500s", a.Status, a.Text)
	}
}

// Readers that are slow, and readers of a table that somebody has locked, leave connections for the others.
func TestNeighbours(t *testing.T) {
	t.Parallel()
	r := start(t)
	if _, err := r.Operator.PushDraft(t.Context(), "shared", `window: shared
source: `+r.Harbour+`
resources: {tide_readings: {from: harbour.tide_reading, page: {max: none}}, tugs: {from: harbour.tug}, berths: {from: harbour.berth}}
roles: {slow: {may: {"*": read}}}`); err != nil {
		t.Fatal(err)
	}
	ctx := t.Context()
	conn, err := pgx.Connect(ctx, r.Harbour)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.WithoutCancel(ctx))
	quick := func(when, path string) {
		t.Helper()
		began := time.Now()
		a := get(t, r, r.Operator.Token, "/draft/shared"+path) // who acts as nobody is another caller
		if took := time.Since(began); a.StatusCode != 200 || took > 5*time.Second {
			t.Errorf("%s: %s after %v: %s", when, a.Status, took, a.Text)
		}
	}
	quick("at first", "/tugs")
	tx, err := conn.Begin(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := tx.Exec(ctx, "lock table harbour.berth in access exclusive mode"); err != nil {
		t.Fatal(err)
	}
	leaving, leave := context.WithCancel(ctx)
	var readers sync.WaitGroup
	send := func(path string, read func(*http.Response)) {
		readers.Go(func() {
			req, _ := http.NewRequestWithContext(leaving, "GET", r.URL+"/draft/shared"+path, nil)
			req.Header.Set("Authorization", "Bearer "+r.Operator.Token)
			req.Header.Set("Act-As", "slow")
			if res, err := http.DefaultTransport.RoundTrip(req); err == nil {
				read(res)
				_ = res.Body.Close()
			}
		})
	}
	for range 24 {
		send("/berths", func(*http.Response) {})
	}
	until(t, "a reader waits for the table", func() bool { return waiting(t, r.Harbour) > 0 })
	quick("while readers wait for a locked table", "/tugs")
	if n := waiting(t, r.Harbour); n < 1 || n > 3 { // two, and who looks at the catalog
		t.Errorf("%d connections are held by one caller, for a kind of request that nobody has asked for before", n)
	}
	leave()
	readers.Wait()
	if err := tx.Rollback(ctx); err != nil {
		t.Fatal(err)
	}
	leaving, leave = context.WithCancel(ctx)
	defer leave()
	begun := make(chan struct{}, 24)
	for range 24 {
		send("/tide_readings?top=250000", func(res *http.Response) { // the first bytes, and no more
			_, _ = bufio.NewReaderSize(res.Body, 16).ReadByte()
			begun <- struct{}{}
			<-leaving.Done()
		})
	}
	<-begun
	quick("while readers are slow", "/berths")
	leave()
	readers.Wait()
	quick("afterwards", "/berths")
}

// Writes that wait with an Idempotency-Key hold no connection of the records: who signs in does not wait for them.
func TestKeysHoldNothing(t *testing.T) {
	t.Parallel()
	r := start(t)
	token := r.Token(t, "harbour_master")
	ctx := t.Context()
	conn, err := pgx.Connect(ctx, r.Harbour)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.WithoutCancel(ctx))
	tx, err := conn.Begin(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := tx.Exec(ctx, "lock table harbour.tug in access exclusive mode"); err != nil {
		t.Fatal(err)
	}
	var writers sync.WaitGroup
	for i := range 30 {
		writers.Go(func() {
			a := write(t, r, token, "POST", "/api/saltmere/tugs", fmt.Sprintf(`{"name":"Key %d","bollard_pull_t":1}`, i), "Idempotency-Key",
				fmt.Sprintf("key-%d", i))
			if a.StatusCode != 201 && a.StatusCode != 503 { // those who found no connection
				t.Errorf("%s %s", a.Status, a.Text)
			}
		})
	}
	until(t, "several writers wait", func() bool { return waiting(t, r.Harbour) >= 4 })
	began := time.Now()
	other := r.Token(t, "agent")
	if a := get(t, r, other, "/api/saltmere/vessels?top=1"); a.StatusCode != 200 || time.Since(began) > 3*time.Second {
		t.Errorf("a token and a read: %s after %v", a.Status, time.Since(began))
	}
	if a := write(t, r, token, "POST", "/api/saltmere/tugs", `{"name":"Key 0","bollard_pull_t":1}`, "Idempotency-Key",
		"key-0"); a.StatusCode != 409 &&
		a.StatusCode != 503 || a.StatusCode == 409 && !strings.Contains(a.Text, "key.running") {
		t.Errorf("a repeat meanwhile: %s %s", a.Status, a.Text)
	}
	if err := tx.Rollback(ctx); err != nil {
		t.Fatal(err)
	}
	writers.Wait()
	if a := write(t, r, token, "POST", "/api/saltmere/tugs", `{"name":"Key 0","bollard_pull_t":1}`, "Idempotency-Key",
		"key-0"); a.StatusCode != 201 {
		t.Errorf("a repeat afterwards: %s %s", a.Status, a.Text)
	}
	if n := column(t, r.Harbour, "select count(*) - count(distinct name) from harbour.tug where name like 'Key %'")[0]; n != "0" {
		t.Errorf("%s rows are there twice", n)
	}
}

// An answer that nobody takes does not hold a connection to the database for long.
func TestLeastRate(t *testing.T) {
	if testing.Short() {
		t.Skip("it waits for a time limit")
	}
	t.Parallel()
	r := start(t)
	if _, err := r.Operator.PushDraft(t.Context(), "slow", "window: slow\nsource: "+r.Harbour+
		"\nresources: {tide_readings: {from: harbour.tide_reading, page: {max: none}}}"); err != nil {
		t.Fatal(err)
	}
	conn, err := net.Dial("tcp", strings.TrimPrefix(r.URL, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	_ = conn.(*net.TCPConn).SetReadBuffer(4 << 10)
	fmt.Fprintf(conn, "GET /draft/slow/tide_readings?top=250000 HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\n\r\n", r.Operator.Token)
	if _, err := io.ReadFull(conn, make([]byte, 100)); err != nil {
		t.Fatal(err)
	}
	busy := func() bool {
		return column(t, r.Harbour, "select count(*) from pg_stat_activity where datname = current_database() and state <> 'idle' and query "+
			"like '%tide_reading%' and "+
			"pid <> pg_backend_pid()")[0] != "0"
	}
	if !busy() {
		t.Fatal("the answer was read already: the test shows nothing")
	}
	for end := time.Now().Add(25 * time.Second); busy(); time.Sleep(200 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("the connection to the database is still held")
		}
	}
}

// Connections that ask and never read their answers are closed, however many there are.
func TestConnectionsThatNeverRead(t *testing.T) {
	t.Parallel()
	r := start(t)
	s := server.HTTP(server.New(r.Service, service.Front{}))
	if s.WriteTimeout == 0 || s.IdleTimeout == 0 {
		t.Fatal("the service waits for ever")
	}
	s.WriteTimeout, s.IdleTimeout = time.Second, time.Second
	var open atomic.Int64
	s.ConnState = func(_ net.Conn, state http.ConnState) {
		switch state {
		case http.StateNew:
			open.Add(1)
		case http.StateClosed:
			open.Add(-1)
		}
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	go s.Serve(l)
	defer s.Close()
	request := "GET /schemas/window-document.json HTTP/1.1\r\nHost: x\r\n\r\n"
	for i := range 500 { // most have answers that the kernel has room for, and are idle; on the others a write waits
		requests := strings.Repeat(request, 3)
		if i%10 == 0 {
			requests = strings.Repeat(request, 2000)
		}
		conn, err := net.Dial("tcp", l.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		_ = conn.(*net.TCPConn).SetReadBuffer(1 << 10)
		_, _ = conn.Write([]byte(requests))
	}
	for end := time.Now().Add(30 * time.Second); open.Load() > 0; time.Sleep(50 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("%d connections are still open", open.Load())
		}
	}
}
