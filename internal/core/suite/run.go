package suite

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/textproto"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"eagerwindow/internal/core/contract"
)

// Request is what a step sends.
type Request struct {
	ActAs  string
	Method string
	Path   string // below the window, with its query
	URL    string // as $url has it
	Header textproto.MIMEHeader
	Body   []byte
	body   any
	values map[string]any // of the parameters, by "in name"
}

// Answer is what comes back.
type Answer struct {
	Status int
	Header textproto.MIMEHeader
	Body   []byte
}

// JSON is the body as a value, nil where it is none.
func (a Answer) JSON() any {
	v, err := jsonschema.UnmarshalJSON(bytes.NewReader(a.Body))
	if err != nil {
		return nil
	}
	return v
}

// Send sends requests and returns what is answered.
type Send func(context.Context, Request) (Answer, error)

// Result is what became of a check.
type Result struct {
	Suite    string  `json:"suite"`
	Check    string  `json:"check"`
	Passed   bool    `json:"passed"`
	Skipped  string  `json:"skipped,omitempty"` // why it was not run
	Failure  string  `json:"failure,omitempty"` // what does not hold
	At       string  `json:"at,omitempty"`      // where in the suite
	Request  string  `json:"request,omitempty"` // the one that was answered otherwise
	Answer   string  `json:"answer,omitempty"`
	Expected string  `json:"expected,omitempty"`
	Seconds  float64 `json:"seconds"`
	Asked    int     `json:"asked"` // requests
	Steps    []Taken `json:"steps,omitempty"`

	Amendments []Amendment `json:"amendments,omitempty"` // that make the check hold of the answer, where it can be changed so
}

// Taken is a step as it was taken: the request, and the status of its answer.
type Taken struct {
	Step    string  `json:"step"`
	Request string  `json:"request"` // method and path
	Status  int     `json:"status"`
	Passed  bool    `json:"passed"`
	Seconds float64 `json:"seconds"`
}

// maxTaken is how many steps of a check are told.
const maxTaken = 200

// Options are for one run of a suite.
type Options struct {
	Name     string
	Contract *contract.Contract // of the description, where operations are found
	Server   string             // what $url begins with
	Inputs   map[string]any
	Only     string // only workflows whose id contains this, and those that they depend on
	Send     Send
	Done     func(Result) // hears of each check as it ends; may be nil
}

// maxSteps is how many steps a check may take, as it may go back.
const maxSteps = 10_000

// Run runs the workflows of a suite in an order in which each comes after those that it depends on. An error is one of the sender's.
func (s *Suite) Run(ctx context.Context, o Options) ([]Result, error) {
	all := &runs{suite: s, options: o, inputs: map[string]map[string]any{}, outputs: map[string]map[string]any{},
		results: map[string]*Result{}}
	for _, w := range s.Workflows {
		if o.Only == "" || strings.Contains(w.ID, o.Only) {
			if err := all.check(ctx, w); err != nil {
				return all.list, err
			}
		}
	}
	return all.list, nil
}

// runs are those of the workflows of a suite.
type runs struct {
	suite           *Suite
	options         Options
	inputs, outputs map[string]map[string]any // by workflow
	results         map[string]*Result
	list            []Result
}

// run is one workflow as it runs.
type run struct {
	all     *runs
	w       *Workflow
	actAs   string
	inputs  map[string]any
	outputs map[string]any
	steps   map[string]map[string]any
	asked   int
	taken   []Taken
	last    struct {
		request    Request
		answer     Answer
		amendments []Amendment
	}
}

// failure is what does not hold.
type failure struct {
	at, text, expected string
}

func (f *failure) Error() string { return f.text }

func (a *runs) check(ctx context.Context, w *Workflow) error {
	if a.results[w.ID] != nil {
		return nil
	}
	result := &Result{Suite: a.options.Name, Check: w.ID}
	a.results[w.ID] = result
	report := func() {
		a.list = append(a.list, *result)
		if a.options.Done != nil {
			a.options.Done(*result)
		}
	}
	for _, name := range w.DependsOn {
		before := a.suite.Workflow(name)
		if err := a.check(ctx, before); err != nil {
			return err
		}
		if !a.results[name].Passed {
			result.Skipped = "it depends on " + name + ", which does not hold"
			report()
			return nil
		}
	}
	begun := time.Now()
	r := &run{all: a, w: w, actAs: w.ActAs}
	err := r.workflow(ctx, maps.Clone(a.options.Inputs))
	result.Seconds, result.Asked, result.Steps = time.Since(begun).Seconds(), r.asked, r.taken
	var f *failure
	switch {
	case err == nil:
		result.Passed = true
	case errors.As(err, &f):
		result.At, result.Failure, result.Expected = f.at, f.text, f.expected
		if r.asked > 0 {
			result.Request = r.last.request.Method + " " + r.last.request.Path
			if r.last.request.ActAs != "" {
				result.Request += "\nAct-As: " + r.last.request.ActAs
			}
			if len(r.last.request.Body) > 0 {
				result.Request += "\n" + string(r.last.request.Body)
			}
			result.Answer = fmt.Sprintf("%d\n%.4000s", r.last.answer.Status, r.last.answer.Body)
			result.Amendments = r.last.amendments
		}
	default:
		return err
	}
	report()
	return nil
}

// workflow runs the steps with their inputs.
func (r *run) workflow(ctx context.Context, inputs map[string]any) error {
	if inputs == nil {
		inputs = map[string]any{}
	}
	if err := r.takeInputs(inputs); err != nil {
		return err
	}
	r.inputs, r.outputs, r.steps = inputs, map[string]any{}, map[string]map[string]any{}
	r.all.inputs[r.w.ID] = inputs
	for at, taken, tries := 0, 0, 0; at < len(r.w.Steps); taken++ {
		if taken > maxSteps {
			return &failure{"", fmt.Sprintf("after %d steps it is not at its end", maxSteps), ""}
		}
		s := r.w.Steps[at]
		begun, asked := time.Now(), r.asked
		failed := r.step(ctx, s)
		if s.WorkflowID == "" && r.asked > asked && len(r.taken) < maxTaken {
			q := r.last.request
			r.taken = append(r.taken, Taken{Step: s.ID, Request: q.Method + " " + q.Path, Status: r.last.answer.Status, Passed: failed == nil,
				Seconds: time.Since(begun).Seconds()})
		}
		var f *failure
		if failed != nil && !errors.As(failed, &f) {
			return failed
		}
		action, err := r.action(s, failed != nil)
		if err != nil {
			return err
		}
		switch {
		case action == nil && failed != nil:
			return failed
		case action == nil:
			at, tries = at+1, 0
		case action.Type == "end":
			if failed != nil {
				return failed
			}
			at = len(r.w.Steps)
		case action.Type == "retry":
			if tries++; tries > max(action.Limit, 1) {
				return failed
			}
			select {
			case <-time.After(time.Duration(action.After * float64(time.Second))):
			case <-ctx.Done():
				return ctx.Err()
			}
		case action.WorkflowID != "":
			return r.call(ctx, r.all.suite.Workflow(action.WorkflowID), nil, nil)
		default:
			at, tries = slices.IndexFunc(r.w.Steps, func(o *Step) bool { return o.ID == action.StepID }), 0
		}
	}
	for _, o := range r.w.Outputs {
		v, err := r.filled(o.Value)
		if err != nil {
			return &failure{"output " + o.Name, err.Error(), ""}
		}
		r.outputs[o.Name] = v
	}
	r.all.outputs[r.w.ID] = r.outputs
	return nil
}

// takeInputs holds the inputs against their schema, and gives those that are left out their defaults.
func (r *run) takeInputs(inputs map[string]any) error {
	schema, _ := r.w.Inputs.(map[string]any)
	if ref, _ := schema["$ref"].(string); strings.HasPrefix(ref, "#/components/inputs/") {
		schema, _ = r.all.suite.inputs[strings.TrimPrefix(ref, "#/components/inputs/")].(map[string]any)
	}
	if schema == nil {
		return nil
	}
	properties, _ := schema["properties"].(map[string]any)
	for name, p := range properties {
		property, _ := p.(map[string]any)
		if value, is := property["default"]; is && inputs[name] == nil {
			inputs[name] = value
		}
	}
	c := jsonschema.NewCompiler()
	const at = "https://inputs.example/schema"
	if err := c.AddResource(at, schema); err != nil {
		return &failure{"inputs", "the schema of the inputs can't be read: " + err.Error(), ""}
	}
	compiled, err := c.Compile(at)
	if err != nil {
		return &failure{"inputs", "the schema of the inputs can't be read: " + err.Error(), ""}
	}
	var invalid *jsonschema.ValidationError
	if err := compiled.Validate(inputs); errors.As(err, &invalid) {
		return &failure{"inputs", "the inputs are not as the check needs them: " + strings.Join(contract.Leaves(invalid), "; "), ""}
	}
	return nil
}

// action is what is to be done after a step, the first whose criteria hold; nil for the ordinary.
func (r *run) action(s *Step, failed bool) (*Action, error) {
	list := slices.Concat(s.OnSuccess, r.w.OnSuccess)
	if failed {
		list = slices.Concat(s.OnFailure, r.w.OnFailure)
	}
	for i := range list {
		holds := true
		for _, c := range list[i].Criteria {
			is, err := r.holds(c)
			if err != nil {
				is = false
			}
			holds = holds && is
		}
		if holds {
			return &list[i], nil
		}
	}
	return nil, nil
}

// step sends what a step says, and holds the answer against its criteria.
func (r *run) step(ctx context.Context, s *Step) error {
	at := "step " + s.ID
	r.last.amendments = nil
	if s.WorkflowID != "" {
		if err := r.call(ctx, r.all.suite.Workflow(s.WorkflowID), s.Parameters, s); err != nil {
			return err
		}
	} else {
		request, op, err := r.request(s)
		if err != nil {
			return &failure{at, err.Error(), ""}
		}
		answer, err := r.all.options.Send(ctx, request)
		if err != nil {
			return err
		}
		r.asked++
		r.last.request, r.last.answer = request, answer
		if len(s.Criteria) == 0 && (answer.Status >= 400 || !op.Describes(answer.Status)) {
			return &failure{at, fmt.Sprintf("the answer has the status %d", answer.Status), "a status of success that is described: " +
				strings.Join(op.Statuses(), ", ")}
		}
	}
	for _, c := range s.Criteria {
		is, err := r.holds(c)
		if err != nil {
			return &failure{fmt.Sprintf("%s, line %d", at, c.Line), err.Error(), c.Condition}
		}
		if !is {
			r.last.amendments = r.amendments(s)
			return &failure{fmt.Sprintf("%s, line %d", at, c.Line), "does not hold: " + c.Condition + r.got(c), c.Condition}
		}
	}
	out := map[string]any{}
	for _, o := range s.Outputs {
		v, err := r.filled(o.Value)
		if err != nil {
			return &failure{at + ", output " + o.Name, err.Error(), ""}
		}
		out[o.Name] = v
	}
	r.steps[s.ID] = out
	return nil
}

// got says what a simple comparison has found at its left.
func (r *run) got(c Criterion) string {
	if is, ok := c.simple.(comparison); ok && is.left.expression != nil {
		if v, err := is.left.value(r); err == nil {
			return fmt.Sprintf("; %s is %.200s", is.left.expression.text, asText(v))
		}
	}
	return ""
}

// holds reports whether a criterion holds of the last answer.
func (r *run) holds(c Criterion) (bool, error) {
	if c.Type == "simple" {
		return c.simple.holds(r)
	}
	e, err := parseExpression(c.Context)
	if err != nil {
		return false, err
	}
	v, err := r.value(e)
	if err != nil {
		return false, err
	}
	if c.Type == "regex" {
		re, err := compileRegexp(c.Condition)
		return err == nil && re.MatchString(asText(v)), err
	}
	return len(c.path.Select(v)) > 0, nil
}

// call runs another workflow, with parameters as its inputs.
func (r *run) call(ctx context.Context, w *Workflow, parameters []Parameter, s *Step) error {
	inputs := map[string]any{}
	if s == nil {
		inputs = maps.Clone(r.inputs)
	}
	for _, p := range parameters {
		v, err := r.filled(p.Value)
		if err != nil {
			return &failure{"step " + s.ID, err.Error(), ""}
		}
		inputs[p.Name] = v
	}
	inner := &run{all: r.all, w: w, actAs: w.ActAs}
	if inner.actAs == "" {
		inner.actAs = r.actAs
	}
	err := inner.workflow(ctx, inputs)
	r.asked += inner.asked
	r.taken = append(r.taken, inner.taken...)
	r.last = inner.last
	if err != nil {
		return err
	}
	r.outputs = inner.outputs
	return nil
}

// request is what a step sends, by the operation that it names.
func (r *run) request(s *Step) (Request, *contract.Operation, error) {
	op, err := r.operation(s)
	if err != nil {
		return Request{}, nil, err
	}
	req := Request{ActAs: s.ActAs, Method: op.Method, Header: textproto.MIMEHeader{}, values: map[string]any{}}
	if req.ActAs == "" {
		req.ActAs = r.actAs
	}
	actAs, err := r.filled(req.ActAs)
	if err != nil {
		return req, nil, err
	}
	req.ActAs = asText(actAs)
	path, query := op.Path, []string{}
	for _, p := range slices.Concat(r.w.Parameters, s.Parameters) {
		v, err := r.filled(p.Value)
		if err != nil {
			return req, nil, err
		}
		req.values[p.In+" "+p.Name] = v
		switch p.In {
		case "path":
			path = strings.ReplaceAll(path, "{"+p.Name+"}", url.PathEscape(asText(v)))
		case "query":
			query = append(query, url.QueryEscape(p.Name)+"="+strings.ReplaceAll(url.QueryEscape(asText(v)), "+", "%20"))
		case "header":
			req.Header.Set(p.Name, asText(v))
		default:
			return req, nil, fmt.Errorf("parameter %s needs in: path, query or header", p.Name)
		}
	}
	if at := strings.IndexByte(path, '{'); at >= 0 {
		return req, nil, fmt.Errorf("the path %s of %s needs a parameter %s", op.Path, op.ID, path[at:strings.IndexByte(path, '}')+1])
	}
	req.Path = strings.TrimPrefix(path, "/")
	if len(query) > 0 {
		req.Path += "?" + strings.Join(query, "&")
	}
	req.URL = r.all.options.Server + "/" + req.Path
	if s.Body == nil {
		return req, op, nil
	}
	if req.body, err = r.filled(s.Body.Payload); err != nil {
		return req, nil, err
	}
	for _, replace := range s.Body.Replacements {
		v, err := r.filled(replace.Value)
		if err == nil {
			req.body, err = replaced(req.body, replace.Target, v)
		}
		if err != nil {
			return req, nil, err
		}
	}
	req.Header.Set("Content-Type", s.Body.ContentType)
	if text, is := req.body.(string); is && !strings.Contains(s.Body.ContentType, "json") {
		req.Body = []byte(text)
		return req, op, nil
	}
	req.Body, err = json.Marshal(req.body)
	return req, op, err
}

// replaced is a value with another one where a JSON pointer leads.
func replaced(v any, pointer string, with any) (any, error) {
	name, rest, more := strings.Cut(strings.TrimPrefix(pointer, "/"), "/")
	name = strings.NewReplacer("~1", "/", "~0", "~").Replace(name)
	if more {
		rest = "/" + rest
	}
	next := func(inner any) (any, error) {
		if !more {
			return with, nil
		}
		return replaced(inner, rest, with)
	}
	switch at := v.(type) {
	case map[string]any:
		inner, err := next(at[name])
		at[name] = inner
		return at, err
	case []any:
		i, err := strconv.Atoi(name)
		if err != nil || i < 0 || i >= len(at) {
			return v, fmt.Errorf("the replacement %s: there is no item %s", pointer, name)
		}
		at[i], err = next(at[i])
		return at, err
	}
	return v, fmt.Errorf("the replacement %s leads nowhere in the body", pointer)
}

// operation is the one that a step names: by its id, or by a JSON pointer to it in the description.
func (r *run) operation(s *Step) (*contract.Operation, error) {
	id := s.OperationID
	if at := strings.LastIndexByte(id, '.'); strings.HasPrefix(id, "$sourceDescriptions.") && at > 0 {
		id = id[at+1:]
	}
	for _, op := range r.all.options.Contract.Operations {
		if s.OperationID != "" && op.ID == id {
			return op, nil
		}
		path := strings.NewReplacer("~", "~0", "/", "~1").Replace(op.Path)
		if s.OperationPath != "" && strings.HasSuffix(s.OperationPath, "#/paths/"+path+"/"+strings.ToLower(op.Method)) {
			return op, nil
		}
	}
	return nil, fmt.Errorf("the description has no operation %s", s.OperationID+s.OperationPath)
}
