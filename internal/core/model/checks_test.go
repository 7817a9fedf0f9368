package model

import (
	"fmt"
	"testing"
)

// Expressions as PostgreSQL prints them.
func TestReadCheck(t *testing.T) {
	t.Parallel()
	for _, s := range []struct {
		expression, column, want string
		good, bad                string
	}{
		{"(draught_m > (0)::numeric)", "draught_m", "[more than 0]", "0.01", "0"},
		{"((class >= 1) AND (class <= 4))", "class", "[at least 1 at most 4]", "4", "5"},
		{"(imo_number ~ '^[0-9]{7}$'::text)", "imo_number", "[text of the form ^[0-9]{7}$]", "9900027", "99000271"},
		{`("Order No" >= '-1.5'::numeric)`, "Order No", "[at least -1.5]", "-1.50", "-1.51"},
		{"((char_length(name) >= 2) AND (length((name)::text) < 5))", "name", "[text of at least 2 characters text of at most 4 characters]",
			"éèê", "ababa"},
		{"(length(name) = 3)", "name", "[text of at least 3 characters text of at most 3 characters]", "abc", "ab"},
		{"(kind = ANY (ARRAY['a'::text, 'b, c'::text, 'd''e'::text]))", "kind", `[one of "a", "b, c", "d'e"]`, "d'e", "b"},
		{"((kind)::text = ANY ((ARRAY['a'::character varying, 'b'::character varying])::text[]))", "kind", `[one of "a", "b"]`, "b", "c"},
		{"((VALUE >= (0)::numeric) AND (VALUE <> (7)::numeric))", "VALUE", "[at least 0 anything but 7]", "8", "7"},
		{"((a > 0) OR (a < '-5'::integer))", "a", "[]", "", ""},
		{"((departed_at >= arrived_at) AND (n < 3))", "n", "[less than 3]", "NaN", "3"},
		{`(name ~ '\d(?=x)'::text)`, "name", "[]", "", ""},
		{"(lower(name) = name)", "name", "[]", "", ""},
	} {
		checks := readCheck(s.expression, s.column)
		told := []string{}
		for _, c := range checks {
			told = append(told, c.String())
		}
		if got := fmt.Sprint(told); got != s.want {
			t.Errorf("%s: %s, want %s", s.expression, got, s.want)
		}
		holds := func(v string) bool {
			for _, c := range checks {
				if !c.Holds(v) {
					return false
				}
			}
			return true
		}
		if s.good != "" && (!holds(s.good) || holds(s.bad)) {
			t.Errorf("%s: %q %v, %q %v", s.expression, s.good, holds(s.good), s.bad, holds(s.bad))
		}
	}
}
