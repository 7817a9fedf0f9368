package describe

import (
	"cmp"
	"slices"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/syntax"
	"eagerwindow/internal/core/window"
)

// item is what one row of a resource is called.
func item(r *model.Resource) string { return cmp.Or(r.Item, r.Name) }

// words is a name as people write it.
func words(name string) string { return strings.NewReplacer("_", " ", "-", " ").Replace(name) }

// one is one row of a resource in words.
func one(r *model.Resource) string {
	name := words(item(r))
	if strings.ContainsAny(name[:1], "aeiouAEIOU") {
		return "an " + name
	}
	return "a " + name
}

// sentence is a text with a capital at its beginning and a point at its end.
func sentence(text string) string {
	text = strings.TrimSpace(text)
	if text == "" {
		return ""
	}
	text = strings.ToUpper(text[:1]) + text[1:]
	if !strings.HasSuffix(text, ".") {
		text += "."
	}
	return text
}

func paragraphs(parts ...string) string {
	return strings.Join(slices.DeleteFunc(parts, func(p string) bool { return p == "" }), "\n\n")
}

func code(names []string) string {
	quoted := make([]string, len(names))
	for i, n := range names {
		quoted[i] = "`" + n + "`"
	}
	return and(quoted)
}

// and joins what is listed.
func and(parts []string) string {
	if len(parts) < 2 {
		return strings.Join(parts, "")
	}
	return strings.Join(parts[:len(parts)-1], ", ") + " and " + parts[len(parts)-1]
}

// verbs are what a role does to rows.
var verbs = map[window.Operation]string{window.Read: "see", window.Create: "add", window.Update: "change", window.Delete: "delete"}

// reach says which rows and fields of a resource an operation is for, where a role does not have all of them.
func (w *writer) reach(r *model.Resource, op window.Operation) string {
	d := w.scope.For(op, r)
	if d == nil {
		return ""
	}
	which := w.which(d)
	switch op {
	case window.Read:
		var without []string
		for _, f := range r.Fields {
			if r.View == nil && !d.Fields[f.Index] {
				without = append(without, f.Name)
			}
		}
		return w.reads(r, which, without)
	case window.Create, window.Update:
		return w.writes(r, op, which, d)
	}
	if which == "" {
		return ""
	}
	return "You may " + verbs[op] + " " + which + "."
}

func (w *writer) reads(r *model.Resource, which string, without []string) string {
	if which == "" && without == nil {
		return ""
	}
	text := "You see " + cmp.Or(which, "all "+words(r.Name))
	if without != nil {
		text += ", without " + code(without)
	}
	return text + "."
}

func (w *writer) writes(r *model.Resource, op window.Operation, which string, d *access.Decision) string {
	var sets []string
	for _, p := range d.Set {
		sets = append(sets, "`"+p.Field.Name+"`")
	}
	text := ""
	if which != "" {
		text = "You may " + verbs[op] + " " + which + "."
	}
	if sets != nil {
		text += " The service sets " + and(sets) + "."
	}
	return strings.TrimSpace(text)
}

// which says which rows a decision covers, "" where it is all of them.
func (w *writer) which(d *access.Decision) string {
	if d.Rules(nil, false) == nil {
		return ""
	}
	if d.Rule == nil || w.scope.Name == "" || !w.scope.Reads(d.Rule.Where) {
		return "some of them" // by something that callers can't see
	}
	node, err := syntax.ParseRule(d.Rule.Text)
	if err != nil {
		return "some of them"
	}
	return "those where " + condition(node)
}

// comparisons in words.
var comparisons = map[string]string{"eq": "is", "ne": "is not", "gt": "is more than", "ge": "is at least", "lt": "is less than",
	"le": "is at most"}

// condition is a row rule in words, as far as it is simple; what is not stays as it is written.
func condition(n syntax.Node) string {
	if b, ok := n.(*syntax.BinaryNode); ok {
		if b.Operator == "and" {
			return condition(b.Left) + " and " + condition(b.Right)
		}
		path, isPath := b.Left.(*syntax.PathNode)
		says := comparisons[b.Operator]
		switch right := b.Right.(type) {
		case *syntax.PathNode:
			if claim, is := strings.CutPrefix(right.String(), "@caller/"); is && isPath && says != "" {
				return "`" + path.String() + "` " + says + " your `" + claim + "`"
			}
		case *syntax.LiteralNode:
			if isPath && says != "" {
				return "`" + path.String() + "` " + says + " `" + right.String() + "`"
			}
		}
	}
	return "`" + n.String() + "`"
}

// wordsAbout says what a search looks into where that is not the text of the fields itself.
func wordsAbout(vectors []*model.Vector) string {
	var parts []string
	for _, v := range vectors {
		names := make([]string, len(v.Of))
		for i, f := range v.Of {
			names[i] = f.Name
		}
		part := "the words of " + code(names)
		if v.Of == nil {
			part = "words that the database keeps of each row"
		}
		if language := v.Language(); language != "" {
			part += " (" + language + ")"
		}
		parts = append(parts, part)
	}
	if parts == nil {
		return ""
	}
	return "`search` looks into " + and(parts) + "; a word is found in any of its forms."
}
