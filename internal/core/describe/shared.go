package describe

import (
	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/jsontree"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/window"
)

// content is a body of JSON.
func (w *writer) content(schema *object, example *object) *object {
	media := jsontree.New("schema", schema)
	if example != nil {
		media.Add("example", example)
	}
	return jsontree.New("application/json", media)
}

func (w *writer) bodyOf(schema *object, example *object) *object {
	return jsontree.New("required", true, "content", w.content(schema, example))
}

func (w *writer) headersOf(names ...string) *object {
	out := &object{}
	for _, name := range names {
		out.Add(name, w.use("headers", name))
	}
	return out
}

// otherFormats are what rows are written as besides JSON.
var otherFormats = []struct{ kind, about string }{
	{"application/x-ndjson", "Each row as a JSON object on a line of its own."},
	{"text/csv", "A line of names, then a line for each row (RFC 4180); what is nested as JSON text."},
	{"application/xml", "Each row as an element, its fields as elements in it."},
}

// rows is the content of an answer with rows, in all formats where these are described.
func (w *writer) rows(schema *object) *object {
	out := w.content(schema, nil)
	if w.at.Formats {
		for _, f := range otherFormats {
			out.Add(f.kind, jsontree.New("schema", jsontree.New("type", "string", "description", f.about)))
		}
	}
	return out
}

// rowAnswer refers to the answer that is one row, as it was read or as a write has left it.
func (w *writer) rowAnswer(r *model.Resource) *object {
	return w.add("responses", "one-"+component(r, ""), func() any {
		var headers []string
		if versioned(r) {
			headers = append(headers, "ETag")
		}
		if w.scope.For(window.Create, r) != nil {
			headers = append(headers, "Location")
		}
		return w.answer("The "+words(item(r))+".", w.row(r), headers...)
	})
}

func (w *writer) answer(about string, schema *object, headers ...string) *object {
	out := jsontree.New("description", about)
	if h := w.headersOf(headers...); len(h.Members) > 0 {
		out.Add("headers", h)
	}
	out.Add("content", w.rows(schema))
	return out
}

// pageAnswer refers to the answer that is a list of rows.
func (w *writer) pageAnswer(r *model.Resource) *object {
	return w.add("responses", "page-of-"+plural(r), func() any {
		var headers []string
		if r.Table.Kind == catalog.Base && len(w.scope.Operations(r)) > 1 {
			headers = append(headers, "Rows-Affected")
		}
		return w.answer("A page.", w.page(r), headers...)
	})
}

// exampledOption refers to a query option with examples of a resource.
func (w *writer) exampledOption(r *model.Resource, name string) *object {
	return w.add("parameters", plural(r)+"-"+name, func() any {
		schema := jsontree.New("type", "string")
		if examples := w.options(r)[name]; len(examples) > 0 {
			schema.Add("examples", jsontree.Strings(examples...))
		}
		return jsontree.New("name", name, "in", "query", "description", optionTexts[name], "schema", schema)
	})
}

var optionTexts = map[string]string{
	"select":  "Which fields.",
	"expand":  "Which relations.",
	"filter":  "Which rows.",
	"orderby": "In which order.",
}

// shared notes the parts that several operations refer to; they are made for the first that does.
func (w *writer) shared() {
	w.lazy = map[string]func() any{}
	w.sharedSchemas()
	w.securitySchemes()
	w.sharedParameters()
	w.sharedResponses()
}

func (w *writer) sharedParameters() {
	parameter := func(key, name, in, about string, required any, schema *object, example any) {
		w.lazy["parameters/"+key] = func() any {
			return jsontree.New("name", name, "in", in, "description", about, "required", required, "schema", schema, "example", example)
		}
	}
	text := jsontree.New("type", "string")
	whole := jsontree.New("type", "integer", "minimum", 0)
	query := func(name, about string, schema *object, example any) {
		parameter(name, name, "query", about, nil, schema, example)
	}
	query("top", "At most this many rows.", whole, nil)
	query("skip", "Pass over this many rows.", whole, nil)
	query("count", "Whether to count all rows that the filter meets.", jsontree.New("type", "boolean"), nil)
	query("search", "Words in the rows; AND, OR, NOT, \"phrases\".", text, nil)
	query("format", "How the answer is written, in place of Accept: json, ndjson, csv or xml.", text, "csv")
	header := func(key, name, about string) { parameter(key, name, "header", about, nil, text, nil) }
	header("prefer", "Prefer", "`return=minimal` for no rows in the answer, `return=representation` for them.")
	header("if-match", "If-Match", "The ETag of the row: refused if it has changed since.")
	header("if-none-match", "If-None-Match", "`*` for a new row: one that is there already stays as it is.")
	header("idempotency-key", "Idempotency-Key",
		"A text of your own, such as a UUID: the same request with it is done once, however often it is sent.")
	parameter("where", "where", "path", "Which rows: a condition as in filter.", true, text, "false")
	parameter("link-id", "$id", "query", "The row at the other end, by its path, where there are many.", nil, text, nil)
}

func (w *writer) sharedResponses() {
	header := func(name, about, kind string) {
		w.lazy["headers/"+name] = func() any {
			return jsontree.New("description", about, "schema", jsontree.New("type", kind))
		}
	}
	header("ETag", "The version of the row, for If-Match.", "string")
	header("Location", "Where a new row is.", "string")
	header("Rows-Affected", "How many rows a write has written.", "integer")
	header("Preference-Applied", "What of Prefer was done.", "string")
	header("RateLimit", "What is left of the requests of the role, and until when.", "string")
	header("Retry-After", "After how many seconds to try again.", "integer")
	plain := func(name, about string, headers ...string) {
		w.lazy["responses/"+name] = func() any {
			out := jsontree.New("description", about)
			if h := w.headersOf(headers...); len(h.Members) > 0 {
				out.Add("headers", h)
			}
			return out
		}
	}
	plain("done", "Done, and nothing to show.", "ETag", "Preference-Applied")
	plain("counted", "Done.", "Rows-Affected")
	plain("none", "There is none.")
	for _, r := range []struct{ name, about, code, message string }{
		{"invalid", "The request can't be understood.", "field.unknown", `there is no field "nmae"; write name`},
		{"missing", "There is no such row, or none that the role may see.", "row.none", "there is no such row"},
		{"conflict", "The row conflicts with another one.", "row.conflict", "there is a row with this value already"},
		{"unprocessable", "A rule of the database refuses the row.", "value.check", "the database refuses the row"},
		{"changed", "The row has another version, or is there already.", "version.changed",
			"the row has changed since; read it again"},
		{"versionless", "The resource is changed with If-Match alone.", "version.needed", "send the ETag of the row as If-Match"},
		{"refused", "401 without a valid token, 403 where the role may not, 429 over its limits, 503 while the database is away, and " +
			"others: the code " +
			"says which.", "access.denied", `role "agent" may not delete tugs`},
	} {
		w.lazy["responses/"+r.name] = func() any {
			out := jsontree.New("description", r.about)
			if r.name == "refused" {
				headers := []string{"Retry-After"}
				if w.limited {
					headers = append(headers, "RateLimit")
				}
				out.Add("headers", w.headersOf(headers...))
			}
			out.Add("content", w.content(w.use("schemas", "error"), jsontree.New("error", jsontree.New("code", r.code, "message", r.message))))
			return out
		}
	}
}

func unknownResource(name string, names []string) error {
	return fault.New(fault.NotFound, "resource.unknown", "there is no resource %q%s", name, fault.Suggest(name, names)).On("resource")
}
