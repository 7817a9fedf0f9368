package request_test

import (
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"eagerwindow/internal/core/coretest"
	"eagerwindow/internal/core/request"
)

func TestRowPath(t *testing.T) {
	t.Parallel()
	m, _ := coretest.Saltmere(t)
	for _, tt := range []struct {
		resource string
		key      []string
		want     string
	}{
		{"port_calls", []string{"17"}, "port_calls/17"},
		{"berths", []string{"N 05/b"}, "berths/N%2005%2Fb"},
		{"berths", []string{""}, "berths('')"},
		{"berths", []string{".."}, "berths('..')"},
		{"berths", []string{"$count"}, "berths('$count')"},
		{"berths", []string{"$it's"}, "berths('$it%27%27s')"},
		{"tide_readings", []string{"", "2026-07-01T00:00:00Z"}, "tide_readings(station='',read_at=2026-07-01T00:00:00Z)"},
		{"pilotages", []string{"17", "0e2c7a52-3f6d-4c1b-9f0e-2d8a6c4b1e90", "inbound"},
			"pilotages/17/0e2c7a52-3f6d-4c1b-9f0e-2d8a6c4b1e90/inbound"},
	} {
		if got := request.RowPath(m.Resource(tt.resource), tt.key); got != tt.want {
			t.Errorf("%s %q: %s, want %s", tt.resource, tt.key, got, tt.want)
		}
	}
}

// Whatever text a key is, its path leads back to it.
func FuzzRowPath(f *testing.F) {
	m, _ := coretest.Saltmere(f)
	for _, seed := range []string{"N05", "", ".", "..", "$filter(x)", "a/b", "it's", "''", "50%", "ж☂", "(", ")", "a=b,c", "\n"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if !utf8.ValidString(text) || strings.IndexByte(text, 0) >= 0 {
			return // no text of the database
		}
		for resource, key := range map[string][]string{"berths": {text}, "tide_readings": {text, "2026-07-01T00:00:00Z"}} {
			path := request.RowPath(m.Resource(resource), key)
			r, err := request.Read(m, path, "")
			if err != nil {
				t.Fatalf("%q: %s: %v", text, path, err)
			}
			places, err := r.Places()
			if err != nil {
				t.Fatalf("%q: %s: %v", text, path, err)
			}
			if got := places[0].Key; !slices.Equal(got, key) {
				t.Errorf("%q: %s leads to %q, %v", text, path, got, err)
			}
		}
	})
}
