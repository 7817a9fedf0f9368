package window

import (
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"

	"eagerwindow/internal/core/fault"
)

func (p *parser) savedView(e entry) *SavedView {
	v := &SavedView{Name: p.name(e.key, "saved view"), Page: DefaultPage}
	p.keys(e.value, "saved view "+strconv.Quote(v.Name.Value), map[string]func(*yaml.Node){
		"of":      p.into(&v.Of, "of"),
		"about":   p.str(&v.About, "about"),
		"select":  p.oneOrMany(&v.Select, "select"),
		"compute": p.oneOrMany(&v.Compute, "compute"),
		"filter":  p.into(&v.Filter, "filter"),
		"orderby": p.oneOrMany(&v.OrderBy, "orderby"),
		"expand":  p.oneOrMany(&v.Expand, "expand"),
		"page":    p.page(&v.Page),
	})
	if v.Of.Line == 0 {
		p.addError(e.key, "key.missing", `saved view %q lacks "of": the resource that it shows`, v.Name.Value)
	}
	return v
}

// oneOrMany reads a text, or a list whose items are put together with commas.
func (p *parser) oneOrMany(t *Text, what string) func(*yaml.Node) {
	return func(n *yaml.Node) {
		items := p.list(n, what)
		values := make([]string, len(items))
		for i, item := range items {
			values[i] = item.Value
		}
		*t = Text{Pos: Pos{n.Line, n.Column}, Value: strings.Join(values, ",")}
	}
}

func (p *parser) query(e entry) *NamedQuery {
	q := &NamedQuery{Name: p.name(e.key, "query"), Page: DefaultPage}
	p.keys(e.value, "query "+strconv.Quote(q.Name.Value), map[string]func(*yaml.Node){
		"about": p.str(&q.About, "about"),
		"page":  p.page(&q.Page),
		"parameters": func(n *yaml.Node) {
			for _, e := range p.mapping(n, "parameters") {
				q.Parameters = append(q.Parameters, p.parameter(e))
			}
		},
		"sql": func(n *yaml.Node) {
			q.SQL = p.text(n, "sql")
			if q.SQL.Value == n.Value { // else variables have moved what stands after them
				q.lines = p.lines(n)
			}
		},
	})
	if strings.TrimSpace(q.SQL.Value) == "" {
		p.addError(e.key, "key.missing", `query %q lacks "sql": the statement that it runs`, q.Name.Value)
		return q
	}
	p.pieces(q)
	return q
}

func (p *parser) parameter(e entry) Parameter {
	param := Parameter{Name: p.name(e.key, "parameter"), Type: p.text(e.value, "a parameter's type")}
	param.Type.Value, param.Optional = strings.CutSuffix(param.Type.Value, "?")
	if optionWords[strings.ToLower(param.Name.Value)] {
		p.addError(e.key, "name.taken", "%q is an option of the query language, so no parameter can have the name", param.Name.Value)
	}
	return param
}

// optionWords are the options that stand beside a query's parameters in a URL.
var optionWords = map[string]bool{"apply": true, "compute": true, "search": true, "filter": true, "orderby": true, "select": true,
	"expand": true,
	"top":    true, "skip": true, "count": true, "skiptoken": true, "format": true, "levels": true, "metadata": true, "index": true}

// lines finds where each line of a text begins in the document: known for a literal block and for a text on one line.
func (p *parser) lines(n *yaml.Node) []Pos {
	switch {
	case n.Style&yaml.LiteralStyle != 0:
		var out []Pos
		for i, line := range strings.Split(n.Value, "\n") {
			at := n.Line + i // the text begins under the line of its mark
			column := 1
			if at < len(p.source) {
				column = max(strings.Index(p.source[at], line), 0) + 1
			}
			out = append(out, Pos{at + 1, column})
		}
		return out
	case n.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) != 0:
		return []Pos{{n.Line, n.Column + 1}}
	case n.Style == 0:
		return []Pos{{n.Line, n.Column}}
	}
	return nil
}

// pieces splits the SQL into text and parameters, which are written :name. Strings, quoted names, comments and casts are text.
func (p *parser) pieces(q *NamedQuery) {
	sql, used := q.SQL.Value, make([]bool, len(q.Parameters))
	start := 0
	for i := 0; i < len(sql); {
		if n := passedOver(sql[i:]); n > 0 {
			i += n
			continue
		}
		if sql[i] != ':' || i+1 >= len(sql) || !IsName(sql[i+1:i+2]) {
			i++
			continue
		}
		end := i + 1
		for end < len(sql) && IsName("x"+sql[end:end+1]) {
			end++
		}
		name := sql[i+1 : end]
		at := slices.IndexFunc(q.Parameters, func(param Parameter) bool { return param.Name.Value == name })
		if at < 0 {
			names := make([]string, len(q.Parameters))
			for i, param := range q.Parameters {
				names[i] = param.Name.Value
			}
			place := q.At(i)
			p.mistakes.Add("parameter.unknown", "", place.Line, place.Column, "query %s uses :%s, which is not among its parameters%s", q.Name.Value,
				name, fault.Suggest(name, names))
			return
		}
		used[at] = true
		q.Pieces = append(q.Pieces, Piece{sql[start:i], -1, start}, Piece{sql[i:end], at, i})
		i, start = end, end
	}
	q.Pieces = append(q.Pieces, Piece{sql[start:], -1, start})
	for i, param := range q.Parameters {
		if !used[i] {
			p.mistakes.Add("parameter.unused", "", param.Name.Line, param.Name.Column,
				"query %s has a parameter %q that its SQL does not use; write :%s where it belongs", q.Name.Value, param.Name.Value, param.Name.Value)
		}
	}
}

// passedOver is the length of what begins the SQL and can't hold a parameter, 0 where nothing does.
func passedOver(sql string) int {
	until := func(mark string, from int) int {
		if end := strings.Index(sql[from:], mark); end >= 0 {
			return from + end + len(mark)
		}
		return len(sql)
	}
	switch {
	case strings.HasPrefix(sql, "::"):
		return 2
	case strings.HasPrefix(sql, "--"):
		return until("\n", 2)
	case strings.HasPrefix(sql, "/*"):
		return until("*/", 2)
	case sql[0] == '\'' || sql[0] == '"':
		return until(sql[:1], 1)
	case len(sql) > 1 && (sql[0] == 'E' || sql[0] == 'e') && sql[1] == '\'':
		for i := 2; i < len(sql); i++ {
			switch sql[i] {
			case '\\':
				i++
			case '\'':
				return i + 1
			}
		}
		return len(sql)
	case sql[0] == '$':
		if end := strings.IndexByte(sql[1:], '$'); end >= 0 && (end == 0 || IsName(sql[1:1+end])) {
			return until(sql[:end+2], end+2)
		}
	case IsName(sql[:1]): // a whole word, so that the e of "name" begins no string
		n := 1
		for n < len(sql) && IsName("x"+sql[n:n+1]) {
			n++
		}
		return n
	}
	return 0
}
