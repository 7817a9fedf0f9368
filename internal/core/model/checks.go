package model

import (
	"cmp"
	"fmt"
	"math"
	"math/big"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"

	"eagerwindow/internal/core/catalog"
)

// Check is what a check constraint asks of the values of one field, as far as it is simple enough to be told before the
// database is asked. A null meets every check.
type Check struct {
	Operator Comparison
	Operand  *big.Rat // of a comparison
	Text     string   // the operand, the pattern
	Values   []string // of one of a list
	bound    float64
	pattern  *regexp.Regexp
}

// Comparison is what a check compares, and how.
type Comparison string

// The comparisons. Shorter and Longer are of the number of characters, and hold for the operand itself too.
const (
	Less    Comparison = "<"
	AtMost  Comparison = "<="
	More    Comparison = ">"
	AtLeast Comparison = ">="
	Differs Comparison = "<>"
	Matches Comparison = "~"
	OneOf   Comparison = "in"
	Shorter Comparison = "length <="
	Longer  Comparison = "length >="
)

// checksOf finds the simple checks of a column: those of its table that speak of it alone, and those of its domain.
func checksOf(t *catalog.Table, c *catalog.Column) []Check {
	var out []Check
	for _, check := range t.Checks {
		if len(check.Columns) == 1 && check.Columns[0] == c.Name {
			out = append(out, readCheck(check.Expression, c.Name)...)
		}
	}
	for of := c.Type; of.Kind == catalog.Domain; of = of.Element {
		for _, check := range of.Checks {
			out = append(out, readCheck(check.Expression, "VALUE")...)
		}
	}
	return out
}

// What PostgreSQL prints of an expression (pg_get_expr): every operand in brackets or cast.
var (
	comparison = regexp.MustCompile(`^(<=|>=|<>|<|>) \(?'?(-?[0-9]+(?:\.[0-9]+)?)'?\)?(?:::[a-z ]+)?$`)
	lengths    = regexp.MustCompile(`^(<=|>=|<|>|=) \(?([0-9]+)\)?$`)
	matching   = regexp.MustCompile(`^~ '((?:[^']|'')*)'::text$`)
	listed     = regexp.MustCompile(`^= ANY \(\(?ARRAY\[((?:'(?:[^']|'')*'::[a-z_." ]+(?:, )?)+)\](?:\)?::text\[\])?\)$`)
	quoted     = regexp.MustCompile(`'((?:[^']|'')*)'::`)
	// sober patterns mean the same to PostgreSQL and to Go.
	sober = regexp.MustCompile(`^[A-Za-z0-9^$\[\]{},\-+*?.|()_ /:@#]*$`)
)

// readCheck reads what it can of an expression over one column; parts that it can't read are left to the database.
func readCheck(expression, name string) []Check {
	var out []Check
	for _, term := range conjunction(expression) {
		subject, rest, ok := subjectOf(term, name)
		if !ok {
			continue
		}
		if subject == "length" {
			out = append(out, lengthCheck(rest)...)
		} else if c, ok := valueCheck(rest); ok {
			out = append(out, c)
		}
	}
	return out
}

// subjectOf finds what a term speaks of, the column or its length, and what it says.
func subjectOf(term, name string) (subject, rest string, ok bool) {
	for _, column := range []string{name, catalog.Quote(name)} {
		for _, form := range []string{column, "(" + column + ")::text"} {
			if rest, ok := strings.CutPrefix(term, form+" "); ok {
				return "value", rest, true
			}
			for _, f := range []string{"length", "char_length"} {
				if rest, ok := strings.CutPrefix(term, f+"("+form+") "); ok {
					return "length", rest, true
				}
			}
		}
	}
	return "", "", false
}

func lengthCheck(rest string) []Check {
	m := lengths.FindStringSubmatch(rest)
	if m == nil {
		return nil
	}
	n, _ := new(big.Rat).SetString(m[2]) // digits
	one := big.NewRat(1, 1)
	of := func(c Comparison, n *big.Rat) Check { return compared(c, n, n.RatString()) }
	switch m[1] {
	case "<=":
		return []Check{of(Shorter, n)}
	case "<":
		return []Check{of(Shorter, n.Sub(n, one))}
	case ">=":
		return []Check{of(Longer, n)}
	case ">":
		return []Check{of(Longer, n.Add(n, one))}
	}
	return []Check{of(Longer, n), of(Shorter, n)}
}

func compared(c Comparison, n *big.Rat, text string) Check {
	bound, _ := n.Float64()
	return Check{Operator: c, Operand: n, Text: text, bound: bound}
}

func valueCheck(rest string) (Check, bool) {
	if m := comparison.FindStringSubmatch(rest); m != nil {
		n, ok := new(big.Rat).SetString(m[2])
		return compared(Comparison(m[1]), n, m[2]), ok
	}
	if m := matching.FindStringSubmatch(rest); m != nil && sober.MatchString(m[1]) {
		p, err := regexp.Compile(m[1])
		return Check{Operator: Matches, Text: m[1], pattern: p}, err == nil
	}
	if m := listed.FindStringSubmatch(rest); m != nil {
		c := Check{Operator: OneOf}
		for _, q := range quoted.FindAllStringSubmatch(m[1], -1) {
			c.Values = append(c.Values, strings.ReplaceAll(q[1], "''", "'"))
		}
		c.Text = quoteAll(c.Values)
		return c, true
	}
	return Check{}, false
}

// conjunction splits an expression at its outermost ANDs.
func conjunction(e string) []string {
	e = strings.TrimSpace(e)
	for strings.HasPrefix(e, "(") {
		if closing := find(e, func(i, depth int) bool { return e[i] == ')' && depth == 0 }); closing != len(e)-1 {
			break
		}
		e = e[1 : len(e)-1]
	}
	const and = " AND "
	if i := find(e, func(i, depth int) bool { return depth == 0 && strings.HasPrefix(e[i:], and) }); i >= 0 {
		return append(conjunction(e[:i]), conjunction(e[i+len(and):])...)
	}
	return []string{e}
}

// find is the first place outside of quotes that is looked for, by how deep in brackets it leaves one; -1: none.
func find(e string, is func(i, depth int) bool) int {
	depth, quotes := 0, false
	for i := range len(e) {
		switch e[i] {
		case '\'':
			quotes = !quotes
		case '(':
			if !quotes {
				depth++
			}
		case ')':
			if !quotes {
				depth--
			}
		}
		if !quotes && is(i, depth) {
			return i
		}
	}
	return -1
}

// Holds reports whether a value, as PostgreSQL reads it, meets the check. What can't be compared here is left to the database.
func (c *Check) Holds(value string) bool {
	switch c.Operator {
	case Matches:
		return c.pattern.MatchString(value)
	case OneOf:
		for _, v := range c.Values {
			if v == value {
				return true
			}
		}
		return false
	case Shorter, Longer:
		n := big.NewRat(int64(utf8.RuneCountInString(value)), 1).Cmp(c.Operand)
		return c.Operator == Shorter && n <= 0 || c.Operator == Longer && n >= 0
	}
	n, ok := c.compare(value)
	if !ok {
		return true
	}
	switch c.Operator {
	case Less:
		return n < 0
	case AtMost:
		return n <= 0
	case More:
		return n > 0
	case AtLeast:
		return n >= 0
	default:
		return n != 0
	}
}

// exact is up to how many digits different decimal numbers are different in floating point too.
const exact = 15

// compare compares a number with the operand.
func (c *Check) compare(value string) (n int, ok bool) {
	if len(value) <= exact && len(c.Text) <= exact {
		v, err := strconv.ParseFloat(value, 64)
		if err == nil && !math.IsNaN(v) {
			return cmp.Compare(v, c.bound), true
		}
	}
	v, ok := new(big.Rat).SetString(value)
	if !ok {
		return 0, false
	}
	return v.Cmp(c.Operand), true
}

// Bound is the operand of a comparison as a number.
func (c *Check) Bound() float64 { return c.bound }

// String says what is expected, as in "… is expected".
func (c *Check) String() string {
	switch c.Operator {
	case Less:
		return "less than " + c.Text
	case AtMost:
		return "at most " + c.Text
	case More:
		return "more than " + c.Text
	case AtLeast:
		return "at least " + c.Text
	case Differs:
		return "anything but " + c.Text
	case Matches:
		return "text of the form " + c.Text
	case OneOf:
		return "one of " + c.Text
	case Shorter:
		return fmt.Sprintf("text of at most %s characters", c.Text)
	}
	return fmt.Sprintf("text of at least %s characters", c.Text)
}
