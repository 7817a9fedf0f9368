package server

import (
	"strconv"

	"eagerwindow/internal/postgres"
	"eagerwindow/internal/service"
)

// paper is what stands around rows: the members of the object that JSON has them in, the elements of XML.
type paper struct {
	format
	url    string // of the context
	prefix string // of control information: "@", in 4.0 "@odata."
}

func paperOf(f format, url string) paper {
	p := paper{f, url, "@"}
	if f.V40 {
		p.prefix = "@odata."
	}
	return p
}

// context begins an object with the context URL, where the metadata asked for has one.
func (p paper) context(dst []byte) []byte {
	if p.metadata == "none" {
		return append(dst, '{')
	}
	dst = append(append(append(dst, `{"`...), p.prefix...), `context":`...)
	return append(appendQuoted(dst, p.url), ',')
}

const (
	xmlHead = `<?xml version="1.0" encoding="UTF-8"?>` + "\n"
	xsi     = ` xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance"`
)

// single writes the one row of a page; in JSON the context stands among its members.
func (p paper) single(dst []byte, page *service.Page) []byte {
	switch {
	case p.Kind == postgres.XML:
		return append(page.AppendRow(append(dst, xmlHead+"<answer"+xsi+">\n"...)), "</answer>\n"...)
	case p.Kind != postgres.JSON:
		return page.AppendRow(page.AppendHeader(dst))
	}
	return p.one(dst, page.AppendRow)
}

// one writes one row as a JSON object, the context among its members.
func (p paper) one(dst []byte, row func([]byte) []byte) []byte {
	if p.metadata == "none" {
		return append(row(dst), '\n')
	}
	dst = p.context(dst)
	at := len(dst)
	dst = row(dst)
	if dst[at+1] == '}' {
		return append(dst[:at-1], "}\n"...)
	}
	copy(dst[at:], dst[at+1:]) // its opening bracket
	dst[len(dst)-1] = '\n'
	return dst
}

// collection writes the rows of an array as a JSON object, the context beside them.
func (p paper) collection(rows []byte) []byte {
	return append(append(append(p.context(nil), `"value":`...), rows...), "}\n"...)
}

// begin stands before the rows of a collection.
func (p paper) begin(dst []byte, page *service.Page) []byte {
	switch p.Kind {
	case postgres.XML:
		dst = append(dst, xmlHead+"<answer"+xsi...)
		if page.Counted {
			dst = append(strconv.AppendInt(append(dst, ` count="`...), page.Total(), 10), '"')
		}
		return append(dst, ">\n"...)
	case postgres.JSON:
		dst = p.context(dst)
		if page.Counted {
			dst = append(append(append(dst, '"'), p.prefix...), `count":`...)
			if p.Strings {
				dst = append(strconv.AppendInt(append(dst, '"'), page.Total(), 10), '"')
			} else {
				dst = strconv.AppendInt(dst, page.Total(), 10)
			}
			dst = append(dst, ',')
		}
		return append(dst, `"value":[`...)
	}
	return dst
}

// row stands before each row.
func (p paper) row(dst []byte, page *service.Page) []byte {
	if p.Kind != postgres.JSON {
		return dst
	}
	if page.Rows() > 1 {
		dst = append(dst, ',')
	}
	return append(dst, '\n')
}

// end stands after the rows, with the link to the next page where there is one.
func (p paper) end(dst []byte, next string) []byte {
	switch p.Kind {
	case postgres.XML:
		if next != "" {
			dst = append(dst, "<next>"...)
			dst = postgres.AppendXMLText(dst, []byte(next))
			dst = append(dst, "</next>\n"...)
		}
		return append(dst, "</answer>\n"...)
	case postgres.NDJSON, postgres.CSV:
		return dst
	}
	dst = append(dst, "\n]"...)
	if next != "" {
		dst = append(append(append(dst, `,"`...), p.prefix...), `nextLink":`...)
		dst = appendQuoted(dst, next)
	}
	return append(dst, "}\n"...)
}
