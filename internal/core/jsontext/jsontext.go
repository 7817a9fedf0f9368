// Package jsontext walks JSON text that is known to be valid, and to be UTF-8. Names and values are parts of the text, which is not copied.
package jsontext

import (
	"encoding/json"
	"iter"
	"strings"
)

// Members are the names and values of an object, in their order; values are JSON.
func Members(object string) iter.Seq2[string, string] {
	return func(yield func(name, value string) bool) {
		for at := next(object, 1); object[at] != '}'; {
			end := valueEnd(object, at)
			name := nameOf(object[at:end])
			at = next(object, next(object, end)+1) // over the colon
			end = valueEnd(object, at)
			if !yield(name, object[at:end]) {
				return
			}
			if at = next(object, end); object[at] == ',' {
				at = next(object, at+1)
			}
		}
	}
}

// Elements splits an array into its values. ok is false for any other value.
func Elements(array string) (values []string, ok bool) {
	if array[0] != '[' {
		return nil, false
	}
	values = []string{}
	for at := next(array, 1); array[at] != ']'; {
		end := valueEnd(array, at)
		values = append(values, array[at:end])
		if at = next(array, end); array[at] == ',' {
			at = next(array, at+1)
		}
	}
	return values, true
}

// Unquote is the text of a JSON string; ok is false for any other value.
func Unquote(raw string) (s string, ok bool) {
	if raw[0] != '"' {
		return "", false
	}
	err := json.Unmarshal([]byte(raw), &s)
	return s, err == nil
}

// next is the place of the next byte that is no white space.
func next(body string, at int) int {
	for body[at] == ' ' || body[at] == '\t' || body[at] == '\n' || body[at] == '\r' {
		at++
	}
	return at
}

// valueEnd is where the value ends that begins at a place of a body that is known to be JSON.
func valueEnd(body string, at int) int {
	depth := 0
	for i := at; ; i++ {
		switch body[i] {
		case '"':
			for i++; body[i] != '"'; i++ {
				if body[i] == '\\' {
					i++
				}
			}
			if depth == 0 {
				return i + 1
			}
		case '{', '[':
			depth++
		case '}', ']':
			if depth == 0 { // of a number or a word, which ends before it
				return i
			}
			if depth--; depth == 0 {
				return i + 1
			}
		case ',', ' ', '\t', '\n', '\r':
			if depth == 0 {
				return i
			}
		}
	}
}

// nameOf is the text of a JSON string.
func nameOf(raw string) string {
	if strings.IndexByte(raw, '\\') < 0 {
		return raw[1 : len(raw)-1]
	}
	name, _ := Unquote(raw) // it is known to be one
	return name
}
