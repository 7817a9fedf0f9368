package postgres

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"regexp"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/statement"
)

// changedCodes are the errors of a statement whose tables, columns, functions or types are not what they were.
var changedCodes = map[string]bool{"42P01": true, "42703": true, "42883": true, "42804": true, "42846": true, "42809": true, "3F000": true,
	"0A000": true}

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
		return &fault.Refusal{Fault: fault.New(kind, code, "%s", message), Table: p.TableName, Constraint: p.ConstraintName, Column: p.ColumnName,
			Words: p.Message, Argument: argumentOf(p)}
	}
	if p.Routine == "range_serialize" {
		return refuse(fault.Invalid, "value.range", "the lower bound of a range would be greater than its upper bound")
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
	case "428C9": // by a view, whose own columns do not say so
		return refuse(fault.Invalid, "field.readonly", "a field that is sent is filled by the database itself; leave it out")
	case "23514":
		if p.Routine == "ExecFindPartition" {
			return refuse(fault.Unprocessable, "row.partition", "the table is divided by the values of a field, and no part of it takes this one")
		}
		return refuse(fault.Unprocessable, "row.check", "the values break a rule of the table")
	case "22003":
		return refuse(fault.Invalid, "value.range", "a number is out of range")
	case "0A000":
		if strings.HasPrefix(p.Routine, "numeric_int") || strings.HasPrefix(p.Routine, "dtoi") { // infinity as a whole number
			return refuse(fault.Invalid, "value.range", "a number is out of range")
		}
	case "22012":
		return refuse(fault.Invalid, "value.division", "something is divided by zero")
	case "57014":
		return refuse(fault.TimedOut, "time.limit", "the database took longer than the time limit")
	case "42501", "25006":
		return refuse(fault.Forbidden, "database.denied", "the database does not let this service do that")
	}
	switch class := p.Code[:2]; {
	case class == "22", class == "42" && argumentOf(p) > 0, p.Code == "42601" && !ofSQL(p): // some types call it a mistake of syntax
		return refuse(fault.Invalid, "value.invalid", "a value can't be understood by the database")
	case class == "23":
		return refuse(fault.Conflict, "row.conflict", "the row breaks a rule of the table")
	case class == "40":
		return refuse(fault.Conflict, "row.concurrent", "another write came between; try again")
	case class == "53", class == "57", class == "58", class == "08":
		return refuse(fault.Unavailable, "database.unavailable", away)
	case class == "54":
		return refuse(fault.Invalid, "limit.expression", "the request is more than the database can take at once; ask for less")
	case !raised && (changedCodes[p.Code] || class == "26"): // the statement was right when it was planned
		return changed(p.Message)
	}
	if raised {
		return refuse(fault.Unprocessable, "row.refused", p.Message)
	}
	return fmt.Errorf("run a statement: %w", err)
}

// ofSQL reports whether a mistake of syntax is one in a statement, as the server's scanner, grammar and analysis find it, not in a value
// that a type reads.
func ofSQL(p *pgconn.PgError) bool {
	from, _, _ := strings.Cut(p.File, ".")
	return from == "scan" || from == "gram" || strings.HasPrefix(from, "parse_")
}

// boundArgument is how the server names an argument that it could not read.
var boundArgument = regexp.MustCompile(`(?m)^(?:unnamed portal|portal "[^"]*") parameter \$(\d+)`)

func argumentOf(p *pgconn.PgError) int {
	if found := boundArgument.FindStringSubmatch(p.Where); found != nil {
		n, _ := strconv.Atoi(found[1])
		return n
	}
	return 0
}

// blame names the field of a body whose value the database could not read: of some types it alone knows the form.
func (q *Statement) blame(err error) error {
	var refusal *fault.Refusal
	if !errors.As(err, &refusal) || refusal.Argument < 1 || refusal.Argument > len(q.Plan.Slots) {
		return err
	}
	slot := q.Plan.Slots[refusal.Argument-1]
	if slot.Role != statement.Body {
		return err
	}
	f := q.Plan.Body[slot.Index]
	refusal.Column = f.Column.Name
	if refusal.Code == "value.invalid" {
		refusal.Message = "the database can't read this as " + f.Type.Catalog.Base().SQL
	}
	return err
}

func unavailable(ctx context.Context, err error) error {
	if errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return fault.New(fault.TimedOut, "time.limit", "the database took longer than the time limit")
	}
	if broken(err) {
		return &fault.Refusal{Fault: fault.New(fault.Unavailable, "database.unavailable", away), Words: scrub(err)}
	}
	return fmt.Errorf("run a statement: %w", err)
}

// unread is the error of something about the database that could not be read: a fault where the database is away.
func unread(ctx context.Context, what string, err error) error {
	if broken(err) {
		return unavailable(ctx, err)
	}
	return fmt.Errorf("read %s: %w", what, err)
}

// unsettled is what is refused where the connection broke off under a write, which the database may have done nevertheless.
func unsettled(refused, err error) error {
	var connect *pgconn.ConnectError
	if !broken(err) || errors.As(err, &connect) || pgconn.SafeToRetry(err) {
		return refused
	}
	return unknown(err)
}

func unknown(err error) error {
	return &fault.Refusal{Fault: fault.New(fault.Unavailable, "write.unknown",
		"the connection to the database broke off, and whether this was "+
			"written is not known: read it again, or send writes with an Idempotency-Key, which can be repeated"), Words: scrub(err)}
}

// broken reports whether an error is of the connection to the database, not of what was asked of it.
func broken(err error) bool {
	var connect *pgconn.ConnectError
	var network net.Error
	return errors.As(err, &connect) || errors.As(err, &network) || pgconn.SafeToRetry(err) || errors.Is(err, io.EOF) ||
		errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, net.ErrClosed) || shutDown(err)
}

// shutDown reports whether the database ended the connection.
func shutDown(err error) bool {
	var p *pgconn.PgError
	return errors.As(err, &p) && (strings.HasPrefix(p.Code, "57P") || strings.HasPrefix(p.Code, "08"))
}
