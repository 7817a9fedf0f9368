package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// Topic is what kind of thing has changed.
type Topic string

// The topics that every instance must know of. What is known of callers and keys is looked up anew every second.
const (
	LiveRelease Topic = "api_window"
	SourceDSN   Topic = "source"
	DraftSaved  Topic = "draft"
	ChecksRun   Topic = "run" // began or ended
)

// Change is the window whose live release has changed, or the source whose DSN has.
type Change struct {
	Topic Topic
	Name  string
}

// pollEvery is how often changes are looked for whose notice did not arrive.
const pollEvery = time.Second

// Watch calls changed for what becomes different in the records, whoever does it, until the context ends: at once where the notice of the
// database arrives, else when it looks again. While the records are away it goes on trying. What is there at the beginning is no change.
func (s *Store) Watch(ctx context.Context, changed func(Change)) {
	noticed := make(chan struct{}, 1)
	go s.listen(ctx, noticed)
	var known map[Change]int64
	timer := time.NewTicker(pollEvery)
	defer timer.Stop()
	for {
		if now, err := s.revisions(ctx); err == nil {
			for c, number := range now {
				if known != nil && known[c] != number {
					changed(c)
				}
			}
			known = now
		}
		select {
		case <-ctx.Done():
			return
		case <-noticed:
		case <-timer.C:
		}
	}
}

func (s *Store) revisions(ctx context.Context) (map[Change]int64, error) {
	rows, err := s.pool.Query(ctx, "select topic, name, number from revision")
	if err != nil {
		return nil, err
	}
	found := map[Change]int64{}
	var c Change
	var number int64
	_, err = pgx.ForEachRow(rows, []any{&c.Topic, &c.Name, &number}, func() error {
		found[c] = number
		return nil
	})
	return found, err
}

// listen passes the database's notices on, over a connection of its own, which is made anew when it breaks off.
func (s *Store) listen(ctx context.Context, noticed chan<- struct{}) {
	for ctx.Err() == nil {
		s.listenOnce(ctx, noticed)
		select {
		case <-ctx.Done():
		case <-time.After(pollEvery):
		}
	}
}

func (s *Store) listenOnce(ctx context.Context, noticed chan<- struct{}) {
	config := s.pool.of.Config().ConnConfig.Copy()
	delete(config.RuntimeParams, "statement_timeout")
	conn, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return
	}
	defer conn.Close(context.WithoutCancel(ctx))
	if _, err := conn.Exec(ctx, "listen eager_window"); err != nil {
		return
	}
	for {
		select { // one that has not been taken yet will do
		case noticed <- struct{}{}:
		default:
		}
		if _, err := conn.WaitForNotification(ctx); err != nil {
			return
		}
	}
}
