package windows

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"eagerwindow/internal/core/doctor"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/records"
	"eagerwindow/internal/traffic"
)

type (
	// TrafficQuestion chooses requests of a window's live releases.
	TrafficQuestion struct {
		Over           string // hour, day, week or month; "" hour
		Resource, Role string // "" all
		Status         string // answered, refused, failed; "" all
	}
	// Traffic is what was counted of requests over a time. Durations are in milliseconds.
	Traffic struct {
		Over      string            `json:"over"`
		Step      int               `json:"step"` // seconds that a point stands for
		Points    []TrafficPoint    `json:"points"`
		Total     int64             `json:"total"`
		Refused   int64             `json:"refused"`
		Failed    int64             `json:"failed"`
		P50       float64           `json:"p50"`
		P95       float64           `json:"p95"`
		P99       float64           `json:"p99"`
		Resources []string          `json:"resources"`
		Roles     []string          `json:"roles"`
		Shapes    []ShapeTraffic    `json:"shapes"`
		Refusals  []records.Refusal `json:"refusals"`
	}
	// TrafficPoint is one step of the time.
	TrafficPoint struct {
		At       time.Time `json:"at"`
		Answered int64     `json:"answered"`
		Refused  int64     `json:"refused"` // 4xx
		Failed   int64     `json:"failed"`  // 5xx
		P50      float64   `json:"p50"`     // 0: there were none
		P95      float64   `json:"p95"`
		P99      float64   `json:"p99"`
	}
	// ShapeTraffic is what was counted of requests that differ in their values alone.
	ShapeTraffic struct {
		Shape     string   `json:"shape"`
		Roles     []string `json:"roles"`
		Count     int64    `json:"count"`
		PerMinute float64  `json:"per_minute"`
		P95       float64  `json:"p95"`
		Share     float64  `json:"share"` // of the time that the database spent on all shapes listed, from 0 to 1
		Rows      int64    `json:"rows"`
	}
	// ShapeView is how the database answers a shape.
	ShapeView struct {
		Shape  string          `json:"shape"`
		SQL    string          `json:"sql"`            // "": no release that is live here has answered it
		Plan   json.RawMessage `json:"plan,omitempty"` // of the database, whatever the values are
		Advice []Finding       `json:"advice"`
	}
)

// spans are the times that traffic is shown over: the sums that are read, and how much of them a point stands for.
var spans = map[string]struct {
	grain  string
	step   time.Duration
	points int
}{
	"hour":  {"minute", time.Minute, 60},
	"day":   {"minute", 15 * time.Minute, 96},
	"week":  {"hour", 2 * time.Hour, 84},
	"month": {"day", 24 * time.Hour, 30},
}

var statusClasses = map[string]int{"": 0, "answered": 2, "refused": 4, "failed": 5}

// shapesShown and refusalsShown are how many are listed.
const (
	shapesShown   = 20
	refusalsShown = 50
)

// TrafficOf adds up the requests of a window's live releases.
func (s *Registry) TrafficOf(ctx context.Context, name string, q TrafficQuestion) (*Traffic, error) {
	if _, err := s.window(ctx, name); err != nil {
		return nil, err
	}
	if q.Over == "" {
		q.Over = "hour"
	}
	span, known := spans[q.Over]
	if !known {
		return nil, fault.New(fault.Invalid, "traffic.over", "%q is no time to look back over; write hour, day, week or month", q.Over).On("over")
	}
	class, known := statusClasses[q.Status]
	if !known {
		return nil, fault.New(fault.Invalid, "traffic.status", "%q is no status; write answered, refused or failed", q.Status).On("status")
	}
	from := time.Now().UTC().Truncate(span.step).Add(-time.Duration(span.points-1) * span.step)
	f := records.TrafficFilter{Window: name, Grain: span.grain, From: from, Step: span.step, Resource: q.Resource, Role: q.Role, Status: class}
	sums, err := s.records.Traffic(ctx, f)
	if err != nil {
		return nil, fmt.Errorf("read the traffic of %q: %w", name, err)
	}
	out := &Traffic{Over: q.Over, Step: int(span.step.Seconds()), Points: make([]TrafficPoint, span.points)}
	out.add(from, span.step, sums)
	if out.Resources, out.Roles, err = s.records.TrafficNames(ctx, name, span.grain, from); err != nil {
		return nil, err
	}
	shapes, err := s.records.Shapes(ctx, name, from, q.Role, shapesShown)
	if err != nil {
		return nil, err
	}
	out.Shapes = shapesOf(shapes, time.Duration(span.points)*span.step)
	out.Refusals, err = s.records.Refusals(ctx, name, q.Role, refusalsShown)
	out.Refusals = slices.Grow(out.Refusals, 0)
	return out, err
}

// add puts sums into the points that they belong to.
func (t *Traffic) add(from time.Time, step time.Duration, sums []records.TrafficSum) {
	times := make([][]int64, len(t.Points))
	var all []int64
	for i := range t.Points {
		t.Points[i].At = from.Add(time.Duration(i) * step)
	}
	for _, sum := range sums {
		at := int(sum.At.Sub(from) / step)
		if at < 0 || at >= len(t.Points) {
			continue
		}
		p := &t.Points[at]
		switch {
		case sum.Status < 400:
			p.Answered += sum.Count
		case sum.Status < 500:
			p.Refused += sum.Count
			t.Refused += sum.Count
		default:
			p.Failed += sum.Count
			t.Failed += sum.Count
		}
		t.Total += sum.Count
		times[at], all = plus(times[at], sum.Times()), plus(all, sum.Times())
	}
	for i := range t.Points {
		p := &t.Points[i]
		p.P50, p.P95, p.P99 = quantiles(times[i])
	}
	t.P50, t.P95, t.P99 = quantiles(all)
}

func plus(a, b []int64) []int64 {
	out := make([]int64, max(len(a), len(b)))
	copy(out, a)
	for i, n := range b {
		out[i] += n
	}
	return out
}

func quantiles(times []int64) (p50, p95, p99 float64) {
	ms := func(q float64) float64 { return float64(traffic.Quantile(times, q).Microseconds()) / 1000 }
	return ms(.5), ms(.95), ms(.99)
}

func shapesOf(list []records.ShapeTraffic, over time.Duration) []ShapeTraffic {
	out, whole := make([]ShapeTraffic, len(list)), int64(0)
	for _, one := range list {
		whole += one.WaitedUS
	}
	for i, one := range list {
		_, p95, _ := quantiles(one.Times)
		out[i] = ShapeTraffic{Shape: one.Shape, Roles: one.Roles, Count: one.Count, PerMinute: float64(one.Count) / over.Minutes(), P95: p95,
			Share: float64(one.WaitedUS) / float64(max(1, whole)), Rows: one.Rows}
	}
	return out
}

// ShapeOf shows the statement of a shape as the live release answers it, and the index that would help.
func (s *Registry) ShapeOf(ctx context.Context, name, shape string) (*ShapeView, error) {
	api, err := s.Live(ctx, name)
	if err != nil {
		return nil, err
	}
	out := &ShapeView{Shape: shape, Advice: []Finding{}}
	known, plan, err := api.Statement(ctx, shape)
	if known == nil {
		return out, err
	}
	if err != nil {
		s.log.Warn("a statement can't be planned", "window", name, "error", err)
	}
	out.SQL, out.Plan = known.Plan.SQL, plan
	for _, ix := range doctor.OfPlan(known.Plan, "this shape, which takes "+known.Took.Round(100*time.Microsecond).String()) {
		found, err := s.tryIndex(ctx, api.Source(), ix)
		if err != nil {
			s.log.Warn("an index can't be tried", "window", name, "error", err)
			continue
		}
		out.Advice = append(out.Advice, found...)
	}
	return out, nil
}

// BeginRun notes that checks of a window begin to run, on a version of it.
func (s *Registry) BeginRun(ctx context.Context, name, by, on string) (int64, error) {
	if on == "" {
		on = "draft"
	}
	return s.records.BeginRun(ctx, name, by, on)
}

// EndRun keeps what checks have found.
func (s *Registry) EndRun(ctx context.Context, id int64, passed, failed int, results json.RawMessage) error {
	return s.records.EndRun(ctx, id, passed, failed, results)
}

// runsShown is how many runs are listed.
const runsShown = 30

// Runs lists the last runs of checks, the newest first.
func (s *Registry) Runs(ctx context.Context, name string) ([]records.Run, error) {
	if _, err := s.window(ctx, name); err != nil {
		return nil, err
	}
	list, err := s.records.Runs(ctx, name, runsShown)
	return slices.Grow(list, 0), err
}

// RunOf is one run with its results.
func (s *Registry) RunOf(ctx context.Context, name string, id int64) (*records.Run, error) {
	r, err := s.records.RunOf(ctx, name, id)
	if errors.Is(err, records.ErrNone) {
		return nil, fault.New(fault.NotFound, "run.unknown", "%q has no run %d that is kept", name, id)
	}
	return &r, err
}
