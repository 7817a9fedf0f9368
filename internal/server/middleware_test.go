package server_test

import (
	"bytes"
	"encoding/json"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"eagerwindow/internal/server"
)

// A mistake of ours ends one request and no other. Who asked gets a number, by which the log tells the rest; what stood in the query
// is in neither.
func TestMistakeOfOurs(t *testing.T) {
	var log bytes.Buffer
	broken := server.New(nil, nil, slog.New(slog.NewJSONHandler(&log, &slog.HandlerOptions{Level: slog.LevelDebug}))) // without a service
	numbers := map[string]bool{}
	for range 2 {
		log.Reset()
		w := httptest.NewRecorder()
		broken.ServeHTTP(w, httptest.NewRequest("GET", "/api/saltmere/vessels?filter=name%20eq%20'secret'", nil))
		var body struct {
			Error struct{ Code, Message string }
		}
		id := w.Header().Get("Request-Id")
		if err := json.Unmarshal(w.Body.Bytes(), &body); err != nil || w.Code != 500 || body.Error.Code != "internal" || id == "" || body.Error.Message != "internal error; its number is "+id {
			t.Errorf("%d %s %v", w.Code, w.Body, err)
		}
		lines := strings.Split(strings.TrimSpace(log.String()), "\n")
		if len(lines) != 2 || !strings.Contains(lines[0], `"panic"`) || !strings.Contains(lines[0], id) || !strings.Contains(lines[0], "server.go") {
			t.Fatalf("the log says %s", log.String())
		}
		var line map[string]any
		if err := json.Unmarshal([]byte(lines[1]), &line); err != nil || line["id"] != id || line["status"] != 500.0 || line["path"] != "/api/saltmere/vessels" || line["method"] != "GET" || line["bytes"] != float64(w.Body.Len()) {
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
