// Package traffic adds up the requests of live releases in memory, until somebody takes the sums to keep them: how many there were by
// resource, role and status, how long they took, which shapes cost most, and which were refused and why.
//
// What it holds is bounded; requests beyond the bounds are counted under "other".
package traffic

import (
	"math"
	"sync"
	"time"
)

// Times is a histogram of durations: Times[i] counts those of at most Bound(i), the last one all others.
type Times [buckets]int64

// buckets is how many there are: from 0.25 ms, each half as long again, to about a minute.
const buckets = 32

const (
	first = 250 * time.Microsecond
	ratio = 1.5
)

// Bound is the longest duration that bucket i counts.
func Bound(i int) time.Duration { return time.Duration(float64(first) * math.Pow(ratio, float64(i))) }

func bucketOf(took time.Duration) int {
	if took <= first {
		return 0
	}
	return min(buckets-1, int(math.Ceil(math.Log(float64(took)/float64(first))/math.Log(ratio)-1e-9)))
}

// Quantile is the duration that the share q of all took at most, within its bucket taken as evenly spread; 0 where there are none.
func Quantile(times []int64, q float64) time.Duration {
	total := int64(0)
	for _, n := range times {
		total += n
	}
	if total == 0 {
		return 0
	}
	rank, below := q*float64(total), int64(0)
	for i, n := range times {
		if n > 0 && float64(below+n) >= rank {
			low := time.Duration(0)
			if i > 0 {
				low = Bound(i - 1)
			}
			return low + time.Duration(float64(Bound(i)-low)*(rank-float64(below))/float64(n))
		}
		below += n
	}
	return Bound(buckets - 1)
}

// Key is what requests are counted by.
type Key struct {
	Window, Resource, Role string
	Status                 int
}

// Shape is a request without its values, by a role.
type Shape struct{ Window, Shape, Role string }

// ShapeSum adds up the requests of a shape.
type ShapeSum struct {
	Count, Rows int64
	Waited      time.Duration // for the database
	Times       Times
}

// Refusal is a request that was refused.
type Refusal struct {
	Window, Caller, Role, Method, Path, Code, Message string
	At                                                time.Time
	Status                                            int
}

// Request is one that has been answered.
type Request struct {
	Key
	Shape  string // "": it has none
	Rows   int64
	Took   time.Duration
	Waited time.Duration
}

// Sums are what was counted between two takes.
type Sums struct {
	Counts   map[Key]*Times
	Shapes   map[Shape]*ShapeSum
	Refusals []Refusal
}

// What is held between two takes.
const (
	maxKeys     = 5000
	maxShapes   = 500
	maxRefusals = 200
	maxShape    = 300 // bytes
)

// Recorder counts. The zero value is ready.
type Recorder struct {
	mu   sync.Mutex
	sums Sums
}

// Add counts a request.
func (r *Recorder) Add(q Request) {
	at := bucketOf(q.Took)
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.sums.Counts == nil {
		r.sums.Counts, r.sums.Shapes = map[Key]*Times{}, map[Shape]*ShapeSum{}
	}
	times := r.sums.Counts[q.Key]
	if times == nil {
		if len(r.sums.Counts) >= maxKeys {
			q.Resource, q.Role = "other", "other"
		}
		if times = r.sums.Counts[q.Key]; times == nil {
			times = new(Times)
			r.sums.Counts[q.Key] = times
		}
	}
	times[at]++
	if q.Shape == "" {
		return
	}
	sum := r.sums.Shapes[Shape{q.Window, q.Shape, q.Role}]
	if sum == nil {
		if len(q.Shape) > maxShape || len(r.sums.Shapes) >= maxShapes {
			return
		}
		sum = new(ShapeSum)
		r.sums.Shapes[Shape{q.Window, q.Shape, q.Role}] = sum
	}
	sum.Count, sum.Rows, sum.Waited = sum.Count+1, sum.Rows+q.Rows, sum.Waited+q.Waited
	sum.Times[at]++
}

// Refuse keeps a refusal, the last ones where there are many.
func (r *Recorder) Refuse(q Refusal) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.sums.Refusals) >= maxRefusals {
		r.sums.Refusals = r.sums.Refusals[1:]
	}
	r.sums.Refusals = append(r.sums.Refusals, q)
}

// Take returns what was counted since the last take.
func (r *Recorder) Take() Sums {
	r.mu.Lock()
	defer r.mu.Unlock()
	taken := r.sums
	r.sums = Sums{}
	return taken
}
