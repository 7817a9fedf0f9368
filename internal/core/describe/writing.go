package describe

import (
	"slices"
	"strings"

	"github.com/sv-tools/openapi"

	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/window"
)

type (
	operation  = *openapi.Extendable[openapi.Operation]
	parameters = []*openapi.RefOrSpec[openapi.Extendable[openapi.Parameter]]
)

// writeRefusals are the answers to a write that was not done.
var writeRefusals = []string{"invalid", "unauthenticated", "forbidden", "missing", "conflict", "media", "unprocessable", "unavailable"}

// sharedWriting adds what writes of every resource refer to.
func (w *writer) sharedWriting() {
	c := w.components.Spec
	c.Add("link-to-row", openapi.NewSchemaBuilder().Type("object").Description("A row that is there already.").Required("@id").
		AddProperty("@id", text("Its path.").Examples("tugs/3").Build()).Build())
	c.Add("links-to-rows", objectSchema().Required("value").AddProperty("value", openapi.NewSchemaBuilder().Type("array").
		Items(openapi.NewBoolOrSchema(schemaRef("link-to-row"))).Build()).Build())
	c.Add("change-of-rows", openapi.NewSchemaBuilder().Type("object").Description("Rows by key or @id, new ones, and those that are to go: "+
		"{\"@removed\":{\"reason\":\"deleted\"},\"@id\":…}. One with @etag must still have that version.").Required("value").
		AddProperty("@context", text("").Examples("#$delta").Build()).
		AddProperty("value", arrayOf(objectSchema())).Build())
	request := objectSchema().Required("id", "method", "url").
		AddProperty("id", text("The answer has it too.").Build()).
		AddProperty("method", openapi.NewSchemaBuilder().Type("string").Enum("GET", "POST", "PUT", "PATCH", "DELETE").Build()).
		AddProperty("url", text("A path below the window; $1 at its beginning stands for the row that request 1 made or read.").
			Examples("port_calls/17").Build()).
		AddProperty("atomicityGroup", text("Requests of one group are one transaction.").Build()).
		AddProperty("dependsOn", openapi.NewSchemaBuilder().Type("array").Description("Requests and groups before that must have gone well.").
			Items(openapi.NewBoolOrSchema(text("").Build())).Build()).
		AddProperty("if", text("A condition over the answers before, without which the request is not run.").
			Examples("$1/$succeeded and $1/status eq 'expected'").Build()).
		AddProperty("headers", objectSchema().Build()).
		AddProperty("body", openapi.NewSchemaBuilder().Description("JSON as it is, other text as a string.").Build())
	c.Add("batch-of-requests", objectSchema().Required("requests").
		AddProperty("requests", openapi.NewSchemaBuilder().Type("array").MinItems(1).Items(openapi.NewBoolOrSchema(request.Build())).Build()).
		Build())
	answer := objectSchema().Required("id", "status").
		AddProperty("id", text("").Build()).
		AddProperty("status", openapi.NewSchemaBuilder().Type("integer").Build()).
		AddProperty("atomicityGroup", text("").Build()).
		AddProperty("headers", objectSchema().Build()).
		AddProperty("body", openapi.NewSchemaBuilder().Build())
	c.Add("answers-of-batch", objectSchema().Required("responses").AddProperty("responses", arrayOf(answer)).Build())
	header := func(key, name, about string) {
		c.Add(key, openapi.NewRefOrExtSpec[openapi.Parameter](&openapi.Parameter{Name: name, In: openapi.InHeader, Description: about,
			Schema: openapi.NewSchemaBuilder().Type("string").Build()}))
	}
	c.Add("etag", openapi.NewRefOrExtSpec[openapi.Header](&openapi.Header{Description: "The version of the row, for If-Match; " +
		"not where relations are expanded.", Schema: openapi.NewSchemaBuilder().Type("string").Build()}))
	header("prefer", "Prefer", "return=minimal leaves rows out of the answer; return=representation asks for those of a write of many.")
	header("if-none-match", "If-None-Match", "* asks for a new row: one that is there already is left alone.")
	header("if-match", "If-Match", "The ETag of the version that is meant: the row is left alone if it has changed since.")
	header("idempotency-key", "Idempotency-Key",
		"A text of your own, such as a UUID: sent again with the same request, it is not done twice but answered as the first time.")
	c.Add("where", openapi.NewRefOrExtSpec[openapi.Parameter](&openapi.Parameter{Name: "where", In: openapi.InPath, Required: true,
		Description: "Which rows: a condition as in filter.", Schema: openapi.NewSchemaBuilder().Type("string").Build(), Example: "id lt 0"}))
	c.Add("link-id", openapi.NewRefOrExtSpec[openapi.Parameter](&openapi.Parameter{Name: "id", In: openapi.InQuery, Required: true,
		Description: "The row at the other end, by its path.", Schema: openapi.NewSchemaBuilder().Type("string").Build()}))
}

func objectSchema() *openapi.SchemaBuilder { return openapi.NewSchemaBuilder().Type("object") }

func arrayOf(item *openapi.SchemaBuilder) *openapi.RefOrSpec[openapi.Schema] {
	return openapi.NewSchemaBuilder().Type("array").Items(openapi.NewBoolOrSchema(item.Build())).Build()
}

// write adds to a write what its answer may show, and how.
func (w *writer) write(op operation, r *model.Resource) operation {
	if w.scope.For(window.Read, r) != nil {
		for _, name := range []string{"compute", "select", "expand", "prefer"} {
			op.Spec.Parameters = append(op.Spec.Parameters, parameterRef(name))
		}
	}
	op.Spec.Responses.Spec.Response[statuses["formats"]] = openapi.NewRefOrExtSpec[openapi.Response]("#/components/responses/formats")
	return once(op)
}

// once adds to a write the key with which it is done once.
func once(op operation) operation {
	op.Spec.Parameters = append(op.Spec.Parameters, parameterRef("idempotency-key"))
	return op
}

// batch describes many requests in one.
func (w *writer) batch() {
	done := openapi.NewResponseBuilder().Description("The answers, in the order of the requests.").AddContent("application/json",
		media(schemaRef("answers-of-batch"))).AddContent("multipart/mixed",
		media(text("An answer in each part, of type application/http.").Build()))
	responses := openapi.NewResponsesBuilder().AddResponse("200", done.Build())
	names := []string{"invalid", "unauthenticated", "formats", "media", "unavailable"}
	if w.limited {
		names = append(names, "limited")
	}
	for _, name := range names {
		responses.AddResponse(statuses[name], openapi.NewRefOrExtSpec[openapi.Response]("#/components/responses/"+name))
	}
	sent := body("batch-of-requests")
	sent.Spec.Spec.Content["multipart/mixed"] = media(text("A request in each part, of type application/http; a part that is " +
		"multipart itself is a transaction.").Build())
	w.add("/$batch", &openapi.PathItem{Post: openapi.NewExtendable(&openapi.Operation{OperationID: "batch",
		Summary: "Send many requests in one", RequestBody: sent, Responses: responses.Build().Spec})})
}

// many describes the writes of many rows: a delta of the collection, and every row of a filter.
func (w *writer) many(r *model.Resource, collection *openapi.PathItem) {
	may := func(op window.Operation) bool { return w.scope.For(op, r) != nil }
	if len(r.Key) == 0 {
		return
	}
	if may(window.Create) || may(window.Update) || may(window.Delete) {
		refusals := append(slices.Clone(writeRefusals), "changed")
		if r.IfMatch {
			refusals = append(refusals, "versionless")
		}
		collection.Patch = w.counted(w.operation(r, window.Update, "apply-changes-to-"+r.Name,
			"Change, add and remove many "+words(r.Name)+", all or none", "All are written.",
			"204", nil,
			refusals...), r)
		collection.Patch.Spec.RequestBody = body("change-of-rows")
	}
	if !may(window.Read) {
		return
	}
	each := &openapi.PathItem{Parameters: parameters{parameterRef("where")}}
	if may(window.Update) {
		each.Patch = w.counted(w.operation(r, window.Update, "change-each-"+item(r), "Change all "+words(r.Name)+" that meet a condition",
			"All are changed.",
			"204", nil,
			writeRefusals...), r)
		each.Patch.Spec.RequestBody = body(component(r, "-change"))
	}
	if may(window.Delete) {
		each.Delete = w.counted(w.operation(r, window.Delete, "delete-each-"+item(r), "Delete all "+words(r.Name)+" that meet a condition",
			"All are gone.",
			"204", nil,
			"invalid", "unauthenticated", "forbidden", "conflict", "unavailable"), nil)
	}
	w.add("/"+r.Name+"/$filter({where})/$each", each)
}

// counted adds the number of rows to the answer of a write of many, and the rows of the resource, where it may show them.
func (w *writer) counted(op operation, shown *model.Resource) operation {
	done := func(how string) *openapi.ResponseBuilder {
		return openapi.NewResponseBuilder().Description("Done"+how+".").
			AddHeader("Rows-Affected", openapi.NewRefOrExtSpec[openapi.Header](&openapi.Header{Description: "How many rows were written.",
				Schema: openapi.NewSchemaBuilder().Type("integer").Build()}))
	}
	op.Spec.Responses.Spec.Response["204"] = done("").Build()
	if shown == nil {
		return once(op)
	}
	if w.scope.For(window.Read, shown) != nil {
		op.Spec.Responses.Spec.Response["200"] = done("; these are the rows").AddContent("application/json", media(w.page(shown))).Build()
	}
	return w.write(op, shown)
}

// links describes how rows are tied and untied along a relation.
func (w *writer) links(r *model.Resource, rel *model.Relation, path string, key parameters) {
	if !w.scope.MayLink(rel) {
		return
	}
	at := &openapi.PathItem{Parameters: key}
	link := func(verb, summary, sent string) operation {
		op := w.operation(r, window.Update, verb+"-"+rel.Name+"-of-"+item(r), summary, "Done.", "204", nil, writeRefusals...)
		op.Spec.RequestBody, op.Spec.Description = body(sent), w.limits(r, window.Update)
		return once(op)
	}
	if rel.Many {
		at.Post = link("add", "Link another of the "+words(rel.Name)+" to "+one(r), "link-to-row")
		at.Put = link("set", "Link these "+words(rel.Name)+" to "+one(r)+", and no others", "links-to-rows")
	} else {
		at.Put = link("set", "Link a "+words(rel.Name)+" to "+one(r), "link-to-row")
	}
	if rel.Through != nil || w.untied(rel) {
		at.Delete = once(w.operation(r, window.Update, "unlink-"+rel.Name+"-of-"+item(r),
			"Unlink the "+words(rel.Name)+" of "+one(r)+"; neither is deleted",
			"Done.", "204", nil, "invalid", "unauthenticated", "forbidden", "missing", "conflict", "unavailable"))
		at.Delete.Spec.Description = w.limits(r, window.Update)
		if rel.Many {
			at.Delete.Spec.Parameters = append(at.Delete.Spec.Parameters, parameterRef("link-id"))
		}
	}
	w.add(path+"/"+rel.Name+"/$ref", at)
}

// untied reports whether a row that holds a relation can be without it.
func (w *writer) untied(rel *model.Relation) bool {
	for _, f := range rel.Holding() {
		if !f.Nullable {
			return false
		}
	}
	return true
}

// related adds to a body what may become of the row's relations.
func (w *writer) related(b *openapi.SchemaBuilder, r *model.Resource, op window.Operation) {
	for _, rel := range r.Relations {
		if rel.To.View != nil || r.View != nil || !w.mayNest(rel, op) {
			continue
		}
		row := openapi.NewSchemaBuilder().AnyOf(schemaRef("link-to-row"),
			openapi.NewSchemaBuilder().Type("object").Description("A row of "+rel.To.Name+": a new one, or by its key.").Build())
		if !rel.Many {
			b.AddProperty(rel.Name, openapi.NewSchemaBuilder().Description(instead(rel)).AnyOf(row.Build(),
				openapi.NewSchemaBuilder().Type("null").Build()).Build())
			continue
		}
		rows := func(about string) *openapi.RefOrSpec[openapi.Schema] {
			return openapi.NewSchemaBuilder().Type("array").Description(about).Items(openapi.NewBoolOrSchema(row.Build())).Build()
		}
		b.AddProperty(rel.Name, rows("These rows, and no others."))
		if op == window.Update {
			b.AddProperty(rel.Name+"@delta", rows("Rows to be tied, changed, or taken out with @removed."))
		}
	}
}

// instead names the fields that a relation stands for.
func instead(rel *model.Relation) string {
	if !rel.Holds() {
		return ""
	}
	var names []string
	for _, f := range rel.Holding() {
		names = append(names, f.Name)
	}
	return "In place of " + strings.Join(names, ", ") + "."
}

// mayNest reports whether rows of a relation may are in the body of an operation.
func (w *writer) mayNest(rel *model.Relation, op window.Operation) bool {
	if !rel.Holds() {
		return w.scope.For(window.Create, rel.To) != nil || w.scope.MayLink(rel)
	}
	d := w.scope.For(op, rel.From)
	for _, f := range rel.Holding() {
		if d == nil || f == nil || !d.Takes(f) {
			return false
		}
	}
	return true
}
