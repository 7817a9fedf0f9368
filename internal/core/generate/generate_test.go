package generate_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"go/types"
	"strings"
	"testing"

	"eagerwindow/internal/core/generate"
	"eagerwindow/internal/core/jsontree"
)

// Names that a language has itself, that begin with digits, that are alike: what is generated is still a program.
const odd = `
openapi: 3.1.1
info: {title: Odd, version: "1"}
paths:
  /client/{type}/{call}:
    parameters: [{name: type, in: path, required: true, schema: {type: string}}, {name: call, in: path, required: true,
	schema: {type: integer, format: int32}}]
    get: {operationId: get-client, summary: Read a client, responses: {"200": {description: x,
	content: {application/json: {schema: {$ref: "#/components/schemas/client"}}}}}}
    patch: {operationId: change-client, summary: Change it,
	requestBody: {content: {application/json: {schema: {$ref: "#/components/schemas/client-nested"}}}}, responses: {"204": {description: x}}}
components:
  schemas:
    client:
      type: object
      required: [id, 2nd]
      properties:
        id: {type: integer, format: int64, readOnly: true}
        2nd: {type: [string, "null"], description: "ends */ here"}
        "@id": {type: string}
        kind: {$ref: "#/components/schemas/kind"}
        self: {anyOf: [{$ref: "#/components/schemas/client"}, {type: "null"}]}
        wide: {anyOf: [{type: number, format: double}, {type: string, enum: [INF]}]}
        any: {}
        more: {type: array, items: {type: [integer, "null"]}}
        size: {type: object, properties: {a-b: {type: number, format: decimal}, a_b: {type: boolean}}}
    client-nested: {type: object, allOf: [{$ref: "#/components/schemas/client"}, {type: object, properties: {"@removed": {type: object}}}]}
    kind: {type: string, enum: [one, "", "1", One, "größe"]}
    call: {type: object, properties: {x: {type: string}}}
    mistake: {type: object, required: [code, message], properties: {code: {type: string}, message: {type: string}}}
    error: {type: object, required: [error], properties: {error: {$ref: "#/components/schemas/mistake"}}}
`

// nothing imports nothing.
type nothing struct{}

func (nothing) Import(path string) (*types.Package, error) {
	return types.NewPackage(path, path[strings.LastIndexByte(path, '/')+1:]), nil
}

func TestOddNames(t *testing.T) {
	t.Parallel()
	v, err := jsontree.Parse([]byte(odd))
	if err != nil {
		t.Fatal(err)
	}
	doc := v.(*jsontree.Object)
	out, err := generate.Go(doc, "odd")
	if err != nil {
		t.Fatal(err)
	}
	set := token.NewFileSet()
	file, err := parser.ParseFile(set, "odd.go", out, 0)
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	// Without the packages that it imports, what is wrong are names that are there twice.
	conf := types.Config{Importer: nothing{}, Error: func(err error) {
		if strings.Contains(err.Error(), "redeclared") || strings.Contains(err.Error(), "duplicate") {
			t.Errorf("%v\n%s", err, out)
		}
	}}
	_, _ = conf.Check("odd", set, []*ast.File{file}, nil)
	text := generate.TypeScript(doc)
	for _, want := range []string{"export interface Client {", `"2nd": string | null;`, "readonly id: number;", "self?: Client | null;",
		`wide?: number | "INF";`,
		"ends * / here", `"/client/{type}/{call}": {`, "path: { type: string; call: number; };", "export type ClientNested = Client & {",
		"more?: (number | null)[];"} {
		if !strings.Contains(text, want) {
			t.Errorf("TypeScript lacks %s:\n%s", want, text)
		}
	}
}
