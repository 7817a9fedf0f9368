// Package contract holds answers of an API against its description (OpenAPI 3.1): whether there is such an operation, such a status and
// such a body.
package contract

import (
	"bytes"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"sync"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"golang.org/x/text/language"
	"golang.org/x/text/message"

	"eagerwindow/internal/core/jsontree"
)

// Contract is a description that is ready to be held against answers. It may be used by several goroutines.
type Contract struct {
	Operations []*Operation // in the order of the description
	compile    sync.Mutex
	schemas    [2]*jsonschema.Compiler          // as they are, and without required members
	compiled   [2]map[string]*jsonschema.Schema // by pointer
}

// Operation is one method of one path.
type Operation struct {
	ID, Method, Path string
	Tag              string
	Object           *jsontree.Object   // as it is in the description
	Parameters       []*jsontree.Object // of the path and of the operation, references resolved
	segments         []string
	responses        map[string]response
}

// response is one status of an operation.
type response struct {
	kind   string // of the body; "" for none
	schema string // where its schema is, as a JSON pointer
}

// Exchange is a request and what was answered.
type Exchange struct {
	Method, Path string // below the window, escaped, without the query
	Query        string
	Status       int
	Kind         string // Content-Type
	Body         []byte
}

const root = "https://contract.example/description"

// New reads a description of OpenAPI 3.1.
func New(doc *jsontree.Object) (*Contract, error) {
	c := &Contract{compiled: [2]map[string]*jsonschema.Schema{{}, {}}}
	for i, value := range []any{doc, withoutRequired(jsontree.Clone(doc))} {
		c.schemas[i] = jsonschema.NewCompiler()
		if err := c.schemas[i].AddResource(root, jsontree.Plain(value)); err != nil {
			return nil, fmt.Errorf("read the description: %w", err)
		}
	}
	paths := doc.Object("paths")
	if paths == nil {
		return nil, errors.New("the description has no paths")
	}
	for _, path := range paths.Members {
		item, _ := path.Value.(*jsontree.Object)
		for _, m := range item.Members {
			if object, is := m.Value.(*jsontree.Object); is {
				c.Operations = append(c.Operations, c.operation(doc, path.Name, m.Name, item.List("parameters"), object))
			}
		}
	}
	return c, nil
}

func (c *Contract) operation(doc *jsontree.Object, path, method string, shared jsontree.List, object *jsontree.Object) *Operation {
	op := &Operation{ID: object.Text("operationId"), Method: strings.ToUpper(method), Path: path, Object: object,
		segments: strings.Split(strings.Trim(path, "/"), "/"), responses: map[string]response{}}
	if tags := object.List("tags"); len(tags) > 0 {
		op.Tag, _ = tags[0].(string)
	}
	for _, p := range append(append(jsontree.List{}, shared...), object.List("parameters")...) {
		if parameter := resolve(doc, p); parameter != nil {
			op.Parameters = append(op.Parameters, parameter)
		}
	}
	at := "#/paths/" + escape(path) + "/" + method + "/responses/"
	for _, m := range object.Object("responses").Members {
		answer, pointer := m.Value.(*jsontree.Object), at+m.Name
		if ref := answer.Text("$ref"); ref != "" {
			answer, pointer = resolve(doc, answer), ref
		}
		r := response{}
		if content := answer.Object("content"); content != nil && len(content.Members) > 0 {
			r.kind = content.Members[0].Name
			r.schema = pointer + "/content/" + escape(r.kind) + "/schema"
		}
		op.responses[m.Name] = r
	}
	return op
}

func escape(name string) string {
	return strings.NewReplacer("~", "~0", "/", "~1", "{", "%7B", "}", "%7D").Replace(name)
}

// resolve follows a local reference.
func resolve(doc *jsontree.Object, v any) *jsontree.Object {
	o, _ := v.(*jsontree.Object)
	path, is := strings.CutPrefix(o.Text("$ref"), "#/")
	if !is {
		return o
	}
	at := doc
	for name := range strings.SplitSeq(path, "/") {
		at = at.Object(strings.NewReplacer("~1", "/", "~0", "~").Replace(name))
	}
	return at
}

// withoutRequired takes the lists of required members out: an answer to select has those that were asked for.
func withoutRequired(v any) any {
	switch v := v.(type) {
	case jsontree.List:
		for _, item := range v {
			withoutRequired(item)
		}
	case *jsontree.Object:
		if v.List("required") != nil {
			v.Delete("required")
		}
		for _, m := range v.Members {
			withoutRequired(m.Value)
		}
	}
	return v
}

// Find is the operation of a request, nil where none is described. Of several that fit it is the one whose path says the most.
func (c *Contract) Find(method, path string) *Operation {
	segments := strings.Split(strings.Trim(path, "/"), "/")
	if path == "" || path == "/" {
		return nil
	}
	var best *Operation
	most := -1
	for _, op := range c.Operations {
		if op.Method != method || len(op.segments) != len(segments) {
			continue
		}
		if literal, fits := match(op.segments, segments); fits && literal > most {
			best, most = op, literal
		}
	}
	return best
}

// match reports whether a path fits a template, and how much of it the template says itself.
func match(template, path []string) (literal int, fits bool) {
	for i, part := range template {
		open := strings.IndexByte(part, '{')
		if open < 0 {
			if part != path[i] {
				return 0, false
			}
			literal += 1 + len(part)
			continue
		}
		rest := path[i]
		for open >= 0 {
			before := part[:open]
			if !strings.HasPrefix(rest, before) {
				return 0, false
			}
			literal += len(before)
			rest, part = rest[len(before):], part[strings.IndexByte(part, '}')+1:]
			open = strings.IndexByte(part, '{')
			next := part
			if open >= 0 {
				next = part[:open]
			}
			if next == "" {
				if strings.HasPrefix(rest, "$") {
					return 0, false // a path of the standard's own, no value
				}
				rest = ""
				continue
			}
			at := strings.LastIndex(rest, next)
			if at < 0 {
				return 0, false
			}
			rest = rest[at:]
		}
		if rest != part {
			return 0, false
		}
	}
	return literal, true
}

// Statuses lists those that an operation has, with "default" where it has one.
func (op *Operation) Statuses() []string {
	var list []string
	for _, m := range op.Object.Object("responses").Members {
		list = append(list, m.Name)
	}
	return list
}

// Describes reports whether the operation has a status: refusals are described by the default too.
func (op *Operation) Describes(status int) bool {
	if _, there := op.responses[strconv.Itoa(status)]; there {
		return true
	}
	_, otherwise := op.responses["default"]
	return otherwise && status >= 400
}

// Check holds an answer against the operation of its request, and returns what is not as described.
func (c *Contract) Check(op *Operation, e Exchange) []string {
	r, there := op.responses[strconv.Itoa(e.Status)]
	if !there {
		if !op.Describes(e.Status) {
			return []string{fmt.Sprintf("the status %d is not described; those are %s", e.Status, strings.Join(op.Statuses(), ", "))}
		}
		r = op.responses["default"]
	}
	kind, _, _ := strings.Cut(e.Kind, ";")
	switch {
	case r.kind == "" && len(bytes.TrimSpace(e.Body)) > 0:
		return []string{fmt.Sprintf("%d has a body, and none is described", e.Status)}
	case r.kind == "" || len(e.Body) == 0 && e.Status < 400:
		return nil
	case kind != r.kind:
		return []string{fmt.Sprintf("the body is %s, and %s is described", kind, r.kind)}
	case kind != "application/json":
		return nil
	}
	value, err := jsonschema.UnmarshalJSON(bytes.NewReader(e.Body))
	if err != nil {
		return []string{fmt.Sprintf("the body is no JSON: %v", err)}
	}
	schema, err := c.schema(r.schema, selects(e.Query))
	if err != nil {
		return []string{err.Error()}
	}
	var invalid *jsonschema.ValidationError
	if err := schema.Validate(value); errors.As(err, &invalid) {
		return Leaves(invalid)
	} else if err != nil {
		return []string{err.Error()}
	}
	return nil
}

// selects reports whether a query asks for some fields only.
func selects(query string) bool { return strings.Contains(query, "select") }

func (c *Contract) schema(pointer string, partial bool) (*jsonschema.Schema, error) {
	c.compile.Lock()
	defer c.compile.Unlock()
	i := 0
	if partial {
		i = 1
	}
	if s := c.compiled[i][pointer]; s != nil {
		return s, nil
	}
	s, err := c.schemas[i].Compile(root + pointer)
	if err != nil {
		return nil, fmt.Errorf("read the schema at %s: %w", pointer, err)
	}
	c.compiled[i][pointer] = s
	return s, nil
}

// Leaves are the causes of a mistake that have no causes themselves, each with its place.
func Leaves(e *jsonschema.ValidationError) (list []string) {
	if len(e.Causes) == 0 {
		return []string{"/" + strings.Join(e.InstanceLocation, "/") + ": " + e.ErrorKind.LocalizedString(message.NewPrinter(language.English))}
	}
	for _, c := range e.Causes {
		list = append(list, Leaves(c)...)
	}
	return list
}
