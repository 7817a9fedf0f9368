package server_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"eagerwindow/internal/server"
	"eagerwindow/internal/service"
)

// A mistake of ours ends one request and no other. Who asked gets a number, by which the log tells the rest; what stood in the query
// is in neither.
func TestMistakeOfOurs(t *testing.T) {
	t.Parallel()
	var log bytes.Buffer
	// without a service
	broken := server.New(nil, service.Front{Log: slog.New(slog.NewJSONHandler(&log, &slog.HandlerOptions{Level: slog.LevelDebug}))})
	numbers := map[string]bool{}
	for range 2 {
		log.Reset()
		w := httptest.NewRecorder()
		broken.ServeHTTP(w, httptest.NewRequest("GET", "/api/saltmere/vessels?filter=name%20eq%20'secret'", nil))
		var body struct {
			Error struct{ Code, Message string }
		}
		id := w.Header().Get("Request-Id")
		if err := json.Unmarshal(w.Body.Bytes(), &body); err != nil || w.Code != 500 || body.Error.Code != "internal" || id == "" ||
			body.Error.Message != "internal error; its number is "+id {
			t.Errorf("%d %s %v", w.Code, w.Body, err)
		}
		lines := strings.Split(strings.TrimSpace(log.String()), "\n")
		if len(lines) != 2 || !strings.Contains(lines[0], `"panic"`) || !strings.Contains(lines[0], id) ||
			!strings.Contains(lines[0], "server.go") {
			t.Fatalf("the log says %s", log.String())
		}
		var line map[string]any
		if err := json.Unmarshal([]byte(lines[1]), &line); err != nil || line["id"] != id || line["status"] != 500.0 ||
			line["path"] != "/api/saltmere/vessels" || line["method"] != "GET" || line["bytes"] != float64(w.Body.Len()) {
			t.Errorf("the log says %s", lines[1])
		}
		if strings.Contains(log.String(), "secret") || strings.Contains(w.Body.String(), "secret") {
			t.Error("the query is told")
		}
		numbers[id] = true
	}
	if len(numbers) != 2 {
		t.Errorf("two requests have the numbers %v", numbers)
	}
	w := httptest.NewRecorder()
	broken.ServeHTTP(w, httptest.NewRequest("GET", "/healthz", nil))
	if w.Code != http.StatusOK || w.Header().Get("X-Content-Type-Options") != "nosniff" {
		t.Errorf("afterwards: %d %v", w.Code, w.Header())
	}
}

// A body that breaks off, or that is sent too slowly, changes nothing, and the caller is reported; so is one that comes compressed.
func TestBodiesThatDoNotArrive(t *testing.T) {
	t.Parallel()
	r := start(t)
	before := column(t, r.Harbour, "select count(*) from harbour.tug")[0]
	quick := server.HTTP(server.New(r.Service, service.Front{}))
	quick.ReadTimeout = 300 * time.Millisecond
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	go quick.Serve(l)
	defer quick.Close()
	body := `{"name":"Puck","bollard_pull_t":33}`
	for _, s := range []struct {
		name, header, body string
		closes             bool // the caller sends no more
		want               string
	}{
		{"whole", "Content-Length: 35", body, false, "201 Created"},
		{"cut", "Content-Length: 35", body[:20], true, `400 Bad Request|"code":"body.cut"`},
		{"slow", "Content-Length: 35", body[:20], false, `400 Bad Request|"code":"body.cut"`},
		{"cut, with a key", "Content-Length: 35\r\nIdempotency-Key: k", body[:20], true, `400 Bad Request|"code":"body.cut"`},
		{"in parts, cut", "Transfer-Encoding: chunked", "14\r\n" + body[:20] + "\r\n", true, `400 Bad Request|"code":"body.cut"`},
		{"in parts, slow", "Transfer-Encoding: chunked", "14\r\n" + body[:20] + "\r\n", false, `400 Bad Request|"code":"body.cut"`},
		{"compressed", "Content-Length: 3\r\nContent-Encoding: gzip", "abc", false,
			`415 Unsupported Media Type|Accept-Encoding: identity|the body is compressed with \"gzip\"`},
		{"as it is", "Content-Length: 33\r\nContent-Encoding: identity", `{"name":"Ox","bollard_pull_t":33}`, false, "201 Created"},
	} {
		conn, err := net.Dial("tcp", l.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(conn, "POST /draft/saltmere/tugs HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nContent-Type: "+
			"application/json\r\nConnection: close\r\n%s\r\n\r\n%s", r.Operator.Token, s.header, s.body)
		if s.closes {
			_ = conn.(*net.TCPConn).CloseWrite()
		}
		answer, err := io.ReadAll(conn)
		_ = conn.Close()
		for want := range strings.SplitSeq(s.want, "|") {
			if err != nil || !strings.Contains(string(answer), want) {
				t.Errorf("%s: %v %s\nwant %s", s.name, err, answer, want)
			}
		}
	}
	if after := column(t, r.Harbour, "select count(*) - 2 from harbour.tug")[0]; after != before {
		t.Errorf("%s tugs, there were %s", after, before)
	}
}
