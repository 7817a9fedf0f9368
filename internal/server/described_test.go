package server_test

import (
	"strings"
	"testing"
)

// Statuses that the description promises and that no other test has a reason to meet; each answer is held against it as it is given.
func TestEveryStatus(t *testing.T) {
	t.Parallel()
	r := start(t)
	master := r.Token(t, "harbour_master")
	const minimal, shown = "return=minimal", "return=representation"
	for _, tt := range []struct {
		method, path, body string
		status             int
		headers            []string
	}{
		{"POST", "/tugs", `{"name":"One","bollard_pull_t":1}`, 204, []string{"Prefer", minimal}},
		{"PATCH", "/tugs", `{"value":[{"id":1,"bollard_pull_t":31}]}`, 200, []string{"Prefer", shown}},
		{"PATCH", "/tugs", `{"value":[{"name":"One","bollard_pull_t":1}]}`, 409, nil},
		{"PATCH", "/tugs", `{"value":[{"id":1,"bollard_pull_t":-1}]}`, 422, nil},
		{"PATCH", "/tugs/$filter(id%20eq%201)/$each", `{"bollard_pull_t":32}`, 200, []string{"Prefer", shown}},
		{"PATCH", "/tugs/$filter(id%20eq%201)/$each", `{"bollard_pull_t":33}`, 204, nil},
		{"PATCH", "/tugs/$filter(id%20in%20(1,2))/$each", `{"name":"One"}`, 409, nil},
		{"PATCH", "/tugs/$filter(id%20eq%201)/$each", `{"bollard_pull_t":-1}`, 422, nil},
		{"DELETE", "/vessels/$filter(id%20eq%203)/$each", "", 409, nil},
		{"GET", "/pilots(00000000-0000-0000-0000-000000000000)/name", "", 404, nil},
		{"GET", "/vessels(3)/built_on", "", 200, nil},
		{"PUT", "/tugs/1", `{"name":"Bram","bollard_pull_t":30}`, 204, []string{"Prefer", minimal}},
		{"PUT", "/tugs/1", `{"name":"Bram","bollard_pull_t":-1}`, 422, nil},
		{"PUT", "/vessels/3/port_calls/$ref", `{"value":[]}`, 409, nil},
		{"GET", "/$metadata", "", 406, []string{"Accept", "image/png"}},
		{"GET", "/$metadata", "", 400, []string{"OData-MaxVersion", "x"}},
	} {
		a := write(t, r, master, tt.method, "/api/saltmere"+tt.path, tt.body, tt.headers...)
		if a.StatusCode != tt.status {
			t.Errorf("%s %s: %s, want %d: %.300s", tt.method, tt.path, a.Status, tt.status, a.Text)
		}
	}
	null := column(t, r.Harbour, "select id from harbour.vessel where built_on is null limit 1")
	if len(null) == 0 {
		null = column(t, r.Harbour, "update harbour.vessel set built_on = null where id = 5 returning id")
	}
	if a := write(t, r, master, "GET", "/api/saltmere/vessels("+strings.TrimSpace(null[0])+")/built_on", ""); a.StatusCode != 204 {
		t.Errorf("a field that is null: %s", a.Status)
	}
}
