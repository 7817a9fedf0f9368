package syntax

import (
	"strings"
	"unicode/utf8"
)

// People who know other languages write their operators and quotes. What is here rewrites such a text, so that the message about it can
// show what to write instead.

// foreign are operators of other languages and what they are called here; longer ones come first.
var foreign = []struct{ symbol, word string }{
	{"===", "eq"}, {"!==", "ne"}, {"&&", "and"}, {"||", "or"}, {"==", "eq"}, {"!=", "ne"}, {"<>", "ne"}, {">=", "ge"}, {"<=", "le"},
	{">", "gt"}, {"<", "lt"}, {"=", "eq"}, {"!", "not"}, {"+", "add"}, {"%", "mod"}, {"*", "mul"}, {"&", "and"}, {"|", "or"},
}

// foreignQuotes are the marks that other languages, and text processors, put around a text.
var foreignQuotes = map[rune]rune{'"': '"', '“': '”', '„': '“', '‘': '’', '’': '’', '`': '`'}

// mostRewritten is how long an expression may be that a message shows whole.
const mostRewritten = 120

// attempt is the option of a text that is read to see whether it can be: its faults are seen by nobody, and teach nothing.
const attempt = "attempt"

// foreignAt is the operator of another language that a text begins with.
func foreignAt(text string) (symbol, word string) {
	for _, f := range foreign {
		if strings.HasPrefix(text, f.symbol) {
			return f.symbol, f.word
		}
	}
	return "", ""
}

// rewritten is an expression with the operators and quotes of this language in the place of others', or "" where nothing was replaced or
// what comes out can't be read either.
func rewritten(text string) string {
	if len(text) > mostRewritten {
		return ""
	}
	var out strings.Builder
	for i := 0; i < len(text); {
		r, size := utf8.DecodeRuneInString(text[i:])
		if r == '\'' {
			end := quotedEnd(text[i:], '\'')
			out.WriteString(text[i : i+end])
			i += end
			continue
		}
		if closing, is := foreignQuotes[r]; is {
			end := strings.IndexRune(text[i+size:], closing)
			if end < 0 {
				return ""
			}
			out.WriteString(QuoteText(text[i+size : i+size+end]))
			i += size + end + utf8.RuneLen(closing)
			continue
		}
		if symbol, word := foreignAt(text[i:]); symbol != "" {
			out.WriteString(strings.Repeat(" ", min(1, len(strings.TrimRight(out.String(), " ")))))
			out.WriteString(word + " ")
			i += len(symbol)
			continue
		}
		out.WriteString(text[i : i+size])
		i += size
	}
	words := strings.Join(strings.Fields(out.String()), " ")
	for _, is := range [][2]string{{" is not null", " ne null"}, {" IS NOT NULL", " ne null"}, {" is null", " eq null"}, {" IS NULL",
		" eq null"}} {
		words = strings.ReplaceAll(words, is[0], is[1])
	}
	p, err := parserOf(attempt, words)
	if err != nil || words == strings.Join(strings.Fields(text), " ") {
		return ""
	}
	if _, err := p.Expression(1); err != nil || p.End() != nil {
		return ""
	}
	return words
}

// quotedEnd is where the text in quotes ends that a text begins with.
func quotedEnd(text string, quote byte) int {
	end := strings.IndexByte(text[1:], quote)
	if end < 0 {
		return len(text)
	}
	return end + 2
}

// foreignFault is the fault of a character that begins no token: where it is known from elsewhere, with what to write.
func (s *scanner) foreignFault(start int) error {
	r, _ := utf8.DecodeRuneInString(s.text[start:])
	what, instead := "unexpected character %q", ""
	shown := any(r)
	if symbol, word := foreignAt(s.text[start:]); symbol != "" {
		what, shown, instead = "%q is no operator here", symbol, "the operator is "+word
	}
	if _, is := foreignQuotes[r]; is {
		what, shown, instead = "unexpected %q", string(r), "text is written in single quotes, as in 'text'"
	}
	if s.option == attempt {
		return s.fault(start, what, shown)
	}
	if better := rewritten(s.text); better != "" {
		instead = "write " + better
	}
	if instead == "" {
		return s.fault(start, what, shown)
	}
	return s.fault(start, what+"; %s", shown, instead)
}

// functionWords are functions that other languages write between their arguments, and words that stand for them.
var functionWords = map[string]string{"contains": "contains", "startswith": "startswith", "endswith": "endswith", "like": "contains",
	"ilike": "contains", "matches": "matchesPattern", "includes": "contains", "starts_with": "startswith", "ends_with": "endswith"}

// wordAfter is the fault of a name after an expression, where an operator or the end could be; nil where the name is none that other
// languages have.
func (p *Parser) wordAfter(left Node) error {
	t := p.Peek()
	word := strings.ToLower(t.Text)
	next := p.Tokens[min(p.I+1, len(p.Tokens)-1)]
	if function := functionWords[word]; function != "" && next.Kind == TokenLiteral {
		text := p.Literals[next.Literal].Text
		switch starts, ends := strings.HasSuffix(text, "%"), strings.HasPrefix(text, "%"); {
		case starts && !ends:
			function = "startswith"
		case ends && !starts:
			function = "endswith"
		}
		argument := QuoteText(strings.Trim(text, "%"))
		pattern := function + "(" + left.String() + "," + argument + ")"
		if word == "ilike" {
			pattern = function + "(tolower(" + left.String() + ")," + strings.ToLower(argument) + ")"
		}
		return p.fault(t.Pos, "%q is no operator here; write %s", t.Text, pattern)
	}
	switch {
	case word == "is" && next.Kind == TokenName && strings.EqualFold(next.Text, "not"):
		return p.fault(t.Pos, "%q is no operator here; write %s ne null", t.Text, left)
	case word == "is":
		return p.fault(t.Pos, "%q is no operator here; write %s eq null", t.Text, left)
	case word == "between":
		return p.fault(t.Pos, "%q is no operator here; write %s ge … and %s le …", t.Text, left, left)
	}
	if b, is := left.(*BinaryNode); is {
		if path, is := b.Right.(*PathNode); is && len(path.Segments) == 1 {
			return p.fault(t.Pos, "unexpected %q; text is written in single quotes: '%s %s'", t.Text, path, t.Text)
		}
	}
	return nil
}
