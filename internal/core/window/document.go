// Package window reads the window document: the YAML (or JSON) file that defines one API over one database.
//
// Text goes in, a Document with a position at every part comes out, or all mistakes at once, each with line, column, what is
// wrong and what would be right. What the document means for a database is the job of package model.
package window

import (
	"fmt"
	"strings"
	"time"
	"unicode/utf8"
)

// Pos is a place in the document, both counted from 1.
type Pos struct{ Line, Column int }

// Text is a scalar of the document and where it stands.
type Text struct {
	Pos
	Value string
}

// Document is a parsed window document. Lists keep the order of the file.
type Document struct {
	Window      Text
	Title       string
	About       string
	Version     string
	Source      Text
	Resources   []*Resource
	Views       []*SavedView
	Queries     []*NamedQuery
	Roles       []*Role
	SignIn      SignIn
	Description Description
	Require     []Text   // publish.require: suites of checks that must hold before a release
	Overlay     *Overlay // what is patched into the description; nil: nothing
	Follow      bool     // in development: tables that the document does not name are resources too
	Origins     []Text   // browsers.origins: whose pages may call the API (CORS); "*" those of all
}

// Resource is one entry under resources.
type Resource struct {
	Name       Text
	From       Text // schema.table; "" means a table of the resource's name
	Item       Text // what one of its rows is called; "" the singular of the name
	About      string
	Key        []Text
	Operations []Operation // nil: all that the table can do
	Page       Page
	IfMatch    bool // a change must say which version it changes
	Order      []Text
	Fields     []*Field
	Relations  []*Relation
	Deprecated *Deprecated // nil: it is here to stay
}

// Page gives the rows of a page: Default where the caller names none, Max at most. Max 0 means no maximum.
type Page struct {
	Default int
	Max     int
}

// DefaultPage is the page of a resource that says nothing.
var DefaultPage = Page{Default: 50, Max: 1000}

// Field is one entry under a resource's fields. The name is the column's.
type Field struct {
	Column Text
	Name   Text // as callers see it, "" the column's name
	About  string
	Hidden bool

	Deprecated bool
}

// Relation is one entry under a resource's relations: an inferred one that is described or hidden, or a new one.
type Relation struct {
	Name    Text
	About   string
	Hidden  bool
	To      Text   // a resource
	Through Text   // schema.table of a junction
	On      []Pair // own column, column there
}

// Pair is one entry of a relation's on.
type Pair struct{ Own, There Text }

// SavedView is one entry under saved_views: a resource with fixed options. The options are in the query language.
type SavedView struct {
	Name    Text
	About   string
	Of      Text // a resource
	Select  Text
	Compute Text
	Filter  Text
	OrderBy Text
	Expand  Text
	Page    Page
}

// NamedQuery is one entry under queries: an SQL statement with parameters, which callers see as a resource that is only read.
type NamedQuery struct {
	Name       Text
	About      string
	Parameters []Parameter
	SQL        Text
	Pieces     []Piece
	Page       Page
	lines      []Pos // where each line of SQL begins in the document
}

// Parameter is one parameter of a query.
type Parameter struct {
	Name     Text
	Type     Text
	Optional bool // it may be left out, and is null then
}

// Piece is a part of a query's SQL: text, or the place of a parameter.
type Piece struct {
	Text      string
	Parameter int // in Query.Parameters, -1 where it is text
	Offset    int // of its first byte in the SQL
}

// At is the place in the document of a byte of the query's SQL.
func (q *NamedQuery) At(offset int) Pos {
	offset = min(max(offset, 0), len(q.SQL.Value))
	line := strings.Count(q.SQL.Value[:offset], "\n")
	if line >= len(q.lines) {
		return q.SQL.Pos
	}
	start := strings.LastIndexByte(q.SQL.Value[:offset], '\n') + 1
	return Pos{q.lines[line].Line, q.lines[line].Column + utf8.RuneCountInString(q.SQL.Value[start:offset])}
}

// Operation is what a role may do with a resource.
type Operation string

// The operations.
const (
	Read   Operation = "read"
	Create Operation = "create"
	Update Operation = "update"
	Delete Operation = "delete"
)

// Operations are all of them, in the order in which they are reported.
var Operations = []Operation{Read, Create, Update, Delete}

// Role is one entry under roles.
type Role struct {
	Name      Text
	About     string
	Anonymous bool
	Claims    []Claim
	Limits    Limits
	May       []*Grant
	Expect    []Text // sentences that must hold of what the role may
}

// Limits bound what one request of a role may ask for; 0 is no limit but the service's own.
type Limits struct {
	Rows  int           // on a page
	Depth int           // of expands and paths
	Cost  float64       // as the database's planner reckons
	Time  time.Duration // of a statement

	Requests   Rate // of one caller
	Concurrent int  // requests of one caller that run at once
}

// Rate is how many requests there may be over a time; 0 is no limit.
type Rate struct {
	Count int
	Per   time.Duration
}

// String is the rate as people say it.
func (r Rate) String() string {
	return fmt.Sprintf("%d requests per %s", r.Count, rateNames[r.Per])
}

// Text is the rate as documents have it.
func (r Rate) Text() string { return fmt.Sprintf("%d/%s", r.Count, rateNames[r.Per]) }

var rateNames = map[time.Duration]string{time.Second: "second", time.Minute: "minute", time.Hour: "hour", 24 * time.Hour: "day"}

// Claim is what a token of a role must carry.
type Claim struct {
	Name Text
	Type Text
}

// Grant is what a role may do with one resource, operation by operation. Resource "*" means each that has no entry of its own.
type Grant struct {
	Resource Text
	Allow    []*Allowance
}

// Allowance is one operation of a grant and what limits it.
type Allowance struct {
	Pos
	Operation Operation
	Rows      Text   // a filter expression
	Fields    []Text // only these
	Except    []Text // all but these
	Set       []Preset
}

// Preset is a field that the service fills itself: a literal, or an expression over @caller.
type Preset struct {
	Field Text
	Value Text
}
