// Package payload reads the bodies of writes: JSON in, for each field a value that PostgreSQL takes, or all mistakes at once,
// each with its field, what was expected and what was found.
package payload

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/jsontext"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/window"
)

// Row is what a write gives a row: its fields, in the resource's order, and for each its value as PostgreSQL reads it, nil for null.
type Row struct {
	Fields   []*model.Field
	Values   []*string
	Defaults []*model.Field // of a replacement: what goes to its default
	Nested   []*Nested      // what is to become of its relations
	Version  string         // that the row must have, as @etag gives it; "" any
}

// Body is the JSON object that a write sends, separated into its members. It may be read for several operations and scopes: no value
// of it is parsed or converted twice.
type Body struct {
	members []member
	room    [8]member // for as many as most bodies have
	quoted  bool      // large numbers are strings in it
	whole   bool      // it gives values with parts whole
	ignored []string  // what was passed over when it was last read
}

// Quoted is the body as one in which numbers of 64 bits and decimals are strings (JSON Format, 3.2).
func (b *Body) Quoted() *Body {
	b.quoted = true
	return b
}

// Whole is the body as one that gives values with parts whole: what it leaves out of them is null.
func (b *Body) Whole() *Body {
	b.whole = true
	return b
}

// Ignored are the fields that the body gives and that only the database fills: they are passed over (Protocol, 11.4.2, 11.4.3).
func (b *Body) Ignored() []string { return b.ignored }

// Parse splits a body into its members. The error is a fault with the line and column at which it stops being JSON.
func Parse(body []byte) (*Body, error) {
	b := &Body{}
	var err error
	b.members, err = object(body, b.room[:])
	return b, err
}

// Read reads the body of a create or an update of a resource, as the role may do it.
func (b *Body) Read(r *model.Resource, op window.Operation, scope *access.Scope) (*Row, error) {
	return b.read(form{resource: r, op: op, scope: scope})
}

// Replace reads the body of a replacement: what it leaves out, of all that the role may write, goes to its default.
func (b *Body) Replace(r *model.Resource, scope *access.Scope) (*Row, error) {
	return b.read(form{resource: r, op: window.Update, scope: scope, replace: true})
}

// CreateAt reads the body of a create whose key the path gives; of are the fields of the key.
func (b *Body) CreateAt(r *model.Resource, scope *access.Scope, of []*model.Field, key []string) (*Row, error) {
	return b.read(form{resource: r, op: window.Create, scope: scope, key: key, named: of})
}

// CreateUnder reads the body of a create at the end of a relation, whose row before it gives the fields.
func (b *Body) CreateUnder(r *model.Resource, scope *access.Scope, supplied []*model.Field) (*Row, error) {
	return b.read(form{resource: r, op: window.Create, scope: scope, supplied: supplied})
}

// form is how a row is read.
type form struct {
	resource *model.Resource
	op       window.Operation
	scope    *access.Scope
	replace  bool
	key      []string       // what the path gives of a create,
	named    []*model.Field // and the fields that it is of
	supplied []*model.Field // what the row around it gives, or a link does
	flat     bool           // relations are not written
	quoted   bool           // large numbers are strings
	whole    bool           // values with parts are given whole
}

func (b *Body) read(f form) (*Row, error) {
	var mistakes fault.List
	f.quoted, f.whole, b.ignored = b.quoted, b.whole, nil
	rd := &reader{form: f, decision: f.scope.For(f.op, f.resource), mistakes: &mistakes, ignored: &b.ignored}
	for _, field := range f.supplied {
		if !slices.ContainsFunc(b.members, func(m member) bool { return m.name == field.Name }) {
			rd.writes(field, field.Name)
		}
	}
	row := rd.row(b.members)
	if err := asFault(mistakes, f.scope); err != nil {
		return nil, err
	}
	if f.op == window.Update && !f.replace && len(row.Fields) == 0 && len(row.Nested) == 0 && b.ignored == nil {
		has := cmp.Or(strings.Join(rd.writable(), ", "), "none")
		return nil, fault.New(fault.Invalid, "body.empty", "the body names no field to change; of those of %s, your role may change: %s",
			f.resource.Name, has)
	}
	return row, nil
}

// maxDetails is how many mistakes of one body are reported.
const maxDetails = 100

// asFault is the fault of all mistakes. It is of the kind that has to be mended first: what can't be understood, then what the role may
// not, then values that are well formed and break a check.
func asFault(mistakes fault.List, scope *access.Scope) error {
	if len(mistakes) == 0 {
		return nil
	}
	denied := fault.Forbidden
	if scope.Anonymous { // another role might
		denied = fault.Unauthenticated
	}
	kind := fault.Unprocessable
	for _, m := range mistakes {
		switch {
		case strings.HasPrefix(m.Code, "access."):
			if kind == fault.Unprocessable {
				kind = denied
			}
		case m.Code != "value.check":
			kind = fault.Invalid
		}
	}
	message := fmt.Sprintf("the body has %d mistakes", len(mistakes))
	if len(mistakes) > maxDetails {
		message += fmt.Sprintf(", of which these are the first %d", maxDetails)
		mistakes = mistakes[:maxDetails]
	}
	return mistakes.Fault(kind, "body.invalid", message)
}

// cell is what is known of a field of the row while its members are read.
type cell struct {
	given bool    // it has a value, or one comes from elsewhere
	write bool    // it is one of the row's
	value *string // as PostgreSQL reads it, nil for null
}

// row reads the members of one object.
func (rd *reader) row(members []member) *Row {
	r, row := rd.resource, &Row{}
	rd.cells = slices.Grow(rd.cells[:0], len(r.Fields))[:len(r.Fields)]
	cells := rd.cells // by the field's index
	clear(cells)
	for i := range rd.key {
		cells[rd.named[i].Index] = cell{true, true, &rd.key[i]}
	}
	for _, f := range rd.supplied {
		cells[f.Index].given = true
	}
	for i := range members {
		m := &members[i]
		f := r.Field(m.name)
		if f != nil && (slices.Contains(rd.named, f) || f.InKey && rd.op == window.Update) {
			continue // the path names the row; sent back, its key is passed over (Protocol, 11.4.3)
		}
		if f == nil && rd.beside(row, cells, m) {
			continue
		}
		if f != nil {
			cells[f.Index].given = true
		}
		if f != nil && f.ReadOnly && rd.decision.Fields[f.Index] {
			*rd.ignored = append(*rd.ignored, rd.at+f.Name)
			continue
		}
		if rd.writes(f, m.name) {
			c := &cells[f.Index]
			c.value, c.write = rd.value(f, m)
		}
	}
	switch {
	case rd.op == window.Create:
		rd.missing(cells)
	case rd.replace:
		rd.defaults(row, cells)
	}
	most := len(members) + len(rd.key)
	row.Fields, row.Values = make([]*model.Field, 0, most), make([]*string, 0, most)
	for _, f := range r.Fields {
		if c := &cells[f.Index]; c.write {
			row.Fields, row.Values = append(row.Fields, f), append(row.Values, c.value)
		}
	}
	return row
}

// beside reads a member that is no field: a relation, or control information. It reports whether the member is one of these.
func (rd *reader) beside(row *Row, cells []cell, m *member) bool {
	name, control, annotated := strings.Cut(m.name, "@")
	rel := rd.resource.Relation(name)
	linked := annotated && isLinked(control)
	switch {
	case rel == nil && linked:
		rd.addError(m.name, "relation.unknown", "%s has no relation %q%s", rd.resource.Name, name,
			fault.Suggest(name, rd.resource.RelationNames()))
	case rel != nil && (!annotated || linked):
		if n := rd.nested(rel, control, m); n != nil {
			row.Nested = append(row.Nested, n)
			for _, f := range n.fields() {
				cells[f.Index].given = true
			}
		}
	case annotated: // what a client read and sends back
		if rd.at == "" && isEtag(m.name) {
			row.Version = rd.version(m)
		}
		rd.control(m.name, control)
		if name == "" && strings.TrimPrefix(control, "odata.") == "type" {
			rd.rowType(m)
		}
	default:
		return false
	}
	return true
}

// defaults are the fields that a replacement leaves out, of all that the role may write.
func (rd *reader) defaults(row *Row, cells []cell) {
	for _, f := range rd.resource.Fields {
		if cells[f.Index].given || f.InKey || !rd.decision.Takes(f) {
			continue
		}
		row.Defaults = append(row.Defaults, f)
		if f.Required {
			rd.addError(f.Name, "field.missing", "is required: %s; a replacement gives the whole row, PATCH changes what it names",
				withArticle(f.Type))
		}
	}
}

// controls are the standard's words for what a body says beside its fields (JSON Format, 4.6).
var controls = []string{"@context", "@metadataEtag", "@type", "@count", "@nextLink", "@delta", "@deltaLink", "@id", "@editLink",
	"@readLink", "@etag", "@navigationLink", "@associationLink",
	"@mediaEditLink", "@mediaReadLink", "@mediaEtag", "@mediaContentType", "@removed", "@collectionAnnotations", "@bind"}

// control refuses a misspelled one. Annotations, whose names have a dot, are passed over.
func (rd *reader) control(name, word string) {
	word = "@" + strings.TrimPrefix(word, "odata.")
	if !strings.Contains(word, ".") && !slices.Contains(controls, word) {
		rd.addError(name, "field.unknown", "there is no %s in the standard%s", word, fault.Suggest(word, controls))
	}
}

// rowType refuses a row that says it is of another type than the rows of the resource (JSON Format, 4.6.3).
func (rd *reader) rowType(m *member) {
	said, _ := jsontext.Unquote(m.value)
	want := rd.resource.Model.Namespace() + "." + rd.resource.RowType()
	if said[strings.LastIndexByte(said, '#')+1:] != want {
		rd.addError(m.name, "value.invalid", "rows of %s are of the type %q, this is %s; leave it out", rd.resource.Name, "#"+want, m.value)
	}
}

func isEtag(name string) bool { return name == "@etag" || name == "@odata.etag" }

// version reads the version that a row must have.
func (rd *reader) version(m *member) string {
	tag, ok := jsontext.Unquote(m.value)
	if !ok {
		rd.addError(m.name, "value.invalid", "the version of the row is expected, as it was read: a string")
	}
	return Version(tag)
}

// Version reads an entity tag of a row (RFC 9110, 8.8.3) as it is given here: the number of a transaction. Any other tag is "0", which no
// row has.
func Version(tag string) string {
	number, _, _ := strings.Cut(strings.Trim(strings.TrimPrefix(tag, "W/"), `"`), ".") // what representation it was is no matter
	if n, err := strconv.ParseUint(number, 10, 32); err != nil || strconv.FormatUint(n, 10) != number {
		return "0"
	}
	return number
}

// envelope splits a body that is no row into its members.
func envelope(body []byte, form string) ([]member, error) {
	members, err := object(body, nil)
	if f, ok := fault.From(err); ok {
		switch f.Code {
		case "body.missing":
			err = fault.New(fault.Invalid, f.Code, "the body is empty; send %s", form)
		case "body.type":
			err = fault.New(fault.Invalid, f.Code, "the body is no JSON object; send %s", form)
		}
	}
	return members, err
}

// member is one name of an object and its value, and what has been made of the value.
type member struct {
	name, value string     // the value is JSON
	whole       converted  // what has been made of the value
	parts       *converted // and of its parts, nil until they are asked for
	rows        []*bodyRow // that stand in it, nil until they are asked for
}

// converted is a value as a statement takes it: the text that PostgreSQL reads, or in a change of a value with parts those that are given.
type converted struct {
	done bool
	text string
	err  error // why the value is none of its field's type
}

// bodyRow is a row that is in a body.
type bodyRow struct {
	raw     string
	members []member
	err     error // why it has none
	quoted  bool  // large numbers are strings in it
}

// bodyRows splits values into their members.
func bodyRows(values []string) []*bodyRow {
	list, rows := make([]*bodyRow, len(values)), make([]bodyRow, len(values))
	most := 0 // most rows have as many members as the one before
	for i, raw := range values {
		o := &rows[i]
		if o.raw = raw; raw[0] == '{' {
			o.members, o.err = membersOf(raw, make([]member, 0, most))
			most = len(o.members)
		}
		list[i] = o
	}
	return list
}

// object splits the body into its members and refuses what is no single JSON object, with the line and column.
func object(body []byte, room []member) ([]member, error) {
	if len(bytes.TrimSpace(body)) == 0 {
		return nil, fault.New(fault.Invalid, "body.missing", "the body is empty; a JSON object with the row's fields is expected")
	}
	if !utf8.Valid(body) {
		return nil, fault.New(fault.Invalid, "body.syntax", "the body is not valid UTF-8")
	}
	if !json.Valid(body) {
		return nil, notJSON(body, json.Unmarshal(body, new(json.RawMessage)))
	}
	text := string(bytes.TrimSpace(body))
	if text[0] == '[' {
		return nil, fault.New(fault.Invalid, "body.type", "a JSON object with the row's fields is expected, this is an array; "+
			"many rows are written at once with PATCH of the collection: {\"value\":[…]}")
	}
	if text[0] != '{' {
		return nil, fault.New(fault.Invalid, "body.type", "a JSON object with the row's fields is expected, this is %s", kindOf(text))
	}
	return membersOf(text, room)
}

// membersOf splits an object that is known to be JSON. The members are put into the room as far as it goes.
func membersOf(body string, room []member) ([]member, error) {
	members := room[:0]
	for name, value := range jsontext.Members(body) {
		members = append(members, member{name: name, value: value})
	}
	if name, twice := repeated(members); twice {
		return nil, fault.New(fault.Invalid, "body.duplicate", "%q stands twice in the body", name).On(name)
	}
	return members, nil
}

// linearMax is up to how many members a look at each pair is faster than a map.
const linearMax = 16

func repeated(members []member) (string, bool) {
	if len(members) <= linearMax {
		for i, m := range members {
			for _, o := range members[:i] {
				if o.name == m.name {
					return m.name, true
				}
			}
		}
		return "", false
	}
	seen := make(map[string]bool, len(members))
	for _, m := range members {
		if seen[m.name] {
			return m.name, true
		}
		seen[m.name] = true
	}
	return "", false
}

// notJSON tells where the body stops being JSON, line and column counted from 1.
func notJSON(body []byte, err error) error {
	offset := len(body)
	var syntax *json.SyntaxError
	if errors.As(err, &syntax) {
		offset = min(max(int(syntax.Offset)-1, 0), len(body))
	}
	before := body[:offset]
	line := bytes.Count(before, []byte("\n")) + 1
	column := utf8.RuneCount(before[bytes.LastIndexByte(before, '\n')+1:]) + 1
	return fault.New(fault.Invalid, "body.syntax", "the body is not JSON: line %d, column %d: %s", line, column, err)
}

type reader struct {
	form
	decision *access.Decision
	at       string // where the row stands in the body, "" for the body itself
	depth    int
	mistakes *fault.List
	ignored  *[]string
	cells    []cell // of the row at hand
}

func (rd *reader) addError(f string, code, format string, args ...any) {
	rd.mistakes.Add(code, rd.at+f, 0, 0, rd.at+f+": "+format, args...)
}

// writable lists the fields that the caller may send.
func (rd *reader) writable() []string {
	var names []string
	for _, f := range rd.resource.Fields {
		if rd.decision.Fields[f.Index] && access.Possible(f, rd.op) {
			names = append(names, f.Name)
		}
	}
	return names
}

// suggest names what was perhaps meant: a field that the caller may send, or a relation.
func (rd *reader) suggest(name string) string {
	fields := rd.writable()
	if all := append(fields, rd.resource.RelationNames()...); !rd.flat && fault.Nearest(name, all) != "" {
		return fault.Suggest(name, all)
	}
	return fault.Suggest(name, fields)
}

// writes reports whether the caller may send the field of that name, nil where there is none; else a mistake was noted.
func (rd *reader) writes(f *model.Field, name string) bool {
	switch {
	case f == nil:
		rd.addError(name, "field.unknown", "%s has no such field%s", rd.resource.Name, rd.suggest(name))
	case f.ReadOnly:
		rd.addError(name, "field.readonly", "the database fills this field itself; leave it out")
	case rd.preset(f):
		rd.addError(name, "field.preset", "the service sets this field for your role; leave it out")
	case !rd.decision.Fields[f.Index]:
		rd.addError(name, "access.field", "your role may not %s this field; it may %s %s", rd.op, rd.op, strings.Join(rd.writable(), ", "))
	default:
		return true
	}
	return false
}

func (rd *reader) preset(f *model.Field) bool { return rd.decision.Presets(f) }

func (rd *reader) missing(cells []cell) {
	for _, f := range rd.resource.Fields {
		switch {
		case !f.Required || cells[f.Index].given || rd.preset(f):
		case !rd.decision.Fields[f.Index]:
			rd.addError(f.Name, "access.field", "is required, and your role may not create this field; it may create %s",
				strings.Join(rd.writable(), ", "))
		default:
			rd.addError(f.Name, "field.missing", "is required: %s", withArticle(f.Type))
		}
	}
}

// value is the value of a member as PostgreSQL reads it, nil for null. An ok of false says that a mistake was noted.
func (rd *reader) value(f *model.Field, m *member) (value *string, ok bool) {
	if m.value == "null" && (f.Type.Kind != model.JSON || f.Nullable) {
		if !f.Nullable {
			rd.addError(f.Name, "field.null", "can't be null: %s is expected", withArticle(f.Type))
		}
		return nil, f.Nullable
	}
	c := rd.converted(f, m)
	if c.err != nil {
		rd.addError(f.Name, "value.invalid", "%s", c.err)
		return nil, false
	}
	for i := range f.Checks {
		if check := &f.Checks[i]; !check.Holds(c.text) {
			rd.addError(f.Name, "value.check", "%s is expected, this is %s", check, m.value)
			return nil, false
		}
	}
	return &c.text, true
}

// converted makes of the value of a member what a statement takes: of values with parts, such as composite ones, a change takes the parts
// that are named (Protocol, 11.4.9.3).
func (rd *reader) converted(f *model.Field, m *member) *converted {
	inParts := rd.op == window.Update && f.Type.Parts() != nil
	c := &m.whole
	if inParts {
		if m.parts == nil {
			m.parts = &converted{}
		}
		c = m.parts
	}
	if c.done {
		return c
	}
	t := f.Type
	if rd.quoted {
		t = t.InStrings()
	}
	if c.done = true; inParts {
		c.text, c.err = partsText(m.value, t, rd.replace || rd.whole)
	} else {
		c.text, c.err = convert(m.value, t)
	}
	return c
}
