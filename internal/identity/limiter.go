package identity

import (
	"context"
	"fmt"
	"math"
	"sync"
	"time"

	"github.com/go-chi/httprate"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/data"
)

// limiter counts the requests of each caller whose role has limits on how many there may be: over a time, and at once. It counts those
// that reach this instance.
type limiter struct {
	mu       sync.Mutex
	counters map[time.Duration]httprate.LimitCounter // by the length of the time
	running  map[string]int                          // by caller
}

func newLimiter() *limiter {
	return &limiter{counters: map[time.Duration]httprate.LimitCounter{}, running: map[string]int{}}
}

// Quota is what a caller has left of the requests that its role may send over a time.
type Quota struct {
	Count int
	Per   time.Duration
	Left  int
	Reset time.Duration // until it is whole again
}

// Admit lets a caller in, or refuses it for now. leave is called when the request is over. The quota is nil where the role has none.
func (s *Directory) Admit(a *data.API, c access.Caller) (leave func(), quota *Quota, err error) {
	scope := counted(a, c)
	if scope == nil {
		return func() {}, nil, nil
	}
	key := holder(a, scope, c)
	if quota, err = s.spend(scope, key); err != nil {
		return func() {}, quota, err
	}
	leave, ok := s.limiter.acquireSlot(key, scope.Limits.Concurrent)
	if !ok {
		err = fault.New(fault.TooMany, "limit.concurrent", "role %q may have %d requests running at once for each caller; wait for one of them",
			scope.Name, scope.Limits.Concurrent)
	}
	return leave, quota, err
}

// Spend counts one request of a caller, or refuses it for now.
func (s *Directory) Spend(a *data.API, c access.Caller) (*Quota, error) {
	scope := counted(a, c)
	if scope == nil {
		return nil, nil
	}
	return s.spend(scope, holder(a, scope, c))
}

// A caller is refused at once so often; refusals that follow come late, so that a flood of requests that are refused anyway does not take
// the time of others.
var refusedAtOnce = window.Rate{Count: 10, Per: time.Second}

const lateBy = 500 * time.Millisecond

// HoldBack counts a refusal by Admit, and returns when it is to be answered.
func (s *Directory) HoldBack(ctx context.Context, a *data.API, c access.Caller) {
	scope := counted(a, c)
	if scope == nil {
		return
	}
	quota, err := s.limiter.count("refused\x00"+holder(a, scope, c), refusedAtOnce, time.Now())
	if err != nil || quota.Left >= 0 {
		return
	}
	timer := time.NewTimer(lateBy)
	defer timer.Stop()
	select {
	case <-timer.C:
	case <-ctx.Done():
	}
}

// counted is the scope of a caller whose requests are counted, nil where they are not. Operators, who try things out on the draft, have
// no limits; what is wrong with a caller, the request itself will say.
func counted(a *data.API, c access.Caller) *access.Scope {
	if a.Release == 0 {
		return nil
	}
	scope, err := a.Policy.Scope(c)
	if err != nil || scope.Limits.Requests.Count == 0 && scope.Limits.Concurrent == 0 {
		return nil
	}
	return scope
}

func (s *Directory) spend(scope *access.Scope, key string) (*Quota, error) {
	rate := scope.Limits.Requests
	if rate.Count == 0 {
		return nil, nil
	}
	quota, err := s.limiter.count(key, rate, time.Now())
	if err == nil && quota.Left < 0 {
		quota.Left = 0
		err = fault.New(fault.TooMany, "limit.requests", "role %q may send %s; the next one in %d s", scope.Name, rate,
			int(math.Ceil(quota.Reset.Seconds())))
	}
	return quota, err
}

// holder is whose requests are counted together: a caller's in one role. Callers without a token go by their address.
func holder(a *data.API, scope *access.Scope, c access.Caller) string {
	key := a.Model.Name + "\x00" + scope.Name + "\x00" + c.Subject
	if c.Anonymous() {
		key += "\x00" + c.From
	}
	return key
}

// count counts a request in a sliding window: that of the one before counts as far as it reaches into this one.
func (g *limiter) count(key string, rate window.Rate, now time.Time) (*Quota, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	counter := g.counters[rate.Per]
	if counter == nil {
		counter = httprate.NewLocalLimitCounter(rate.Per)
		g.counters[rate.Per] = counter
	}
	begun := now.UTC().Truncate(rate.Per)
	this, last, err := counter.Get(key, begun, begun.Add(-rate.Per))
	if err != nil {
		return nil, fmt.Errorf("count requests: %w", err)
	}
	q := &Quota{Count: rate.Count, Per: rate.Per, Reset: begun.Add(rate.Per).Sub(now)}
	used := float64(last)*float64(q.Reset)/float64(rate.Per) + float64(this)
	if q.Left = rate.Count - int(math.Ceil(used)) - 1; q.Left < 0 {
		if this == 0 || last > 0 { // it sinks as the window slides on
			q.Reset = min(q.Reset, time.Duration(math.Ceil((used+1-float64(rate.Count))/math.Max(float64(last), 1)*float64(rate.Per))))
		}
		return q, nil
	}
	return q, counter.Increment(key, begun)
}

// acquireSlot takes one of the places of a caller; 0 means there are as many as one likes.
func (g *limiter) acquireSlot(key string, most int) (leave func(), ok bool) {
	if most == 0 {
		return func() {}, true
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.running[key] >= most {
		return func() {}, false
	}
	g.running[key]++
	return func() {
		g.mu.Lock()
		defer g.mu.Unlock()
		if g.running[key]--; g.running[key] == 0 {
			delete(g.running, key)
		}
	}, true
}
