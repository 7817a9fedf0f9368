package client_test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"eagerwindow/internal/client"
)

func ExampleEscape() {
	fmt.Println(client.Escape("/vessels?filter=name eq 'Å' and eta gt 2026-07-01T00:00:00+02:00"))
	// Output: /vessels?filter=name%20eq%20'%C3%85'%20and%20eta%20gt%202026-07-01T00:00:00%2B02:00
}

func TestEscape(t *testing.T) {
	t.Parallel()
	for in, want := range map[string]string{
		"/a?b=c%20d&e=f": "/a?b=c%20d&e=f", `/a?b="x"`: "/a?b=%22x%22", "/a?b=\n\t": "/a?b=%0A%09", "/a?b={1|2}": "/a?b=%7B1%7C2%7D",
		"/a(1,'b')/$value": "/a(1,'b')/$value",
	} {
		if got := client.Escape(in); got != want {
			t.Errorf("Escape(%q) = %q, want %q", in, got, want)
		}
	}
}

// What a service, or something else at its address, can answer.
func TestAnswers(t *testing.T) {
	t.Parallel()
	tests := []struct {
		name, body string
		status     int
		want       string
	}{
		{"a refusal", `{"error":{"code":"x.y","message":"no","details":[{"message":"line 1"},{"message":"this","line":3,"column":4}]}}`, 400,
			"no\n  line 1\n  line 3, column 4: this"},
		{"not ours", "<html>teapot</html>", 418, "418 I'm a teapot <html>teapot</html>"},
		{"not JSON", "hello", 200, "read the service's answer"},
		{"well", `[{"name":"saltmere","live_release":2}]`, 200, ""},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if r.URL.Path != "/manage/windows" || r.Header.Get("Authorization") != "Bearer token" {
					t.Errorf("asked %s with %v", r.URL, r.Header)
				}
				w.WriteHeader(tt.status)
				_, _ = w.Write([]byte(tt.body))
			}))
			defer s.Close()
			list, err := (&client.Client{URL: s.URL + "/", Token: "token"}).Windows(context.Background())
			switch {
			case tt.want == "" && (err != nil || len(list) != 1 || list[0].LiveRelease != 2):
				t.Errorf("got %v, %v", list, err)
			case tt.want != "" && (err == nil || !strings.Contains(err.Error(), tt.want)):
				t.Errorf("got %v, want %s", err, tt.want)
			}
			var refused *client.Refused
			if errors.As(err, &refused) && refused.Status != tt.status {
				t.Errorf("the status is %d, want %d", refused.Status, tt.status)
			}
		})
	}
	for url, want := range map[string]error{"http://127.0.0.1:1": client.ErrUnreachable, "nonsense": nil} {
		_, err := (&client.Client{URL: url}).Windows(context.Background())
		if err == nil || want != nil && !errors.Is(err, want) || want == nil && !strings.Contains(err.Error(), "is no address of a service") {
			t.Errorf("%s: %v", url, err)
		}
	}
}
