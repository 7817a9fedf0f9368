package postgres

import (
	"encoding/binary"
	"encoding/json"
	"net/url"
	"strconv"

	"eagerwindow/internal/core/statement"
)

// column writes one member of an object: its name, quoted beforehand, and its value.
type column struct {
	name    []byte // ,"name":
	at      int
	value   appender // of a plain value
	kind    statement.ColumnKind
	columns []column // of a relation, or the key of a link
	path    string   // of a link: the resource
}

func compile(columns []statement.Column) []column {
	out := make([]column, len(columns))
	for i, c := range columns {
		out[i] = column{name: memberName(c.Name), at: c.At, kind: c.Kind}
		switch c.Kind {
		case statement.Plain:
			out[i].value = appenderOf(c.Type)
		case statement.Total:
			out[i].value = appendInteger
		case statement.Link:
			out[i].columns, out[i].path = compile(c.Columns), c.Resource
		default:
			out[i].columns = compile(c.Columns)
		}
	}
	return out
}

func memberName(name string) []byte { return append(appendString([]byte{','}, name), ':') }

// appendObject writes the columns of a row as a JSON object.
func appendObject(dst []byte, values [][]byte, columns []column) []byte {
	dst = append(dst, '{')
	for i := range columns {
		c := &columns[i]
		if i > 0 {
			dst = append(dst, c.name...)
		} else {
			dst = append(dst, c.name[1:]...)
		}
		switch c.kind {
		case statement.Link:
			dst = appendLink(dst, values, c)
			continue
		case statement.Object:
			dst = appendObject(dst, values, c.columns)
			continue
		}
		value := values[c.at]
		switch {
		case value == nil && c.kind == statement.Many:
			dst = append(dst, '[', ']')
		case value == nil:
			dst = append(dst, "null"...)
		case c.kind == statement.One:
			dst = appendRecord(dst, value, c.columns)
		case c.kind == statement.Many:
			dst = appendRecords(dst, value, c.columns)
		default:
			dst = c.value(dst, value)
		}
	}
	return append(dst, '}')
}

// appendRecord writes a composite value: the number of fields, then for each its type and its value.
func appendRecord(dst, src []byte, columns []column) []byte {
	var room [24][]byte
	values := room[:0]
	count, rest := int(binary.BigEndian.Uint32(src)), src[4:]
	for range count {
		var value []byte
		value, rest = field(rest[4:])
		values = append(values, value)
	}
	return appendObject(dst, values, columns)
}

// appendRecords writes an array of composite values.
func appendRecords(dst, src []byte, columns []column) []byte {
	if binary.BigEndian.Uint32(src) == 0 {
		return append(dst, '[', ']')
	}
	count, rest := int(binary.BigEndian.Uint32(src[12:])), src[20:]
	dst = append(dst, '[')
	for i := range count {
		if i > 0 {
			dst = append(dst, ',')
		}
		var value []byte
		value, rest = field(rest)
		dst = appendRecord(dst, value, columns)
	}
	return append(dst, ']')
}

// appendLink writes the path of a row: the resource, then its key as segments.
func appendLink(dst []byte, values [][]byte, c *column) []byte {
	path := c.path
	for i := range c.columns {
		k := &c.columns[i]
		text := string(k.value(nil, values[k.at]))
		if text[0] == '"' {
			_ = json.Unmarshal([]byte(text), &text) // it was written a moment ago
		}
		path += "/" + url.PathEscape(text)
	}
	return appendString(dst, path)
}

// total reads a count.
func total(src []byte) int64 {
	n, _ := strconv.ParseInt(string(appendInteger(nil, src)), 10, 64)
	return n
}
