package window

import (
	"bytes"
	"encoding/json"
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/yamltext"
)

// Edit changes one entry of a document's text: it sets the entry at a path of keys, renames its key, or removes it.
type Edit struct {
	At     []string        `json:"at"`
	Value  json.RawMessage `json:"value,omitempty"`  // the new value; left out with Rename, or to remove the entry
	Rename string          `json:"rename,omitempty"` // the entry's new key
}

// wide is how long a line may get before a mapping in braces is written on lines of its own.
const wide = 100

// Apply makes edits one after the other. Only the lines that must change do: comments, blank lines and the order of keys stay.
func Apply(text []byte, edits []Edit) ([]byte, error) {
	for _, e := range edits {
		var err error
		switch {
		case len(e.At) == 0:
			err = fault.New(fault.Invalid, "edit.path", "an edit says at which keys of the document; \"at\" is empty").On("at")
		case e.Rename != "":
			text, err = rename(text, e.At, e.Rename)
		case e.Value == nil:
			text, err = remove(text, e.At)
		default:
			text, err = set(text, e.At, e.Value)
		}
		if err != nil {
			return nil, err
		}
		if !says(text, e) { // it is written in a way that is seldom seen, such as with "?" before a key
			return nil, fault.New(fault.Invalid, "edit.text", "%s can't be edited here; edit its lines in the document", strings.Join(e.At, "."))
		}
	}
	return text, nil
}

// says reports whether a text has what an edit was to bring about.
func says(text []byte, e Edit) bool {
	at := slices.Clone(e.At)
	if e.Rename != "" {
		at[len(at)-1] = e.Rename
	}
	p, err := locate(text, at)
	if err != nil {
		return false
	}
	if e.Rename == "" && e.Value == nil {
		return len(p.found) < len(at)
	}
	var want yaml.Node
	return len(p.found) == len(at) && (e.Value == nil || yaml.Unmarshal(e.Value, &want) == nil &&
		flow(p.found[len(at)-1].value) == flow(want.Content[0]))
}

// named is how deep resources and roles are: those stay, also where nothing is left under them.
const named = 2

// otherBreaks end a line in YAML, and nowhere else.
var otherBreaks = regexp.MustCompile("\r[^\n]|\r$|[\u0085\u2028\u2029]")

// place is where a path leads in a document: the entries along it that are there.
type place struct {
	editor
	root  *yaml.Node // the mapping of the document
	found []entry
}

func locate(text []byte, path []string) (*place, error) {
	var doc yaml.Node
	if err := yaml.Unmarshal(text, &doc); err != nil {
		return nil, syntaxFault(text, err)
	}
	if otherBreaks.Match(text) {
		return nil, fault.New(fault.Invalid, "edit.lines",
			"the document has line breaks other than line feeds; write it with line feeds to edit it here")
	}
	if len(doc.Content) == 0 || doc.Content[0].Kind != yaml.MappingNode {
		return nil, fault.New(fault.Invalid, "document.empty", "the document has no keys; it begins with \"window: name\"")
	}
	p := &place{editor: editor{lines: strings.Split(string(text), "\n"), parser: &parser{}}, root: doc.Content[0]}
	for within := p.root; len(p.found) < len(path); {
		if within.Kind == yaml.AliasNode {
			return nil, fault.New(fault.Invalid, "edit.alias",
				"line %d refers to another place of the document, by an alias; write it out to edit it here", within.Line)
		}
		if within.Kind != yaml.MappingNode {
			break
		}
		entries := p.parser.mapping(within, "the document")
		at := slices.IndexFunc(entries, func(e entry) bool { return e.key.Value == path[len(p.found)] })
		if at < 0 {
			break
		}
		p.found = append(p.found, entries[at])
		within = entries[at].value
	}
	return p, nil
}

// mapping is the value that the first n entries of the path lead to.
func (p *place) mapping(n int) *yaml.Node {
	if n == 0 {
		return p.root
	}
	return p.found[n-1].value
}

// lineEntry is the last of the first n entries of the path whose key begins a line: what stands in braces is written anew with it.
func (p *place) lineEntry(n int) int {
	for i := range n {
		if p.mapping(i).Style&yaml.FlowStyle != 0 {
			return i - 1
		}
	}
	return n - 1
}

// unfold writes a mapping that is in braces on lines of its own, one for each of its entries.
func unfold(text []byte, path []string) ([]byte, error) {
	p, err := locate(text, path)
	if err != nil || len(p.found) < len(path) {
		return text, err
	}
	e := p.found[len(path)-1]
	if e.value.Kind != yaml.MappingNode || isBlock(e.value) || e.value.Style&yaml.FlowStyle == 0 {
		return text, nil
	}
	at := p.lineEntry(len(path))
	if at < len(path)-1 { // what is around it, too
		outer := path[:len(path)-1]
		if at < 0 || len(outer) == 0 {
			return nil, fault.New(fault.Invalid, "edit.text", "%s can't be edited here; edit its lines in the document", strings.Join(path, "."))
		}
		if text, err = unfold(text, outer); err != nil {
			return nil, err
		}
		return unfold(text, path)
	}
	comment := ""
	if e.value.LineComment != "" {
		comment = "  " + e.value.LineComment
	}
	p.replace(e.key, blockLines(column(e.key), e.key.Value, e.value, comment))
	return p.text(), nil
}

func set(text []byte, path []string, value json.RawMessage) ([]byte, error) {
	var doc yaml.Node
	if err := yaml.Unmarshal(value, &doc); err != nil || len(doc.Content) == 0 {
		return nil, fault.New(fault.Invalid, "edit.value", "the value of an edit is no JSON").On("value")
	}
	p, err := locate(text, path)
	if err != nil {
		return nil, err
	}
	node, n := doc.Content[0], len(p.found)
	if n == len(path) {
		p.found[n-1].value.Content, p.found[n-1].value.Kind = node.Content, node.Kind
		p.found[n-1].value.Value, p.found[n-1].value.Tag, p.found[n-1].value.Style = node.Value, node.Tag, yaml.FlowStyle
		return p.rewrite(n), nil
	}
	for i := len(path) - 1; i > n; i-- {
		node = &yaml.Node{Kind: yaml.MappingNode, Content: []*yaml.Node{{Kind: yaml.ScalarNode, Tag: "!!str", Value: path[i]}, node}}
	}
	within := p.mapping(n)
	if isBlock(within) && p.lineEntry(n) == n-1 {
		last := within.Content[len(within.Content)-2]
		p.insert(p.end(last), entryLines(column(last), path[n], node, ""))
		return p.text(), nil
	}
	if within.Kind != yaml.MappingNode { // nothing stands there, or a text that gives way
		*within = yaml.Node{Kind: yaml.MappingNode, Line: within.Line, Column: within.Column}
	}
	within.Content = append(within.Content, &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: path[n]}, node)
	return p.rewrite(n), nil
}

func remove(text []byte, path []string) ([]byte, error) {
	p, err := locate(text, path)
	if err != nil || len(p.found) < len(path) {
		return text, err // what is not there is removed
	}
	n := len(path)
	for n > named+1 && len(p.mapping(n-1).Content) == 2 { // a mapping without entries says nothing
		n--
	}
	within := p.mapping(n - 1)
	if p.lineEntry(n) == n-1 {
		p.replace(p.found[n-1].key, nil)
		return p.text(), nil
	}
	at := slices.Index(within.Content, p.found[n-1].key)
	within.Content = slices.Delete(within.Content, at, at+2)
	return p.rewrite(n - 1), nil
}

func rename(text []byte, path []string, to string) ([]byte, error) {
	p, err := locate(text, path)
	if err != nil {
		return nil, err
	}
	if len(p.found) < len(path) {
		return nil, fault.New(fault.NotFound, "edit.path", "the document has no %q", strings.Join(path, "."))
	}
	last := path[len(path)-1]
	for _, e := range p.parser.mapping(p.mapping(len(path)-1), "the document") {
		if e.key.Value == to && to != last {
			return nil, fault.New(fault.Conflict, "edit.taken", "there is a %q already, in line %d; choose another name", to, e.key.Line)
		}
	}
	nodes := []*yaml.Node{p.found[len(path)-1].key}
	if len(path) == 2 {
		nodes = append(nodes, references(p.root, path[0], last)...)
	}
	slices.SortFunc(nodes, func(a, b *yaml.Node) int { return (b.Line-a.Line)*10_000 + b.Column - a.Column })
	for _, n := range nodes { // from the last on, so that the places of the others hold
		yamltext.Respell(p.lines, n, to)
	}
	return p.text(), nil
}

// references are the places of a document that name a resource or a role elsewhere.
func references(root *yaml.Node, section, name string) (list []*yaml.Node) {
	var walk func(n *yaml.Node, path string)
	walk = func(n *yaml.Node, path string) {
		for i := 0; n.Kind == yaml.MappingNode && i+1 < len(n.Content); i += 2 {
			key, value := n.Content[i], n.Content[i+1]
			if section == "resources" && path == "/roles/*/may" && key.Value == name {
				list = append(list, key)
			}
			deeper := path + "/" + key.Value
			if path == "/roles" || path == "/resources" || path == "/saved_views" || path == "/resources/*/relations" {
				deeper = path + "/*"
			}
			walk(value, deeper)
		}
		for _, item := range n.Content {
			if n.Kind == yaml.SequenceNode {
				walk(item, path)
			}
		}
		places := map[string][]string{"resources": {"/resources/*/relations/*/to", "/saved_views/*/of"},
			"roles": {"/sign_in/accounts/default_role", "/description/public"}}
		if n.Kind == yaml.ScalarNode && n.Value == name && slices.Contains(places[section], path) {
			list = append(list, n)
		}
	}
	walk(root, "")
	return list
}

// rewrite writes the innermost entry anew that holds the change and begins a line; n entries of the path lead to the change.
func (p *place) rewrite(n int) []byte {
	at := p.lineEntry(n)
	if at < 0 { // the document itself stands in braces
		return []byte(flow(p.root) + "\n")
	}
	e := p.found[at]
	comment := ""
	for _, c := range []string{e.value.LineComment, e.key.LineComment} {
		if c != "" && comment == "" {
			comment = "  " + c
		}
	}
	p.replace(e.key, entryLines(column(e.key), e.key.Value, e.value, comment))
	return p.text()
}

func (p *place) text() []byte { return []byte(strings.Join(p.lines, "\n")) }

// entryLines writes an entry: in one line where it is short and holds no mapping of mappings.
func entryLines(indent int, key string, value *yaml.Node, comment string) []string {
	begin := strings.Repeat(" ", indent) + yamltext.Scalar(key) + ":"
	one := begin + " " + flow(value)
	nested := false
	for i := 1; i < len(value.Content); i += 2 {
		nested = nested || value.Content[i].Kind == yaml.MappingNode && len(value.Content[i].Content) > 0
	}
	if value.Kind != yaml.MappingNode || len(value.Content) == 0 || !nested && len(one) <= wide {
		return []string{one + comment}
	}
	return blockLines(indent, key, value, comment)
}

// blockLines writes an entry whose value is a mapping, with each entry of that on lines of its own.
func blockLines(indent int, key string, value *yaml.Node, comment string) []string {
	lines := []string{strings.Repeat(" ", indent) + yamltext.Scalar(key) + ":" + comment}
	for i := 0; i+1 < len(value.Content); i += 2 {
		lines = append(lines, entryLines(indent+2, value.Content[i].Value, value.Content[i+1], "")...)
	}
	return lines
}

// flow writes a value in one line.
func flow(n *yaml.Node) string {
	var b bytes.Buffer
	switch n.Kind {
	case yaml.MappingNode:
		b.WriteByte('{')
		for i := 0; i+1 < len(n.Content); i += 2 {
			if i > 0 {
				b.WriteString(", ")
			}
			b.WriteString(yamltext.Scalar(n.Content[i].Value) + ": " + flow(n.Content[i+1]))
		}
		b.WriteByte('}')
	case yaml.SequenceNode:
		b.WriteByte('[')
		for i, item := range n.Content {
			if i > 0 {
				b.WriteString(", ")
			}
			b.WriteString(flow(item))
		}
		b.WriteByte(']')
	case yaml.AliasNode:
		b.WriteString("*" + n.Value)
	default:
		if n.ShortTag() != "!!str" {
			return n.Value
		}
		return yamltext.Scalar(n.Value)
	}
	return b.String()
}

// Section is a resource of a document's text: the table that it names, and its lines.
type Section struct {
	Name, From string
	Line, End  int // its first and its last line, from 1
	InRoles    []string
}

// Outline lists the resources of a text, also of one with mistakes in it, as long as it is YAML.
func Outline(text []byte) []Section {
	p, err := locate(text, []string{"resources"})
	if err != nil || len(p.found) == 0 {
		return nil
	}
	var list []Section
	for _, e := range p.parser.mapping(p.found[0].value, "resources") {
		s := Section{Name: e.key.Value, Line: e.key.Line, End: p.end(e.key)}
		for _, part := range p.parser.mapping(e.value, "a resource") {
			if part.key.Value == "from" {
				s.From = part.value.Value
			}
		}
		list = append(list, s)
	}
	roles, err := locate(text, []string{"roles"})
	if err != nil || len(roles.found) == 0 {
		return list
	}
	for _, r := range p.parser.mapping(roles.found[0].value, "roles") {
		for _, part := range p.parser.mapping(r.value, "a role") {
			if part.key.Value != "may" {
				continue
			}
			for _, grant := range p.parser.mapping(part.value, "may") {
				if at := slices.IndexFunc(list, func(s Section) bool { return s.Name == grant.key.Value }); at >= 0 {
					list[at].InRoles = append(list[at].InRoles, r.key.Value)
				}
			}
		}
	}
	return list
}
