package server_test

import (
	"net/url"
	"slices"
	"strings"
	"testing"
)

// What a path holds besides the row that is written is never passed over: the write is held to it, or refused with the way that there is.
// A method that is not possible says which are.
func TestNothingIsPassedOver(t *testing.T) {
	t.Parallel()
	r := start(t)
	master := r.Token(t, "harbour_master")
	const (
		tug     = `{"name":"Zed","bollard_pull_t":55}`
		goods   = `{"description":"Oats","hs_code":"100400","tonnes":5}`
		delta   = `{"value":[{"id":7,"bollard_pull_t":61}]}`
		each    = `PATCH and DELETE of every row that meets it: …/$filter(…)/$each`
		another = `; every row of a filter is changed or deleted at /tugs/$filter(…)/$each`
		rows    = "GET, HEAD, QUERY, PUT, PATCH, DELETE"
		all     = "GET, HEAD, QUERY, POST, PATCH"
		reads   = "GET, HEAD"
	)
	sum := func() []string {
		return column(t, r.Harbour, `select concat_ws(' ', (select string_agg(t::text, '' order by id) from harbour.tug t), `+
			`(select count(*) from harbour.cargo_item), (select string_agg(j::text, `+
			`'' order by j) from harbour.port_call_tug j where port_call_id = 17), (select berth_code ||`+
			` remarks from harbour.port_call where id = 17))`)
	}
	before := sum()
	for _, s := range []struct {
		method, path, body string
		status             int
		want, allow        string
	}{
		{"PATCH", "/tugs/$filter(id lt 3)", delta, 400, each, ""},
		{"PATCH", "/tugs/$filter(id lt 3)/7", tug, 400, each, ""},
		{"PUT", "/tugs/$filter(id lt 3)/7", tug, 400, each, ""},
		{"DELETE", "/tugs/$filter(id lt 3)/7", "", 400, each, ""},
		{"POST", "/tugs/$filter(id lt 3)", tug, 400, each, ""},
		{"PUT", "/tugs/$filter(id lt 3)/7/name", `{"value":"x"}`, 400, each, ""},
		{"POST", "/port_calls/17/cargo_items/$filter(id lt 3)", goods, 400, each, ""},
		{"DELETE", "/port_calls/17/tugs/$filter(id lt 3)/3/$ref", "", 400, each, ""},
		{"POST", "/port_calls/$filter(id lt 3)/17/cargo_items", goods, 501,
			"a filter in the path before the relation cargo_items is not done here", ""},
		{"GET", "/port_calls/$filter(id lt 3)/17/tugs", "", 501, "ask for the row by its key, as in /port_calls/…/tugs", ""},
		{"DELETE", "/tugs?filter=id lt 3", "", 400, another, ""},
		{"PATCH", "/tugs?filter=id lt 3", delta, 400, another, ""},
		{"PATCH", "/tugs/7?top=1", tug, 400, "this is one row, which takes select, expand and compute", ""},

		{"POST", "/port_calls/17/tugs/$ref", `{"@id":"tugs/4/name"}`, 400, "and \\\"tugs/4/name\\\" is none; write tugs/…", ""},
		{"POST", "/port_calls/17/tugs/$ref", `{"@id":"tugs/$filter(id lt 3)/4"}`, 400, "is none; write tugs/…", ""},
		{"POST", "/port_calls/17/tugs/$ref", `{"@id":"port_calls/18/tugs/99"}`, 404, "no such row of tugs", ""},
		{"PATCH", "/port_calls/17", `{"berth":{"@id":"port_calls/18/berth/code"}}`, 400, "is none; write berths/…", ""},
		{"PATCH", "/tugs", `{"value":[{"@id":"tugs/4/name","bollard_pull_t":60}]}`, 400, "is no row of tugs", ""},

		{"POST", "/port_calls/17/tugs/1/$ref", `{"@id":"tugs/2"}`, 405, "added with POST to …/tugs/$ref, with the row in the body",
			"GET, HEAD, DELETE"},
		{"POST", "/port_calls/17/tugs/$ref?$id=tugs/6", `{"@id":"tugs/2"}`, 400, "$id does not go with a link", ""},
		{"POST", "/port_calls/17/tugs/$ref", `{"@id":"tugs/2","@odata.id":"tugs/1"}`, 400, "the body names two rows", ""},
		{"POST", "/port_calls/17/tugs/$ref", `{"@id":"tugs/2","@id":"tugs/1"}`, 400, `\"@id\" stands twice in the body`, ""},
		{"POST", "/port_calls/17/tugs/$ref", `{"@id":"tugs/2","name":"x"}`, 400,
			`the body of a link is {\"@id\":\"…\"}, and name has no place in it`, ""},
		{"POST", "/port_calls/17/tugs/$ref", `[{"@id":"tugs/2"}]`, 400, `send {\"@id\":\"…\"}`, ""},
		{"POST", "/port_calls/17/tugs/$ref", `{"@id":7}`, 400, "@id is a string: the path of a row", ""},
		{"POST", "/port_calls/17/tugs/$ref", `{"@id":`, 400, "the body is not JSON: line 1", ""},
		{"POST", "/port_calls/17/tugs/$ref", "", 400, `send {\"@id\":\"…\"}`, ""},
		{"DELETE", "/port_calls/17/tugs/4/$ref?$id=tugs/5", "", 400, "the path says which link already; leave $id out", ""},
		{"DELETE", "/port_calls/17/tugs/$ref?$id=tugs/5&$id=tugs/7", "", 400, "$id stands twice", ""},
		{"DELETE", "/port_calls/17/tugs/$ref?id=tugs/5&$id=tugs/7", "", 400, "$id stands twice", ""},
		{"DELETE", "/port_calls/17/tugs/4/$ref?filter=id lt 3", "", 400, "filter does not go with a link", ""},
		{"DELETE", "/port_calls/17/berth/$ref?$id=berths/N05", "", 400, "the path says which link already", ""},
		{"DELETE", "/port_calls/17/tugs/4/$ref?%zz", "", 400, "the query can't be read", ""},
		{"POST", "/tugs?format=xml", tug, 406, "a write is answered in JSON", ""},
		{"POST", "/$batch?select=id", `{"requests":[{"id":"1","method":"POST","url":"tugs","body":` + tug + `}]}`, 400,
			"select does not go with a batch", ""},
		{"POST", "/$batch?$format=csv", `{"requests":[{"id":"1","method":"POST","url":"tugs","body":` + tug + `}]}`, 406,
			"a write is answered in JSON", ""},
		{"PATCH", "/tugs?format=csv", delta, 406, "Nothing was changed", ""},

		{"PUT", "/port_calls/17/tugs/$ref", `{"@id":"tugs/3"}`, 400, `the body of a set of links is {\"value\":[{\"@id\":\"tugs/…\"}]}`, ""},
		{"POST", "/port_calls/17/berth/$ref", `{"@id":"berths/N05"}`, 405, "its link is set with PUT", "GET, HEAD, PUT, DELETE"},
		{"PATCH", "/port_calls/17/berth/$ref", `{"@id":"berths/N05"}`, 405, "a link is made with PUT and removed with DELETE",
			"GET, HEAD, PUT, DELETE"},
		{"PATCH", "/port_calls/17/tugs/$ref", `{"@id":"tugs/3"}`, 405,
			"a link is made with POST and removed with DELETE; PATCH of the row changes many at once", "GET, HEAD, POST, PUT, DELETE"},
		{"PATCH", "/tugs/$ref", `{"@id":"tugs/3"}`, 405, "relations between them at /tugs/…/relation/$ref", reads},
		{"POST", "/tugs/7/name", `{"value":"x"}`, 405, `name is set with PUT, and {\"value\": …}`, rows},
		{"PUT", "/tugs/7/name/$value", `x`, 501, `send {\"value\": …} with PUT to the path before it`, ""},
		{"POST", "/tugs/7", tug, 405, "added with POST to the collection /tugs", rows},
		{"POST", "/port_calls/17/vessel", `{}`, 405, "the one that vessel leads to is changed with PATCH", rows},
		{"PUT", "/tugs", `[]`, 405, "only a single row can be replaced with PUT", all},
		{"DELETE", "/tugs", "", 405, "only a single row can be deleted", all},
		{"POST", "/tugs/$count", tug, 405, "$count is read; rows are written at /tugs", reads},
		{"POST", "/tugs/$filter(id lt 3)/$each", tug, 405, "changed with PATCH or deleted with DELETE", "PATCH, DELETE"},
		{"PUT", "/tugs/$filter(id lt 3)/$each", tug, 405, "changed with PATCH or deleted with DELETE", "PATCH, DELETE"},
		{"PATCH", "/port_calls/17/tugs/$filter(id lt 3)/$each", tug, 501, "/tugs/$filter(…)/$each", ""},
		{"PUT", "/port_calls/17/cargo_items", `[]`, 501, `PATCH /port_calls/17 with {\"cargo_items@delta\":[…]}`, ""},
		{"DELETE", "/port_calls/17/cargo_items", "", 501, "or at their own resource, /cargo_items", ""},
		{"PATCH", "/monthly_traffic", `{}`, 405, "it is a materialized view, and offers read", "GET, HEAD, QUERY"},

		{"DELETE", "/", "", 405, "DELETE is not possible here", reads},
		{"POST", "/$metadata", "{}", 405, "POST is not possible here", reads},
		{"PUT", "/openapi.json", "{}", 405, "PUT is not possible here", reads},
		{"GET", "/$batch", "", 405, "GET is not possible here", "POST"},
	} {
		path, query, _ := strings.Cut(s.path, "?")
		a := write(t, r, master, s.method, "/api/saltmere"+(&url.URL{Path: path}).EscapedPath()+"?"+strings.ReplaceAll(query, " ", "%20"), s.body)
		if a.StatusCode != s.status || !strings.Contains(a.Text, s.want) || strings.TrimSuffix(a.Header.Get("Allow"), ", OPTIONS") != s.allow {
			t.Errorf("%s %s %s: %s, Allow %q, %s\nwant %d, %q, %s", s.method, s.path, s.body, a.Status, a.Header.Get("Allow"), a.Text, s.status,
				s.allow, s.want)
		}
	}
	if after := sum(); !slices.Equal(after, before) {
		t.Errorf("something was written: %s\nbefore: %s", after, before)
	}
	// Along relations, an @id is the row that they lead to.
	if a := write(t, r, master, "PUT", "/api/saltmere/port_calls/17/berth/$ref", `{"@id":"port_calls/18/berth"}`); a.StatusCode != 204 {
		t.Errorf("%s %s", a.Status, a.Text)
	}
	if codes := column(t, r.Harbour, "select distinct berth_code from harbour.port_call where id in (17, 18)"); len(codes) != 1 {
		t.Errorf("the berths are %q, want one", codes)
	}
}
