package request

import (
	"net/url"
	"slices"
	"strconv"
	"strings"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/syntax"
)

// undone are parts of the standard that stand at the root of a service and are not done.
var undone = []string{"$all", "$crossjoin"}

// maxHops is how many relations a path may follow.
const maxHops = 8

// pathReader walks a path by the model (URL Conventions, 4): a segment in the place of a key is a literal whatever it looks
// like; after a row, a segment is a relation or a field.
type pathReader struct {
	r        *Request
	s        *scanned
	segments []string
	i        int
}

func (r *Request) readPath(m *model.Model, path string, s *scanned) error {
	p := &pathReader{r: r, s: s, segments: s.segments}
	for raw := range strings.SplitSeq(strings.Trim(path, "/"), "/") {
		text, err := url.PathUnescape(raw)
		if err != nil {
			return fault.New(fault.Invalid, "path.invalid", "the path has a percent sign that is no encoding: %q", raw).On("path")
		}
		p.segments = append(p.segments, text)
	}
	s.segments = p.segments
	name, bracket, hasBracket := strings.Cut(p.segments[0], "(")
	resource := m.Resource(name)
	if resource == nil && slices.Contains(undone, name) {
		return fault.New(fault.Unsupported, "path.unsupported", "%s of the standard is not done here", name).On(name)
	}
	if resource == nil {
		return fault.New(fault.NotFound, "resource.unknown", "there is no resource %q%s", name, fault.Suggest(name, m.ResourceNames())).On(name)
	}
	p.i = 1
	if err := p.enter(hop{resource: resource}, bracket, hasBracket); err != nil {
		return err
	}
	for p.i < len(p.segments) {
		if err := p.step(); err != nil {
			return err
		}
	}
	last := &r.hops[len(r.hops)-1]
	r.Resource, r.Single = last.resource, last.single()
	return nil
}

// enter goes to a resource, and to one row of it where brackets with a key follow.
func (p *pathReader) enter(h hop, bracket string, hasBracket bool) error {
	if len(p.r.hops) >= maxHops {
		return fault.New(fault.Invalid, "path.deep", "the path follows more than %d relations", maxHops-1).On("path")
	}
	p.s.Shape = append(append(p.s.Shape, '/'), h.resource.Name...)
	if h.via != nil {
		p.s.Shape = append(append(p.s.Shape, '~'), h.via.Name...)
	}
	if h.resource.Query != nil {
		p.r.params = slices.Repeat([]int{-1}, len(h.resource.Query.Parameters))
		p.r.hops = append(p.r.hops, h)
		if hasBracket {
			return p.bracketParameters(h.resource, bracket)
		}
		return nil
	}
	if hasBracket && bracket == ")" && len(h.resource.Key) == 0 && !h.single() {
		hasBracket = false // a function without parameters (URL Conventions, 4.5)
	}
	if hasBracket {
		if h.single() {
			return fault.New(fault.Invalid, "key.invalid", "%s leads to one row, so it takes no key", h.via.Name).On("path")
		}
		key, err := p.bracketKey(h.resource, bracket)
		if err != nil {
			return err
		}
		h.key = key
	}
	p.r.hops = append(p.r.hops, h)
	return nil
}

// step reads what follows a resource, a row or a field.
func (p *pathReader) step() error {
	h, segment := &p.r.hops[len(p.r.hops)-1], p.segments[p.i]
	switch {
	case p.r.View != query.Rows:
		return p.nothing(segment)
	case p.r.Field != nil && segment != "$value" && segment != "$count":
		return p.below(segment)
	case strings.HasPrefix(segment, "$"):
		return p.system(h, segment)
	case !h.single():
		return p.key(h)
	}
	name, bracket, hasBracket := strings.Cut(segment, "(")
	if rel := h.resource.Relation(name); rel != nil {
		if len(p.r.filters) > 0 {
			return fault.New(fault.Unsupported, "path.unsupported",
				"a filter in the path before the relation %s is not done here; ask for the row by its key, as in /%s/…/%s", name, h.resource.Name,
				name).On("path")
		}
		p.i++
		return p.enter(hop{resource: rel.To, via: rel, start: p.i - 1}, bracket, hasBracket)
	}
	if f := h.resource.Field(segment); f != nil {
		p.i++
		p.r.Field = f
		p.s.Shape = append(append(p.s.Shape, "/."...), f.Name...)
		return nil
	}
	known := append(h.resource.RelationNames(), h.resource.FieldNames()...)
	return fault.New(fault.NotFound, "path.unknown", "%s has no relation or field %q%s", h.resource.Name, segment,
		fault.Suggest(segment, known)).On(segment)
}

// below reads a segment that names a part of a field's value.
func (p *pathReader) below(segment string) error {
	switch t := p.r.Field.Type; {
	case strings.HasPrefix(segment, "$"), t.Kind != model.JSON && t.Parts() == nil:
		return p.nothing(segment)
	}
	p.i++
	p.r.below = append(p.r.below, segment)
	p.s.Shape = strconv.AppendQuote(append(p.s.Shape, '/'), segment)
	return nil
}

func (p *pathReader) nothing(segment string) error {
	return fault.New(fault.NotFound, "path.unknown", "the path goes on with %q, but nothing follows %q", segment,
		p.segments[p.i-1]).On(segment)
}

// system reads a segment that begins with a dollar sign.
func (p *pathReader) system(h *hop, segment string) error {
	if strings.HasPrefix(segment, "$filter(") && !h.single() {
		return p.filter(segment)
	}
	p.s.Shape = append(append(p.s.Shape, '/'), segment...)
	switch {
	case segment == "$value" && p.r.Field != nil:
		p.r.View = query.Bare
	case segment == "$count" && (!h.single() || p.r.Field != nil):
		p.r.View = query.Number
	case segment == "$each" && !h.single():
		if p.r.View = query.Each; len(p.r.filters) == 0 {
			return fault.New(fault.Invalid, "each.unfiltered", "$each follows a filter: /%s/$filter(…)/$each; without one it would mean every row",
				h.resource.Name).On(segment)
		}
	case segment == "$ref":
		p.r.View = query.Refs
	case segment == "$value":
		return fault.New(fault.Invalid, "path.unknown", "$value follows a field, as in /%s/…/%s/$value", h.resource.Name,
			h.resource.Fields[0].Name).On(segment)
	case segment == "$count":
		return fault.New(fault.Invalid, "path.unknown", "$count follows a collection; this is one row").On(segment)
	default:
		return fault.New(fault.NotFound, "path.unknown", "there is no path segment %q%s", segment,
			fault.Suggest(segment, []string{"$count", "$value", "$ref", "$filter(…)", "$each", "$query"})).On(segment)
	}
	p.i++
	return nil
}

// filter reads `$filter(status eq 'expected')`, which holds together with the filter among the options (URL Conventions, 4.12).
func (p *pathReader) filter(segment string) error {
	text, closed := strings.CutSuffix(strings.TrimPrefix(segment, "$filter("), ")")
	if !closed {
		return fault.New(fault.Invalid, "syntax.invalid",
			"$filter(…) in the path is not closed: \")\" is missing. One with a slash in it is written as an alias: $filter(@f)?@f=…").On("path")
	}
	s := p.s
	s.Shape = append(s.Shape, "/$filter("...)
	tokens, err := s.Scan("path", text)
	if err != nil {
		return err
	}
	s.Shape = append(s.Shape, ')')
	p.r.filters = append(p.r.filters, tokens)
	p.i++
	return nil
}

// key reads as many segments as the key has parts.
func (p *pathReader) key(h *hop) error {
	count := len(h.resource.Key)
	if count == 0 {
		return noKey(h.resource)
	}
	rest := p.segments[p.i:]
	if len(rest) < count {
		return keyFault("%s has a key of %d parts (%s); the path gives %d", h.resource.Name, count, keyNames(h.resource), len(rest))
	}
	first := len(p.r.keys)
	for _, text := range rest[:count] {
		p.r.keys = append(p.r.keys, keyPart{"", len(p.s.Literals)})
		p.s.Segment(text)
	}
	h.key = p.r.keys[first:len(p.r.keys):len(p.r.keys)]
	p.i += count
	return nil
}

func noKey(r *model.Resource) error {
	return fault.New(fault.NotFound, "key.none", "%s has no key, so it has no single rows; filter the collection instead", r.Name).On(r.Name)
}

// bracketKey reads `17)` or `port_call_id=17,direction='inbound')`.
func (p *pathReader) bracketKey(r *model.Resource, text string) ([]keyPart, error) {
	if len(r.Key) == 0 {
		return nil, noKey(r)
	}
	text, closed := strings.CutSuffix(text, ")")
	if !closed {
		return nil, keyFault("the key of %s is not closed: \")\" is missing", r.Name)
	}
	if text == "" {
		return nil, keyFault("the key of %s is empty; write %s", r.Name, keyExample(r))
	}
	s := p.s
	s.Shape = append(s.Shape, '(')
	words, err := s.Scan("path", text)
	if err != nil {
		return nil, err
	}
	s.Shape = append(s.Shape, ')')
	tokens := &syntax.Parser{Option: "path", Tokens: words, Literals: s.Literals}
	var key []keyPart
	for {
		part := keyPart{}
		if t := tokens.Peek(); t.Kind == syntax.TokenName {
			tokens.I++
			part.name = t.Text
			if err := tokens.Expect('='); err != nil {
				return nil, err
			}
		}
		t := tokens.Next()
		if t.Kind != syntax.TokenLiteral {
			return nil, keyFault("the key of %s holds %s where a value is expected; write %s", r.Name, t, keyExample(r))
		}
		part.literal = t.Literal
		key = append(key, part)
		if !tokens.Accept(',') {
			return key, tokens.End()
		}
	}
}

// takes reports whether an option goes with the place that the path leads to.
func (r *Request) takes(option string) error {
	var takes []string
	var what string
	switch {
	case r.Field != nil:
		what = "a field, which takes no options"
	case r.View == query.Each:
		what, takes = "each row of a filter, which takes select, expand and compute for its answer", []string{"select", "expand", "compute"}
	case r.View == query.Number:
		what, takes = "a count, which takes filter, search and apply", []string{"filter", "search", "apply"}
	case r.Single && r.View == query.Refs:
		what = "a link, which takes no options"
	case r.Single:
		what, takes = "one row, which takes select, expand and compute", []string{"select", "expand", "compute"}
	default:
		return nil
	}
	for _, t := range takes {
		if t == option {
			return nil
		}
	}
	return fault.New(fault.Invalid, "option.misplaced", "%s goes with a collection; this is %s", option, what).On(option)
}

func keyFault(format string, args ...any) error {
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
		return r.Name + "(" + query.ExampleOf(r.Key[0].Type) + ")"
	}
	parts := make([]string, len(r.Key))
	for i, f := range r.Key {
		parts[i] = f.Name + "=" + query.ExampleOf(f.Type)
	}
	return r.Name + "(" + strings.Join(parts, ",") + ")"
}
