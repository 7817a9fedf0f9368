package windows

import (
	"context"
	"errors"
	"maps"
	"slices"
	"sync"
	"time"

	"eagerwindow/internal/core/compare"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/postgres"
)

// How often the catalogs of sources are looked at: of those that windows follow, and of the others.
const (
	followEvery = time.Second
	watchEvery  = 5 * time.Second
	lookDelay   = 50 * time.Millisecond // after a database has told of a change
)

// drift is how a database differs from the catalog of a live release.
type drift struct {
	release int
	print   string // of the source, when it was looked at
	Drift
}

// driftOf is the drift of a window since a release, nil for none.
func (s *Registry) driftOf(name string, release int) *Drift {
	s.mu.Lock()
	defer s.mu.Unlock()
	d, known := s.drifts[name]
	if !known || d.release != release || d.Tables == nil && d.Wrong == "" {
		return nil
	}
	d.Changes = slices.Clone(d.Changes)
	return &d.Drift
}

// Drifts lists the drift of all live windows, by name.
func (s *Registry) Drifts() []Drift {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []Drift{}
	for _, name := range slices.Sorted(maps.Keys(s.drifts)) {
		if d := s.drifts[name]; d.Tables != nil || d.Wrong != "" {
			d.Changes = slices.Clone(d.Changes)
			out = append(out, d.Drift)
		}
	}
	return out
}

// lookSoon asks for a look at the sources before it is time.
func (s *Registry) lookSoon() {
	select {
	case s.soon <- struct{}{}:
	default:
	}
}

// WatchSources looks at the catalogs of the sources until the context ends: what has changed in them since the releases that are live, and
// what of that the drafts show.
func (s *Registry) WatchSources(ctx context.Context) {
	next := map[string]time.Time{} // by source
	for {
		following, err := s.lookAtSources(ctx, next)
		if err != nil && ctx.Err() == nil {
			s.log.Debug("the sources can't be looked at", "error", err)
		}
		s.dropUnused()
		every := watchEvery
		if following {
			every = followEvery
		}
		select {
		case <-ctx.Done():
			return
		case <-s.soon:
			clear(next)
			select { // what comes together is looked at together
			case <-ctx.Done():
				return
			case <-time.After(lookDelay):
			}
		case <-time.After(every):
		}
	}
}

// sourceUser is a window over a source: its draft where document is nil, else its live release.
type sourceUser struct {
	name     string
	release  int
	document *window.Document
}

// lookAtSources looks at each source whose time has come, at all of them at once, and reports whether a window follows one.
func (s *Registry) lookAtSources(ctx context.Context, next map[string]time.Time) (following bool, err error) {
	users, follows, err := s.sourceUsers(ctx)
	if err != nil {
		return false, err
	}
	var looks sync.WaitGroup
	var mu sync.Mutex
	var errs []error
	for source, list := range users {
		if time.Now().Before(next[source]) {
			continue
		}
		every := watchEvery
		if follows[source] {
			every = followEvery
		}
		next[source] = time.Now().Add(every - every/10)
		looks.Go(func() {
			ctx, cancel := context.WithTimeout(ctx, introspectLimit)
			defer cancel()
			if err := s.lookAtSource(ctx, source, list); err != nil {
				mu.Lock()
				defer mu.Unlock()
				errs = append(errs, err)
			}
		})
	}
	looks.Wait()
	return len(follows) > 0, errors.Join(errs...)
}

// sourceUsers are the windows over each source, and which sources are followed.
func (s *Registry) sourceUsers(ctx context.Context) (users map[string][]sourceUser, follows map[string]bool, err error) {
	list, err := s.records.Windows(ctx)
	if err != nil {
		return nil, nil, err
	}
	users, follows = map[string][]sourceUser{}, map[string]bool{}
	served := s.Served()
	for _, w := range list {
		if draft, err := window.Parse([]byte(w.Draft), lookup); err == nil {
			source := draft.Source.Value
			users[source] = append(users[source], sourceUser{name: w.Name})
			if draft.Follow {
				follows[source] = true
			}
		}
		if api := served[w.Name]; api != nil {
			doc := api.Model.Document
			users[doc.Source.Value] = append(users[doc.Source.Value], sourceUser{w.Name, api.Release, doc})
		}
	}
	return users, follows, nil
}

func (s *Registry) lookAtSource(ctx context.Context, source string, users []sourceUser) error {
	pool, err := s.pool(ctx, source)
	if err != nil {
		return err
	}
	s.listenTo(ctx, source, pool)
	print, err := postgres.Fingerprint(ctx, pool)
	if err != nil {
		return err
	}
	s.mu.Lock()
	before := s.prints[source]
	s.prints[source] = print
	s.mu.Unlock()
	changed := before != "" && before != print
	if changed {
		pool.Refresh()
	}
	var errs []error
	for _, u := range users {
		switch {
		case u.document != nil:
			errs = append(errs, s.lookAt(ctx, u.name, u.release, print, pool))
		case changed:
			s.forgetDraft(u.name) // it is bound to the catalog as it was
		}
	}
	return errors.Join(errs...)
}

// listenTo lets the database of a source tell of changes, where its user may arrange that, and listens.
func (s *Registry) listenTo(ctx context.Context, source string, pool *postgres.Source) {
	s.mu.Lock()
	already := s.told[pool] != nil
	listening := ctx
	if !already {
		listening, s.told[pool] = context.WithCancel(context.WithoutCancel(ctx))
	}
	s.mu.Unlock()
	if already {
		return
	}
	if tells, err := postgres.TellChanges(ctx, pool); err != nil || !tells {
		s.log.Debug("a database does not tell of changes, so it is asked", "source", source, "error", err)
		return
	}
	go postgres.ChangesOf(listening, pool, s.lookSoon)
}

// lookAt compares a live release with the database as it is now, where either has changed since the last look.
func (s *Registry) lookAt(ctx context.Context, name string, release int, print string, pool *postgres.Source) error {
	s.mu.Lock()
	known := s.drifts[name]
	s.mu.Unlock()
	if known.release == release && known.print == print {
		return nil
	}
	r, was, err := s.released(ctx, name, release)
	if err != nil {
		return err
	}
	now, err := postgres.Introspect(ctx, pool, model.Queries(was.policy.Model().Document)...)
	if err != nil {
		return err
	}
	d := drift{release, print, Drift{Window: name, Since: time.Now().UTC(), Tables: compare.Catalogs(r.Catalog, now),
		Changes: []compare.Change{}}}
	if known.release == release && known.Tables != nil {
		d.Since = known.Since
	}
	if is, err := bindDocument(was.policy.Model().Document, now); err != nil {
		d.Wrong = err.Error()
	} else {
		d.Changes = append(d.Changes, compare.Versions(was.side(), is.side())...)
	}
	s.mu.Lock()
	s.drifts[name] = d
	s.mu.Unlock()
	if known.release == release || d.Tables != nil || d.Wrong != "" { // that there is none at the beginning is no news
		s.events.send(Event{Kind: "drift", Window: name})
	}
	if counts := compare.Count(d.Changes); d.Tables != nil || d.Wrong != "" {
		s.log.Warn("the database has changed since the live release", "window", name, "release", release, "tables", len(d.Tables),
			"breaking", counts.Breaking, "widening", counts.Widening, "wrong", d.Wrong,
			"first", firstDrift(d.Tables))
	}
	return nil
}

func firstDrift(list []compare.TableDrift) string {
	if len(list) == 0 {
		return ""
	}
	return list[0].String()
}

// DriftOf tells how the database of a window differs from what its live release was published with, as it is at this moment.
func (s *Registry) DriftOf(ctx context.Context, name string) (*Drift, error) {
	api, err := s.Live(ctx, name)
	if err != nil {
		if _, err := s.window(ctx, name); err != nil {
			return nil, err
		}
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, introspectLimit)
	defer cancel()
	print, err := postgres.Fingerprint(ctx, api.Source())
	if err != nil {
		return nil, err
	}
	if err := s.lookAt(ctx, name, api.Release, print, api.Source()); err != nil {
		return nil, err
	}
	if d := s.driftOf(name, api.Release); d != nil {
		return d, s.callers(ctx, name, d.Changes)
	}
	return &Drift{Window: name, Since: time.Now().UTC(), Tables: []compare.TableDrift{}, Changes: []compare.Change{}}, nil
}
