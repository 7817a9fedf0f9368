package traffic

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"
	"time"
)

// Quantiles of a histogram are those of the durations, as near as a bucket is wide.
func TestQuantile(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for _, scale := range []time.Duration{time.Millisecond, 20 * time.Millisecond, time.Second} {
		var r Recorder
		var all []time.Duration
		for range 5000 {
			took := time.Duration(random.ExpFloat64() * float64(scale))
			all = append(all, took)
			r.Add(Request{Key: Key{Window: "w", Resource: "r", Status: 200}, Took: took})
		}
		slices.Sort(all)
		times := r.Take().Counts[Key{Window: "w", Resource: "r", Status: 200}]
		for _, q := range []float64{0.5, 0.95, 0.99} {
			got, want := Quantile(times[:], q), all[int(q*float64(len(all)))]
			if got < time.Duration(float64(want)/ratio) || got > time.Duration(float64(want)*ratio) {
				t.Errorf("%s, %.2f: %s, want about %s", scale, q, got, want)
			}
		}
	}
	if got := Quantile(nil, 0.5); got != 0 {
		t.Errorf("of nothing: %s", got)
	}
}

// A duration is counted in the first bucket that is long enough.
func TestBuckets(t *testing.T) {
	for i := range buckets - 1 {
		if got := bucketOf(Bound(i)); got != i {
			t.Errorf("%s is in bucket %d, want %d", Bound(i), got, i)
		}
		if got := bucketOf(Bound(i) + Bound(i)/100); got != i+1 {
			t.Errorf("a bit over %s is in bucket %d, want %d", Bound(i), got, i+1)
		}
	}
	if got := bucketOf(time.Hour); got != buckets-1 {
		t.Errorf("an hour is in bucket %d", got)
	}
}

// However many names callers make up, what is held is bounded, and nothing is counted twice or lost.
func TestBounded(t *testing.T) {
	var r Recorder
	var all sync.WaitGroup
	for part := range 4 {
		all.Go(func() {
			for i := range 5000 {
				name := fmt.Sprint(part, i)
				r.Add(Request{Key: Key{Window: "w", Resource: name, Role: "r", Status: 200}, Shape: name, Rows: 1})
				r.Refuse(Refusal{Window: "w", Path: name})
			}
		})
	}
	all.Wait()
	sums := r.Take()
	total := int64(0)
	for _, times := range sums.Counts {
		total += times[0]
	}
	if len(sums.Counts) > maxKeys+1 || len(sums.Shapes) > maxShapes || len(sums.Refusals) > maxRefusals || total != 20_000 {
		t.Errorf("%d counts, %d shapes, %d refusals, %d requests", len(sums.Counts), len(sums.Shapes), len(sums.Refusals), total)
	}
	if sums = r.Take(); len(sums.Counts)+len(sums.Shapes)+len(sums.Refusals) > 0 {
		t.Errorf("what was taken is there still: %+v", sums)
	}
}

func BenchmarkAdd(b *testing.B) {
	var r Recorder
	q := Request{Key: Key{"saltmere", "port_calls", "agent", 200}, Shape: "port_calls?top=", Took: time.Millisecond}
	b.ReportAllocs()
	for b.Loop() {
		r.Add(q)
	}
}
