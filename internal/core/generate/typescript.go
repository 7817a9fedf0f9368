package generate

import (
	"strings"

	"eagerwindow/internal/core/jsontree"
)

// TypeScript writes the types of a description: one for each schema, and "paths", which openapi-fetch makes a typed client of.
func TypeScript(doc *jsontree.Object) string {
	t := typescript{description{doc}}
	var out strings.Builder
	out.WriteString("// Types of " + t.title() + ". Written by \"eager describe\"; write them anew rather than changing them.\n")
	out.WriteString("//\n//   import createClient from 'openapi-fetch';\n//   import type { paths } from './this-file';\n" +
		"//   const api = createClient<paths>({ baseUrl: '…' });\n\n")
	for _, m := range t.schemas().Members {
		s := m.Value.(*object)
		if about := s.Text("description"); about != "" {
			out.WriteString(tsComment("", about))
		}
		if name, kind := pascal(m.Name), s.Text("type"); kind == "object" && s.List("allOf") == nil && s.Object("properties") != nil {
			out.WriteString("export interface " + name + " " + t.object(s, "") + "\n\n")
		} else {
			out.WriteString("export type " + name + " = " + t.of(s, "") + ";\n\n")
		}
	}
	out.WriteString("export interface paths {\n")
	last := ""
	for _, op := range t.operations() {
		if op.path != last {
			if last != "" {
				out.WriteString("  };\n")
			}
			out.WriteString("  " + tsQuote(op.path) + ": {\n")
		}
		last = op.path
		out.WriteString(t.operation(op))
	}
	if last != "" {
		out.WriteString("  };\n")
	}
	out.WriteString("}\n")
	return out.String()
}

type typescript struct{ description }

func tsQuote(text string) string { return string(jsontree.Append(nil, text, false)) }

// tsComment is a text as a comment that editors show.
func tsComment(indent, about string) string {
	return indent + "/** " + strings.ReplaceAll(strings.Join(strings.Fields(about), " "), "*/", "* /") + " */\n"
}

// tsKey is the name of a member.
func tsKey(name string) string {
	for i, c := range name {
		if !(c == '_' || c == '$' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || i > 0 && c >= '0' && c <= '9') {
			return tsQuote(name)
		}
	}
	return name
}

// of is the type of a schema.
func (t typescript) of(s *object, indent string) string {
	if name := schemaName(s); name != "" {
		return pascal(name)
	}
	if values := s.List("enum"); values != nil {
		parts := make([]string, len(values))
		for i, v := range values {
			parts[i] = string(jsontree.Append(nil, v, false))
		}
		return strings.Join(parts, " | ")
	}
	if rest, null := alternatives(s); rest != nil {
		parts := make([]string, len(rest))
		for i, r := range rest {
			parts[i] = t.of(r, indent)
		}
		if null {
			parts = append(parts, "null")
		}
		return strings.Join(parts, " | ")
	}
	if all := s.List("allOf"); all != nil {
		parts := make([]string, len(all))
		for i, a := range all {
			parts[i] = t.of(a.(*object), indent)
		}
		return strings.Join(parts, " & ")
	}
	kind, null := kinds(s)
	text := "unknown"
	switch kind {
	case "string", "boolean":
		text = kind
	case "integer", "number":
		text = "number"
	case "array":
		text = t.of(s.Object("items"), indent)
		if strings.Contains(text, " ") {
			text = "(" + text + ")"
		}
		text += "[]"
	case "object":
		text = t.object(s, indent)
	}
	if null {
		text += " | null"
	}
	return text
}

func (t typescript) object(s *object, indent string) string {
	properties := s.Object("properties")
	if properties == nil {
		return "Record<string, unknown>"
	}
	required := map[string]bool{}
	for _, name := range s.List("required") {
		required[name.(string)] = true
	}
	var out strings.Builder
	out.WriteString("{\n")
	for _, m := range properties.Members {
		p := m.Value.(*object)
		if about := p.Text("description"); about != "" {
			out.WriteString(tsComment(indent+"  ", about))
		}
		mark := "?"
		if required[m.Name] {
			mark = ""
		}
		if p.Get("readOnly") == true {
			out.WriteString(indent + "  readonly " + tsKey(m.Name) + mark + ": " + t.of(p, indent+"  ") + ";\n")
			continue
		}
		out.WriteString(indent + "  " + tsKey(m.Name) + mark + ": " + t.of(p, indent+"  ") + ";\n")
	}
	return out.String() + indent + "}"
}

// operation is a method as openapi-fetch reads it.
func (t typescript) operation(op operation) string {
	var out strings.Builder
	out.WriteString("    /** " + op.object.Text("summary") + ". */\n    " + op.method + ": {\n      parameters: {\n")
	for _, in := range []string{"query", "path", "header"} {
		var members strings.Builder
		needed := false
		for _, p := range op.parameters {
			if p.Text("in") != in {
				continue
			}
			mark := "?"
			if p.Get("required") == true {
				mark, needed = "", true
			}
			members.WriteString(" " + tsKey(p.Text("name")) + mark + ": " + t.of(p.Object("schema"), "      ") + ";")
		}
		switch {
		case members.Len() == 0:
			out.WriteString("        " + in + "?: never;\n")
		case needed:
			out.WriteString("        " + in + ": {" + members.String() + " };\n")
		default:
			out.WriteString("        " + in + "?: {" + members.String() + " };\n")
		}
	}
	out.WriteString("      };\n")
	if body := op.body(); body != nil {
		out.WriteString("      requestBody: { content: { 'application/json': " + t.of(body, "      ") + " } };\n")
	}
	out.WriteString("      responses: {\n")
	for _, m := range op.object.Object("responses").Members {
		content := "content?: never"
		response := t.resolve(m.Value.(*object))
		if media := response.Object("content"); media != nil && len(media.Members) > 0 {
			content = "content: { " + tsQuote(media.Members[0].Name) + ": " + t.of(media.Members[0].Value.(*object).Object("schema"), "        ") +
				" }"
		}
		out.WriteString("        " + m.Name + ": { headers: Record<string, string>; " + content + " };\n")
	}
	return out.String() + "      };\n    };\n"
}
