package describe

import (
	"fmt"
	"slices"

	"github.com/theory/jsonpath"
	"github.com/theory/jsonpath/spec"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/jsontree"
	"eagerwindow/internal/core/window"
)

// CheckOverlay tries the overlay of a document on the whole description: the error is a fault that tells of every action whose target
// can't be read or is not there, with its line.
func CheckOverlay(p *access.Policy) error {
	o := p.Model().Document.Overlay
	if o == nil {
		return nil
	}
	scope, err := p.Scope(access.Caller{Operator: true})
	if err != nil {
		return err
	}
	doc, err := OpenAPI(p, scope, Place{Server: "http://127.0.0.1/api/" + p.Model().Name, Token: "http://127.0.0.1/token", Bearer: true})
	if err != nil {
		return err
	}
	lost, err := patch(doc, o)
	if err != nil {
		return err
	}
	var mistakes fault.List
	for _, a := range lost {
		mistakes.Add("overlay.target", "", a.Target.Line, a.Target.Column, "the overlay's target %s is not in the description any more",
			a.Target.Value)
	}
	return mistakes.Fault(fault.Invalid, "document.invalid", "the overlay does not fit the description:")
}

// prune takes out components that nothing refers to, as an overlay may have taken out what did.
func prune(doc *object) {
	for changed := true; changed; {
		changed = false
		used := map[string]bool{}
		jsontree.Walk(doc, func(o *object) { used[o.Text("$ref")] = true })
		components := doc.Object("components")
		for _, kind := range componentKinds {
			group := components.Object(kind)
			if group == nil || kind == "securitySchemes" {
				continue
			}
			for _, m := range slices.Clone(group.Members) {
				if !used["#/components/"+kind+"/"+m.Name] {
					group.Delete(m.Name)
					changed = true
				}
			}
		}
	}
}

// patch applies an overlay (OpenAPI Overlay 1.0.0, 4.4.3) and returns the actions whose target selects nothing.
func patch(doc *object, o *window.Overlay) (lost []window.OverlayAction, err error) {
	if o == nil {
		return nil, nil
	}
	var mistakes fault.List
	for _, a := range o.Actions {
		path, err := jsonpath.Parse(a.Target.Value)
		if err != nil {
			mistakes.Add("overlay.invalid", "", a.Target.Line, a.Target.Column, "the target %s is no JSONPath: %v", a.Target.Value, err)
			continue
		}
		nodes := path.SelectLocated(jsontree.Plain(doc))
		if len(nodes) == 0 {
			lost = append(lost, a)
		}
		// From the end, so that what is taken out of a list moves nothing that is still to be taken out.
		for _, node := range slices.Backward(nodes) {
			if err := act(doc, node.Path, a); err != nil {
				mistakes.Add("overlay.invalid", "", a.Target.Line, a.Target.Column, "the target %s: %v", a.Target.Value, err)
			}
		}
	}
	return lost, mistakes.Fault(fault.Invalid, "document.invalid", "the overlay has mistakes:")
}

// act takes out or updates what stands at one path.
func act(doc *object, path spec.NormalizedPath, a window.OverlayAction) error {
	if len(path) == 0 {
		if a.Remove {
			return fmt.Errorf("the whole description can't be removed")
		}
		_, err := merge(doc, a.Update)
		return err
	}
	_, err := within(doc, path, func(at any) (any, bool, error) {
		if a.Remove {
			return nil, false, nil
		}
		out, err := merge(at, a.Update)
		return out, true, err
	})
	return err
}

// within changes what a path leads to: change returns what is to stand there, or that nothing is.
func within(at any, path spec.NormalizedPath, change func(any) (any, bool, error)) (any, error) {
	step := func(inner any) (any, bool, error) {
		if len(path) == 1 {
			return change(inner)
		}
		out, err := within(inner, path[1:], change)
		return out, true, err
	}
	switch at := at.(type) {
	case *object:
		name := string(path[0].(spec.Name))
		out, stays, err := step(at.Get(name))
		if stays && err == nil {
			at.Set(name, out)
		} else if err == nil {
			at.Delete(name)
		}
		return at, err
	case list:
		i := int(path[0].(spec.Index))
		out, stays, err := step(at[i])
		if !stays && err == nil {
			return slices.Delete(slices.Clone(at), i, i+1), nil
		}
		at[i] = out
		return at, err
	}
	return at, nil
}

// merge is a value with an update: members of objects one by one, an item of a list at its end.
func merge(at, update any) (any, error) {
	switch at := at.(type) {
	case *object:
		given, is := update.(*object)
		if !is {
			return nil, fmt.Errorf("an object is updated with an object")
		}
		for _, m := range given.Members {
			old := at.Get(m.Name)
			_, isObject := old.(*object)
			_, isList := old.(list)
			if !isObject && !isList {
				at.Set(m.Name, jsontree.Clone(m.Value))
				continue
			}
			merged, err := merge(old, m.Value)
			if err != nil {
				return nil, err
			}
			at.Set(m.Name, merged)
		}
		return at, nil
	case list:
		if more, is := update.(list); is {
			return append(slices.Clone(at), jsontree.Clone(more).(list)...), nil
		}
		return append(slices.Clone(at), jsontree.Clone(update)), nil
	}
	return jsontree.Clone(update), nil
}
