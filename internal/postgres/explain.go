package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

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
	pg := conn.Conn().PgConn()
	results, err := pg.Exec(ctx, "begin; "+genericSQL(q.Plan.SQL, len(q.Plan.Slots))+"; rollback; deallocate eager_plan").ReadAll()
	if err != nil {
		_, _ = pg.Exec(ctx, "rollback").ReadAll() // a connection that can't do this has been closed
		_, _ = pg.Exec(ctx, "deallocate eager_plan").ReadAll()
		return 0, translate(ctx, err)
	}
	plan, err := planIn(results)
	if err != nil {
		return 0, err
	}
	return plan.Cost, nil
}

// genericSQL asks for the plan of a statement whatever its arguments are, of which it takes so many. It belongs in a transaction.
func genericSQL(sql string, arguments int) string {
	nulls := ""
	if arguments > 0 {
		nulls = "(" + strings.TrimSuffix(strings.Repeat("null, ", arguments), ", ") + ")"
	}
	return "set local plan_cache_mode = force_generic_plan; prepare eager_plan as " + sql + "; explain (format json) execute eager_plan" +
		nulls
}

// planIn finds the plan among what was answered to genericSQL.
func planIn(results []*pgconn.Result) (*statement.Step, error) {
	for _, r := range results {
		if len(r.Rows) == 1 && len(r.Rows[0]) == 1 {
			explained, err := statement.ReadExplained(r.Rows[0][0])
			if err != nil {
				return nil, err
			}
			return explained.Plan, nil
		}
	}
	return nil, errors.New("the planner told no plan")
}

// Explain runs a statement and returns how the database did it, as JSON.
func (q *Statement) Explain(ctx context.Context, from Client, args []any, limit time.Duration) (json.RawMessage, error) {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	var plan json.RawMessage
	if err := from.reads.QueryRow(ctx, "explain (analyze, format json) "+q.Plan.SQL, args...).Scan(&plan); err != nil {
		if ctx.Err() != nil {
			return nil, fault.New(fault.TimedOut, "time.limit", "the database took longer than the limit of %s", limit)
		}
		return nil, translate(ctx, err)
	}
	return plan, nil
}
