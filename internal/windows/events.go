package windows

import (
	"sync"

	"eagerwindow/internal/records"
)

// Event says that something of a window has become different; whoever shows it reads it anew.
type Event struct {
	Kind   string `json:"kind"` // draft, release, source, drift, or run
	Window string `json:"window"`
}

var eventKinds = map[records.Topic]string{records.LiveRelease: "release", records.SourceDSN: "source", records.DraftSaved: "draft",
	records.ChecksRun: "run"}

// maxEvents is how many events wait for a listener; one that does not take them misses the rest.
const maxEvents = 64

// events passes events on to all who listen.
type events struct {
	mu        sync.Mutex
	listeners map[chan Event]bool
}

func (e *events) send(one Event) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for to := range e.listeners {
		select {
		case to <- one:
		default:
		}
	}
}

// Listen returns what becomes different from now on, whichever instance does it, until end is called.
func (s *Registry) Listen() (heard <-chan Event, end func()) {
	to := make(chan Event, maxEvents)
	s.events.mu.Lock()
	defer s.events.mu.Unlock()
	if s.events.listeners == nil {
		s.events.listeners = map[chan Event]bool{}
	}
	s.events.listeners[to] = true
	return to, func() {
		s.events.mu.Lock()
		defer s.events.mu.Unlock()
		delete(s.events.listeners, to)
	}
}
