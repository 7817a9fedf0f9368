package suite

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// expression is a runtime expression (Arazzo 1.0.1, 5.9): a source, the path from there, and a JSON pointer into a body.
type expression struct {
	text    string
	source  string   // url, method, statusCode, request, response, inputs, outputs, steps, workflows
	path    []string // header, body, names
	pointer string   // after #
}

var sources = []string{"url", "method", "statusCode", "request", "response", "inputs", "outputs", "steps", "workflows"}

// parseExpression reads a runtime expression.
func parseExpression(text string) (expression, error) {
	bare, is := strings.CutPrefix(text, "$")
	if !is {
		return expression{}, fmt.Errorf("%q is no runtime expression; write one such as $response.body#/id", text)
	}
	bare, pointer, _ := strings.Cut(bare, "#")
	parts := strings.Split(bare, ".")
	e := expression{text: text, source: parts[0], path: parts[1:], pointer: pointer}
	if pointer != "" && !strings.HasPrefix(pointer, "/") {
		return e, fmt.Errorf("%s: after # comes a JSON pointer, such as #/id", text)
	}
	least := map[string]int{"url": 0, "method": 0, "statusCode": 0, "request": 1, "response": 1, "inputs": 1, "outputs": 1, "steps": 3,
		"workflows": 3}
	n, known := least[e.source]
	switch {
	case !known:
		return e, fmt.Errorf("%s begins with none of $%s", text, strings.Join(sources, ", $"))
	case len(e.path) < n:
		return e, fmt.Errorf("%s is not complete; write for example $steps.create.outputs.id", text)
	case e.source == "response" && e.path[0] != "body" && e.path[0] != "header":
		return e, fmt.Errorf("%s: an answer has $response.body and $response.header.Name", text)
	case e.source == "request" && e.path[0] != "body" && e.path[0] != "header" && e.path[0] != "query" && e.path[0] != "path":
		return e, fmt.Errorf("%s: a request has $request.body, header, query and path", text)
	case e.source == "steps" && e.path[1] != "outputs", e.source == "workflows" && e.path[1] != "outputs" && e.path[1] != "inputs":
		return e, fmt.Errorf("%s: steps and workflows have outputs", text)
	}
	return e, nil
}

// value is what an expression stands for; an error says what is not there.
func (r *run) value(e expression) (any, error) {
	missing := func(what string) error { return fmt.Errorf("%s: there is no %s", e.text, what) }
	switch e.source {
	case "url":
		return r.last.request.URL, nil
	case "method":
		return r.last.request.Method, nil
	case "statusCode":
		return json.Number(strconv.Itoa(r.last.answer.Status)), nil
	case "inputs":
		v, is := r.inputs[strings.Join(e.path, ".")]
		if !is {
			return nil, missing("input " + e.path[0])
		}
		return pointed(v, e)
	case "outputs":
		v, is := r.outputs[strings.Join(e.path, ".")]
		if !is {
			return nil, missing("output " + e.path[0])
		}
		return pointed(v, e)
	case "steps":
		v, is := r.steps[e.path[0]][strings.Join(e.path[2:], ".")]
		if !is {
			return nil, missing("output " + e.path[2] + " of step " + e.path[0])
		}
		return pointed(v, e)
	case "workflows":
		from := r.all.outputs
		if e.path[1] == "inputs" {
			from = r.all.inputs
		}
		v, is := from[e.path[0]][strings.Join(e.path[2:], ".")]
		if !is {
			return nil, missing(e.path[1] + " " + e.path[2] + " of workflow " + e.path[0])
		}
		return pointed(v, e)
	}
	of := e.path[0]
	name := strings.Join(e.path[1:], ".")
	switch {
	case e.source == "response" && of == "header":
		if v := r.last.answer.Header.Get(name); v != "" {
			return v, nil
		}
		return nil, missing("header " + name + " in the answer")
	case e.source == "response":
		return pointed(r.last.answer.JSON(), e)
	case of == "body":
		return pointed(r.last.request.body, e)
	case of == "header":
		return r.last.request.Header.Get(name), nil
	}
	v, is := r.last.request.values[of+" "+name]
	if !is {
		return nil, missing(of + " parameter " + name)
	}
	return v, nil
}

// pointed follows the JSON pointer of an expression.
func pointed(v any, e expression) (any, error) {
	if e.pointer == "" {
		return v, nil
	}
	for name := range strings.SplitSeq(e.pointer[1:], "/") {
		name = strings.NewReplacer("~1", "/", "~0", "~").Replace(name)
		switch at := v.(type) {
		case map[string]any:
			inner, is := at[name]
			if !is {
				return nil, fmt.Errorf("%s: there is no %q", e.text, name)
			}
			v = inner
		case []any:
			i, err := strconv.Atoi(name)
			if err != nil || i < 0 || i >= len(at) {
				return nil, fmt.Errorf("%s: there is no item %s, of %d", e.text, name, len(at))
			}
			v = at[i]
		default:
			return nil, fmt.Errorf("%s: there is nothing below %s", e.text, asText(v))
		}
	}
	return v, nil
}

var embedded = regexp.MustCompile(`\{\$[^{}]+\}`)

// filled is a value with what its expressions stand for: one that is an expression as a whole, others within texts in braces.
func (r *run) filled(v any) (any, error) {
	switch v := v.(type) {
	case string:
		if strings.HasPrefix(v, "$") {
			e, err := parseExpression(v)
			if err != nil {
				return v, nil // a text that begins with a dollar sign
			}
			return r.value(e)
		}
		var failed error
		out := embedded.ReplaceAllStringFunc(v, func(part string) string {
			e, err := parseExpression(part[1 : len(part)-1])
			var inner any
			if err == nil {
				inner, err = r.value(e)
			}
			if err != nil {
				failed = err
			}
			return asText(inner)
		})
		return out, failed
	case map[string]any:
		out := make(map[string]any, len(v))
		for name, inner := range v {
			filled, err := r.filled(inner)
			if err != nil {
				return nil, err
			}
			out[name] = filled
		}
		return out, nil
	case []any:
		out := make([]any, len(v))
		for i, inner := range v {
			filled, err := r.filled(inner)
			if err != nil {
				return nil, err
			}
			out[i] = filled
		}
		return out, nil
	}
	return v, nil
}

// asText is a value as it stands in a text or an address.
func asText(v any) string {
	switch v := v.(type) {
	case nil:
		return "null"
	case string:
		return v
	}
	text, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(text)
}

func compileRegexp(text string) (*regexp.Regexp, error) { return regexp.Compile(text) }
