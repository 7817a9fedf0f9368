package request

import (
	"net/url"
	"strings"

	"eagerwindow/internal/core/model"
)

// RowPath is the path of a row by the texts of its key (URL Conventions, 4.3): as segments, or in brackets where a segment would be
// taken for something else, as an empty one would, or "..".
func RowPath(r *model.Resource, key []string) string {
	path := r.Name
	for _, text := range key {
		if needsBrackets(text) && len(key) == len(r.Key) {
			return r.Name + bracketKey(r.Key, key)
		}
		path += "/" + url.PathEscape(text)
	}
	return path
}

func needsBrackets(segment string) bool {
	return segment == "" || segment == "." || segment == ".." || segment[0] == '$'
}

// bracketKey is a key in brackets, with the names of its parts where it has several.
func bracketKey(of []*model.Field, key []string) string {
	parts := make([]string, len(key))
	for i, text := range key {
		switch of[i].Type.Kind {
		case model.String, model.Enum, model.Opaque:
			parts[i] = "'" + url.PathEscape(strings.ReplaceAll(text, "'", "''")) + "'"
		case model.Binary:
			parts[i] = "binary'" + url.PathEscape(text) + "'"
		case model.Duration:
			parts[i] = "duration'" + url.PathEscape(text) + "'"
		default:
			parts[i] = url.PathEscape(text)
		}
		if len(key) > 1 || !of[i].InKey {
			parts[i] = of[i].Name + "=" + parts[i]
		}
	}
	return "(" + strings.Join(parts, ",") + ")"
}

// Address is the path of the row that a path leads to, its keys in brackets, as context URLs have it (Protocol, 10.8).
func (r *Request) Address() string {
	var out strings.Builder
	for i := range r.hops {
		h := &r.hops[i]
		if h.via != nil {
			out.WriteString("/" + h.via.Name)
		} else {
			out.WriteString(h.resource.Name)
		}
		key, of, err := r.resolveKey(i)
		if err != nil || key == nil {
			continue
		}
		if texts, err := r.keyTexts(key); err == nil {
			for i, text := range texts {
				texts[i] = SegmentText(text, of[i].Type)
			}
			out.WriteString(bracketKey(of, texts))
		}
	}
	return out.String()
}
