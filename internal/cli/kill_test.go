package cli_test

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"eagerwindow/internal/client"
	"eagerwindow/internal/harbourtest"
)

// serveAgain starts a service of its own over the records of another one, and returns where it answers.
func serveAgain(t *testing.T, records string) (*exec.Cmd, string) {
	t.Helper()
	cmd := exec.Command(os.Args[0], "serve", "--listen", "127.0.0.1:0", "--log-level", "error")
	cmd.Env = append(os.Environ(), "CLI_TEST_RUN=1", "EAGER_RECORDS="+records, "EAGER_SECRET="+harbourtest.Secret)
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	var url string
	if _, err := fmt.Fscanf(out, "Eager Window serves at %s\n", &url); err != nil {
		t.Fatal(err)
	}
	return cmd, url
}

// cargo is a write of one row of cargo or of several, and how many there are: a create, a delta, or a call with its cargo.
func cargo(kind int, name string) (method, path, body string, rows int) {
	item := func(n int) string { return fmt.Sprintf(`"description":"%s#%d","hs_code":"100400","tonnes":1`, name, n) }
	switch kind % 3 {
	case 0:
		return "POST", "/cargo_items", `{"port_call_id":17,` + item(0) + `}`, 1
	case 1:
		return "PATCH", "/cargo_items", `{"value":[{"port_call_id":17,` + item(0) + `},{"port_call_id":18,` + item(1) + `},{"id":` +
			fmt.Sprint(100+len(name)) + `,"dangerous_class":"3"},{"port_call_id":17,` + item(2) + `}]}`, 3
	}
	return "POST", "/port_calls?select=id", `{"vessel_id":3,"eta":"2026-07-09T12:00:00Z","draught_m":5,"remarks":"` + name +
		`","cargo_items":[{` + item(0) + `},{` + item(1) + `}]}`, 2
}

// The service is killed ten times while it writes, single rows and many at once. Every write that was acknowledged is there, and all of
// it; one that was sent with an Idempotency-Key, and again until it was acknowledged, is there once.
func TestKilledWhileWriting(t *testing.T) {
	r := service(t)
	token := r.Token(t, "harbour_master")
	var url atomic.Pointer[string]
	var over atomic.Bool
	var mu sync.Mutex
	acknowledged := map[string]int{} // the rows of each
	write := func(kind int, name, key string) (status int) {
		method, path, body, rows := cargo(kind, name)
		header := http.Header{"Prefer": {"return=minimal"}}
		if key != "" {
			header.Set("Idempotency-Key", key)
		}
		ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
		defer cancel()
		res, err := (&client.Client{URL: *url.Load(), Token: token}).Send(ctx,
			client.Request{Method: method, Path: "/api/saltmere" + path, Header: header, Body: strings.NewReader(body)})
		if err != nil {
			return 0
		}
		defer res.Body.Close()
		if res.StatusCode == http.StatusNoContent {
			mu.Lock()
			acknowledged[name] = rows
			mu.Unlock()
		}
		return res.StatusCode
	}
	cmd, at := serveAgain(t, r.Records)
	url.Store(&at)
	var writers sync.WaitGroup
	var repeats atomic.Int64
	for i := range 8 {
		writers.Go(func() {
			for n := 0; !over.Load(); n++ {
				name, kind := fmt.Sprintf("%d/%d", i, n), i/2
				if i%2 == 0 {
					if write(kind, "bare "+name, "") == 0 {
						time.Sleep(20 * time.Millisecond)
					}
					continue
				}
				for status := write(kind, "keyed "+name, name); status != http.StatusNoContent; status = write(kind, "keyed "+name, name) {
					if status != 0 && status != http.StatusConflict {
						t.Errorf("%s: %d", name, status)
						return
					}
					repeats.Add(1)
					time.Sleep(20 * time.Millisecond)
				}
			}
		})
	}
	for range 10 {
		time.Sleep(250 * time.Millisecond)
		if err := cmd.Process.Kill(); err != nil {
			t.Fatal(err)
		}
		_ = cmd.Wait()
		cmd, at = serveAgain(t, r.Records)
		url.Store(&at)
	}
	over.Store(true)
	writers.Wait()
	defer func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }()
	conn, err := pgx.Connect(context.Background(), r.Harbour)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	rows, err := conn.Query(context.Background(),
		`select split_part(description, '#', 1), count(*), count(distinct description),
			count(distinct p.id) filter (where remarks = split_part(description, '#', 1))
		from harbour.cargo_item c join harbour.port_call p on p.id = port_call_id where description ~ '^(bare|keyed) ' group by 1`)
	if err != nil {
		t.Fatal(err)
	}
	found, name, there, distinct, calls := map[string]int{}, "", 0, 0, 0
	if _, err := pgx.ForEachRow(rows, []any{&name, &there, &distinct, &calls}, func() error {
		if there > distinct || calls > 1 {
			t.Errorf("%q is there more than once: %d rows, %d calls", name, there, calls)
		}
		found[name] = distinct
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	for name, rows := range acknowledged {
		if found[name] != rows {
			t.Errorf("%q was acknowledged with %d rows, and %d are there", name, rows, found[name])
		}
	}
	for name, rows := range found { // what nobody was told of is there whole or not at all
		var writer, n int
		if _, err := fmt.Sscanf(name[strings.IndexByte(name, ' ')+1:], "%d/%d", &writer, &n); err != nil {
			t.Fatal(err)
		}
		if _, _, _, all := cargo(writer/2, name); rows != all {
			t.Errorf("of %q are %d rows there, of %d", name, rows, all)
		}
	}
	if len(acknowledged) < 100 || repeats.Load() == 0 {
		t.Errorf("%d acknowledged and %d repeats: the test shows nothing", len(acknowledged), repeats.Load())
	}
	t.Logf("%d writes acknowledged, %d there, %d repeats", len(acknowledged), len(found), repeats.Load())
}
