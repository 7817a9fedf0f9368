package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// Suite is a suite of checks that is kept for a window.
type Suite struct {
	Name    string    `json:"name"`
	Text    string    `json:"text,omitempty"`
	SavedAt time.Time `json:"saved_at"`
	SavedBy string    `json:"saved_by"`
}

// Suites lists those of a window, by name.
func (s *Store) Suites(ctx context.Context, window string) ([]Suite, error) {
	rows, err := s.pool.Query(ctx, `select s.name, s.text, s.saved_at, s.saved_by from suite s join api_window w on w.id = s.window_id
		where w.name = $1 order by s.name`, window)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Suite])
}

// SaveSuite keeps a suite, in place of one of the same name. ErrNone says that there is no such window.
func (s *Store) SaveSuite(ctx context.Context, window string, in Suite) error {
	return s.mustAct(ctx, act{name: "save suite", target: window + "/" + in.Name}, `insert into suite (window_id, name, text, saved_by)
		select id, $2, $3, $4 from api_window where name = $1
		on conflict (window_id, name) do update set text = excluded.text, saved_at = now(),
			saved_by = excluded.saved_by`, window, in.Name, in.Text,
		in.SavedBy)
}

// RemoveSuite forgets a suite. ErrNone says that there is none of that name.
func (s *Store) RemoveSuite(ctx context.Context, window, name string) error {
	return s.mustAct(ctx, act{name: "remove suite", target: window + "/" + name}, `delete from suite s using api_window w
		where w.id = s.window_id and w.name = $1 and s.name = $2`, window, name)
}
