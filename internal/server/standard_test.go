package server_test

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"os"
	"os/exec"
	"reflect"
	"slices"
	"strings"
	"testing"

	"eagerwindow/internal/harbourtest"
)

// get sends a request with headers, given as name and value in turn.
func get(t *testing.T, r *harbourtest.Running, token, path string, headers ...string) harbourtest.Answer {
	t.Helper()
	return write(t, r, token, "GET", path, "", headers...)
}

func csvRecords(t *testing.T, text string) [][]string {
	t.Helper()
	records, err := csv.NewReader(strings.NewReader(text)).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	return records
}

// plainText is a JSON value as the formats without types write it.
func plainText(t *testing.T, value json.RawMessage) string {
	t.Helper()
	var s string
	switch {
	case string(value) == "null":
		return ""
	case value[0] == '"':
		decode(t, string(value), &s)
		return s
	}
	return string(value)
}

// node runs a script beside an independent library of the standard.
func node(t *testing.T, stdin string, args ...string) []byte {
	t.Helper()
	_, err := os.Stat("standard/node_modules")
	harbourtest.Need(t, err == nil, "the readers of the standard are not installed; run make setup-test")
	cmd := exec.Command("node", args...)
	cmd.Dir, cmd.Stdin = "standard", strings.NewReader(stdin)
	var failed bytes.Buffer
	cmd.Stderr = &failed
	out, err := cmd.Output()
	if err != nil {
		t.Fatalf("node %s: %v\n%.2000s", args[0], err, failed.String())
	}
	return out
}

// The metadata says the same as XML and as JSON, as an independent reader of the standard's XML understands it, and all that it
// names is there.
func TestMetadata(t *testing.T) {
	t.Parallel()
	r := start(t)
	for _, role := range []string{"", "agent", "pilot", "harbour_master"} {
		token := ""
		if role != "" {
			token = r.Token(t, role)
		}
		asXML := r.Send(t, token, "GET", "/api/saltmere/$metadata", nil)
		asJSON := r.Send(t, token, "GET", "/api/saltmere/$metadata?$format=application/json", nil)
		if asXML.Header.Get("Content-Type") != "application/xml" || asJSON.Header.Get("Content-Type") != "application/json" {
			t.Fatalf("%s: %s %s", role, asXML.Text, asJSON.Text)
		}
		var read struct {
			JSON     map[string]any
			Messages []any
		}
		decode(t, string(node(t, asXML.Text, "csdl.mjs")), &read)
		var want map[string]any
		decode(t, asJSON.Text, &want)
		if len(read.Messages) > 0 {
			t.Errorf("%s: the reader complains: %v", role, read.Messages)
		}
		if !reflect.DeepEqual(read.JSON, want) {
			t.Errorf("%s: XML and JSON differ\nxml  %v\njson %v", role, read.JSON, want)
		}
		for d := xml.NewDecoder(strings.NewReader(asXML.Text)); ; {
			if _, err := d.Token(); err == io.EOF {
				break
			} else if err != nil {
				t.Fatalf("%s: %v", role, err)
			}
		}
		whole(t, role, want)
	}
	// 4.0 is spoken to those who ask for it.
	if a := get(t, r, r.Token(t, "agent"), "/api/saltmere/$metadata", "OData-MaxVersion", "4.0"); !strings.Contains(a.Text,
		`<edmx:Edmx xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx" Version="4.0">`) || a.Header.Get("OData-Version") != "4.0" {
		t.Errorf("4.0: %.300s", a.Text)
	}
}

// whole checks what a schema alone can say wrong: names that are no identifiers, types, sets, partners and fields that are not there.
func whole(t *testing.T, role string, doc map[string]any) {
	schema := doc["saltmere"].(map[string]any)
	container := schema["Container"].(map[string]any)
	object := func(v any) map[string]any { o, _ := v.(map[string]any); return o }
	typed := func(where string, v any) {
		name, _ := object(v)["$Type"].(string)
		if own, ours := strings.CutPrefix(name, "saltmere."); ours && schema[own] == nil {
			t.Errorf("%s: %s has the type %s, which is not there", role, where, name)
		}
	}
	sets := 0
	for name, v := range schema {
		if list, isFunction := v.([]any); isFunction {
			typed(name, object(list[0])["$ReturnType"])
			continue
		}
		entry := object(v)
		for field, v := range entry {
			if strings.ContainsAny(field, "@$") {
				continue
			}
			typed(name+"/"+field, v)
			nav := object(v)
			if nav["$Kind"] != "NavigationProperty" {
				continue
			}
			to := object(schema[strings.TrimPrefix(nav["$Type"].(string), "saltmere.")])
			if partner, ok := nav["$Partner"].(string); ok {
				if back := object(to[partner]); back["$Type"] != "saltmere."+name || back["$Partner"] != nil && object(to[partner])["$Partner"] == "" {
					t.Errorf("%s: %s/%s has a partner %s that does not lead back: %v", role, name, field, partner, back)
				}
			}
			for own, there := range object(nav["$ReferentialConstraint"]) {
				if entry[own] == nil || to[there.(string)] == nil {
					t.Errorf("%s: %s/%s refers from %s to %v", role, name, field, own, there)
				}
			}
		}
		if entry["$Kind"] == "EntityType" {
			for _, k := range entry["$Key"].([]any) {
				if entry[k.(string)] == nil {
					t.Errorf("%s: %s has a key %v that it has not", role, name, k)
				}
			}
		}
	}
	for name, v := range container {
		if strings.ContainsAny(name, "@$") {
			continue
		}
		set := object(v)
		if f, ok := set["$Function"].(string); ok {
			if schema[strings.TrimPrefix(f, "saltmere.")] == nil {
				t.Errorf("%s: %s calls %s", role, name, f)
			}
			continue
		}
		sets++
		typed(name, v)
		for nav, target := range object(set["$NavigationPropertyBinding"]) {
			of := object(schema[strings.TrimPrefix(set["$Type"].(string), "saltmere.")])
			if of[nav] == nil || container[target.(string)] == nil {
				t.Errorf("%s: %s binds %s to %v", role, name, nav, target)
			}
		}
	}
	if want := map[string]int{"": 1, "agent": 6, "harbour_master": 14}[role]; want > 0 && sets != want {
		t.Errorf("%s: %d sets, want %d", role, sets, want)
	}
}

// A client library of the standard, as it is, reads metadata, filters, expands, counts and follows the links.
func TestStandardClient(t *testing.T) {
	t.Parallel()
	r := start(t)
	token := r.Token(t, "harbour_master")
	query := "port_calls?$filter=status eq 'cancelled' and vessel/agent_id ne null&$expand=vessel($select=name," +
		"flag)&$count=true&$select=id,eta&$orderby=eta desc"
	var got struct {
		Namespace    string
		Sets         []string
		Keys         map[string][]string
		Typed        map[string]any
		Count, Pages int
		Rows         []struct {
			ID     int
			Vessel struct{ Name, Flag string }
		}
	}
	decode(t, string(node(t, "", "client.mjs", r.URL+"/api/saltmere", token, query)), &got)
	want := column(t, r.Harbour, "select p.id || ' ' || v.name from harbour.port_call p join harbour.vessel v on v.id = vessel_id where "+
		"status = 'cancelled' and agent_id is not null order by eta desc, p.id")
	var rows []string
	for _, row := range got.Rows {
		rows = append(rows, fmt.Sprint(row.ID, " ", row.Vessel.Name))
	}
	if got.Namespace != "saltmere" || !slices.Contains(got.Sets, "port_calls") ||
		!slices.Equal(got.Keys["pilotages"], []string{"port_call_id", "pilot_id", "direction"}) {
		t.Errorf("metadata: %s %v %v", got.Namespace, got.Sets, got.Keys)
	}
	if got.Typed["@odata.type"] != "#saltmere.tugs" || got.Typed["bollard_pull_t@odata.type"] != "#Decimal" ||
		!strings.HasSuffix(fmt.Sprint(got.Typed["@odata.editLink"]), "tugs(1)") {
		t.Errorf("a row with its types: %v", got.Typed)
	}
	if got.Count != len(want) || got.Pages != (len(want)+49)/50 || !slices.Equal(rows, want) {
		t.Errorf("%d rows on %d pages, count %d; want %d\n%.300v\n%.300v", len(rows), got.Pages, got.Count, len(want), rows, want)
	}
}

// Formats, what they hold, and how one is chosen.
func TestFormats(t *testing.T) {
	t.Parallel()
	r := start(t)
	token := r.Token(t, "harbour_master")
	const list = "/api/saltmere/vessels?select=id,name,tags,built_on,particulars&expand=agent(select=name)," +
		"port_calls(select=id;top=2;count=true)&filter=id in (3,11)&orderby=id&count=true"
	for _, tt := range []struct{ path, accept, kind, want string }{
		{list, "text/csv", "text/csv; charset=utf-8; header=present",
			"id,name,tags,built_on,particulars,agent,port_calls@count,port_calls,port_calls@nextLink\r\n3,Grey Petrel,"},
		{list + "&format=ndjson", "text/csv", "application/x-ndjson", `"port_calls@count":20,"port_calls":[{"id":` +
			column(t, r.Harbour, "select id from harbour.port_call where vessel_id = 3 order by eta desc, id limit 1")[0]},
		{list, "application/xml", "application/xml; charset=utf-8", `<answer xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" count="2">`},
		{list, "text/html,application/xhtml+xml,application/xml;q=0.9,*/*;q=0.8", "application/json;metadata=minimal", `"@count":2`},
		{list, "application/xml;q=0.5, text/csv;q=0.8, */*;q=0.1", "text/csv; charset=utf-8; header=present", "id,name"},
		{list, "text/*", "text/csv; charset=utf-8; header=present", "id,name"},
		{list, "application/json;q=0, */*", "application/x-ndjson", `{"id":3`},
		{list, "image/png", "application/json", "is no format that is written here"},
		{list + "&format=yaml", "", "application/json", `\"yaml\" is no format`},
		{list, "application/json;metadata=none", "application/json;metadata=none", `{"@count":2,"value":[`},
		{list, "application/json;odata.metadata=full", "application/json;metadata=full",
			`"@id":"vessels/3","@editLink":"vessels/3","id@type":"Int32"`},
		{list + "&format=application/json;IEEE754Compatible=true", "", "application/json;metadata=minimal;IEEE754Compatible=true",
			`"@count":"2"`},
		{"/api/saltmere/vessels/3?select=gross_tonnage&format=json;IEEE754Compatible=true", "",
			"application/json;metadata=minimal;IEEE754Compatible=true", `"gross_tonnage":"566.40"}`},
		{list, "application/json;metadata=most", "application/json", "metadata is none, minimal or full"},
		{"/api/saltmere/vessels/3?select=name", "text/csv", "text/csv; charset=utf-8; header=present", "name\r\nGrey Petrel\r\n"},
		{"/api/saltmere/vessels/3?select=name", "text/xml", "application/xml; charset=utf-8", "<row><name>Grey Petrel</name></row>"},
		{"/api/saltmere/vessels/3?select=name", "application/json;metadata=none", "application/json;metadata=none", `{"name":"Grey Petrel"}`},
		{"/api/saltmere/vessels/3/name", "application/json;metadata=none", "application/json;metadata=none", `{"value":"Grey Petrel"}`},
		{"/api/saltmere/tugs?top=1&select=name", "application/xml", "application/xml; charset=utf-8", "<row><name>Bram</name></row>"},
		{"/api/saltmere/vesels", "application/xml", "application/xml; charset=utf-8",
			"<error><code>resource.unknown</code><message>there is no resource \"vesels\""},
		{"/api/saltmere/port_calls?apply=groupby((vessel/kind),aggregate($count as n))&orderby=n desc&top=1", "text/csv",
			"text/csv; charset=utf-8; header=present", "vessel/kind,n\r\ncargo,3755\r\n"},
		{"/api/saltmere/inspections?filter=passed eq false&top=1&select=findings,took", "text/csv", "text/csv; charset=utf-8; header=present",
			`findings,took` + "\r\n" + `"[{""`},
		{"/api/saltmere/vessels?filter=tags/$count eq 2&top=1&select=tags", "application/xml", "application/xml; charset=utf-8", "</item><item>"},
	} {
		a := get(t, r, token, tt.path, "Accept", tt.accept)
		if a.Header.Get("Content-Type") != tt.kind || !strings.Contains(a.Text, tt.want) {
			t.Errorf("%s as %q\ngot  %s %.400s\nwant %s %s", tt.path, tt.accept, a.Header.Get("Content-Type"), a.Text, tt.kind, tt.want)
		}
	}
	// What 4.0 calls otherwise.
	for path, want := range map[string]string{
		"/api/saltmere/tugs?top=1&select=name&count=true&expand=port_calls(top=1;count=true;select=id)": `{"@odata.context":"$metadata#tugs(na` +
			`me,port_calls(id))","@odata.count":9,"value":[` + "\n" + `{"name":"Bram","port_calls@odata.count":`,
		"/api/saltmere/vessels?select=id": `"@odata.nextLink":"`, "/api/saltmere/tugs/1/$ref": `"@odata.id":"tugs/1"`,
		"/api/saltmere/vessels?top=1&$select=id&$filter=kind eq saltmere.vessel_kind'tanker'": `{"id":11}`,
		"/api/saltmere/": `{"@odata.context":`,
	} {
		if a := get(t, r, token, path, "OData-MaxVersion", "4.0"); !strings.Contains(a.Text, want) || a.Header.Get("OData-Version") != "4.0" {
			t.Errorf("%s: %s\nwant %s", path, a.Text, want)
		}
	}
	if a := get(t, r, token, "/api/saltmere/tugs", "OData-MaxVersion", "3.0"); a.StatusCode != 400 ||
		!strings.Contains(a.Text, "speaks 4.0 and 4.01") {
		t.Errorf("3.0: %s %s", a.Status, a.Text)
	}
	// Compressed where it pays.
	for encoding, want := range map[string]string{"gzip": "gzip", "zstd, gzip": "zstd", "br": "", "identity": ""} {
		if a := get(t, r, token, "/api/saltmere/port_calls?top=500", "Accept-Encoding", encoding); a.Header.Get("Content-Encoding") != want ||
			want != "" && len(a.Text) > 40_000 {
			t.Errorf("%s: %q, %d bytes", encoding, a.Header.Get("Content-Encoding"), len(a.Text))
		}
		if a := get(t, r, token, "/api/saltmere/tugs/1", "Accept-Encoding", encoding); a.Header.Get("Content-Encoding") != "" {
			t.Errorf("a short answer is compressed as %s", a.Header.Get("Content-Encoding"))
		}
	}
}

// Every row of CSV, NDJSON and XML says what JSON says.
func TestFormatsAgree(t *testing.T) {
	t.Parallel()
	r := start(t)
	token := r.Token(t, "harbour_master")
	for _, resource := range []string{"agents", "vessels", "port_calls", "pilots", "cargo_items", "inspections", "dues", "weather_log",
		"arrivals_board"} {
		path := "/api/saltmere/" + resource + "?top=300&format="
		var want struct{ Value []map[string]json.RawMessage }
		decode(t, r.Send(t, token, "GET", path+"json", nil).Text, &want)
		lines := strings.Split(strings.TrimSpace(r.Send(t, token, "GET", path+"ndjson", nil).Text), "\n")
		records := csvRecords(t, r.Send(t, token, "GET", path+"csv", nil).Text)
		var document struct {
			Row []struct {
				Field []struct {
					XMLName xml.Name
					Nil     string `xml:"nil,attr"`
					Text    string `xml:",chardata"`
					Below   []struct {
						Text string `xml:",chardata"`
					} `xml:",any"`
				} `xml:",any"`
			} `xml:"row"`
		}
		if err := xml.Unmarshal([]byte(r.Send(t, token, "GET", path+"xml", nil).Text), &document); err != nil {
			t.Fatal(err)
		}
		if len(want.Value) == 0 || len(lines) != len(want.Value) || len(records) != len(want.Value)+1 || len(document.Row) != len(want.Value) {
			t.Fatalf("%s: %d rows, %d lines, %d records, %d elements", resource, len(want.Value), len(lines), len(records), len(document.Row))
		}
		for i, row := range want.Value {
			var line map[string]json.RawMessage
			decode(t, lines[i], &line)
			if !reflect.DeepEqual(line, row) {
				t.Errorf("%s, line %d: %s", resource, i, lines[i])
			}
			for k, name := range records[0] {
				text := plainText(t, row[name])
				if got := records[i+1][k]; got != text {
					t.Errorf("%s, record %d, %s: %q, want %q", resource, i, name, got, text)
				}
				f := document.Row[i].Field[k]
				if f.XMLName.Local != name || f.Nil != fmt.Sprint(map[bool]string{true: "true"}[string(row[name]) == "null"]) || len(f.Below) == 0 &&
					row[name][0] != '[' && f.Text != text {
					t.Errorf("%s, row %d: %+v, want %s %q", resource, i, f, name, text)
				}
			}
		}
	}
}
