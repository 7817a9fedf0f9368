package server_test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"eagerwindow/internal/windows"
)

// The page that people read has all operations of a role without any script, links to what it is made of, and shows nobody more than they
// may know.
func TestReferencePage(t *testing.T) {
	t.Parallel()
	r := start(t)
	for _, tt := range []struct {
		path, token string
		status      int
		has, lacks  []string
	}{
		{"/describe/saltmere", "", 200, []string{`<option value="" selected>everyone</option>`, `id="list-port_calls"`, `id="delete-vessel"`,
			"For office, harbour_master.", "live, release 1", "curl -G &#39;" + r.URL + "/api/saltmere/port_calls&#39;", "api@saltmere.example",
			"/describe/saltmere/openapi.json?openapi=3.0", "number, 2 decimals", "expected · anchored"}, []string{"undefined", "%!"}},
		{"/describe/saltmere/", "", 200, []string{`href="/describe/saltmere/schemas/vessels.json"`}, nil},
		{"/describe/saltmere?role=agent", "", 200, []string{`<option value="agent" selected>agent</option>`,
			"You see those where <code>vessel/agent_id</code> is your <code>agent_id</code>, without <code>remarks</code>.", "25 of 111",
			`<form class="ask" data-path="/api/saltmere/port_calls?select=id,vessel_id&amp;top=2">`}, []string{"delete-vessel", "inspections"}},
		{"/describe/saltmere/1", "", 200, []string{"release 1", `href="/describe/saltmere/1/openapi.yaml"`}, []string{"live, release"}},
		{"/describe/saltmere/9", "", 404, nil, nil}, {"/describe/nowhere", "", 404, nil, nil}, {"/describe/saltmere/draft", "", 401, nil, nil},
		{"/describe/saltmere/draft", r.Operator.Token, 200, []string{"draft", "/draft/saltmere/port_calls"}, []string{"live, release"}},
		{"/describe/saltmere/schemas/vessels.json", "", 200, []string{`"$ref": "port_calls.json"`, `"vessel-create"`, `"$id": "` + r.URL}, nil},
		{"/describe/saltmere/schemas/vessel.json", "", 404, []string{`did you mean \"vessels\"?`}, nil},
		{"/describe/saltmere/schemas/inspections.json?role=agent", "", 404, nil, nil},
		{"/describe/saltmere/metadata.xml?role=agent", "", 200, []string{`EntityType Name="port_calls"`}, []string{"inspections"}},
		{"/describe/saltmere/metadata.json", "", 200, []string{`"$Version": "4.01"`}, nil},
		{"/describe/saltmere/openapi.json?resource=tugs", "", 200, []string{`"/tugs/{id}"`}, []string{`"/vessels"`}},
		{"/describe/saltmere/openapi.json?openapi=2.0", "", 200, []string{`"swagger":"2.0"`, `"basePath":"/api/saltmere"`}, nil},
		{"/describe/saltmere/openapi.json?openapi=4", "", 400, []string{"3.1, 3.0 or 2.0"}, nil},
		{"/describe/saltmere/openapi.json?resource=tug", "", 404, []string{`did you mean \"tugs\"?`}, nil},
		{"/describe/-/page.css", "", 200, []string{"--chalk"}, []string{"{{"}}, {"/describe/-/page.js", "", 200,
			[]string{"IntersectionObserver"}, nil},
	} {
		a := get(t, r, tt.token, tt.path)
		if a.StatusCode != tt.status {
			t.Errorf("%s: %s %.200s", tt.path, a.Status, a.Text)
		}
		for _, text := range tt.has {
			if !strings.Contains(a.Text, text) {
				t.Errorf("%s lacks %s", tt.path, text)
			}
		}
		for _, text := range tt.lacks {
			if strings.Contains(a.Text, text) {
				t.Errorf("%s has %s", tt.path, text)
			}
		}
	}
	page := get(t, r, "", "/describe/saltmere")
	for name, want := range map[string]string{"Content-Type": "text/html; charset=utf-8", "Access-Control-Allow-Origin": "*"} {
		if page.Header.Get(name) != want {
			t.Errorf("%s: %q", name, page.Header.Get(name))
		}
	}
	if policy := page.Header.Get("Content-Security-Policy"); !strings.Contains(policy, "default-src 'none'") {
		t.Errorf("the page may load %q", policy)
	}
	if again := get(t, r, "", "/describe/saltmere", "If-None-Match", page.Header.Get("ETag")); again.StatusCode != http.StatusNotModified {
		t.Errorf("once more: %s", again.Status)
	}
}

// Of many resources the page is a list, and each has a page of its own.
func TestReferenceOfMany(t *testing.T) {
	t.Parallel()
	r := start(t)
	var resources strings.Builder
	for i := range 90 {
		fmt.Fprintf(&resources, "  boats_%d: {from: harbour.tug}\n", i)
	}
	published(t, r, "fleet", "source: saltmere\nresources:\n"+resources.String()+
		"roles: {all: {anonymous: true, may: {\"*\": read}}}\ndescription: {public: all}\n")
	list := get(t, r, "", "/describe/fleet")
	if list.StatusCode != 200 || !strings.Contains(list.Text, "resource=boats_89") || strings.Contains(list.Text, `id="list-boats_89"`) {
		t.Errorf("the list: %s, %d bytes", list.Status, len(list.Text))
	}
	one := get(t, r, "", "/describe/fleet?resource=boats_89")
	if one.StatusCode != 200 || !strings.Contains(one.Text, `id="list-boats_89"`) || strings.Contains(one.Text, `id="list-boats_88"`) {
		t.Errorf("one of them: %s, %d bytes", one.Status, len(one.Text))
	}
}

// What is not public is shown to those who may: the caller's own roles, and operators.
func TestPrivateDescription(t *testing.T) {
	t.Parallel()
	r := start(t)
	published(t, r, "quiet",
		"source: saltmere\nresources: {tugs: {from: harbour.tug, about: <script>alert(1)</script>}, agents: {from: harbour.agent}}\n"+
			"roles: {all: {anonymous: true, may: {tugs: read}}, office: {may: {agents: read}}}\n")
	for _, tt := range []struct {
		path, token string
		status      int
		has         string
	}{
		{"/describe/quiet", "", 200, `<option value="all">all</option>`}, {"/describe/quiet?role=office", "", 401, "not public"},
		{"/describe/quiet?role=office", r.Operator.Token, 200, "list-agents"}, {"/describe/quiet", r.Operator.Token, 200, "list-agents"},
	} {
		a := get(t, r, tt.token, tt.path)
		if a.StatusCode != tt.status || !strings.Contains(a.Text, tt.has) || strings.Contains(a.Text, "<script>alert") {
			t.Errorf("%s: %s %.300s", tt.path, a.Status, a.Text)
		}
		if a.StatusCode == 200 && a.Header.Get("Cache-Control") != "private, no-cache" {
			t.Errorf("%s may be kept: %s", tt.path, a.Header.Get("Cache-Control"))
		}
	}
	if a := get(t, r, "", "/describe/quiet"); strings.Contains(a.Text, "agents") {
		t.Error("everyone reads what only the office may know")
	}
}

// A resource that will go says so in its answers and in its description (RFC 9745, RFC 8594).
func TestDeprecated(t *testing.T) {
	t.Parallel()
	r := start(t)
	published(t, r, "old",
		"source: saltmere\nresources:\n  tugs: {from: harbour.tug, deprecated: {since: 2026-12-01, until: 2027-06-01, about: Use boats.}}\n"+
			"  boats: {from: harbour.tug, fields: {name: {deprecated: true}}}\nroles: {all: {anonymous: true, may: {\"*\": read}}}\n")
	for path, want := range map[string][2]string{"tugs": {"@1796083200", "Tue, 01 Jun 2027 00:00:00 GMT"}, "tugs/1": {"@1796083200",
		"Tue, 01 Jun 2027 00:00:00 GMT"}, "tugs(1)": {"@1796083200", "Tue, 01 Jun 2027 00:00:00 GMT"}, "boats": {}, "": {}} {
		a := get(t, r, "", "/api/old/"+path)
		if got := [2]string{a.Header.Get("Deprecation"), a.Header.Get("Sunset")}; got != want {
			t.Errorf("%s: %v, want %v", path, got, want)
		}
	}
	out := get(t, r, "", "/api/old/openapi.json").Text
	for text, times := range map[string]int{`"deprecated":true`: 3,
		"Deprecated since 2026-12-01, and served until 2027-06-01. Use boats.": 1} {
		if n := strings.Count(out, text); n != times {
			t.Errorf("the description has %q %d times, want %d", text, n, times)
		}
	}
}

// An overlay is kept with the document, checked when that is saved, and in each release from then on.
func TestOverlays(t *testing.T) {
	t.Parallel()
	r := start(t)
	const document = "window: patched\nsource: saltmere\nresources: {tugs: {from: harbour.tug}}\nroles: {all: {anonymous: true, may: " +
		"{tugs: read}}}\n"
	const overlay = "---\noverlay: 1.0.0\ninfo: {title: Ours, version: 1.0.0}\nactions:\n  - {target: $.info, update: {x-team: quay}}\n"
	_, err := r.Operator.Push(t.Context(), "patched", windows.Push{Document: document + overlay +
		"  - {target: \"$.paths['/boats']\", remove: true}\n"})
	if err == nil || !strings.Contains(err.Error(), "line 10, column 14: the overlay's target $.paths['/boats'] is not in the description") {
		t.Errorf("a target that is not there: %v", err)
	}
	if _, err := r.Operator.Push(t.Context(), "patched", windows.Push{Document: document + overlay}); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Operator.Publish(t.Context(), "patched", windows.NewRelease{}); err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{"/api/patched/openapi.json", "/describe/patched/1/openapi.yaml"} {
		if a := get(t, r, "", path); !strings.Contains(a.Text, "x-team") {
			t.Errorf("%s: %s lacks what the overlay adds", path, a.Status)
		}
	}
}
