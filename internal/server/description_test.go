package server_test

import (
	"strings"
	"testing"

	"eagerwindow/internal/windows"
)

// A release's description stays what it was, whatever is published after it; those who have it are told that it is the same.
func TestDescriptionsOfReleases(t *testing.T) {
	t.Parallel()
	r := start(t)
	first := get(t, r, "", "/describe/saltmere/1/openapi.json")
	live := get(t, r, "", "/api/saltmere/openapi.json")
	if first.StatusCode != 200 || first.Text != live.Text || first.Header.Get("ETag") != live.Header.Get("ETag") {
		t.Fatalf("%s, and live %s", first.Status, live.Status)
	}
	for name, want := range map[string]string{"Content-Type": "application/openapi+json", "Cache-Control": "public, max-age=86400",
		"Content-Disposition": `inline; filename="saltmere-1.openapi.json"`} {
		if got := first.Header.Get(name); got != want {
			t.Errorf("%s is %q, want %q", name, got, want)
		}
	}
	if again := get(t, r, "", "/describe/saltmere/1/openapi.json", "If-None-Match", first.Header.Get("ETag")); again.StatusCode != 304 {
		t.Errorf("asked for with its tag: %s", again.Status)
	}
	if _, err := r.Operator.Publish(t.Context(), "saltmere", windows.NewRelease{}); err != nil {
		t.Fatal(err)
	}
	now := get(t, r, "", "/api/saltmere/openapi.json")
	if now.Text == first.Text || !strings.Contains(now.Text, `"version":"1.1.0"`) {
		t.Error("what is live is described as before")
	}
	if kept := get(t, r, "", "/describe/saltmere/1/openapi.json"); kept.Text != first.Text {
		t.Error("release 1 is described in another way")
	}
	for path, want := range map[string]int{"/describe/saltmere/1/openapi.yaml?role=agent": 200, "/describe/saltmere/2/openapi.json": 200,
		"/describe/saltmere/3/openapi.json": 404, "/describe/saltmere/x/openapi.json": 400, "/describe/nowhere/1/openapi.json": 404,
		"/describe/saltmere/1/openapi.json?role=nobody": 400} {
		if a := get(t, r, "", path); a.StatusCode != want {
			t.Errorf("%s: %s %.200s", path, a.Status, a.Text)
		}
	}
	// Whoever opens another window under the name gets its description, not one that was kept.
	if _, err := r.Operator.Close(t.Context(), "saltmere"); err != nil {
		t.Fatal(err)
	}
	published(t, r, "saltmere",
		"source: saltmere\nresources: {tugs: {from: harbour.tug}}\nroles: {all: {anonymous: true, may: {tugs: read}}}\n")
	if other := get(t, r, "", "/describe/saltmere/1/openapi.json"); strings.Contains(other.Text, "vessels") || other.StatusCode != 200 {
		t.Errorf("another window's: %s", other.Status)
	}
	if a := get(t, r, "", "/.well-known/api-catalog"); !strings.Contains(a.Text,
		`/api/saltmere/openapi.yaml","type":"application/openapi+yaml"`) ||
		!strings.HasPrefix(a.Header.Get("Content-Type"), "application/linkset+json") {
		t.Errorf("the catalog: %s %s", a.Header.Get("Content-Type"), a.Text)
	}
}
