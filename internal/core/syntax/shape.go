package syntax

import (
	"strings"
)

// Reader cuts the texts of a request into tokens and, while it does, writes its shape: the tokens with a letter in place of each literal.
// Two requests of one shape differ in nothing but their literals.
type Reader struct {
	Tokens   []Token
	Literals []Literal
	Shape    []byte
	Aliases  map[string]string // what parameter aliases stand for
	Request  bool              // an alias that is not given is null
	aliased  int               // how deep aliases stand in aliases
	replaced int               // how many bytes have been read in the place of aliases
	brackets int
}

// maxReplaced is how many bytes the aliases of one request may stand for: within one another they could multiply without end.
const maxReplaced = 256 << 10

const maxBrackets = 64

// Scan appends the tokens of one option, its literals and shape to what is there, and returns its tokens.
func (r *Reader) Scan(option, text string) ([]Token, error) {
	first := len(r.Tokens)
	s := scanner{text: text, option: option}
	r.brackets = 0
	if option == "search" {
		if err := r.searchWords(&s); err != nil {
			return nil, err
		}
		if s.pos < len(text) {
			return nil, s.fault(s.pos, "unexpected %q", text[s.pos])
		}
		r.Tokens = append(r.Tokens, Token{Kind: TokenEnd, Pos: Pos(s.pos)})
	} else if err := r.words(&s); err != nil {
		return nil, err
	}
	return r.Tokens[first:len(r.Tokens):len(r.Tokens)], nil
}

// words appends the tokens of a text up to its end.
func (r *Reader) words(s *scanner) error {
	for {
		before := s.pos
		t, l, err := s.next()
		if err != nil {
			return err
		}
		if r.aliased > 0 {
			if r.replaced += 1 + s.pos - before; r.replaced > maxReplaced {
				return FaultAt(s.option, t.Pos, "limit.expression", "the aliases of the request stand for more than %d bytes", maxReplaced)
			}
		}
		switch t.Kind {
		case TokenEnd:
			r.Tokens = append(r.Tokens, t)
			return nil
		case TokenLiteral:
			r.literal(l)
		case tokenArray:
			r.array(l)
		case tokenAlias:
			err = r.alias(s, t)
		case tokenMark:
			err = r.mark(s, t)
		default:
			r.add(t)
		}
		if err != nil {
			return err
		}
	}
}

// mark adds a mark, and after one that begins a search, its words; these follow other rules.
func (r *Reader) mark(s *scanner, t Token) error {
	r.add(t)
	switch t.mark {
	case '=':
		if r.follows("search") {
			return r.searchWords(s)
		}
	case '(':
		if r.brackets++; r.brackets > maxBrackets {
			return s.fault(int(t.Pos), "brackets are nested more than %d deep", maxBrackets)
		}
		if s.option == "apply" && r.follows("search") {
			return r.searchWords(s)
		}
	case ')':
		r.brackets--
		r.foldList()
	}
	return nil
}

// follows reports whether the last token follows that name.
func (r *Reader) follows(name string) bool {
	n := len(r.Tokens)
	return n > 1 && r.Tokens[n-2].Kind == TokenName && strings.EqualFold(strings.TrimPrefix(r.Tokens[n-2].Text, "$"), name)
}

// searchWords appends the tokens of a search, which ends with the text, at a semicolon, or at the bracket around it.
func (r *Reader) searchWords(s *scanner) error {
	depth := 0
	for {
		before := s.pos
		t, l, err := s.nextTerm()
		switch {
		case err != nil:
			return err
		case t.Kind == TokenEnd:
			return nil
		case t.Kind == TokenLiteral:
			r.literal(l)
			continue
		case t.mark == ';' && depth == 0, t.mark == ')' && depth == 0:
			s.pos = before
			s.skipSpace()
			return nil
		case t.mark == ';':
			return s.fault(int(t.Pos), "unexpected %q", ';')
		case t.mark == '(':
			depth++
		case t.mark == ')':
			depth--
		}
		if depth > maxBrackets {
			return s.fault(int(t.Pos), "brackets are nested more than %d deep", maxBrackets)
		}
		r.add(t)
	}
}

// alias puts what an alias stands for in its place. One that is not given is null in a request; in a document it stays a token, as row
// rules know @caller.
func (r *Reader) alias(s *scanner, t Token) error {
	text, given := r.Aliases[t.Text]
	if !given && r.Request {
		t.Kind, t.Text = TokenName, "null" // URL Conventions, 5.3
	}
	if !given {
		r.add(t)
		return nil
	}
	if r.aliased++; r.aliased > 8 {
		return s.fault(int(t.Pos), "%s stands for itself", t.Text)
	}
	if err := r.words(&scanner{text: text, option: t.Text}); err != nil {
		return err
	}
	r.aliased--
	r.Tokens = r.Tokens[:len(r.Tokens)-1] // without its end
	return nil
}

// add appends a token that is no literal, to the shape too. A blank separates words that would run together.
func (r *Reader) add(t Token) {
	r.Tokens = append(r.Tokens, t)
	if t.Kind == tokenMark {
		r.Shape = append(r.Shape, t.mark)
		return
	}
	r.Shape = append(append(r.Shape, ' '), t.Text...)
}

func (r *Reader) literal(l Literal) {
	r.Tokens = append(r.Tokens, Token{Kind: TokenLiteral, Literal: len(r.Literals), Pos: l.Pos})
	r.Literals = append(r.Literals, l)
	if n := len(r.Tokens); n > 2 && r.Tokens[n-2].mark == '=' && strings.EqualFold(strings.TrimPrefix(r.Tokens[n-3].Text, "$"), "levels") {
		r.Shape = append(append(r.Shape, ' '), l.Text...) // how deep is no argument: it makes another statement
		return
	}
	r.Shape = append(r.Shape, ' ', byte(l.Class), '?')
}

// Segment adds a literal that a path gives as a segment.
func (r *Reader) Segment(text string) {
	r.literal(Literal{Class: Segment, Text: text, Option: "path"})
}

// Value adds a literal that is no part of the shape, and returns which one it is.
func (r *Reader) Value(l Literal) int {
	r.Literals = append(r.Literals, l)
	return len(r.Literals) - 1
}

// foldList makes one literal of `in ( literal , literal … )`, so that the length of the list is no part of the shape. A list
// of mixed classes, or with null in it, stays as it is.
func (r *Reader) foldList() {
	t := r.Tokens
	i := len(t) - 2
	for i > 0 && t[i].Kind == TokenLiteral && t[i-1].Kind == tokenMark && t[i-1].mark == ',' {
		i -= 2
	}
	if i < 2 || t[i].Kind != TokenLiteral || t[i-1].Kind != tokenMark || t[i-1].mark != '(' || t[i-2].Kind != TokenName ||
		!strings.EqualFold(t[i-2].Text, "in") {
		return
	}
	first := t[i].Literal
	class := r.Literals[first].Class
	for _, l := range r.Literals[first:] {
		if l.Class != class {
			return
		}
	}
	open := t[i-1]
	list := Literal{Class: Several, Items: append([]Literal(nil), r.Literals[first:]...), Option: r.Literals[first].Option, Pos: open.Pos}
	r.Literals = append(r.Literals[:first], list)
	r.Tokens = append(t[:i-1], Token{Kind: TokenLiteral, Literal: first, Pos: open.Pos})
	cut := len(r.Shape)
	for r.Shape[cut-1] != '(' {
		cut--
	}
	r.Shape = append(r.Shape[:cut-1], ' ', byte(Several), byte(class), '?')
}

// array adds a JSON array. Where its values are of one class it is one literal, as the list of an in is; else it stands as a list in
// brackets.
func (r *Reader) array(list Literal) {
	class, mixed := Segment, false
	for i, l := range list.Items {
		mixed = mixed || l.Class == 0 || i > 0 && l.Class != class
		class = l.Class
	}
	if !mixed {
		r.Tokens = append(r.Tokens, Token{Kind: TokenLiteral, Literal: len(r.Literals), Pos: list.Pos})
		r.Literals = append(r.Literals, list)
		r.Shape = append(r.Shape, ' ', byte(Several), byte(class), '?')
		if len(list.Items) == 0 {
			r.Shape = append(r.Shape, '0') // nothing in it tells what it holds
		}
		return
	}
	r.add(Token{Kind: tokenMark, mark: '(', Pos: list.Pos})
	for i, l := range list.Items {
		if i > 0 {
			r.add(Token{Kind: tokenMark, mark: ',', Pos: list.Pos})
		}
		if l.Class == 0 {
			r.add(Token{Kind: TokenName, Text: l.Text, Pos: list.Pos})
		} else {
			r.literal(l)
		}
	}
	r.add(Token{Kind: tokenMark, mark: ')', Pos: list.Pos})
}
