// Package request reads the request language: OData 4.01 paths and query options (URL Conventions), with the dollar sign
// optional.
//
// A request goes through three steps. Read cuts the path and options into tokens and finds the shape, the request with its
// literals taken out; a caller that knows the shape already needs no more than that. Parse makes nodes of the tokens,
// Resolve binds the nodes to a model: unknown names and wrong types become faults with a position and a suggestion.
package request

import (
	"net/url"
	"slices"
	"strings"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
)

// Request is a request that has been read but not parsed: where it leads, its options in tokens, its shape.
type Request struct {
	Resource *model.Resource
	HasKey   bool
	Shape    string    // the same for all requests that differ only in their literals
	Literals []Literal // in the order of the shape
	After    string    // the continuation of a next link, "" where there is none
	key      []keyPart
	options  []option
	text     []string
}

// keyPart is one value of a key: by name in brackets, or by position.
type keyPart struct {
	name    string
	literal int
}

// option is one query option of the request, in tokens.
type option struct {
	name   string
	tokens []token
}

// nestedOptionNames are the options that collections take, also inside expand; their order is the order in the shape.
var nestedOptionNames = []string{"compute", "search", "filter", "orderby", "select", "expand", "top", "skip", "count", "levels"}

// optionNames are all query options of a request.
var optionNames = append(slices.Clone(nestedOptionNames[:len(nestedOptionNames)-1]), "skiptoken", "format")

// Read reads path, relative to the window and percent-encoded, and the raw query.
func Read(m *model.Model, path, rawQuery string) (*Request, error) {
	s := &scanner{shape: make([]byte, 0, 128), literals: make([]Literal, 0, 8), tokens: make([]token, 0, 64)}
	r := &Request{}
	if err := r.readPath(m, path, s); err != nil {
		return nil, err
	}
	values, aliases, err := readOptions(rawQuery)
	if err != nil {
		return nil, err
	}
	s.aliases = aliases
	r.text = append(r.text, path)
	for i, name := range optionNames {
		if !values[i].given {
			continue
		}
		switch name {
		case "skiptoken":
			r.After = values[i].text
			continue
		case "format":
			if f := strings.ToLower(values[i].text); f != "json" && f != "application/json" {
				return nil, fault.New(fault.NotAcceptable, "format.unknown", "format %q is not known; there is json", values[i].text).On("format")
			}
			continue
		}
		if r.HasKey && name != "select" && name != "expand" && name != "compute" {
			return nil, fault.New(fault.Invalid, "option.misplaced", "%s goes with a collection; this is one row, which takes select, expand and compute", name).On(name)
		}
		s.shape = append(s.shape, '&')
		s.shape = append(s.shape, name...)
		r.text = append(r.text, name, values[i].text)
		s.text, s.option, s.pos, s.parens = values[i].text, name, 0, 0
		first := len(s.tokens)
		scan := s.scan
		if name == "search" {
			scan = s.scanSearch
		}
		if err := scan(); err != nil {
			return nil, err
		}
		r.options = append(r.options, option{name, s.tokens[first:len(s.tokens):len(s.tokens)]})
	}
	if r.After != "" {
		s.shape = append(s.shape, "&after"...)
	}
	r.Shape, r.Literals = string(s.shape), s.literals
	return r, nil
}

// readPath walks the path by the model. A segment in the place of a key is a literal whatever it looks like.
func (r *Request) readPath(m *model.Model, path string, s *scanner) error {
	segments := strings.Split(strings.Trim(path, "/"), "/")
	for i, raw := range segments {
		text, err := url.PathUnescape(raw)
		if err != nil {
			return fault.New(fault.Invalid, "path.invalid", "the path has a percent sign that is no encoding: %q", raw).On("path")
		}
		segments[i] = text
	}
	name, bracket, hasBracket := strings.Cut(segments[0], "(")
	if r.Resource = m.Resource(name); r.Resource == nil {
		return fault.New(fault.NotFound, "resource.unknown", "there is no resource %q%s", name, fault.Suggest(name, m.ResourceNames())).On(name)
	}
	s.shape = append(s.shape, r.Resource.Name...)
	s.option = "path"
	rest := segments[1:]
	switch {
	case hasBracket:
		if err := r.readBracketKey(bracket, s); err != nil {
			return err
		}
	case len(rest) > 0 && rest[0] != "" && !strings.HasPrefix(rest[0], "$"):
		count := max(len(r.Resource.Key), 1)
		if len(rest) < count {
			return r.keyFault("%s has a key of %d parts (%s); the path gives %d", r.Resource.Name, count, keyNames(r.Resource), len(rest))
		}
		for _, text := range rest[:count] {
			r.key = append(r.key, keyPart{"", len(s.literals)})
			s.literal(Segment, text, 0)
		}
		rest = rest[count:]
		r.HasKey = true
	}
	if r.HasKey && len(r.Resource.Key) == 0 {
		return fault.New(fault.NotFound, "key.none", "%s has no key, so it has no single rows; filter the collection instead", r.Resource.Name).On(r.Resource.Name)
	}
	if len(rest) > 0 {
		where := "a collection"
		if r.HasKey {
			where = "a row"
		}
		return fault.New(fault.NotFound, "path.unknown", "the path goes on with %q, but nothing is served below %s of %s", rest[0], where, r.Resource.Name).On(rest[0])
	}
	return nil
}

// readBracketKey reads `17)` or `port_call_id=17,direction='inbound')`. `)` alone is the collection.
func (r *Request) readBracketKey(text string, s *scanner) error {
	text, closed := strings.CutSuffix(text, ")")
	if !closed {
		return r.keyFault("the key of %s is not closed: \")\" is missing", r.Resource.Name)
	}
	if text == "" {
		return r.keyFault("the key of %s is empty; write %s", r.Resource.Name, keyExample(r.Resource))
	}
	s.text, s.pos = text, 0
	s.shape = append(s.shape, '(')
	first := len(s.tokens)
	if err := s.scan(); err != nil {
		return err
	}
	s.shape = append(s.shape, ')')
	r.HasKey = true
	p := &parser{option: "path", tokens: s.tokens[first:], literals: s.literals}
	for {
		part := keyPart{}
		if t := p.peek(); t.kind == tokenName {
			p.i++
			part.name = t.text
			if err := p.expect('='); err != nil {
				return err
			}
		}
		t := p.next()
		if t.kind != tokenLiteral {
			return r.keyFault("the key of %s holds %s where a value is expected; write %s", r.Resource.Name, t, keyExample(r.Resource))
		}
		part.literal = t.literal
		r.key = append(r.key, part)
		if !p.accept(',') {
			return p.end()
		}
	}
}

func (r *Request) keyFault(format string, args ...any) error {
	return fault.New(fault.Invalid, "key.invalid", format, args...).On("path")
}

func keyNames(r *model.Resource) string {
	names := make([]string, len(r.Key))
	for i, f := range r.Key {
		names[i] = f.Name
	}
	return strings.Join(names, ", ")
}

// keyExample shows how a key of the resource is written in brackets.
func keyExample(r *model.Resource) string {
	if len(r.Key) == 1 {
		return r.Name + "(" + exampleOf(r.Key[0].Type) + ")"
	}
	parts := make([]string, len(r.Key))
	for i, f := range r.Key {
		parts[i] = f.Name + "=" + exampleOf(f.Type)
	}
	return r.Name + "(" + strings.Join(parts, ",") + ")"
}

type optionText struct {
	text  string
	given bool
}

// readOptions parts the raw query into options, in the order of optionNames. The dollar sign is optional, case does not matter.
// Options that begin with @ are parameter aliases.
func readOptions(rawQuery string) (values []optionText, aliases map[string]string, err error) {
	values = make([]optionText, len(optionNames))
	for rawQuery != "" {
		var pair string
		pair, rawQuery, _ = strings.Cut(rawQuery, "&")
		if pair == "" {
			continue
		}
		rawName, rawValue, _ := strings.Cut(pair, "=")
		name, err1 := url.QueryUnescape(rawName)
		value, err2 := url.QueryUnescape(rawValue)
		if err1 != nil || err2 != nil {
			return nil, nil, fault.New(fault.Invalid, "query.invalid", "the query has a percent sign that is no encoding: %q; a percent sign itself is written %%25", pair)
		}
		if strings.HasPrefix(name, "@") {
			if _, twice := aliases[name]; twice {
				return nil, nil, fault.New(fault.Invalid, "option.twice", "option %q stands twice", name).On(name)
			}
			if aliases == nil {
				aliases = map[string]string{}
			}
			aliases[name] = value
			continue
		}
		plain := strings.ToLower(strings.TrimPrefix(name, "$"))
		i := slices.Index(optionNames, plain)
		if i < 0 {
			return nil, nil, fault.New(fault.Invalid, "option.unknown", "unknown option %q%s", name, fault.Suggest(plain, optionNames)).On(name)
		}
		if values[i].given {
			return nil, nil, fault.New(fault.Invalid, "option.twice", "option %q stands twice", plain).On(plain)
		}
		values[i] = optionText{value, true}
	}
	return values, aliases, nil
}

// Path is the path as it was read.
func (r *Request) Path() string { return r.text[0] }

// Fingerprint is the path and the options, without the continuation: a next link belongs to them alone. Literals are told
// beside, as an alias gives them from elsewhere.
func (r *Request) Fingerprint() string {
	out := strings.Join(r.text, "\x00")
	for _, l := range r.Literals {
		out += "\x00" + l.String()
	}
	return out
}

// Parse makes nodes of the options.
func (r *Request) Parse() (*Options, error) {
	o := &Options{}
	for _, opt := range r.options {
		p := &parser{option: opt.name, tokens: opt.tokens, literals: r.Literals}
		if err := p.optionValue(opt.name, o); err != nil {
			return nil, err
		}
		if err := p.end(); err != nil {
			return nil, err
		}
	}
	return o, nil
}

// ParseRule parses a row rule: a filter on its own, with literals of its own.
func ParseRule(text string) (Node, error) {
	s := &scanner{text: text, option: "rows"}
	if err := s.scan(); err != nil {
		return nil, err
	}
	p := &parser{option: "rows", tokens: s.tokens, literals: s.literals}
	n, err := p.expression(1)
	if err != nil {
		return nil, err
	}
	return n, p.end()
}

// ParseOrder parses the order that a document gives a resource.
func ParseOrder(text string) ([]OrderNode, error) {
	s := &scanner{text: text, option: "order"}
	if err := s.scan(); err != nil {
		return nil, err
	}
	p := &parser{option: "order", tokens: s.tokens, literals: s.literals}
	terms, err := p.orderBy()
	if err != nil {
		return nil, err
	}
	return terms, p.end()
}
