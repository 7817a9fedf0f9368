package identity

import (
	"context"

	"eagerwindow/internal/records"
)

// What operators did, as the management API has it.
type (
	// AuditEntry is one act of an operator.
	AuditEntry = records.Entry
	// AuditState is what is known of the audit after looking through it.
	AuditState = records.Verified
)

// Audit lists what operators did, the newest first: to a target or what is below it ("" for all), before an entry (0 for the last).
func (s *Directory) Audit(ctx context.Context, target string, before int64, limit int) ([]AuditEntry, error) {
	return s.records.Audit(ctx, target, before, limit)
}

// NoteWrite notes that an operator is about to write rows through a draft, which are those that are live too: with which request, and as
// which roles.
func (s *Directory) NoteWrite(ctx context.Context, window, request, as string) error {
	details := map[string]any{"request": request}
	if as != "" {
		details["as"] = as
	}
	return s.records.Note(ctx, "write rows", window, details)
}

// VerifyAudit looks whether the audit is as it was written; noted is a seal that should be in it, "" for none.
func (s *Directory) VerifyAudit(ctx context.Context, noted string) (*AuditState, error) {
	return s.records.VerifyAudit(ctx, noted)
}
