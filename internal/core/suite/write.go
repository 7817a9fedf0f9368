package suite

import (
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"eagerwindow/internal/core/contract"
	"eagerwindow/internal/core/jsontree"
)

// Recorded is a request that was made, with its answer.
type Recorded struct {
	Method, Path string // below the window, with its query
	Headers      map[string]string
	Body         string
	Status       int
	Kind         string
	Answer       string
	ActAs        string
}

// Write makes a suite of requests that were made: each a step that must be answered with the same status and have the same fields, and the
// fields that are named with the same values. Keys that an earlier answer has are taken from there. It returns the requests that the
// description has no operation for, too.
func Write(name, window string, described *contract.Contract, requests []Recorded, fields []string) (text []byte, unknown []string,
	err error) {
	w := &suiteWriter{known: map[string]string{}, fields: fields}
	steps := jsontree.List{}
	for _, q := range requests {
		path, query, _ := strings.Cut(q.Path, "?")
		op := described.Find(q.Method, path)
		if op == nil {
			unknown = append(unknown, q.Method+" "+q.Path)
			continue
		}
		steps = append(steps, w.step(len(steps)+1, op, q, path, query))
	}
	suite := jsontree.New("arazzo", "1.0.1", "info", jsontree.New("title", "Recorded: "+name, "version", "1.0.0"), "sourceDescriptions",
		jsontree.List{jsontree.New("name", strings.ReplaceAll(window, "-", "_"), "url", "/describe/"+window+"/openapi.json", "type", "openapi")},
		"workflows", jsontree.List{jsontree.New("workflowId", name, "steps", steps)})
	text, err = jsontree.AppendYAML(suite)
	return text, unknown, err
}

type suiteWriter struct {
	known  map[string]string // expressions by the text of the value that they stand for
	fields []string
}

// stands is a value as an expression, where an earlier answer has it.
func (w *suiteWriter) stands(v any) any {
	if number, is := v.(json.Number); is && w.known[number.String()] != "" {
		return w.known[number.String()]
	}
	if text, is := v.(string); is && w.known[text] != "" {
		return w.known[text]
	}
	return v
}

func (w *suiteWriter) step(n int, op *contract.Operation, q Recorded, path, query string) *jsontree.Object {
	id := fmt.Sprintf("%s-%d", op.ID, n)
	step := jsontree.New("stepId", id, "operationId", op.ID)
	if q.ActAs != "" {
		step.Add("x-eager-act-as", q.ActAs)
	}
	parameters := jsontree.List{}
	for name, value := range pathValues(op.Path, path) {
		plain, err := url.PathUnescape(value)
		if err != nil {
			plain = value
		}
		parameters = append(parameters, jsontree.New("name", name, "in", "path", "value", w.stands(plain)))
	}
	slices.SortFunc(parameters, func(a, b any) int {
		return strings.Compare(a.(*jsontree.Object).Text("name"), b.(*jsontree.Object).Text("name"))
	})
	for part := range strings.SplitSeq(query, "&") {
		name, value, _ := strings.Cut(part, "=")
		if plain, err := url.QueryUnescape(value); err == nil && name != "" {
			parameters = append(parameters, jsontree.New("name", strings.TrimPrefix(name, "%24"), "in", "query", "value", plain))
		}
	}
	for _, name := range []string{"Prefer", "If-Match", "If-None-Match"} {
		if value := q.Headers[name]; value != "" {
			parameters = append(parameters, jsontree.New("name", name, "in", "header", "value", w.stands(value)))
		}
	}
	if len(parameters) > 0 {
		step.Add("parameters", parameters)
	}
	if q.Body != "" {
		if body, err := jsontree.Parse([]byte(q.Body)); err == nil {
			step.Add("requestBody", jsontree.New("contentType", "application/json", "payload", w.replaced(body)))
		}
	}
	criteria := jsontree.List{jsontree.New("condition", "$statusCode == "+strconv.Itoa(q.Status))}
	outputs := &jsontree.Object{}
	answer, err := jsontree.Parse([]byte(q.Answer))
	row, isRow := answer.(*jsontree.Object)
	if err == nil && isRow && strings.Contains(q.Kind, "json") && q.Status < 300 {
		criteria = append(criteria, w.shape(row)...)
		for _, m := range row.Members {
			text := string(jsontree.Append(nil, m.Value, false))
			if strings.HasSuffix(m.Name, "id") && !strings.HasPrefix(m.Name, "@") && w.known[strings.Trim(text, `"`)] == "" && q.Method == "POST" {
				outputs.Add(m.Name, "$response.body#/"+m.Name)
				w.known[strings.Trim(text, `"`)] = "$steps." + id + ".outputs." + m.Name
			}
		}
		if tag := row.Text("@etag"); tag != "" {
			outputs.Add("version", "$response.header.ETag")
			w.known[tag] = "$steps." + id + ".outputs.version"
		}
	}
	step.Add("successCriteria", criteria)
	if len(outputs.Members) > 0 {
		step.Add("outputs", outputs)
	}
	return step
}

// shape are criteria of what must stay true of an answer: its fields are there, those that are named have their values.
func (w *suiteWriter) shape(answer *jsontree.Object) (criteria jsontree.List) {
	row, at, pointer := answer, "$", ""
	if rows := answer.List("value"); len(rows) > 0 {
		first, is := rows[0].(*jsontree.Object)
		if !is {
			return nil
		}
		row, at, pointer = first, "$.value[0]", "/value/0"
	}
	for _, m := range row.Members {
		if strings.HasPrefix(m.Name, "@") {
			continue
		}
		name := strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(m.Name)
		criteria = append(criteria, jsontree.New("context", "$response.body", "type", "jsonpath", "condition", at+"['"+name+"']"))
		if slices.Contains(w.fields, m.Name) {
			value := string(jsontree.Append(nil, m.Value, false))
			if text, is := m.Value.(string); is {
				value = "'" + strings.ReplaceAll(text, "'", "''") + "'"
			}
			criteria = append(criteria, jsontree.New("condition", "$response.body#"+pointer+"/"+m.Name+" == "+value))
		}
	}
	return criteria
}

// replaced is a body with the expressions of values that earlier answers have.
func (w *suiteWriter) replaced(v any) any {
	switch v := v.(type) {
	case *jsontree.Object:
		for i, m := range v.Members {
			v.Members[i].Value = w.replaced(m.Value)
		}
		return v
	case jsontree.List:
		for i := range v {
			v[i] = w.replaced(v[i])
		}
		return v
	}
	return w.stands(v)
}

// pathValues are the values of a template's parameters in a path, one for each segment.
func pathValues(template, path string) map[string]string {
	values := map[string]string{}
	have := strings.Split(strings.Trim(path, "/"), "/")
	for i, part := range strings.Split(strings.Trim(template, "/"), "/") {
		if strings.HasPrefix(part, "{") && strings.HasSuffix(part, "}") && i < len(have) {
			values[part[1:len(part)-1]] = have[i]
		}
	}
	return values
}

// Begin makes a suite to begin with: a row is made, read, changed with its version, and deleted. It uses the first operations of the
// description that allow all of that; the error says that there are none.
func Begin(window string, described *contract.Contract) ([]byte, error) {
	of := map[string]map[string]*contract.Operation{}
	var order []string
	for _, op := range described.Operations {
		kind, _, _ := strings.Cut(op.ID, "-")
		if of[op.Tag] == nil {
			of[op.Tag] = map[string]*contract.Operation{}
			order = append(order, op.Tag)
		}
		if of[op.Tag][kind] == nil {
			of[op.Tag][kind] = op
		}
	}
	for _, tag := range order {
		create, get, change, remove := of[tag]["create"], of[tag]["get"], of[tag]["change"], of[tag]["delete"]
		if create == nil || get == nil || change == nil || remove == nil || strings.Count(get.Path, "{") != 1 || strings.Contains(get.Path, "$") {
			continue
		}
		return begin(window, tag, create, get, change, remove)
	}
	return nil, fmt.Errorf("no resource of %s can be created, read, changed and deleted by a key of one field", window)
}

func begin(window, tag string, create, get, change, remove *contract.Operation) ([]byte, error) {
	body := func(op *contract.Operation) any {
		media := op.Object.Object("requestBody").Object("content").Object("application/json")
		return jsontree.Clone(media.Get("example"))
	}
	key := get.Path[strings.IndexByte(get.Path, '{')+1 : strings.IndexByte(get.Path, '}')]
	is := func(status int) jsontree.List {
		return jsontree.List{jsontree.New("condition", "$statusCode == "+strconv.Itoa(status))}
	}
	at := jsontree.New("name", key, "in", "path", "value", "$steps.create.outputs."+key)
	workflow := jsontree.New("workflowId", "a-visit-of-"+strings.ReplaceAll(tag, "_", "-"), "summary", "A row of "+tag+" comes and goes.",
		"steps", jsontree.List{
			jsontree.New("stepId", "create", "operationId", create.ID, "requestBody", jsontree.New("payload", body(create)), "successCriteria",
				is(201),
				"outputs", jsontree.New(key, "$response.body#/"+key, "version", "$response.header.ETag")),
			jsontree.New("stepId", "read", "operationId", get.ID, "parameters", jsontree.List{at}, "successCriteria", append(is(200),
				jsontree.New("condition", "$response.body#/"+key+" == $steps.create.outputs."+key))),
			jsontree.New("stepId", "change", "operationId", change.ID, "parameters", jsontree.List{at, jsontree.New("name", "If-Match", "in",
				"header",
				"value", "$steps.create.outputs.version")}, "requestBody", jsontree.New("payload", body(change)), "successCriteria", is(200)),
			jsontree.New("stepId", "change-a-version-that-is-gone", "operationId", change.ID, "parameters", jsontree.List{at, jsontree.New("name",
				"If-Match",
				"in", "header", "value", "$steps.create.outputs.version")}, "requestBody", jsontree.New("payload", body(change)), "successCriteria",
				is(412)),
			jsontree.New("stepId", "delete", "operationId", remove.ID, "parameters", jsontree.List{at}, "successCriteria", is(204)),
			jsontree.New("stepId", "read-what-is-gone", "operationId", get.ID, "parameters", jsontree.List{at}, "successCriteria", is(404)),
		})
	return jsontree.AppendYAML(jsontree.New("arazzo", "1.0.1", "info", jsontree.New("title", "A visit", "version", "1.0.0"),
		"sourceDescriptions",
		jsontree.List{jsontree.New("name", strings.ReplaceAll(window, "-", "_"), "url", "/describe/"+window+"/openapi.json", "type", "openapi")},
		"workflows", jsontree.List{workflow}))
}
