// Package syntax reads the text of the request language (OData 4.01 URL Conventions, 5.1) without knowing what its names mean. A scanner
// cuts texts into tokens; a Reader gathers them and writes the shape of a request, its words with the literals taken out; a Parser makes
// nodes of the tokens. Faults name the option, and the place in it.
package syntax

import (
	"encoding/json"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// scanner cuts one text into tokens. It knows no grammar: what a token means where it stands is for the parser to say.
type scanner struct {
	text   string
	option string // for the places of faults
	pos    int
}

// next is the next token and, of a literal, its value.
func (s *scanner) next() (t Token, l Literal, err error) {
	s.skipSpace()
	start := s.pos
	if start >= len(s.text) {
		return Token{Kind: TokenEnd, Pos: Pos(start)}, l, nil
	}
	switch c := s.text[start]; {
	case c == '\'':
		text, err := s.quoted()
		return s.literal(Text, text, start, err)
	case c >= '0' && c <= '9', (c == '-' || c == '+') && s.digitAt(start+1):
		return s.number()
	case c == '-' && strings.HasPrefix(s.text[start:], "-INF") && !s.wordAt(start+4):
		s.pos += 4
		return s.literal(Floating, "-INF", start, nil)
	case c == '@':
		s.pos++
		s.word()
		if s.pos == start+1 {
			return t, l, s.fault(start, `a name is missing after "@"`)
		}
		return Token{Kind: tokenAlias, Text: s.text[start:s.pos], Pos: Pos(start)}, l, nil
	case c == '$' || c == '_' || c >= utf8.RuneSelf || isLetter(c):
		return s.name()
	case c == '[':
		return s.array()
	case strings.IndexByte("(),;/:=*-", c) >= 0:
		s.pos++
		return Token{Kind: tokenMark, mark: c, Pos: Pos(start)}, l, nil
	}
	return t, l, s.foreignFault(start)
}

// literal is a token with its value.
func (s *scanner) literal(class Class, text string, start int, err error) (Token, Literal, error) {
	return Token{Kind: TokenLiteral, Pos: Pos(start)}, Literal{Class: class, Text: text, Option: s.option, Pos: Pos(start)}, err
}

// nextTerm is the next token of a search: a word, a "phrase", AND, OR, NOT or a bracket (URL Conventions, 5.1.8).
func (s *scanner) nextTerm() (t Token, l Literal, err error) {
	s.skipSpace()
	start := s.pos
	if start >= len(s.text) {
		return Token{Kind: TokenEnd, Pos: Pos(start)}, l, nil
	}
	switch c := s.text[start]; c {
	case '(', ')', ';':
		s.pos++
		return Token{Kind: tokenMark, mark: c, Pos: Pos(start)}, l, nil
	case '"':
		end := strings.IndexByte(s.text[start+1:], '"')
		if end < 0 {
			return t, l, s.fault(start, "the phrase is not closed: a double quote is missing")
		}
		s.pos = start + end + 2
		return s.literal(Text, s.text[start+1:s.pos-1], start, nil)
	}
	for s.pos < len(s.text) && strings.IndexByte(" \t\n\r();\"", s.text[s.pos]) < 0 {
		s.pos++
	}
	word := s.text[start:s.pos]
	if word == "AND" || word == "OR" || word == "NOT" {
		return Token{Kind: TokenName, Text: word, Pos: Pos(start)}, l, nil
	}
	return s.literal(Text, word, start, nil)
}

func (s *scanner) fault(pos int, format string, args ...any) error {
	return FaultAt(s.option, Pos(pos), "syntax.invalid", format, args...)
}

// array reads a JSON array of single values (URL Conventions, 5.1.1.14.5): a literal whose items are its values.
func (s *scanner) array() (t Token, list Literal, err error) {
	start := s.pos
	decoder := json.NewDecoder(strings.NewReader(s.text[start:]))
	decoder.UseNumber()
	var items []any
	if err := decoder.Decode(&items); err != nil {
		return t, list, s.fault(start, "the array is not JSON; write [1,2,3] or [\"a\",\"b\"], texts in double quotes")
	}
	s.pos += int(decoder.InputOffset())
	list = Literal{Class: Several, Text: s.text[start:s.pos], Option: s.option, Pos: Pos(start)}
	for i, item := range items {
		l, ok := s.element(item, start)
		if !ok {
			return t, list, s.fault(start, "item %d of the array is no single value: numbers, texts, true, false and null are", i+1)
		}
		list.Items = append(list.Items, l)
	}
	return Token{Kind: tokenArray, Pos: Pos(start)}, list, nil
}

// element is a member of a JSON array as a literal; true, false and null, which are names in the language, have no class. A text
// can be any value that JSON writes as one.
func (s *scanner) element(item any, start int) (l Literal, ok bool) {
	l = Literal{Option: s.option, Pos: Pos(start)}
	switch item := item.(type) {
	case nil:
		l.Text = "null"
	case bool:
		l.Text = strconv.FormatBool(item)
	case string:
		if strings.IndexByte(item, 0) >= 0 {
			return l, false
		}
		l.Class, l.Text = Segment, item
	case json.Number:
		l.Class, l.Text = Whole, item.String()
		if _, err := item.Int64(); err != nil {
			l.Class = Fraction
		}
		if strings.ContainsAny(l.Text, "eE") {
			l.Class = Floating
		}
	default:
		return l, false
	}
	return l, true
}

func (s *scanner) skipSpace() {
	for s.pos < len(s.text) {
		switch s.text[s.pos] {
		case ' ', '\t', '\n', '\r':
			s.pos++
		default:
			return
		}
	}
}

func isLetter(c byte) bool { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' }

func (s *scanner) digitAt(i int) bool { return i < len(s.text) && s.text[i] >= '0' && s.text[i] <= '9' }

func (s *scanner) wordAt(i int) bool {
	if i >= len(s.text) {
		return false
	}
	c := s.text[i]
	return isLetter(c) || c == '_' || c >= '0' && c <= '9' || c >= utf8.RuneSelf
}

// word passes over letters, digits and underscores.
func (s *scanner) word() {
	for s.pos < len(s.text) {
		c := s.text[s.pos]
		if c < utf8.RuneSelf {
			if !isLetter(c) && c != '_' && (c < '0' || c > '9') {
				return
			}
			s.pos++
			continue
		}
		r, size := utf8.DecodeRuneInString(s.text[s.pos:])
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) && !unicode.Is(unicode.Mn, r) && !unicode.Is(unicode.Mc, r) {
			return
		}
		s.pos += size
	}
}

// quoted reads a string; two quotes in it stand for one.
func (s *scanner) quoted() (string, error) {
	start := s.pos
	s.pos++
	doubled := false
	for {
		i := strings.IndexByte(s.text[s.pos:], '\'')
		if i < 0 {
			return "", s.fault(start, "the string is not closed: a quote is missing (inside a string a quote is written twice)")
		}
		s.pos += i + 1
		if s.pos < len(s.text) && s.text[s.pos] == '\'' {
			doubled = true
			s.pos++
			continue
		}
		text := s.text[start+1 : s.pos-1]
		if !utf8.ValidString(text) || strings.IndexByte(text, 0) >= 0 {
			return "", s.fault(start, "the string is not valid UTF-8 text, or holds a NUL character")
		}
		if doubled {
			text = strings.ReplaceAll(text, "''", "'")
		}
		return text, nil
	}
}

// name reads a name with an optional dollar sign and dots, or the literals that begin like one.
func (s *scanner) name() (t Token, l Literal, err error) {
	start := s.pos
	if n := GuidLength(s.text[start:]); n > 0 && !s.wordAt(start+n) {
		s.pos += n
		return s.literal(UUID, s.text[start:s.pos], start, nil)
	}
	if s.text[s.pos] == '$' {
		s.pos++
	}
	s.word()
	for s.pos+1 < len(s.text) && s.text[s.pos] == '.' && s.wordAt(s.pos+1) {
		s.pos++
		s.word()
	}
	text := s.text[start:s.pos]
	if text == "" || text == "$" {
		return t, l, s.foreignFault(start)
	}
	if s.pos < len(s.text) && s.text[s.pos] == '\'' && (strings.EqualFold(text, "duration") || strings.EqualFold(text, "binary")) {
		value, err := s.quoted()
		class := Period
		if strings.EqualFold(text, "binary") {
			class = Bytes
		}
		return s.literal(class, value, start, err)
	}
	// saltmere.call_status'expected', as 4.0 writes a member of an enumeration
	if s.pos < len(s.text) && s.text[s.pos] == '\'' && strings.Contains(text, ".") {
		value, err := s.quoted()
		return s.literal(Text, value, start, err)
	}
	if text == "INF" || text == "NaN" {
		return s.literal(Floating, text, start, nil)
	}
	return Token{Kind: TokenName, Text: text, Pos: Pos(start)}, l, nil
}

// number reads whatever begins with a digit or a sign: numbers, dates, times, timestamps, uuids.
func (s *scanner) number() (t Token, l Literal, err error) {
	start := s.pos
	rest := s.text[start:]
	if n := GuidLength(rest); n > 0 && !s.wordAt(start+n) {
		s.pos += n
		return s.literal(UUID, s.text[start:s.pos], start, nil)
	}
	if n := dateLength(rest); n > 0 {
		s.pos += n
		if s.pos < len(s.text) && (s.text[s.pos] == 'T' || s.text[s.pos] == 't') && s.digitAt(s.pos+1) {
			s.pos++
			s.clock()
			text := s.text[start:s.pos]
			zone := s.zone()
			return s.literal(Moment, text+zone, start, nil)
		}
		if s.wordAt(s.pos) {
			return t, l, s.fault(start, "this is neither a date nor a timestamp; write 2026-07-01 or 2026-07-01T12:30:00Z")
		}
		return s.literal(Day, s.text[start:s.pos], start, nil)
	}
	if len(rest) >= 5 && rest[2] == ':' && digits(rest[:2]) && digits(rest[3:5]) {
		s.clock()
		return s.literal(Clock, s.text[start:s.pos], start, nil)
	}
	s.pos++
	s.digits()
	class := Whole
	if s.pos < len(s.text) && s.text[s.pos] == '.' && s.digitAt(s.pos+1) {
		class = Fraction
		s.pos++
		s.digits()
	}
	if s.pos < len(s.text) && (s.text[s.pos] == 'e' || s.text[s.pos] == 'E') {
		mark := s.pos
		s.pos++
		if s.pos < len(s.text) && (s.text[s.pos] == '-' || s.text[s.pos] == '+') {
			s.pos++
		}
		if !s.digitAt(s.pos) {
			s.pos = mark
		} else {
			class = Floating
			s.digits()
		}
	}
	if s.wordAt(s.pos) {
		s.word()
		return t, l, s.fault(start, "%q is neither a number nor a name; text stands in single quotes: %s", s.text[start:s.pos],
			QuoteText(s.text[start:s.pos]))
	}
	text := strings.TrimPrefix(s.text[start:s.pos], "+")
	if len(text) > 1000 {
		return t, l, s.fault(start, "the number has more than 1000 digits")
	}
	if class == Whole {
		if _, err := strconv.ParseInt(text, 10, 64); err != nil {
			class = Fraction
		}
	}
	return s.literal(class, text, start, nil)
}

func (s *scanner) digits() {
	for s.digitAt(s.pos) {
		s.pos++
	}
}

// clock passes over 12:30:00.5; what is wrong with it is reported when its value is read.
func (s *scanner) clock() {
	for s.digitAt(s.pos) || s.pos < len(s.text) && s.text[s.pos] == ':' && s.digitAt(s.pos+1) || s.pos < len(s.text) && s.text[s.pos] == '.' &&
		s.digitAt(s.pos+1) {
		s.pos++
	}
}

// zone reads Z or an offset. A plus sign that was not percent-encoded has become a blank on its way; it still means plus.
func (s *scanner) zone() string {
	if s.pos >= len(s.text) {
		return ""
	}
	switch c := s.text[s.pos]; c {
	case 'Z', 'z':
		s.pos++
		return "Z"
	case '+', '-', ' ':
		rest := s.text[s.pos+1:]
		if len(rest) >= 5 && digits(rest[:2]) && rest[2] == ':' && digits(rest[3:5]) {
			s.pos += 6
			if c == ' ' {
				c = '+'
			}
			return string(c) + rest[:5]
		}
	}
	return ""
}

func digits(s string) bool {
	for i := range len(s) {
		if s[i] < '0' || s[i] > '9' {
			return false
		}
	}
	return s != ""
}

// dateLength is how long the date is that the text begins with, 0 where it begins with none.
func dateLength(s string) int {
	n := YearLength(s)
	if n > 0 && len(s) >= n+6 && digits(s[n+1:n+3]) && s[n+3] == '-' && digits(s[n+4:n+6]) {
		return n + 6
	}
	return 0
}

// YearLength is how long the year is that precedes a dash: four digits, or more and a sign.
func YearLength(s string) int {
	n := 0
	if strings.HasPrefix(s, "-") {
		n++
	}
	first := n
	for n < len(s) && s[n] >= '0' && s[n] <= '9' {
		n++
	}
	if n-first >= 4 && n < len(s) && s[n] == '-' {
		return n
	}
	return 0
}

// GuidLength is 36 where the text begins with a uuid, else 0.
func GuidLength(s string) int {
	if len(s) < 36 {
		return 0
	}
	for i := range 36 {
		c := s[i]
		if i == 8 || i == 13 || i == 18 || i == 23 {
			if c != '-' {
				return 0
			}
			continue
		}
		if (c < '0' || c > '9') && (c < 'a' || c > 'f') && (c < 'A' || c > 'F') {
			return 0
		}
	}
	return 36
}
