// Package encode writes rows as JSON, NDJSON, CSV or XML, straight from the binary values in which PostgreSQL sends them, without a value
// in between; and what stands around them in an answer. In go the columns of a plan and a format; out come writers that append to a
// buffer.
package encode

import (
	"encoding/json"
	"strings"
	"unicode/utf8"

	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/statement"
)

// Kind is how rows are written.
type Kind uint8

// The kinds.
const (
	JSON   Kind = iota // one object a row, in an array
	NDJSON             // one object a row, each on a line of its own
	CSV                // RFC 4180; what is nested stands as JSON text
	XML
)

// Format is how an answer is written.
type Format struct {
	Kind    Kind
	Strings bool // 64-bit integers and decimals as strings (JSON Format, 3.2)
	V40     bool // control information has the names of OData 4.0

	Metadata query.Metadata // of JSON and NDJSON: how much control information there is
}

// Rows writes rows as their format has them.
type Rows interface {
	// Append writes a row; values are those of the SQL row, nil for null. links is needed where relations show a page.
	Append(dst []byte, values [][]byte, links Links) []byte
}

// Header is what comes before the rows: the names of CSV, nothing otherwise.
func Header(dst []byte, rows Rows) []byte {
	if names, ok := rows.(csvRows); ok {
		return names.header(dst)
	}
	return dst
}

// Rows chooses the writer of rows with those columns.
func (f Format) Rows(columns []statement.Column) Rows {
	switch f.Kind {
	case CSV:
		return csvRows(compileCSV(columns, f, ""))
	case XML:
		return xmlRows(compileXML(columns, f))
	case NDJSON:
		return lines(compile(columns, f))
	}
	return jsonRows(compile(columns, f))
}

// control is the name of a member as the version has it: @count, in 4.0 @odata.count.
func (f Format) control(name string) string {
	if f.V40 {
		return strings.Replace(name, "@", "@odata.", 1)
	}
	return name
}

type jsonRows []column

func (r jsonRows) Append(dst []byte, values [][]byte, links Links) []byte {
	return appendObject(dst, values, r, links)
}

// lines writes each object on a line of its own.
type lines []column

func (r lines) Append(dst []byte, values [][]byte, links Links) []byte {
	return append(appendObject(dst, values, r, links), '\n')
}

// csvColumn is one field of a line.
type csvColumn struct {
	name   string
	at     int
	value  Appender
	nested *column // what is written as JSON text
	rest   *column // of many: the link to the rest of its rows is written
}

type csvRows []csvColumn

func compileCSV(columns []statement.Column, f Format, within string) []csvColumn {
	var out []csvColumn
	for _, c := range columns {
		name := within + f.control(c.Name)
		switch c.Kind {
		case statement.Plain:
			out = append(out, csvColumn{name: name, at: c.At, value: csvAppender(c.Type)})
		case statement.Total:
			out = append(out, csvColumn{name: name, at: c.At, value: appendInteger})
		case statement.Masked: // null where it is not shown
			out = append(out, compileCSV(c.Columns, f, within)...)
		case statement.Object:
			out = append(out, compileCSV(c.Columns, f, name+"/")...)
		default:
			nested := compile([]statement.Column{c}, f)
			out = append(out, csvColumn{name: name, at: c.At, nested: &nested[0]})
			if c.Page > 0 {
				out = append(out, csvColumn{name: within + f.control(c.Name+"@nextLink"), at: c.At, rest: &nested[0]})
			}
		}
	}
	return out
}

func (r csvRows) Append(dst []byte, values [][]byte, links Links) []byte {
	for i := range r {
		c := &r[i]
		if i > 0 {
			dst = append(dst, ',')
		}
		switch {
		case c.rest != nil:
			more := eachRecord(values[c.at], c.rest.rest.page, nil, func([][]byte) {})
			if more && links != nil {
				dst = appendCSV(dst, []byte(c.rest.rest.link(values, links)))
			}
		case c.nested != nil:
			var room [512]byte
			text := room[:0]
			if value := values[c.at]; c.nested.kind == statement.Many && value != nil {
				text, _ = appendRecords(text, value, c.nested, links) // the link to its rest is a column
			} else {
				text = appendValue(text, values, c.nested, links)
			}
			if string(text) != "null" {
				dst = appendCSV(dst, unquoted(text))
			}
		case values[c.at] != nil:
			dst = c.value(dst, values[c.at])
		}
	}
	return append(dst, '\r', '\n')
}

// header is the line of names.
func (r csvRows) header(dst []byte) []byte {
	for i, c := range r {
		if i > 0 {
			dst = append(dst, ',')
		}
		dst = appendCSV(dst, []byte(c.name))
	}
	return append(dst, '\r', '\n')
}

func csvAppender(t *model.Type) Appender {
	switch t.Kind {
	case model.String, model.Enum, model.Opaque:
		return appendCSV
	case model.JSON, model.Collection, model.Range, model.Complex:
		write := AppenderOf(t, Format{})
		return func(dst, src []byte) []byte { return appendCSV(dst, write(nil, src)) }
	}
	return bare(AppenderOf(t, Format{}))
}

// appendCSV writes a field; it is quoted where it holds what parts fields and lines, and where it is empty, which a null is not.
func appendCSV(dst, src []byte) []byte {
	plain := len(src) > 0
	for _, c := range src {
		if c == ',' || c == '"' || c == '\n' || c == '\r' {
			plain = false
			break
		}
	}
	if plain {
		return append(dst, src...)
	}
	dst = append(dst, '"')
	for _, c := range src {
		if c == '"' {
			dst = append(dst, '"')
		}
		dst = append(dst, c)
	}
	return append(dst, '"')
}

// bare takes the quotes off a JSON string that needs no escapes.
func bare(write Appender) Appender {
	return func(dst, src []byte) []byte {
		n := len(dst)
		dst = write(dst, src)
		if dst[n] == '"' {
			copy(dst[n:], dst[n+1:])
			dst = dst[:len(dst)-2]
		}
		return dst
	}
}

// unquoted is the text of a JSON string; any other JSON is its own text.
func unquoted(text []byte) []byte {
	var s string
	if len(text) > 0 && text[0] == '"' && json.Unmarshal(text, &s) == nil {
		return []byte(s)
	}
	return text
}

// xmlColumn is one element of a row.
type xmlColumn struct {
	open, end, null []byte
	at              int
	value           Appender
	kind            statement.ColumnKind
	columns         []xmlColumn
	types           []uint32 // of the values in the records of a relation
	rest            rest
	link            *column
}

type xmlRows []xmlColumn

func compileXML(columns []statement.Column, f Format) []xmlColumn {
	out := make([]xmlColumn, len(columns))
	for i, c := range columns {
		if c.Kind == statement.Masked { // null where it is not shown
			c = c.Columns[0]
		}
		name := xmlName(c.Name)
		out[i] = xmlColumn{open: []byte("<" + name + ">"), end: []byte("</" + name + ">"), null: []byte("<" + name + ` xsi:nil="true"/>`),
			at: c.At, kind: c.Kind}
		switch c.Kind {
		case statement.Plain:
			out[i].value = xmlAppender(c.Type)
		case statement.Total:
			out[i].value = appendInteger
		case statement.Link, statement.Fixed, statement.Version:
			link := compile([]statement.Column{c}, f)
			out[i].link = &link[0]
		default:
			out[i].columns, out[i].types = compileXML(c.Columns, f), recordTypes(c.Columns)
			if c.Page > 0 {
				out[i].rest = restOf(&c, f)
			}
		}
	}
	return out
}

// xmlName makes an element's name of a member's: what XML does not take becomes an underscore, and a point splits off control
// information.
func xmlName(name string) string {
	name = strings.TrimPrefix(name, "@")
	return strings.Map(func(r rune) rune {
		switch {
		case r == '@':
			return '.'
		case r == '_' || r >= '0' && r <= '9' || r >= 'A' && r <= 'Z' || r >= 'a' && r <= 'z' || r >= utf8.RuneSelf:
			return r
		}
		return '_'
	}, name)
}

func (r xmlRows) Append(dst []byte, values [][]byte, links Links) []byte {
	dst = append(dst, "<row>"...)
	dst = appendElements(dst, values, r, links)
	return append(dst, "</row>\n"...)
}

func appendElements(dst []byte, values [][]byte, columns []xmlColumn, links Links) []byte {
	for i := range columns {
		c := &columns[i]
		if c.kind == statement.Object {
			dst = append(appendElements(append(dst, c.open...), values, c.columns, links), c.end...)
			continue
		}
		if c.link != nil {
			dst = append(dst, c.open...)
			dst = AppendXMLText(dst, unquoted(appendValue(nil, values, c.link, links)))
			dst = append(dst, c.end...)
			continue
		}
		value := values[c.at]
		if value == nil && c.kind != statement.Many {
			dst = append(dst, c.null...)
			continue
		}
		dst = append(dst, c.open...)
		switch c.kind {
		case statement.One:
			dst = appendElements(dst, fieldsOf(nil, value, c.types), c.columns, links)
		case statement.Many:
			more := eachRecord(value, c.rest.page, c.types, func(record [][]byte) {
				dst = append(appendElements(append(dst, "<row>"...), record, c.columns, links), "</row>"...)
			})
			if more && links != nil {
				dst = AppendXMLText(append(dst, "<next>"...), []byte(c.rest.link(values, links)))
				dst = append(dst, "</next>"...)
			}
		default:
			dst = c.value(dst, value)
		}
		dst = append(dst, c.end...)
	}
	return dst
}

func xmlAppender(t *model.Type) Appender {
	switch t.Kind {
	case model.String, model.Enum, model.Opaque:
		return AppendXMLText
	case model.Collection:
		element := xmlAppender(t.Element)
		return func(dst, src []byte) []byte {
			return appendItems(dst, src, element)
		}
	case model.JSON, model.Range, model.Complex:
		write := AppenderOf(t, Format{})
		return func(dst, src []byte) []byte { return AppendXMLText(dst, write(nil, src)) }
	}
	return bare(AppenderOf(t, Format{}))
}

// AppendXMLText appends text as XML has it: what XML asks for is escaped; characters that XML can't hold become the replacement character.
func AppendXMLText(dst, src []byte) []byte {
	for i := 0; i < len(src); {
		c := src[i]
		if c >= utf8.RuneSelf {
			r, size := utf8.DecodeRune(src[i:])
			if r == utf8.RuneError && size == 1 || r == 0xFFFE || r == 0xFFFF {
				dst = append(dst, "\uFFFD"...)
			} else {
				dst = append(dst, src[i:i+size]...)
			}
			i += size
			continue
		}
		switch {
		case c == '&':
			dst = append(dst, "&amp;"...)
		case c == '<':
			dst = append(dst, "&lt;"...)
		case c == '>':
			dst = append(dst, "&gt;"...)
		case c == '\r':
			dst = append(dst, "&#13;"...)
		case c < 0x20 && c != '\n' && c != '\t':
			dst = append(dst, "\uFFFD"...)
		default:
			dst = append(dst, c)
		}
		i++
	}
	return dst
}

// linkPath is the path of a row: the resource, then its key as segments, then what follows.
func linkPath(values [][]byte, c *column) string {
	var room [4]string
	key := room[:0]
	for i := range c.columns {
		k := &c.columns[i]
		key = append(key, string(unquoted(k.value(nil, values[k.at]))))
	}
	return request.RowPath(c.resource, key) + c.suffix
}
