package postgres

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"eagerwindow/internal/core/fault"
)

// Refusal is what the database refused, for whoever may know more than a caller: a constraint's name and PostgreSQL's words.
type Refusal struct {
	*fault.Fault
	Table, Constraint, Column string
	Words                     string
}

// Unwrap makes the fault visible to errors.As.
func (r *Refusal) Unwrap() error { return r.Fault }

const away = "the database is away; try again in a moment"

// translate makes a fault of what a caller can cause; the rest stays an error. Names of tables and constraints are left out of
// the fault: the window may not expose them.
func translate(ctx context.Context, err error) error {
	var p *pgconn.PgError
	var connect *pgconn.ConnectError
	if errors.As(err, &connect) || !errors.As(err, &p) {
		return unavailable(ctx, err)
	}
	raised := p.Code == "P0001" || p.Routine == "exec_stmt_raise" // by the database's owner, whose words are meant for whoever writes
	refuse := func(kind fault.Kind, code, message string) error {
		if raised {
			code, message = "row.refused", p.Message
			if p.Hint != "" {
				message += "; " + p.Hint
			}
		}
		return &Refusal{Fault: fault.New(kind, code, "%s", message), Table: p.TableName, Constraint: p.ConstraintName, Column: p.ColumnName, Words: p.Message}
	}
	switch p.Code {
	case "23505":
		return refuse(fault.Conflict, "row.conflict", "another row has the same value where it must be unique")
	case "23P01":
		return refuse(fault.Conflict, "row.conflict", "the row overlaps with another one where that is not allowed")
	case "23503":
		if strings.HasPrefix(p.Message, "update or delete") {
			return refuse(fault.Conflict, "row.referenced", "other rows still refer to this one")
		}
		return refuse(fault.Conflict, "row.reference", "the row refers to one that does not exist")
	case "23502":
		return refuse(fault.Unprocessable, "field.null", "a field that must have a value has none")
	case "23514":
		return refuse(fault.Unprocessable, "row.check", "the values break a rule of the table")
	case "22003":
		return refuse(fault.Invalid, "value.range", "a number is out of range")
	case "22012":
		return refuse(fault.Invalid, "value.division", "something is divided by zero")
	case "57014":
		return refuse(fault.TimedOut, "time.limit", "the database took longer than the time limit")
	case "42501", "25006":
		return refuse(fault.Forbidden, "database.denied", "the database does not let this service do that")
	}
	switch p.Code[:2] {
	case "22":
		return refuse(fault.Invalid, "value.invalid", "a value can't be understood by the database")
	case "23":
		return refuse(fault.Conflict, "row.conflict", "the row breaks a rule of the table")
	case "40":
		return refuse(fault.Conflict, "row.concurrent", "another write came between; try again")
	case "53", "57", "58":
		return refuse(fault.Unavailable, "database.unavailable", away)
	}
	if raised {
		return refuse(fault.Unprocessable, "row.refused", p.Message)
	}
	return fmt.Errorf("run a statement: %w", err)
}

func unavailable(ctx context.Context, err error) error {
	if errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return fault.New(fault.TimedOut, "time.limit", "the database took longer than the time limit")
	}
	var connect *pgconn.ConnectError
	if errors.As(err, &connect) || pgconn.SafeToRetry(err) {
		return fault.New(fault.Unavailable, "database.unavailable", away)
	}
	return fmt.Errorf("run a statement: %w", err)
}
