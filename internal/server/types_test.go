package server_test

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"eagerwindow/internal/client"
	"eagerwindow/internal/harbourtest"
)

// Values of every type that can be written go in and come out the same, by create, by change and by filter.
func TestTypesInAndOut(t *testing.T) {
	t.Parallel()
	r := start(t)
	ctx := context.Background()
	dsn := harbourtest.Database(t, false)
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	tests := []struct {
		typ, value, literal string // literal: what finds the value in a filter, "" where it can't be compared
		refused             []string
	}{
		{"smallint", "-32768", "-32768", []string{"32768", `"1"`, "1.5", "true"}},
		{"bigint", "9223372036854775807", "9223372036854775807", []string{"9223372036854775808"}},
		{"real", "0.1", "0.1", []string{"1e40", `"x"`}}, {"double precision", `"-INF"`, "-INF", []string{`"inf"`, "1e999"}},
		{"numeric(6,2)", "1234.50", "1234.5", []string{"12345.6", "1.234", `"1"`}},
		{"boolean", "true", "true", []string{`"true"`, "1"}}, {"text", `"a'b\"c\\ ☂"`, `'a''b"c\ ☂'`, []string{"1", `["a"]`}},
		{"varchar(3)", `"abc"`, "'abc'", []string{`"abcd"`}},
		{"char(2)", `"NO"`, "'NO'", []string{`"NOR"`}}, {"mood", `"so so"`, "'so so'", []string{`"bad"`, "1"}},
		{"date", `"2024-02-29"`, "2024-02-29", []string{`"2023-02-29"`, `"today"`, "20240229"}},
		{"time", `"23:59:59"`, "23:59:59", []string{`"25:00:00"`}},
		{"timestamp", `"2026-07-01T10:00:00Z"`, "2026-07-01T12:00:00+02:00", []string{`"2026-07-01"`, `"2026-07-01T10:00:00"`}},
		{"timestamptz", `"2026-07-01T10:00:00.123456Z"`, "2026-07-01T10:00:00.123456Z", []string{`"now"`}},
		{"interval", `"P1DT2H"`, "duration'P1DT2H'", []string{`"2 days"`, `"P"`}},
		{"uuid", `"0e2c7a52-3f6d-4c1b-9f0e-2d8a6c4b1e90"`, "0e2c7a52-3f6d-4c1b-9f0e-2d8a6c4b1e90", []string{`"x"`}},
		{"bytea", `"-_8A"`, "binary'-_8A'", []string{`"+/"`}},
		{"jsonb", `{"a": [1, null, "x"]}`, "", []string{`{"a":"\u0000"}`}}, {"text[]", `["a,b","c\"d",null,""]`, "", []string{`"a"`, `[1]`}},
		{"int[]", "[1,2,3]", "", []string{`["1"]`}}, {"int[][]", "[[1,2],[3,4]]", "", nil},
		{"mood[]", `["so so"]`, "", []string{`["bad"]`}}, {"deep", "3.5", "3.5", []string{"123456.7"}},
		{"int4range", `{"lower":3,"upper":9,"bounds":"[)"}`, "", []string{`[3,9]`, `{"lower":"3"}`, `{"lower":3,"bounds":"["}`, `{"from":3}`,
			`{"empty":1}`}},
		{"tstzrange", `{"lower":"2026-07-01T10:00:00Z","bounds":"[)"}`, "", []string{`{"lower":"now"}`}}, {"numrange", `{"empty":true}`, "", nil},
		{"datemultirange", `[{"lower":"2026-07-01","upper":"2026-07-03","bounds":"[)"},{"lower":"2026-08-01","bounds":"[)"}]`, "",
			[]string{`{"lower":"2026-07-01"}`, `[5]`}},
		{"int4range[]", `[{"lower":1,"upper":2,"bounds":"[)"},null]`, "", nil},
		{"place", `{"name":"a \"b\", (c) \\ ☂","at":[1.5,null],"mood":"so so","was":"2026-07-01T10:00:00Z"}`, "",
			[]string{`{"name":5}`, `{"nam":"x"}`, `"x"`, `{"mood":"bad"}`}},
		{"place[]", `[{"name":"a","at":null,"mood":null,"was":null}]`, "", []string{`[{"name":1}]`}},
		{"text", `""`, "''", nil}, {"text", `"null"`, "'null'", nil}, {"text[]", "[ ]", "", nil},
		{"int[][]", " [ [1 , 2]\n,[3,4 ] ] ", "", []string{"[[1],2]"}},
		{"jsonb[]", `[{"a":[1,"]"]},"x, y",null,-1.5]`, "", []string{`{}`}},
		// Types that only the database knows go as their text.
		{"inet", `"10.0.0.1/8"`, "", []string{`"ten"`, "10", `["10.0.0.1"]`}}, {"bit(3)", `"101"`, "", []string{`"12"`, "101"}},
		{"varbit(4)", `"1010"`, "", nil}, {"bit(3)[]", `"{101,001}"`, "", []string{`["101"]`}},
		{"macaddr", `"08:00:2b:01:02:03"`, "", []string{`"x"`}}, {"money", `"$1.50"`, "", []string{`"x"`}},
		{"xml", `"<a/>"`, "", []string{`"<a"`}}, {"point", `"(1,2)"`, "", []string{`"(1,"`}}, {"jsonpath", `"$.\"a\""`, "", []string{`"$$"`}},
		{"timetz", `"12:00:00+02"`, "", []string{`"noon"`}},
		{`"char"`, `"x"`, "'x'", []string{`"xy"`}}, {"name", `"pier"`, "'pier'", []string{`"` + strings.Repeat("n", 64) + `"`}},
	}
	columns := make([]string, len(tests))
	for i, tt := range tests {
		columns[i] = fmt.Sprintf("c%d %s", i, tt.typ)
	}
	if _, err := conn.Exec(ctx, "create type mood as enum ('fine', 'so so'); create type place as (name text, at numeric[], mood mood, "+
		"was timestamp); create domain deep as numeric(6,1) check (value > 0); create table every (id int primary key, "+
		strings.Join(columns, ", ")+"); insert into every (id) values (1)"); err != nil {
		t.Fatal(err)
	}
	document := "window: types\nsource: " + dsn + "\nresources: {every: {}}"
	if _, err := r.Operator.PushDraft(ctx, "types", document); err != nil {
		t.Fatal(err)
	}
	send := func(method, path, body string) (int, string) {
		t.Helper()
		a := r.Send(t, r.Operator.Token, method, "/draft/types/"+path, strings.NewReader(body))
		return a.StatusCode, a.Text
	}
	for i, tt := range tests {
		name := fmt.Sprintf("c%d", i)
		for _, write := range []struct {
			method, path, body string
			status             int
		}{
			{"POST", "every", fmt.Sprintf(`{"id":%d,"%s":%s}`, i+2, name, tt.value), 201},
			{"PATCH", "every/1", fmt.Sprintf(`{"%s":%s}`, name, tt.value), 200},
		} {
			status, text := send(write.method, write.path, write.body)
			var row map[string]json.RawMessage
			if status != write.status || json.Unmarshal([]byte(text), &row) != nil || !same(row[name], tt.value) {
				t.Errorf("%s %s of %s: %d %s", write.method, tt.value, tt.typ, status, text)
			}
		}
		// In a delta, beside a row that does not give it, a new one and one that is there.
		delta := write(t, r, r.Operator.Token, "PATCH", "/draft/types/every",
			fmt.Sprintf(`{"value":[{"id":%d,"%s":%s},{"id":1,"%s":%s},{"id":%d},{"id":%d,"%s":%s}]}`, 1000+i, name, tt.value, name, tt.value, 2000+i,
				i+2, name, tt.value), "Prefer", "return=representation")
		var shown struct{ Value []map[string]json.RawMessage }
		if err := json.Unmarshal([]byte(delta.Text), &shown); err != nil || len(shown.Value) != 4 || !same(shown.Value[0][name], tt.value) ||
			!same(shown.Value[1][name], tt.value) || string(shown.Value[2][name]) != "null" || !same(shown.Value[3][name], tt.value) {
			t.Errorf("%s of %s in a delta: %s %s", tt.value, tt.typ, delta.Status, delta.Text)
		}
		if tt.literal != "" {
			l := readList(t, r.Send(t, r.Operator.Token, "GET", "/draft/types/every?filter="+name+" eq "+tt.literal+" and not ("+name+" ne "+
				tt.literal+")&select=id", nil))
			if len(l.Value) != 3 {
				t.Errorf("%s eq %s finds %d rows, want 3", tt.typ, tt.literal, len(l.Value))
			}
		}
		for _, bad := range tt.refused {
			if status, text := send("PATCH", "every/1", fmt.Sprintf(`{"%s":%s}`, name, bad)); status != 400 || !strings.Contains(text, name+": ") &&
				!strings.Contains(text, "not JSON") {
				t.Errorf("%s as %s: %d %s", bad, tt.typ, status, text)
			}
		}
		if status, text := send("PATCH", "every/1", fmt.Sprintf(`{"%s":null}`, name)); status != 200 ||
			!strings.Contains(text, `"`+name+`":null`) {
			t.Errorf("null as %s: %d %s", tt.typ, status, text)
		}
	}
	if status, text := send("PATCH", "every/1", `{"c22":-1}`); status != 422 || !strings.Contains(text, "more than 0 is expected") {
		t.Errorf("what a domain's check refuses: %d %s", status, text)
	}
	res, err := r.Operator.Send(ctx, client.Request{Method: "GET", Path: "/draft/types/openapi.json"})
	if err != nil {
		t.Fatal(err)
	}
	res.Body.Close()
	if res.StatusCode != 200 {
		t.Errorf("the description: %s", res.Status)
	}
}

// A timestamp is stored as PostgreSQL itself reads its text, however it is written.
func TestMoments(t *testing.T) {
	t.Parallel()
	r := start(t)
	ctx := context.Background()
	dsn := harbourtest.Database(t, false)
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	if _, err := conn.Exec(ctx, "set timezone = 'UTC'; create table log (id int primary key, seen timestamptz, noted timestamp, day date); "+
		"insert into log values (1)"); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Operator.PushDraft(ctx, "moments", "window: moments\nsource: "+dsn+"\nresources: {log: {}}"); err != nil {
		t.Fatal(err)
	}
	for _, text := range []string{
		"2026-07-01T12:30:00Z", "2026-07-01t12:30:00z", "2026-07-01T12:30Z", "2026-07-01T12:30:00+02:00", "2026-07-01T12:30-09:30",
		"2026-07-01T12:30:00.5Z", "2026-07-01T12:30:00.000Z",
		"2026-07-01T12:30:00.123456Z", "2026-07-01T12:30:00.1234564Z", "2026-07-01T12:30:00.1234566Z", "2026-07-01T12:30:00.9999999Z",
		"2026-07-01T12:30:00.123456789+02:00",
		"1999-12-31T23:59:59.999999Z", "2000-01-01T00:00:00Z", "1969-12-31T23:59:59Z", "0001-01-01T00:00:00Z", "9999-12-31T23:59:59.999999Z",
		"2024-02-29T00:00:00+14:00",
		"infinity", "-infinity", "10000-01-01T00:00:00.5Z", "0000-02-29T12:30:00Z", "-0043-03-15T12:30:00Z", "-4712-01-01T00:00:00Z",
		"294276-12-31T23:59:59.999999Z",
	} {
		day, _, _ := strings.Cut(strings.ToUpper(text), "T")
		if strings.HasSuffix(text, "infinity") {
			day = text
		}
		a := r.Send(t, r.Operator.Token, "PATCH", "/draft/moments/log/1",
			strings.NewReader(fmt.Sprintf(`{"seen":%q,"noted":%q,"day":%q}`, text, text, day)))
		var same bool
		if err := conn.QueryRow(ctx, `select (seen, noted, day) = ($1::text::timestamptz, $1::text::timestamptz at time zone 'UTC', `+
			`$2::text::date) from log`, asPostgreSQL(text), asPostgreSQL(day)).Scan(&same); err != nil {
			t.Fatal(err)
		}
		if a.StatusCode != 200 || !same {
			t.Errorf("%s: %d %s is not what PostgreSQL reads", text, a.StatusCode, a.Text)
		}
		var row map[string]json.RawMessage
		if err := json.Unmarshal([]byte(a.Text), &row); err != nil {
			t.Fatal(err)
		}
		delete(row, "@context")
		again, _ := json.Marshal(row)
		if back := r.Send(t, r.Operator.Token, "PUT", "/draft/moments/log/1", strings.NewReader(string(again))); back.Text != a.Text {
			t.Errorf("%s: what was read, sent back: %d %s, before %s", text, back.StatusCode, back.Text, a.Text)
		}
		if strings.HasSuffix(text, "infinity") {
			continue // no literal of a filter
		}
		filter := fmt.Sprintf("seen eq %s and seen in (%s,2026-01-01T00:00:00Z) and day in (%s,2026-01-01)", text, text, day)
		if list := readList(t, r.Send(t, r.Operator.Token, "GET", "/draft/moments/log?filter="+strings.ReplaceAll(filter, "+", "%2B"),
			nil)); len(list.Value) != 1 {
			t.Errorf("%s finds %d rows", filter, len(list.Value))
		}
	}
	for _, text := range []string{"2026-07-01T12:30:60Z", "2026-02-29T12:30:00Z", "2026-07-01T24:00:00Z", "2026-07-01 12:30:00Z",
		"2026-07-01T12:30:00", "", "Infinity", "99999999-01-01T00:00:00Z", "-0001-02-29T00:00:00Z", "-12-01-01T00:00:00Z"} {
		a := r.Send(t, r.Operator.Token, "PATCH", "/draft/moments/log/1", strings.NewReader(fmt.Sprintf(`{"seen":%q}`, text)))
		if a.StatusCode != 400 && a.StatusCode != 422 {
			t.Errorf("%q: %d %s", text, a.StatusCode, a.Text)
		}
	}
}

// asPostgreSQL writes the years before the first as BC.
func asPostgreSQL(text string) string {
	switch {
	case strings.HasPrefix(text, "0000-"):
		return "0001" + text[4:] + " BC"
	case strings.HasPrefix(text, "-0043-"):
		return "0044" + text[5:] + " BC"
	case strings.HasPrefix(text, "-4712-"):
		return "4713" + text[5:] + " BC"
	}
	return text
}

// same compares JSON without regard to blanks and to zeros at the end of a number.
func same(got json.RawMessage, want string) bool {
	var a, b any
	if json.Unmarshal(got, &a) != nil || json.Unmarshal([]byte(want), &b) != nil {
		return false
	}
	x, _ := json.Marshal(a)
	y, _ := json.Marshal(b)
	return string(x) == string(y)
}
