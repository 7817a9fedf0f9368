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
			out[i].text = appendString(nil, c.Text)
		case statement.Masked:
			out[i].columns, out[i].text = compile(c.Columns, f), append(memberName(c.Name+"@Core.Permissions"), `"None"`...)
		default:
			out[i].columns = compile(c.Columns, f)
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
		dst = appendValue(dst, values, c)
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
func appendValue(dst []byte, values [][]byte, c *column) []byte {
	switch c.kind {
	case statement.Link:
		return appendString(dst, linkPath(values, c))
	case statement.Object:
		return appendObject(dst, values, c.columns)
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
		return appendRecord(dst, value, c.columns)
	case c.kind == statement.Many:
		return appendRecords(dst, value, c.columns)
	}
	return c.value(dst, value)
}

// appendRecord writes a composite value: the number of fields, then for each its type and its value.
func appendRecord(dst, src []byte, columns []column) []byte {
	var room [24][]byte
	return appendObject(dst, fieldsOf(room[:0], src), columns)
}

func fieldsOf(values [][]byte, src []byte) [][]byte {
	count, rest := int(binary.BigEndian.Uint32(src)), src[4:]
	for range count {
		var value []byte
		value, rest = field(rest[4:])
		values = append(values, value)
	}
	return values
}

// record is the values of a composite value.
func record(src []byte) [][]byte { return fieldsOf(nil, src) }

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

// eachRecord hands out the values of each composite value of an array.
func eachRecord(src []byte, do func([][]byte)) {
	if src == nil || binary.BigEndian.Uint32(src) == 0 {
		return
	}
	count, rest := int(binary.BigEndian.Uint32(src[12:])), src[20:]
	for range count {
		var value []byte
		value, rest = field(rest)
		do(record(value))
	}
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
