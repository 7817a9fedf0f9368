// Package yamltext changes scalars within the text of a YAML document, so that all else in it stays as it was written. What goes in are
// nodes that were read from that text; what comes out are its lines.
package yamltext

import (
	"encoding/json"
	"regexp"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"
)

// plain is what YAML takes without quotes, also between braces.
var plain = regexp.MustCompile(`^[\p{L}\d_/$(][^,\[\]{}#:\\"\n\r\t]*$`)

// Scalar writes a text so that YAML reads it as that text.
func Scalar(text string) string {
	var back any
	if plain.MatchString(text) && !strings.HasSuffix(text, " ") && yaml.Unmarshal([]byte(text), &back) == nil && back == any(text) {
		return text
	}
	quoted, _ := json.Marshal(text) // JSON's strings are YAML's
	return string(quoted)
}

// Respell writes another text in the place of a scalar. It returns false, and changes nothing, where the scalar does not stand on one line.
func Respell(lines []string, n *yaml.Node, to string) bool {
	line := []rune(lines[n.Line-1])
	from := n.Column - 1
	end := from + utf8.RuneCountInString(n.Value)
	if n.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) != 0 {
		end = closing(line, from) + 1
	}
	if end <= from || end > len(line) {
		return false
	}
	var back string
	if yaml.Unmarshal([]byte(string(line[from:end])), &back) != nil || back != n.Value {
		return false
	}
	lines[n.Line-1] = string(line[:from]) + Scalar(to) + string(line[end:])
	return true
}

// closing is the place of the quote that ends the scalar at a place, -1 where the line has none.
func closing(line []rune, from int) int {
	quote := line[from]
	for i := from + 1; i < len(line); i++ {
		switch {
		case quote == '"' && line[i] == '\\', quote == '\'' && line[i] == quote && i+1 < len(line) && line[i+1] == quote:
			i++
		case line[i] == quote:
			return i
		}
	}
	return -1
}
