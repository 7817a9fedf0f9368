package cli_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"eagerwindow/internal/client"
	"eagerwindow/internal/windows"
)

// link passes connections on to a database until it is cut, and again when it is mended.
type link struct {
	t      *testing.T
	l      net.Listener
	to     string
	mu     sync.Mutex
	broken bool
	open   []net.Conn
}

func newLink(t *testing.T, to string) *link {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	k := &link{t: t, l: l, to: to}
	t.Cleanup(func() { _ = l.Close(); k.set(true) })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			k.pass(c)
		}
	}()
	return k
}

func (k *link) pass(c net.Conn) {
	k.mu.Lock()
	defer k.mu.Unlock()
	far, err := net.Dial("tcp", k.to)
	if k.broken || err != nil {
		_ = c.Close()
		return
	}
	k.open = append(k.open, c, far)
	go func() { _, _ = io.Copy(far, c); _ = far.Close() }()
	go func() { _, _ = io.Copy(c, far); _ = c.Close() }()
}

// set cuts the link, or mends it.
func (k *link) set(broken bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.broken = broken; broken {
		for _, c := range k.open {
			_ = c.Close()
		}
		k.open = nil
	}
}

// numbered is a document whose fields have the number of its release in their names, so that an answer tells of which release it is.
func numbered(n int) string {
	return fmt.Sprintf("window: numbered\nsource: saltmere\nresources:\n  tugs:\n    from: harbour.tug\n    fields: {name: {name: name_%d}, "+
		"bollard_pull_t: {name: pull_%d}}\nroles: {all: {anonymous: true, may: {tugs: read}}}\n", n, n)
}

var numbers = regexp.MustCompile(`"(?:name|pull)_(\d+)":`)

// answered sends a request and returns the release that the answer is of.
func answered(url string) (release int, err error) {
	res, err := http.Get(url + "/api/numbered/tugs?top=2")
	if err != nil {
		return 0, err
	}
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	if err != nil || res.StatusCode != 200 {
		return 0, fmt.Errorf("%s %s, %w", res.Status, text, err)
	}
	found := numbers.FindAllStringSubmatch(string(text), -1)
	if len(found) != 4 || !json.Valid(text) {
		return 0, fmt.Errorf("an answer of no release: %s", text)
	}
	for _, m := range found {
		if m[1] != found[0][1] {
			return 0, fmt.Errorf("an answer of two releases: %s", text)
		}
	}
	_, err = fmt.Sscan(found[0][1], &release)
	return release, err
}

// Two processes serve one set of records. While a hundred releases are published, by one and the other, no request fails, none is answered
// of two releases, and none of an old one a second after the new one was published. One that is cut off from the records goes on with
// what it has, and takes up what it has missed when they are back.
func TestTwoProcesses(t *testing.T) {
	r := service(t)
	address := regexp.MustCompile(`@([^/]+)/`).FindStringSubmatch(r.Records)[1]
	way := newLink(t, address)
	one, oneURL := serveAgain(t, r.Records)
	two, twoURL := serveAgain(t, strings.Replace(r.Records, address, way.l.Addr().String(), 1))
	defer func() { _ = one.Process.Kill(); _ = two.Process.Kill(); _, _ = one.Wait(), two.Wait() }()
	urls := []string{oneURL, twoURL}
	publish := func(n int) {
		t.Helper()
		c := &client.Client{URL: urls[n%2], Token: r.Operator.Token}
		if _, err := c.Push(t.Context(), "numbered", windows.Push{Document: numbered(n), Replace: true}); err != nil {
			t.Fatal(err)
		}
		if _, err := c.Publish(t.Context(), "numbered", windows.NewRelease{AllowBreaking: true, AllowWidening: true}); err != nil {
			t.Fatal(err)
		}
	}
	publish(1)
	var times [104]atomic.Int64 // when each release was published, in nanoseconds
	times[1].Store(time.Now().UnixNano())
	due := func(sent time.Time) (least int) {
		for n := range times {
			if at := times[n].Load(); at > 0 && sent.Sub(time.Unix(0, at)) > time.Second {
				least = n
			}
		}
		return least
	}
	for _, url := range urls {
		for until := time.Now().Add(5 * time.Second); ; time.Sleep(50 * time.Millisecond) {
			if _, err := answered(url); err == nil {
				break
			} else if time.Now().After(until) {
				t.Fatal(err)
			}
		}
	}
	var over, cut atomic.Bool
	var sent, failed atomic.Int64
	var callers sync.WaitGroup
	start := time.Now()
	for i := range 8 { // 25 requests a second each
		callers.Go(func() {
			tick := time.NewTicker(40 * time.Millisecond)
			defer tick.Stop()
			for !over.Load() {
				<-tick.C
				least, away := due(time.Now()), cut.Load() && i%2 == 1 // as it is when the request is sent
				release, err := answered(urls[i%2])
				sent.Add(1)
				if err != nil || release < least && !away {
					if failed.Add(1) < 5 {
						t.Errorf("process %d answered of release %d, after %d had been published for a second; %v", i%2, release, least, err)
					}
				}
			}
		})
	}
	for n := 2; n <= 100; n++ {
		publish(n)
		times[n].Store(time.Now().UnixNano())
	}
	took := time.Since(start)
	time.Sleep(1200 * time.Millisecond)
	cut.Store(true)
	way.set(true)
	for n := 101; n <= 103; n++ {
		c := &client.Client{URL: oneURL, Token: r.Operator.Token}
		if _, err := c.Push(t.Context(), "numbered", windows.Push{Document: numbered(n), Replace: true}); err != nil {
			t.Fatal(err)
		}
		if _, err := c.Publish(t.Context(), "numbered", windows.NewRelease{AllowBreaking: true}); err != nil {
			t.Fatal(err)
		}
		times[n].Store(time.Now().UnixNano())
	}
	time.Sleep(2 * time.Second)
	if release, err := answered(twoURL); err != nil || release != 100 {
		t.Errorf("while it is cut off, it answers of release %d, %v", release, err)
	}
	way.set(false)
	back := time.Now()
	for {
		release, err := answered(twoURL)
		if err == nil && release == 103 {
			break
		}
		if time.Since(back) > 10*time.Second {
			t.Fatalf("after it is back, it answers of release %d, %v", release, err)
		}
		time.Sleep(20 * time.Millisecond)
	}
	t.Logf("99 releases in %s; %d requests, %.0f a second, %d of them wrong; it took up the last release after %s",
		took.Round(time.Millisecond),
		sent.Load(), float64(sent.Load())/time.Since(start).Seconds(), failed.Load(), time.Since(back).Round(time.Millisecond))
	cut.Store(false)
	over.Store(true)
	callers.Wait()
}
