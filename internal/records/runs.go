package records

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jackc/pgx/v5"
)

// Run is one execution of suites of checks.
type Run struct {
	ID      int64           `json:"id"`
	At      time.Time       `json:"at"`
	By      string          `json:"by"`
	On      string          `json:"on"` // draft, live, or the number of a release
	EndedAt *time.Time      `json:"ended_at"`
	Passed  int             `json:"passed"`
	Failed  int             `json:"failed"`
	Results json.RawMessage `json:"results"` // as the run reported them; of a list: a sum by suite
}

// BeginRun notes that a run has begun. ErrNone says that there is no such window.
func (s *Store) BeginRun(ctx context.Context, window, by, on string) (id int64, err error) {
	err = s.pool.QueryRow(ctx, `insert into run (window_id, by, version) select id, $2, $3 from api_window where name = $1 returning id`,
		window, by, on).Scan(&id)
	return id, none(err)
}

// EndRun keeps what a run has found.
func (s *Store) EndRun(ctx context.Context, id int64, passed, failed int, results json.RawMessage) error {
	return s.must(ctx, "update run set ended_at = now(), passed = $2, failed = $3, results = $4 where id = $1", id, passed, failed, results)
}

// ended is when a run ended, and its beginning where it can't go on any more: the service was stopped under it.
const ended = "coalesce(ended_at, case when r.at < now() - interval '15 minutes' then r.at end)"

// Runs lists the last runs of a window, the newest first, with sums by suite in place of the results.
func (s *Store) Runs(ctx context.Context, window string, most int) ([]Run, error) {
	return list(ctx, s, pgx.RowToStructByPos[Run], `select r.id, r.at, by, version, `+ended+`, passed, failed,
			(select coalesce(jsonb_agg(s), '[]') from (select e->>'suite' suite, count(*) filter (where (e->>'passed')::boolean) passed,
				count(*) filter (where not (e->>'passed')::boolean) failed, sum((e->>'seconds')::float) seconds
				from jsonb_array_elements(results) e group by 1 order by 1) s)
		from run r join api_window w on w.id = r.window_id where w.name = $1 order by r.id desc limit $2`, window, most)
}

// RunOf is one run with its results.
func (s *Store) RunOf(ctx context.Context, window string, id int64) (Run, error) {
	return one(ctx, s, pgx.RowToStructByPos[Run], `select r.id, r.at, by, version, `+ended+`, passed, failed, results
		from run r join api_window w on w.id = r.window_id where w.name = $1 and r.id = $2`, window, id)
}

// LastChecks are the last runs of all windows that have ended.
func (s *Store) LastChecks(ctx context.Context) (map[string]Run, error) {
	rows, err := s.pool.Query(ctx, `select distinct on (w.id) w.name, r.id, r.at, by, version, ended_at, passed, failed
		from run r join api_window w on w.id = r.window_id where ended_at is not null order by w.id, r.id desc`)
	if err != nil {
		return nil, err
	}
	out := map[string]Run{}
	var name string
	var r Run
	_, err = pgx.ForEachRow(rows, []any{&name, &r.ID, &r.At, &r.By, &r.On, &r.EndedAt, &r.Passed, &r.Failed}, func() error {
		out[name] = r
		return nil
	})
	return out, err
}
