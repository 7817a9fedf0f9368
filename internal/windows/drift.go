package windows

import (
	"context"
	"errors"
	"maps"
	"slices"
	"time"

	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/compare"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/postgres"
)

// How often the catalogs of sources are looked at: of those that windows follow, and of the others.
const (
	followEvery = time.Second
	watchEvery  = 5 * time.Second
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
	return &d.Drift
}

// Drifts lists the drift of all live windows, by name.
func (s *Registry) Drifts() []Drift {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []Drift{}
	for _, name := range slices.Sorted(maps.Keys(s.drifts)) {
		if d := s.drifts[name]; d.Tables != nil || d.Wrong != "" {
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
		case <-time.After(every):
		}
	}
}

// lookAtSources looks at each source whose time has come, and reports whether a window follows one.
func (s *Registry) lookAtSources(ctx context.Context, next map[string]time.Time) (following bool, err error) {
	list, err := s.records.Windows(ctx)
	if err != nil {
		return false, err
	}
	type user struct {
		name     string
		release  int
		document *window.Document
	}
	bySource := map[string][]user{}
	follows := map[string]bool{}
	s.mu.Lock()
	served := maps.Clone(s.live)
	s.mu.Unlock()
	for _, w := range list {
		draft, err := window.Parse([]byte(w.Draft), lookup)
		if err == nil {
			follows[draft.Source.Value] = follows[draft.Source.Value] || draft.Follow
			bySource[draft.Source.Value] = append(bySource[draft.Source.Value], user{name: w.Name})
		}
		if api := served[w.Name]; api != nil {
			doc := api.Model.Document
			bySource[doc.Source.Value] = append(bySource[doc.Source.Value], user{w.Name, api.Release, doc})
		}
	}
	var errs []error
	for source, users := range bySource {
		if time.Now().Before(next[source]) {
			continue
		}
		every := watchEvery
		if follows[source] {
			every, following = followEvery, true
		}
		next[source] = time.Now().Add(every - every/10)
		pool, err := s.pool(ctx, source)
		if err != nil {
			errs = append(errs, err)
			continue
		}
		if follows[source] {
			s.listenTo(ctx, source, pool)
		}
		print, err := s.fingerprint(ctx, pool)
		if err != nil {
			errs = append(errs, err)
			continue
		}
		s.mu.Lock()
		before := s.prints[source]
		s.prints[source] = print
		s.mu.Unlock()
		if before != "" && before != print {
			pool.Refresh()
		}
		for _, u := range users {
			if u.document == nil {
				if before != "" && before != print {
					s.forgetDraft(u.name) // it is bound to the catalog as it was
				}
				continue
			}
			if err := s.lookAt(ctx, u.name, u.release, print, pool); err != nil {
				errs = append(errs, err)
			}
		}
	}
	for _, is := range follows {
		following = following || is
	}
	return following, errors.Join(errs...)
}

// listenTo lets the database of a source that windows follow tell of changes, where its user may arrange that, and listens.
func (s *Registry) listenTo(ctx context.Context, source string, pool *postgres.Source) {
	s.mu.Lock()
	already := s.told[pool] != nil
	if !already {
		ctx, s.told[pool] = context.WithCancel(ctx)
	}
	s.mu.Unlock()
	if already {
		return
	}
	if tells, err := postgres.TellChanges(ctx, pool); err != nil || !tells {
		s.log.Debug("a database does not tell of changes, so it is asked", "source", source, "error", err)
		return
	}
	go postgres.ChangesOf(ctx, pool, s.lookSoon)
}

func (s *Registry) fingerprint(ctx context.Context, pool *postgres.Source) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, introspectLimit)
	defer cancel()
	return postgres.Fingerprint(ctx, pool)
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
	ctx, cancel := context.WithTimeout(ctx, introspectLimit)
	defer cancel()
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
	if err := s.callers(ctx, name, d.Changes); err != nil {
		return err
	}
	s.mu.Lock()
	s.drifts[name] = d
	s.mu.Unlock()
	if d.Tables != nil || d.Wrong != "" {
		s.log.Warn("the database has changed since the live release", "window", name, "release", release, "tables", len(d.Tables),
			"breaking", compare.Count(d.Changes, compare.Breaking), "widening", len(compare.Widening(d.Changes)), "wrong", d.Wrong,
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
	print, err := s.fingerprint(ctx, api.Source())
	if err != nil {
		return nil, err
	}
	if err := s.lookAt(ctx, name, api.Release, print, api.Source()); err != nil {
		return nil, err
	}
	if d := s.driftOf(name, api.Release); d != nil {
		return d, nil
	}
	return &Drift{Window: name, Since: time.Now().UTC(), Tables: []compare.TableDrift{}, Changes: []compare.Change{}}, nil
}

// Catalog is the catalog of the source of a window's draft, as it is now.
func (s *Registry) Catalog(ctx context.Context, name string) (*catalog.Catalog, *model.Model, error) {
	w, err := s.window(ctx, name)
	if err != nil {
		return nil, nil, err
	}
	b, err := s.bind(ctx, []byte(w.Draft))
	if err != nil {
		return nil, nil, err
	}
	return b.catalog, b.policy.Model(), nil
}

func diff(from, to, fromName, toName string) string { return window.Diff(from, to, fromName, toName) }

// counts are how many changes of each kind a difference has.
func (d *Difference) counts() *Counts {
	return &Counts{Breaking: compare.Count(d.Changes, compare.Breaking), Compatible: compare.Count(d.Changes, compare.Compatible),
		Internal: compare.Count(d.Changes, compare.Internal), Widening: len(compare.Widening(d.Changes))}
}
