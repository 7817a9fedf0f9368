package encode

import (
	"encoding/binary"
	"strconv"

	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/statement"
)

// column writes one member of an object: its name, quoted beforehand, and its value.
type column struct {
	name     []byte // ,"name":
	at       int
	value    Appender // of a plain value
	kind     statement.ColumnKind
	columns  []column        // of a relation or an object, or the key of a link
	resource *model.Resource // of a link
	suffix   string          // of a link: what follows the key
	text     []byte          // of a fixed value, or in the place of a member that is not shown
	types    []uint32        // of a relation: OIDs of the values in its records, 0 where they are not known
	rest     rest
	nextName []byte // ,"name@nextLink":
}

// rest is what follows the rows of a relation that are shown.
type rest struct {
	page    int     // how many are shown, 0: all
	row, it *column // the paths of the row that the rest belongs to, and of the row of the request where the rest speaks of it
	way     string  // the relations to it
}

// restOf is the rest of a relation to many.
func restOf(c *statement.Column, f Format) rest {
	r := rest{page: int(c.Page), row: &compile([]statement.Column{*c.Next}, f)[0], way: c.Way}
	if c.It != nil {
		r.it = &compile([]statement.Column{*c.It}, f)[0]
	}
	return r
}

// link is the link to the rest.
func (r *rest) link(values [][]byte, links Links) string {
	it := ""
	if r.it != nil {
		it = linkPath(values, r.it)
	}
	return links(linkPath(values, r.row), it, r.way, int64(r.page))
}

// Links makes the link to the rest of the rows of a relation. row is the path of the row that they belong to, it that of the row of the
// request, "" where it is the same one, way the relations that lead to them from the rows of the request, shown the number of those that
// are shown.
type Links func(row, it, way string, shown int64) string

// TypeMismatch is what the writers panic with where a record holds a value of another type than the columns say: the table has changed.
type TypeMismatch string

// TypeOID is the type that values have in PostgreSQL, where they are those of a column; else 0.
func TypeOID(t *model.Type) uint32 {
	if t == nil || t.Catalog == nil || t.Kind == model.Opaque { // sent as text
		return 0
	}
	return Alike(t.Catalog.Base().OID)
}

// Alike is one for all types whose values are sent alike: a text with a limit is a text.
func Alike(oid uint32) uint32 {
	if oid == varchar {
		return text
	}
	return oid
}

const text, varchar = 25, 1043

// ColumnTypes hands out the types of the columns of a row that are those of a table's.
func ColumnTypes(columns []statement.Column, expect func(at int, oid uint32)) {
	columnTypes(columns, TypeOID, expect)
}

func columnTypes(columns []statement.Column, oidOf func(*model.Type) uint32, expect func(at int, oid uint32)) {
	for _, c := range columns {
		switch c.Kind {
		case statement.Plain:
			expect(c.At, oidOf(c.Type))
		case statement.Masked, statement.Link, statement.Object:
			columnTypes(c.Columns, oidOf, expect)
		}
	}
}

// recordTypes are the types in the records of a relation, where those of domains stand themselves.
func recordTypes(columns []statement.Column) []uint32 {
	var types []uint32
	columnTypes(columns, func(t *model.Type) uint32 {
		if TypeOID(t) == 0 {
			return 0
		}
		return Alike(t.Catalog.OID)
	}, func(at int, oid uint32) {
		for at >= len(types) {
			types = append(types, 0)
		}
		types[at] = oid
	})
	return types
}

func compile(columns []statement.Column, f Format) []column {
	out := make([]column, len(columns))
	for i, c := range columns {
		out[i] = column{name: memberName(f.control(c.Name)), at: c.At, kind: c.Kind}
		switch c.Kind {
		case statement.Plain:
			out[i].value = AppenderOf(c.Type, f)
		case statement.Total:
			out[i].value = integers(f)
		case statement.Version:
			out[i].value = appendVersion
		case statement.Link:
			out[i].columns, out[i].resource, out[i].suffix = compile(c.Columns, Format{}), c.Resource, c.Text
		case statement.Fixed:
			text := c.Text
			if !c.BuiltIn || f.V40 {
				text = "#" + text
			}
			out[i].text = appendString(nil, text)
		case statement.Masked:
			out[i].columns, out[i].text = compile(c.Columns, f), append(memberName(c.Name+"@Core.Permissions"), `"None"`...)
		default:
			out[i].columns, out[i].types = compile(c.Columns, f), recordTypes(c.Columns)
			if c.Page > 0 {
				out[i].rest, out[i].nextName = restOf(&c, f), memberName(f.control(c.Name+"@nextLink"))
			}
		}
	}
	return out
}

func memberName(name string) []byte { return append(appendString([]byte{','}, name), ':') }

// appendObject writes the columns of a row as a JSON object.
func appendObject(dst []byte, values [][]byte, columns []column, links Links) []byte {
	dst = append(dst, '{')
	for i := range columns {
		c := &columns[i]
		if c.kind == statement.Masked {
			if values[c.at][0] == 0 { // not available for want of permissions (Protocol, 11.2.2)
				dst = append(dst, c.text[first(i):]...)
				continue
			}
			c = &c.columns[0]
		}
		dst = append(dst, c.name[first(i):]...)
		if c.kind == statement.Plain {
			if value := values[c.at]; value != nil {
				dst = c.value(dst, value)
			} else {
				dst = append(dst, "null"...)
			}
			continue
		}
		dst = appendValue(dst, values, c, links)
	}
	return append(dst, '}')
}

// first leaves out the comma before the first member of an object.
func first(i int) int {
	if i == 0 {
		return 1
	}
	return 0
}

// appendValue writes the value of a column of any kind.
func appendValue(dst []byte, values [][]byte, c *column, links Links) []byte {
	switch c.kind {
	case statement.Link:
		return appendString(dst, linkPath(values, c))
	case statement.Object:
		return appendObject(dst, values, c.columns, links)
	case statement.Fixed:
		return append(dst, c.text...)
	}
	value := values[c.at]
	switch {
	case value == nil && c.kind == statement.Many:
		return append(dst, '[', ']')
	case value == nil:
		return append(dst, "null"...)
	case c.kind == statement.One:
		return appendRecord(dst, value, c, links)
	case c.kind == statement.Many:
		dst, more := appendRecords(dst, value, c, links)
		if more && links != nil {
			dst = appendString(append(dst, c.nextName...), c.rest.link(values, links))
		}
		return dst
	}
	return c.value(dst, value)
}

// appendRecord writes a composite value: the number of fields, then for each its type and its value.
func appendRecord(dst, src []byte, c *column, links Links) []byte {
	var room [24][]byte
	return appendObject(dst, fieldsOf(room[:0], src, c.types), c.columns, links)
}

// fieldsOf are the values of a composite value, which have these types.
func fieldsOf(values [][]byte, src []byte, types []uint32) [][]byte {
	count, rest := int(binary.BigEndian.Uint32(src)), src[4:]
	for i := range count {
		if oid := binary.BigEndian.Uint32(rest); i < len(types) && types[i] != 0 && types[i] != Alike(oid) {
			panic(TypeMismatch("value " + strconv.Itoa(i+1) + " of a record has type " + strconv.Itoa(int(oid)) + " in place of " +
				strconv.Itoa(int(types[i]))))
		}
		var value []byte
		value, rest = field(rest[4:])
		values = append(values, value)
	}
	return values
}

// appendRecords writes an array of composite values, of which no more than a page is shown, and reports whether there are more.
func appendRecords(dst, src []byte, c *column, links Links) (out []byte, more bool) {
	if binary.BigEndian.Uint32(src) == 0 {
		return append(dst, '[', ']'), false
	}
	count, rest := int(binary.BigEndian.Uint32(src[12:])), src[20:]
	if more = c.rest.page > 0 && count > c.rest.page; more {
		count = c.rest.page
	}
	dst = append(dst, '[')
	for i := range count {
		if i > 0 {
			dst = append(dst, ',')
		}
		var value []byte
		value, rest = field(rest)
		dst = appendRecord(dst, value, c, links)
	}
	return append(dst, ']'), more
}

// eachRecord hands out the values of each composite value of an array, as many as a page has, and reports whether there are more.
func eachRecord(src []byte, page int, types []uint32, do func([][]byte)) (more bool) {
	if src == nil || binary.BigEndian.Uint32(src) == 0 {
		return false
	}
	count, rest := int(binary.BigEndian.Uint32(src[12:])), src[20:]
	if more = page > 0 && count > page; more {
		count = page
	}
	for range count {
		var value []byte
		value, rest = field(rest)
		do(fieldsOf(nil, value, types))
	}
	return more
}

// appendVersion writes the version of a row as an entity tag (RFC 9110, 8.8.3), in a JSON string.
func appendVersion(dst, src []byte) []byte {
	dst = strconv.AppendUint(append(dst, `"W/\"`...), uint64(binary.BigEndian.Uint32(src)), 10)
	return append(dst, `\""`...)
}

// Total reads a count.
func Total(src []byte) int64 {
	n, _ := strconv.ParseInt(string(appendInteger(nil, src)), 10, 64)
	return n
}

// AppendValues writes values at some places of a row as a JSON array.
func AppendValues(dst []byte, values [][]byte, places []int, appenders []Appender) []byte {
	dst = append(dst, '[')
	for i, at := range places {
		if i > 0 {
			dst = append(dst, ',')
		}
		if values[at] == nil {
			dst = append(dst, "null"...)
		} else {
			dst = appenders[i](dst, values[at])
		}
	}
	return append(dst, ']')
}
