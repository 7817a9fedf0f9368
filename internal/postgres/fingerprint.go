package postgres

import (
	"context"
	_ "embed"
)

//go:embed catalog/fingerprint.sql
var fingerprintSQL string

// Fingerprint is a short text that is another one when the tables of the source, their columns, types, constraints, indexes or comments
// have changed. It reads far less than Introspect, and nothing of the rows.
func Fingerprint(ctx context.Context, s *Source) (print string, err error) {
	conn, err := s.reads.Acquire(ctx)
	if err != nil {
		return "", unavailable(ctx, err)
	}
	defer conn.Release()
	if err := conn.QueryRow(ctx, fingerprintSQL).Scan(&print); err != nil {
		return "", unread(ctx, "the fingerprint of the catalog", err)
	}
	return print, nil
}
