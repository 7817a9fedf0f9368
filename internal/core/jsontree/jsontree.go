// Package jsontree holds JSON values whose objects keep the order of their members, so that what is written reads in the order in which it
// was made. A value is nil, a bool, a string, an int, an int64, a float64, a json.Number, a List or an *Object.
package jsontree

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/big"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"
)

// Object is a JSON object. The zero value is empty.
type Object struct{ Members []Member }

// Member is a name with its value.
type Member struct {
	Name  string
	Value any
}

// List is a JSON array.
type List []any

// New makes an object of names and values in turn; a value that is nil is left out. It panics if a name is no string.
func New(pairs ...any) *Object {
	o := &Object{Members: make([]Member, 0, len(pairs)/2)}
	for i := 0; i+1 < len(pairs); i += 2 {
		if pairs[i+1] != nil {
			o.Members = append(o.Members, Member{pairs[i].(string), pairs[i+1]})
		}
	}
	return o
}

// Strings is a list of texts.
func Strings(texts ...string) List {
	l := make(List, len(texts))
	for i, t := range texts {
		l[i] = t
	}
	return l
}

func (o *Object) index(name string) int {
	return slices.IndexFunc(o.Members, func(m Member) bool { return m.Name == name })
}

// Get is the value of a member, nil where there is none, or no object.
func (o *Object) Get(name string) any {
	if o == nil {
		return nil
	}
	if i := o.index(name); i >= 0 {
		return o.Members[i].Value
	}
	return nil
}

// Has reports whether the object has the member.
func (o *Object) Has(name string) bool { return o != nil && o.index(name) >= 0 }

// Object is a member that is an object, or nil.
func (o *Object) Object(name string) *Object {
	v, _ := o.Get(name).(*Object)
	return v
}

// List is a member that is a list, or nil.
func (o *Object) List(name string) List {
	v, _ := o.Get(name).(List)
	return v
}

// Text is a member that is a string, or "".
func (o *Object) Text(name string) string {
	v, _ := o.Get(name).(string)
	return v
}

// Set gives a member its value, at the end where it is new.
func (o *Object) Set(name string, value any) {
	if i := o.index(name); i >= 0 {
		o.Members[i].Value = value
		return
	}
	o.Add(name, value)
}

// Add appends a member that is known not to be there.
func (o *Object) Add(name string, value any) { o.Members = append(o.Members, Member{name, value}) }

// Delete takes a member out, and returns its value.
func (o *Object) Delete(name string) any {
	i := o.index(name)
	if i < 0 {
		return nil
	}
	value := o.Members[i].Value
	o.Members = slices.Delete(o.Members, i, i+1)
	return value
}

// Sort puts the members in the order of their names.
func (o *Object) Sort() {
	slices.SortStableFunc(o.Members, func(a, b Member) int { return strings.Compare(a.Name, b.Name) })
}

// Clone is a copy that shares nothing with the value.
func Clone(v any) any {
	switch v := v.(type) {
	case *Object:
		out := &Object{Members: make([]Member, len(v.Members))}
		for i, m := range v.Members {
			out.Members[i] = Member{m.Name, Clone(m.Value)}
		}
		return out
	case List:
		out := make(List, len(v))
		for i := range v {
			out[i] = Clone(v[i])
		}
		return out
	}
	return v
}

// Walk calls do with each object of a value, the outer ones first.
func Walk(v any, do func(*Object)) {
	switch v := v.(type) {
	case *Object:
		do(v)
		for _, m := range v.Members {
			Walk(m.Value, do)
		}
	case List:
		for _, item := range v {
			Walk(item, do)
		}
	}
}

// Plain is the value as encoding/json has it: maps, []any and json.Number for numbers.
func Plain(v any) any {
	switch v := v.(type) {
	case *Object:
		out := make(map[string]any, len(v.Members))
		for _, m := range v.Members {
			out[m.Name] = Plain(m.Value)
		}
		return out
	case List:
		out := make([]any, len(v))
		for i := range v {
			out[i] = Plain(v[i])
		}
		return out
	case int, int64, float64:
		return json.Number(string(Append(nil, v, false)))
	}
	return v
}

// Append writes a value as JSON, with two blanks of indentation where that is asked for.
func Append(dst []byte, v any, indent bool) []byte {
	depth := 0
	if !indent {
		depth = -1
	}
	return appendValue(dst, v, depth)
}

// appendValue writes a value; depth is -1 where nothing is indented.
func appendValue(dst []byte, v any, depth int) []byte {
	switch v := v.(type) {
	case nil:
		return append(dst, "null"...)
	case bool:
		return strconv.AppendBool(dst, v)
	case string:
		return appendText(dst, v)
	case int:
		return strconv.AppendInt(dst, int64(v), 10)
	case int64:
		return strconv.AppendInt(dst, v, 10)
	case float64:
		return strconv.AppendFloat(dst, v, 'f', -1, 64)
	case json.Number:
		return append(dst, v...)
	case List:
		dst = append(dst, '[')
		for i, item := range v {
			dst = appendValue(startItem(dst, i, depth), item, inner(depth))
		}
		return append(endItems(dst, len(v), depth), ']')
	case *Object:
		dst = append(dst, '{')
		for i, m := range v.Members {
			dst = append(appendText(startItem(dst, i, depth), m.Name), ':')
			if depth >= 0 {
				dst = append(dst, ' ')
			}
			dst = appendValue(dst, m.Value, inner(depth))
		}
		return append(endItems(dst, len(v.Members), depth), '}')
	}
	panic(fmt.Sprintf("jsontree: %T is no JSON value", v))
}

func inner(depth int) int {
	if depth < 0 {
		return depth
	}
	return depth + 1
}

func startItem(dst []byte, i, depth int) []byte {
	if i > 0 {
		dst = append(dst, ',')
	}
	return newLine(dst, inner(depth))
}

func endItems(dst []byte, count, depth int) []byte {
	if count == 0 {
		return dst
	}
	return newLine(dst, depth)
}

func newLine(dst []byte, depth int) []byte {
	if depth < 0 {
		return dst
	}
	dst = append(dst, '\n')
	for range depth {
		dst = append(dst, ' ', ' ')
	}
	return dst
}

func appendText(dst []byte, s string) []byte {
	for i := range len(s) {
		if c := s[i]; c < ' ' || c > '~' || c == '"' || c == '\\' {
			var out bytes.Buffer
			e := json.NewEncoder(&out)
			e.SetEscapeHTML(false)
			_ = e.Encode(s) // a string
			return append(dst, bytes.TrimSuffix(out.Bytes(), []byte("\n"))...)
		}
	}
	return append(append(append(dst, '"'), s...), '"')
}

// YAML is the value as a node of YAML.
func YAML(v any) *yaml.Node {
	scalar := func(tag, text string) *yaml.Node { return &yaml.Node{Kind: yaml.ScalarNode, Tag: tag, Value: text} }
	switch v := v.(type) {
	case nil:
		return scalar("!!null", "null")
	case bool:
		return scalar("!!bool", strconv.FormatBool(v))
	case string:
		n := &yaml.Node{}
		n.SetString(v)
		return n
	case List:
		n := &yaml.Node{Kind: yaml.SequenceNode, Tag: "!!seq"}
		for _, item := range v {
			n.Content = append(n.Content, YAML(item))
		}
		if len(v) == 0 {
			n.Style = yaml.FlowStyle
		}
		return n
	case *Object:
		n := &yaml.Node{Kind: yaml.MappingNode, Tag: "!!map"}
		for _, m := range v.Members {
			n.Content = append(n.Content, YAML(m.Name), YAML(m.Value))
		}
		if len(v.Members) == 0 {
			n.Style = yaml.FlowStyle
		}
		return n
	}
	text := string(Append(nil, v, false))
	if strings.ContainsAny(text, ".eE") {
		return scalar("!!float", text)
	}
	return scalar("!!int", text)
}

// AppendYAML writes a value as YAML.
func AppendYAML(v any) ([]byte, error) {
	var out bytes.Buffer
	e := yaml.NewEncoder(&out)
	e.SetIndent(2)
	if err := e.Encode(YAML(v)); err != nil {
		return nil, fmt.Errorf("write YAML: %w", err)
	}
	return out.Bytes(), nil
}

// FromYAML is a node of YAML as a value of JSON: its scalars by the core schema of YAML 1.2, what JSON does not have as text.
func FromYAML(n *yaml.Node) any {
	switch n.Kind {
	case yaml.DocumentNode:
		if len(n.Content) > 0 {
			return FromYAML(n.Content[0])
		}
	case yaml.AliasNode:
		return FromYAML(n.Alias)
	case yaml.SequenceNode:
		l := make(List, len(n.Content))
		for i, item := range n.Content {
			l[i] = FromYAML(item)
		}
		return l
	case yaml.MappingNode:
		o := &Object{}
		for i := 0; i+1 < len(n.Content); i += 2 {
			o.Set(n.Content[i].Value, FromYAML(n.Content[i+1]))
		}
		return o
	case yaml.ScalarNode:
		switch n.ShortTag() {
		case "!!null":
			return nil
		case "!!bool":
			return strings.EqualFold(n.Value, "true")
		case "!!int", "!!float":
			if number := asNumber(n.Value); number != "" {
				return number
			}
		}
		return n.Value
	}
	return nil
}

// asNumber is a number of YAML as JSON writes it; "" for one that JSON does not have.
func asNumber(text string) json.Number {
	if json.Valid([]byte(text)) {
		return json.Number(text)
	}
	if whole, ok := new(big.Int).SetString(text, 0); ok {
		return json.Number(whole.String())
	}
	if f, err := strconv.ParseFloat(text, 64); err == nil && f-f == 0 {
		return json.Number(strconv.FormatFloat(f, 'g', -1, 64))
	}
	return ""
}

// Parse reads JSON or YAML.
func Parse(text []byte) (any, error) {
	var n yaml.Node
	if err := yaml.Unmarshal(text, &n); err != nil {
		return nil, err
	}
	return FromYAML(&n), nil
}
