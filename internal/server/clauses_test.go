package server_test

import (
	"net/http"
	"strings"
	"testing"

	"eagerwindow/internal/client"
	"eagerwindow/internal/harbourtest"
)

// clause is a request, and what the standard's section says of its answer. Headers are "Name: value"; those of the answer too, "Name:"
// alone where there must be none.
type clause struct {
	section, method, path, body string
	send                        []string
	status                      int
	want                        string
	headers                     []string
}

// exchange sends a request with headers and reads the answer.
func exchange(t *testing.T, r *harbourtest.Running, token string, c clause) harbourtest.Answer {
	t.Helper()
	header := http.Header{}
	if c.body != "" {
		header.Set("Content-Type", "application/json")
	}
	for _, h := range c.send {
		name, value, _ := strings.Cut(h, ": ")
		header.Set(name, value)
		if name == "Authorization" {
			token = ""
		}
	}
	res, err := (&client.Client{URL: r.URL, Token: token}).Send(t.Context(), client.Request{Method: c.method, Path: "/api/saltmere" + c.path,
		Body: strings.NewReader(c.body), Header: header})
	if err != nil {
		t.Fatal(err)
	}
	return harbourtest.Read(t, res)
}

// The fine print of the standard, by the section that asks for it. P is the Protocol, U the URL Conventions, J the JSON Format, A Data
// Aggregation.
func TestClauses(t *testing.T) {
	t.Parallel()
	r := start(t)
	master := r.Token(t, "harbour_master")
	pilotage := column(t, r.Harbour,
		"select format('port_calls(%s)/pilotages(direction=''%s'',pilot_id=%s)', port_call_id, direction, pilot_id) "+
			"from harbour.pilotage order by 1 limit 1")[0]
	for _, c := range []clause{
		// expressions
		{"U 5.1.1.14.1 $it", "GET", "/vessels?top=1&select=id&expand=port_calls(filter=vessel_id eq $it/id;top=0;count=true)", "", nil, 200,
			`"port_calls@count":32`, nil},
		{"U 5.1.1.14.1 $it", "GET", "/vessels?top=1&select=id&expand=port_calls(filter=vessel_id ne $it/id;count=true)", "", nil, 200,
			`"port_calls@count":0`, nil},
		{"U 5.1.1.14.1 $it", "GET", "/vessels(3)?select=id&expand=agent(select=id;expand=vessels(select=id;filter=id eq $it/id))", "", nil, 200,
			`"id":3}]}}`, nil},
		{"U 5.1.1.14.1 $it", "GET", "/vessels(3)?select=id&expand=port_calls(top=1;select=vessel_id;expand=tugs(filter=id add 2 eq $it/id and " +
			"$it/name eq 'Grey Petrel';count=true;top=0),vessel(select=name;expand=port_calls(filter=vessel_id ne $it/id)))", "", nil, 200,
			`"vessel":{"name":"Grey Petrel","port_calls":[]}`, nil},
		{"U 5.1.1.14.4 $this", "GET", "/vessels?top=1&select=id&expand=port_calls(filter=$this/hazardous and $this/id eq id;top=0;count=true)",
			"",
			nil, 200, `"port_calls@count":`, nil},
		{"U 5.1.1.1.1 null", "GET", "/vessels/$count?filter=agent eq null", "", nil, 200, column(t, r.Harbour,
			"select count(*)::text from harbour.vessel where agent_id is null")[0], nil},
		{"U 5.1.1.1.1 rows", "GET", "/vessels/$count?filter=agent eq $root/agents(3)", "", nil, 200, column(t, r.Harbour,
			"select count(*)::text from harbour.vessel where agent_id = 3")[0], nil},
		{"U 5.1.1.1.2 rows", "GET", "/vessels/$count?filter=agent ne $root/agents(3)", "", nil, 200, column(t, r.Harbour,
			"select count(*)::text from harbour.vessel where agent_id is distinct from 3")[0], nil},
		{"U 5.1.1.1.1 rows", "GET", "/vessels/$count?filter=port_calls/all(p: p/vessel eq $it)", "", nil, 200, "400", nil},
		{"U 5.1.1.1.1 collections", "GET", `/vessels/$count?filter=tags eq @p&@p=["double-hull"]`, "", nil, 200, column(t, r.Harbour,
			"select count(*)::text from harbour.vessel where tags = '{double-hull}'")[0], nil},
		{"U 5.1.1.5.2 contains", "GET", `/vessels/$count?filter=contains(tags,["double-hull"])`, "", nil, 200, column(t, r.Harbour,
			"select count(*)::text from harbour.vessel where 'double-hull' = any(tags)")[0], nil},
		{"U 5.1.1.5.6 length", "GET", "/vessels/$count?filter=length(tags) eq 2", "", nil, 200, column(t, r.Harbour,
			"select count(*)::text from harbour.vessel where cardinality(tags) = 2")[0], nil},
		{"U 5.1.1.5.4 indexof", "GET", `/vessels/$count?filter=indexof(tags,["double-hull"]) eq 1`, "", nil, 200, column(t, r.Harbour,
			"select count(*)::text from harbour.vessel where tags[2] = 'double-hull'")[0], nil},
		{"U 5.1.1.5.7 startswith", "GET", `/vessels/$count?filter=startswith(tags,[])`, "", nil, 200, "400", nil},
		{"U 5.1.1.5.3 endswith", "GET", `/vessels/$count?filter=endswith(tags,["double-hull"])`, "", nil, 200, column(t, r.Harbour,
			"select count(*)::text from harbour.vessel where tags[cardinality(tags)] = 'double-hull'")[0], nil},
		{"U 5.1.1.14.6 $count", "GET", "/vessels/$count?filter=port_calls/$count($filter=hazardous;$search=ice) gt 0", "", nil, 200, column(t,
			r.Harbour,
			"select count(*)::text from harbour.vessel v where exists (select from harbour.port_call where vessel_id = v.id and hazardous and "+
				"(remarks ilike '%ice%' or berth_code ilike '%ice%'))")[0], nil},
		{"U 4.12 /$filter", "GET", "/vessels/$count?filter=port_calls/$filter(hazardous)/$count gt 8", "", nil, 200, column(t, r.Harbour,
			"select count(*)::text from harbour.vessel v where (select count(*) from harbour.port_call where vessel_id = v.id and hazardous) "+
				"> 8")[0],
			nil},
		{"U 4.12 /$filter", "GET", "/vessels/$count?filter=port_calls/$filter(hazardous)/all(p: p/draught_m gt 5)", "", nil, 200, column(t,
			r.Harbour,
			"select count(*)::text from harbour.vessel v where not exists (select from harbour.port_call where vessel_id = v.id and hazardous and "+
				"draught_m <= 5)")[0], nil},
		{"U 5.1.1.10.1 cast", "GET", "/vessels/$count?filter=cast('tanker',saltmere.vessel_kind) eq kind", "", nil, 200, column(t, r.Harbour,
			"select count(*)::text from harbour.vessel where kind = 'tanker'")[0], nil},
		{"U 5.1.1.10.1 cast", "GET", "/vessels/$count?filter=cast(name,saltmere.vessel_kind) eq null", "", nil, 200, "400", nil},
		{"U 5.1.1.10.2 isof", "GET", "/vessels/$count?filter=isof(kind,saltmere.vessel_kind)", "", nil, 200, "400", nil},
		{"U 5.1.1.10.1 cast", "GET", "/vessels?filter=cast(name,saltmere.kind) eq null", "", nil, 400, `unknown type`, nil},
		{"U 5.3 an alias that is not given", "GET", "/vessels/$count?filter=agent_id eq @none", "", nil, 200, column(t, r.Harbour,
			"select count(*)::text from harbour.vessel where agent_id is null")[0], nil},
		{"U 5.3 an alias that is not given", "GET", "/vessels/$count?filter=id in @none", "", nil, 200, "0", nil},
		{"U 5.1.1.7.2 substring", "GET", "/tugs/1?compute=substring('hello',-2) as x,substring('hello',-9,3) as y&select=x,y", "", nil, 200,
			`"x":"lo","y":"hel"`, nil},
		{"U 5.1.1.2.5 division", "GET", "/tugs/1?compute=1e0 div 0 as x,-1e0 div 0 as y,0e0 divby 0 as z,7e0 mod 0 as m&select=x,y,z,m", "",
			nil, 200,
			`"x":"INF","y":"-INF","z":"NaN","m":"NaN"`, nil},
		{"U 5.1.1.2.5 division", "GET", "/tugs/1?compute=1 div 0 as x&select=x", "", nil, 400, "divided by zero", nil},
		{"ABNF durationValue", "GET",
			"/tugs/1?compute=duration'-PT48H' as x,cast(duration'-P1DT2M3.5S',Edm.String) as y,duration'P1Y2M' as z&select=x,y,z",
			"", nil, 200, `"x":"-PT48H","y":"-P1DT2M3.5S","z":"P425DT6H"`, nil},

		// paths
		{"U 4.5 functions", "GET", "/weather_log()?top=1&select=wind_kn", "", nil, 200, `#Collection(saltmere.weather_log_row)(wind_kn)"`, nil},
		{"U 4.5 functions", "GET", "/berth_load(from=2026-01-01,to=2026-02-01)?top=1", "", nil, 200, `#Collection(saltmere.berth_load_row)"`,
			nil},
		{"U 4.3.4 part of a key that the row before gives", "GET", "/" + pilotage, "", nil, 200, `"port_call_id":`, nil},
		{"U 4.3.2 alternate keys", "GET", "/vessels(imo_number='9000097')/name", "", nil, 200, `#vessels(imo_number='9000097')/name","value":`,
			nil},
		{"U 4.3.2 alternate keys", "PATCH", "/vessels(imo_number='9000097')?select=id,flag", `{"flag":"DK"}`, nil, 200, `"id":1,"flag":"DK"`,
			nil},
		{"P 11.4.4 upsert by an alternate key", "PATCH", "/vessels(imo_number='7777777')?select=flag,imo_number",
			`{"flag":"DK","name":"New","kind":"cargo","gross_tonnage":5}`, nil, 201, `"flag":"DK","imo_number":"7777777"`, nil},
		{"P 11.4.5 delete by an alternate key", "DELETE", "/vessels(imo_number='7777777')", "", nil, 204, "", nil},
		{"U 4.3.2 alternate keys", "GET", "/vessels(imo_number='7777777')", "", nil, 404, "no such row", nil},
		{"U 2 percent-encoded segments", "GET", "/%24metadata", "", nil, 200, "edmx:Edmx", nil},
		{"U 4.9 $entity", "GET", "/$entity?$id=vessels(3)&select=id", "", nil, 200, `#vessels(id)/$entity","id":3`, nil},
		{"U 4.9 $entity", "GET", "/$entity", "", nil, 400, "$entity takes the row as $id", nil},
		{"U 4.15 $all, by name", "GET", "/$all", "", nil, 501, "$all of the standard is not done here", nil},
		{"U 4.15 $crossjoin, by name", "GET", "/$crossjoin(vessels,tugs)", "", nil, 501, "$crossjoin of the standard", nil},
		{"P 11.2.12 $schemaversion, by name", "GET", "/tugs?$schemaversion=1", "", nil, 501, "schemaversion of the standard", nil},
		{"P 11.4.6.3 a set of links", "PUT", "/port_calls/17/tugs/$ref", `{"value":[{"@id":"tugs/1"},{"@id":"tugs(name='Garth')"}]}`, nil, 204,
			"", nil},
		{"P 11.4.6.3 a set of links", "GET", "/port_calls/17/tugs/$count", "", nil, 200, "2", nil},

		// select
		{"U 5.1.4 a relation", "GET", "/vessels/3?select=id,agent", "", nil, 200, `#vessels(id)/$entity","id":3}`, nil},
		{"U 5.1.4 a relation", "GET", "/vessels/3?select=id,agent", "", []string{"Accept: application/json;metadata=full"}, 200,
			`"id":3,"agent@associationLink":"vessels/3/agent/$ref","agent@navigationLink":"vessels/3/agent"}`, nil},

		// what answers say
		{"J 3.1 the format says its metadata", "GET", "/tugs/1?select=id", "", nil, 200, `"id":1`,
			[]string{"Content-Type: application/json;metadata=minimal", "OData-Version: 4.01"}},
		{"J 3.1 parameters in any case", "GET", "/tugs/1?select=id", "", []string{"Accept: application/json;METADATA=None"}, 200, `{"id":1}`,
			[]string{"Content-Type: application/json;metadata=none"}},
		{"J 3.1 writes too", "PATCH", "/tugs/1?select=id", `{"name":"Bram"}`, []string{"Accept: application/json;metadata=full"}, 200,
			`"@id":"tugs/1","@editLink":"tugs/1","id@type":"Int32","id":1`, []string{"Content-Type: application/json;metadata=full"}},
		{"J 4.6.3 types", "GET", "/vessels/3?select=id,kind,tags", "", []string{"Accept: application/json;metadata=full"}, 200,
			`"id@type":"Int32","id":3,"kind@type":"#saltmere.vessel_kind","kind":"fishing","tags@type":"Collection(String)"`, nil},
		{"J 4.6.3 types in 4.0", "GET", "/vessels/3?select=id", "", []string{"Accept: application/json;odata.metadata=full",
			"OData-MaxVersion: 4.0"}, 200,
			`"id@odata.type":"#Int32"`, []string{"Content-Type: application/json;odata.metadata=full", "OData-Version: 4.0"}},
		{"P 10.8 context of a field", "GET", "/vessels/3/flag", "", nil, 200, `"../../$metadata#vessels(3)/flag"`, nil},
		{"P 11.2.4.1 $value", "GET", "/vessels/3/name/$value", "", []string{"Accept: text/plain"}, 200, "Grey Petrel",
			[]string{"Content-Type: text/plain; charset=utf-8"}},
		{"P 11.2.10 $count", "GET", "/vessels/$count", "", []string{"Accept: text/plain"}, 200, "400",
			[]string{"Content-Type: text/plain; charset=utf-8"}},
		{"P 8.2.1 Accept", "GET", "/tugs/1?select=id", "",
			[]string{"Accept: application/json;metadata=none;q=0.2, application/json;metadata=full;q=0.9"}, 200,
			`"id@type"`, nil},
		{"P 8.2.1 Accept", "GET", "/tugs/1?select=id", "", []string{"Accept: application/json;metadata=verbose, */*;q=0.1"}, 200, `"id":1`, nil},
		{"P 8.2.1 Accept", "GET", "/tugs/1?select=id", "", []string{"Accept: application/json;metadata=verbose"}, 406,
			"metadata is none, minimal or full", nil},
		{"RFC 6750 3.1", "GET", "/vessels", "", []string{"Authorization: Bearer nonsense"}, 401, "token.invalid",
			[]string{`WWW-Authenticate: Bearer realm="saltmere", error="invalid_token"`, "OData-Version: 4.01"}},

		// preferences and conditions
		{"RFC 7240 2", "GET", "/tugs?select=id", "", []string{`Prefer: MaxPageSize="2", maxpagesize=3; foo=bar`}, 200, "nextLink",
			[]string{"Preference-Applied: maxpagesize=2"}},
		{"P 8.2.8.6 in 4.0", "GET", "/tugs?select=id", "", []string{"Prefer: odata.maxpagesize=2", "OData-MaxVersion: 4.0"}, 200, "nextLink",
			[]string{"Preference-Applied: odata.maxpagesize=2"}},
		{"RFC 7240 3 what is not applied is not told", "GET", "/tugs?select=id", "", []string{"Prefer: maxpagesize=x, return=minimal, wait=10"},
			200, "value",
			[]string{"Preference-Applied:"}},
		{"RFC 9110 13.1.1", "GET", "/tugs/1", "", []string{`If-Match: "1"`}, 412, "version.changed", nil},
		{"RFC 9110 13.1.1", "GET", "/tugs/1?select=id", "", []string{`If-Match: *`}, 200, `"id":1`, nil},
		{"RFC 9110 13.1.2", "PATCH", "/vessels/3", `{"name":"x"}`, []string{"If-None-Match: *"}, 412, "version.exists", nil},
		{"RFC 9110 13.1.2", "PUT", "/vessels/3", `{"name":"x"}`, []string{"If-None-Match: *"}, 412, "version.exists", nil},

		// bodies
		{"J 4.6.3 the type of a row", "PATCH", "/tugs/1", `{"@type":"#saltmere.vessels","name":"Bram"}`, nil, 400,
			`rows of tugs are of the type`, nil},
		{"J 4.6.3 the type of a row", "PATCH", "/tugs/1?select=id", `{"@odata.type":"http://x/$metadata#saltmere.tugs","name":"Bram"}`, nil,
			200, `"id":1`, nil},
		{"J 3.2 IEEE754Compatible", "PATCH", "/vessels/3?select=gross_tonnage", `{"gross_tonnage":"5000.25"}`,
			[]string{"Content-Type: application/json;IEEE754Compatible=true"}, 200, `"gross_tonnage":5000.25`, nil},
		{"J 3.2 IEEE754Compatible", "PATCH", "/vessels/3", `{"gross_tonnage":"5000.25"}`, nil, 400, "leave out the quotes", nil},
		{"J 3.2 IEEE754Compatible", "PATCH", "/vessels/3", `{"gross_tonnage":"many"}`,
			[]string{"Content-Type: application/json;IEEE754Compatible=true"}, 400,
			"a number (at most 10 digits", nil},
		{"P 11.4.2 what the database fills", "POST", "/tugs?select=name", `{"id":4711,"name":"Esk","bollard_pull_t":1}`, nil, 201, `"name":"Esk"`,
			[]string{`Warning: 299 - "passed over, as the database fills them itself: id"`}},

		// methods
		{"RFC 9110 9.3.7", "OPTIONS", "/tugs", "", nil, 204, "", []string{"Allow: GET, HEAD, QUERY, POST, PATCH, OPTIONS"}},
		{"RFC 9110 9.3.7", "OPTIONS", "/tugs/1", "", nil, 204, "", []string{"Allow: GET, HEAD, QUERY, PUT, PATCH, DELETE, OPTIONS"}},
		{"RFC 9110 9.3.7", "OPTIONS", "/port_calls/17/tugs/$ref", "", nil, 204, "", []string{"Allow: GET, HEAD, POST, PUT, DELETE, OPTIONS"}},
		{"RFC 9110 9.3.7", "OPTIONS", "/port_calls/17/remarks", "", nil, 204, "", []string{"Allow: GET, HEAD, PUT, PATCH, DELETE, OPTIONS"}},
		{"RFC 9110 9.3.7", "OPTIONS", "/nothing", "", nil, 404, "no resource", nil},
		{"RFC 9110 15.5.6", "FLY", "/tugs/$count", "", nil, 405, "FLY is not possible here", []string{"Allow: GET, HEAD, OPTIONS",
			"OData-Version: 4.01"}},
		{"P 11.2.6.8 $query", "GET", "/tugs/$query", "", nil, 405, "GET is not possible here", []string{"Allow: POST, OPTIONS"}},

		// batches
		{"J 19.1 urls", "POST", "/$batch", `{"requests":[{"id":"1","method":"get","url":"http://elsewhere.example/api/saltmere/tugs"}]}`, nil,
			200,
			"leads out of this window", nil},
		{"J 19.1 if", "POST", "/$batch",
			`{"requests":[{"id":"1","method":"get","url":"tugs/1"},{"id":"2","method":"get","url":"tugs/2?select=id",` +
				`"if":"$1/$succeeded and $1/name eq 'Bram' and $1/bollard_pull_t gt 3"},{"id":"3","method":"get","url":"tugs/3","if":"not ` +
				`$1/$succeeded"}]}`, nil, 200,
			`the condition of the request does not hold`, nil},
		{"P 11.7.7 multipart", "POST", "/$batch",
			"--b\r\nContent-Type: application/http\r\n\r\nGET tugs/1?$select=id HTTP/1.1\r\n\r\n\r\n--b\r\n" +
				"Content-Type: multipart/mixed; boundary=c\r\n\r\n--c\r\nContent-Type: application/http\r\nContent-ID: 1\r\n\r\n" +
				"POST tugs HTTP/1.1\r\n" +
				"Content-Type: application/json\r\n\r\n{\"name\":\"Una\",\"bollard_pull_t\":5}\r\n--c\r\nContent-Type: " +
				"application/http\r\nContent-ID: 2\r\n\r\n" +
				"PATCH $1 HTTP/1.1\r\nContent-Type: application/json\r\n\r\n{\"bollard_pull_t\":6}\r\n--c--\r\n--b--\r\n",
			[]string{"Content-Type: multipart/mixed; boundary=b", "OData-MaxVersion: 4.0"}, 200, `"name":"Una","bollard_pull_t":6.0}`,
			[]string{"OData-Version: 4.0"}},
		{"P 11.7.7 a group that fails is one answer", "POST", "/$batch", "--b\r\nContent-Type: multipart/mixed; boundary=c\r\n\r\n--c\r\n" +
			"Content-Type: application/http\r\nContent-ID: 1\r\n\r\nDELETE tugs/4711 HTTP/1.1\r\n\r\n\r\n--c\r\nContent-Type: application/http\r\n" +
			"Content-ID: 2\r\n\r\nDELETE tugs/2 HTTP/1.1\r\n\r\n\r\n--c--\r\n--b--\r\n", []string{"Content-Type: multipart/mixed; boundary=b"}, 200,
			"HTTP/1.1 404 Not Found", nil},

		// aggregation
		{"A 3.2.3 groupby a relation", "GET", "/port_calls?apply=groupby((vessel),aggregate($count as n))&orderby=vessel/id&top=1", "", nil, 200,
			`{"vessel":{"id":1},"n":32}`, nil},
		{"A 3.4 join", "GET", "/vessels?apply=join(port_calls as call)/groupby((kind),aggregate($count as n))&orderby=kind&top=1", "", nil, 200,
			`{"kind":"cargo","n":` + column(t, r.Harbour,
				"select count(*)::text from harbour.vessel v join harbour.port_call on vessel_id = v.id where kind = 'cargo'")[0], nil},
		{"A 3.4 outerjoin", "GET",
			"/vessels?apply=outerjoin(port_calls as call,filter(hazardous))/groupby((call/status),aggregate($count as n))&orderby=n&top=1",
			"", nil, 200, `{"call":{"status":`, nil},
		{"A 3.4 join", "GET", "/port_calls?apply=join(tugs as tug)", "", nil, 501, "the rows of a join are grouped", nil},
		{"A 3.2.5 nest", "GET", "/port_calls?apply=nest(groupby((status)) as by_status,aggregate($count as n) as all)", "", nil, 200,
			`"by_status":[{"status":"expected"},`, nil},
		{"A 3.2.5 nest", "GET", "/port_calls?apply=nest(groupby((status)) as x)&filter=hazardous", "", nil, 400, "nothing follows nest", nil},
		{"A 3.2.1.1 aliases", "GET", "/port_calls?apply=aggregate($count as id)", "", nil, 400, `there is \"id\" already`, nil},
		{"A 3.2.1.1 aliases", "GET", "/port_calls?apply=groupby((status),aggregate($count as remarks))", "", nil, 400,
			`there is \"remarks\" already`, nil},
	} {
		a := exchange(t, r, master, c)
		if a.StatusCode != c.status || !strings.Contains(a.Text, c.want) {
			t.Errorf("%s: %s %s %s\ngot  %s %.900s\nwant %d %s", c.section, c.method, c.path, c.body, a.Status, a.Text, c.status, c.want)
		}
		for _, h := range c.headers {
			name, value, _ := strings.Cut(h, ":")
			if got := a.Header.Get(name); got != strings.TrimPrefix(value, " ") {
				t.Errorf("%s: %s %s: %s is %q, want %q", c.section, c.method, c.path, name, got, strings.TrimPrefix(value, " "))
			}
		}
	}
}
