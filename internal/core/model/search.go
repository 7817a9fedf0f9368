package model

import (
	"regexp"
	"slices"
	"strings"
	"unicode"

	"eagerwindow/internal/core/catalog"
)

// Vector is a tsvector that a search of a resource looks into: a column, or an expression that an index holds (PostgreSQL, 12.2).
type Vector struct {
	Config string   // the configuration of the words, as SQL: 'english'::regconfig; "" the database's default
	Of     []*Field // the fields whose words are in it; nil where that is not known, as a trigger fills it
	pieces []piece
}

// piece is SQL, or the name of a column of the table.
type piece struct{ sql, column string }

// SQL is the vector of a row under an alias.
func (v *Vector) SQL(alias string) string {
	var out strings.Builder
	for _, p := range v.pieces {
		if p.column != "" {
			out.WriteString(alias + "." + catalog.Quote(p.column))
		}
		out.WriteString(p.sql)
	}
	return out.String()
}

// Language is the name of the configuration, "" of the default one.
func (v *Vector) Language() string {
	name, _, _ := strings.Cut(strings.TrimPrefix(v.Config, "'"), "'")
	return strings.TrimPrefix(name, "pg_catalog.")
}

var regconfig = regexp.MustCompile(`'(?:[^']|'')+'::(?:pg_catalog\.)?regconfig`)

// isVector reports whether values of a type are words to search for, which are not shown.
func isVector(t *catalog.Type) bool { return t.Base().Name == "tsvector" }

// vectors finds what a search of the resource can look into. hidden are columns that the document does not expose.
func vectors(r *Resource, hidden func(column string) bool) []*Vector {
	var list []*Vector
	for _, c := range r.Table.Columns {
		if !isVector(c.Type) || hidden(c.Name) {
			continue
		}
		v := &Vector{pieces: []piece{{column: c.Name}}, Config: regconfig.FindString(c.Expression)}
		if c.Expression != "" {
			v.Of, _ = wordsOf(r, piecesOf(r.Table, c.Expression))
		}
		if c.Expression == "" || v.Of != nil {
			list = append(list, v)
		}
	}
	for _, ix := range r.Table.Indexes {
		if !strings.HasPrefix(ix.Expression, "to_tsvector(") && !strings.HasPrefix(ix.Expression, "(to_tsvector(") || ix.Partial {
			continue
		}
		v := &Vector{pieces: piecesOf(r.Table, ix.Expression), Config: regconfig.FindString(ix.Expression)}
		if of, ok := wordsOf(r, v.pieces); ok {
			v.Of = of
			list = append(list, v)
		}
	}
	return list
}

// wordsOf are the fields whose columns an expression names; ok is false where one is not shown.
func wordsOf(r *Resource, pieces []piece) (of []*Field, ok bool) {
	for _, p := range pieces {
		if p.column == "" {
			continue
		}
		f := r.FieldOf(p.column)
		if f == nil {
			return nil, false
		}
		of = append(of, f)
	}
	return of, of != nil
}

// piecesOf finds the names of a table's columns in an expression that the database has printed.
func piecesOf(t *catalog.Table, expression string) []piece {
	var out []piece
	text := []rune(expression)
	begin := 0
	for i := 0; i < len(text); {
		c := text[i]
		switch {
		case c == '\'':
			for i++; i < len(text) && (text[i] != '\'' || i+1 < len(text) && text[i+1] == '\''); i++ {
				if text[i] == '\'' {
					i++
				}
			}
			i++
		case c == '"' || c == '_' || unicode.IsLetter(c):
			start := i
			name := ""
			if c == '"' {
				end := i + 1 + slices.Index(text[i+1:], '"')
				name, i = string(text[i+1:end]), end+1
			} else {
				for i < len(text) && (text[i] == '_' || text[i] == '$' || unicode.IsLetter(text[i]) || unicode.IsDigit(text[i])) {
					i++
				}
				name = string(text[start:i])
			}
			isType := start > 1 && text[start-1] == ':' && text[start-2] == ':'
			isCall := i < len(text) && (text[i] == '(' || text[i] == '.')
			if t.Column(name) != nil && !isType && !isCall {
				out = append(out, piece{sql: string(text[begin:start])}, piece{column: name})
				begin = i
			}
		default:
			i++
		}
	}
	return append(out, piece{sql: string(text[begin:])})
}
