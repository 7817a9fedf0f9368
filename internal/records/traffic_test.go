package records_test

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"eagerwindow/internal/harbourtest"
	"eagerwindow/internal/records"
	"eagerwindow/internal/traffic"
)

// Sums are added to those that are there, in minutes, hours and days; what is old or too much is forgotten.
func TestTraffic(t *testing.T) {
	t.Parallel()
	ctx, dsn := context.Background(), harbourtest.Database(t, false)
	s := open(t, dsn)
	if err := s.SaveDraft(ctx, records.Draft{Window: "w", Document: "window: w", By: "a"}); err != nil {
		t.Fatal(err)
	}
	var counted traffic.Recorder
	for range 2 {
		for i := range 5 {
			counted.Add(traffic.Request{Key: traffic.Key{Window: "w", Resource: "r", Role: "agent", Status: 200}, Shape: "r?top=?", Rows: 2,
				Took: time.Duration(i) * time.Millisecond, Waited: time.Millisecond})
		}
		counted.Add(traffic.Request{Key: traffic.Key{Window: "gone", Resource: "r", Status: 200}}) // of a window that was closed meanwhile
		counted.Refuse(traffic.Refusal{Window: "w", At: time.Now(), Path: "r", Status: 403, Message: "no"})
		if err := s.AddTraffic(ctx, counted.Take()); err != nil {
			t.Fatal(err)
		}
	}
	for _, grain := range []string{"minute", "hour", "day"} {
		f := records.TrafficFilter{Window: "w", Grain: grain, From: time.Now().Add(-48 * time.Hour), Step: 24 * time.Hour}
		sums, err := s.Traffic(ctx, f)
		total, times := int64(0), int64(0)
		for _, sum := range sums {
			total += sum.Count
			for _, n := range sum.Times() {
				times += n
			}
		}
		if err != nil || total != 10 || times != 10 {
			t.Errorf("%s: %d requests, %d times, %v", grain, total, times, err)
		}
		f.Role = "pilot"
		if none, err := s.Traffic(ctx, f); err != nil || len(none) != 0 {
			t.Errorf("%s of another role: %v, %v", grain, none, err)
		}
	}
	shapes, err := s.Shapes(ctx, "w", time.Now().Add(-time.Hour), "", 5)
	if err != nil || len(shapes) != 1 || shapes[0].Count != 10 || shapes[0].Rows != 20 || shapes[0].WaitedUS != 10_000 {
		t.Errorf("shapes %+v, %v", shapes, err)
	}
	minutes, err := s.Minutes(ctx, 3)
	if err != nil || len(minutes["w"]) != 3 || minutes["w"][1]+minutes["w"][2] != 10 {
		t.Errorf("minutes %v, %v", minutes, err)
	}

	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	if _, err := conn.Exec(ctx, `set search_path = eager_window;
		insert into traffic select window_id, grain, at - interval '3 days', resource, role, status, count, times from traffic;
		insert into traffic select window_id, grain, at - interval '401 days', resource, role, status, count, times from traffic
			where grain <> 'minute';
		insert into traffic_shape select window_id, at, 's' || n, role, count, n, rows, times from traffic_shape, generate_series(1, 150) n;
		insert into refusal (window_id, at, caller, role, method, path, status, code, message)
			select window_id, at, '', '', 'GET', 'r' || n, 403, '', '' from (select * from refusal limit 1) r, generate_series(1, 300) n;
		insert into run (window_id, by, version) select (select id from api_window), 'a', 'draft' from generate_series(1, 120)`); err != nil {
		t.Fatal(err)
	}
	if err := s.ForgetTraffic(ctx); err != nil {
		t.Fatal(err)
	}
	left := ""
	for _, sql := range []string{"select count(distinct (grain, at)) from traffic where grain = 'minute' and at < now() - interval '2 days'",
		"select count(*) from traffic where at < now() - interval '400 days'", "select count(*) from traffic where grain = 'hour'",
		"select count(*) from traffic_shape", "select count(*) from refusal", "select count(*) from run"} {
		var n int
		if err := conn.QueryRow(ctx, sql).Scan(&n); err != nil {
			t.Fatal(err)
		}
		left += fmt.Sprint(n, " ")
	}
	if left != "0 0 2 100 200 100 " && left != "0 0 4 100 200 100 " { // where the hour has just ended there are two
		t.Errorf("what is left is %s", left)
	}
	if refusals, err := s.Refusals(ctx, "w", "", 3); err != nil || len(refusals) != 3 || refusals[0].Path != "r300" {
		t.Errorf("refusals %+v, %v", refusals, err)
	}
}

// execute runs SQL in the records.
func execute(t *testing.T, dsn, sql string) error {
	t.Helper()
	c, err := pgx.Connect(context.Background(), dsn)
	if err != nil {
		return err
	}
	defer c.Close(context.Background())
	_, err = c.Exec(context.Background(), sql)
	return err
}

// A run is there while it goes on, and its results are summed by suite.
func TestRuns(t *testing.T) {
	t.Parallel()
	ctx, dsn := context.Background(), harbourtest.Database(t, false)
	s := open(t, dsn)
	if _, err := s.BeginRun(ctx, "w", "a", "draft"); err != records.ErrNone {
		t.Errorf("of no window: %v", err)
	}
	if err := s.SaveDraft(ctx, records.Draft{Window: "w", Document: "window: w", By: "a"}); err != nil {
		t.Fatal(err)
	}
	id, err := s.BeginRun(ctx, "w", "a", "draft")
	if err != nil {
		t.Fatal(err)
	}
	if list, err := s.Runs(ctx, "w", 5); err != nil || len(list) != 1 || list[0].EndedAt != nil {
		t.Errorf("while it goes on: %+v, %v", list, err)
	}
	if err := execute(t, dsn, "update eager_window.run set at = at - interval '1 hour'"); err != nil {
		t.Fatal(err)
	}
	if list, err := s.Runs(ctx, "w", 5); err != nil || list[0].EndedAt == nil {
		t.Errorf("an hour later, the service having been stopped: %+v, %v", list, err)
	}
	if last, err := s.LastChecks(ctx); err != nil || len(last) != 0 {
		t.Errorf("none has ended: %v, %v", last, err)
	}
	if err := s.EndRun(ctx, id, 2, 1, []byte(`[{"suite":"x","passed":true,"seconds":1},{"suite":"x","passed":false,"seconds":2},
		{"suite":"y","passed":true,"seconds":0.5}]`)); err != nil {
		t.Fatal(err)
	}
	list, err := s.Runs(ctx, "w", 5)
	want := `[{"suite": "x", "failed": 1, "passed": 1, "seconds": 3}, {"suite": "y", "failed": 0, "passed": 1, "seconds": 0.5}]`
	if err != nil || list[0].EndedAt == nil || string(list[0].Results) != want {
		t.Errorf("the list has %s, %v", list[0].Results, err)
	}
	if one, err := s.RunOf(ctx, "w", id); err != nil || one.Failed != 1 {
		t.Errorf("%+v, %v", one, err)
	}
	if _, err := s.RunOf(ctx, "w", id+1); err != records.ErrNone {
		t.Errorf("one that is not there: %v", err)
	}
}
