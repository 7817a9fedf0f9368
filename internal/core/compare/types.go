package compare

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/model"
)

// difference is how two types differ, and for whom that breaks something: for those who read values, or for those who send them.
type difference struct {
	path        string // inside the value, "" for all of it
	from, to    string
	message     string
	read, write bool
}

// typeText is a type as a change shows it.
func typeText(t *model.Type) string {
	switch {
	case t.Kind == model.Enum:
		return strings.Join(t.Values, ", ")
	case t.Kind.Integer():
		return map[model.Kind]string{model.Int16: "integer of 16 bits", model.Int32: "integer of 32 bits",
			model.Int64: "integer of 64 bits"}[t.Kind]
	case t.Kind == model.Decimal && t.Precision > 0:
		return fmt.Sprintf("number of %d digits, %d of them after the point", t.Precision, t.Scale)
	case t.Kind == model.Decimal:
		return "decimal number"
	case t.Kind == model.Single:
		return "floating-point number of 32 bits"
	case t.Kind == model.Double:
		return "floating-point number"
	case t.Kind == model.Collection:
		return "array of " + typeText(t.Element)
	case t.Kind == model.Range:
		return "range of " + typeText(t.Element)
	case t.Kind == model.Opaque:
		return "text of " + t.SQL
	}
	return t.String()
}

func orNull(text string, nullable bool) string {
	if nullable {
		return text + " or null"
	}
	return text
}

// types lists how two types differ.
func types(path string, a, b *model.Type) []difference {
	at := func(from, to string, read, write bool, format string, args ...any) difference {
		return difference{path, from, to, fmt.Sprintf(format, args...), read, write}
	}
	from, to := typeText(a), typeText(b)
	switch {
	case a.Kind.Integer() && b.Kind.Integer() && a.Kind != b.Kind:
		// Int16 and Int32 are the same to callers: descriptions have no format of 16 bits.
		return []difference{at(from, to, b.Kind == model.Int64 || b.Kind < a.Kind, b.Kind < a.Kind, "has other bounds: %s, it was %s", to, from)}
	case a.Kind == model.Single && b.Kind == model.Double, a.Kind == model.Double && b.Kind == model.Single:
		return []difference{at(from, to, b.Kind == model.Double, b.Kind == model.Single, "has another precision: %s, it was %s", to, from)}
	case a.Kind == model.Enum && b.Kind == model.String, a.Kind == model.String && b.Kind == model.Enum:
		return []difference{at(from, to, true, true, "has another type: %s, it was %s", kindText(b), kindText(a))}
	case a.Kind != b.Kind || a.Multi != b.Multi:
		return []difference{at(from, to, true, true, "has another type: %s, it was %s", to, from)}
	}
	switch a.Kind {
	case model.Enum:
		return enums(at, a, b)
	case model.Collection, model.Range:
		return types(join(path, "[]"), a.Element, b.Element)
	case model.Complex:
		return parts(path, a, b)
	case model.Opaque:
		if a.SQL != b.SQL {
			return []difference{at(from, to, true, true, "has another type: %s, it was %s", b.SQL, a.SQL)}
		}
		if a.Ordered && !b.Ordered {
			return []difference{at(from, to, true, false, "can't be ordered by or compared any more")}
		}
	case model.Instant:
		if a.Local != b.Local {
			return []difference{at(a.SQL, b.SQL, false, false, "is stored as %s, it was %s; its values are written the same", b.SQL, a.SQL)}
		}
	}
	return append(limits(at, a, b), checks(at, a, b)...)
}

func kindText(t *model.Type) string {
	if t.Kind == model.Enum {
		return t.String()
	}
	return typeText(t)
}

func join(path, name string) string {
	if path == "" || name == "[]" {
		return path + name
	}
	return path + "/" + name
}

type reporter func(from, to string, read, write bool, format string, args ...any) difference

// enums compares lists of values. A new one may come back to a caller that does not know it; one that is gone is refused.
func enums(at reporter, a, b *model.Type) (out []difference) {
	var gone, added []string
	for _, v := range a.Values {
		if !slices.Contains(b.Values, v) {
			gone = append(gone, strconv.Quote(v))
		}
	}
	for _, v := range b.Values {
		if !slices.Contains(a.Values, v) {
			added = append(added, strconv.Quote(v))
		}
	}
	if gone != nil {
		out = append(out, at(typeText(a), typeText(b), true, true, "can't be %s any more", strings.Join(gone, ", ")))
	}
	if added != nil {
		out = append(out, at(typeText(a), typeText(b), true, false, "can be %s now, which callers may not know", strings.Join(added, ", ")))
	}
	if gone == nil && added == nil && !slices.Equal(a.Values, b.Values) {
		out = append(out, at(typeText(a), typeText(b), true, false, "has its values in another order, which orders by it follow"))
	}
	return out
}

// parts compares the fields of composite values.
func parts(path string, a, b *model.Type) (out []difference) {
	for _, f := range a.Fields {
		i := slices.IndexFunc(b.Fields, func(o model.SubType) bool { return o.Name == f.Name })
		if i < 0 {
			out = append(out, difference{join(path, f.Name), typeText(f.Type), "", "is gone", true, true})
			continue
		}
		out = append(out, types(join(path, f.Name), f.Type, b.Fields[i].Type)...)
	}
	for _, f := range b.Fields {
		if !slices.ContainsFunc(a.Fields, func(o model.SubType) bool { return o.Name == f.Name }) {
			out = append(out, difference{join(path, f.Name), "", typeText(f.Type), "is new", false, false})
		}
	}
	return out
}

// limits compares how long or precise values may be; 0 is no limit.
func limits(at reporter, a, b *model.Type) (out []difference) {
	compare := func(what string, from, to int) {
		if from == to {
			return
		}
		shrunk := to > 0 && (from == 0 || to < from)
		out = append(out, at(limit(from), limit(to), false, shrunk, "has another %s: %s, it was %s", what, limit(to), limit(from)))
	}
	compare("length", a.Length, b.Length)
	if a.Kind == model.Decimal && (a.Precision != b.Precision || a.Scale != b.Scale) {
		whole := func(t *model.Type) int { return t.Precision - t.Scale }
		shrunk := b.Precision > 0 && (a.Precision == 0 || whole(b) < whole(a) || b.Scale < a.Scale)
		out = append(out, at(typeText(a), typeText(b), false, shrunk, "has another precision: %s, it was %s", typeText(b), typeText(a)))
	}
	if a.Fixed != b.Fixed {
		out = append(out, at(a.SQL, b.SQL, false, false, "is stored as %s, it was %s", b.SQL, a.SQL))
	}
	return out
}

func limit(n int) string {
	if n == 0 {
		return "none"
	}
	return strconv.Itoa(n)
}

// checks compares the checks of domains.
func checks(at reporter, a, b *model.Type) (out []difference) {
	was, is := domainChecks(a.Catalog), domainChecks(b.Catalog)
	for _, e := range is {
		if !slices.Contains(was, e) {
			out = append(out, at("", e, false, true, "must meet %s now", e))
		}
	}
	for _, e := range was {
		if !slices.Contains(is, e) {
			out = append(out, at(e, "", false, false, "need not meet %s any more", e))
		}
	}
	return out
}

func domainChecks(t *catalog.Type) (list []string) {
	for ; t != nil && t.Kind == catalog.Domain; t = t.Element {
		for _, c := range t.Checks {
			list = append(list, c.Expression)
		}
	}
	return list
}
