package cli_test

import (
	"context"
	"fmt"
	"maps"
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

// The service is killed ten times while it writes. Every write that was acknowledged is there; one that was sent with an
// Idempotency-Key, and again until it was acknowledged, is there once.
func TestKilledWhileWriting(t *testing.T) {
	r := service(t)
	token := r.Token(t, "harbour_master")
	var url atomic.Pointer[string]
	var over atomic.Bool
	var mu sync.Mutex
	acknowledged := map[string]bool{}
	write := func(name, key string) (status int) {
		header := http.Header{"Prefer": {"return=minimal"}}
		if key != "" {
			header.Set("Idempotency-Key", key)
		}
		ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
		defer cancel()
		res, err := (&client.Client{URL: *url.Load(), Token: token}).Send(ctx, client.Request{Method: "POST", Path: "/api/saltmere/cargo_items", Header: header,
			Body: strings.NewReader(fmt.Sprintf(`{"port_call_id":17,"description":%q,"hs_code":"100400","tonnes":1}`, name))})
		if err != nil {
			return 0
		}
		defer res.Body.Close()
		if res.StatusCode == http.StatusNoContent {
			mu.Lock()
			acknowledged[name] = true
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
				name := fmt.Sprintf("%d/%d", i, n)
				if i%2 == 0 {
					if write("bare "+name, "") == 0 {
						time.Sleep(20 * time.Millisecond)
					}
					continue
				}
				for status := write("keyed "+name, name); status != http.StatusNoContent; status = write("keyed "+name, name) {
					if status != 0 && status != http.StatusConflict && status != http.StatusInternalServerError {
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
	rows, err := conn.Query(context.Background(), "select description, count(*) from harbour.cargo_item where description like 'bare %' or description like 'keyed %' group by 1")
	if err != nil {
		t.Fatal(err)
	}
	found, name, times := map[string]int{}, "", 0
	if _, err := pgx.ForEachRow(rows, []any{&name, &times}, func() error { found[name] = times; return nil }); err != nil {
		t.Fatal(err)
	}
	for name := range maps.Keys(acknowledged) {
		if found[name] == 0 {
			t.Errorf("%q was acknowledged and is not there", name)
		}
	}
	for name, times := range found {
		if times > 1 {
			t.Errorf("%q is there %d times", name, times)
		}
	}
	if len(acknowledged) < 100 || repeats.Load() == 0 {
		t.Errorf("%d acknowledged and %d repeats: the test shows nothing", len(acknowledged), repeats.Load())
	}
	t.Logf("%d writes acknowledged, %d there, %d repeats", len(acknowledged), len(found), repeats.Load())
}
