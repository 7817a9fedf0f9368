package server_test

import (
	"context"
	"encoding/xml"
	"io"
	"reflect"
	"strings"
	"testing"
)

// Names that nobody would choose, and values that formats trip over, through everything that reads.
func TestOddNames(t *testing.T) {
	t.Parallel()
	r := start(t)
	ctx := context.Background()
	dsn := database(t, `create schema "My Schema"; create type "My Schema"."Käse sorte" as enum ('so so', 'plain');
		create type "My Schema"."from" as ("from" int, "x y" text);
		create table "My Schema"."select" ("group" int primary key, "Order By" text not null, "it's" "My Schema"."Käse sorte",
			"user" "My Schema"."from", "a/b" int4range, "größe" numeric, "limit" int references "My Schema"."select",
			"offset" int references "My Schema"."select");
		create table "My Schema"."Table" ("WHERE" text, "n" bigint, "Table" timestamptz);
		create view "My Schema"."nothing" as select 1 as "one" where false;
		insert into "My Schema"."select" values (1, E'comma, "quote"\nline \x01 <tag> & ]]>', 'so so', row(7, 'y'), '[1,5)', 1.50, null, null),
			(2, '', null, null, 'empty', 'NaN', 1, 1), (3, ' ☂ ', 'plain', row(null, ''), null, null, 2, null);
		insert into "My Schema"."Table" values ('a', 9007199254740993, 'infinity'), (null, null, null)`)
	document := "window: odd-names\nsource: " + dsn + `
resources:
  select: {from: My Schema.select}
  Table: {from: My Schema.Table, order: [WHERE]}
  nothing: {from: My Schema.nothing}
saved_views:
  seen: {of: select, select: [Order_By, it_s, twice], compute: größe mul 2 as twice, expand: "limit_select(select=Order_By)",
        orderby: "Order_By desc"}
queries:
  asked: {parameters: {limit_: integer?}, sql: 'select "group" as "select",
			"Order By" as "Order By" from "My Schema"."select" where :limit_::int is null or "group" <= :limit_ order by 1'}
roles: {all: {may: {"*": read}}}
`
	if _, err := r.Operator.PushDraft(ctx, "odd-names", document); err != nil {
		t.Fatal(err)
	}
	ask := func(path string) string {
		a := r.Send(t, r.Operator.Token, "GET", "/draft/odd-names/"+path, nil)
		if a.StatusCode != 200 {
			t.Errorf("%s: %s %s", path, a.Status, a.Text)
		}
		return a.Text
	}
	metadata := ask("$metadata")
	var read struct {
		JSON     map[string]any
		Messages []any
	}
	decode(t, string(node(t, metadata, "csdl.mjs")), &read)
	var want map[string]any
	decode(t, ask("$metadata?format=json"), &want)
	if len(read.Messages) > 0 || !reflect.DeepEqual(read.JSON, want) {
		t.Errorf("%v\nxml  %v\njson %v", read.Messages, read.JSON, want)
	}
	for _, name := range []string{"select", "Table", "nothing", "seen", "asked"} {
		for _, format := range []string{"json", "ndjson", "csv", "xml", "application/json;metadata=full;IEEE754Compatible=true"} {
			text := ask(name + "?format=" + format)
			switch format {
			case "csv":
				csvRecords(t, text)
			case "xml":
				for d := xml.NewDecoder(strings.NewReader(text)); ; {
					if _, err := d.Token(); err == io.EOF {
						break
					} else if err != nil {
						t.Fatalf("%s: %v in %s", name, err, text)
					}
				}
			}
		}
	}
	for path, want := range map[string]string{
		"select?format=csv&select=Order_By&orderby=group&top=1": "Order_By\r\n\"comma, \"\"quote\"\"\nline" +
			" \x01 <tag> & ]]>\"\r\n",
		// an empty text, and a null
		"select?format=csv&select=Order_By,it_s&orderby=group&skip=1&top=1": "Order_By,it_s\r\n\"\",\r\n",
		"select?format=xml&select=Order_By,user&orderby=group&top=1": "<Order_By>comma, \"quote\"\nline \uFFFD " +
			"&lt;tag&gt; &amp; ]]&gt;</Order_By>",
		"select?select=group,größe&filter=it_s eq 'so so' or größe eq null&orderby=group": `[` + "\n" + `{"group":1,"größe":1.50},` +
			"\n" + `{"group":3,"größe":null}`,
		"select?apply=groupby((it_s),aggregate($count as n,größe with max as größte))&orderby=it_s": `{"it_s":null,"n":1,"größte":"NaN"},` +
			"\n" + `{"it_s":"so so","n":1,"größte":1.50}`,
		"select?select=user/from&filter=user/from gt 1":                      `{"user":{"from":7}}`,
		"Table?format=application/json;IEEE754Compatible=true&filter=n gt 1": `{"WHERE":"a","n":"9007199254740993","Table":"infinity"}`,
		"Table?filter=WHERE eq null&format=xml":                              `<n xsi:nil="true"/>`,
		"Table?apply=aggregate(n with sum as s,n with average as a)":         `{"s":9007199254740993,"a":9007199254740993`,
		"nothing?format=csv":    "one\r\n",
		"nothing?format=ndjson": "",
		"nothing?apply=aggregate($count as n,one with sum as s)":  `{"n":0,"s":null}`,
		"nothing?apply=groupby((one))&count=true":                 `"@count":0,"value":[` + "\n]",
		"seen?select=twice,Order_By&orderby=twice":                `{"twice":null,"Order_By":" ☂ "}`,
		"asked(limit_=2)?select=select&orderby=select desc&top=1": `{"select":2}`,
		"asked?format=csv&limit_=0":                               "select,Order_By\r\n",
	} {
		if got := ask(path); !strings.Contains(got, want) {
			t.Errorf("%s\ngot  %q\nwant %q", path, got, want)
		}
	}
}
