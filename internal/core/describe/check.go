package describe

import (
	"embed"
	"errors"
	"fmt"
	"strings"
	"sync"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"eagerwindow/internal/core/contract"
	"eagerwindow/internal/core/jsontree"
)

// official are the JSON Schemas that the OpenAPI Initiative publishes for each version.
//
//go:embed official/*.json
var official embed.FS

var officialSchema = map[string]func() (*jsonschema.Schema, error){"2.0": compileOnce("2.0"), "3.0": compileOnce("3.0"),
	"3.1": compileOnce("3.1")}

func compileOnce(version string) func() (*jsonschema.Schema, error) {
	return sync.OnceValues(func() (*jsonschema.Schema, error) {
		name := "official/openapi-" + version + ".json"
		f, err := official.Open(name)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		doc, err := jsonschema.UnmarshalJSON(f)
		if err != nil {
			return nil, err
		}
		c := jsonschema.NewCompiler()
		if err := c.AddResource("https://eager-window.example/"+name, doc); err != nil {
			return nil, err
		}
		return c.Compile("https://eager-window.example/" + name)
	})
}

// Check holds a description against the schema of its version of OpenAPI, and against what readers of descriptions count on besides. It
// returns what is wrong, each with its place.
func Check(doc *jsontree.Object) ([]string, error) {
	version := doc.Text("openapi") + doc.Text("swagger")
	version = version[:min(len("3.1"), len(version))]
	compiled := officialSchema[version]
	if compiled == nil {
		return []string{fmt.Sprintf("there is no version of OpenAPI %q", version)}, nil
	}
	schema, err := compiled()
	if err != nil {
		return nil, fmt.Errorf("read the schema of OpenAPI %s: %w", version, err)
	}
	var wrong []string
	var invalid *jsonschema.ValidationError
	if err := schema.Validate(jsontree.Plain(doc)); errors.As(err, &invalid) {
		wrong = contract.Leaves(invalid)
	} else if err != nil {
		return nil, err
	}
	return append(wrong, habits(doc)...), nil
}

// habits are what linters recommend of every description.
func habits(doc *object) (wrong []string) {
	say := func(format string, args ...any) { wrong = append(wrong, fmt.Sprintf(format, args...)) }
	info := doc.Object("info")
	for _, name := range []string{"title", "version", "description", "contact", "license"} {
		if !info.Has(name) {
			say("/info: %s is missing; the window document gives it", name)
		}
	}
	tags := map[string]bool{}
	for _, t := range doc.List("tags") {
		tag := t.(*object)
		if tags[tag.Text("name")] = true; tag.Text("description") == "" {
			say("/tags: %s has no description", tag.Text("name"))
		}
	}
	ids := map[string]string{}
	for _, path := range doc.Object("paths").Members {
		item, _ := path.Value.(*object)
		for _, m := range item.Members {
			op, is := m.Value.(*object)
			if !is {
				continue
			}
			at := m.Name + " " + path.Name
			id := op.Text("operationId")
			if other := ids[id]; other != "" {
				say("%s: the operationId %q is that of %s too", at, id, other)
			}
			ids[id] = at
			for _, name := range []string{"operationId", "summary", "description"} {
				if op.Text(name) == "" {
					say("%s: %s is missing", at, name)
				}
			}
			for _, t := range op.List("tags") {
				if name, _ := t.(string); !tags[name] {
					say("%s: there is no tag %q", at, name)
				}
			}
			refusal := false
			for _, status := range op.Object("responses").Members {
				refusal = refusal || strings.HasPrefix(status.Name, "4")
			}
			if !refusal {
				say("%s: no refusal (4xx) is described", at)
			}
			for name := range strings.SplitSeq(path.Name, "{") {
				if name, _, is := strings.Cut(name, "}"); is && !hasParameter(doc, item.List("parameters"), name) && !hasParameter(doc,
					op.List("parameters"),
					name) {
					say("%s: the parameter %q of the path is not described", at, name)
				}
			}
		}
	}
	return append(wrong, references(doc)...)
}

func hasParameter(doc *object, parameters list, name string) bool {
	for _, p := range parameters {
		parameter := p.(*object)
		if found, is := pointed(doc, parameter.Text("$ref")).(*object); is {
			parameter = found
		}
		if parameter.Text("in") == "path" && parameter.Text("name") == name {
			return true
		}
	}
	return false
}

// pointed is what a reference leads to, nil where it leads nowhere.
func pointed(doc *object, ref string) any {
	path, local := strings.CutPrefix(ref, "#/")
	if !local {
		return nil
	}
	var at any = doc
	for name := range strings.SplitSeq(path, "/") {
		o, is := at.(*object)
		if !is {
			return nil
		}
		at = o.Get(strings.NewReplacer("~1", "/", "~0", "~").Replace(name))
	}
	return at
}

// references finds those that lead nowhere, and components that nothing refers to.
func references(doc *object) (wrong []string) {
	used := map[string]bool{}
	jsontree.Walk(doc, func(o *object) {
		ref := o.Text("$ref")
		if ref != "" && pointed(doc, ref) == nil {
			wrong = append(wrong, fmt.Sprintf("the reference %s leads nowhere", ref))
		}
		used[ref] = true
	})
	groups := map[string]*object{"definitions": doc.Object("definitions"), "parameters": doc.Object("parameters"),
		"responses": doc.Object("responses")}
	if components := doc.Object("components"); components != nil {
		for _, group := range components.Members {
			if group.Name != "securitySchemes" {
				groups["components/"+group.Name], _ = group.Value.(*object)
			}
		}
	}
	for kind, group := range groups {
		if group == nil {
			continue
		}
		for _, m := range group.Members {
			if !used["#/"+kind+"/"+m.Name] {
				wrong = append(wrong, fmt.Sprintf("nothing refers to #/%s/%s", kind, m.Name))
			}
		}
	}
	return wrong
}
