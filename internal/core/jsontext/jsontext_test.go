package jsontext_test

import (
	"encoding/json"
	"fmt"
	"slices"
	"testing"
	"unicode/utf8"

	"eagerwindow/internal/core/jsontext"
)

// Whatever JSON there is, its members and elements are those that encoding/json finds.
func FuzzWalk(f *testing.F) {
	for _, text := range []string{`{}`, `[]`, ` { "a" : 1 , "b\u0063":[{"x":"}"},"]"] } `, `[1, "a,b", {"c":[2]}, null ,-1.5e3]`,
		`{"a":{"a":{}}}`, `"x"`} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if !json.Valid([]byte(text)) || !utf8.ValidString(text) { // which those who call have refused (RFC 8259, 8.1)
			return
		}
		raw := json.RawMessage(text)
		var object map[string]json.RawMessage
		var array []json.RawMessage
		trimmed, _ := json.Marshal(raw) // without blanks around it
		switch {
		case trimmed[0] == '{' && json.Unmarshal(raw, &object) == nil:
			got := map[string]string{}
			for name, value := range jsontext.Members(string(trimmed)) {
				got[name] = value
			}
			for name, value := range object {
				want, _ := json.Marshal(value)
				if found, _ := json.Marshal(json.RawMessage(got[name])); string(found) != string(want) {
					t.Errorf("%s: %q is %s, want %s", text, name, got[name], want)
				}
			}
		case trimmed[0] == '[' && json.Unmarshal(raw, &array) == nil:
			got, ok := jsontext.Elements(string(trimmed))
			if !ok || !slices.EqualFunc(got, array, func(a string, b json.RawMessage) bool {
				want, _ := json.Marshal(b)
				return a == string(want)
			}) {
				t.Errorf("%s: %q", text, got)
			}
		}
	})
}

func ExampleMembers() {
	for name, value := range jsontext.Members(`{"name": "Otter", "tugs": [1, 2]}`) {
		fmt.Println(name, value)
	}
	// Output:
	// name "Otter"
	// tugs [1, 2]
}
