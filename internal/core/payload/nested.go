package payload

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/jsontext"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/window"
)

// Nested is what a body says of a relation of its row (Protocol, 11.4.2.2 and 11.4.3.1; JSON Format, 8.5).
type Nested struct {
	Relation *model.Relation
	Delta    bool    // of a relation to many: these are changes; else the row is related to these alone
	Items    []*Item // of a relation to one, one or none: null
}

// Item is one row that a nested member, or a delta of a collection, speaks of.
type Item struct {
	At      string            // where it stands in the body, as in tugs/0
	Ref     string            // the path that @id gives, "" for none
	Key     []json.RawMessage // its key, nil where the body doesn't give it whole; null where the row around it does
	Row     *Row              // what it is given; nil: nothing
	Removed Removal
	Version string // that the row must have, as @etag gives it; "" any
	Current bool   // the row that a relation to one leads to now; where there is none, a new one
	of      *bodyRow
}

// Removal is what @removed says of an item.
type Removal string

// The removals: not at all, from the relation, from the database.
const (
	NotRemoved Removal = ""
	Unlinked   Removal = "changed"
	Deleted    Removal = "deleted"
)

// maxNesting is how deep rows may stand in rows.
const maxNesting = 5

// isLinked reports whether a control word after a relation's name is one that writes it.
func isLinked(control string) bool {
	switch strings.TrimPrefix(control, "odata.") {
	case "delta", "bind":
		return true
	}
	return false
}

// fields are the fields of the row itself that the relation gives.
func (n *Nested) fields() []*model.Field {
	if !n.Relation.Holds() {
		return nil
	}
	var list []*model.Field
	for _, p := range n.Relation.Pairs {
		list = append(list, n.Relation.From.FieldOf(p.Own))
	}
	return list
}

// nested reads a member that is named after a relation; nil says that a mistake was noted.
func (rd *reader) nested(rel *model.Relation, control string, m *member) *Nested {
	n := &Nested{Relation: rel, Delta: strings.HasSuffix(control, "delta")}
	if !rd.mayNest(n, m) || !rd.suppliedBy(rel) {
		return nil
	}
	if !rel.Many && m.value == "null" {
		return n
	}
	if m.rows == nil && !rd.parseRows(rel, control, m) {
		return nil
	}
	inner := &reader{form: form{scope: rd.scope, quoted: rd.quoted}, depth: rd.depth + 1, mistakes: rd.mistakes, ignored: rd.ignored}
	if rel.Through == nil && !rel.Holds() {
		inner.supplied = rel.ThereFields()
	}
	for i, o := range m.rows {
		inner.at = rd.at + m.name
		if rel.Many {
			inner.at += "/" + strconv.Itoa(i)
		}
		if item := inner.item(rel.To, o, rd.op == window.Create, !rel.Many); item != nil {
			n.Items = append(n.Items, item)
		}
	}
	return n
}

// mayNest reports whether rows may be written here as rows in a row; else a mistake is noted.
func (rd *reader) mayNest(n *Nested, m *member) bool {
	rel := n.Relation
	switch {
	case rel.To.View != nil || rel.From.View != nil || rd.replace:
		rd.addError(m.name, "field.unknown", "a relation is not written with a replacement; send it with PATCH")
	case rd.flat:
		rd.addError(m.name, "field.unknown", "in a change of many rows, relations are written by their fields: %s",
			strings.Join(rd.writable(), ", "))
	case rd.depth+1 > maxNesting:
		rd.addError(m.name, "limit.depth", "rows stand at most %d deep in rows", maxNesting)
	case n.Delta && !rel.Many:
		rd.addError(m.name, "value.invalid", "%s leads to one row: there is nothing to be added or removed; write %q", rel.Name, rel.Name)
	case n.Delta && rd.op == window.Create:
		rd.addError(m.name, "value.invalid", "a new row has none yet; write %q", rel.Name)
	default:
		return true
	}
	return false
}

// parseRows splits the value of a relation into its rows; a false result says that a mistake was noted. With @bind of 4.0 a text stands
// for a row that is only named.
func (rd *reader) parseRows(rel *model.Relation, control string, m *member) bool {
	values := []string{m.value}
	if rel.Many {
		var ok bool
		if values, ok = jsontext.Elements(m.value); !ok {
			rd.addError(m.name, "value.invalid", "%s leads to many rows: an array is expected, this is %s", rel.Name, kindOf(m.value))
			return false
		}
	}
	if strings.HasSuffix(control, "bind") {
		for i, v := range values {
			if v[0] == '"' {
				values[i] = `{"@id":` + v + `}`
			}
		}
	}
	m.rows = bodyRows(values)
	return true
}

// suppliedBy reports whether the fields behind a relation can be written here; else a mistake is noted.
func (rd *reader) suppliedBy(rel *model.Relation) bool {
	if rel.Through != nil {
		return true
	}
	for _, p := range rel.Pairs {
		own, there := rel.From.FieldOf(p.Own), rel.To.FieldOf(p.There)
		switch {
		case own == nil || there == nil:
			rd.addError(rel.Name, "link.hidden", "the fields behind this relation are not shown here, so it can't be written")
		case rel.Holds() && rd.preset(own):
			rd.addError(rel.Name, "field.preset", "the service sets %s for your role; leave the relation out", own.Name)
		case rel.Holds() && (!rd.decision.Takes(own)):
			rd.addError(rel.Name, "access.field", "your role may not %s %s, which holds this relation; it may %s %s", rd.op, own.Name, rd.op,
				strings.Join(rd.writable(), ", "))
		default:
			continue
		}
		return false
	}
	return true
}

// item reads one row that stands in another one, or in a delta. In a fresh row, all that are not links are new.
func (rd *reader) item(r *model.Resource, o *bodyRow, fresh, one bool) *Item {
	item := &Item{At: rd.at, of: o}
	o.quoted = rd.quoted
	at := rd.at
	rd.at = at + "/"
	defer func() { rd.at = at }()
	if o.raw[0] != '{' {
		rd.mistakes.Add("value.invalid", at, 0, 0, "%s: an object with the row's fields is expected, this is %s", at, kindOf(o.raw))
		return nil
	}
	if f, ok := fault.From(o.err); ok {
		rd.mistakes.Add(f.Code, at, 0, 0, "%s: %s", at, f.Message)
		return nil
	}
	rd.resource = r
	content, ok := rd.controls(item, o.members)
	if !ok {
		return nil
	}
	if item.Ref == "" && !fresh || item.Removed != NotRemoved {
		item.Key = rd.keyOf(r, o.members)
	}
	switch {
	case item.Removed != NotRemoved:
		if item.Ref == "" && item.Key == nil {
			rd.mistakes.Add("key.missing", at, 0, 0, "%s: say which row of %s: \"@id\", or all of its key", at, r.Name)
		}
		return item
	case item.Ref != "" && !content:
		return item
	case item.Ref != "" || item.Key != nil || one && !fresh:
		rd.op = window.Update
		item.Current = item.Ref == "" && item.Key == nil
	default:
		rd.op = window.Create
	}
	if !rd.decide(item) {
		return nil
	}
	item.Row = rd.row(o.members)
	return item
}

// controls reads what an item says of its row beside the fields: which one it is, that it is to go, its version. content reports whether
// there are fields, too; ok is false where a mistake was noted that leaves nothing to read.
func (rd *reader) controls(item *Item, members []member) (content, ok bool) {
	for i := range members {
		m := &members[i]
		switch strings.Replace(m.name, "@odata.", "@", 1) {
		case "@id":
			if item.Ref != "" {
				rd.addError(m.name, "body.duplicate", "the row is named already")
			}
			if item.Ref, _ = jsontext.Unquote(m.value); item.Ref == "" {
				rd.addError(m.name, "value.invalid", "the path of a row is expected, as in \"%s/…\"", rd.resource.Name)
				return false, false
			}
		case "@removed":
			item.Removed = rd.removal(m)
		case "@etag":
			item.Version = rd.version(m)
		default:
			content = content || !strings.HasPrefix(m.name, "@")
		}
	}
	return content, true
}

// decide finds what the role may do with the row of an item; a false result says that a mistake was noted. A row that is named by its key
// may be a new one.
func (rd *reader) decide(item *Item) bool {
	rd.decision = rd.scope.For(rd.op, rd.resource)
	create := rd.scope.For(window.Create, rd.resource)
	if rd.decision == nil && create != nil && rd.op == window.Update && item.Ref == "" {
		rd.op, rd.decision = window.Create, create
	}
	if rd.decision == nil {
		if f, ok := fault.From(rd.scope.Refuse(rd.op, rd.resource)); ok {
			rd.mistakes.Add(f.Code, item.At, 0, 0, "%s: %s", item.At, f.Message)
		}
		return false
	}
	for _, f := range rd.supplied {
		if rd.op == window.Create && !rd.supplies(f) {
			return false
		}
	}
	return true
}

func (rd *reader) removal(m *member) Removal {
	var said struct{ Reason Removal }
	if json.Unmarshal([]byte(m.value), &said) != nil || said.Reason != Unlinked && said.Reason != Deleted {
		rd.addError(m.name, "value.invalid", "{\"reason\":\"changed\"} takes the row out of the relation, {\"reason\":\"deleted\"} deletes it")
		return Deleted
	}
	return said.Reason
}

// keyOf finds the whole key of a row among the members; what the row around it gives stands as null.
func (rd *reader) keyOf(r *model.Resource, members []member) []json.RawMessage {
	var key []json.RawMessage
	for _, k := range r.Key {
		i := slices.IndexFunc(members, func(m member) bool { return m.name == k.Name })
		switch {
		case i >= 0:
			rd.value(k, &members[i]) // a mistake in it is noted
			key = append(key, json.RawMessage(members[i].value))
		case slices.Contains(rd.supplied, k):
			key = append(key, json.RawMessage("null"))
		default:
			return nil
		}
	}
	return key
}

// Under reads the body as that of the row that a relation to one leads to, in a change of the row before it.
func (b *Body) Under(rel *model.Relation, scope *access.Scope) (*Row, error) {
	within := Body{quoted: b.quoted, members: []member{{name: rel.Name, value: "{}", rows: []*bodyRow{{raw: "{}", members: b.members}}}}}
	return within.Read(rel.From, window.Update, scope)
}

// New is what the item gives where its row is not there yet. key is its key where the body does not give it as fields.
func (item *Item) New(r *model.Resource, scope *access.Scope, key []string, supplied []*model.Field) (*Row, error) {
	var mistakes fault.List
	rd := &reader{form: form{resource: r, op: window.Create, scope: scope, key: key, named: r.Key[:len(key)], supplied: supplied,
		quoted: item.of.quoted},
		decision: scope.For(window.Create, r), at: item.At + "/", mistakes: &mistakes, ignored: new([]string)}
	for _, f := range supplied {
		rd.supplies(f)
	}
	row := rd.row(item.of.members)
	return row, asFault(mistakes, scope)
}

// supplies reports whether the role may give a new row a field that ties it to the row around it; else a mistake is noted.
func (rd *reader) supplies(f *model.Field) bool {
	if rd.decision.Fields[f.Index] || rd.preset(f) {
		return true
	}
	rd.addError(f.Name, "access.field", "your role may not create this field, which ties the row to the one around it")
	return false
}

// Delta reads the body of a change of a whole collection: rows by key or @id, new ones, and those that are to go (Protocol,
// 11.4.13; JSON Format, 15).
func (b *Body) Delta(r *model.Resource, scope *access.Scope) ([]*Item, error) {
	shape := fault.New(fault.Invalid, "body.type",
		"a change of one row goes to its own path, as in /%s/…; a change of many rows is {\"@context\":\"#$delta\",\"value\":[…]}",
		r.Name).On("value")
	var rows []*bodyRow
	for i := range b.members {
		switch m := &b.members[i]; {
		case m.name == "value" && m.value[0] == '[':
			if m.rows == nil {
				values, _ := jsontext.Elements(m.value)
				m.rows = bodyRows(values)
			}
			rows = m.rows
		case !strings.HasPrefix(m.name, "@"):
			return nil, shape
		}
	}
	if rows == nil {
		return nil, shape
	}
	var mistakes fault.List
	items := make([]*Item, 0, len(rows))
	b.ignored = nil
	rd := &reader{form: form{scope: scope, flat: true, quoted: b.quoted}, mistakes: &mistakes, ignored: &b.ignored}
	for i, o := range rows {
		rd.at = fmt.Sprintf("value/%d", i)
		item := rd.item(r, o, false, false)
		if item == nil {
			continue
		}
		if item.Row == nil && item.Removed == NotRemoved { // its path, and nothing else
			item.Row = &Row{}
		}
		if item.Removed == Unlinked {
			rd.mistakes.Add("value.invalid", item.At, 0, 0, "%s: the rows of a collection are deleted, not unlinked: {\"reason\":\"deleted\"}",
				item.At)
		}
		items = append(items, item)
	}
	return items, asFault(mistakes, scope)
}

// Links reads the body of a set of links, {"value":[{"@id":"tugs/3"}]}, as that of a change of the row that they start from.
func Links(body []byte, rel *model.Relation) (*Body, error) {
	form := fmt.Sprintf(`{"value":[{"@id":"%s/…"}]}`, rel.To.Name)
	members, err := envelope(body, form)
	if err != nil {
		return nil, err
	}
	for _, m := range members {
		if m.name != "value" {
			continue
		}
		list, ok := jsontext.Elements(m.value)
		for _, item := range list {
			inner, err := membersOf(item, nil)
			if ok = ok && item[0] == '{' && err == nil && len(inner) == 1 && strings.Replace(inner[0].name, "@odata.", "@", 1) == "@id"; !ok {
				break
			}
		}
		if ok {
			return &Body{members: []member{{name: rel.Name, value: m.value}}}, nil
		}
	}
	return nil, fault.New(fault.Invalid, "body.type", "the body of a set of links is %s", form).On("value")
}

// Link reads the body of a link: {"@id":"tugs/3"} (JSON Format, 14). It is "" where the body names no row.
func Link(body []byte) (ref string, err error) {
	members, err := envelope(body, `{"@id":"…"}`)
	if err != nil {
		return "", err
	}
	for _, m := range members {
		switch control := strings.Replace(m.name, "@odata.", "@", 1); {
		case control == "@id" && ref != "":
			return "", fault.New(fault.Invalid, "body.duplicate", "the body names two rows; send one link at a time").On(m.name)
		case control == "@id":
			if ref, _ = jsontext.Unquote(m.value); ref == "" {
				return "", fault.New(fault.Invalid, "value.invalid", "%s is a string: the path of a row", m.name).On(m.name)
			}
		case !strings.HasPrefix(m.name, "@"):
			return "", fault.New(fault.Invalid, "field.unknown", "the body of a link is {\"@id\":\"…\"}, and %s has no place in it",
				m.name).On(m.name)
		}
	}
	return ref, nil
}

// ParseField reads the body of a change of one field, {"value":…} (JSON Format, 11), as that of a change of the row.
func ParseField(body []byte, f *model.Field) (*Body, error) {
	members, err := envelope(body, `{"value": …}`)
	if err != nil {
		return nil, err
	}
	b := &Body{}
	if f.Type.Parts() != nil && !slices.ContainsFunc(members, func(m member) bool { return m.name == "value" }) { // an object by itself
		return &Body{members: []member{{name: f.Name, value: withoutControls(members)}}}, nil
	}
	for _, m := range members {
		if m.name == "value" {
			b.members = []member{{name: f.Name, value: m.value}}
		} else if !strings.HasPrefix(m.name, "@") {
			return nil, fault.New(fault.Invalid, "field.unknown", "the body of a field is {\"value\": …}, and %s has no place in it",
				m.name).On(m.name)
		}
	}
	if b.members == nil {
		return nil, fault.New(fault.Invalid, "body.type", "the body of a field is {\"value\": …}").On("value")
	}
	return b, nil
}

// withoutControls is the object of the members that are no control information.
func withoutControls(members []member) string {
	out := "{"
	for _, m := range members {
		if strings.HasPrefix(m.name, "@") {
			continue
		}
		name, _ := json.Marshal(m.name) // a string
		out += string(name) + ":" + m.value + ","
	}
	return strings.TrimSuffix(out, ",") + "}"
}

// Null is the body of a change that takes one field to null.
func Null(f *model.Field) *Body { return &Body{members: []member{{name: f.Name, value: "null"}}} }

// Text is a JSON value as PostgreSQL reads the type, nil for null. The value is one that the database has given.
func Text(raw []byte, t *model.Type) (*string, error) {
	if string(raw) == "null" {
		return nil, nil
	}
	text, err := convert(string(raw), t)
	return &text, err
}

// KeyTexts are the values of a key, which has been read, as PostgreSQL reads them.
func KeyTexts(r *model.Resource, key []json.RawMessage) ([]string, error) {
	texts := make([]string, len(key))
	for i, k := range r.Key {
		var err error
		if texts[i], err = convert(string(key[i]), k.Type); err != nil {
			return nil, err
		}
	}
	return texts, nil
}
