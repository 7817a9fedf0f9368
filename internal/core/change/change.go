// Package change turns what a write asks for into steps that can be run one after the other. In go the path, the rows of the body and
// what the caller may do; out comes a Change: typed steps whose values are literals or references to what an earlier step returns.
//
// All rows that a body holds under one relation share their steps, so the number of steps grows with the relations that it names and
// never with its rows. Compiling is pure: nothing is asked of the database, and what depends on its rows is a condition of a step.
package change

import (
	"encoding/json"
	"fmt"
	"strings"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/syntax"
)

// Change is what one write does: its steps, in the order in which they run.
type Change struct {
	Steps   []*Step
	Root    int                 // the ID of the row that the answer shows; -1: there is none
	Written []syntax.ExpandNode // the relations that the body writes, as far as the caller may read them
	Delta   bool                // it is made of the rows of a delta
	rows    int
}

// Operation is what a step does with its rows.
type Operation uint8

// The operations.
const (
	Find    Operation = iota // looks rows up that must be there, or may
	Delete                   // deletes rows by their keys
	Release                  // takes out of a relation the rows that a set of the body leaves out
	Update                   // changes rows by their keys
	Insert                   // adds rows
	Link                     // adds and removes the rows of a junction
)

func (o Operation) String() string {
	return [...]string{"find", "delete", "release", "update", "insert", "link"}[o]
}

// Step is one operation on rows of one resource, which takes one statement however many rows there are.
type Step struct {
	Op       Operation
	Resource *model.Resource
	Relation *model.Relation // of Release and Link; of Delete and Update, the one that rows must be tied by
	Rows     []*Row
	Returned []*model.Field // that later steps refer to
	Refused  error          // of Release: why the rows that are left out can't be released
}

// Row is one row of a step.
type Row struct {
	ID       int            // the same for alternatives of which one comes about: a row that is found, changed or added
	At       string         // its place in the body, "" for the body itself
	Path     []Hop          // of Find: how it is reached
	Key      []Value        // of Update and Delete; of Link, the row at the near end; of Release, a row that stays
	Far      []Value        // of Link: the row at the far end
	Act      Act            // of Link
	Fields   []*model.Field // that it is given, in the order of the resource
	Values   []Value
	Defaults []*model.Field // that go to their defaults
	Versions []string       // one of which the row must have; nil: any
	LinkedTo []Value        // what the columns of the relation must hold, so that the row is tied to another one
	Optional bool           // it may be missing: another row with the ID takes its place
	Else     bool           // it comes about only where nothing with its ID has before
	Refused  error          // told where the row is found, or of an Else, where it would come about
	Musts    []Must
}

// Act is what a row of Link does.
type Act string

// The acts: the two rows are tied, or untied; the near row keeps no tie that the step does not name.
const (
	Add    Act = "tie"
	Remove Act = "untie"
	Keep   Act = "only"
)

// Hop is one resource on the way to a row.
type Hop struct {
	Resource *model.Resource
	Via      *model.Relation // from the hop before; nil for the first
	Key      []Value         // nil where the relation leads to one row
	KeyOf    []*model.Field
}

// Value is a literal, or a field of a row that an earlier step has found or written.
type Value struct {
	Text  *string      // as PostgreSQL reads it; nil: null, or a reference
	Field *model.Field // of a reference
	Of    int          // the ID of the row that it refers to
}

// Literal is the value of a text; nil is null.
func Literal(text *string) Value { return Value{Text: text, Of: -1} }

// Literals are the values of texts.
func Literals(texts []string) []Value {
	values := make([]Value, len(texts))
	for i := range texts {
		values[i] = Literal(&texts[i])
	}
	return values
}

// IsReference reports whether the value is known only once an earlier step has run.
func (v Value) IsReference() bool { return v.Field != nil }

// Must is a condition that can be checked only once the values are known.
type Must struct {
	Reason Reason
	Field  *model.Field
	Value  Value // what the row around settles
	Is     Value // what it must equal
	At     string
}

// Reason is why a condition must hold.
type Reason uint8

// The reasons.
const (
	SameAsAround Reason = iota // the body and the row around it give the field different values
	SameKey                    // a row would get another key
	NotNull                    // a field that must have a value would have none
)

// Single reports whether the change is one step with one row, which needs no transaction of its own.
func (c *Change) Single() bool {
	return len(c.Steps) == 1 && len(c.Steps[0].Rows) == 1 && c.Steps[0].Op != Release
}

// String prints the change for people and for tests, a line for each row.
func (c *Change) String() string {
	var b strings.Builder
	for i, s := range c.Steps {
		fmt.Fprintf(&b, "%d %s %s", i+1, s.Op, s.Resource.Name)
		if s.Relation != nil {
			fmt.Fprintf(&b, " along %s of %s", s.Relation.Name, s.Relation.From.Name)
		}
		if len(s.Returned) > 0 {
			fmt.Fprintf(&b, " returning %s", names(s.Returned))
		}
		if s.Refused != nil {
			fmt.Fprintf(&b, " refused: %v", s.Refused)
		}
		b.WriteByte('\n')
		for _, r := range s.Rows {
			b.WriteString("  " + r.String() + "\n")
		}
	}
	if len(c.Written) > 0 {
		b.WriteString("shows " + request.ExpandText(c.Written) + "\n")
	}
	return b.String()
}

// String prints the row: #2 tugs/0 [3] name='Otter'.
func (r *Row) String() string {
	parts := []string{fmt.Sprintf("#%d", r.ID)}
	add := func(condition bool, format string, args ...any) {
		if condition {
			parts = append(parts, fmt.Sprintf(format, args...))
		}
	}
	add(r.At != "", "%s", r.At)
	for _, h := range r.Path {
		name := h.Resource.Name
		if h.Via != nil {
			name = h.Via.Name
		}
		add(true, "/%s", name)
		add(h.Key != nil, "%s", values(h.Key))
	}
	add(r.Act != "", "%s", r.Act)
	add(r.Key != nil, "%s", values(r.Key))
	add(r.Far != nil, "to %s", values(r.Far))
	for i, f := range r.Fields {
		add(true, "%s=%s", f.Name, r.Values[i])
	}
	add(r.Defaults != nil, "default %s", names(r.Defaults))
	add(r.Versions != nil, "version %s", strings.Join(r.Versions, " or "))
	add(r.LinkedTo != nil, "tied by %s", values(r.LinkedTo))
	add(r.Optional, "optional")
	add(r.Else, "else")
	add(r.Refused != nil, "refused: %v", r.Refused)
	for _, m := range r.Musts {
		add(m.Reason == NotNull, "must have %s", m.Field.Name)
		add(m.Reason != NotNull, "must: %s %s = %s", m.Field.Name, m.Value, m.Is)
	}
	return strings.Join(parts, " ")
}

// String prints the value: 'text', null, or #1.id of a reference.
func (v Value) String() string {
	switch {
	case v.IsReference():
		return fmt.Sprintf("#%d.%s", v.Of, v.Field.Name)
	case v.Text == nil:
		return "null"
	}
	return "'" + *v.Text + "'"
}

func values(list []Value) string {
	parts := make([]string, len(list))
	for i, v := range list {
		parts[i] = v.String()
	}
	return "[" + strings.Join(parts, " ") + "]"
}

func names(fields []*model.Field) string {
	parts := make([]string, len(fields))
	for i, f := range fields {
		parts[i] = f.Name
	}
	return strings.Join(parts, ",")
}

// Check is the fault of a condition that does not hold between the values as they have turned out; nil where it does.
func (m Must) Check(value, is *string, row func() string) error {
	same := (value == nil) == (is == nil) && (value == nil || *value == *is)
	switch {
	case m.Reason == NotNull && value == nil:
		return notNull(m.Field, m.At)
	case m.Reason == NotNull || same:
		return nil
	case m.Reason == SameKey:
		return fault.New(fault.Conflict, "link.key",
			"%s is part of the key of %s, so the row can't be taken from another one; nothing was changed", m.Field.Name, row())
	}
	said := m.said(value)
	if m.At == "" {
		return fault.New(fault.Invalid, "value.path", "%s: the path says %s, the body %s; leave it out", m.Field.Name, said,
			m.said(is)).On(m.Field.Name)
	}
	at := m.At + "/" + m.Field.Name
	return fault.New(fault.Invalid, "value.path", "%s: the row around it says %s; leave it out", at, said).On(at)
}

// said is a value as a body says it.
func (m Must) said(value *string) string {
	if value == nil {
		return "null"
	}
	if k := m.Field.Type.Kind; k.Numeric() || k == model.Boolean {
		return *value
	}
	quoted, _ := json.Marshal(*value) // a string always can be
	return string(quoted)
}
