package request

import (
	"encoding/json"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"eagerwindow/internal/core/fault"
)

// scanner cuts the text of one option into tokens. While it does, it writes the shape: the tokens with a letter in place of
// each literal. Two requests of one shape differ in nothing but their literals.
type scanner struct {
	text     string
	option   string
	pos      int
	tokens   []token
	literals []Literal
	shape    []byte
	segments []string // of the path
	options  []option // of the request
	parens   int
	aliases  map[string]string // what parameter aliases stand for
	aliased  int               // how deep aliases stand in aliases
}

const maxParens = 64

// scan appends the option's tokens, literals and shape to what is there; base counts the literals that stand before.
func (s *scanner) scan() error {
	for {
		s.skipSpace()
		if s.pos >= len(s.text) {
			s.tokens = append(s.tokens, token{kind: tokenEnd, pos: s.pos})
			return nil
		}
		start := s.pos
		c := s.text[start]
		switch {
		case c == '\'':
			text, err := s.quoted()
			if err != nil {
				return err
			}
			s.literal(Text, text, start)
		case c >= '0' && c <= '9', (c == '-' || c == '+') && s.digitAt(start+1):
			if err := s.number(); err != nil {
				return err
			}
		case c == '-' && strings.HasPrefix(s.text[start:], "-INF") && !s.wordAt(start+4):
			s.pos += 4
			s.literal(Floating, "-INF", start)
		case c == '@':
			s.pos++
			s.word()
			if s.pos == start+1 {
				return s.fault(start, `a name is missing after "@"`)
			}
			if err := s.alias(s.text[start:s.pos], start); err != nil {
				return err
			}
		case c == '$' || c == '_' || c >= utf8.RuneSelf || isLetter(c):
			if err := s.name(); err != nil {
				return err
			}
		case c == '[':
			if err := s.array(); err != nil {
				return err
			}
		case strings.IndexByte("(),;/:=*-", c) >= 0:
			s.pos++
			s.add(token{kind: tokenMark, mark: c, pos: start})
			switch c {
			case '=':
				if err := s.nestedSearch(); err != nil {
					return err
				}
			case '(':
				if s.parens++; s.parens > maxParens {
					return s.fault(start, "brackets are nested more than %d deep", maxParens)
				}
				if n := len(s.tokens); s.option == "apply" && n > 1 && s.tokens[n-2].kind == tokenName && strings.EqualFold(s.tokens[n-2].text, "search") {
					if err := s.searchWords(); err != nil {
						return err
					}
				}
			case ')':
				s.parens--
				s.foldList()
			}
		default:
			r, _ := utf8.DecodeRuneInString(s.text[start:])
			return s.fault(start, "unexpected character %q", r)
		}
	}
}

// alias puts what an alias stands for in its place. One that is not given stays a token: only row rules know @caller.
func (s *scanner) alias(name string, start int) error {
	text, given := s.aliases[name]
	if !given {
		s.add(token{kind: tokenAlias, text: name, pos: start})
		return nil
	}
	if s.aliased++; s.aliased > 8 {
		return s.fault(start, "%s stands for itself", name)
	}
	inner := scanner{text: text, option: name, tokens: s.tokens, literals: s.literals, shape: s.shape, aliases: s.aliases, aliased: s.aliased, parens: s.parens}
	if err := inner.scan(); err != nil {
		return err
	}
	s.aliased--
	s.tokens, s.literals, s.shape = inner.tokens[:len(inner.tokens)-1], inner.literals, inner.shape // without its end
	return nil
}

// scanSearch scans the text of search: words, "phrases", AND, OR, NOT and brackets (URL Conventions, 5.1.8).
func (s *scanner) scanSearch() error {
	if err := s.searchWords(); err != nil {
		return err
	}
	if s.pos < len(s.text) {
		return s.fault(s.pos, "unexpected %q", s.text[s.pos])
	}
	s.tokens = append(s.tokens, token{kind: tokenEnd, pos: s.pos})
	return nil
}

// nestedSearch scans search=… inside expand(…), where it ends at a semicolon or at the bracket that closes the options.
func (s *scanner) nestedSearch() error {
	n := len(s.tokens)
	if s.option != "expand" || n < 2 || s.tokens[n-2].kind != tokenName || !strings.EqualFold(strings.TrimPrefix(s.tokens[n-2].text, "$"), "search") {
		return nil
	}
	return s.searchWords()
}

func (s *scanner) searchWords() error {
	depth := 0
	for {
		s.skipSpace()
		if s.pos >= len(s.text) || s.text[s.pos] == ';' && depth == 0 {
			return nil
		}
		start := s.pos
		switch c := s.text[s.pos]; c {
		case '(', ')':
			if c == ')' && depth == 0 {
				return nil
			}
			s.pos++
			if depth++; c == ')' {
				depth -= 2
			}
			if depth > maxParens {
				return s.fault(start, "brackets are nested more than %d deep", maxParens)
			}
			s.add(token{kind: tokenMark, mark: c, pos: start})
		case '"':
			end := strings.IndexByte(s.text[start+1:], '"')
			if end < 0 {
				return s.fault(start, "the phrase is not closed: a double quote is missing")
			}
			s.pos = start + end + 2
			s.literal(Text, s.text[start+1:s.pos-1], start)
		default:
			for s.pos < len(s.text) && strings.IndexByte(" \t\n\r();\"", s.text[s.pos]) < 0 {
				s.pos++
			}
			if word := s.text[start:s.pos]; word == "AND" || word == "OR" || word == "NOT" {
				s.add(token{kind: tokenName, text: word, pos: start})
			} else {
				if s.pos == start {
					return s.fault(start, "unexpected %q", s.text[start])
				}
				s.literal(Text, word, start)
			}
		}
	}
}

func (s *scanner) fault(pos int, format string, args ...any) error {
	return faultAt(s.option, pos, "syntax.invalid", format, args...)
}

// faultAt is a fault with its place, counted from 1. It stands after the first part of the message: what is wrong, where, and
// then what would be right.
func faultAt(option string, pos int, code, format string, args ...any) *fault.Fault {
	f := fault.New(fault.Invalid, code, format, args...)
	wrong, right, both := strings.Cut(f.Message, "; ")
	f.Message = wrong + " in " + option + " at " + strconv.Itoa(pos+1)
	if both {
		f.Message += "; " + right
	}
	return f.On(option)
}

// add appends a token that is no literal, to the shape too. A blank parts words that would run together.
func (s *scanner) add(t token) {
	s.tokens = append(s.tokens, t)
	if t.kind == tokenMark {
		s.shape = append(s.shape, t.mark)
		return
	}
	s.shape = append(s.shape, ' ')
	s.shape = append(s.shape, t.text...)
}

func (s *scanner) literal(class Class, text string, start int) {
	s.tokens = append(s.tokens, token{kind: tokenLiteral, literal: len(s.literals), pos: start})
	s.literals = append(s.literals, Literal{Class: class, Text: text, Option: s.option, Pos: start})
	if n := len(s.tokens); n > 2 && s.tokens[n-2].mark == '=' && strings.EqualFold(strings.TrimPrefix(s.tokens[n-3].text, "$"), "levels") {
		s.shape = append(append(s.shape, ' '), text...) // how deep is no argument: it makes another statement
		return
	}
	s.shape = append(s.shape, ' ', byte(class), '?')
}

// foldList makes one literal of `in ( literal , literal … )`, so that the length of the list is no part of the shape. A list
// of mixed classes, or with null in it, stays as it is.
func (s *scanner) foldList() {
	t := s.tokens
	i := len(t) - 2
	for i > 0 && t[i].kind == tokenLiteral && t[i-1].kind == tokenMark && t[i-1].mark == ',' {
		i -= 2
	}
	if i < 2 || t[i].kind != tokenLiteral || t[i-1].kind != tokenMark || t[i-1].mark != '(' || t[i-2].kind != tokenName || !strings.EqualFold(t[i-2].text, "in") {
		return
	}
	first := t[i].literal
	class := s.literals[first].Class
	for _, l := range s.literals[first:] {
		if l.Class != class {
			return
		}
	}
	open := t[i-1]
	list := Literal{Class: Several, Items: append([]Literal(nil), s.literals[first:]...), Option: s.option, Pos: open.pos}
	s.literals = append(s.literals[:first], list)
	s.tokens = append(t[:i-1], token{kind: tokenLiteral, literal: first, pos: open.pos})
	cut := len(s.shape)
	for s.shape[cut-1] != '(' {
		cut--
	}
	s.shape = append(s.shape[:cut-1], ' ', byte(Several), byte(class), '?')
}

// array reads a JSON array of single values (URL Conventions, 5.1.1.14.5). Where they are of one class it is one literal, as
// the list of an in is; else it stands as a list in brackets.
func (s *scanner) array() error {
	start := s.pos
	decoder := json.NewDecoder(strings.NewReader(s.text[start:]))
	decoder.UseNumber()
	var items []any
	if err := decoder.Decode(&items); err != nil {
		return s.fault(start, "the array is not JSON; write [1,2,3] or [\"a\",\"b\"], texts in double quotes")
	}
	s.pos += int(decoder.InputOffset())
	list := Literal{Class: Several, Text: s.text[start:s.pos], Option: s.option, Pos: start}
	class, mixed := Segment, false
	for i, item := range items {
		l, ok := s.element(item, start)
		if !ok {
			return s.fault(start, "item %d of the array is no single value: numbers, texts, true, false and null are", i+1)
		}
		mixed = mixed || l.Class == 0 || i > 0 && l.Class != class
		class = l.Class
		list.Items = append(list.Items, l)
	}
	if !mixed {
		s.tokens = append(s.tokens, token{kind: tokenLiteral, literal: len(s.literals), pos: start})
		s.literals = append(s.literals, list)
		s.shape = append(s.shape, ' ', byte(Several), byte(class), '?')
		if len(items) == 0 {
			s.shape = append(s.shape, '0') // nothing in it tells what it holds
		}
		return nil
	}
	s.add(token{kind: tokenMark, mark: '(', pos: start})
	for i, l := range list.Items {
		if i > 0 {
			s.add(token{kind: tokenMark, mark: ',', pos: start})
		}
		if l.Class == 0 {
			s.add(token{kind: tokenName, text: l.Text, pos: start})
		} else {
			s.literal(l.Class, l.Text, start)
		}
	}
	s.add(token{kind: tokenMark, mark: ')', pos: start})
	return nil
}

// element is a member of a JSON array as a literal; true, false and null, which are names in the language, have no class. A text
// can be any value that JSON writes as one.
func (s *scanner) element(item any, start int) (l Literal, ok bool) {
	l = Literal{Option: s.option, Pos: start}
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
func (s *scanner) name() error {
	start := s.pos
	if n := guidLength(s.text[start:]); n > 0 && !s.wordAt(start+n) {
		s.pos += n
		s.literal(UUID, s.text[start:s.pos], start)
		return nil
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
		r, _ := utf8.DecodeRuneInString(s.text[start:])
		return s.fault(start, "unexpected character %q", r)
	}
	if s.pos < len(s.text) && s.text[s.pos] == '\'' && (strings.EqualFold(text, "duration") || strings.EqualFold(text, "binary")) {
		value, err := s.quoted()
		if err != nil {
			return err
		}
		class := Period
		if strings.EqualFold(text, "binary") {
			class = Bytes
		}
		s.literal(class, value, start)
		return nil
	}
	if s.pos < len(s.text) && s.text[s.pos] == '\'' && strings.Contains(text, ".") { // saltmere.call_status'expected', as 4.0 writes a member of an enumeration
		value, err := s.quoted()
		if err != nil {
			return err
		}
		s.literal(Text, value, start)
		return nil
	}
	if text == "INF" || text == "NaN" {
		s.literal(Floating, text, start)
		return nil
	}
	s.add(token{kind: tokenName, text: text, pos: start})
	return nil
}

// number reads whatever begins with a digit or a sign: numbers, dates, times, timestamps, uuids.
func (s *scanner) number() error {
	start := s.pos
	rest := s.text[start:]
	if n := guidLength(rest); n > 0 && !s.wordAt(start+n) {
		s.pos += n
		s.literal(UUID, s.text[start:s.pos], start)
		return nil
	}
	if n := dateLength(rest); n > 0 {
		s.pos += n
		if s.pos < len(s.text) && (s.text[s.pos] == 'T' || s.text[s.pos] == 't') && s.digitAt(s.pos+1) {
			s.pos++
			s.clock()
			text := s.text[start:s.pos]
			zone := s.zone()
			s.literal(Moment, text+zone, start)
			return nil
		}
		if s.wordAt(s.pos) {
			return s.fault(start, "this is neither a date nor a timestamp; write 2026-07-01 or 2026-07-01T12:30:00Z")
		}
		s.literal(Day, s.text[start:s.pos], start)
		return nil
	}
	if len(rest) >= 5 && rest[2] == ':' && digits(rest[:2]) && digits(rest[3:5]) {
		s.clock()
		s.literal(Clock, s.text[start:s.pos], start)
		return nil
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
		return s.fault(start, "%q is neither a number nor a name; text stands in single quotes: %s", s.text[start:s.pos], quoteText(s.text[start:s.pos]))
	}
	text := strings.TrimPrefix(s.text[start:s.pos], "+")
	if len(text) > 1000 {
		return s.fault(start, "the number has more than 1000 digits")
	}
	if class == Whole {
		if _, err := strconv.ParseInt(text, 10, 64); err != nil {
			class = Fraction
		}
	}
	s.literal(class, text, start)
	return nil
}

func (s *scanner) digits() {
	for s.digitAt(s.pos) {
		s.pos++
	}
}

// clock passes over 12:30:00.5; what is wrong with it is told when its value is read.
func (s *scanner) clock() {
	for s.digitAt(s.pos) || s.pos < len(s.text) && s.text[s.pos] == ':' && s.digitAt(s.pos+1) || s.pos < len(s.text) && s.text[s.pos] == '.' && s.digitAt(s.pos+1) {
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
	n := yearLength(s)
	if n > 0 && len(s) >= n+6 && digits(s[n+1:n+3]) && s[n+3] == '-' && digits(s[n+4:n+6]) {
		return n + 6
	}
	return 0
}

// yearLength is how long the year is that stands before a dash: four digits, or more and a sign.
func yearLength(s string) int {
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

// guidLength is 36 where the text begins with a uuid, else 0.
func guidLength(s string) int {
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
