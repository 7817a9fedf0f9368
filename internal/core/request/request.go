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
	"strconv"
	"strings"
	"sync"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/syntax"
)

// Request is a request that has been read but not parsed: where it leads, its options in tokens, its shape.
type Request struct {
	Resource *model.Resource // at the end of the path
	Single   bool            // the path leads to one row of it, not to a collection
	Field    *model.Field    // the path leads to this field of the row
	View     query.View
	below    []string         // what the path names in the value of the field
	Shape    string           // the same for all requests that differ only in their literals
	Literals []syntax.Literal // in the order of the shape
	After    string           // the continuation of a next link, "" where there is none
	hops     []hop
	keys     []keyPart // of all hops
	options  []option
	filters  [][]syntax.Token // of $filter(…) in the path
	params   []int            // of a named query: the literal of each parameter
	shown    []syntax.ExpandNode
	text     []string // the path, then the options as they were given, each after its name
	aliases  map[string]string
	scanned  *scanned // the options' tokens
	room     struct { // for as much as most requests have
		hops     [2]hop
		keys     [1]keyPart
		literals [1]syntax.Literal
		text     [7]string
	}
}

// scanned is what reading a request needs until it is resolved.
type scanned struct {
	syntax.Reader
	segments []string // of the path
	options  []option
}

// scans go from one request to the next, with their room for tokens and shapes.
var scans = sync.Pool{New: func() any {
	return &scanned{Reader: syntax.Reader{Tokens: make([]syntax.Token, 0, 64), Shape: make([]byte, 0, 256)}, segments: make([]string, 0, 8),
		options: make([]option, 0, len(optionNames))}
}}

// Release gives back what only resolving needs. The request keeps its place, literals and shape.
func (r *Request) Release() {
	if r != nil && r.scanned != nil {
		scans.Put(r.scanned)
		r.scanned, r.options = nil, nil
	}
}

// hop is one resource of a path: the first, or one that a relation leads to.
type hop struct {
	resource *model.Resource
	via      *model.Relation
	key      []keyPart
	start    int // of its first segment
}

func (h *hop) single() bool { return h.key != nil || h.via != nil && !h.via.Many }

// keyPart is one value of a key: by name in brackets, or by position.
type keyPart struct {
	name    string
	literal int
}

// option is one query option of the request, in tokens.
type option struct {
	name   string
	tokens []syntax.Token
}

// optionNames are all query options of a request, in the order of the shape.
var optionNames = [...]string{"apply", "compute", "search", "filter", "orderby", "select", "expand", "top", "skip", "count", "skiptoken",
	"format"}

// Read reads path, relative to the window and percent-encoded, and the raw query.
func Read(m *model.Model, path, rawQuery string) (*Request, error) {
	s := scans.Get().(*scanned)
	r := &Request{scanned: s}
	*s = scanned{Reader: syntax.Reader{Request: true, Shape: s.Shape[:0], Tokens: s.Tokens[:0], Literals: r.room.literals[:0]},
		segments: s.segments[:0],
		options:  s.options[:0]}
	r.hops, r.keys, r.text, r.options = r.room.hops[:0], r.room.keys[:0], r.room.text[:0], s.options
	values, aliases, others, err := readOptions(rawQuery)
	if err != nil {
		return nil, err
	}
	s.Aliases, r.aliases = aliases, aliases
	if err := r.readPath(m, path, s); err != nil {
		return nil, err
	}
	if err := r.readParameters(others, s); err != nil {
		return nil, err
	}
	r.text = append(r.text, path)
	var wrong []error
	for i, name := range optionNames {
		if !values[i].given {
			continue
		}
		switch name {
		case "skiptoken":
			r.After = values[i].text
			continue
		case "format":
			continue // how an answer is written is no matter of what it says
		}
		if err := r.takes(name); err != nil {
			wrong = append(wrong, err)
			continue
		}
		s.Shape = append(append(s.Shape, '&'), name...)
		r.text = append(r.text, name, values[i].text)
		tokens, err := s.Scan(name, values[i].text)
		if err != nil {
			wrong = append(wrong, err)
			continue
		}
		r.options = append(r.options, option{name, tokens})
	}
	if wrong != nil {
		return nil, (&mistakes{wrong}).fault()
	}
	if len(s.Tokens) > maxTokens {
		return nil, fault.New(fault.Invalid, "limit.size",
			"the request has %d words and values, at most %d are read; a long list of values can be sent as one alias: in @list", len(s.Tokens),
			maxTokens)
	}
	if r.After != "" {
		s.Shape = append(s.Shape, "&after"...)
	}
	r.Shape, r.Literals = string(s.Shape), s.Literals
	return r, nil
}

// maxTokens bounds the words, values and marks of a request. A list counts as one.
const maxTokens = 2000

// undoneOptions are options of the standard that are not done.
var undoneOptions = []string{"deltatoken", "id", "index", "levels", "schemaversion"}

type optionText struct {
	text  string
	given bool
}

// otherOption is one that the language does not know: a parameter of a named query, or a mistake.
type otherOption struct{ name, text string }

// readOptions splits the raw query into options, in the order of optionNames. The dollar sign is optional, case does not matter.
// Options that begin with @ are parameter aliases.
func readOptions(rawQuery string) (values [len(optionNames)]optionText, aliases map[string]string, others []otherOption, err error) {
	for rawQuery != "" {
		var pair string
		pair, rawQuery, _ = strings.Cut(rawQuery, "&")
		if pair == "" {
			continue
		}
		rawName, rawValue, _ := strings.Cut(pair, "=")
		name, err1 := unescaped(rawName)
		value, err2 := unescaped(rawValue)
		if err1 != nil || err2 != nil {
			return values, nil, nil, fault.New(fault.Invalid, "query.invalid",
				"the query has a percent sign that is no encoding: %q; a percent sign itself is written %%25", pair)
		}
		if strings.HasPrefix(name, "@") {
			if _, twice := aliases[name]; twice {
				return values, nil, nil, fault.New(fault.Invalid, "option.twice", "option %q stands twice", name).On(name)
			}
			if aliases == nil {
				aliases = map[string]string{}
			}
			aliases[name] = value
			continue
		}
		plain := strings.ToLower(strings.TrimPrefix(name, "$"))
		i := slices.Index(optionNames[:], plain)
		if i < 0 && slices.Contains(undoneOptions, plain) {
			return values, nil, nil, fault.New(fault.Unsupported, "option.unsupported", "the option %s of the standard is not done here",
				plain).On(name)
		}
		if i < 0 {
			others = append(others, otherOption{name, value})
			continue
		}
		if values[i].given {
			return values, nil, nil, fault.New(fault.Invalid, "option.twice", "option %q stands twice", plain).On(plain)
		}
		values[i] = optionText{value, true}
	}
	return values, aliases, others, nil
}

// Entity is the request for the row that $id names (Protocol, 10.4): its path and the other options. A row is named by its path, relative
// to the window or from its root on.
func Entity(root, rawQuery string) (path, options string, err error) {
	var kept []string
	for pair := range strings.SplitSeq(rawQuery, "&") {
		name, value, _ := strings.Cut(pair, "=")
		if plain, err := unescaped(name); err != nil || strings.ToLower(strings.TrimPrefix(plain, "$")) != "id" {
			kept = append(kept, pair)
			continue
		}
		if path != "" {
			return "", "", fault.New(fault.Invalid, "option.twice", "option %q stands twice", "id").On("id")
		}
		if path, err = url.PathUnescape(value); err != nil {
			return "", "", fault.New(fault.Invalid, "query.invalid", "$id has a percent sign that is no encoding: %q", value).On("$id")
		}
	}
	if u, err := url.Parse(path); err == nil && u.Host != "" {
		path = u.EscapedPath()
	}
	path = strings.TrimPrefix(strings.TrimPrefix(path, root+"/"), "/")
	if path == "" || strings.HasPrefix(path, "$") {
		return "", "", fault.New(fault.Invalid, "option.missing", "$entity takes the row as $id, as in $entity?$id=vessels/3").On("$id")
	}
	return path, strings.Join(kept, "&"), nil
}

// unescaped undoes the encoding of a part of a query; most have none.
func unescaped(raw string) (string, error) {
	if strings.IndexByte(raw, '%') < 0 && strings.IndexByte(raw, '+') < 0 {
		return raw, nil
	}
	return url.QueryUnescape(raw)
}

// Options names the options of the request.
func (r *Request) Options() []string {
	names := make([]string, len(r.options))
	for i, o := range r.options {
		names[i] = o.name
	}
	return names
}

// HasOptions reports whether the request has any options.
func (r *Request) HasOptions() bool { return len(r.options) > 0 }

// Path is the path as it was read.
func (r *Request) Path() string { return r.text[0] }

// Parent is the path of the row that the last relation of the path starts from, "" where the path has none.
func (r *Request) Parent() string {
	if len(r.hops) < 2 {
		return ""
	}
	segments := strings.Split(strings.Trim(r.text[0], "/"), "/")
	return strings.Join(segments[:r.hops[len(r.hops)-1].start], "/")
}

// Number is the value of top or skip, which are whole numbers; -1 where it is not given.
func (r *Request) Number(option string) (int64, error) {
	for _, o := range r.options {
		if o.name != option {
			continue
		}
		p := syntax.Parser{Option: option, Tokens: o.tokens, Literals: r.Literals}
		n, err := p.Number(option)
		if err != nil {
			return 0, err
		}
		return strconv.ParseInt(r.Literals[n].Text, 10, 64)
	}
	return -1, nil
}

// Alternate reports whether the path names its first row by another key than the resource's own.
func (r *Request) Alternate() bool {
	if r.hops[0].key == nil {
		return false
	}
	of := r.keyFields(0)
	return len(of) > 0 && len(r.hops[0].resource.Key) > 0 && !slices.Equal(of, r.hops[0].resource.Key)
}

// Filtered reports whether the path holds a filter.
func (r *Request) Filtered() bool { return len(r.filters) > 0 }

// Via is the relation at the end of the path, nil where there is none.
func (r *Request) Via() *model.Relation { return r.hops[len(r.hops)-1].via }

// ToOne reports whether the path ends with a relation to one, which may lead to no row.
func (r *Request) ToOne() bool {
	last := r.hops[len(r.hops)-1]
	return last.via != nil && !last.via.Many
}

// Fingerprint is the path and the options, without the continuation: a next link belongs to them alone. Literals are reported
// beside, as an alias gives them from elsewhere.
func (r *Request) Fingerprint() string {
	out := strings.Join(r.text, "\x00")
	for _, l := range r.Literals {
		out += "\x00" + l.String()
	}
	return out
}

// Parse makes nodes of the options.
func (r *Request) Parse() (*syntax.Options, error) {
	o := &syntax.Options{}
	wrong := &mistakes{}
	for _, opt := range r.options {
		p := &syntax.Parser{Option: opt.name, Tokens: opt.tokens, Literals: r.Literals}
		err := p.OptionValue(opt.name, o)
		if err == nil {
			err = p.End()
		}
		wrong.add(err)
	}
	if err := wrong.fault(); err != nil {
		return nil, err
	}
	for _, tokens := range r.filters {
		p := &syntax.Parser{Option: "path", Tokens: tokens, Literals: r.Literals}
		filter, err := p.Filter()
		if err != nil {
			return nil, err
		}
		if o.Apply != nil {
			o.Apply = append([]syntax.StepNode{{Name: "filter", Filter: filter}}, o.Apply...)
			continue
		}
		if o.Filter != nil {
			filter = &syntax.BinaryNode{Operator: "and", Left: filter, Right: o.Filter}
		}
		o.Filter = filter
	}
	if o.Expand == nil {
		o.Expand = r.shown
	}
	return o, nil
}
