// Package describe writes the description of a window from its model: what callers can send and what they get, as everyone
// or as one role sees it. The same model gives the same bytes.
package describe

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/sv-tools/openapi"
	"go.yaml.in/yaml/v4"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/window"
)

// Place is where the API is served, for the servers and the token address of the description.
type Place struct {
	Formats bool   // tell of all formats of answers, not of JSON alone
	Server  string // http://127.0.0.1:8080/api/saltmere
	Token   string // where programs get tokens; "" where they can't
	Bearer  bool   // people have tokens, or other issuers give them
}

// OpenAPI is the description as OpenAPI 3.1: what the scope may do and no more.
func OpenAPI(m *model.Model, scope *access.Scope, at Place) *openapi.Extendable[openapi.OpenAPI] {
	w := newWriter(m, scope, at)
	spec := w.head(at)
	for _, r := range described(m, scope) {
		w.schemas(r)
		w.resource(r)
	}
	for _, part := range m.Parts {
		w.schemas(part)
	}
	w.batch()
	spec.Spec.Paths = w.paths
	return spec
}

func newWriter(m *model.Model, scope *access.Scope, at Place) *writer {
	return &writer{formats: at.Formats, limited: limited(m, scope), model: m, scope: scope, components: openapi.NewComponents(),
		paths: openapi.NewPaths()}
}

// limited reports whether the requests of a scope are counted; those of everyone, if any role's are.
func limited(m *model.Model, scope *access.Scope) bool {
	counts := func(l window.Limits) bool { return l.Requests.Count > 0 || l.Concurrent > 0 }
	if scope.Name != "" {
		return counts(scope.Limits)
	}
	return slices.ContainsFunc(m.Roles, func(r *model.Role) bool { return counts(r.Limits) })
}

// described lists the resources that the scope may do anything with.
func described(m *model.Model, scope *access.Scope) []*model.Resource {
	return slices.DeleteFunc(slices.Clone(m.Resources), func(r *model.Resource) bool { return len(scope.Operations(r)) == 0 })
}

// head is a description without its paths and the schemas of rows.
func (w *writer) head(at Place) *openapi.Extendable[openapi.OpenAPI] {
	doc := w.model.Document
	about := doc.About
	if w.scope.Name != "" {
		about = strings.TrimSpace(about + fmt.Sprintf("\n\nAs role `%s` sees it.", w.scope.Name))
	}
	w.shared(at)
	w.enumerations()
	spec := &openapi.OpenAPI{
		OpenAPI: "3.1.1",
		Info: openapi.NewExtendable(&openapi.Info{Title: cmp.Or(doc.Title, w.model.Name), Description: about,
			Version: cmp.Or(doc.Version, "0")}),
		Servers:    []*openapi.Extendable[openapi.Server]{openapi.NewExtendable(&openapi.Server{URL: at.Server})},
		Components: w.components,
	}
	for _, r := range described(w.model, w.scope) {
		spec.Tags = append(spec.Tags, openapi.NewExtendable(&openapi.Tag{Name: r.Name, Description: r.About}))
	}
	if at.Token != "" {
		spec.Security = append(spec.Security, openapi.SecurityRequirement{"token": []string{}})
	}
	if at.Bearer {
		spec.Security = append(spec.Security, openapi.SecurityRequirement{"bearer": []string{}})
	}
	if spec.Security != nil && w.model.AnonymousRole() != nil {
		spec.Security = append(spec.Security, openapi.SecurityRequirement{})
	}
	return openapi.NewExtendable(spec)
}

// inOrder is a description with its parts in the order in which people read them.
type inOrder struct {
	OpenAPI    any `json:"openapi" yaml:"openapi"`
	Info       any `json:"info" yaml:"info"`
	Servers    any `json:"servers,omitempty" yaml:"servers,omitempty"`
	Security   any `json:"security,omitempty" yaml:"security,omitempty"`
	Tags       any `json:"tags,omitempty" yaml:"tags,omitempty"`
	Paths      any `json:"paths" yaml:"paths"`
	Components any `json:"components" yaml:"components"`
}

func ordered(spec *openapi.Extendable[openapi.OpenAPI]) inOrder {
	s := spec.Spec
	o := inOrder{OpenAPI: s.OpenAPI, Info: s.Info, Servers: s.Servers, Paths: s.Paths, Components: s.Components}
	if s.Security != nil {
		o.Security = s.Security
	}
	if s.Tags != nil {
		o.Tags = s.Tags
	}
	return o
}

// YAML writes a description as YAML.
func YAML(out io.Writer, m *model.Model, scope *access.Scope, at Place) error {
	e := yaml.NewEncoder(out)
	e.SetIndent(2)
	if err := e.Encode(ordered(OpenAPI(m, scope, at))); err != nil {
		return fmt.Errorf("write the description: %w", err)
	}
	return nil
}

type writer struct {
	formats    bool // of answers: all of them
	limited    bool // requests are counted
	model      *model.Model
	scope      *access.Scope
	components *openapi.Extendable[openapi.Components]
	paths      *openapi.Extendable[openapi.Paths]
}

// reserved are the schemas that every description has.
var reserved = []string{"error", "link-to-row", "links-to-rows", "change-of-rows", "batch-of-requests", "answers-of-batch"}

// Component is the name of the schema of a resource's rows; those of bodies have -create, -change and -replace after it.
func Component(r *model.Resource) string { return component(r, "") }

// component is what one row of a resource is called as a key of components, where only ASCII may stand.
func component(r *model.Resource, part string) string {
	name := cmp.Or(r.Item, r.Name)
	if slices.Contains(reserved, name) {
		name += "-row"
	}
	for _, c := range name {
		if c >= 0x80 {
			name = fmt.Sprintf("resource-%d", r.Index+1)
			break
		}
	}
	return name + part
}

func schemaRef(name string) *openapi.RefOrSpec[openapi.Schema] {
	return openapi.NewRefOrSpec[openapi.Schema]("#/components/schemas/" + name)
}

// shared writes the parts that every operation refers to.
func (w *writer) shared(at Place) {
	c := w.components.Spec
	c.Add("error", openapi.NewSchemaBuilder().Type("object").Description("What is wrong, where, and what would be right.").Required("error").
		AddProperty("error", openapi.NewSchemaBuilder().Type("object").Required("code", "message").
			AddProperty("code", text("A stable name for the kind of mistake.").Examples("field.unknown").Build()).
			AddProperty("message", text("A sentence for people.").Build()).
			AddProperty("target", text("The part of the request that it is about.").Build()).
			AddProperty("details", openapi.NewSchemaBuilder().Type("array").Description("Several mistakes, told at once.").
				Items(openapi.NewBoolOrSchema(openapi.NewSchemaBuilder().Type("object").Required("code", "message").
					AddProperty("code", text("").Build()).AddProperty("message", text("").Build()).AddProperty("target",
					text("").Build()).Build())).Build()).
			Build()).
		Build())
	for _, r := range []struct{ name, about string }{
		{"invalid", "The request can't be understood."}, {"unauthenticated", "No token, or one that is not accepted, where one is needed."},
		{"forbidden", "The role may not do this; the message says what it may."},
		{"missing", "There is no such row, or none that the role may see."},
		{"conflict", "The row stands against another one."}, {"unprocessable", "A rule of the database refuses the row."},
		{"formats", "No format that the caller accepts is written here."},
		{"changed", "The row has changed since the version that If-Match names, or is there already."},
		{"versionless", "The resource is changed with If-Match alone."},
		{"limited", "More requests than the role may send; Retry-After says when to come back."},
		{"media", "The body has a type that is not accepted."}, {"unavailable", "The database is away or too slow."},
	} {
		c.Add(r.name, openapi.NewResponseBuilder().Description(r.about).AddContent("application/json", media(schemaRef("error"))).Build())
	}
	for _, p := range []struct {
		name, about string
		schema      *openapi.SchemaBuilder
		example     any
	}{
		{"apply", "Rows transformed before the other options see them: `groupby((status),aggregate($count as n))` (OData Data Aggregation 4.0).",
			openapi.NewSchemaBuilder().Type("string"), nil},
		{"compute", "Values to compute, each with a name: `draught_m mul 2 as twice`.", openapi.NewSchemaBuilder().Type("string"), nil},
		{"search", "Only rows with these words in a text field; AND, OR, NOT, \"phrases\".", openapi.NewSchemaBuilder().Type("string"), nil},
		{"filter", "Only rows that meet this condition (OData 4.01).", openapi.NewSchemaBuilder().Type("string"), nil},
		{"orderby", "The order of the rows: fields, each with `asc` or `desc`.", openapi.NewSchemaBuilder().Type("string"), nil},
		{"select", "Only these fields.", openapi.NewSchemaBuilder().Type("string"), nil},
		{"expand", "Relations whose rows stand in the answer, each with options of its own in brackets.",
			openapi.NewSchemaBuilder().Type("string"), nil},
		{"top", "At most this many rows.", openapi.NewSchemaBuilder().Type("integer").Minimum(0), 20},
		{"skip", "Pass over this many rows.", openapi.NewSchemaBuilder().Type("integer").Minimum(0), 0},
		{"count", "Whether the answer tells the number of all rows that the filter meets.", openapi.NewSchemaBuilder().Type("boolean"), true},
		{"format", "How the answer is written, in place of Accept: json (also with parameters), ndjson, csv or xml.",
			openapi.NewSchemaBuilder().Type("string"), "csv"},
		{"skiptoken", "Where the page begins; part of a next link, never made by callers.", openapi.NewSchemaBuilder().Type("string"), nil},
	} {
		c.Add(p.name, openapi.NewRefOrExtSpec[openapi.Parameter](&openapi.Parameter{Name: p.name, In: openapi.InQuery, Description: p.about,
			Schema: p.schema.Build(), Example: p.example}))
	}
	w.sharedWriting()
	if at.Bearer {
		c.Add("bearer", openapi.NewSecuritySchemeBuilder().Type("http").Scheme("bearer").BearerFormat("JWT").Description("The token of a "+
			"person who has signed in, or of another issuer.").Build())
	}
	if at.Token == "" {
		return
	}
	scopes := map[string]string{}
	for _, r := range w.model.Roles {
		if !r.Anonymous {
			scopes[r.Name] = r.About
		}
	}
	flows := openapi.NewExtendable(&openapi.OAuthFlows{ClientCredentials: openapi.NewExtendable(&openapi.OAuthFlow{TokenURL: at.Token,
		Scopes: scopes})})
	c.Add("token", openapi.NewSecuritySchemeBuilder().Type("oauth2").Description("A token for a program, by its client id and secret. The "+
		"scope is one of its roles, or several; left out, all of them.").Flows(flows).Build())
}

func text(about string) *openapi.SchemaBuilder {
	return openapi.NewSchemaBuilder().Type("string").Description(about)
}

func media(schema *openapi.RefOrSpec[openapi.Schema]) *openapi.Extendable[openapi.MediaType] {
	return openapi.NewMediaTypeBuilder().Schema(schema).Build()
}

// listOptions and rowOptions are the parameters of a collection, and of one row.
var (
	listOptions = []string{"apply", "compute", "search", "filter", "orderby", "select", "expand", "top", "skip", "count", "format",
		"skiptoken"}
	rowOptions   = []string{"compute", "select", "expand", "format"}
	countOptions = []string{"apply", "search", "filter"}
	readRefusals = []string{"invalid", "unauthenticated", "forbidden", "missing", "formats", "unavailable"}
)

func (w *writer) resource(r *model.Resource) {
	reads := w.scope.For(window.Read, r) != nil
	collection := &openapi.PathItem{}
	if reads {
		verb := "List "
		if r.Query != nil {
			verb = "Read "
		}
		collection.Get = w.read(r, "list-"+r.Name, verb+words(r.Name), "A page of "+words(r.Name)+".", w.page(r), listOptions)
		w.add("/"+r.Name+"/$count", &openapi.PathItem{Get: w.number(r)})
	}
	if w.scope.For(window.Create, r) != nil {
		op := w.operation(r, window.Create, "create-"+item(r), "Add "+one(r), "The new "+words(item(r))+".", "201", w.stored(r), writeRefusals...)
		op.Spec.RequestBody = body(component(r, "-create"))
		collection.Post = w.write(op, r)
		tagged(op, r)
	}
	w.many(r, collection)
	w.add("/"+r.Name, collection)
	if len(r.Key) == 0 {
		return
	}
	row, path := &openapi.PathItem{}, "/"+r.Name
	for _, k := range r.Key {
		path += "/{" + k.Name + "}"
		row.Parameters = append(row.Parameters,
			openapi.NewRefOrExtSpec[openapi.Parameter](&openapi.Parameter{Name: k.Name, In: openapi.InPath, Required: true,
				Description: k.About, Schema: schemaOf(k.Type).Build()}))
	}
	if reads && w.keyReadable(r) {
		row.Get = w.read(r, "get-"+item(r), "Read "+one(r), "The "+words(item(r))+".", w.object(r), rowOptions)
		tagged(row.Get, r)
		w.relations(r, path, row.Parameters)
	}
	if w.scope.For(window.Update, r) != nil {
		op := w.operation(r, window.Update, "change-"+item(r), "Change fields of "+one(r), "The "+words(item(r))+" as it is now.", "200",
			w.stored(r),
			writeRefusals...)
		op.Spec.RequestBody = body(component(r, "-change"))
		row.Patch = w.conditional(w.write(op, r), r)
		op = w.operation(r, window.Update, "replace-"+item(r), "Replace "+one(r), "The "+words(item(r))+" as it is now.", "200", w.stored(r),
			writeRefusals...)
		op.Spec.Description = strings.TrimSpace("What is left out goes to its default.\n\n" + op.Spec.Description)
		op.Spec.RequestBody = body(component(r, "-replace"))
		row.Put = w.conditional(w.write(op, r), r)
		tagged(row.Patch, r)
		tagged(row.Put, r)
	}
	if w.scope.For(window.Delete, r) != nil {
		row.Delete = w.conditional(once(w.operation(r, window.Delete, "delete-"+item(r), "Delete "+one(r), "It is gone.", "204", nil, "invalid",
			"unauthenticated",
			"forbidden", "missing", "conflict", "unavailable")), r)
	}
	w.add(path, row)
}

// conditional adds to a change the version that it may name, and to one that creates what is not there the answer for that.
func (w *writer) conditional(op *openapi.Extendable[openapi.Operation], r *model.Resource) *openapi.Extendable[openapi.Operation] {
	op.Spec.Parameters = append(op.Spec.Parameters, parameterRef("if-match"))
	names := []string{"changed"}
	if r.IfMatch {
		names = append(names, "versionless")
	}
	for _, name := range names {
		op.Spec.Responses.Spec.Response[statuses[name]] = openapi.NewRefOrExtSpec[openapi.Response]("#/components/responses/" + name)
	}
	if !strings.HasPrefix(op.Spec.OperationID, "delete-") && w.scope.MayName(r) {
		op.Spec.Parameters = append(op.Spec.Parameters, parameterRef("if-none-match"))
		done := openapi.NewResponseBuilder().Description("There was no such row; it is created.").
			AddHeader("Location", openapi.NewRefOrExtSpec[openapi.Header](&openapi.Header{Description: "Where the new row is.",
				Schema: text("").Format("uri-reference").Build()}))
		if stored := w.stored(r); stored != nil {
			done.AddContent("application/json", media(stored))
		}
		op.Spec.Responses.Spec.Response["201"] = done.Build()
	}
	return op
}

// tagged adds the version of the row to the answers that show it.
func tagged(op *openapi.Extendable[openapi.Operation], r *model.Resource) {
	if r.Table.Kind != catalog.Base || r.View != nil {
		return
	}
	for _, status := range []string{"200", "201", "204"} {
		if answer := op.Spec.Responses.Spec.Response[status]; answer != nil {
			if answer.Spec.Spec.Headers == nil {
				answer.Spec.Spec.Headers = map[string]*openapi.RefOrSpec[openapi.Extendable[openapi.Header]]{}
			}
			answer.Spec.Spec.Headers["ETag"] = openapi.NewRefOrExtSpec[openapi.Header]("#/components/headers/etag")
		}
	}
}

// relations describes the paths from a row to what its relations lead to.
func (w *writer) relations(r *model.Resource, path string, key []*openapi.RefOrSpec[openapi.Extendable[openapi.Parameter]]) {
	for _, rel := range r.Relations {
		if !w.scope.MayFollow(rel) {
			continue
		}
		way := rel.Name + "-of-" + item(r)
		at := &openapi.PathItem{Parameters: key}
		if rel.Many {
			at.Get = w.read(rel.To, "list-"+way, "List the "+words(rel.Name)+" of "+one(r), "A page of "+words(rel.To.Name)+".", w.page(rel.To),
				listOptions)
		} else {
			at.Get = w.read(rel.To, "get-"+way, "Read the "+words(rel.Name)+" of "+one(r), "The "+words(item(rel.To))+".", w.object(rel.To),
				rowOptions)
			at.Get.Spec.Responses.Spec.Response["204"] = openapi.NewResponseBuilder().Description("The row has none.").Build()
		}
		at.Get.Spec.Description = w.limits(rel.To, window.Read)
		w.add(path+"/"+rel.Name, at)
		w.links(r, rel, path, key)
	}
}

func (w *writer) read(r *model.Resource, id, summary, done string, answer *openapi.RefOrSpec[openapi.Schema],
	options []string) *openapi.Extendable[openapi.Operation] {
	op := w.operation(r, window.Read, id, summary, done, "200", answer, readRefusals...)
	if answer != nil && w.formats {
		content := op.Spec.Responses.Spec.Response["200"].Spec.Spec.Content
		for kind, about := range otherFormats {
			content[kind] = media(text(about).Build())
		}
	}
	if r.Query != nil {
		for _, p := range r.Query.Parameters {
			op.Spec.Parameters = append(op.Spec.Parameters,
				openapi.NewRefOrExtSpec[openapi.Parameter](&openapi.Parameter{Name: p.Name, In: openapi.InQuery,
					Required: !p.Optional, Schema: schemaOf(p.Type).Build()}))
		}
	}
	for _, name := range options {
		op.Spec.Parameters = append(op.Spec.Parameters, parameterRef(name))
	}
	if words := wordsAbout(w.scope.Vectors(r)); words != "" && slices.Contains(options, "search") {
		op.Spec.Description = strings.TrimSpace(op.Spec.Description + "\n\n" + words)
	}
	return op
}

// wordsAbout says what a search looks into where that is not the text of the fields itself.
func wordsAbout(vectors []*model.Vector) string {
	var parts []string
	for _, v := range vectors {
		names := make([]string, len(v.Of))
		for i, f := range v.Of {
			names[i] = "`" + f.Name + "`"
		}
		part := "the words of " + strings.Join(names, ", ")
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
	return "`search` looks into " + strings.Join(parts, ", and ") + "; a word is found in any of its forms."
}

// otherFormats are what rows are written as besides JSON.
var otherFormats = map[string]string{
	"application/x-ndjson": "Each row as a JSON object on a line of its own.",
	"text/csv":             "A line of names, then a line for each row (RFC 4180); what is nested as JSON text.",
	"application/xml":      "Each row as an element, its fields as elements in it.",
}

// number describes the count of a collection, which is bare text.
func (w *writer) number(r *model.Resource) *openapi.Extendable[openapi.Operation] {
	op := w.read(r, "count-"+r.Name, "Count "+words(r.Name), "The number.", nil, countOptions)
	op.Spec.Description = w.limits(r, window.Read)
	done := openapi.NewResponseBuilder().Description("The number.").AddContent("text/plain",
		media(openapi.NewSchemaBuilder().Type("integer").Build()))
	op.Spec.Responses.Spec.Response["200"] = done.Build()
	return op
}

func (w *writer) keyReadable(r *model.Resource) bool {
	d := w.scope.For(window.Read, r)
	for _, k := range r.Key {
		if !d.Fields[k.Index] {
			return false
		}
	}
	return true
}

func (w *writer) add(path string, item *openapi.PathItem) {
	if item.Get == nil && item.Post == nil && item.Put == nil && item.Patch == nil && item.Delete == nil {
		return
	}
	w.paths.Spec.Add(path, openapi.NewRefOrExtSpec[openapi.PathItem](item))
}

func parameterRef(name string) *openapi.RefOrSpec[openapi.Extendable[openapi.Parameter]] {
	return openapi.NewRefOrExtSpec[openapi.Parameter]("#/components/parameters/" + name)
}

func body(schema string) *openapi.RefOrSpec[openapi.Extendable[openapi.RequestBody]] {
	return openapi.NewRefOrExtSpec[openapi.RequestBody](&openapi.RequestBody{Required: true,
		Content: map[string]*openapi.Extendable[openapi.MediaType]{"application/json": media(schemaRef(schema))}})
}

// statuses are the refusals by the name of their response.
var statuses = map[string]string{"invalid": "400", "unauthenticated": "401", "forbidden": "403", "missing": "404", "formats": "406",
	"conflict": "409", "changed": "412", "versionless": "428",
	"limited": "429", "media": "415", "unprocessable": "422", "unavailable": "503"}

func (w *writer) operation(r *model.Resource, does window.Operation, id, summary, outcome, status string,
	answer *openapi.RefOrSpec[openapi.Schema], refusals ...string) *openapi.Extendable[openapi.Operation] {
	done := openapi.NewResponseBuilder().Description(outcome)
	if answer != nil {
		done.AddContent("application/json", media(answer))
	}
	if status == "201" {
		done.AddHeader("Location", openapi.NewRefOrExtSpec[openapi.Header](&openapi.Header{Description: "Where the new row is.",
			Schema: text("").Format("uri-reference").Build()}))
	}
	responses := openapi.NewResponsesBuilder().AddResponse(status, done.Build())
	if status != "204" && w.scope.For(window.Read, r) == nil {
		responses = openapi.NewResponsesBuilder()
	}
	if status == "201" || status == "200" && (does == window.Update) {
		responses.AddResponse("204", openapi.NewResponseBuilder().Description("Done; the row is not wanted, or not the role's to read.").Build())
	}
	if w.limited {
		refusals = append(slices.Clone(refusals), "limited")
	}
	for _, name := range refusals {
		responses.AddResponse(statuses[name], openapi.NewRefOrExtSpec[openapi.Response]("#/components/responses/"+name))
	}
	return openapi.NewExtendable(&openapi.Operation{OperationID: id, Summary: summary, Description: w.seen(r, does),
		Tags: []string{tag(r)}, Responses: responses.Build().Spec})
}

// tag is the resource that an operation stands under; a part of a saved view has none of its own.
func tag(r *model.Resource) string {
	if r.View != nil {
		return r.View.Top.Name
	}
	return r.Name
}

func (w *writer) object(r *model.Resource) *openapi.RefOrSpec[openapi.Schema] {
	return schemaRef(component(r, ""))
}

// stored is the answer to a write, nil where the role may not read the resource.
func (w *writer) stored(r *model.Resource) *openapi.RefOrSpec[openapi.Schema] {
	if w.scope.For(window.Read, r) == nil {
		return nil
	}
	return w.object(r)
}

// page is the list of a resource's rows, which has a name of its own.
func (w *writer) page(r *model.Resource) *openapi.RefOrSpec[openapi.Schema] {
	return schemaRef(component(r, "-list"))
}

func (w *writer) list(r *model.Resource) *openapi.RefOrSpec[openapi.Schema] {
	return openapi.NewSchemaBuilder().Type("object").Description("A page of "+words(r.Name)+".").Required("value").
		AddProperty("value", openapi.NewSchemaBuilder().Type("array").Items(openapi.NewBoolOrSchema(w.object(r))).Build()).
		AddProperty("@context", text("").Format("uri-reference").Build()).
		AddProperty("@count", openapi.NewSchemaBuilder().Type("integer").Description("The number of all rows that the filter meets, "+
			"with count=true.").Build()).
		AddProperty("@nextLink", text("Where the next page is, while there is one.").Format("uri-reference").Build()).
		Build()
}

// item is what one row of a resource is called.
func item(r *model.Resource) string { return cmp.Or(r.Item, r.Name) }

// words is a name as people write it.
func words(name string) string { return strings.ReplaceAll(name, "_", " ") }

// one is one row of a resource in words.
func one(r *model.Resource) string {
	name := words(item(r))
	if strings.ContainsAny(name[:1], "aeiouAEIOU") {
		return "an " + name
	}
	return "a " + name
}

// seen says what a resource is, and what of it an operation is for.
func (w *writer) seen(r *model.Resource, op window.Operation) string {
	return strings.TrimSpace(r.About + "\n\n" + w.limits(r, op))
}

// limits says what of a resource an operation is for, where a role does not see or change all of it.
func (w *writer) limits(r *model.Resource, op window.Operation) string {
	d := w.scope.For(op, r)
	if d == nil || r.View != nil {
		return ""
	}
	var parts []string
	switch {
	case d.Rule == nil:
	case w.scope.Name != "" && w.scope.Reads(d.Rule.Where):
		parts = append(parts, "Only those where `"+d.Rule.Text+"`.")
	default: // by something that its callers can't see
		parts = append(parts, "Only some of them.")
	}
	var without []string
	for _, f := range r.Fields {
		if op == window.Read && !d.Fields[f.Index] {
			without = append(without, "`"+f.Name+"`")
		}
	}
	if without != nil {
		parts = append(parts, "Without "+strings.Join(without, ", ")+".")
	}
	return strings.Join(parts, "\n\n")
}
