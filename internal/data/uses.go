package data

import (
	"sync"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/change"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/records"
)

// uses counts what callers used of a live release, until the counts are taken.
type uses struct {
	mu     sync.Mutex
	counts map[useKey]int64
}

// useKey is a read of a shape by a caller, or a write of a field, or of a row.
type useKey struct {
	caller   string
	plan     *planned
	op       window.Operation
	resource *model.Resource
	field    *model.Field
}

// maxUses bounds what is counted between two takes; what comes then is not counted.
const maxUses = 20_000

// people are the callers that are no programs of the window, apart from those without a token.
const people = "people who sign in"

func userOf(c access.Caller) string {
	switch {
	case c.Program:
		return c.Subject
	case c.Anonymous():
		return ""
	}
	return people
}

func (u *uses) add(keys ...useKey) {
	u.mu.Lock()
	defer u.mu.Unlock()
	for _, key := range keys {
		if n, known := u.counts[key]; known || len(u.counts) < maxUses {
			u.counts[key] = n + 1
		}
	}
}

// countRead counts a read of a live release.
func (a *API) countRead(c access.Caller, p *planned) {
	if a.Release > 0 && !c.Operator && !a.rehearsal {
		a.uses.add(useKey{caller: userOf(c), plan: p, op: window.Read})
	}
}

var operationOf = map[change.Operation]window.Operation{change.Insert: window.Create, change.Update: window.Update,
	change.Delete: window.Delete}

// countWrite counts a write of a live release, and the fields that its rows are given.
func (a *API) countWrite(c access.Caller, s *change.Step, rows []*change.Row) {
	op := operationOf[s.Op]
	if a.Release == 0 || c.Operator || a.rehearsal || op == "" {
		return
	}
	keys := make([]useKey, 1, 1+len(rows[0].Fields))
	keys[0] = useKey{caller: userOf(c), op: op, resource: s.Resource}
	for _, f := range rows[0].Fields {
		keys = append(keys, useKey{caller: keys[0].caller, op: op, resource: s.Resource, field: f})
	}
	a.uses.add(keys...)
}

// TakeOver counts on from what another release of the window has counted, which may still be answering requests.
func (a *API) TakeOver(before *API) { a.uses = before.uses }

// TakeUses returns what was counted since the last time.
func (a *API) TakeUses() []records.Use {
	a.uses.mu.Lock()
	counts := a.uses.counts
	a.uses.counts = map[useKey]int64{}
	a.uses.mu.Unlock()
	type target struct{ caller, op, name string }
	sums := map[target]int64{}
	for key, n := range counts {
		names := []string(nil)
		switch {
		case key.plan != nil:
			names = key.plan.uses
		case key.field != nil:
			names = []string{key.resource.Name + "." + key.field.Name}
		default:
			names = []string{key.resource.Name}
		}
		for _, name := range names {
			sums[target{key.caller, string(key.op), name}] += n
		}
	}
	list := make([]records.Use, 0, len(sums))
	for t, n := range sums {
		list = append(list, records.Use{Window: a.Model.Name, Caller: t.caller, Operation: t.op, Target: t.name, Count: n})
	}
	return list
}
