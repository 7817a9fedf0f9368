package server_test

import (
	"math/rand/v2"
	"strings"
	"testing"
)

// Requests over a saved view and a named query, drawn with a fixed seed, each beside SQL that is put together naively.
func TestViewsDifferential(t *testing.T) {
	t.Parallel()
	r := start(t)
	token := r.Token(t, "harbour_master")
	draw := rand.New(rand.NewPCG(2, 71))
	type part struct{ ours, sql string }
	for _, target := range []struct {
		path, query, source, key string
		conditions, orders       []part
	}{
		{"arrivals_board", "", `(select p.id, p.eta, p.status, (select count(*) from harbour.port_call_tug j
			where j.port_call_id = p.id) as tug_count,
			exists (select from harbour.inspection i where i.port_call_id = p.id and not i.passed) as has_open_finding, v.name, v.flag
			from harbour.port_call p join harbour.vessel v on v.id = p.vessel_id where p.status in ('expected','anchored'))`, "id",
			[]part{{"status eq 'anchored'", "status = 'anchored'"}, {"tug_count ge 2", "tug_count >= 2"},
				{"not has_open_finding", "not has_open_finding"}, {"vessel/flag in ('NO','IS')", "flag in ('NO','IS')"},
				{"contains(tolower(vessel/name),'an')", "position('an' in lower(name)) > 0"}, {"eta gt 2026-07-05T00:00:00Z", "eta > '2026-07-05Z'"},
				{"day(eta) mod 2 eq 0", "extract(day from eta at time zone 'UTC')::int % 2 = 0"},
				{"tug_count add id gt 11700", "tug_count + id > 11700"}},
			[]part{{"eta", "eta"}, {"tug_count desc", "tug_count desc"}, {"vessel/name", "name"}, {"vessel/flag desc", "flag desc"},
				{"has_open_finding", "has_open_finding"}, {"length(vessel/name)", "length(name)"}}},
		{"berth_load", "from=2026-02-01&to=2026-05-01&", `(select berth_code, sum(extract(epoch from departed_at - arrived_at)) / 3600 as ` +
			`hours from harbour.port_call where arrived_at >= '2026-02-01' and departed_at < '2026-05-01' group by berth_code)`, "berth_code",
			[]part{{"hours gt 1000", "hours > 1000"}, {"startswith(berth_code,'N')", "berth_code like 'N%'"},
				{"berth_code ne null", "berth_code is not null"}, {"round(hours) mod 2 eq 0", "round(hours) % 2 = 0"},
				{"hours le 1050.5", "hours <= 1050.5"}, {"berth_code gt 'E'", "berth_code > 'E'"}},
			[]part{{"hours desc", "hours desc"}, {"substring(berth_code,1)", "substr(berth_code, 2)"},
				{"floor(hours divby 100)", "floor(hours / 100)"}}},
	} {
		some := 0
		for range 60 {
			query, where, order := target.query, "", ""
			var ours, sql []string
			for range draw.IntN(3) {
				c := target.conditions[draw.IntN(len(target.conditions))]
				if draw.IntN(3) == 0 {
					c = part{"not (" + c.ours + ")", "not (" + c.sql + ")"}
				}
				ours, sql = append(ours, "("+c.ours+")"), append(sql, "("+c.sql+")")
			}
			if ours != nil {
				operator := []string{" and ", " or "}[draw.IntN(2)]
				query += "filter=" + strings.Join(ours, operator) + "&"
				where = " where " + strings.Join(sql, operator)
			}
			ours, sql = nil, nil
			for _, i := range draw.Perm(len(target.orders))[:draw.IntN(3)] {
				ours, sql = append(ours, target.orders[i].ours), append(sql, target.orders[i].sql)
			}
			ours, sql = append(ours, target.key), append(sql, target.key)
			query += "orderby=" + strings.Join(ours, ",") + "&count=true"
			order = " order by " + strings.Join(sql, ", ")
			if draw.IntN(2) == 0 {
				query += "&skip=3&top=7"
				order += " offset 3 limit 7"
			} else {
				query += "&top=1000"
			}
			a := r.Send(t, token, "GET", "/api/saltmere/"+target.path+"?"+query, nil)
			got := fields(readList(t, a), target.key)
			want := column(t, r.Harbour, "select "+target.key+" from "+target.source+" q"+where+order)
			total := column(t, r.Harbour, "select count(*) from "+target.source+" q"+where)[0]
			if strings.Join(got, " ") != strings.Join(want, " ") || !strings.Contains(a.Text, `"@count":`+total+`,`) {
				t.Errorf("%s?%s\ngot  %d %.200v\nwant %d %.200v of %s", target.path, query, len(got), got, len(want), want, total)
			}
			if len(want) > 0 {
				some++
			}
		}
		if some < 40 {
			t.Errorf("only %d of the requests for %s had rows", some, target.path)
		}
	}
}
