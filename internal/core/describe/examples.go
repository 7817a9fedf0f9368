package describe

import (
	"encoding/json"
	"fmt"
	"math"
	"math/big"
	"regexp/syntax"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/jsontree"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/window"
)

// Examples are made up from the model alone, so they are the same each time and hold no data. A field that refers to another row has the
// value of that row's example.

// rowExample is a row of a resource as its callers read it.
func (w *writer) rowExample(r *model.Resource) *object {
	row := &object{}
	for _, f := range w.scope.Readable(r) {
		row.Add(f.Name, w.example(f))
	}
	return row
}

// bodyExample is what a write of a resource sends: what is required of a create, and what people change.
func (w *writer) bodyExample(r *model.Resource, op window.Operation, d *access.Decision) *object {
	body := &object{}
	for _, f := range r.Fields {
		if !access.Possible(f, op) || !d.Takes(f) {
			continue
		}
		if op == window.Create && (f.Required || f.Type.Kind == model.Enum) {
			body.Add(f.Name, w.example(f))
		}
		if op == window.Update && !f.InKey && len(body.Members) < 2 && !w.refers(f) {
			body.Add(f.Name, w.example(f))
		}
	}
	if len(body.Members) == 0 {
		for _, f := range r.Fields {
			if access.Possible(f, op) && d.Takes(f) {
				body.Add(f.Name, w.example(f))
				break
			}
		}
	}
	return body
}

func (w *writer) refers(f *model.Field) bool {
	return slices.ContainsFunc(f.Resource.Relations, func(rel *model.Relation) bool {
		return rel.Holds() && slices.Contains(rel.Holding(), f)
	})
}

// example is the example of a field.
func (w *writer) example(f *model.Field) any {
	if value, made := w.examples[f]; made {
		return value
	}
	w.examples[f] = nil // a row that refers to itself refers to none
	value := w.makeExample(f)
	w.examples[f] = value
	return value
}

func (w *writer) makeExample(f *model.Field) any {
	for _, rel := range f.Resource.Relations {
		if !rel.Holds() || f.Resource.View != nil {
			continue
		}
		for i, there := range rel.ThereFields() {
			if there == nil || rel.Pairs[i].Own != f.Column.Name || there == f {
				continue
			}
			if value := w.example(there); value != nil {
				return value
			}
			return nothing(f)
		}
	}
	if of := f.Resource; of.View != nil {
		if base := of.View.Of.FieldOf(f.Column.Name); base != nil && base.Type == f.Type {
			return w.example(base)
		}
	}
	return w.made(f, f.Type)
}

// nothing is the example of a field that refers to a row without an example.
func nothing(f *model.Field) any {
	if f.Nullable {
		return nil
	}
	return (&writer{}).made(f, f.Type)
}

// number is a small number of a resource, by which its keys differ from those of others.
func number(r *model.Resource) int { return 11 + max(r.Index, 0) }

// made is a made-up value of a type for a field.
func (w *writer) made(f *model.Field, t *model.Type) any {
	place := slices.Index(f.Resource.Fields, f)
	switch t.Kind {
	case model.Boolean:
		return true
	case model.Int16, model.Int32, model.Int64, model.Decimal, model.Single, model.Double:
		return madeNumber(f, t)
	case model.Enum:
		return t.Values[0]
	case model.Date:
		return fmt.Sprintf("2026-07-%02d", 1+place%28)
	case model.TimeOfDay:
		return "12:30:00"
	case model.Instant:
		return fmt.Sprintf("2026-07-%02dT06:30:00Z", 1+place%28)
	case model.Duration:
		return "PT2H30M"
	case model.GUID:
		return fmt.Sprintf("5f0c1a52-7a1e-4c7b-9d3e-%012d", number(f.Resource))
	case model.Binary:
		return "c2VhbGVk"
	case model.JSON:
		return jsontree.New("note", "free form")
	case model.Collection:
		return list{w.made(f, t.Element)}
	case model.Range:
		one := jsontree.New("lower", w.made(f, t.Element), "bounds", "[)")
		if t.Multi {
			return list{one}
		}
		return one
	case model.Complex:
		parts := &object{}
		for _, part := range t.Fields {
			parts.Add(part.Name, w.made(f, part.Type))
		}
		return parts
	case model.Opaque:
		return madeOpaque(t)
	}
	return madeText(f, t)
}

// madeNumber is a number that meets the checks of the field.
func madeNumber(f *model.Field, t *model.Type) any {
	base := []string{"12.5", "7.5", "12", "5", "1", "0", "100", "1000", "50", "-1"}
	switch {
	case f.InKey:
		base = append([]string{strconv.Itoa(number(f.Resource))}, base...)
	case t.Kind.Integer():
		base = base[2:]
	}
	for _, c := range f.Checks {
		if c.Operand != nil {
			for _, by := range []int64{0, 1, -1} {
				n := new(big.Rat).Add(c.Operand, big.NewRat(by, 1))
				base = append(base, strings.TrimSuffix(strings.TrimRight(n.FloatString(t.Scale), "0"), "."))
			}
		}
		base = append(c.Values, base...)
	}
	low, high := bounds(t)
	for _, text := range base {
		v, err := strconv.ParseFloat(text, 64)
		if err != nil || v < low || v > high || t.Kind.Integer() && v != math.Trunc(v) || t.Kind == model.Decimal && t.Precision > 0 &&
			!multiple(v, t.Scale) {
			continue
		}
		if !slices.ContainsFunc(f.Checks, func(c model.Check) bool { return !c.Holds(text) }) {
			return json.Number(text)
		}
	}
	return json.Number("1")
}

// multiple reports whether a number has no more decimals, also for a reader that divides in floating point.
func multiple(v float64, scale int) bool {
	step, _ := strconv.ParseFloat("1e-"+strconv.Itoa(max(scale, 0)), 64)
	return v/step == math.Trunc(v/step)
}

// bounds are the least and the greatest number of a type.
func bounds(t *model.Type) (low, high float64) {
	switch {
	case t.Kind == model.Int16:
		return math.MinInt16, math.MaxInt16
	case t.Kind == model.Int32:
		return math.MinInt32, math.MaxInt32
	case t.Kind == model.Int64:
		return math.MinInt64, math.MaxInt64
	case t.Kind == model.Decimal && t.Precision > 0:
		high = math.Pow(10, float64(t.Precision-t.Scale))
		return -high, high
	}
	return math.Inf(-1), math.Inf(1)
}

// opaque are values of types that callers meet as text.
var opaque = map[string]string{"inet": "192.0.2.1", "cidr": "192.0.2.0/24", "macaddr": "08:00:2b:01:02:03", "point": "(1,2)",
	"money":    "$1.00",
	"tsvector": "'word':1", "timetz": "12:30:00+00", "xml": "<note/>", "ltree": "top", "hstore": `"a"=>"b"`}

func madeOpaque(t *model.Type) string {
	if t.Catalog != nil {
		if text := opaque[t.Catalog.Base().Name]; text != "" {
			return text
		}
	}
	return "1"
}

// hints are texts by what stands in the name of a field.
var hints = []struct{ in, text string }{{"email", "name@example.com"}, {"mail", "name@example.com"}, {"phone", "+44 20 7946 0000"},
	{"url", "https://example.com"}, {"link", "https://example.com"}, {"flag", "NO"}, {"country", "NO"}, {"currency", "EUR"}}

// madeText is a text that meets the length and the checks of a field.
func madeText(f *model.Field, t *model.Type) string {
	texts := []string{}
	for _, c := range f.Checks {
		texts = append(texts, c.Values...)
		if c.Operator == model.Matches {
			texts = append(texts, matching(c.Text, number(f.Resource)))
		}
	}
	name := strings.ToLower(f.Name)
	for _, h := range hints {
		if strings.Contains(name, h.in) {
			texts = append(texts, h.text)
		}
	}
	if strings.Contains(name, "name") {
		texts = append(texts, sentence(one(f.Resource))[:len(one(f.Resource))])
	}
	if f.InKey {
		texts = append(texts, fmt.Sprintf("A%d", number(f.Resource)))
	}
	texts = append(texts, "Some "+words(f.Name), "example", "A1", "abc", "ab", "a", strings.Repeat("a", 40))
	for _, text := range texts {
		n := utf8.RuneCountInString(text)
		if t.Length > 0 && (n > t.Length || t.Fixed && n != t.Length) {
			continue
		}
		if !slices.ContainsFunc(f.Checks, func(c model.Check) bool { return !c.Holds(text) }) {
			return text
		}
	}
	return strings.Repeat("a", max(t.Length, 1))
}

// matching is a short text that a pattern matches; n is where it may be any digit.
func matching(pattern string, n int) string {
	re, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil {
		return ""
	}
	var out strings.Builder
	digits := strconv.Itoa(n)
	var write func(re *syntax.Regexp)
	write = func(re *syntax.Regexp) {
		switch re.Op {
		case syntax.OpLiteral:
			out.WriteString(string(re.Rune))
		case syntax.OpCharClass:
			c := re.Rune[0]
			switch {
			case c == '0' && re.Rune[1] == '9' && len(digits) > 0:
				c, digits = rune(digits[0]), digits[1:]
			case c < '!':
				c = re.Rune[len(re.Rune)-1]
			}
			out.WriteRune(c)
		case syntax.OpAnyChar, syntax.OpAnyCharNotNL:
			out.WriteByte('a')
		case syntax.OpCapture, syntax.OpPlus:
			write(re.Sub[0])
		case syntax.OpRepeat:
			for range max(re.Min, 1) {
				if re.Max != 0 {
					write(re.Sub[0])
				}
			}
		case syntax.OpConcat:
			for _, sub := range re.Sub {
				write(sub)
			}
		case syntax.OpAlternate:
			write(re.Sub[0])
		}
	}
	write(re)
	return out.String()
}

// asLiteral is an example as the query language writes it; "" for one that it has no literal for.
func asLiteral(t *model.Type, value any) string {
	switch v := value.(type) {
	case json.Number:
		return v.String()
	case bool:
		return strconv.FormatBool(v)
	case string:
		switch t.Kind {
		case model.Date, model.TimeOfDay, model.Instant, model.GUID:
			return v
		case model.String, model.Enum:
			return "'" + strings.ReplaceAll(v, "'", "''") + "'"
		}
	}
	return ""
}

// options are two examples for each query option on a resource.
func (w *writer) options(r *model.Resource) map[string][]string {
	out := map[string][]string{}
	var comparable []*model.Field
	for _, f := range w.scope.Readable(r) {
		if asLiteral(f.Type, w.example(f)) != "" && f.Type.Kind != model.GUID {
			comparable = append(comparable, f)
		}
	}
	// Enumerations and times first: people ask by them.
	slices.SortStableFunc(comparable, func(a, b *model.Field) int { return likely(a) - likely(b) })
	var conditions []string
	for _, f := range comparable {
		operator := "eq"
		if f.Type.Kind == model.Instant || f.Type.Kind == model.Date || f.Type.Kind.Numeric() && !f.InKey && !w.refers(f) {
			operator = "ge"
		}
		conditions = append(conditions, f.Name+" "+operator+" "+asLiteral(f.Type, w.example(f)))
	}
	for _, rel := range r.Relations {
		if len(conditions) > 0 && !rel.Many && w.scope.MayFollow(rel) {
			if there := w.firstText(rel.To); there != nil {
				conditions = append(conditions[:1], conditions[0]+" and "+rel.Name+"/"+there.Name+" eq "+asLiteral(there.Type, w.example(there)))
				break
			}
		}
	}
	out["filter"] = first(conditions, 2)
	for i, f := range comparable {
		if i == 0 {
			out["orderby"] = append(out["orderby"], f.Name)
		} else if i == 1 {
			out["orderby"] = append(out["orderby"], f.Name+" desc,"+comparable[0].Name)
		}
	}
	names := make([]string, 0, len(r.Fields))
	for _, f := range w.scope.Readable(r) {
		names = append(names, f.Name)
	}
	if len(names) > 0 {
		out["select"] = slices.Compact([]string{strings.Join(first(names, 2), ","), strings.Join(first(names, 3), ",")})
	}
	for _, rel := range r.Relations {
		if !w.scope.MayFollow(rel) || len(out["expand"]) == 2 {
			continue
		}
		way := rel.Name
		if there := w.scope.Readable(rel.To); len(out["expand"]) == 1 && len(there) > 0 {
			way += "(select=" + there[0].Name + ")"
		}
		out["expand"] = append(out["expand"], way)
	}
	return out
}

func first(texts []string, n int) []string { return texts[:min(n, len(texts))] }

func likely(f *model.Field) int {
	switch {
	case f.Type.Kind == model.Enum:
		return 0
	case f.Type.Kind == model.Instant || f.Type.Kind == model.Date:
		return 1
	case f.InKey:
		return 3
	}
	return 2
}

// firstText is a field of text that people ask by.
func (w *writer) firstText(r *model.Resource) *model.Field {
	for _, f := range w.scope.Readable(r) {
		if (f.Type.Kind == model.String || f.Type.Kind == model.Enum) && !f.InKey {
			return f
		}
	}
	return nil
}
