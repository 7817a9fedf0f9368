package postgres

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/statement"
)

// Cost is what the planner reckons for a statement whatever its arguments are, so that one answer holds for every request of a
// shape. Nothing is run.
func (q *Statement) Cost(ctx context.Context, from Client, limit time.Duration) (float64, error) {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	conn, err := from.acquire(ctx)
	if err != nil {
		return 0, unavailable(ctx, err)
	}
	defer from.release(conn)
	arguments := ""
	if n := len(q.Plan.Slots); n > 0 {
		arguments = "(" + strings.TrimSuffix(strings.Repeat("null, ", n), ", ") + ")"
	}
	pg := conn.Conn().PgConn()
	results, err := pg.Exec(ctx, "begin; set local plan_cache_mode = force_generic_plan; prepare eager_cost as "+q.Plan.SQL+
		"; explain (format json) execute eager_cost"+arguments+"; rollback; deallocate eager_cost").ReadAll()
	if err != nil {
		_, _ = pg.Exec(ctx, "rollback").ReadAll() // a connection that can't do this has been closed
		_, _ = pg.Exec(ctx, "deallocate eager_cost").ReadAll()
		return 0, translate(ctx, err)
	}
	for _, r := range results {
		if len(r.Rows) == 1 && len(r.Rows[0]) == 1 {
			explained, err := statement.ReadExplained(r.Rows[0][0])
			if err != nil {
				return 0, err
			}
			return explained.Plan.Cost, nil
		}
	}
	return 0, fmt.Errorf("the planner told no cost")
}

// Explain runs a statement and returns how the database did it, as JSON.
func (q *Statement) Explain(ctx context.Context, from Client, args []any, limit time.Duration) (json.RawMessage, error) {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	var plan json.RawMessage
	if err := from.reads.QueryRow(ctx, "explain (analyze, timing off, format json) "+q.Plan.SQL, args...).Scan(&plan); err != nil {
		if ctx.Err() != nil {
			return nil, fault.New(fault.TimedOut, "time.limit", "the database took longer than the limit of %s", limit)
		}
		return nil, translate(ctx, err)
	}
	return plan, nil
}
