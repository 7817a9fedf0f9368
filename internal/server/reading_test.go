package server_test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"eagerwindow/internal/client"
	"eagerwindow/internal/core/payload"
	"eagerwindow/internal/harbourtest"
)

// The parts of the language that the differential test does not draw, each beside SQL by hand.
func TestLanguage(t *testing.T) {
	t.Parallel()
	r := start(t)
	token := r.Token(t, "harbour_master")
	tests := []struct{ path, field, sql string }{
		{"/vessels?filter=particulars/engine/kw gt 11000&orderby=id&top=1000", "id",
			"select id from harbour.vessel where (particulars#>>'{engine,kw}')::numeric > 11000 order by id"},
		{"/vessels?filter=particulars/engine/maker eq 'Vasko' and particulars/crew in (5,6)&orderby=id", "id",
			"select id from harbour.vessel where particulars#>>'{engine,maker}' = 'Vasko' and (particulars->>'crew')::int in (5,6) order by id"},
		{"/vessels?filter=particulars/engine eq null&orderby=id&top=1000", "id",
			"select id from harbour.vessel where not particulars ? 'engine' order by id"},
		{"/vessels?filter=particulars/engine/maker gt 5", "id", "select 1 where false"},
		{"/vessels?filter=tags/any(t: t eq 'ice')&orderby=id&top=1000", "id",
			"select id from harbour.vessel where 'ice' = any(tags) order by id"},
		{"/vessels?filter=tags/$count gt 1 and tags/all(t: length(t) gt 3)&orderby=id", "id", "select id from harbour.vessel where " +
			"cardinality(tags) > 1 and not exists (select from unnest(tags) t where length(t) <= 3) order by id"},
		{"/port_calls?filter=pilotages/any(p: p/pilot/mentor/licence eq 'SM-4103' and p/port_call/status eq $it/status)&orderby=id&top=50", "id",
			"select distinct p.id from harbour.port_call p join harbour.pilotage g on g.port_call_id = p.id join harbour.pilot a on a.id = " +
				"g.pilot_id join harbour.pilot m on m.id = a.mentor_id where m.licence = 'SM-4103' order by 1 limit 50"},
		{"/inspections?filter=findings/any(f: f/grade ge 3)&orderby=id&top=1000", "id",
			"select distinct i.id from harbour.inspection i, jsonb_array_elements(findings) f where (f->>'grade')::int >= 3 order by 1"},
		{"/cargo_items?filter=stowage/lower ge 78&orderby=id&top=1000", "id",
			"select id from harbour.cargo_item where lower(stowage) >= 78 order by id"},
		{"/port_calls?filter=departed_at sub arrived_at gt duration'PT14H30M' and eta gt 2026-06-01T00:00:00Z&orderby=id&top=1000", "id",
			"select id from harbour.port_call where departed_at - arrived_at > interval '14:30' and eta > '2026-06-01Z' order by id"},
		{"/port_calls?filter=eta add duration'P1D' gt 2026-07-17T00:00:00Z&orderby=id", "id",
			"select id from harbour.port_call where eta + interval '1 day' > '2026-07-17Z' order by id"},
		{"/vessels?filter=year(built_on) eq 2001 and month(built_on) lt 6&orderby=id", "id",
			"select id from harbour.vessel where built_on >= '2001-01-01' and built_on < '2001-06-01' order by id"},
		{"/port_calls?filter=date(eta) eq 2026-07-02 and hour(eta) ge 20 and time(eta) lt 22:30:00&orderby=id", "id",
			"select id from harbour.port_call where eta >= '2026-07-02 20:00Z' and eta < '2026-07-02 22:30Z' order by id"},
		{"/inspections?filter=totalseconds(took) gt 13000&orderby=id&top=1000", "id",
			"select id from harbour.inspection where took > interval '13000 seconds' order by id"},
		{"/vessels?filter=matchesPattern(name,'^(Grey|Pale) [A-M].*$')&orderby=id&top=1000", "id",
			"select id from harbour.vessel where name ~ '^(Grey|Pale) [A-M]' order by id"},
		{"/vessels?filter=cast(imo_number,Edm.Int32) mod 100 eq 97 and isof(name,Edm.String)&orderby=id", "id",
			"select id from harbour.vessel where imo_number::int % 100 = 97 order by id"},
		{"/vessels?filter=floor(gross_tonnage divby 1000) eq 24 or ceiling(gross_tonnage mul -1) eq -24150&orderby=id", "id",
			"select id from harbour.vessel where floor(gross_tonnage / 1000) = 24 or ceil(-gross_tonnage) = -24150 order by id"},
		{"/vessels?filter=id eq @a or name eq @b&@a=3&@b='Lindisker'&orderby=id", "id",
			"select id from harbour.vessel where id = 3 or name = 'Lindisker' order by id"},
		{"/vessels?filter=id in @l&@l=(3,5,7)&orderby=id", "id", "select id from harbour.vessel where id in (3,5,7) order by id"},
		{"/port_calls?compute=tugs/$count as n,draught_m mul 3.2808 as feet&filter=n eq 3 and feet gt 44&orderby=feet desc,id&top=30", "id",
			"select p.id from harbour.port_call p where (select count(*) from harbour.port_call_tug j where j.port_call_id = p.id) = 3 and " +
				"draught_m * 3.2808 > 44 order by draught_m desc, id limit 30"},
		{"/vessels?filter='ice' in tags and not ('thruster' in tags)&orderby=id&top=1000", "id",
			"select id from harbour.vessel where tags @> '{ice}' and not tags @> '{thruster}' order by id"},
		{"/vessels/$filter(kind eq 'tanker')/$filter(flag eq @f)?filter=id lt 200&orderby=id&@f='NO'", "id",
			"select id from harbour.vessel where kind = 'tanker' and flag = 'NO' and id < 200 order by id"},
		{"/vessels?orderby=port_calls/$count desc,name&top=15", "id", "select v.id from harbour.vessel v order by (select count(*) from " +
			"harbour.port_call p where p.vessel_id = v.id) desc, name, id limit 15"},
		{`/port_calls?search=ice OR "engine failure"&orderby=id&top=1000`, "id",
			"select id from harbour.port_call where remarks ilike '%ice%' or remarks ilike '%engine failure%' order by id limit 1000"},
		{"/vessels?search=grey NOT (petrel OR wake)&orderby=id", "id",
			"select id from harbour.vessel where name ilike '%grey%' and name not ilike '%petrel%' and name not ilike '%wake%' order by id"},
		{`/vessels?filter=hassubset(tags,["ice","thruster"])&orderby=id&top=1000`, "id",
			"select id from harbour.vessel where tags @> '{ice,thruster}' order by id"},
		{`/vessels?filter=hassubsequence(tags,@t) or not hassubset(@t,tags)&@t=["ice","thruster"]&orderby=id&top=1000`, "id",
			"select id from harbour.vessel where array_position(tags, 'ice') < (select max(o) from unnest(tags) with ordinality u(v, " +
				"o) where v = 'thruster') or exists (select v from unnest(tags) v where v not in ('ice', " +
				"'thruster')) or cardinality(tags) > (select count(distinct v) from unnest(tags) v) order by id"},
		{"/vessels?filter=id in @l&@l=[3,5,7]&orderby=id", "id", "select id from harbour.vessel where id in (3,5,7) order by id"},
		{`/vessels?filter=built_on in ["2001-05-11",null]&orderby=id&top=1000`, "id",
			"select id from harbour.vessel where built_on = '2001-05-11' or built_on is null order by id"},
		{"/vessels?filter=id in []", "id", "select 1 where false"},
		{"/port_calls?filter=draught_m gt $root/berths('B03')/max_draught_m add 1 and vessel/kind eq $root/vessels(3)/kind&orderby=id&top=1000",
			"id",
			"select p.id from harbour.port_call p join harbour.vessel v on v.id = vessel_id where draught_m > (select max_draught_m + 1 from " +
				"harbour.berth where code = 'B03') and v.kind = (select kind from harbour.vessel where id = 3) order by 1 limit 1000"},
		{"/pilotages?filter=port_call_id eq $root/port_calls(id=17)/id and pilot/name ne $root/vessels(999999)/agent/name&orderby=pilot_id," +
			"direction", "port_call_id", "select port_call_id from harbour.pilotage where port_call_id = 17"},
		{"/pilots?filter=on_duty and not (mentor/on_duty)&orderby=name", "name",
			"select p.name from harbour.pilot p join harbour.pilot m on m.id = p.mentor_id where p.on_duty and not m.on_duty order by p.name"},
	}
	for _, tt := range tests {
		t.Run(tt.path, func(t *testing.T) {
			got := fields(readList(t, r.Send(t, token, "GET", "/api/saltmere"+tt.path, nil)), tt.field)
			if want := column(t, r.Harbour, tt.sql); !slices.Equal(got, want) {
				t.Errorf("got %d %.300v\nwant %d %.300v", len(got), got, len(want), want)
			}
		})
	}
}

// What expand can do, told by the whole answer.
func TestExpandOptions(t *testing.T) {
	t.Parallel()
	r := start(t)
	token := r.Token(t, "harbour_master")
	one := func(sql string) string { return column(t, r.Harbour, sql)[0] }
	tests := []struct{ path, want string }{
		{"/tugs/1?expand=port_calls/$count&select=name",
			`{"@context":"../$metadata#tugs(name,port_calls())/$entity","name":"Bram","port_calls@count":` +
				one("select count(*) from harbour.port_call_tug where tug_id = 1") + `}`},
		{"/vessels/3?select=name&expand=port_calls/$ref(orderby=id;top=1)", `"port_calls":[{"@id":"port_calls/` +
			one("select min(id) from harbour.port_call where vessel_id = 3") + `"}]}`},
		{"/vessels/3?select=name&expand=port_calls(filter=status eq 'cancelled';compute=year(eta) as y;select=id,y;orderby=id;top=1)",
			`"port_calls":[{"id":` + one("select min(id) from harbour.port_call where vessel_id = 3 and status = 'cancelled'") + `,"y":20`},
		{"/vessels/3?select=name&expand=port_calls(search=xyzzy;count=true)", `"port_calls@count":0,"port_calls":[]}`},
		{"/pilots?filter=licence eq 'SM-4103'&select=name&expand=trainees(levels=2;select=name;orderby=name;top=1)", `"trainees":[{"name":"`},
		{"/pilots?top=1&orderby=name&select=name&expand=mentor(levels=max;select=name)", `"mentor":`},
		{"/dues?top=1&expand=*", `"port_call":{"id":`},
		{"/tugs/1?compute=bollard_pull_t mul 2 as twice,concat(name,'!') as shout&select=shout",
			`{"@context":"../$metadata#tugs(shout)/$entity","shout":"Bram!"}`},
		{"/tugs/1?compute=bollard_pull_t gt 1 as strong", `"bollard_pull_t":54.5,"strong":true}`},
	}
	for _, tt := range tests {
		if a := r.Send(t, token, "GET", "/api/saltmere"+tt.path, nil); a.StatusCode != 200 || !strings.Contains(a.Text, tt.want) {
			t.Errorf("%s\ngot  %s %.500s\nwant %s", tt.path, a.Status, a.Text, tt.want)
		}
	}
	// A role's expand=* is what it may read.
	a := r.Send(t, r.Token(t, "agent"), "GET", "/api/saltmere/port_calls?top=1&expand=*", nil)
	if a.StatusCode != 200 || strings.Contains(a.Text, `"inspections"`) || !strings.Contains(a.Text, `"tugs"`) {
		t.Errorf("expand=* as agent: %s %s", a.Status, a.Text)
	}
	// Lambdas and counts keep to the role's rows and fields.
	agent := r.Token(t, "agent")
	own := fields(readList(t, r.Send(t, agent, "GET", "/api/saltmere/tugs?compute=port_calls/$count as n&orderby=id", nil)), "n")
	if want := column(t, r.Harbour, "select (select count(*) from harbour.port_call_tug j join harbour.port_call p on p.id = "+
		"j.port_call_id join harbour.vessel v on v.id = p.vessel_id "+
		"where j.tug_id = t.id and v.agent_id = 3) from harbour.tug t order by id"); !slices.Equal(own, want) {
		t.Errorf("counts as agent: %v, want %v", own, want)
	}
	for _, query := range []string{"filter=port_calls/any(p: p/remarks eq null)", "compute=port_calls/$count(filter=remarks eq null) as n",
		"filter=port_calls/any(p: p/inspections/any())"} {
		if a := r.Send(t, agent, "GET", "/api/saltmere/tugs?"+query, nil); a.StatusCode != 403 {
			t.Errorf("%s as agent: %s %s", query, a.Status, a.Text)
		}
	}
}

// Mistakes that only a value can make are refusals, never a fault of the service.
func TestValueMistakes(t *testing.T) {
	t.Parallel()
	r := start(t)
	token := r.Token(t, "harbour_master")
	for query, want := range map[string]string{
		"filter=id mul 9223372036854775807 gt 1": "a number is out of range", "filter=id div 0 eq 1": "something is divided by zero",
		"filter=id eq 99999999999999999999": "", "filter=matchesPattern(name,'(')": "is no pattern that is understood: missing closing )",
		`filter=matchesPattern(name,'(a)\1')`: "is no pattern", "filter=built_on eq 0000-00-00": "is no date",
		"filter=substring(name,-5) eq name": "", "filter=@p eq @p&@p=@p": "stands for itself", "filter=name eq @p&@p=@q&@q='Lindisker'": "",
		"compute=id as name": `vessels has \"name\" already`, "compute=id add 1": `\"as\" and a name`,
		"compute=tags as x": "single values can be computed",
		"search=\"a":        "the phrase is not closed", "search=a AND": "a word or a phrase in double quotes is missing",
		"search=NOT":             "is missing",
		"expand=agent(levels=2)": "levels goes with a relation to the same resource", "filter=port_calls/all()": "all(…) needs a condition",
		"filter=agent/any(a: a/id eq 1)": "leads to one row", "filter=name/any(a: a eq 1)": "take a relation to many or an array",
		"filter=cast(name,Edm.Guid) eq null": "can't be cast", "filter=cast(name,Edm.Stringg) eq null": `did you mean \"Edm.String\"?`,
		"filter=hassubset(name,[1])": `name is a string`, `filter=hassubset(tags,[1])`: "holds whole numbers, but the other list holds strings",
		"filter=hassubset(tags)": "takes two lists", "filter=hassubset(tags,'ice')": "write ['ice']",
		"filter=tags eq [1]": "holds whole numbers, but the other list holds strings", "filter=id in [1": "the array is not JSON",
		"filter=id in [[1]]": "item 1 of the array is no single value", `filter=id in ["a"]`: "is a string",
		"filter=id eq $root/vessel(1)/id": `did you mean \"vessels\"?`, "filter=id eq $root/vessels/id": "a key in brackets",
		"filter=id eq $root/vessels('a')/id":       "is a string",
		"filter=id eq $root/vessels(1)":            "compare a field of it, such as $root/vessels(1)/id",
		"filter=id eq $root/pilotages(1)/pilot_id": "has 3 parts",
		"select=name/x":                            "which has nothing below it to select",
		"filter=case(id eq 1:1,true:'a') eq 1":     "the values of case must have one type",
		"filter=id add name eq 1":                  `so \"add\" can't reckon with them`,
	} {
		a := r.Send(t, token, "GET", "/api/saltmere/vessels?"+query, nil)
		if want == "" && a.StatusCode != 200 || want != "" && (a.StatusCode != 400 || !strings.Contains(a.Text, want)) {
			t.Errorf("%s: %s %.300s\nwant %q", query, a.Status, a.Text, want)
		}
	}
}

// Paths: along relations, to fields, bare values, counts and links.
func TestPaths(t *testing.T) {
	t.Parallel()
	r := start(t)
	master, agent := r.Token(t, "harbour_master"), r.Token(t, "agent")
	one := func(sql string) string { return column(t, r.Harbour, sql)[0] }
	const calls = "from harbour.port_call where vessel_id = 3"
	const waiting = "from harbour.port_call p join harbour.vessel v on v.id = p.vessel_id where v.agent_id = 3 and p.berth_code is null " +
		"order by p.id limit 1"
	last, name := one("select p.id "+waiting), one("select v.name "+waiting)
	tests := []struct {
		token, path string
		status      int
		want        string
	}{
		{master, "/vessels/3/port_calls?filter=status eq 'departed'&orderby=eta&top=1&select=id&count=true", 200,
			`{"@context":"../../$metadata#port_calls(id)","@count":` + one("select count(*) "+calls+" and status = 'departed'") + `,"value":[
{"id":` + one("select id "+calls+" and status = 'departed' order by eta limit 1") + `}
]}`},
		{master, "/vessels(3)/port_calls/$count", 200, one("select count(*) " + calls)},
		{master, "/vessels/3/port_calls/$count?filter=hazardous", 200, one("select count(*) " + calls + " and hazardous")},
		{master, "/port_calls/" + last + "/vessel/agent?select=id", 200, `{"@context":"../../../$metadata#agents(id)/$entity","id":3}`},
		{master, "/port_calls/" + last + "/vessel/name", 200, `{"@context":"../../../$metadata#port_calls(` + last + `)/vessel/name","value":"` +
			name + `"}`},
		{master, "/port_calls/" + last + "/vessel/name/$value", 200, name},
		{master, "/port_calls/" + last + "/berth", 204, ""},
		{master, "/port_calls/" + last + "/berth_code", 204, ""},
		{master, "/port_calls/999999/berth", 404, "there is no such row of port_calls"},
		{master, "/vessels/999999/port_calls", 404, "there is no such row of vessels"},
		{agent, "/vessels/1/port_calls", 404, "there is no such row of vessels"},
		{agent, "/vessels/3/port_calls/$count", 200, one("select count(*) " + calls)},
		{agent, "/tugs/1/port_calls/$count", 200, one("select count(*) from harbour.port_call_tug j join harbour.port_call p on p.id = " +
			"j.port_call_id join harbour.vessel v on v.id = p.vessel_id where v.agent_id = 3 and tug_id = 1")},
		{agent, "/port_calls/" + last + "/remarks", 403, "may not read remarks"},
		{master, "/port_calls/1/tugs/$ref?orderby=id", 200, `"@context":"../../../$metadata#Collection($ref)"`},
		{master, "/vessels/3/port_calls/1", 404, "there is no such row of port_calls"},
		{master, "/vessels/3/particulars/$value", 200, `{"crew":`},
		{master, "/vessels/3/kind/$value", 200, one("select kind::text from harbour.vessel where id = 3")},
		{master, "/vessels/3/name?select=id", 400, "this is a field, which takes no options"},
		{master, "/vessels/3/name/x", 404, `nothing follows \"name\"`},
		{master, "/vessels/3/$count", 400, "$count follows a collection"},
		{master, "/vessels/3/$valu", 404, `did you mean \"$value\"?`},
		{master, "/vessels/$count?orderby=id", 400, "this is a count, which takes filter, search and apply"},
		{master, "/vessels/3/agent(1)", 400, "agent leads to one row, so it takes no key"},
		{master, "/pilots?top=0&expand=mentor/$count", 400, "which is not counted"},
	}
	for _, tt := range tests {
		if a := r.Send(t, tt.token, "GET", "/api/saltmere"+tt.path, nil); a.StatusCode != tt.status || !strings.Contains(a.Text, tt.want) {
			t.Errorf("%s\ngot  %s %.400s\nwant %d %s", tt.path, a.Status, a.Text, tt.status, tt.want)
		}
	}
}

// Versions of rows, and options in the body.
func TestVersionsAndQuery(t *testing.T) {
	t.Parallel()
	r := start(t)
	master := r.Token(t, "harbour_master")
	send := func(method, path, body string, header ...string) (int, string, http.Header) {
		t.Helper()
		req, err := http.NewRequest(method, r.URL+client.Escape(path), strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+master)
		for i := 0; i < len(header); i += 2 {
			req.Header.Set(header[i], header[i+1])
		}
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		raw, _ := io.ReadAll(res.Body)
		text := harbourtest.Unversioned(string(raw))
		return res.StatusCode, string(text), res.Header
	}
	_, _, first := send("GET", "/api/saltmere/vessels/3", "")
	tag := first.Get("ETag")
	if status, text, _ := send("GET", "/api/saltmere/vessels/3", "", "If-None-Match", tag); status != 304 || text != "" {
		t.Errorf("the same version: %d %s", status, text)
	}
	if status, _, h := send("HEAD", "/api/saltmere/vessels/3", ""); status != 200 || h.Get("ETag") != tag || h.Get("Content-Length") == "" {
		t.Errorf("HEAD: %d %v", status, h)
	}
	if status, text, _ := send("PATCH", "/api/saltmere/vessels/3", `{"flag":"DK"}`, "Content-Type", "application/json"); status != 200 {
		t.Fatal(text)
	}
	if status, _, h := send("GET", "/api/saltmere/vessels/3", "", "If-None-Match", `"x", `+tag); status != 200 || h.Get("ETag") == tag {
		t.Errorf("another version: %d, %s after %s", status, h.Get("ETag"), tag)
	}
	const options = "filter=id in (1,2,3)&select=id&orderby=id desc"
	_, want, _ := send("GET", "/api/saltmere/vessels?"+options, "")
	for _, q := range [][3]string{{"POST", "/api/saltmere/vessels/$query", "text/plain"},
		{"QUERY", "/api/saltmere/vessels", "application/x-www-form-urlencoded"}} {
		if status, text, _ := send(q[0], q[1], options, "Content-Type", q[2]); status != 200 ||
			!strings.HasSuffix(text, want[strings.Index(want, `"value"`):]) {
			t.Errorf("%s: %d %s\nwant %s", q[0], status, text, want)
		}
		if status, text, _ := send(q[0], q[1], options, "Content-Type", "application/json"); status != 415 || !strings.Contains(text, q[2]) {
			t.Errorf("%s with another type: %d %s", q[0], status, text)
		}
	}
	if status, text, _ := send("POST", "/api/saltmere/vessels/$query", "filter=id in ("+strings.Repeat("1,", 20000)+"2)&select=id&orderby=id",
		"Content-Type", "text/plain"); status != 200 || !strings.Contains(text, `{"id":1},`) {
		t.Errorf("a long list: %d %.300s", status, text)
	}
}

// All tide readings page by page, in an order that is not the key's, while others are added: nothing twice, nothing missed.
func TestPagingWalk(t *testing.T) {
	t.Parallel()
	r := start(t)
	token := r.Token(t, "harbour_master")
	seen, pages, added := map[string]bool{}, 0, 0
	before := map[string]bool{}
	for _, k := range column(t, r.Harbour,
		"select station || ' ' || to_char(read_at at time zone 'UTC', 'YYYY-MM-DD\"T\"HH24:MI:SS\"Z\"') from harbour.tide_reading") {
		before[k] = true
	}
	for next := "/api/saltmere/tide_readings?orderby=read_at desc"; next != ""; pages++ {
		l, _ := nextPage(t, r, token, next, "odata.maxpagesize=1000")
		for i, station := range fields(l, "station") {
			key := station + " " + fields(list{Value: l.Value[i : i+1]}, "read_at")[0]
			if seen[key] {
				t.Fatalf("%s comes twice", key)
			}
			seen[key] = true
		}
		if next = l.NextLink; pages%25 == 0 { // before and behind where the walk is
			added++
			a := r.Send(t, token, "POST", "/api/saltmere/tide_readings",
				strings.NewReader(fmt.Sprintf(`{"station":"New %d","read_at":"202%d-03-01T00:00:00Z","height_m":1}`, added, added%10)))
			if a.StatusCode != 201 {
				t.Fatal(a.Text)
			}
		}
	}
	for k := range before {
		if !seen[k] {
			t.Fatalf("%s is missed", k)
		}
	}
	if len(before) != 250_000 || pages < 250 {
		t.Errorf("%d readings on %d pages", len(seen), pages)
	}
}

// Many callers at once who ask for what is empty: nobody waits for a connection that nobody gives back.
func TestEmptyAtOnce(t *testing.T) {
	t.Parallel()
	r := start(t)
	token := r.Token(t, "harbour_master")
	var wg sync.WaitGroup
	for range 60 {
		wg.Go(func() {
			for range 5 {
				if a := r.Send(t, token, "GET", "/api/saltmere/vessels/3/port_calls?filter=false", nil); a.StatusCode != 200 {
					t.Errorf("%s %s", a.Status, a.Text)
				}
				if a := r.Send(t, token, "GET", "/api/saltmere/vessels/999999/port_calls", nil); a.StatusCode != 404 {
					t.Errorf("%s %s", a.Status, a.Text)
				}
			}
		})
	}
	wg.Wait()
}

// Composite values are filtered, sorted and selected by part; arrays of numbers are compared as lists, repetition and order told.
func TestParts(t *testing.T) {
	t.Parallel()
	r := start(t)
	ctx := context.Background()
	dsn := database(t, `create type point3 as (x int, "Y z" int, label text); create type leg as (start_at point3, knots numeric);
		create table course (id int primary key, leg leg, marks int[]);
		insert into course values (1, row(row(1, 2, 'a'), 7.50), '{1,2,2,3}'), (2, row(row(5, 6, null), 9), '{}'), (3, null, null), (4, row(null,
			null), '{3,2}')`)
	if _, err := r.Operator.PushDraft(ctx, "courses", "window: courses\nsource: "+dsn+"\nresources: {course: {}}"); err != nil {
		t.Fatal(err)
	}
	tests := []struct{ query, want string }{
		{"select=leg/knots,id&top=2", `{"@context":"$metadata#course(leg/knots,id)","value":[{"leg":{"knots":7.50},"id":1},{"leg":{"knots":9},` +
			`"id":2}]}`},
		{"select=leg/start_at/label,leg/knots&filter=id in (1,3,4)", `{"@context":"$metadata#course(leg/start_at/label,leg/knots)",` +
			`"value":[{"leg":{"start_at":{"label":"a"},"knots":7.50}},{"leg":null},{"leg":{"start_at":null,"knots":null}}]}`},
		{"select=leg,leg/knots&top=1", `{"@context":"$metadata#course(leg)","value":[{"leg":{"start_at":{"x":1,"Y z":2,"label":"a"},` +
			`"knots":7.50}}]}`},
		{"select=id&filter=leg/start_at/x gt 1", `{"@context":"$metadata#course(id)","value":[{"id":2}]}`},
		{"select=id&orderby=leg/knots desc", `{"@context":"$metadata#course(id)","value":[{"id":2},{"id":1},{"id":3},{"id":4}]}`},
		{"select=id&filter=hassubset(marks,[2,2])", `{"@context":"$metadata#course(id)","value":[{"id":1}]}`},
		{"select=id&filter=hassubset(marks,[])", `{"@context":"$metadata#course(id)","value":[{"id":1},{"id":2},{"id":4}]}`},
		{"select=id&filter=hassubset([3,2,1],marks)", `{"@context":"$metadata#course(id)","value":[{"id":2},{"id":4}]}`},
		{"select=id&filter=hassubsequence(marks,[2,3])", `{"@context":"$metadata#course(id)","value":[{"id":1}]}`},
		{"select=id&filter=not hassubsequence(marks,[3,2])", `{"@context":"$metadata#course(id)","value":[{"id":1},{"id":2}]}`},
		{"select=id&filter=hassubsequence(marks,marks)", `{"@context":"$metadata#course(id)","value":[{"id":1},{"id":2},{"id":4}]}`},
		{"select=leg/knot", `"code":"field.unknown","message":"\"leg\" has no field \"knot\" in select at 5; did you mean \"knots\"?"`},
		{"select=leg/knots/x", `"message":"\"knots\" is a number, which has nothing below it to select in select at 11"`},
	}
	for _, tt := range tests {
		a := r.Send(t, r.Operator.Token, "GET", "/draft/courses/course?"+tt.query, nil)
		if got := strings.ReplaceAll(a.Text, "\n", ""); !strings.Contains(got, tt.want) {
			t.Errorf("%s\ngot  %s\nwant %s", tt.query, got, tt.want)
		}
	}
}

// Reads of one row that come at the same time go to the database together. Each caller still gets what is its own to see, and
// what was written a moment before.
func TestTogether(t *testing.T) {
	t.Parallel()
	r := start(t)
	master := r.Token(t, "harbour_master")
	owner := map[int]string{}
	for _, line := range column(t, r.Harbour, "select id || ' ' || coalesce(agent_id::text, 'null') from harbour.vessel where id <= 60") {
		var id int
		var agent string
		if _, err := fmt.Sscan(line, &id, &agent); err != nil {
			t.Fatal(err)
		}
		owner[id] = agent
	}
	ask := func(token, method, path, body string, header http.Header) (status int, text, tag string, err error) {
		res, err := (&client.Client{URL: r.URL, Token: token}).Send(context.Background(),
			client.Request{Method: method, Path: path, Header: header, Body: strings.NewReader(body)})
		if err != nil {
			return 0, "", "", err
		}
		defer res.Body.Close()
		raw, err := io.ReadAll(res.Body)
		read := harbourtest.Unversioned(string(raw))
		return res.StatusCode, string(read), res.Header.Get("ETag"), err
	}
	var all sync.WaitGroup
	for i := range 24 {
		all.Go(func() { // an agent sees its vessels, and no other's
			as := http.Header{"Act-As": {fmt.Sprintf("agent;agent_id=%d", i%8+1)}}
			for id := 1; id <= 60; id++ {
				want := 404
				if owner[id] == strconv.Itoa(i%8+1) {
					want = 200
				}
				path := fmt.Sprintf("/draft/saltmere/vessels/%d?select=id,agent_id", id)
				status, text, _, err := ask(r.Operator.Token, "GET", path, "", as)
				if status != want || err != nil || want == 200 && !strings.Contains(text, fmt.Sprintf(`"id":%d,"agent_id":%s}`, id, owner[id])) {
					t.Errorf("agent %d of the vessel %d of agent %s: %d %s, %v", i%8+1, id, owner[id], status, text, err)
				}
			}
		})
		all.Go(func() { // what was written is read
			path := fmt.Sprintf("/api/saltmere/port_calls/%d", i+1)
			for n := range 40 {
				header := http.Header{"Content-Type": {"application/json"}}
				status, text, written, err := ask(master, "PATCH", path, fmt.Sprintf(`{"remarks":"Late by %d minutes."}`, n), header)
				if status != 200 || err != nil {
					t.Errorf("%d %s, %v", status, text, err)
					return
				}
				if status, text, read, err := ask(master, "GET", path+"?select=remarks", "", nil); status != 200 || err != nil ||
					payload.Version(read) != payload.Version(written) ||
					!strings.Contains(text, fmt.Sprintf("by %d minutes", n)) {
					t.Errorf("after %s came %d %s %s, %v", written, status, read, text, err)
				}
			}
		})
	}
	all.Wait()
}

// Null as an argument of a function makes it null (URL Conventions, 5.1.1.4), of whatever type the function takes.
func TestNullArguments(t *testing.T) {
	t.Parallel()
	r := start(t)
	token := r.Token(t, "harbour_master")
	for _, call := range []string{"contains(null,name)", "contains(name,null)", "startswith(name,null)", "endswith(name,null)",
		"matchespattern(null,'x')", "tolower(null)", "toupper(null)", "trim(null)", "concat(name,null)", "concat(null,null)",
		"substring(null,1)", "substring(name,null)", "length(null)", "indexof(name,null)", "year(null)", "month(null)", "day(null)", "hour(null)",
		"minute(null)", "second(null)", "fractionalseconds(null)", "date(null)", "time(null)", "totaloffsetminutes(null)", "totalseconds(null)",
		"round(null)", "floor(null)", "ceiling(null)", "cast(null,Edm.Int32)", "cast(null,Edm.String)"} {
		a := get(t, r, token, "/api/saltmere/vessels?top=1&select=y&compute="+call+" as y&filter="+call+" eq null")
		if a.StatusCode != 200 || !strings.Contains(a.Text, `{"y":null}`) {
			t.Errorf("%s: %s %s", call, a.Status, a.Text)
		}
	}
}

// The rest of rows whose filter speaks of the row of the request, relations away, is linked with that row named.
func TestRestOfIt(t *testing.T) {
	t.Parallel()
	r := start(t)
	master := r.Token(t, "harbour_master")
	const path = "/api/saltmere/vessels/3?select=id&expand=port_calls(top=1;select=id;filter=berth_code ne null;" +
		"expand=berth(select=code;expand=port_calls(select=id;filter=vessel_id ne $it/id)))"
	type calls struct {
		Value []struct{ ID int }
		Next  string `json:"@nextLink"`
	}
	var first struct {
		Calls []struct {
			Berth struct {
				Code  string
				Calls []struct{ ID int } `json:"port_calls"`
				Next  string             `json:"port_calls@nextLink"`
			}
		} `json:"port_calls"`
	}
	a := get(t, r, master, path)
	decode(t, a.Text, &first)
	if len(first.Calls) != 1 || first.Calls[0].Berth.Next == "" {
		t.Fatalf("no link to the rest: %.600s", a.Text)
	}
	found, next := len(first.Calls[0].Berth.Calls), first.Calls[0].Berth.Next
	if !strings.Contains(next, "%24root%2Fvessels%283%29%2Fid") {
		t.Errorf("the link is %s", next)
	}
	for next != "" {
		var page calls
		a := get(t, r, master, next)
		if a.StatusCode != 200 {
			t.Fatalf("%s: %s", next, a.Text)
		}
		decode(t, a.Text, &page)
		found, next = found+len(page.Value), page.Next
	}
	want := column(t, r.Harbour, "select count(*)::text from harbour.port_call where vessel_id <> 3 and berth_code = '"+
		first.Calls[0].Berth.Code+"'")[0]
	if strconv.Itoa(found) != want {
		t.Errorf("%d rows, want %s", found, want)
	}
	for _, format := range []string{"text/csv", "application/xml"} {
		if a := get(t, r, master, path, "Accept", format); a.StatusCode != 200 ||
			!strings.Contains(a.Text, "%24root%2Fvessels") {
			t.Errorf("%s: %s %.300s", format, a.Status, a.Text)
		}
	}
}
