package server_test

import (
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"
)

// Aggregations drawn with a fixed seed, each beside SQL that is put together naively.
func TestApplyDifferential(t *testing.T) {
	t.Parallel()
	r := start(t)
	token := r.Token(t, "harbour_master")
	draw := rand.New(rand.NewPCG(3, 14))
	type pair struct{ ours, sql string }
	keys := []pair{{"status", "p.status"}, {"berth_code", "p.berth_code"}, {"hazardous", "p.hazardous"}, {"vessel/kind", "v.kind"},
		{"vessel/flag", "v.flag"}, {"vessel/agent/name", "a.name"}, {"vessel/built_on", "v.built_on"}}
	values := []pair{{"$count", "count(*)"}, {"draught_m with sum", "sum(draught_m)"}, {"draught_m with average", "avg(draught_m)"},
		{"draught_m mul 2 with max", "max(draught_m * 2)"}, {"vessel/gross_tonnage with min", "min(v.gross_tonnage)"},
		{"vessel/name with max", "max(v.name)"}, {"vessel/id with countdistinct", "count(distinct v.id)"}, {"id with sum", "sum(p.id)"},
		{"eta with max", "to_char(max(eta at time zone 'UTC'), 'YYYY-MM-DD\"T\"HH24:MI:SS\"Z\"')"}, {"status with min", "min(p.status)"},
		{"year(vessel/built_on) with average", "avg(extract(year from v.built_on))"}}
	conditions := []pair{{"draught_m gt 9.5", "draught_m > 9.5"}, {"not (berth_code eq 'N01')", "berth_code is distinct from 'N01'"},
		{"vessel/kind in ('tanker','ferry')", "v.kind in ('tanker','ferry')"},
		{"tugs/$count ge 2", "(select count(*) from harbour.port_call_tug j where j.port_call_id = p.id) >= 2"},
		{"vessel/agent/name ne null", "a.name is not null"}, {"berth_code eq null", "berth_code is null"}}
	const from = " from harbour.port_call p left join harbour.vessel v on v.id = p.vessel_id left join harbour.agent a on a.id = v.agent_id "
	some := 0
	for range 120 {
		chosen := append([]pair(nil), keys...)
		draw.Shuffle(len(chosen), func(i, j int) { chosen[i], chosen[j] = chosen[j], chosen[i] })
		chosen = chosen[:draw.IntN(4)]
		var ours, grouped, selected, order, names []string
		for k, key := range chosen {
			ours, names = append(ours, key.ours), append(names, key.ours)
			grouped = append(grouped, fmt.Sprint(k+1))
			selected = append(selected, fmt.Sprintf("%s as k%d", key.sql, k))
			order = append(order, fmt.Sprintf("k%d nulls first", k))
		}
		var aggregates []string
		inner := conditions[draw.IntN(len(conditions))]
		useInner := draw.IntN(3) == 0 && len(chosen) > 0
		for k := range 1 + draw.IntN(3) {
			v := values[draw.IntN(len(values))]
			aggregates = append(aggregates, fmt.Sprintf("%s as x%d", v.ours, k))
			sql := v.sql
			if useInner {
				open := strings.LastIndex(sql, "count(*)")
				if open < 0 && !strings.HasPrefix(sql, "to_char") {
					sql += " filter (where " + inner.sql + ")"
				} else if open == 0 {
					sql = "count(*) filter (where " + inner.sql + ")"
				} else {
					sql = "to_char(max(eta at time zone 'UTC') filter (where " + inner.sql + "), 'YYYY-MM-DD\"T\"HH24:MI:SS\"Z\"')"
				}
			}
			selected = append(selected, fmt.Sprintf("%s as x%d", sql, k))
			names = append(names, fmt.Sprintf("x%d", k))
		}
		apply, where, group := "aggregate("+strings.Join(aggregates, ",")+")", "", ""
		if len(chosen) > 0 {
			group = " group by " + strings.Join(grouped, ",")
			if useInner {
				apply = "filter(" + inner.ours + ")/" + apply
			}
			list := strings.Join(ours, ",")
			if len(ours) > 1 && draw.IntN(4) == 0 {
				list = "rollup(" + list + ")"
				group = " group by rollup(" + strings.Join(grouped, ",") + ") having grouping(" + chosen[0].sql + ") = 0"
				if draw.IntN(2) == 0 {
					list, group = strings.Replace(list, "rollup(", "rollup($all,", 1), strings.Split(group, " having")[0]
				}
			}
			apply = "groupby((" + list + ")," + apply + ")"
		}
		if draw.IntN(2) == 0 {
			c := conditions[draw.IntN(len(conditions))]
			apply, where = "filter("+c.ours+")/"+apply, " where "+c.sql
		}
		if draw.IntN(3) == 0 { // a step before that keeps all rows must change nothing
			apply = "top(100000)/" + apply
		}
		sql := "select " + strings.Join(selected, ", ") + from + where + group
		query := "apply=" + apply + "&top=1000&count=true"
		outer := "select * from (" + sql + ") t"
		if draw.IntN(3) == 0 {
			query += "&filter=x0 ne null"
			outer += " where x0 is not null"
		}
		if len(order) > 0 {
			query += "&orderby=" + strings.Join(ours, ",")
			outer += " order by " + strings.Join(order, ", ")
		}
		a := r.Send(t, token, "GET", "/api/saltmere/port_calls?"+query, nil)
		got := flat(t, a.Text, names)
		var want [][]any
		for _, row := range column(t, r.Harbour, "select to_json(array(select value from json_each(row_to_json(q))))::text from ("+outer+
			" limit 1000) q") {
			var values []any
			decode(t, row, &values)
			want = append(want, values)
		}
		if strings.Contains(apply, "rollup") { // rows of several levels can tie in the order
			got, want = sorted(got), sorted(want)
		}
		if !sameRows(got, want) {
			t.Errorf("%s\ngot  %d %.600v\nwant %d %.600v\n%s", query, len(got), got, len(want), want, outer)
		}
		if len(want) > 0 {
			some++
		}
	}
	if some < 80 {
		t.Errorf("only %d of the requests had rows", some)
	}
}

// What the differential test does not draw, and mistakes.
func TestApply(t *testing.T) {
	t.Parallel()
	r := start(t)
	token, agent := r.Token(t, "harbour_master"), r.Token(t, "agent")
	one := func(sql string) string { return column(t, r.Harbour, sql)[0] }
	for _, tt := range []struct{ token, path, want string }{
		{token, "/port_calls?apply=groupby((vessel/kind,vessel/agent/name),aggregate($count as n))/topcount(1,n)",
			`#port_calls(vessel(kind,agent(name)),n)","value":[{"vessel":{"kind":"cargo","agent":{"name":"` + one("select a.name from harbour.por"+
				"t_call p join harbour.vessel v on v.id = vessel_id join harbour.agent a on a.id = agent_id where kind = 'cargo' group by 1 order "+
				"by count(*) desc limit 1") + `"}},"n":`},
		{token, "/port_calls?apply=concat(groupby((status),aggregate($count as n)),filter(hazardous)/aggregate($count as n," +
			"draught_m with sum as d))&filter=status eq null", `"value":[{"status":null,"n":` +
			one("select count(*) || ',\"d\":' || sum(draught_m) from harbour.port_call where hazardous") + `}]`},
		{token, "/vessels?apply=topsum(100000,gross_tonnage)/aggregate($count as n)", `[{"n":` + one("select count(*) from (select "+
			"sum(gross_tonnage) over (order by gross_tonnage desc, id) - gross_tonnage as s from harbour.vessel) q where s < 100000") + `}]`},
		{token, "/vessels?apply=bottompercent(10,gross_tonnage)/aggregate($count as n)", `[{"n":` + one("select count(*) from (select "+
			"sum(gross_tonnage) over (order by gross_tonnage, id) - gross_tonnage as s, "+
			"sum(gross_tonnage) over () as t from harbour.vessel) q where s < t / 10") + `}]`},
		{token, "/vessels?apply=bottomcount(2,gross_tonnage)&select=id&expand=agent(select=id)&orderby=id", `"agent":{"id":`},
		{token, "/vessels?apply=orderby(name desc,id)/skip(1)/top(2)/identity&select=id&orderby=name desc", `[{"id":` +
			one("select id from harbour.vessel order by name desc, id offset 1 limit 1") + `}`},
		{token, "/vessels?apply=compute(year(built_on) as y)/groupby((y),aggregate($count as n))/filter(n gt 10)/compute(n mul 2 as " +
			"m)/groupby((),aggregate(m with sum as s))", "a field is expected"},
		{token, "/vessels?apply=compute(year(built_on) as y)/groupby((y),aggregate($count as n))/filter(n gt 10)/compute(n mul 2 as " +
			"m)/aggregate(m with sum as s)", `[{"s":` + one("select (sum(n) * 2)::text from (select count(*) as n from harbour.vessel group by "+
			"extract(year from built_on) having count(*) > 10) q") + `}]`},
		{token, "/vessels/$filter(kind eq 'tanker')?apply=aggregate($count as n)", `[{"n":` +
			one("select count(*) from harbour.vessel where kind = 'tanker'") + `}]`},
		{token, "/vessels?apply=search(grey)/aggregate($count as n)", `[{"n":` +
			one("select count(*) from harbour.vessel where name ilike '%grey%'") + `}]`},
		{token, "/port_calls/$count?apply=groupby((vessel/kind,status))",
			one("select count(*) from (select distinct kind, status from harbour.port_call p join harbour.vessel v on v.id = vessel_id) q")},
		{token, "/vessels/3/port_calls?apply=aggregate($count as n)", `[{"n":` +
			one("select count(*) from harbour.port_call where vessel_id = 3") + `}]`},
		{"", "/arrivals_board?apply=groupby((vessel/flag),aggregate(tug_count with sum as tugs))&orderby=tugs desc&top=1",
			`"value":[{"vessel":{"flag":"`},
		{"", "/arrivals_board?apply=groupby((vessel/agent_id))", `unknown field \"agent_id\"`},
		{agent, "/berth_load?from=2026-01-01&to=2026-02-01&apply=aggregate(hours with sum as h,$count as n)", `"n":28}]`},
		{agent, "/port_calls?apply=aggregate($count as n)", `[{"n":` +
			one("select count(*) from harbour.port_call p join harbour.vessel v on v.id = vessel_id where agent_id = 3") + `}]`},
		{agent, "/tugs?apply=aggregate(port_calls/$count with sum as n)", `[{"n":` + one("select count(*) from harbour.port_call_tug j join "+
			"harbour.port_call p on p.id = port_call_id join harbour.vessel v on v.id = vessel_id where agent_id = 3") + `}]`},
		{agent, "/port_calls?apply=groupby((remarks))", "may not read remarks"},
		{agent, "/port_calls?apply=filter(remarks eq null)/aggregate($count as n)", "may not read remarks"},
		{agent, "/port_calls?apply=concat(groupby((id)),aggregate(remarks with max as m))", "may not read remarks"},
		{agent, "/inspections?apply=aggregate($count as n)", "may not read inspections"},
		{token, "/port_calls?apply=groupby((tugs/name))", "leads to many tugs"},
		{token, "/port_calls?apply=groupbi((status))", `unknown transformation \"groupbi\" in apply at 1; did you mean \"groupby\"?`},
		{token, "/port_calls?apply=aggregate(status with sum as n)", "sum takes numbers and durations, but status is one of"},
		{token, "/port_calls?apply=aggregate(id with summ as n)", `did you mean \"sum\"?`},
		{token, "/port_calls?apply=aggregate(id with sum)", `\"as\" and a name`},
		{token, "/port_calls?apply=aggregate(id with sum as a,id with min as a)", `the result has \"a\" already`},
		{token, "/port_calls?apply=groupby((status),aggregate($count as n))&orderby=eta",
			`unknown field \"eta\" in orderby at 1; the result of apply has status, n`},
		{token, "/port_calls?apply=groupby((status),topcount(1,id))", "topcount inside groupby is not done here"},
		{token, "/port_calls?apply=concat(identity,aggregate($count as n))", "each chain of concat ends with groupby or aggregate"},
		{token, "/port_calls?apply=groupby((status)", `\")\" is missing`},
		{token, "/port_calls?apply=topsum(1,status)", "topsum takes a number"},
		{token, "/vessels?apply=groupby((tags))", "rows can be grouped by single values"},
		{token, "/vessels?expand=port_calls(apply=identity)", "apply inside expand is not done here"},
		{token, "/vessels/3?apply=identity", "apply goes with a collection"},
	} {
		if a := r.Send(t, tt.token, "GET", "/api/saltmere"+tt.path, nil); !strings.Contains(strings.ReplaceAll(a.Text, "\n", ""), tt.want) ||
			a.StatusCode >= 500 && a.StatusCode != 501 {
			t.Errorf("%s\ngot  %s %.400s\nwant %s", tt.path, a.Status, a.Text, tt.want)
		}
	}
	// Groups are paged like rows.
	var got []string
	for next := "/api/saltmere/port_calls?apply=groupby((vessel/name),aggregate($count as n))&orderby=n desc"; next != ""; {
		l, _ := nextPage(t, r, token, next, "maxpagesize=70")
		got, next = append(got, fields(l, "n")...), l.NextLink
	}
	if want := column(t, r.Harbour,
		"select count(*) from harbour.port_call p join harbour.vessel v on v.id = vessel_id group by v.name order by 1 desc"); strings.Join(got,
		" ") != strings.Join(want, " ") {
		t.Errorf("pages of groups: %d %v, want %d", len(got), got, len(want))
	}
}

func decode(t *testing.T, text string, into any) {
	t.Helper()
	if err := json.Unmarshal([]byte(text), into); err != nil {
		t.Fatalf("%v in %s", err, text)
	}
}

// flat is each row of an answer as the values at these paths.
func flat(t *testing.T, text string, paths []string) [][]any {
	t.Helper()
	var answer struct{ Value []map[string]any }
	decode(t, text, &answer)
	var rows [][]any
	for _, row := range answer.Value {
		var values []any
		for _, path := range paths {
			var at any = row
			for name := range strings.SplitSeq(path, "/") {
				object, _ := at.(map[string]any)
				at = object[name]
			}
			values = append(values, at)
		}
		rows = append(rows, values)
	}
	return rows
}

func sorted(rows [][]any) [][]any {
	index := map[string][]any{}
	var lines []string
	for _, row := range rows {
		line := fmt.Sprint(row)
		lines, index[line] = append(lines, line), row
	}
	out := make([][]any, 0, len(rows))
	slices.Sort(lines)
	for _, line := range lines {
		out = append(out, index[line])
	}
	return out
}

// sameRows compares rows; numbers may differ in their last digits, which JSON does not keep.
func sameRows(a, b [][]any) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if len(a[i]) != len(b[i]) {
			return false
		}
		for j := range a[i] {
			x, xNumber := a[i][j].(float64)
			y, yNumber := b[i][j].(float64)
			if xNumber && yNumber && math.Abs(x-y) <= 1e-9*math.Abs(x) {
				continue
			}
			if !reflect.DeepEqual(a[i][j], b[i][j]) {
				return false
			}
		}
	}
	return true
}
