package data

import (
	"strings"

	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/window"
)

// reading are the methods that read.
var reading = []string{"GET", "HEAD"}

// Methods are the methods of HTTP that a path of the API has, whoever asks; the error is a fault where nothing is there.
func (a *API) Methods(path string) ([]string, error) {
	switch {
	case path == "", path == "$metadata", path == "$entity", strings.HasPrefix(path, "openapi."):
		return reading, nil
	case path == "$batch":
		return []string{"POST"}, nil
	}
	if of, isQuery := strings.CutSuffix(path, "/$query"); isQuery {
		_, err := a.Methods(of)
		return []string{"POST"}, err
	}
	r, err := request.Read(a.Model, path, "")
	if err != nil {
		return nil, err
	}
	defer r.Release()
	can := func(op window.Operation) bool { return r.Resource.Can(op) }
	switch {
	case r.View == query.Number, r.View == query.Bare, r.Below() != nil:
		return reading, nil
	case r.Field != nil && (!can(window.Update) || r.Field.ReadOnly):
		return reading, nil
	case r.Field != nil:
		list := []string{"GET", "HEAD", "PUT", "PATCH"}
		if r.Field.Nullable {
			list = append(list, "DELETE")
		}
		return list, nil
	case r.View == query.Each:
		var list []string
		if can(window.Update) {
			list = append(list, "PATCH")
		}
		if can(window.Delete) {
			list = append(list, "DELETE")
		}
		return list, nil
	case r.View == query.Refs && r.Parent() == "":
		return reading, nil
	case r.View == query.Refs && r.Single && !r.ToOne():
		return []string{"GET", "HEAD", "DELETE"}, nil
	case r.View == query.Refs:
		return linkMethods(r.Via()), nil
	}
	return r.Resource.Methods(!r.Single, r.Single), nil
}
