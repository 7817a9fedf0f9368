package describe

import (
	"cmp"
	"slices"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/jsontree"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/window"
)

// operation is one method of one path, as far as it is told apart from others.
type operation struct {
	id, summary, about string
	of                 *model.Resource // nil: of the window as a whole
	may                func(*access.Scope) bool
	parameters         list
	body               *object
	answers            *object // by status
	refusals           []string
}

// wholeTag is the tag of what belongs to no resource.
const wholeTag = "window"

// statuses are the refusals by the name of their response; the others of what a caller meets are the default.
var statuses = []struct{ name, status string }{{"invalid", "400"}, {"missing", "404"}, {"conflict", "409"}, {"changed", "412"},
	{"unprocessable", "422"}, {"versionless", "428"}}

func (w *writer) write(o operation) *object {
	out := jsontree.New("operationId", o.id, "summary", o.summary, "description", optional(o.about))
	tag := wholeTag
	if o.of != nil {
		tag = o.of.Name
	}
	out.Add("tags", list{tag})
	if o.of != nil && o.of.Deprecated != nil {
		out.Add("deprecated", true)
	}
	if security := w.permitted(o.may); security != nil {
		out.Add("security", security)
	}
	if len(o.parameters) > 0 {
		out.Add("parameters", o.parameters)
	}
	if o.body != nil {
		out.Add("requestBody", o.body)
	}
	for _, s := range statuses {
		if slices.Contains(o.refusals, s.name) {
			o.answers.Set(s.status, w.use("responses", s.name))
		}
	}
	o.answers.Sort()
	o.answers.Set("default", w.use("responses", "refused"))
	out.Add("responses", o.answers)
	return out
}

// path adds a path with its operations, by method.
func (w *writer) path(path string, parameters list, operations ...any) {
	item := jsontree.New(operations...)
	if len(item.Members) == 0 {
		return
	}
	if len(parameters) > 0 {
		item.Members = append([]jsontree.Member{{Name: "parameters", Value: parameters}}, item.Members...)
	}
	w.paths.Add(path, item)
}

// may reports which scopes have an operation on a resource.
func may(op window.Operation, r *model.Resource) func(*access.Scope) bool {
	return func(s *access.Scope) bool { return s.For(op, r) != nil }
}

func (w *writer) has(op window.Operation, r *model.Resource) bool { return w.scope.For(op, r) != nil }

// The parameters of a collection and of one row. Those of the first group have examples of the resource.
var (
	listOptions = []string{"select", "expand", "filter", "orderby", "top", "skip", "count", "search"}
	rowOptions  = []string{"select", "expand"}
	exampled    = []string{"select", "expand", "filter", "orderby"}
)

// resource writes the paths of a resource.
func (w *writer) resource(r *model.Resource) {
	name := "/" + r.Name
	var get, post, patch any
	if w.has(window.Read, r) {
		get = w.list(r)
	}
	if w.has(window.Create, r) {
		post = w.create(r)
	}
	if len(r.Key) > 0 && (w.has(window.Create, r) || w.has(window.Update, r) || w.has(window.Delete, r)) {
		patch = w.delta(r)
	}
	w.path(name, nil, "get", get, "post", post, "patch", patch)
	if len(r.Key) == 0 {
		return
	}
	row, key := name, list{}
	for _, k := range r.Key {
		row += "/{" + k.Name + "}"
		parameter := jsontree.New("name", k.Name, "in", "path", "required", true, "description", optional(k.About), "schema",
			w.fieldSchema(k, changing), "example", w.example(k))
		key = append(key, w.add("parameters", component(r, "-"+k.Name), func() any { return parameter }))
	}
	var read, change, replace, remove any
	if w.keyReadable(r) {
		read = w.get(r)
	}
	if w.has(window.Update, r) {
		change, replace = w.change(r), w.replace(r)
	}
	if w.has(window.Delete, r) {
		remove = w.remove(r)
	}
	w.path(row, key, "get", read, "put", replace, "patch", change, "delete", remove)
	if read != nil {
		w.links(r, row, key)
	}
}

func (w *writer) keyReadable(r *model.Resource) bool {
	d := w.scope.For(window.Read, r)
	return d != nil && !slices.ContainsFunc(r.Key, func(k *model.Field) bool { return !d.Fields[k.Index] })
}

// optionRefs refers to query options of a resource.
func (w *writer) optionRefs(r *model.Resource, names []string) list {
	var out list
	for _, name := range names {
		if name == "expand" && !slices.ContainsFunc(r.Relations, w.scope.MayFollow) || name == "search" && !w.searchable(r) {
			continue
		}
		if slices.Contains(exampled, name) {
			out = append(out, w.exampledOption(r, name))
		} else {
			out = append(out, w.use("parameters", name))
		}
	}
	if w.at.Formats {
		out = append(out, w.use("parameters", "format"))
	}
	return out
}

// searchable reports whether a search finds anything in the rows.
func (w *writer) searchable(r *model.Resource) bool {
	return w.scope.Vectors(r) != nil || slices.ContainsFunc(w.scope.Readable(r),
		func(f *model.Field) bool { return f.Type.Kind == model.String })
}

func (w *writer) headers(names ...string) list {
	var out list
	for _, name := range names {
		out = append(out, w.use("parameters", name))
	}
	return out
}

func (w *writer) list(r *model.Resource) *object {
	summary, parameters := "List "+words(r.Name), list{}
	if r.Query != nil {
		summary = "Read " + words(r.Name)
		for _, p := range r.Query.Parameters {
			parameters = append(parameters, jsontree.New("name", p.Name, "in", "query", "required", !p.Optional, "schema", schemaOf(p.Type)))
		}
	}
	return w.write(operation{id: "list-" + r.Name, summary: summary, about: paragraphs(cmp.Or(w.reach(r, window.Read), aboutOf(r)),
		deprecation(r), wordsAbout(w.scope.Vectors(r))),
		of: r, may: may(window.Read, r), parameters: append(parameters, w.optionRefs(r, listOptions)...),
		answers: jsontree.New("200", w.pageAnswer(r)), refusals: []string{"invalid"}})
}

// aboutOf says what a resource is.
func aboutOf(r *model.Resource) string { return sentence(cmp.Or(r.About, words(r.Name))) }

// deprecation says for how long a resource is still there.
func deprecation(r *model.Resource) string {
	if r.Deprecated == nil {
		return ""
	}
	return r.Deprecated.Sentence()
}

func (w *writer) get(r *model.Resource) *object {
	return w.write(operation{id: "get-" + item(r), summary: "Read " + one(r), about: cmp.Or(w.reach(r, window.Read),
		sentence(one(r)+" by its key")),
		of: r, may: may(window.Read, r), parameters: w.optionRefs(r, rowOptions),
		answers: jsontree.New("200", w.rowAnswer(r)), refusals: []string{"missing"}})
}

// written are the answers to a write of one row.
func (w *writer) written(r *model.Resource, status string) *object {
	out := jsontree.New("204", w.use("responses", "done"))
	if w.has(window.Read, r) {
		out.Set(status, w.rowAnswer(r))
	}
	return out
}

// shown are the parameters of a write: what its answer shows, where the role may read it, and how it is done once.
func (w *writer) shown(r *model.Resource, headers ...string) list {
	var out list
	if w.has(window.Read, r) {
		out = append(w.optionRefs(r, rowOptions), w.headers("prefer")...)
	}
	return append(out, w.headers(append(headers, "idempotency-key")...)...)
}

var writeRefusals = []string{"missing", "conflict", "unprocessable"}

func (w *writer) create(r *model.Resource) *object {
	return w.write(operation{id: "create-" + item(r), summary: "Add " + one(r), about: cmp.Or(w.reach(r, window.Create),
		"Answers with the new row."),
		of: r, may: may(window.Create, r), parameters: w.shown(r),
		body: w.bodyOf(w.body(r, window.Create), w.bodyExample(r, window.Create, w.scope.For(window.Create, r))), answers: w.written(r, "201"),
		refusals: []string{"conflict", "unprocessable"}})
}

// conditional adds to a change of one row the version that it may name, and that it may create the row.
func (w *writer) conditional(o operation, r *model.Resource) *object {
	headers := []string{"if-match"}
	o.refusals = append(slices.Clone(o.refusals), "changed")
	if r.IfMatch {
		o.refusals = append(o.refusals, "versionless")
	}
	if !strings.HasPrefix(o.id, "delete-") && w.scope.MayName(r) {
		headers = append(headers, "if-none-match")
		if w.has(window.Read, r) {
			o.answers.Set("201", w.rowAnswer(r))
		}
	}
	if strings.HasPrefix(o.id, "delete-") {
		o.parameters = w.headers(append(headers, "idempotency-key")...)
	} else {
		o.parameters = w.shown(r, headers...)
	}
	return w.write(o)
}

func (w *writer) change(r *model.Resource) *object {
	return w.conditional(operation{id: "change-" + item(r), summary: "Change fields of " + one(r),
		about: cmp.Or(w.reach(r, window.Update), "What is left out stays as it is."), of: r,
		may: may(window.Update, r), body: w.bodyOf(w.body(r, window.Update), w.bodyExample(r, window.Update, w.scope.For(window.Update, r))),
		answers: w.written(r, "200"), refusals: writeRefusals}, r)
}

func (w *writer) replace(r *model.Resource) *object {
	return w.conditional(operation{id: "replace-" + item(r), summary: "Replace " + one(r),
		about: paragraphs("What is left out goes to its default.", w.reach(r, window.Update)), of: r,
		may: may(window.Update, r), body: w.bodyOf(w.replacement(r), nil), answers: w.written(r, "200"), refusals: writeRefusals}, r)
}

func (w *writer) remove(r *model.Resource) *object {
	return w.conditional(operation{id: "delete-" + item(r), summary: "Delete " + one(r),
		about: cmp.Or(w.reach(r, window.Delete), "It can't be brought back."), of: r,
		may: may(window.Delete, r), answers: jsontree.New("204", w.use("responses", "done")), refusals: []string{"missing", "conflict"}}, r)
}

// many are the answers to a write of many rows.
func (w *writer) many(r *model.Resource) *object {
	out := jsontree.New("204", w.use("responses", "counted"))
	if w.has(window.Read, r) {
		out.Set("200", w.pageAnswer(r))
	}
	return out
}

// delta is the write of many rows at once.
func (w *writer) delta(r *model.Resource) *object {
	refusals := []string{"conflict", "unprocessable", "changed"}
	if r.IfMatch {
		refusals = append(refusals, "versionless")
	}
	schema := w.schemaRef(component(r, "-delta"), func() any {
		return objectOf("", jsontree.New("@context", jsontree.New("type", "string"), "value", jsontree.New("type", "array", "items",
			w.nested(r))), list{"value"})
	})
	any := func(s *access.Scope) bool {
		return s.For(window.Create, r) != nil || s.For(window.Update, r) != nil || s.For(window.Delete, r) != nil
	}
	return w.write(operation{id: "apply-changes-to-" + r.Name, summary: "Change, add and remove many " + words(r.Name),
		about: "All are written, or none. A row with `@removed` goes; one with `@etag` must still have that version.", of: r, may: any,
		parameters: w.headers("prefer", "idempotency-key"), body: w.bodyOf(schema, nil),
		answers: w.many(r), refusals: refusals})
}

// links writes how rows are linked and unlinked, for all relations of a resource at once.
func (w *writer) links(r *model.Resource, path string, key list) {
	var linked, many, loose []string
	for _, rel := range r.Relations {
		if !w.scope.MayFollow(rel) || !w.scope.MayLink(rel) {
			continue
		}
		linked = append(linked, rel.Name)
		if rel.Many {
			many = append(many, rel.Name)
		}
		if rel.Through != nil || untied(rel) {
			loose = append(loose, rel.Name)
		}
	}
	if linked == nil {
		return
	}
	mayLink := func(s *access.Scope) bool { return slices.ContainsFunc(r.Relations, s.MayLink) }
	o := operation{of: r, may: mayLink,
		refusals: []string{"missing", "conflict"}}
	link := func(id, summary, about, schema string, refusals ...string) any {
		o := o
		o.refusals = refusals
		o.id, o.summary, o.about = id+item(r), summary+one(r), about
		o.body, o.answers = w.bodyOf(w.use("schemas", schema), nil), jsontree.New("204", w.use("responses", "done"))
		return w.write(o)
	}
	var add, remove any
	if many != nil {
		add = link("link-to-", "Link one more row to ", "Of "+code(many)+".", "link-to-row", "missing")
	}
	schema := "links-to-rows"
	about := "A list of links for " + code(many) + "; no others stay."
	if many == nil {
		schema, about = "link-to-row", "The row at the other end of "+code(linked)+"."
	} else if len(many) < len(linked) {
		schema, about = "link-or-links", "One link, or for "+code(many)+" all that are to stay."
	}
	set := link("set-links-of-", "Set the links of ", about, schema, "missing", "conflict")
	if loose != nil {
		o := o
		o.id, o.summary = "unlink-from-"+item(r), "Unlink a row from "+one(r)
		o.about = "Neither is deleted."
		o.parameters, o.answers = w.headers("link-id"), jsontree.New("204", w.use("responses", "done"))
		remove = w.write(o)
	}
	relation := jsontree.New("name", "relation", "in", "path", "required", true, "schema", jsontree.New("type", "string", "enum",
		jsontree.Strings(linked...)))
	w.path(path+"/{relation}/$ref", append(slices.Clone(key), relation, w.use("parameters", "idempotency-key")), "put", set, "post", add,
		"delete", remove)
}

// untied reports whether a row that holds a relation can be without it.
func untied(rel *model.Relation) bool {
	return !slices.ContainsFunc(rel.Holding(), func(f *model.Field) bool { return f != nil && !f.Nullable })
}

// whole writes what belongs to the window as a whole: several requests in one, the model, and once for all resources the paths below rows.
func (w *writer) whole() {
	everyone := func(*access.Scope) bool { return true }
	does := func(op window.Operation) func(*access.Scope) bool {
		return func(s *access.Scope) bool { return len(s.Granted(op)) > 0 }
	}
	w.path("/$batch", nil, "post", w.write(operation{id: "batch", summary: "Send many requests in one",
		about: "They run in order; those of one `atomicityGroup` are one transaction.", may: everyone,
		parameters: w.headers("prefer"), body: w.bodyOf(w.use("schemas", "batch-of-requests"), nil), answers: jsontree.New("200",
			jsontree.New("description", "The answers, in the order of the requests.", "content",
				w.content(w.use("schemas", "answers-of-batch"), nil))), refusals: []string{"invalid"}}))
	w.path("/$metadata", nil, "get", w.write(operation{id: "metadata", summary: "Read the model",
		about: "As OData CSDL 4.01, XML or JSON.", may: everyone, refusals: []string{"invalid"}, answers: jsontree.New("200",
			jsontree.New("description", "The model.", "content", jsontree.New("application/xml", jsontree.New("schema",
				jsontree.New("type", "string")))))}))
	in := func(name, about, example string) *object {
		return jsontree.New("name", name, "in", "path", "required", true, "description", about, "schema", jsontree.New("type", "string"),
			"example", example)
	}
	anything := jsontree.New("description", "What is there.", "content", w.content(&object{}, nil))
	collection := w.add("parameters", "collection", func() any {
		return in("collection", "A resource.", cmp.Or(first(w.scope.Granted(window.Read), 1)...))
	})
	if does(window.Read)(w.scope) {
		read := w.write(operation{id: "get-part", summary: "Read a field or a relation of a row",
			about: "A field is in `value`, a relation leads to a row or a page of rows; 204 where there is none.", may: does(window.Read),
			answers: jsontree.New("200", anything, "204", w.use("responses", "none")), refusals: []string{"missing"}})
		w.path("/{collection}({key})/{part}", list{collection,
			in("key", "The value of its key, or `a=1,b='x'` for several fields.", "11"),
			in("part", "A field or a relation.", "name")}, "get", read)
	}
	var change, remove any
	each := func(id, summary string, op window.Operation) operation {
		return operation{id: id, summary: summary, about: "All of them, or none.", may: does(op),
			parameters: w.headers("prefer", "idempotency-key"), answers: jsontree.New("200", anything, "204", w.use("responses", "counted")),
			refusals: []string{"conflict", "unprocessable"}}
	}
	if does(window.Update)(w.scope) && does(window.Read)(w.scope) {
		o := each("change-each", "Change all rows that meet a condition", window.Update)
		o.body = w.bodyOf(jsontree.New("type", "object", "description", "The fields to change, as of one row."), nil)
		change = w.write(o)
	}
	if does(window.Delete)(w.scope) && does(window.Read)(w.scope) {
		o := each("delete-each", "Delete all rows that meet a condition", window.Delete)
		o.answers, o.refusals = jsontree.New("204", w.use("responses", "counted")), []string{"conflict"}
		remove = w.write(o)
	}
	if change != nil || remove != nil {
		w.path("/{collection}/$filter({where})/$each", list{collection, w.use("parameters", "where")}, "patch", change, "delete", remove)
	}
}

// versioned reports whether the rows of a resource have a version.
func versioned(r *model.Resource) bool { return r.Table.Kind == catalog.Base && r.View == nil }
