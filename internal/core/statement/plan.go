// Package statement turns a resolved request and the decisions of access into one SQL statement. The Plan that comes out
// holds the SQL, a slot for each argument, and the shape of the rows; it serves every request of the same shape and role.
package statement

import (
	"fmt"

	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/syntax"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/model"
)

// Plan is a statement that can be run again and again with other arguments.
type Plan struct {
	SQL     string
	Slots   []Slot
	Columns []Column // of a row of the answer; they come first in the SQL row unless At says otherwise
	Total   int      // place of the total in the SQL row, -1: not asked for
	Missing int      // of a write of many, place of the numbers of the rows of the input that there were none for, as text; -1: none
	Absent  int      // of ties, place of the numbers of those that lack the far end; -1: none
	Present int      // place of the column that is null where there is a total but no row, -1: none
	Version int      // place of the row's version (xmin), -1: none
	Order   []int    // places of the order's values, for the next link
	Guards  Guards

	Expected      int             // of a release, place of the number of rows that it is about; -1: none
	InputOrdinal  int             // of a write of many whose rows come back, place of the row's number in the input, from 1; -1: none
	Returned      []*model.Field  // of such a write: fields that later steps refer to,
	Values        []int           // and the places of their values
	Body          []*model.Field  // of a write: what its Body slots stand for
	SingleKeyRead bool            // of a read: one row by its key, from one table and no other
	Isolated      bool            // of a read: SQL of the document is in it, so it runs in a transaction that can't write and is rolled back
	ReturnsRows   bool            // of a write: every row that was written comes back
	Affected      bool            // of a write of many: no row comes back; how many were written is what the database says of the statement
	Rules         []string        // of a read: the parts of the SQL that row rules add
	Uses          map[string]*Use // by the alias of each table: what an index could serve
}

// Use is how a statement uses the columns of a table.
type Use struct {
	Table  *catalog.Table
	Equal  []string // columns that are compared with a value for equality, or with a list
	Ranges []string // by less or greater
	Order  []string // the order of the rows, as far as it is of this table's columns: "eta desc"
}

// Bounds say how a page is limited. A number of rows that many requests ask for is in the statement itself, as PostgreSQL
// plans anew each time for a limit that it does not know; any other is an argument.
type Bounds struct {
	Rows   int64 // 0: an argument
	Offset bool  // rows are passed over: how many is an argument
}

func newPlan() *Plan {
	return &Plan{Total: -1, Missing: -1, Absent: -1, Present: -1, Version: -1, Expected: -1, InputOrdinal: -1, Guards: Guards{-1, -1}}
}

// Guards are places of boolean columns in the row of a write, -1 where there is none: whether the row as written meets the
// rule of the write, and whether the role may read it.
type Guards struct{ RuleHolds, Readable int }

// ColumnKind says how a column of the SQL row becomes a part of the answer.
type ColumnKind uint8

// The kinds of column.
const (
	Plain   ColumnKind = iota // a value of Type
	One                       // a record, or null
	Many                      // an array of records
	Total                     // a count
	Fixed                     // Text, whatever the row
	Object                    // an object of Columns, whose values stand in the same row
	Link                      // the path of a row: Resource and the key in Columns
	Version                   // the version of a row: xmin
	Masked                    // the one of Columns, where At is true; else it is not the caller's to read
)

// Column is a member of the answer's objects and where its value stands: in the SQL row, or in the record of a relation.
type Column struct {
	Name     string
	Kind     ColumnKind
	At       int
	Type     *model.Type     // of a plain one
	Columns  []Column        // of a relation or an object, or the key of a link
	Resource *model.Resource // of a link
	Page     int64           // of many: how many rows are shown; if there is one more, Next begins the path to the rest. 0: all
	Next     *Column         // the path of the row that they belong to
	It       *Column         // the path of the row of the request, where the rest speaks of it and it is another one; else nil
	Way      string          // and the relations that lead to them from the rows of the request
	Text     string          // of a fixed value; of a link, what follows the key
	BuiltIn  bool            // of a fixed value: it names a type of the standard
}

// Slot says where an argument comes from. One of the members is set.
type Slot struct {
	Value *query.Value // a literal of the request or of the document
	Claim *query.Claim
	Role  SlotRole
	Index int // of After, Body and Listed
}

// SlotRole is what a slot stands for that is neither a literal nor a claim.
type SlotRole uint8

// The roles of slots.
const (
	None     SlotRole = iota
	Limit             // how many rows are fetched
	Offset            // how many are passed over
	After             // a value of the row after which the page begins, as text
	Body              // a value of the body, as text
	Listed            // a list of a bulk write: of texts, or of booleans
	Versions          // the versions that a row may have, as a list of texts
)

// Input is what one request gives to a plan.
type Input struct {
	Literals []syntax.Literal
	Claims   map[string]any
	Limit    int64
	Offset   int64
	After    []*string
	Body     []*string
	Versions []string
	Lists    []any
}

// Args are the arguments of the statement for one request. The error is a fault: a value that is none of its type.
func (p *Plan) Args(in Input) ([]any, error) {
	args := make([]any, len(p.Slots))
	for i, s := range p.Slots {
		var err error
		switch {
		case s.Value != nil:
			args[i], err = s.Value.Arg(in.Literals)
		case s.Claim != nil:
			args[i], err = access.ClaimValue(in.Claims, s.Claim.Name, s.Claim.T)
		case s.Role == Limit:
			args[i] = in.Limit
		case s.Role == Offset:
			args[i] = in.Offset
		case s.Role == After:
			args[i] = in.After[s.Index]
		case s.Role == Listed:
			args[i] = in.Lists[s.Index]
		case s.Role == Versions:
			args[i] = in.Versions
		case s.Role == Body:
			args[i] = in.Body[s.Index]
		default:
			err = fmt.Errorf("argument %d of the plan stands for nothing", i+1)
		}
		if err != nil {
			return nil, err
		}
	}
	return args, nil
}
