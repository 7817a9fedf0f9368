package encode

import (
	"strconv"

	"eagerwindow/internal/core/query"
)

// Envelope is what stands around rows: the members of the object that JSON has them in, the elements of XML.
type Envelope struct {
	Format
	URL string // of the context
}

func (e Envelope) prefix() string {
	if e.V40 {
		return "@odata."
	}
	return "@"
}

// Context begins an object with the context URL, where the metadata asked for has one.
func (e Envelope) Context(dst []byte) []byte {
	if e.Metadata == query.None {
		return append(dst, '{')
	}
	dst = append(append(append(dst, `{"`...), e.prefix()...), `context":`...)
	return append(AppendQuoted(dst, e.URL), ',')
}

// XMLHead begins an XML document.
const (
	XMLHead = `<?xml version="1.0" encoding="UTF-8"?>` + "\n"
	xsi     = ` xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance"`
)

// Single writes one row by itself; header and row write what the format has before it, and the row. In JSON the context stands among its
// members.
func (e Envelope) Single(dst []byte, header, row func([]byte) []byte) []byte {
	switch {
	case e.Kind == XML:
		return append(row(append(dst, XMLHead+"<answer"+xsi+">\n"...)), "</answer>\n"...)
	case e.Kind != JSON:
		return row(header(dst))
	}
	return e.One(dst, row)
}

// One writes one row as a JSON object, the context among its members.
func (e Envelope) One(dst []byte, row func([]byte) []byte) []byte {
	if e.Metadata == query.None {
		return append(row(dst), '\n')
	}
	dst = e.Context(dst)
	at := len(dst)
	dst = row(dst)
	if dst[at+1] == '}' {
		return append(dst[:at-1], "}\n"...)
	}
	copy(dst[at:], dst[at+1:]) // its opening bracket
	dst[len(dst)-1] = '\n'
	return dst
}

// Collection writes the rows of an array as a JSON object, the context beside them.
func (e Envelope) Collection(rows []byte) []byte {
	return append(append(append(e.Context(nil), `"value":`...), rows...), "}\n"...)
}

// Begin precedes the rows of a collection; total is their number where the caller has asked for it, else -1.
func (e Envelope) Begin(dst []byte, total int64) []byte {
	switch e.Kind {
	case XML:
		dst = append(dst, XMLHead+"<answer"+xsi...)
		if total >= 0 {
			dst = append(strconv.AppendInt(append(dst, ` count="`...), total, 10), '"')
		}
		return append(dst, ">\n"...)
	case JSON:
		dst = e.Context(dst)
		if total >= 0 {
			dst = append(append(append(dst, '"'), e.prefix()...), `count":`...)
			if e.Strings {
				dst = append(strconv.AppendInt(append(dst, '"'), total, 10), '"')
			} else {
				dst = strconv.AppendInt(dst, total, 10)
			}
			dst = append(dst, ',')
		}
		return append(dst, `"value":[`...)
	}
	return dst
}

// Row precedes each row.
func (e Envelope) Row(dst []byte, first bool) []byte {
	if e.Kind != JSON {
		return dst
	}
	if !first {
		dst = append(dst, ',')
	}
	return append(dst, '\n')
}

// End follows the rows, with the link to the next page where there is one.
func (e Envelope) End(dst []byte, next string) []byte {
	switch e.Kind {
	case XML:
		if next != "" {
			dst = append(dst, "<next>"...)
			dst = AppendXMLText(dst, []byte(next))
			dst = append(dst, "</next>\n"...)
		}
		return append(dst, "</answer>\n"...)
	case NDJSON, CSV:
		return dst
	}
	dst = append(dst, "\n]"...)
	if next != "" {
		dst = append(append(append(dst, `,"`...), e.prefix()...), `nextLink":`...)
		dst = AppendQuoted(dst, next)
	}
	return append(dst, "}\n"...)
}

// AppendQuoted writes a text that needs no more than quotes and backslashes escaped as a JSON string.
func AppendQuoted(dst []byte, s string) []byte {
	dst = append(dst, '"')
	for i := range len(s) {
		if c := s[i]; c == '"' || c == '\\' {
			dst = append(dst, '\\')
		}
		dst = append(dst, s[i])
	}
	return append(dst, '"')
}
