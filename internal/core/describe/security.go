package describe

import (
	"bytes"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/jsontree"
)

// permitted lists the ways to be someone who may: a token of one of the roles, or none.
func (w *writer) permitted(may func(*access.Scope) bool) list {
	var out list
	people := false
	for _, role := range w.roles {
		if w.scope.Name != "" && role != w.scope && !w.scope.Includes(role) || !may(role) {
			continue
		}
		if role.Anonymous {
			out = append(out, &object{})
			continue
		}
		people = true
		if w.at.Token != "" {
			out = append(out, jsontree.New(w.scheme("token"), jsontree.Strings(role.Name)))
		}
	}
	if people && w.at.Bearer {
		out = append(out, jsontree.New(w.scheme("bearer"), list{}))
	}
	return out
}

// scheme notes that a security scheme is used.
func (w *writer) scheme(name string) string {
	w.use("securitySchemes", name)
	return name
}

// common moves the security that most operations have to the top of the description, and returns it.
func (w *writer) common() list {
	count := map[string]int{}
	each := func(do func(op *object, key string)) {
		for _, path := range w.paths.Members {
			for _, m := range path.Value.(*object).Members {
				if op, is := m.Value.(*object); is {
					do(op, string(jsontree.Append(nil, op.Get("security"), false)))
				}
			}
		}
	}
	best, most := "", list(nil)
	each(func(op *object, key string) {
		if count[key]++; count[key] > count[best] {
			best, most = key, op.List("security")
		}
	})
	each(func(op *object, key string) {
		if key == best {
			op.Delete("security")
		}
	})
	if bytes.Equal([]byte(best), []byte("null")) {
		return nil
	}
	return most
}

// securitySchemes are how callers say who they are.
func (w *writer) securitySchemes() {
	w.lazy["securitySchemes/bearer"] = func() any {
		return jsontree.New("type", "http", "scheme", "bearer", "bearerFormat", "JWT", "description",
			"The token of a person who has signed in, or of another issuer.")
	}
	w.lazy["securitySchemes/token"] = func() any {
		scopes := &object{}
		for _, role := range w.roles {
			if !role.Anonymous && (w.scope.Name == "" || role == w.scope || w.scope.Includes(role)) {
				scopes.Set(role.Name, w.model.Role(role.Name).About)
			}
		}
		return jsontree.New("type", "oauth2", "description", "A program's token, by client id and secret; the scope is one or more "+
			"of its roles.", "flows", jsontree.New("clientCredentials",
			jsontree.New("tokenUrl", w.at.Token, "scopes", scopes)))
	}
}
