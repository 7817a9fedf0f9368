package windows

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/data"
	"eagerwindow/internal/records"
)

// Live is the release of a window that /api serves.
func (s *Registry) Live(ctx context.Context, name string) (*data.API, error) {
	if api := s.known(name); api != nil {
		return api, nil
	}
	defer s.lock(name)()
	if api := s.known(name); api != nil { // somebody else has loaded it
		return api, nil
	}
	return s.load(ctx, name)
}

// lock keeps others from loading the same window; a release that was read earlier must not replace a later one.
func (s *Registry) lock(name string) (unlock func()) {
	s.mu.Lock()
	l := s.loading[name]
	if l == nil {
		l = &sync.Mutex{}
		s.loading[name] = l
	}
	s.mu.Unlock()
	l.Lock()
	return l.Unlock
}

func (s *Registry) known(name string) *data.API {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.live[name]
}

// reload serves the release that is live by now. Until it can, and while the records are away, the one before it is served.
func (s *Registry) reload(ctx context.Context, name string) error {
	defer s.lock(name)()
	_, err := s.load(ctx, name)
	if f, ok := fault.From(err); ok && f.Code == "release.none" {
		s.mu.Lock()
		delete(s.live, name)
		s.mu.Unlock()
	}
	return err
}

// load binds the live release of a window and serves it. The window is locked.
func (s *Registry) load(ctx context.Context, name string) (*data.API, error) {
	release, err := s.records.LiveRelease(ctx, name)
	if errors.Is(err, records.ErrNone) {
		return nil, s.notLive(ctx, name)
	}
	if err != nil {
		return nil, fmt.Errorf("read the live release of %q: %w", name, err)
	}
	b, err := parseAndBind([]byte(release.Document), release.Catalog)
	if err != nil {
		return nil, fmt.Errorf("bind release %d of %q: %w", release.Number, name, err)
	}
	if b.pool, err = s.pool(ctx, b.policy.Model().Document.Source.Value); err != nil { // callers are not told where the database is
		return nil, &fault.Refusal{Fault: fault.New(fault.Unavailable, "database.unavailable", "the database is away; try again in a moment"),
			Words: err.Error()}
	}
	api := s.api(b, release.Number)
	s.mu.Lock()
	defer s.mu.Unlock()
	other := s.live[name]
	if other != nil && other.Release == api.Release && other.Source() == api.Source() {
		return other, nil // with the plans that it has made
	}
	if other != nil {
		api.TakeOver(other)
		if other.Source() == api.Source() && !sameCatalog(other.Catalog, b.catalog) {
			api.Source().Refresh()
		}
	}
	s.live[name] = api
	return api, nil
}

// Watch takes up what other instances change, until the context ends.
func (s *Registry) Watch(ctx context.Context) {
	s.records.Watch(ctx, func(c records.Change) {
		s.events.send(Event{Kind: eventKinds[c.Topic], Window: c.Name})
		switch c.Topic {
		case records.LiveRelease:
			s.takeUp(ctx, c.Name)
		case records.SourceDSN:
			s.mu.Lock()
			var names []string
			for name, api := range s.live {
				if api.Model.Document.Source.Value == c.Name {
					names = append(names, name)
				}
			}
			clear(s.drafts)
			s.mu.Unlock()
			for _, name := range names {
				s.takeUp(ctx, name)
			}
		}
	})
}

// takeUp serves another release of a window that is served here; any other is loaded when it is asked for.
func (s *Registry) takeUp(ctx context.Context, name string) {
	if s.known(name) == nil {
		return
	}
	err := s.reload(ctx, name)
	if f, ok := fault.From(err); ok && f.Code == "release.none" {
		return // it was closed
	}
	if err != nil {
		s.log.Error("a new release can't be served", "window", name, "error", err)
	}
}

// notLive says that no release of a window is live. Callers are not told of windows that are not published.
func (s *Registry) notLive(ctx context.Context, name string) error {
	var names []string
	if list, err := s.records.Windows(ctx); err == nil {
		for _, w := range list {
			if w.LiveRelease > 0 {
				names = append(names, w.Name)
			}
		}
	}
	return fault.New(fault.NotFound, "release.none", "there is no published window %q%s", name, fault.Suggest(name, names)).On(name)
}

// usesEvery is how often what callers used is written down.
const usesEvery = 5 * time.Second

// KeepUses writes down what callers use of the live releases, until the context ends, and once more then.
func (s *Registry) KeepUses(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			s.saveUses(context.WithoutCancel(ctx))
			return
		case <-time.After(usesEvery):
			s.saveUses(ctx)
		}
	}
}

func (s *Registry) saveUses(ctx context.Context) {
	var list []records.Use
	for _, api := range s.Served() {
		list = append(list, api.TakeUses()...)
	}
	for part := range slices.Chunk(list, 1000) {
		if err := s.records.AddUses(ctx, part); err != nil {
			s.log.Warn("what callers used can't be written down", "error", err)
			return
		}
	}
	if sums := s.Traffic.Take(); len(sums.Counts)+len(sums.Refusals) > 0 {
		if err := s.records.AddTraffic(ctx, sums); err != nil {
			s.log.Warn("traffic can't be written down", "error", err)
		}
	}
}
