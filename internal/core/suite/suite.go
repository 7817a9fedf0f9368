// Package suite reads and runs suites of checks: Arazzo 1.0.1 documents, in YAML or JSON. Reading finds all mistakes at once, each with its
// place; running sends requests through whatever it is given, so that it knows neither networks nor services.
package suite

import (
	"slices"
	"strconv"
	"strings"

	"github.com/theory/jsonpath"
	"go.yaml.in/yaml/v4"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/jsontree"
)

// Suite is an Arazzo document.
type Suite struct {
	Title     string
	Workflows []*Workflow
	inputs    map[string]any       // components.inputs
	shared    map[string]Parameter // components.parameters
	success   map[string]Action    // components.successActions
	failure   map[string]Action    // components.failureActions
}

// Workflow is one check: steps, one after the other.
type Workflow struct {
	ID, Summary string
	ActAs       string // x-eager-act-as: as whom its steps are sent, "" as the suite's own caller
	Inputs      any    // a JSON Schema
	DependsOn   []string
	Steps       []*Step
	Parameters  []Parameter
	OnSuccess   []Action
	OnFailure   []Action
	Outputs     []Output
	Line        int
}

// Step is a request, or another workflow.
type Step struct {
	ID, Description            string
	ActAs                      string
	OperationID, OperationPath string
	WorkflowID                 string
	Parameters                 []Parameter
	Body                       *Body
	Criteria                   []Criterion
	OnSuccess, OnFailure       []Action
	Outputs                    []Output
	Line                       int
}

// Parameter is a value of an operation's parameter, or of a workflow's input.
type Parameter struct {
	Name, In string
	Value    any
}

// Body is what a step sends.
type Body struct {
	ContentType  string
	Payload      any
	Replacements []Replacement
}

// Replacement is a value that is put into a body, where a JSON pointer leads.
type Replacement struct {
	Target string
	Value  any
}

// Criterion is what must hold of an answer.
type Criterion struct {
	Context   string // a runtime expression, of all types but simple
	Condition string
	Type      string // simple, regex or jsonpath
	simple    condition
	path      *jsonpath.Path
	Line      int
}

// Action is what happens after a step.
type Action struct {
	Name, Type string // end, goto, retry
	WorkflowID string
	StepID     string
	After      float64 // seconds
	Limit      int
	Criteria   []Criterion
}

// Output is a value with a name for later steps.
type Output struct{ Name, Value string }

// Parse reads a suite. The error is a fault that tells of every mistake with its line and column.
func Parse(text []byte) (*Suite, error) {
	var root yaml.Node
	if err := yaml.Unmarshal(text, &root); err != nil {
		return nil, fault.New(fault.Invalid, "suite.syntax", "the suite can't be read: %s", strings.TrimPrefix(err.Error(), "yaml: "))
	}
	p := &reader{suite: &Suite{inputs: map[string]any{}, shared: map[string]Parameter{}, success: map[string]Action{},
		failure: map[string]Action{}}}
	if len(root.Content) == 0 {
		return nil, fault.New(fault.Invalid, "suite.empty", "the suite is empty; it begins with \"arazzo: 1.0.1\"")
	}
	p.document(root.Content[0])
	p.link()
	if err := p.mistakes.Fault(fault.Invalid, "suite.invalid", "the suite has mistakes:"); err != nil {
		return nil, err
	}
	return p.suite, nil
}

type reader struct {
	suite    *Suite
	mistakes fault.List
	refs     []func() // what is looked up once all is read
}

func (p *reader) wrong(n *yaml.Node, format string, args ...any) {
	p.mistakes.Add("suite.invalid", "", n.Line, n.Column, format, args...)
}

// keys hands the members of a mapping to those who read them; another key is a mistake, but for extensions.
func (p *reader) keys(n *yaml.Node, what string, required []string, known map[string]func(*yaml.Node)) {
	if n.Kind == yaml.AliasNode {
		n = n.Alias
	}
	if n.Kind != yaml.MappingNode {
		p.wrong(n, "%s is a mapping", what)
		return
	}
	var given []string
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		given = append(given, key.Value)
		switch read := known[key.Value]; {
		case read != nil:
			read(value)
		case strings.HasPrefix(key.Value, "x-"):
		default:
			names := make([]string, 0, len(known))
			for name := range known {
				names = append(names, name)
			}
			slices.Sort(names)
			p.wrong(key, "unknown key %q in %s%s", key.Value, what, fault.Suggest(key.Value, names))
		}
	}
	for _, name := range required {
		if !slices.Contains(given, name) {
			p.wrong(n, "%q is missing in %s", name, what)
		}
	}
}

func text(into *string) func(*yaml.Node) { return func(n *yaml.Node) { *into = n.Value } }

func value(into *any) func(*yaml.Node) {
	return func(n *yaml.Node) { *into = jsontree.Plain(jsontree.FromYAML(n)) }
}

func ignored(*yaml.Node) {}

func (p *reader) list(each func(*yaml.Node)) func(*yaml.Node) {
	return func(n *yaml.Node) {
		if n.Kind != yaml.SequenceNode {
			p.wrong(n, "this is a list")
			return
		}
		for _, item := range n.Content {
			each(item)
		}
	}
}

// each hands the members of a mapping with any names on.
func (p *reader) each(do func(name string, n *yaml.Node)) func(*yaml.Node) {
	return func(n *yaml.Node) {
		if n.Kind != yaml.MappingNode {
			p.wrong(n, "this is a mapping")
			return
		}
		for i := 0; i+1 < len(n.Content); i += 2 {
			do(n.Content[i].Value, n.Content[i+1])
		}
	}
}

func (p *reader) document(n *yaml.Node) {
	p.keys(n, "the suite", []string{"arazzo", "info", "sourceDescriptions", "workflows"}, map[string]func(*yaml.Node){
		"arazzo": func(n *yaml.Node) {
			if !strings.HasPrefix(n.Value, "1.0.") {
				p.wrong(n, "the suite has version %q; 1.0.1 is read here", n.Value)
			}
		},
		"info": func(n *yaml.Node) {
			p.keys(n, "info", []string{"title", "version"}, map[string]func(*yaml.Node){"title": text(&p.suite.Title), "version": ignored,
				"summary": ignored, "description": ignored})
		},
		"sourceDescriptions": p.list(func(n *yaml.Node) {
			p.keys(n, "a source description", []string{"name", "url"}, map[string]func(*yaml.Node){"name": ignored, "url": ignored,
				"type": func(n *yaml.Node) {
					if n.Value == "arazzo" {
						p.wrong(n, "workflows of other suites can't be called; copy them into this one")
					}
				}})
		}),
		"workflows":  p.list(p.workflow),
		"components": p.components,
	})
	if len(p.suite.Workflows) == 0 {
		p.wrong(n, "the suite has no workflows")
	}
}

func (p *reader) components(n *yaml.Node) {
	p.keys(n, "components", nil, map[string]func(*yaml.Node){
		"inputs": p.each(func(name string, n *yaml.Node) {
			var schema any
			value(&schema)(n)
			p.suite.inputs[name] = schema
		}),
		"parameters":     p.each(func(name string, n *yaml.Node) { p.suite.shared[name] = p.parameter(n) }),
		"successActions": p.each(func(name string, n *yaml.Node) { p.suite.success[name] = p.action(n, false) }),
		"failureActions": p.each(func(name string, n *yaml.Node) { p.suite.failure[name] = p.action(n, true) }),
	})
}

func (p *reader) workflow(n *yaml.Node) {
	w := &Workflow{Line: n.Line}
	p.keys(n, "a workflow", []string{"workflowId", "steps"}, map[string]func(*yaml.Node){
		"workflowId": text(&w.ID), "summary": text(&w.Summary), "description": ignored, "inputs": value(&w.Inputs),
		"x-eager-act-as": text(&w.ActAs),
		"dependsOn": p.list(func(n *yaml.Node) {
			w.DependsOn = append(w.DependsOn, n.Value)
			p.refs = append(p.refs, func() { p.workflowNamed(n) })
		}),
		"steps":          p.list(func(n *yaml.Node) { p.step(w, n) }),
		"parameters":     p.list(func(n *yaml.Node) { p.refParameter(n, &w.Parameters) }),
		"successActions": p.list(func(n *yaml.Node) { p.refAction(n, &w.OnSuccess, w, false) }),
		"failureActions": p.list(func(n *yaml.Node) { p.refAction(n, &w.OnFailure, w, true) }),
		"outputs":        p.outputs(&w.Outputs),
	})
	if slices.ContainsFunc(p.suite.Workflows, func(o *Workflow) bool { return o.ID == w.ID }) {
		p.wrong(n, "there are two workflows %q", w.ID)
	}
	p.suite.Workflows = append(p.suite.Workflows, w)
}

func (p *reader) outputs(into *[]Output) func(*yaml.Node) {
	return p.each(func(name string, n *yaml.Node) {
		if _, err := parseExpression(n.Value); err != nil {
			p.wrong(n, "%s", err)
		}
		*into = append(*into, Output{name, n.Value})
	})
}

func (p *reader) step(w *Workflow, n *yaml.Node) {
	s := &Step{Line: n.Line}
	p.keys(n, "a step", []string{"stepId"}, map[string]func(*yaml.Node){
		"stepId": text(&s.ID), "description": text(&s.Description), "operationId": text(&s.OperationID), "operationPath": text(&s.OperationPath),
		"x-eager-act-as": text(&s.ActAs),
		"workflowId": func(n *yaml.Node) {
			s.WorkflowID = n.Value
			p.refs = append(p.refs, func() { p.workflowNamed(n) })
		},
		"parameters":  p.list(func(n *yaml.Node) { p.refParameter(n, &s.Parameters) }),
		"requestBody": func(n *yaml.Node) { s.Body = p.body(n) },
		"successCriteria": p.list(func(n *yaml.Node) {
			s.Criteria = append(s.Criteria, p.criterion(n))
		}),
		"onSuccess": p.list(func(n *yaml.Node) { p.refAction(n, &s.OnSuccess, w, false) }),
		"onFailure": p.list(func(n *yaml.Node) { p.refAction(n, &s.OnFailure, w, true) }),
		"outputs":   p.outputs(&s.Outputs),
	})
	if given := slices.DeleteFunc([]string{s.OperationID, s.OperationPath, s.WorkflowID},
		func(t string) bool { return t == "" }); len(given) != 1 {
		p.wrong(n, "step %q needs one of operationId, operationPath and workflowId", s.ID)
	}
	if slices.ContainsFunc(w.Steps, func(o *Step) bool { return o.ID == s.ID }) {
		p.wrong(n, "workflow %q has two steps %q", w.ID, s.ID)
	}
	w.Steps = append(w.Steps, s)
}

func (p *reader) body(n *yaml.Node) *Body {
	b := &Body{ContentType: "application/json"}
	p.keys(n, "requestBody", nil, map[string]func(*yaml.Node){"contentType": text(&b.ContentType), "payload": value(&b.Payload),
		"replacements": p.list(func(n *yaml.Node) {
			var r Replacement
			p.keys(n, "a replacement", []string{"target", "value"}, map[string]func(*yaml.Node){"target": text(&r.Target), "value": value(&r.Value)})
			if !strings.HasPrefix(r.Target, "/") {
				p.wrong(n, "the target of a replacement is a JSON pointer, such as /vessel_id; this is %q", r.Target)
			}
			b.Replacements = append(b.Replacements, r)
		})})
	return b
}

// reference is the name of a component that an object refers to.
func reference(n *yaml.Node, kind string) (name string, is bool) {
	if n.Kind == yaml.MappingNode {
		for i := 0; i+1 < len(n.Content); i += 2 {
			if n.Content[i].Value == "reference" {
				return strings.CutPrefix(n.Content[i+1].Value, "$components."+kind+".")
			}
		}
	}
	return "", false
}

func (p *reader) refParameter(n *yaml.Node, into *[]Parameter) {
	if name, is := reference(n, "parameters"); is {
		at := len(*into)
		*into = append(*into, Parameter{})
		p.refs = append(p.refs, func() {
			shared, known := p.suite.shared[name]
			if !known {
				p.wrong(n, "there is no parameter %q in components", name)
			}
			(*into)[at] = shared
		})
		return
	}
	*into = append(*into, p.parameter(n))
}

func (p *reader) parameter(n *yaml.Node) (out Parameter) {
	p.keys(n, "a parameter", []string{"name", "value"}, map[string]func(*yaml.Node){"name": text(&out.Name), "value": value(&out.Value),
		"in": func(n *yaml.Node) {
			if out.In = n.Value; !slices.Contains([]string{"path", "query", "header"}, out.In) {
				p.wrong(n, "in is path, query or header, not %q", n.Value)
			}
		}})
	p.expressions(n, out.Value)
	return out
}

// expressions checks those that a value is made of.
func (p *reader) expressions(n *yaml.Node, v any) {
	if text, is := v.(string); is {
		if strings.HasPrefix(text, "$") {
			if _, err := parseExpression(text); err != nil {
				p.wrong(n, "%s", err)
			}
		}
	}
}

func (p *reader) criterion(n *yaml.Node) Criterion {
	c := Criterion{Type: "simple", Line: n.Line}
	p.keys(n, "a criterion", []string{"condition"}, map[string]func(*yaml.Node){"condition": text(&c.Condition), "context": text(&c.Context),
		"type": func(n *yaml.Node) {
			if c.Type = n.Value; n.Kind == yaml.MappingNode {
				p.keys(n, "type", []string{"type", "version"}, map[string]func(*yaml.Node){"type": text(&c.Type), "version": ignored})
			}
			if c.Type == "xpath" {
				p.wrong(n, "xpath is not done here; answers are JSON, so use jsonpath")
			} else if !slices.Contains([]string{"simple", "regex", "jsonpath"}, c.Type) {
				p.wrong(n, "the type of a criterion is simple, regex or jsonpath, not %q", c.Type)
			}
		}})
	var err error
	switch {
	case c.Type == "simple":
		c.simple, err = parseCondition(c.Condition)
	case c.Context == "":
		p.wrong(n, "a criterion of type %s needs a context, such as $response.body", c.Type)
	case c.Type == "jsonpath":
		c.path, err = jsonpath.Parse(c.Condition)
	case c.Type == "regex":
		_, err = compileRegexp(c.Condition)
	}
	if err == nil && c.Context != "" {
		_, err = parseExpression(c.Context)
	}
	if err != nil {
		p.wrong(n, "%s: %s", c.Condition, strings.TrimPrefix(err.Error(), "jsonpath: "))
	}
	return c
}

func (p *reader) refAction(n *yaml.Node, into *[]Action, w *Workflow, failure bool) {
	kind, known := "successActions", p.suite.success
	if failure {
		kind, known = "failureActions", p.suite.failure
	}
	if name, is := reference(n, kind); is {
		at := len(*into)
		*into = append(*into, Action{})
		p.refs = append(p.refs, func() {
			shared, there := known[name]
			if !there {
				p.wrong(n, "there is no %s %q in components", kind, name)
			}
			(*into)[at] = shared
		})
		return
	}
	a := p.action(n, failure)
	if a.StepID != "" {
		p.refs = append(p.refs, func() {
			names := make([]string, len(w.Steps))
			for i, s := range w.Steps {
				names[i] = s.ID
			}
			if !slices.Contains(names, a.StepID) {
				p.wrong(n, "workflow %q has no step %q%s", w.ID, a.StepID, fault.Suggest(a.StepID, names))
			}
		})
	}
	*into = append(*into, a)
}

func (p *reader) action(n *yaml.Node, failure bool) (a Action) {
	types := []string{"end", "goto"}
	if failure {
		types = append(types, "retry")
	}
	number := func(into *float64) func(*yaml.Node) {
		return func(n *yaml.Node) {
			var err error
			if *into, err = strconv.ParseFloat(n.Value, 64); err != nil || *into < 0 {
				p.wrong(n, "this is a number that is not below 0, not %q", n.Value)
			}
		}
	}
	var limit float64
	p.keys(n, "an action", []string{"name", "type"}, map[string]func(*yaml.Node){"name": text(&a.Name), "stepId": text(&a.StepID),
		"retryAfter": number(&a.After), "retryLimit": number(&limit),
		"workflowId": func(n *yaml.Node) {
			a.WorkflowID = n.Value
			p.refs = append(p.refs, func() { p.workflowNamed(n) })
		},
		"type": func(n *yaml.Node) {
			if a.Type = n.Value; !slices.Contains(types, a.Type) {
				p.wrong(n, "the type of this action is %s, not %q", strings.Join(types, ", "), n.Value)
			}
		},
		"criteria": p.list(func(n *yaml.Node) { a.Criteria = append(a.Criteria, p.criterion(n)) })})
	a.Limit = int(limit)
	if a.Type == "goto" && (a.StepID == "") == (a.WorkflowID == "") {
		p.wrong(n, "goto needs a stepId or a workflowId")
	}
	return a
}

func (p *reader) workflowNamed(n *yaml.Node) {
	names := make([]string, len(p.suite.Workflows))
	for i, w := range p.suite.Workflows {
		names[i] = w.ID
	}
	if !slices.Contains(names, n.Value) {
		p.wrong(n, "there is no workflow %q%s", n.Value, fault.Suggest(n.Value, names))
	}
}

// link looks up what refers to other parts, and finds workflows that wait for each other.
func (p *reader) link() {
	for _, look := range p.refs {
		look()
	}
	for _, w := range p.suite.Workflows {
		if p.suite.waitsFor(w, w.ID, map[string]bool{}) {
			p.mistakes.Add("suite.invalid", "", w.Line, 1, "workflow %q depends on itself", w.ID)
		}
	}
}

func (s *Suite) waitsFor(w *Workflow, id string, seen map[string]bool) bool {
	for _, name := range w.DependsOn {
		if name == id {
			return true
		}
		if other := s.Workflow(name); other != nil && !seen[name] {
			seen[name] = true
			if s.waitsFor(other, id, seen) {
				return true
			}
		}
	}
	return false
}

// Workflow is the one of that id, or nil.
func (s *Suite) Workflow(id string) *Workflow {
	for _, w := range s.Workflows {
		if w.ID == id {
			return w
		}
	}
	return nil
}
