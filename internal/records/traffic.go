package records

import (
	"context"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5"

	"eagerwindow/internal/traffic"
)

// AddTraffic adds what was counted of requests to the sums of this minute, hour and day.
func (s *Store) AddTraffic(ctx context.Context, sums traffic.Sums) error {
	b := &pgx.Batch{}
	var columns [3][]string
	var statuses []int32
	var times []string
	for key, t := range sums.Counts {
		for i, text := range []string{key.Window, key.Resource, key.Role} {
			columns[i] = append(columns[i], text)
		}
		statuses, times = append(statuses, int32(key.Status)), append(times, arrayText(t[:]))
	}
	b.Queue(`insert into traffic (window_id, grain, at, resource, role, status, count, times)
		select w.id, g, date_trunc(g, now(), 'UTC'), c.resource, c.role, c.status, (select sum(n) from unnest(c.times::bigint[]) n),
			c.times::bigint[]
		from unnest($1::text[], $2::text[], $3::text[], $4::int[], $5::text[]) c (name, resource, role, status, times)
		join api_window w on w.name = c.name cross join unnest('{minute,hour,day}'::text[]) g order by 1, 2, 3, 4, 5, 6
		on conflict (window_id, grain, at, resource, role, status) do update
		set count = traffic.count + excluded.count, times = sum_times(traffic.times, excluded.times)`,
		columns[0], columns[1], columns[2], statuses, times)
	columns, times = [3][]string{}, nil
	var figures [3][]int64
	for shape, sum := range sums.Shapes {
		for i, text := range []string{shape.Window, shape.Shape, shape.Role} {
			columns[i] = append(columns[i], text)
		}
		for i, n := range []int64{sum.Count, sum.Waited.Microseconds(), sum.Rows} {
			figures[i] = append(figures[i], n)
		}
		times = append(times, arrayText(sum.Times[:]))
	}
	b.Queue(`insert into traffic_shape (window_id, at, shape, role, count, waited_us, rows, times)
		select w.id, date_trunc('hour', now(), 'UTC'), c.shape, c.role, c.count, c.waited, c.rows, c.times::bigint[]
		from unnest($1::text[], $2::text[], $3::text[], $4::bigint[], $5::bigint[], $6::bigint[], $7::text[])
			c (name, shape, role, count, waited, rows, times)
		join api_window w on w.name = c.name order by 1, 3, 4
		on conflict (window_id, at, shape, role) do update set count = traffic_shape.count + excluded.count,
		waited_us = traffic_shape.waited_us + excluded.waited_us, rows = traffic_shape.rows + excluded.rows,
		times = sum_times(traffic_shape.times, excluded.times)`,
		columns[0], columns[1], columns[2], figures[0], figures[1], figures[2], times)
	for _, r := range sums.Refusals {
		b.Queue(`insert into refusal (window_id, at, caller, role, method, path, status, code, message)
			select id, $2, $3, $4, $5, $6, $7, $8, $9 from api_window where name = $1`,
			r.Window, r.At, r.Caller, r.Role, r.Method, r.Path, r.Status, r.Code, r.Message)
	}
	return s.pool.SendBatch(ctx, b)
}

func arrayText(times []int64) string {
	text := []byte{'{'}
	for i, n := range times {
		if i > 0 {
			text = append(text, ',')
		}
		text = strconv.AppendInt(text, n, 10)
	}
	return string(append(text, '}'))
}

// ForgetTraffic forgets sums of long ago, shapes that are too many of an hour, and all but the last refusals and runs.
func (s *Store) ForgetTraffic(ctx context.Context) error {
	for _, sql := range []string{
		`delete from traffic where at < now() - case grain when 'minute' then interval '2 days' when 'hour' then interval '35 days'
			else interval '400 days' end`,
		`delete from traffic_shape where at < now() - interval '35 days' or (window_id, at, shape, role) in (
			select window_id, at, shape, role from (select *, row_number() over (partition by window_id, at order by waited_us desc) n
				from traffic_shape) ranked where n > 100)`,
		`delete from refusal where id in (select id from (select id, row_number() over (partition by window_id order by id desc) n
			from refusal) ranked where n > 200)`,
		`delete from run where id in (select id from (select id, row_number() over (partition by window_id order by id desc) n
			from run) ranked where n > 100)`} {
		if _, err := s.pool.Exec(ctx, sql); err != nil {
			return err
		}
	}
	return nil
}

// TrafficSum is what was counted from one moment to the next by status. Of the histogram only what is not 0 is there: Buckets, from 1, and
// how many each has.
type TrafficSum struct {
	At      time.Time
	Status  int
	Count   int64
	Buckets []int32
	Numbers []int64
}

// Times is the histogram.
func (s *TrafficSum) Times() []int64 {
	if len(s.Buckets) == 0 {
		return nil
	}
	times := make([]int64, s.Buckets[len(s.Buckets)-1])
	for i, at := range s.Buckets {
		times[at-1] = s.Numbers[i]
	}
	return times
}

// TrafficFilter chooses requests; "" and 0 stand for all.
type TrafficFilter struct {
	Window, Grain  string
	From           time.Time
	Step           time.Duration // that is summed
	Resource, Role string
	Status         int // of a hundred: 2, 4, 5
}

// Traffic lists the sums since a moment, by steps and status.
func (s *Store) Traffic(ctx context.Context, f TrafficFilter) ([]TrafficSum, error) {
	return list(ctx, s, pgx.RowToStructByPos[TrafficSum], `with found as (
			select date_bin($7, t.at, $3) at, status, times from traffic t join api_window w on w.id = t.window_id
			where w.name = $1 and t.grain = $2 and t.at >= $3 and ($4 = '' or t.resource = $4) and ($5 = '' or t.role = $5)
				and ($6 = 0 or t.status / 100 = $6)),
		buckets as (select at, status, i::int, sum(x)::bigint n from found, unnest(times) with ordinality p (x, i) where x > 0 group by 1, 2, 3)
		select at, status, sum(n)::bigint, array_agg(i order by i), array_agg(n order by i) from buckets group by 1, 2 order by 1, 2`,
		f.Window, f.Grain, f.From, f.Resource, f.Role, f.Status, f.Step)
}

// TrafficNames are the resources and roles that requests were counted for since a moment.
func (s *Store) TrafficNames(ctx context.Context, window, grain string, from time.Time) (resources, roles []string, err error) {
	err = s.pool.QueryRow(ctx, `select coalesce(array_agg(distinct resource), '{}'), coalesce(array_agg(distinct role), '{}')
		from traffic t join api_window w on w.id = t.window_id where w.name = $1 and t.grain = $2 and t.at >= $3`,
		window, grain, from).Scan(&resources, &roles)
	return resources, roles, err
}

// ShapeTraffic is what was counted of a shape.
type ShapeTraffic struct {
	Shape    string
	Roles    []string
	Count    int64
	WaitedUS int64
	Rows     int64
	Times    []int64
}

// Shapes lists those that the database spent most time on since a moment.
func (s *Store) Shapes(ctx context.Context, window string, from time.Time, role string, most int) ([]ShapeTraffic, error) {
	return list(ctx, s, pgx.RowToStructByPos[ShapeTraffic], `with found as (select t.* from traffic_shape t join api_window w
			on w.id = t.window_id where w.name = $1 and t.at >= date_trunc('hour', $2::timestamptz) and ($3 = '' or t.role = $3))
		select shape, array_agg(distinct role), sum(count)::bigint, sum(waited_us)::bigint, sum(rows)::bigint,
			(select array_agg(n order by i) from (select i, sum(x)::bigint n from found g, unnest(g.times) with ordinality p (x, i)
			where g.shape = f.shape group by i) sums)
		from found f group by shape order by 4 desc limit $4`, window, from, role, most)
}

// Refusal is a request that was refused.
type Refusal struct {
	At      time.Time `json:"at"`
	Caller  string    `json:"caller"`
	Role    string    `json:"role"`
	Method  string    `json:"method"`
	Path    string    `json:"path"`
	Status  int       `json:"status"`
	Code    string    `json:"code"`
	Message string    `json:"message"`
}

// Refusals lists the last ones of a window, the newest first.
func (s *Store) Refusals(ctx context.Context, window, role string, most int) ([]Refusal, error) {
	return list(ctx, s, pgx.RowToStructByPos[Refusal], `select r.at, caller, role, method, path, status, code, message
		from refusal r join api_window w on w.id = r.window_id where w.name = $1 and ($2 = '' or role = $2) order by r.id desc limit $3`,
		window, role, most)
}

// Minutes counts the requests of all windows in each of the last minutes, the current one last.
func (s *Store) Minutes(ctx context.Context, most int) (map[string][]int64, error) {
	rows, err := s.pool.Query(ctx, `select w.name, (extract(epoch from date_trunc('minute', now()) - t.at) / 60)::int, sum(t.count)::bigint
		from traffic t join api_window w on w.id = t.window_id
		where t.grain = 'minute' and t.at > now() - make_interval(mins => $1) group by 1, 2`, most)
	if err != nil {
		return nil, err
	}
	out := map[string][]int64{}
	var name string
	var ago int
	var count int64
	_, err = pgx.ForEachRow(rows, []any{&name, &ago, &count}, func() error {
		if out[name] == nil {
			out[name] = make([]int64, most)
		}
		if ago >= 0 && ago < most {
			out[name][most-1-ago] = count
		}
		return nil
	})
	return out, err
}
