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
	text, err := q.GenericPlan(ctx, from, limit)
	if err != nil {
		return 0, err
	}
	explained, err := statement.ReadExplained(text)
	if err != nil {
		return 0, err
	}
	return explained.Plan.Cost, nil
}

// GenericPlan is the planner's plan, as JSON, for a statement whatever its arguments are. Nothing is run.
func (q *Statement) GenericPlan(ctx context.Context, from Client, limit time.Duration) (json.RawMessage, error) {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	conn, err := from.acquire(ctx)
	if err != nil {
		return nil, unavailable(ctx, err)
	}
	defer from.release(conn)
	pg := conn.Conn().PgConn()
	results, err := pg.Exec(ctx, "begin; "+genericSQL(q.Plan.SQL, len(q.Plan.Slots))+"; rollback; deallocate eager_plan").ReadAll()
	if err != nil {
		_, _ = pg.Exec(ctx, "rollback").ReadAll() // a connection that can't do this has been closed
		_, _ = pg.Exec(ctx, "deallocate eager_plan").ReadAll()
		return nil, translate(ctx, err)
	}
	return planText(results)
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

// planText finds the plan among what was answered to genericSQL.
func planText(results []*pgconn.Result) (json.RawMessage, error) {
	for _, r := range results {
		if len(r.Rows) == 1 && len(r.Rows[0]) == 1 {
			return r.Rows[0][0], nil
		}
	}
	return nil, errors.New("the planner told no plan")
}

// planIn reads the plan among what was answered to genericSQL.
func planIn(results []*pgconn.Result) (*statement.Step, error) {
	text, err := planText(results)
	if err != nil {
		return nil, err
	}
	explained, err := statement.ReadExplained(text)
	if err != nil {
		return nil, err
	}
	return explained.Plan, nil
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
