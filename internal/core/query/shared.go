package query

import "eagerwindow/internal/core/model"

// Shared is an expression that may stand in several places of a statement: a computed value, or an argument that its function needs more
// than once. A heavy one with several uses is computed once for each row, all others are written out in each place. So a statement grows
// with the request, not exponentially.
type Shared struct {
	Of     Expr
	uses   int // in other expressions
	weight int
	parts  int
}

// maxInline is the weight up to which a shared expression is written out in each place.
const maxInline = 12

// Compute is an expression as a computed value.
func Compute(e Expr) Expr {
	switch e.(type) {
	case *FieldOf, *Shared:
		return e
	}
	return &Shared{Of: e, weight: weight(e), parts: TextParts(e)}
}

// Use notes that another expression uses a value.
func Use(e Expr) Expr {
	if s, ok := e.(*Shared); ok {
		s.uses++
	}
	return e
}

// Share is an argument that stands in several places of its function's SQL.
func Share(e Expr) Expr {
	switch e.(type) {
	case *Value, *Constant, *Claim, *ElementOf:
		return e
	}
	return Use(Use(Compute(e)))
}

// Type is the type of the expression.
func (s *Shared) Type() *model.Type { return s.Of.Type() }

// Inline reports whether the expression is written out in each place.
func (s *Shared) Inline() bool { return s.uses < 2 || s.weight <= maxInline }

// weight estimates how long an expression is in SQL, in terms.
func weight(e Expr) int {
	sum := 1
	switch e := e.(type) {
	case *Call:
		for _, a := range e.Args {
			sum += weight(a)
		}
	case *Member:
		sum += weight(e.X)
		for _, item := range e.Items {
			sum += weight(item)
		}
	case *JSONPath:
		sum += weight(e.Of)
	case *JSONAs:
		sum += weight(e.Of)
	case *SubField:
		sum += weight(e.Of)
	case *Quantifier, *Count, *RootOf: // a subquery
		sum += maxInline
	case *Shared:
		if e.Inline() {
			sum += e.weight * min(max(e.uses, 1), 2)
		}
	}
	return sum
}

// countedParts is where the count of the parts of a text stops.
const countedParts = 1 << 20

// TextParts is how many texts an expression concatenates into one at most, counting each as often as it is repeated.
func TextParts(e Expr) int {
	switch e := e.(type) {
	case *FieldOf:
		return max(1, e.Field.TextParts)
	case *Shared:
		return e.parts
	case *Call:
		most, sum := 1, 0
		for _, a := range e.Args {
			n := TextParts(a)
			most, sum = max(most, n), min(sum+n, countedParts)
		}
		if e.Op == "concat" {
			return sum
		}
		return most
	}
	return 1
}
