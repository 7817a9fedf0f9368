package window

import (
	"bytes"
	_ "embed"
	"errors"
	"io"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"eagerwindow/internal/core/fault"
)

// Schema is the JSON Schema (2020-12) of the window document.
//
//go:embed schema.json
var Schema []byte

// Parse reads a document. lookup finds environment variables for ${NAME} and ${NAME:-default}, as far as documents may read them: in source
// those whose names end in _DSN, in issuers and servers the others, elsewhere none. With a nil lookup all stays as it is written. The error
// is a fault whose details are all the mistakes that can be told without a database.
func Parse(text []byte, lookup func(string) (string, bool)) (*Document, error) {
	var root yaml.Node
	stream := yaml.NewDecoder(bytes.NewReader(text))
	if err := stream.Decode(&root); err != nil && !errors.Is(err, io.EOF) {
		return nil, syntaxFault(text, err)
	}
	p := &parser{lookup: lookup, source: strings.Split(string(text), "\n")}
	doc := &Document{}
	if len(root.Content) == 0 {
		p.mistakes.Add("document.empty", "", 1, 1, `the document is empty; it needs at least "window", "source" and "resources"`)
	} else {
		p.document(doc, root.Content[0])
		if err := p.overlays(doc, stream); err != nil {
			return nil, syntaxFault(text, err)
		}
	}
	if err := p.mistakes.Fault(fault.Invalid, "document.invalid", "the window document has mistakes:"); err != nil {
		return nil, err
	}
	return doc, nil
}

var syntaxLine = regexp.MustCompile(`line (\d+)(?:, column (\d+))?:? ?`)

func syntaxFault(text []byte, err error) error {
	message, line, column := strings.TrimPrefix(err.Error(), "yaml: "), 1, 1
	if m := syntaxLine.FindStringSubmatchIndex(message); m != nil {
		line, _ = strconv.Atoi(message[m[2]:m[3]])
		if m[4] >= 0 {
			column, _ = strconv.Atoi(message[m[4]:m[5]])
		}
		message = message[:m[0]] + message[m[1]:]
	}
	var l fault.List
	if lines := strings.Split(string(text), "\n"); line <= len(lines) {
		indent := lines[line-1][:len(lines[line-1])-len(strings.TrimLeft(lines[line-1], " \t"))]
		if at := strings.IndexByte(indent, '\t'); at >= 0 {
			l.Add("document.syntax", "", line, at+1, "a tab indents this line; YAML is indented with blanks")
			return l.Fault(fault.Invalid, "document.syntax", "")
		}
	}
	l.Add("document.syntax", "", line, column, "this is not YAML: %s", message)
	return l.Fault(fault.Invalid, "document.syntax", "")
}

type parser struct {
	source   []string // the lines of the document
	lookup   func(string) (string, bool)
	reads    variables // where the parser is
	mistakes fault.List
}

// variables says which environment variables a part of the document may read.
type variables uint8

const (
	noVariables variables = iota
	sourceVariables
	addressVariables
)

// dsnSuffix ends the names of variables that hold passwords of databases.
const dsnSuffix = "_DSN"

func (v variables) takes(name string) bool {
	return v == sourceVariables && strings.HasSuffix(name, dsnSuffix) || v == addressVariables && !strings.HasSuffix(name, dsnSuffix)
}

// where is what may be read where, for a message.
func (v variables) where() string {
	switch v {
	case sourceVariables:
		return "source reads variables whose names end in _DSN"
	case addressVariables:
		return "issuers and servers read variables whose names do not end in _DSN"
	}
	return "only source, issuers and servers read variables"
}

// reading lets a part of the document read variables.
func (p *parser) reading(v variables, read func(*yaml.Node)) func(*yaml.Node) {
	return func(n *yaml.Node) {
		before := p.reads
		p.reads = v
		read(n)
		p.reads = before
	}
}

func (p *parser) addError(n *yaml.Node, code, format string, args ...any) {
	p.mistakes.Add(code, "", n.Line, n.Column, format, args...)
}

// entry is one key of a mapping with its value.
type entry struct{ key, value *yaml.Node }

// mapping lists the entries of a mapping; anything else is a mistake that says what was expected.
func (p *parser) mapping(n *yaml.Node, what string) []entry {
	if n.Kind == yaml.AliasNode {
		n = n.Alias
	}
	if n.Kind == yaml.ScalarNode && n.Tag == "!!null" {
		return nil
	}
	if n.Kind != yaml.MappingNode {
		p.addError(n, "document.type", "%s is a mapping of names to values, this is %s", what, kindOf(n))
		return nil
	}
	seen := map[string]int{}
	var list []entry
	for i := 0; i+1 < len(n.Content); i += 2 {
		e := entry{n.Content[i], n.Content[i+1]}
		if first, again := seen[e.key.Value]; again {
			p.addError(e.key, "document.duplicate", "%q stands twice in %s, first in line %d", e.key.Value, what, first)
			continue
		}
		seen[e.key.Value] = e.key.Line
		list = append(list, e)
	}
	return list
}

// keys hands each entry of a mapping to the function of its key; unknown keys are mistakes.
func (p *parser) keys(n *yaml.Node, what string, known map[string]func(*yaml.Node)) {
	for _, e := range p.mapping(n, what) {
		if read, ok := known[e.key.Value]; ok {
			read(e.value)
			continue
		}
		p.addError(e.key, "key.unknown", "unknown key %q in %s%s", e.key.Value, what, fault.Suggest(e.key.Value, slices.Sorted(maps.Keys(known))))
	}
}

func (p *parser) list(n *yaml.Node, what string) []Text {
	if n.Kind == yaml.ScalarNode && n.Tag != "!!null" {
		return []Text{p.text(n, what)}
	}
	if n.Kind != yaml.SequenceNode {
		p.addError(n, "document.type", "%s is a list, this is %s", what, kindOf(n))
		return nil
	}
	var out []Text
	for _, item := range n.Content {
		out = append(out, p.text(item, what))
	}
	return out
}

var variable = regexp.MustCompile(`\$\{([A-Za-z_][A-Za-z0-9_]*)(:-([^}]*))?\}`)

// text is a scalar with its variables filled in.
func (p *parser) text(n *yaml.Node, what string) Text {
	if n.Kind == yaml.AliasNode {
		n = n.Alias
	}
	t := Text{Pos: Pos{n.Line, n.Column}}
	if n.Kind != yaml.ScalarNode || n.Tag == "!!null" {
		p.addError(n, "document.type", "%s is a text, this is %s", what, kindOf(n))
		return t
	}
	if p.lookup == nil { // variables stay as they stand
		t.Value = n.Value
		return t
	}
	t.Value = variable.ReplaceAllStringFunc(n.Value, func(m string) string {
		part := variable.FindStringSubmatch(m)
		if !p.reads.takes(part[1]) {
			p.addError(n, "variable.misplaced", "%s can't be read here: %s", m, p.reads.where())
			return m
		}
		if v, ok := p.lookup(part[1]); ok {
			return v
		}
		if part[2] == "" {
			p.addError(n, "variable.missing", "there is no variable %s that documents may read (see EAGER_DOCUMENT_ENV); set it, or write "+
				"${%s:-default}",
				part[1], part[1])
		}
		return part[3]
	})
	return t
}

func (p *parser) into(t *Text, what string) func(*yaml.Node) {
	return func(n *yaml.Node) { *t = p.text(n, what) }
}

func (p *parser) str(s *string, what string) func(*yaml.Node) {
	return func(n *yaml.Node) { *s = p.text(n, what).Value }
}

func (p *parser) boolean(b *bool, what string) func(*yaml.Node) {
	return func(n *yaml.Node) {
		if err := n.Decode(b); err != nil || n.Tag != "!!bool" {
			p.addError(n, "document.type", "%s is true or false, this is %s", what, kindOf(n))
		}
	}
}

func (p *parser) document(d *Document, n *yaml.Node) {
	p.keys(n, "the document", map[string]func(*yaml.Node){
		"window":  p.into(&d.Window, "window"),
		"title":   p.str(&d.Title, "title"),
		"about":   p.str(&d.About, "about"),
		"version": p.str(&d.Version, "version"),
		"source":  p.reading(sourceVariables, p.into(&d.Source, "source")),
		"resources": func(n *yaml.Node) {
			for _, e := range p.mapping(n, "resources") {
				d.Resources = append(d.Resources, p.resource(e))
			}
		},
		"saved_views": func(n *yaml.Node) {
			for _, e := range p.mapping(n, "saved_views") {
				d.Views = append(d.Views, p.savedView(e))
			}
		},
		"queries": func(n *yaml.Node) {
			for _, e := range p.mapping(n, "queries") {
				d.Queries = append(d.Queries, p.query(e))
			}
		},
		"roles": func(n *yaml.Node) {
			for _, e := range p.mapping(n, "roles") {
				d.Roles = append(d.Roles, p.role(e))
			}
		},
		"sign_in":     func(n *yaml.Node) { d.SignIn = p.signIn(n) },
		"browsers":    func(n *yaml.Node) { d.Origins = p.browsers(n) },
		"description": func(n *yaml.Node) { d.Description = p.description(n) },
		"follow":      p.boolean(&d.Follow, "follow"),
		"publish": func(n *yaml.Node) {
			p.keys(n, "publish", map[string]func(*yaml.Node){"require": func(n *yaml.Node) { d.Require = p.list(n, "require") }})
		},
	})
	p.checkPublic(d)
	switch {
	case d.Window.Value == "" && d.Window.Line == 0:
		p.addError(n, "key.missing", `"window" is missing: the name of the API in its address, such as "saltmere"`)
	case d.Window.Value != "" && !windowName.MatchString(d.Window.Value):
		p.mistakes.Add("name.invalid", "", d.Window.Line, d.Window.Column,
			"the window's name %q stands in its address: use lower-case letters, digits and hyphens, at most 63, a letter first", d.Window.Value)
	}
	if d.Source.Line == 0 {
		p.addError(n, "key.missing", `"source" is missing: a DSN, or the name of a source that the service keeps`)
	}
	if a := d.SignIn.Accounts; a != nil && a.DefaultRole.Value != "" {
		i := slices.IndexFunc(d.Roles, func(r *Role) bool { return r.Name.Value == a.DefaultRole.Value })
		switch {
		case i < 0:
			p.mistakes.Add("role.unknown", "", a.DefaultRole.Line, a.DefaultRole.Column, "there is no role %q for those who sign up%s",
				a.DefaultRole.Value, fault.Suggest(a.DefaultRole.Value, roleNames(d.Roles)))
		case d.Roles[i].Anonymous:
			p.mistakes.Add("role.anonymous", "", a.DefaultRole.Line, a.DefaultRole.Column,
				"%q is the role of callers without a token; an account needs another one", a.DefaultRole.Value)
		}
	}
	anonymous := ""
	for _, r := range d.Roles {
		if r.Anonymous && anonymous != "" {
			p.mistakes.Add("role.anonymous", "", r.Name.Line, r.Name.Column, "only one role can be anonymous, and %q is already", anonymous)
		}
		if r.Anonymous {
			anonymous = r.Name.Value
			if len(r.Claims) > 0 {
				p.mistakes.Add("role.anonymous", "", r.Name.Line, r.Name.Column, "an anonymous role has no token, so it can't have claims")
			}
		}
	}
}

var (
	windowName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,62}$`)
	identifier = regexp.MustCompile(`^[\p{L}_][\p{L}\p{N}_]{0,127}$`)
)

// IsWindowName reports whether a name can be that of a window or a source.
func IsWindowName(s string) bool { return windowName.MatchString(s) }

// IsName reports whether a name can stand for a resource, field, relation or role in the query language (OData 4.01 CSDL, 15.2).
func IsName(s string) bool { return identifier.MatchString(s) }

func (p *parser) name(n *yaml.Node, what string) Text {
	t := Text{Pos: Pos{n.Line, n.Column}, Value: n.Value}
	if !IsName(t.Value) {
		p.addError(n, "name.invalid", "%q can't be the name of a %s: use letters, digits and underscores, at most 128, no digit first", t.Value,
			what)
	}
	return t
}

func (p *parser) resource(e entry) *Resource {
	r := &Resource{Name: p.name(e.key, "resource"), Page: DefaultPage}
	what := "resource " + strconv.Quote(r.Name.Value)
	p.keys(e.value, what, map[string]func(*yaml.Node){
		"from":  p.into(&r.From, "from"),
		"item":  func(n *yaml.Node) { r.Item = p.name(n, "row") },
		"about": p.str(&r.About, "about"),
		"key":   func(n *yaml.Node) { r.Key = p.list(n, "key") },
		"order": func(n *yaml.Node) { r.Order = p.list(n, "order") },
		"operations": func(n *yaml.Node) {
			r.Operations = []Operation{}
			for _, t := range p.list(n, "operations") {
				if op, ok := p.operation(t); ok {
					r.Operations = append(r.Operations, op)
				}
			}
		},
		"page": p.page(&r.Page),
		"if_match": func(n *yaml.Node) {
			if r.IfMatch = n.Value == "required"; !r.IfMatch {
				p.addError(n, "document.type", "if_match is \"required\" or left out, this is %q", n.Value)
			}
		},
		"fields": func(n *yaml.Node) {
			for _, e := range p.mapping(n, "fields") {
				r.Fields = append(r.Fields, p.field(e))
			}
		},
		"relations": func(n *yaml.Node) {
			for _, e := range p.mapping(n, "relations") {
				r.Relations = append(r.Relations, p.relation(e))
			}
		},
		"deprecated": func(n *yaml.Node) { r.Deprecated = p.deprecated(n) },
	})
	return r
}

func (p *parser) page(page *Page) func(*yaml.Node) {
	return func(n *yaml.Node) {
		p.keys(n, "page", map[string]func(*yaml.Node){
			"default": func(n *yaml.Node) { page.Default = p.rows(n, "default", false) },
			"max":     func(n *yaml.Node) { page.Max = p.rows(n, "max", true) },
		})
		if page.Max > 0 && page.Default > page.Max {
			p.addError(n, "page.invalid", "the default page of %d rows is over the maximum of %d", page.Default, page.Max)
		}
	}
}

// rows reads a number of rows of at least 1, or "none" for no limit where that is possible.
func (p *parser) rows(n *yaml.Node, what string, none bool) int {
	if none && n.Value == "none" {
		return 0
	}
	v, err := strconv.Atoi(n.Value)
	if err != nil || v < 1 || v > 10_000_000 {
		choice := ""
		if none {
			choice = `, or "none"`
		}
		p.addError(n, "page.invalid", "%s is a number of rows from 1 to 10000000%s, this is %q", what, choice, n.Value)
		return 1
	}
	return v
}

func (p *parser) field(e entry) *Field {
	f := &Field{Column: Text{Pos: Pos{e.key.Line, e.key.Column}, Value: e.key.Value}}
	expose := true
	p.keys(e.value, "field "+strconv.Quote(f.Column.Value), map[string]func(*yaml.Node){
		"name":   func(n *yaml.Node) { f.Name = p.name(n, "field") },
		"about":  p.str(&f.About, "about"),
		"expose": p.boolean(&expose, "expose"),

		"deprecated": p.boolean(&f.Deprecated, "deprecated"),
	})
	f.Hidden = !expose
	return f
}

func (p *parser) relation(e entry) *Relation {
	r := &Relation{Name: p.name(e.key, "relation")}
	expose := true
	p.keys(e.value, "relation "+strconv.Quote(r.Name.Value), map[string]func(*yaml.Node){
		"about":   p.str(&r.About, "about"),
		"expose":  p.boolean(&expose, "expose"),
		"to":      p.into(&r.To, "to"),
		"through": p.into(&r.Through, "through"),
		"on": func(n *yaml.Node) {
			for _, e := range p.mapping(n, "on") {
				r.On = append(r.On, Pair{p.text(e.key, "on"), p.text(e.value, "on")})
			}
		},
	})
	r.Hidden = !expose
	if r.To.Value == "" && (r.Through.Value != "" || len(r.On) > 0) {
		p.addError(e.key, "relation.invalid", "relation %q says how but not where: add \"to\" with a resource", r.Name.Value)
	}
	return r
}

func (p *parser) role(e entry) *Role {
	r := &Role{Name: p.name(e.key, "role")}
	p.keys(e.value, "role "+strconv.Quote(r.Name.Value), map[string]func(*yaml.Node){
		"about":     p.str(&r.About, "about"),
		"anonymous": p.boolean(&r.Anonymous, "anonymous"),
		"expect":    func(n *yaml.Node) { r.Expect = p.list(n, "expect") },
		"claims": func(n *yaml.Node) {
			for _, e := range p.mapping(n, "claims") {
				r.Claims = append(r.Claims, Claim{p.name(e.key, "claim"), p.text(e.value, "a claim's type")})
			}
		},
		"limits": func(n *yaml.Node) {
			p.keys(n, "limits", map[string]func(*yaml.Node){
				"rows": func(n *yaml.Node) { r.Limits.Rows = p.rows(n, "rows", false) },
				"depth": func(n *yaml.Node) {
					v, err := strconv.Atoi(n.Value)
					if r.Limits.Depth = v; err != nil || v < 1 || v > 8 {
						p.addError(n, "limit.invalid", "depth is how many relations deep a request may go, from 1 to 8, this is %q", n.Value)
					}
				},
				"cost": func(n *yaml.Node) {
					v, err := strconv.ParseFloat(n.Value, 64)
					if r.Limits.Cost = v; err != nil || !(v > 0) {
						p.addError(n, "limit.invalid", "cost is a number over 0, as the database's planner reckons, this is %q", n.Value)
					}
				},
				"requests": func(n *yaml.Node) {
					rate, ok := readRate(n.Value)
					if r.Limits.Requests = rate; !ok {
						p.addError(n, "limit.invalid", "requests is how many a caller may send over a time, such as 600/minute (second, minute, "+
							"hour or day), this is %q", n.Value)
					}
				},
				"concurrent": func(n *yaml.Node) {
					v, err := strconv.Atoi(n.Value)
					if r.Limits.Concurrent = v; err != nil || v < 1 {
						p.addError(n, "limit.invalid", "concurrent is how many requests of a caller may run at once, from 1, this is %q", n.Value)
					}
				},
				"time": func(n *yaml.Node) {
					v, err := time.ParseDuration(n.Value)
					if r.Limits.Time = v; err != nil || v < time.Millisecond {
						p.addError(n, "limit.invalid", "time is how long a statement may take, such as 3s or 500ms, this is %q", n.Value)
					}
				},
			})
		},
		"may": func(n *yaml.Node) {
			for _, e := range p.mapping(n, "may") {
				r.May = append(r.May, p.grant(e))
			}
		},
	})
	return r
}

// readRate reads 600/minute.
func readRate(text string) (Rate, bool) {
	count, per, _ := strings.Cut(text, "/")
	n, err := strconv.Atoi(strings.TrimSpace(count))
	for length, name := range rateNames {
		if name == strings.TrimSpace(per) {
			return Rate{n, length}, err == nil && n > 0
		}
	}
	return Rate{}, false
}

// grant reads the three spellings: one operation, a list of operations, or a mapping of operations to what limits them.
func (p *parser) grant(e entry) *Grant {
	g := &Grant{Resource: Text{Pos: Pos{e.key.Line, e.key.Column}, Value: e.key.Value}}
	if e.value.Kind != yaml.MappingNode {
		for _, t := range p.list(e.value, "a grant") {
			if op, ok := p.operation(t); ok {
				g.Allow = append(g.Allow, &Allowance{Pos: t.Pos, Operation: op})
			}
		}
		return g
	}
	for _, e := range p.mapping(e.value, "a grant") {
		op, ok := p.operation(Text{Pos: Pos{e.key.Line, e.key.Column}, Value: e.key.Value})
		if !ok {
			continue
		}
		a := &Allowance{Pos: Pos{e.key.Line, e.key.Column}, Operation: op}
		p.keys(e.value, e.key.Value, map[string]func(*yaml.Node){
			"rows":   p.into(&a.Rows, "rows"),
			"fields": func(n *yaml.Node) { a.Fields = p.list(n, "fields") },
			"except": func(n *yaml.Node) { a.Except = p.list(n, "except") },
			"set": func(n *yaml.Node) {
				for _, e := range p.mapping(n, "set") {
					a.Set = append(a.Set, Preset{Text{Pos{e.key.Line, e.key.Column}, e.key.Value}, p.text(e.value, "a preset value")})
				}
			},
		})
		if a.Fields != nil && a.Except != nil {
			p.addError(e.key, "grant.invalid", `"fields" and "except" exclude each other; keep one`)
		}
		if len(a.Set) > 0 && op != Create && op != Update {
			p.addError(e.key, "grant.invalid", `"set" belongs to create and update, not to %s`, op)
		}
		g.Allow = append(g.Allow, a)
	}
	return g
}

func (p *parser) operation(t Text) (Operation, bool) {
	switch op := Operation(t.Value); op {
	case Read, Create, Update, Delete:
		return op, true
	}
	p.mistakes.Add("operation.unknown", "", t.Line, t.Column, "unknown operation %q%s", t.Value,
		fault.Suggest(t.Value, []string{"read", "create", "update", "delete"}))
	return "", false
}

func kindOf(n *yaml.Node) string {
	switch {
	case n.Kind == yaml.MappingNode:
		return "a mapping"
	case n.Kind == yaml.SequenceNode:
		return "a list"
	case n.Tag == "!!null":
		return "empty"
	}
	return strconv.Quote(n.Value)
}

// NameOf finds the window's name in a text that may have any other mistake, so that it can be told which window it is of.
func NameOf(text []byte) (string, error) {
	var head struct {
		Window string `yaml:"window"`
	}
	if err := yaml.Unmarshal(text, &head); err != nil {
		return "", syntaxFault(text, err)
	}
	if head.Window == "" {
		return "", fault.New(fault.Invalid, "key.missing", `"window" is missing: the name of the API in its address, such as "saltmere"`)
	}
	return head.Window, nil
}

func roleNames(roles []*Role) []string {
	names := make([]string, len(roles))
	for i, r := range roles {
		names[i] = r.Name.Value
	}
	return names
}
