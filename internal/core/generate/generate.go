// Package generate writes types and clients from a description (OpenAPI 3.1): TypeScript for openapi-fetch, and Go for its standard library
// alone. It reads descriptions as package describe writes them: what they have, and no more of OpenAPI.
package generate

import (
	"slices"
	"strings"
	"unicode"

	"eagerwindow/internal/core/jsontree"
)

type object = jsontree.Object

// description finds its way in a description.
type description struct{ doc *object }

func (d description) title() string {
	info := d.doc.Object("info")
	return strings.TrimSpace(info.Text("title") + " " + info.Text("version"))
}

func (d description) schemas() *object { return d.doc.Object("components").Object("schemas") }

// resolve follows a reference.
func (d description) resolve(o *object) *object {
	path, is := strings.CutPrefix(o.Text("$ref"), "#/components/")
	if !is {
		return o
	}
	kind, name, _ := strings.Cut(path, "/")
	return d.doc.Object("components").Object(kind).Object(name)
}

// schemaName is the name of the component that a schema refers to, "" for none.
func schemaName(o *object) string {
	name, _ := strings.CutPrefix(o.Text("$ref"), "#/components/schemas/")
	return name
}

// operation is one method of one path.
type operation struct {
	path, method string
	object       *object
	parameters   []*object // those of the path too, resolved
}

func (d description) operations() (all []operation) {
	for _, path := range d.doc.Object("paths").Members {
		item := path.Value.(*object)
		for _, m := range item.Members {
			op, is := m.Value.(*object)
			if !is {
				continue
			}
			o := operation{path: path.Name, method: m.Name, object: op}
			for _, p := range append(slices.Clone(item.List("parameters")), op.List("parameters")...) {
				o.parameters = append(o.parameters, d.resolve(p.(*object)))
			}
			all = append(all, o)
		}
	}
	return all
}

// body is the schema of what an operation takes as JSON, nil for none.
func (o operation) body() *object {
	return o.object.Object("requestBody").Object("content").Object("application/json").Object("schema")
}

// answer is the schema of what it answers with a status, nil for none.
func (d description) answer(o operation, status string) *object {
	response := o.object.Object("responses").Object(status)
	if response == nil {
		return nil
	}
	return d.resolve(response).Object("content").Object("application/json").Object("schema")
}

// kinds are the types of a schema without null, and whether null is one.
func kinds(s *object) (kind string, null bool) {
	kind = s.Text("type")
	for _, k := range s.List("type") {
		if k == "null" {
			null = true
		} else {
			kind, _ = k.(string)
		}
	}
	return kind, null
}

// alternatives are those of anyOf without null, and whether null is one.
func alternatives(s *object) (rest []*object, null bool) {
	for _, a := range s.List("anyOf") {
		one := a.(*object)
		if one.Text("type") == "null" {
			null = true
		} else {
			rest = append(rest, one)
		}
	}
	return rest, null
}

// pascal is a name as types have it: port_call-list is PortCallList.
func pascal(name string) string {
	var out strings.Builder
	for _, part := range strings.FieldsFunc(name, func(c rune) bool { return !unicode.IsLetter(c) && !unicode.IsDigit(c) }) {
		if initialisms[strings.ToLower(part)] {
			out.WriteString(strings.ToUpper(part))
			continue
		}
		letters := []rune(part)
		out.WriteString(string(unicode.ToUpper(letters[0])) + string(letters[1:]))
	}
	text := out.String()
	if text == "" || unicode.IsDigit([]rune(text)[0]) || !unicode.IsUpper([]rune(text)[0]) {
		text = "X" + text
	}
	return text
}

// initialisms are written in capitals, as Go does.
var initialisms = map[string]bool{"id": true, "url": true, "uuid": true, "imo": true, "json": true, "xml": true, "api": true}

// comment is a text as lines of a comment.
func comment(indent, text string) string {
	var out strings.Builder
	for line := range strings.SplitSeq(strings.TrimSpace(text), "\n") {
		if line = strings.TrimSpace(line); line != "" {
			out.WriteString(indent + "// " + line + "\n")
		}
	}
	return out.String()
}
