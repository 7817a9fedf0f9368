package server

import (
	"net/url"
	"slices"
	"strings"

	"eagerwindow/internal/core/describe"
	"eagerwindow/internal/core/jsontree"
	"eagerwindow/internal/core/snippet"
)

// page is what the template shows.
type page struct {
	Title, Version, Server, TokenURL, Files, Contact string
	About                                            []string
	Release, Count, Of                               int
	Live, Index                                      bool
	Resource                                         string // the only one that the page is of; "": all
	Role                                             pageRole
	Roles                                            []pageRole
	Tags                                             []pageTag
	Downloads                                        []pageDownload
}

type pageRole struct {
	Name, Label string
	Chosen      bool
}

type pageDownload struct{ Version, JSON, YAML string }

type pageTag struct {
	Name, About, SchemaURL string
	Row                    *pageRow // what the rows of the resource have
	Operations             []pageOperation
}

type pageRow struct {
	Title, Example string
	Fields         []pageField
}

type pageField struct {
	Name, Type, About string
	Required          bool
}

type pageOperation struct {
	ID, Summary, Method, Path, Words, Permitted string
	About                                       []string
	Deprecated                                  bool
	Parameters                                  []pageParameter
	Body                                        *pageRow
	Answers                                     []pageAnswer
	Samples                                     []pageSample
	Ask                                         string // what a reader may ask for from here: "" for what changes rows
}

type pageParameter struct {
	Name, About, Type string
	Examples          []string
}

type pageAnswer struct{ Status, About string }

type pageSample struct{ Name, Text string }

// pageWriter reads a description for the page.
type pageWriter struct {
	doc   *jsontree.Object
	place describe.Place
	token bool // callers send one
}

// newPage is the page of a description of OpenAPI 3.1. at is its own address.
func newPage(doc *jsontree.Object, place describe.Place, at string) *page {
	info := doc.Object("info")
	w := &pageWriter{doc: doc, place: place, token: len(doc.List("security")) > 0 || place.Token != ""}
	p := &page{Title: info.Text("title"), Version: info.Text("version"), TokenURL: place.Token, Files: strings.TrimSuffix(at, "/"),
		About: blocks(info.Text("description"))}
	if servers := doc.List("servers"); len(servers) > 0 {
		p.Server = servers[0].(*jsontree.Object).Text("url")
	}
	if c := info.Object("contact"); c != nil {
		p.Contact = strings.Join(slices.DeleteFunc([]string{c.Text("name"), c.Text("email"), c.Text("url")},
			func(t string) bool { return t == "" }), ", ")
	}
	for _, version := range describe.Versions {
		d := pageDownload{Version: version}
		for i, form := range []string{"json", "yaml"} {
			query := url.Values{}
			if version != describe.Versions[0] {
				query.Set("openapi", version)
			}
			link := p.Files + "/openapi." + form
			if q := query.Encode(); q != "" {
				link += "?" + q
			}
			*[]*string{&d.JSON, &d.YAML}[i] = link
		}
		p.Downloads = append(p.Downloads, d)
	}
	for _, t := range doc.List("tags") {
		tag := t.(*jsontree.Object)
		one := w.tag(tag.Text("name"), tag.Text("description"))
		if one.Row != nil {
			one.SchemaURL = p.Files + "/schemas/" + url.PathEscape(one.Name) + ".json"
		}
		p.Count += len(one.Operations)
		p.Tags = append(p.Tags, one)
	}
	return p
}

// blocks are the paragraphs of a text.
func blocks(text string) []string {
	var out []string
	for part := range strings.SplitSeq(text, "\n\n") {
		if part = strings.TrimSpace(part); part != "" {
			out = append(out, part)
		}
	}
	return out
}

var methodOrder = []string{"get", "post", "patch", "put", "delete"}

func (w *pageWriter) tag(name, about string) pageTag {
	tag := pageTag{Name: name, About: about}
	for _, method := range methodOrder {
		for _, path := range w.doc.Object("paths").Members {
			item := path.Value.(*jsontree.Object)
			op := item.Object(method)
			if op == nil || len(op.List("tags")) == 0 || op.List("tags")[0] != name {
				continue
			}
			tag.Operations = append(tag.Operations, w.operation(path.Name, method, item.List("parameters"), op))
			if row := w.rowOf(op); row != nil && tag.Row == nil && method == "get" && name != "window" {
				tag.Row = row
			}
		}
	}
	// A list comes first, then one row, then what changes them.
	slices.SortStableFunc(tag.Operations, func(a, b pageOperation) int { return strings.Count(a.Path, "{") - strings.Count(b.Path, "{") })
	return tag
}

// rowOf is what the rows of an answer have.
func (w *pageWriter) rowOf(op *jsontree.Object) *pageRow {
	answer := w.resolve(op.Object("responses").Object("200"))
	schema := answer.Object("content").Object("application/json").Object("schema")
	target := w.resolve(schema)
	if items := target.Object("properties").Object("value").Object("items"); items != nil {
		schema, target = items, w.resolve(items)
	}
	name := nameOf(schema)
	if target.Text("type") != "object" || name == "" {
		return nil
	}
	title := strings.ReplaceAll(name, "_", " ")
	row := &pageRow{Title: strings.ToUpper(title[:1]) + title[1:], Fields: w.fields(target)}
	if examples := target.List("examples"); len(examples) > 0 {
		row.Example = string(jsontree.Append(nil, examples[0], true))
	}
	return row
}

func nameOf(schema *jsontree.Object) string {
	name, _ := strings.CutPrefix(schema.Text("$ref"), "#/components/schemas/")
	return name
}

func (w *pageWriter) fields(schema *jsontree.Object) []pageField {
	required := schema.List("required")
	var list []pageField
	for _, part := range schema.List("allOf") {
		list = append(list, w.fields(w.resolve(part.(*jsontree.Object)))...)
	}
	properties := schema.Object("properties")
	if properties == nil {
		return list
	}
	for _, m := range properties.Members {
		if strings.Contains(m.Name, "@") && !strings.HasSuffix(m.Name, "@delta") {
			continue
		}
		s := m.Value.(*jsontree.Object)
		list = append(list, pageField{Name: m.Name, Type: w.typeOf(s), About: w.notes(s), Required: slices.Contains(required, any(m.Name))})
	}
	return list
}

// resolve follows a reference.
func (w *pageWriter) resolve(o *jsontree.Object) *jsontree.Object {
	path, is := strings.CutPrefix(o.Text("$ref"), "#/components/")
	if !is {
		return o
	}
	kind, name, _ := strings.Cut(path, "/")
	return w.doc.Object("components").Object(kind).Object(name)
}

// typeOf is the type of a schema in words.
func (w *pageWriter) typeOf(s *jsontree.Object) string {
	if all := s.List("allOf"); len(all) > 0 {
		return w.typeOf(all[0].(*jsontree.Object))
	}
	if name := nameOf(s); name != "" {
		target := w.resolve(s)
		if target.Text("type") != "object" {
			return w.typeOf(target)
		}
		return strings.ReplaceAll(strings.TrimSuffix(name, "-nested"), "_", " ")
	}
	if anyOf := s.List("anyOf"); len(anyOf) > 0 {
		return w.typeOf(anyOf[0].(*jsontree.Object))
	}
	kind := s.Text("type")
	if kinds := s.List("type"); len(kinds) > 0 {
		kind, _ = kinds[0].(string)
	}
	switch format := s.Text("format"); {
	case kind == "array":
		of := w.typeOf(s.Object("items"))
		if !strings.ContainsAny(of, ",-") {
			of += "s"
		}
		return "list of " + of
	case format == "int64":
		return "integer, 64 bit"
	case format == "decimal":
		if step := string(jsontree.Append(nil, s.Get("multipleOf"), false)); strings.HasPrefix(step, "0.") {
			return "number, " + plural(len(step)-len("0."), "decimal")
		}
		return "number"
	case format == "int32", format == "double", format == "float":
		return kind
	case format != "":
		return format
	case kind == "":
		return "any JSON"
	}
	return kind
}

func plural(n int, of string) string {
	text := string(jsontree.Append(nil, n, false)) + " " + of
	if n != 1 {
		text += "s"
	}
	return text
}

// notes are what is to be known of a field besides its type.
func (w *pageWriter) notes(s *jsontree.Object) string {
	var notes []string
	target := s
	if all := s.List("allOf"); len(all) > 0 {
		target = w.resolve(all[0].(*jsontree.Object))
	} else if s.Has("$ref") {
		target = w.resolve(s)
	} else if anyOf := s.List("anyOf"); len(anyOf) > 0 {
		target = w.resolve(anyOf[0].(*jsontree.Object))
	}
	if values := target.List("enum"); values != nil {
		var texts []string
		for _, v := range values {
			if text, is := v.(string); is {
				texts = append(texts, text)
			}
		}
		notes = append(notes, strings.Join(texts, " · "))
	}
	number := func(name string) string {
		v := s.Get(name)
		if v == nil {
			return ""
		}
		return string(jsontree.Append(nil, v, false))
	}
	if text := s.Text("description"); text != "" {
		notes = append(notes, strings.TrimSuffix(text, "."))
	}
	if over := number("exclusiveMinimum"); over != "" {
		notes = append(notes, "above "+over)
	}
	low, high := number("minimum"), number("maximum")
	if s.Text("format") == "decimal" && low == "-"+high { // the type's own
		low, high = "", ""
	}
	if low != "" {
		notes = append(notes, "from "+low)
	}
	if most := number("maxLength"); most != "" {
		notes = append(notes, "at most "+most+" characters")
	}
	if pattern := s.Text("pattern"); pattern != "" {
		notes = append(notes, "as "+pattern)
	}
	if value := s.Get("default"); value != nil {
		notes = append(notes, "default "+string(jsontree.Append(nil, value, false)))
	}
	if s.Get("readOnly") == true {
		notes = append(notes, "made by the service")
	}
	if s.Get("deprecated") == true {
		notes = append(notes, "deprecated")
	}
	return strings.Join(notes, "; ")
}

func (w *pageWriter) operation(path, method string, shared jsontree.List, op *jsontree.Object) pageOperation {
	p := pageOperation{ID: op.Text("operationId"), Summary: op.Text("summary"), Method: strings.ToUpper(method), Path: path,
		About: blocks(op.Text("description")), Deprecated: op.Get("deprecated") == true, Permitted: permitted(op, w.doc)}
	words := []string{p.ID, p.Summary, path, op.Text("description")}
	request := snippet.Request{Method: p.Method, Token: w.token}
	concrete := path
	for _, ref := range append(slices.Clone(shared), op.List("parameters")...) {
		parameter := w.resolve(ref.(*jsontree.Object))
		schema := parameter.Object("schema")
		one := pageParameter{Name: parameter.Text("name"), About: parameter.Text("description"), Type: w.typeOf(schema)}
		if one.Type == "string" {
			one.Type = ""
		}
		for _, example := range schema.List("examples") {
			text, _ := example.(string)
			one.Examples = append(one.Examples, text)
		}
		words = append(words, one.Name, one.About)
		if values := w.resolve(schema).List("enum"); values != nil {
			one.About = strings.TrimSpace(one.About + " " + w.notes(schema))
		}
		p.Parameters = append(p.Parameters, one)
		value := w.valueFor(parameter)
		switch in := parameter.Text("in"); {
		case in == "path":
			concrete = strings.ReplaceAll(concrete, "{"+one.Name+"}", url.PathEscape(value))
		case in == "query" && parameter.Get("required") == true, in == "query" && one.Name == "select" && p.Method == "GET":
			request.Query = append(request.Query, snippet.Pair{Name: one.Name, Value: value})
		case in == "query" && one.Name == "top":
			request.Query = append(request.Query, snippet.Pair{Name: "top", Value: "2"})
		}
	}
	request.URL = w.place.Server + concrete
	if body := op.Object("requestBody"); body != nil {
		media := body.Object("content").Object("application/json")
		schema := w.resolve(media.Object("schema"))
		p.Body = &pageRow{Title: schema.Text("description"), Fields: w.fields(schema)}
		for _, f := range p.Body.Fields {
			words = append(words, f.Name)
		}
		request.Body = "{}"
		if example := media.Get("example"); example != nil {
			request.Body = string(jsontree.Append(nil, example, false))
		}
	}
	for _, m := range op.Object("responses").Members {
		p.Answers = append(p.Answers, pageAnswer{m.Name, w.resolve(m.Value.(*jsontree.Object)).Text("description")})
	}
	if row := w.rowOf(op); row != nil {
		for _, f := range row.Fields {
			words = append(words, f.Name)
		}
	}
	for _, l := range snippet.Languages {
		if l.Name != "HTTPie" {
			p.Samples = append(p.Samples, pageSample{l.Name, l.Write(request)})
		}
	}
	if p.Method == "GET" {
		at := snippet.Request{URL: request.URL, Query: request.Query}.Address()
		if u, err := url.Parse(at); err == nil {
			p.Ask = u.RequestURI()
		}
	}
	p.Words = strings.ToLower(strings.Join(words, " "))
	return p
}

// valueFor is an example of a parameter.
func (w *pageWriter) valueFor(parameter *jsontree.Object) string {
	value := parameter.Get("example")
	schema := w.resolve(parameter.Object("schema"))
	if examples := schema.List("examples"); value == nil && len(examples) > 0 {
		value = examples[0]
	}
	if values := schema.List("enum"); value == nil && len(values) > 0 {
		value = values[0]
	}
	if text, is := value.(string); is {
		return text
	}
	if value != nil {
		return string(jsontree.Append(nil, value, false))
	}
	return map[string]string{"date": "2026-06-01", "date-time": "2026-06-01T00:00:00Z", "int32": "1",
		"uuid": "5f0c1a52-7a1e-4c7b-9d3e-000000000011"}[schema.Text("format")]
}

// permitted lists the roles that may, where they are not the same for all operations.
func permitted(op, doc *jsontree.Object) string {
	security := op.List("security")
	if security == nil {
		security = doc.List("security")
	}
	var roles []string
	for _, s := range security {
		one := s.(*jsontree.Object)
		if len(one.Members) == 0 {
			roles = append(roles, "anyone")
		}
		for _, scope := range one.List("token") {
			roles = append(roles, scope.(string))
		}
	}
	return strings.Join(roles, ", ")
}
