package window

import (
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/yamltext"
)

// GrantOf finds what the text of a document lets a role do with a resource, with variables as they stand there. own is false where "*"
// says it; the grant is nil where nothing does.
func GrantOf(text []byte, role, resource string) (g *Grant, own bool, err error) {
	e, err := edit(text, role)
	if err != nil {
		return nil, false, err
	}
	for _, entry := range e.entries {
		if entry.key.Value == resource {
			return e.parser.grant(entry), true, nil
		}
		if entry.key.Value == "*" {
			g = e.parser.grant(entry)
		}
	}
	return g, false, nil
}

// SetGrant writes what a role may do with a resource into the text of a document. Only the lines change that must; no allowances take
// the grant away.
func SetGrant(text []byte, role, resource string, allow []*Allowance) ([]byte, error) {
	text, err := unfold(text, []string{"roles", role})
	if err != nil {
		return nil, err
	}
	e, err := edit(text, role)
	if err != nil {
		return nil, err
	}
	star := slices.ContainsFunc(e.entries, func(entry entry) bool { return entry.key.Value == "*" })
	whole := grantLines(resource, allow, star && resource != "*")
	switch at := slices.IndexFunc(e.entries, func(entry entry) bool { return entry.key.Value == resource }); {
	case e.may == nil:
		e.insert(e.end(e.role), indented(e.childIndent(), append([]string{"may:"}, indented(2, whole)...)))
	case !isBlock(e.may.value):
		lines := []string{"may:"}
		for i, entry := range e.entries {
			if i == at {
				lines = append(lines, indented(2, whole)...)
				continue
			}
			g := e.parser.grant(entry)
			lines = append(lines, indented(2, grantLines(entry.key.Value, g.Allow, true))...)
		}
		if at < 0 {
			lines = append(lines, indented(2, whole)...)
		}
		e.replace(e.may.key, indented(column(e.may.key), lines))
	case at < 0:
		last := e.entries[len(e.entries)-1]
		e.insert(e.end(last.key), indented(column(last.key), whole))
	case isBlock(e.entries[at].value) && slices.ContainsFunc(allow, (*Allowance).limited):
		e.operations(e.entries[at], allow)
	default:
		e.replace(e.entries[at].key, indented(column(e.entries[at].key), whole))
	}
	return []byte(strings.Join(e.lines, "\n")), nil
}

// editor is the lines of a document and where the grants of a role stand in them.
type editor struct {
	lines   []string
	parser  *parser
	role    *yaml.Node // its key
	fields  []entry    // of the role
	may     *entry     // nil: it has none
	entries []entry    // of may
}

func edit(text []byte, role string) (*editor, error) {
	var root yaml.Node
	if err := yaml.Unmarshal(text, &root); err != nil {
		return nil, syntaxFault(text, err)
	}
	e := &editor{lines: strings.Split(string(text), "\n"), parser: &parser{}}
	if len(root.Content) == 0 {
		return nil, fault.New(fault.Invalid, "document.empty", "the document is empty")
	}
	for _, top := range e.parser.mapping(root.Content[0], "the document") {
		if top.key.Value != "roles" {
			continue
		}
		for _, r := range e.parser.mapping(top.value, "roles") {
			if r.key.Value != role {
				continue
			}
			e.role, e.fields = r.key, e.parser.mapping(r.value, "role")
		}
	}
	if e.role == nil {
		return nil, fault.New(fault.Invalid, "role.unknown", "the document has no role %q", role)
	}
	for i := range e.fields {
		if e.fields[i].key.Value == "may" {
			e.may = &e.fields[i]
			if e.may.value.Kind == yaml.AliasNode {
				return nil, fault.New(fault.Invalid, "role.inline",
					"the grants of role %q are those of another one, by an alias in line %d; write them out to edit them here", role, e.may.value.Line)
			}
			e.entries = e.parser.mapping(e.may.value, "may")
		}
	}
	return e, nil
}

func isBlock(n *yaml.Node) bool {
	return n.Kind == yaml.MappingNode && n.Style&yaml.FlowStyle == 0 && len(n.Content) > 0
}

func column(n *yaml.Node) int { return n.Column - 1 }

func (e *editor) childIndent() int {
	if len(e.fields) > 0 {
		return column(e.fields[0].key)
	}
	return column(e.role) + 2
}

// end is the index of the line after the block that a key begins: deeper lines, and blank ones and comments between them.
func (e *editor) end(key *yaml.Node) int {
	last := key.Line // the index of the next line
	for i := key.Line; i < len(e.lines); i++ {
		line := strings.TrimRight(e.lines[i], " \r")
		indent := len(line) - len(strings.TrimLeft(line, " "))
		switch {
		case line == "":
		case indent > column(key):
			last = i + 1
		case strings.HasPrefix(line[indent:], "#"):
		default:
			return last
		}
	}
	return last
}

func (e *editor) insert(at int, lines []string) { e.lines = slices.Insert(e.lines, at, lines...) }

func (e *editor) replace(key *yaml.Node, lines []string) {
	e.lines = slices.Replace(e.lines, key.Line-1, e.end(key), lines...)
}

// operations changes the operations of a grant that stand on lines of their own: those that stay the same stay as they are written.
func (e *editor) operations(grant entry, allow []*Allowance) {
	ops := e.parser.mapping(grant.value, "a grant")
	is := e.parser.grant(grant).Allow
	var added []string
	for _, a := range allow {
		if !slices.ContainsFunc(is, func(o *Allowance) bool { return o.Operation == a.Operation }) {
			added = append(added, operationLine(a))
		}
	}
	e.insert(e.end(grant.key), indented(column(ops[0].key), added))
	for i := len(ops) - 1; i >= 0; i-- { // from the last on, so that the places of the others hold
		at := slices.IndexFunc(allow, func(a *Allowance) bool { return string(a.Operation) == ops[i].key.Value })
		switch {
		case at < 0:
			e.replace(ops[i].key, nil)
		case operationLine(allow[at]) != operationLine(is[i]):
			e.replace(ops[i].key, indented(column(ops[i].key), []string{operationLine(allow[at])}))
		}
	}
}

// limited reports whether an operation is granted with limits.
func (a *Allowance) limited() bool {
	return a.Rows.Value != "" || a.Fields != nil || a.Except != nil || len(a.Set) > 0
}

// grantLines writes one entry of may. Where nothing is granted, it is left out unless it must say so.
func grantLines(resource string, allow []*Allowance, say bool) []string {
	name := yamltext.Scalar(resource)
	if len(allow) == 0 && !say {
		return nil
	}
	if slices.ContainsFunc(allow, (*Allowance).limited) {
		lines := []string{name + ":"}
		for _, a := range allow {
			lines = append(lines, "  "+operationLine(a))
		}
		return lines
	}
	ops := make([]string, len(allow))
	for i, a := range allow {
		ops[i] = string(a.Operation)
	}
	if len(ops) == 1 {
		return []string{name + ": " + ops[0]}
	}
	return []string{name + ": [" + strings.Join(ops, ", ") + "]"}
}

// operationLine writes one operation with what limits it.
func operationLine(a *Allowance) string {
	var parts []string
	if a.Rows.Value != "" {
		parts = append(parts, "rows: "+yamltext.Scalar(a.Rows.Value))
	}
	if a.Fields != nil {
		parts = append(parts, "fields: "+scalars(a.Fields))
	}
	if a.Except != nil {
		parts = append(parts, "except: "+scalars(a.Except))
	}
	if len(a.Set) > 0 {
		set := make([]string, len(a.Set))
		for i, p := range a.Set {
			set[i] = yamltext.Scalar(p.Field.Value) + ": " + yamltext.Scalar(p.Value.Value)
		}
		parts = append(parts, "set: {"+strings.Join(set, ", ")+"}")
	}
	return string(a.Operation) + ": {" + strings.Join(parts, ", ") + "}"
}

func scalars(list []Text) string {
	texts := make([]string, len(list))
	for i, t := range list {
		texts[i] = yamltext.Scalar(t.Value)
	}
	return "[" + strings.Join(texts, ", ") + "]"
}

func indented(by int, lines []string) []string {
	out := make([]string, len(lines))
	for i, line := range lines {
		out[i] = strings.Repeat(" ", by) + line
	}
	return out
}
