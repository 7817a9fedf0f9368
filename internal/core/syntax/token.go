package syntax

import (
	"strconv"
	"strings"

	"eagerwindow/internal/core/fault"
)

// Pos is a place in the text of an option: a byte offset, counted from 0. Messages count from 1.
type Pos int

// Class says what a literal looks like, before anything is known of the type that is expected.
type Class byte

// The classes. Their letters are in the shape of a request in place of the literals.
const (
	Text     Class = 's' // 'in quotes'
	Whole    Class = 'i' // fits 64 bits
	Fraction Class = 'n' // a decimal, or a whole number past 64 bits
	Floating Class = 'd' // with an exponent, INF, NaN
	Day      Class = 'D' // 2026-07-01
	Clock    Class = 'T' // 12:30:00
	Moment   Class = 'I' // 2026-07-01T12:30:00Z
	Period   Class = 'P' // duration'PT48H'
	UUID     Class = 'g'
	Bytes    Class = 'b' // binary'…'
	Segment  Class = 'k' // a key as a path segment, or a text in a JSON array: any text
	Several  Class = 'l' // the list of an in
	Absent   Class = '0' // a parameter that is left out
)

// Literal is a value as the caller wrote it, quotes and escapes undone, with its place.
type Literal struct {
	Class  Class
	Text   string    // of a JSON array, as it was written
	Items  []Literal // of a list
	Option string    // the query option it stands in, or "path"
	Pos    Pos       // byte offset in the option's text
}

// String writes the literal as the query language does.
func (l Literal) String() string {
	switch l.Class {
	case Text:
		return QuoteText(l.Text)
	case Period:
		return "duration" + QuoteText(l.Text)
	case Bytes:
		return "binary" + QuoteText(l.Text)
	case Segment:
		return QuoteText(l.Text)
	case Several:
		if l.Text != "" {
			return l.Text
		}
		out := "("
		for i, item := range l.Items {
			if i > 0 {
				out += ","
			}
			out += item.String()
		}
		return out + ")"
	}
	return l.Text
}

// Kind is what messages call the literal.
func (l Literal) Kind() string {
	switch l.Class {
	case Text, Segment:
		return "a string"
	case Several:
		return "a list"
	case Whole:
		return "a whole number"
	case Fraction, Floating:
		return "a number"
	case Day:
		return "a date"
	case Clock:
		return "a time of day"
	case Moment:
		return "a timestamp"
	case Period:
		return "a duration"
	case UUID:
		return "a uuid"
	case Bytes:
		return "a binary value"
	}
	return "a value"
}

func QuoteText(s string) string {
	out := make([]byte, 0, len(s)+2)
	out = append(out, '\'')
	for i := range len(s) {
		if s[i] == '\'' {
			out = append(out, '\'')
		}
		out = append(out, s[i])
	}
	return string(append(out, '\''))
}

type tokenKind uint8

const (
	TokenEnd     tokenKind = iota
	TokenName              // port_calls, eq, $count, Edm.String
	tokenAlias             // @p, @caller
	TokenLiteral           // an index into the literals
	tokenArray             // of the scanner alone: a JSON array
	tokenMark              // one of ( ) , ; / : = * -
)

// Token is one word of an option's text.
type Token struct {
	Kind    tokenKind
	mark    byte
	Text    string // of names and aliases
	Literal int
	Pos     Pos // byte offset
}

// String is the token as messages show it.
func (t Token) String() string {
	switch t.Kind {
	case TokenEnd:
		return "the end"
	case tokenMark:
		return strconv.Quote(string(t.mark))
	case TokenLiteral:
		return "a value"
	}
	return strconv.Quote(t.Text)
}

// FaultAt is a fault with its place, counted from 1. It follows the first part of the message: what is wrong, where, and
// then what would be right.
func FaultAt(option string, pos Pos, code, format string, args ...any) *fault.Fault {
	f := fault.New(fault.Invalid, code, format, args...)
	wrong, right, both := strings.Cut(f.Message, "; ")
	f.Message = wrong + " in " + option + " at " + strconv.Itoa(int(pos)+1)
	if both {
		f.Message += "; " + right
	}
	return f.On(option)
}
