package generate

import (
	"fmt"
	"go/format"
	"slices"
	"strconv"
	"strings"

	"eagerwindow/internal/core/jsontree"
)

// Go writes a package of a description's types with a client of its operations, which needs the standard library alone. Exact numbers are
// json.Number, so that no digit is lost.
func Go(doc *jsontree.Object, name string) ([]byte, error) {
	g := golang{description: description{doc}}
	var types, calls strings.Builder
	for _, m := range g.schemas().Members {
		types.WriteString(g.declaration(m.Name, m.Value.(*object)))
	}
	for _, op := range g.operations() {
		calls.WriteString(g.call(op))
	}
	head := "// Package " + name + " calls " + g.title() +
		". It is written by \"eager describe\"; write it anew rather than changing it.\npackage " + name +
		"\n\n"
	text := head + goClient + types.String() + calls.String()
	out, err := format.Source([]byte(text))
	if err != nil {
		return nil, fmt.Errorf("write the client: %w", err)
	}
	return out, nil
}

// goClient is the part of the client that is the same for every API.
const goClient = `import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
)

// Client calls the API at URL.
type Client struct {
	URL   string // without a slash at its end
	Token string // "" to call without one
	HTTP  *http.Client // nil: http.DefaultClient
}

// Call is what a request may say besides its body: query options, and headers such as If-Match and Idempotency-Key.
type Call struct {
	Select, Expand, Filter, OrderBy, Search string
	Top, Skip                               int // 0: not said
	Count                                   bool
	IfMatch, IdempotencyKey                 string
	Query                                   url.Values // any other option, and the parameters of a query
}

// Refusal is what the API answers in place of what was asked for.
type Refusal struct {
	Status int
	Mistake
}

func (r *Refusal) Error() string { return r.Message }

// Ptr is a pointer to a value, for members that may be left out.
func Ptr[T any](v T) *T { return &v }

// do sends a request and reads what is answered into result, where that is not nil. It returns the version of the row that the answer
// shows.
func (c *Client) do(ctx context.Context, method, path string, call Call, body, result any) (etag string, err error) {
	query := url.Values{}
	for name, values := range call.Query {
		query[name] = values
	}
	for name, value := range map[string]string{"select": call.Select, "expand": call.Expand, "filter": call.Filter, "orderby": call.OrderBy,
		"search": call.Search} {
		if value != "" {
			query.Set(name, value)
		}
	}
	for name, value := range map[string]int{"top": call.Top, "skip": call.Skip} {
		if value != 0 {
			query.Set(name, strconv.Itoa(value))
		}
	}
	if call.Count {
		query.Set("count", "true")
	}
	at := c.URL + path
	if len(query) > 0 {
		at += "?" + strings.ReplaceAll(query.Encode(), "+", "%20")
	}
	var sent io.Reader
	if body != nil {
		text, err := json.Marshal(body)
		if err != nil {
			return "", fmt.Errorf("write the body: %w", err)
		}
		sent = bytes.NewReader(text)
	}
	req, err := http.NewRequestWithContext(ctx, method, at, sent)
	if err != nil {
		return "", err
	}
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	for name, value := range map[string]string{"If-Match": call.IfMatch, "Idempotency-Key": call.IdempotencyKey} {
		if value != "" {
			req.Header.Set(name, value)
		}
	}
	if c.Token != "" {
		req.Header.Set("Authorization", "Bearer "+c.Token)
	}
	client := c.HTTP
	if client == nil {
		client = http.DefaultClient
	}
	res, err := client.Do(req)
	if err != nil {
		return "", err
	}
	defer res.Body.Close()
	if res.StatusCode >= 300 {
		var refused Error
		if err := json.NewDecoder(res.Body).Decode(&refused); err != nil {
			return "", fmt.Errorf("%s: %w", res.Status, err)
		}
		return "", &Refusal{res.StatusCode, refused.Error}
	}
	if result != nil && res.StatusCode != http.StatusNoContent {
		if err := json.NewDecoder(res.Body).Decode(result); err != nil {
			return "", fmt.Errorf("read the answer: %w", err)
		}
	}
	return res.Header.Get("ETag"), nil
}

`

type golang struct{ description }

// goType is the name of the type of a component; the client has taken some.
func goType(component string) string {
	name := pascal(component)
	if slices.Contains([]string{"Client", "Call", "Refusal", "Ptr"}, name) {
		name += "Row"
	}
	return name
}

// declaration is the type of a component.
func (g golang) declaration(component string, s *object) string {
	name, about := goType(component), comment("", s.Text("description"))
	if about == "" {
		about = "// " + name + " is " + strings.ReplaceAll(component, "_", " ") + ".\n"
	} else {
		about = "// " + name + ": " + strings.TrimPrefix(about, "// ")
	}
	if values := s.List("enum"); values != nil {
		out := about + "type " + name + " string\n\n// Its values.\nconst (\n"
		used := map[string]bool{}
		for i, v := range values {
			text, _ := v.(string)
			member := pascal(text)
			for used[member] {
				member += "_" + strconv.Itoa(i)
			}
			used[member] = true
			out += "\t" + name + member + " " + name + " = " + strconv.Quote(text) + "\n"
		}
		return out + ")\n\n"
	}
	return about + "type " + name + " " + g.of(s) + "\n\n"
}

// of is the type of a schema, without null.
func (g golang) of(s *object) string {
	if name := schemaName(s); name != "" {
		return goType(name)
	}
	if rest, _ := alternatives(s); len(rest) == 1 {
		return g.of(rest[0])
	} else if rest != nil {
		return "any"
	}
	if all := s.List("allOf"); all != nil {
		if len(all) == 1 {
			return g.of(all[0].(*object))
		}
		out := "struct {\n"
		for _, a := range all {
			part := a.(*object)
			if name := schemaName(part); name != "" {
				out += "\t" + goType(name) + "\n"
			} else {
				out += g.members(part)
			}
		}
		return out + "}"
	}
	switch kind, _ := kinds(s); kind {
	case "string":
		return "string"
	case "boolean":
		return "bool"
	case "integer":
		if s.Text("format") == "int32" {
			return "int32"
		}
		return "int64"
	case "number":
		switch s.Text("format") {
		case "decimal":
			return "json.Number"
		case "float":
			return "float32"
		}
		return "float64"
	case "array":
		return "[]" + g.of(s.Object("items"))
	case "object":
		if s.Object("properties") == nil {
			return "map[string]any"
		}
		return "struct {\n" + g.members(s) + "}"
	}
	return "any"
}

// members are those of an object, pointers where they may be left out.
func (g golang) members(s *object) string {
	required := s.List("required")
	var out strings.Builder
	used := map[string]bool{}
	for _, m := range s.Object("properties").Members {
		p := m.Value.(*object)
		out.WriteString(comment("\t", p.Text("description")))
		name := pascal(strings.ReplaceAll(m.Name, "@", " at "))
		if at, is := strings.CutPrefix(m.Name, "@"); is {
			name = pascal("row " + at)
		}
		for used[name] {
			name += "_"
		}
		used[name] = true
		kind, null := g.of(p), nullable(p)
		options := ",omitempty"
		if slices.Contains(required, any(m.Name)) {
			options = ""
		}
		if (options != "" || null) && !strings.HasPrefix(kind, "[]") && !strings.HasPrefix(kind, "map[") && kind != "any" {
			kind = "*" + kind
		}
		out.WriteString("\t" + name + " " + kind + " `json:\"" + m.Name + options + "\"`\n")
	}
	return out.String()
}

func nullable(s *object) bool {
	_, null := kinds(s)
	_, other := alternatives(s)
	return null || other
}

// call is the method of an operation.
func (g golang) call(op operation) string {
	name := pascal(op.object.Text("operationId"))
	path, parameters := strconv.Quote(op.path), []string{"ctx context.Context"}
	taken := map[string]bool{"ctx": true, "call": true, "body": true, "c": true, "out": true, "etag": true, "err": true}
	for _, p := range op.parameters {
		if p.Text("in") != "path" {
			continue
		}
		own := lowerFirst(pascal(p.Text("name")))
		for taken[own] || goWords[own] {
			own += "_"
		}
		taken[own] = true
		kind := g.of(p.Object("schema"))
		parameters = append(parameters, own+" "+kind)
		path = strings.ReplaceAll(path, "{"+p.Text("name")+"}", `"+url.PathEscape(fmt.Sprint(`+own+`))+"`)
	}
	path = strings.TrimSuffix(path, `+""`)
	body := "nil"
	if s := op.body(); s != nil {
		parameters, body = append(parameters, "body "+g.of(s)), "body"
	}
	parameters = append(parameters, "call Call")
	about := "// " + name + ": " + op.object.Text("summary") + ".\n" + comment("", op.object.Text("description"))
	var shown *object
	for _, status := range []string{"200", "201"} {
		if s := g.answer(op, status); s != nil && shown == nil {
			shown = s
		}
	}
	head := about + "func (c *Client) " + name + "(" + strings.Join(parameters, ", ") + ") "
	if shown == nil {
		return head + "error {\n\t_, err := c.do(ctx, " + strconv.Quote(strings.ToUpper(op.method)) + ", " + path + ", call, " + body +
			", nil)\n\treturn err\n}\n\n"
	}
	return head + "(out " + g.of(shown) + ", etag string, err error) {\n\tetag, err = c.do(ctx, " +
		strconv.Quote(strings.ToUpper(op.method)) + ", " + path +
		", call, " + body + ", &out)\n\treturn out, etag, err\n}\n\n"
}

func lowerFirst(name string) string {
	if name == strings.ToUpper(name) {
		return strings.ToLower(name)
	}
	return strings.ToLower(name[:1]) + name[1:]
}

// goWords can't be the names of parameters.
var goWords = map[string]bool{"type": true, "range": true, "map": true, "func": true, "var": true, "const": true, "package": true,
	"import":    true,
	"interface": true, "select": true, "case": true, "default": true, "go": true, "return": true, "switch": true, "for": true, "if": true,
	"else": true, "chan": true, "defer": true, "break": true, "continue": true, "struct": true, "goto": true, "fallthrough": true,
	"string": true}
