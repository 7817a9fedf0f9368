package postgres

import "github.com/jackc/pgx/v5/pgxpool"

// Pool lets tests run statements of their own.
func (s *Source) Pool() *pgxpool.Pool { return s.writes.Pool }
