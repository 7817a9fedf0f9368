package windows

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"slices"
	"sync"
	"time"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/data"
	"eagerwindow/internal/postgres"
)

// NewRehearsal is what an operator asks for.
type NewRehearsal struct {
	Seconds int `json:"seconds,omitempty"` // how long it may last; 0: a minute
}

// Rehearsal is one that is open in this instance.
type Rehearsal struct {
	ID    string    `json:"id"`
	Until time.Time `json:"until"`
	// Lasting is what the database does outside of the transaction, and can't undo.
	Lasting []string `json:"lasting"`
}

// Write is a request to be rehearsed by itself.
type Write struct {
	On      string            `json:"on,omitempty"` // draft, live, or the number of a release
	Method  string            `json:"method"`
	Path    string            `json:"path"` // below the window, with its query
	ActAs   string            `json:"act_as,omitempty"`
	Headers map[string]string `json:"headers,omitempty"`
	Body    string            `json:"body,omitempty"`
}

// Rehearsed is the answer to a write that was rolled back, and what it did.
type Rehearsed struct {
	Status  int               `json:"status"`
	Reason  string            `json:"reason"`
	Headers map[string]string `json:"headers"`
	Body    string            `json:"body"`
	Rows    []RowChange       `json:"rows"`    // as far as they are shown
	More    int               `json:"more"`    // rows that are not shown
	Lasting []string          `json:"lasting"` // what the database can't undo
}

// RowChange is what a write did to a row.
type RowChange struct {
	Row    string        `json:"row"`    // its path
	Became string        `json:"became"` // created, changed, unchanged, deleted, hidden (from who wrote it); linked, unlinked
	Fields []FieldChange `json:"fields,omitempty"`
}

// FieldChange is the value of a field before and after; one is left out of a row that is new or gone.
type FieldChange struct {
	Name   string          `json:"name"`
	Before json.RawMessage `json:"before,omitempty"`
	After  json.RawMessage `json:"after,omitempty"`
}

// How long a rehearsal may last, and how many there may be at once.
const (
	rehearsalTime  = time.Minute
	rehearsalLimit = 10 * time.Minute
	maxRehearsals  = 8
)

// rehearsals are those that are open.
type rehearsals struct {
	mu   sync.Mutex
	open map[string]*data.Rehearsal
}

// OpenRehearsal begins a rehearsal over the source of a window, of its draft where there is one.
func (s *Registry) OpenRehearsal(ctx context.Context, name, operator string, in NewRehearsal) (Rehearsal, error) {
	limit := time.Duration(in.Seconds) * time.Second
	if in.Seconds == 0 {
		limit = rehearsalTime
	}
	if limit < time.Second || limit > rehearsalLimit {
		return Rehearsal{}, fault.New(fault.Invalid, "rehearsal.time", "a rehearsal lasts 1 to %d seconds, not %d", int(rehearsalLimit.Seconds()),
			in.Seconds).On("seconds")
	}
	api, err := s.DraftAPI(ctx, name)
	if err != nil {
		return Rehearsal{}, err
	}
	lasting, err := s.Lasting(ctx, api, true)
	if err != nil {
		return Rehearsal{}, err
	}
	s.rehearsals.mu.Lock()
	defer s.rehearsals.mu.Unlock()
	for id, r := range s.rehearsals.open {
		if r.Ended() {
			delete(s.rehearsals.open, id)
		}
	}
	if len(s.rehearsals.open) >= maxRehearsals {
		return Rehearsal{}, fault.New(fault.Conflict, "rehearsal.many", "%d rehearsals are open here, which is the most; end one, or wait",
			len(s.rehearsals.open))
	}
	r, err := api.Rehearse(ctx, access.Caller{Operator: true, Subject: operator}, limit)
	if err != nil {
		return Rehearsal{}, err
	}
	id := rand.Text()
	if s.rehearsals.open == nil {
		s.rehearsals.open = map[string]*data.Rehearsal{}
	}
	s.rehearsals.open[id] = r
	return Rehearsal{ID: id, Until: time.Now().Add(limit).UTC().Truncate(time.Second), Lasting: lasting}, nil
}

// Lasting lists what writes do outside of their transaction, so that a rehearsal can't undo it. Only new rows take numbers of sequences.
func (s *Registry) Lasting(ctx context.Context, api *data.API, creates bool) ([]string, error) {
	list, err := postgres.Lasting(ctx, api.Source(), api.Catalog)
	if err != nil {
		return nil, fmt.Errorf("look for what a rehearsal can't undo: %w", err)
	}
	if !creates {
		list = slices.DeleteFunc(list, func(what string) bool { return what == postgres.NumbersLast })
	}
	return list, nil
}

// Rehearsal is an open one.
func (s *Registry) Rehearsal(id string) (*data.Rehearsal, error) {
	s.rehearsals.mu.Lock()
	defer s.rehearsals.mu.Unlock()
	r := s.rehearsals.open[id]
	if r == nil || r.Ended() {
		delete(s.rehearsals.open, id)
		return nil, fault.New(fault.NotFound, "rehearsal.ended",
			"there is no such rehearsal in this instance, or it has ended and was rolled back; "+
				"begin another one").On("Rehearsal")
	}
	return r, nil
}

// CloseRehearsal rolls a rehearsal back.
func (s *Registry) CloseRehearsal(id string) error {
	r, err := s.Rehearsal(id)
	if err != nil {
		return err
	}
	r.Close()
	s.rehearsals.mu.Lock()
	defer s.rehearsals.mu.Unlock()
	delete(s.rehearsals.open, id)
	return nil
}

// closeRehearsals ends all of them.
func (s *Registry) closeRehearsals() {
	s.rehearsals.mu.Lock()
	defer s.rehearsals.mu.Unlock()
	for id, r := range s.rehearsals.open {
		r.Close()
		delete(s.rehearsals.open, id)
	}
}
