package request

import (
	"cmp"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/syntax"
)

// AtRow is the request for the row of the resource with that key, and with the same options. The values of the key are written as in
// the segments of a path.
func (r *Request) AtRow(key []string) *Request {
	at := *r
	at.scanned = nil // it is r's to release
	at.Single, at.View, at.Field, at.below, at.filters, at.After = true, query.Rows, nil, nil, nil, ""
	at.Literals = slices.Clone(r.Literals)
	parts := make([]keyPart, len(key))
	for i, text := range key {
		parts[i].literal = len(at.Literals)
		at.Literals = append(at.Literals, syntax.Literal{Class: syntax.Segment, Text: text, Option: "path"})
	}
	at.hops = []hop{{resource: r.Resource, key: parts}}
	at.Shape = r.Shape + " at a row"
	at.text = append([]string{RowPath(r.Resource, key)}, r.text[min(1, len(r.text)):]...)
	return &at
}

// NextNested is the request for the rest of the rows of an expanded relation: row is the path of the row that they belong to, it
// that of the row of the request where that is another one, way the relations that lead there from the rows of the request, shown how
// many there are already.
func (r *Request) NextNested(row, it, way string, shown int64) string {
	way, refs := strings.CutSuffix(way, "/$ref")
	relations := strings.Split(way, "/")
	options := &syntax.Options{}
	for i := 1; i+1 < len(r.text); i += 2 {
		if r.text[i] != "expand" {
			continue
		}
		reader := &syntax.Reader{Aliases: r.aliases, Request: true}
		tokens, err := reader.Scan("expand", r.text[i+1])
		p := &syntax.Parser{Option: "expand", Tokens: tokens, Literals: reader.Literals}
		all := &syntax.Options{}
		if err == nil && p.OptionValue("expand", all) == nil { // as it was when it was answered
			if found := syntax.Expanded(all.Expand, relations); found != nil {
				options = found
			}
		}
	}
	if at, err := Read(r.Resource.Model, cmp.Or(it, row), ""); err == nil {
		options.SetIt("$root/" + at.Address())
		at.Release()
	}
	number := func(l *syntax.LiteralNode) int64 {
		if l == nil {
			return 0
		}
		n, _ := strconv.ParseInt(l.Value.Text, 10, 64)
		return n
	}
	out := row + "/" + relations[len(relations)-1]
	if refs {
		out += "/$ref"
	}
	out += "?"
	if text := options.Query(); text != "" {
		out += text + "&"
	}
	out += "skip=" + strconv.FormatInt(number(options.Skip)+shown, 10)
	if options.Top != nil {
		out += "&top=" + strconv.FormatInt(number(options.Top)-shown, 10)
	}
	return out
}

// ForRow is the request for the row of a resource with that key, without options.
func ForRow(r *model.Resource, key []string) *Request {
	return (&Request{Resource: r, Shape: "/" + r.Name}).AtRow(key)
}

// SegmentText is a value of a key as a segment of a path has it; text is as PostgreSQL reads it.
func SegmentText(text string, t *model.Type) string {
	if t.Kind == model.Binary {
		if b, err := hex.DecodeString(strings.TrimPrefix(text, `\x`)); err == nil {
			return base64.RawURLEncoding.EncodeToString(b)
		}
	}
	return text
}

// Bare is the request without its options.
func (r *Request) Bare() *Request {
	bare := *r
	bare.scanned, bare.options, bare.shown = nil, nil, nil
	bare.Shape = r.Shape + " bare"
	return &bare
}

// Before is the request for the row, or the rows, that the last relation of the path starts from, without options; nil where the path
// follows none.
func (r *Request) Before() *Request {
	n := len(r.hops) - 1
	if n < 1 {
		return nil
	}
	before := r.Bare()
	last := r.hops[n-1]
	before.hops, before.Resource, before.Single = r.hops[:n], last.resource, last.single()
	before.View, before.Field, before.below, before.filters = query.Rows, nil, nil, nil
	before.Shape = r.Shape + " before"
	before.text = []string{r.Parent()}
	return before
}

// OfRow is the request for the row whose field the path names, without the field.
func (r *Request) OfRow() *Request {
	row := *r
	row.scanned, row.Field, row.View = nil, nil, query.Rows
	row.Shape = r.Shape + " of the row"
	row.text = slices.Clone(r.text)
	row.text[0] = r.text[0][:strings.LastIndexByte(r.text[0], '/')]
	return &row
}

// Showing is the request with relations in its answer that its options do not name.
func (r *Request) Showing(relations []syntax.ExpandNode) *Request {
	shown := *r
	shown.scanned, shown.shown = nil, relations
	shown.Shape = r.Shape + " showing " + ExpandText(relations)
	return &shown
}

// ExpandText prints relations as expand names them.
func ExpandText(list []syntax.ExpandNode) string {
	parts := make([]string, len(list))
	for i, e := range list {
		parts[i] = e.Path.Name
		if len(e.Options.Expand) > 0 {
			parts[i] += "(" + ExpandText(e.Options.Expand) + ")"
		}
	}
	return strings.Join(parts, ",")
}

// keyTexts are the values of a key, as texts that PostgreSQL casts to their types; nil where there is none.
func (r *Request) keyTexts(key []query.Value) ([]string, error) {
	if key == nil {
		return nil, nil
	}
	texts := make([]string, len(key))
	for i := range key {
		arg, err := key[i].Arg(r.Literals)
		if err != nil {
			return nil, err
		}
		switch arg := arg.(type) {
		case nil: // too large a number
			texts[i] = key[i].Literal(r.Literals).Text
		case string:
			texts[i] = arg
		case int64:
			texts[i] = strconv.FormatInt(arg, 10)
		case []byte:
			texts[i] = `\x` + query.HexString(arg)
		case time.Time:
			texts[i] = query.TimeText(arg, key[i].T.Kind)
		default:
			texts[i] = fmt.Sprint(arg)
		}
	}
	return texts, nil
}

// Place is one resource on the way to a row: the first, or one that a relation leads to from the place before; and the row of it that
// is meant, nil where the relation leads to one alone.
type Place struct {
	Resource *model.Resource
	Via      *model.Relation
	Key      []string // as PostgreSQL reads it
	KeyOf    []*model.Field
}

// Alternate reports whether the key is another one than the resource's own.
func (p *Place) Alternate() bool { return p.Key != nil && !slices.Equal(p.KeyOf, p.Resource.Key) }

// Places is the way that the path leads to its row. The error is a fault: a key that is none of the resource's.
func (r *Request) Places() ([]Place, error) {
	places := make([]Place, len(r.hops))
	for i := range r.hops {
		h := &r.hops[i]
		key, of, err := r.resolveKey(i)
		if err != nil {
			return nil, err
		}
		texts, err := r.keyTexts(key)
		if err != nil {
			return nil, err
		}
		places[i] = Place{h.resource, h.via, texts, of}
	}
	return places, nil
}
