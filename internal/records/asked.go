package records

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jackc/pgx/v5"
)

// Asked is a request that an operator has made of a draft, with its answer.
type Asked struct {
	ID      int64           `json:"id"`
	At      time.Time       `json:"at"`
	Method  string          `json:"method"`
	Path    string          `json:"path"`
	ActAs   string          `json:"act_as,omitempty"`
	Headers json.RawMessage `json:"headers"`
	Body    string          `json:"body,omitempty"`
	Status  int             `json:"status"`
	Kind    string          `json:"kind,omitempty"`
	Answer  string          `json:"answer,omitempty"`
	TookMS  float64         `json:"took_ms"`
}

// keptRequests is how many requests of an operator are kept for a window.
const keptRequests = 200

// KeepAsked keeps a request, and forgets those of the operator that are too many.
func (s *Store) KeepAsked(ctx context.Context, window, operator string, a Asked) error {
	_, err := s.pool.Exec(ctx, `with w as (select id from api_window where name = $1),
		old as (delete from asked using w where window_id = w.id and operator = $2
			and asked.id <= (select a.id from asked a where a.window_id = w.id and a.operator = $2 order by a.id desc offset $11 limit 1))
		insert into asked (window_id, operator, method, path, act_as, headers, body, status, kind, answer, took_ms)
		select w.id, $2, $3, $4, $5, $6, $7, $8, $9, $10, $12 from w`, window, operator, a.Method, a.Path, a.ActAs, a.Headers, a.Body, a.Status,
		a.Kind, a.Answer, keptRequests-1, a.TookMS)
	return err
}

// Asked lists what an operator has asked of a window, the last first.
func (s *Store) Asked(ctx context.Context, window, operator string, limit int) ([]Asked, error) {
	rows, err := s.pool.Query(ctx, `select a.id, a.at, method, path, act_as, headers, body, status, kind, answer, took_ms
		from asked a join api_window w on w.id = a.window_id
		where w.name = $1 and operator = $2 order by a.id desc limit $3`, window, operator, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Asked])
}
