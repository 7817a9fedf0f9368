package postgres_test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"math/big"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"eagerwindow/internal/harbourtest"
)

// Thousands of values that PostgreSQL draws, each read from our JSON and compared with PostgreSQL's own writing of it.
func TestValuesAgree(t *testing.T) {
	t.Parallel()
	pool := connect(t, harbourtest.Database(t, false))
	execute(t, pool, `select setseed(0.42);
		create table drawn as select n as id,
			((random() - 0.5) * power(10, (n % 37) - 12))::numeric(40, 12) as num,
			trunc(((random() - 0.5) * power(10, n % 30))::numeric, (n % 9)::int) as plain,
			(random() - 0.5) * power(10, (n % 40) - 20) as dbl,
			((random() - 0.5) * power(10, (n % 20) - 10))::real as single,
			timestamptz '0001-01-03Z' + random() * interval '9990 years' as moment,
			date '0001-01-01' + (random() * 3652000)::int as day,
			time '00:00' + random() * interval '1 day' as clock,
			make_interval(days => (random() * 900)::int, secs => (random() * 90000)::numeric(10, 3)::double precision) as span,
			repeat(chr((1 + random() * 55000)::int), 2) || E'\\x01"\\\\/' as words,
			gen_random_uuid() as guid,
			(random() * 9e18)::bigint * (case when n % 2 = 0 then 1 else -1 end) as big
		from generate_series(1, 4000) n;
		alter table drawn add primary key (id)`)
	ours := pendingRead(t, pool, "window: w\nsource: w\nresources: {drawn: {page: {max: none}}}", "drawn", "orderby=id")
	rows, err := pool.Pool().Query(context.Background(), `select id, num::text, plain::text, dbl, single, moment, day::text, clock::text, `+
		`extract(epoch from span)::text, words, guid::text, big from drawn order by id limit 1000`)
	if err != nil {
		t.Fatal(err)
	}
	lines := bufio.NewScanner(strings.NewReader(ours))
	lines.Buffer(nil, 1<<20)
	type theirs struct {
		ID                               int
		Num, Plain                       string
		Dbl                              float64
		Single                           float32
		Moment                           time.Time
		Day, Clock, Seconds, Words, GUID string
		Big                              int64
	}
	want, err := pgx.CollectRows(rows, pgx.RowToStructByPos[theirs])
	if err != nil {
		t.Fatal(err)
	}
	for _, w := range want {
		if !lines.Scan() {
			t.Fatal("our rows end too early")
		}
		var got struct {
			ID                                    int
			Num, Plain                            json.Number
			Dbl                                   float64
			Single                                float32
			Moment, Day, Clock, Span, Words, GUID string
			Big                                   int64
		}
		if err := json.Unmarshal(lines.Bytes(), &got); err != nil {
			t.Fatalf("%v in %s", err, lines.Text())
		}
		moment, err := time.Parse(time.RFC3339Nano, got.Moment)
		if err != nil || !moment.Equal(w.Moment) {
			t.Errorf("row %d: moment %s, want %s", w.ID, got.Moment, w.Moment)
		}
		if got.ID != w.ID || got.Num.String() != w.Num || got.Plain.String() != w.Plain || got.Dbl != w.Dbl || got.Single != w.Single ||
			got.Day != w.Day ||
			got.Clock != strings.TrimSuffix(w.Clock, ".") || got.Words != w.Words || got.GUID != w.GUID || got.Big != w.Big {
			t.Errorf("row %d:\ngot  %+v\nwant %+v", w.ID, got, w)
		}
		if s, want := seconds(t, got.Span), rational(w.Seconds); s.Cmp(want) != 0 {
			t.Errorf("row %d: the interval %s has %s seconds, want %s", w.ID, got.Span, s, want)
		}
	}
	if len(want) != 1000 {
		t.Errorf("compared %d rows", len(want))
	}
}

func rational(s string) *big.Rat {
	r, _ := new(big.Rat).SetString(s)
	return r
}

// seconds reads a duration of days, hours, minutes and seconds.
func seconds(t *testing.T, duration string) *big.Rat {
	t.Helper()
	var sum big.Rat
	rest := strings.NewReplacer("P", "", "T", "").Replace(duration)
	for rest != "" {
		i := strings.IndexAny(rest, "DHMS")
		if i < 0 {
			t.Fatalf("%q is no duration", duration)
		}
		unit := map[byte]int64{'D': 86400, 'H': 3600, 'M': 60, 'S': 1}[rest[i]]
		sum.Add(&sum, new(big.Rat).Mul(rational(rest[:i]), new(big.Rat).SetInt64(unit)))
		rest = rest[i+1:]
	}
	return &sum
}

// A catalog of many tables is read in as many statements as one of few: the time grows with the rows of the catalog alone.
func TestManyTables(t *testing.T) {
	t.Parallel()
	pool := connect(t, harbourtest.Database(t, false))
	var sql strings.Builder
	for i := range 300 {
		fmt.Fprintf(&sql, "create table t%d (id int primary key, a text, b numeric(10,2) default 1 check (b > 0), c timestamptz not null, "+
			"d int references t%d);", i, max(i-1, 0))
	}
	execute(t, pool, strings.Replace(sql.String(), "references t0);", ");", 1))
	start := time.Now()
	c := introspect(t, pool)
	t.Logf("300 tables in %s", time.Since(start))
	if len(c.Tables) != 300 {
		t.Fatalf("found %d tables", len(c.Tables))
	}
	table := c.Find("public", "t299")
	if len(table.Columns) != 5 || len(table.ForeignKeys) != 1 || table.ForeignKeys[0].ToTable != "t298" || len(table.Checks) != 1 ||
		table.Primary[0] != "id" || table.Columns[2].Type.Scale != 2 {
		t.Errorf("t299 is %+v", table)
	}
}
