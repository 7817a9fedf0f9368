package records_test

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"errors"
	"os"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/harbourtest"
	"eagerwindow/internal/records"
)

func TestMain(m *testing.M) { os.Exit(harbourtest.Main(m)) }

// mac seals entries of the audit in tests.
func mac(text []byte) []byte {
	h := hmac.New(sha256.New, []byte("a key for tests"))
	h.Write(text)
	return h.Sum(nil)
}

func open(t *testing.T, dsn string) *records.Store {
	t.Helper()
	s, err := records.Open(context.Background(), dsn, mac)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s
}

// Several services start over empty records at the same moment.
func TestMigrateTogether(t *testing.T) {
	t.Parallel()
	dsn := harbourtest.Database(t, false)
	var wg sync.WaitGroup
	for range 5 {
		wg.Go(func() {
			s, err := records.Open(context.Background(), dsn, mac)
			if err != nil {
				t.Error(err)
				return
			}
			s.Close()
		})
	}
	wg.Wait()
	open(t, dsn)
}

func TestWindows(t *testing.T) {
	t.Parallel()
	ctx, s := context.Background(), open(t, harbourtest.Database(t, false))
	if err := s.SaveDraft(ctx, records.Draft{Window: "w", Document: "one", By: "a", Of: 1}); !errors.Is(err, records.ErrNone) {
		t.Errorf("a draft of no window: %v", err)
	}
	if err := s.SaveDraft(ctx, records.Draft{Window: "w", Document: "one", By: "a"}); err != nil {
		t.Fatal(err)
	}
	var f *fault.Fault
	if err := s.SaveDraft(ctx, records.Draft{Window: "w", Document: "two", By: "a"}); !errors.As(err, &f) || f.Kind != fault.Conflict {
		t.Errorf("the same window twice: %v", err)
	}
	if _, err := s.LiveRelease(ctx, "w"); !errors.Is(err, records.ErrNone) {
		t.Errorf("a release before publishing: %v", err)
	}
	// Releases published at once get numbers of their own, without a gap.
	var wg sync.WaitGroup
	var mu sync.Mutex
	numbers := map[int]bool{}
	for range 8 {
		wg.Go(func() {
			r := records.NewRelease{Release: records.Release{Document: "one", Catalog: &catalog.Catalog{Database: "d"}, CreatedBy: "a",
				Changes: []byte("[]")}}
			n, err := s.Publish(ctx, "w", r)
			for ; errors.Is(err, records.ErrChanged); n, err = s.Publish(ctx, "w", r) {
				r.Over++
			}
			if err != nil {
				t.Error(err)
			}
			mu.Lock()
			defer mu.Unlock()
			numbers[n] = true
		})
	}
	wg.Wait()
	for n := 1; n <= 8; n++ {
		if !numbers[n] {
			t.Errorf("no release %d among %v", n, numbers)
		}
	}
	r, err := s.LiveRelease(ctx, "w")
	if err != nil || r.Number != 8 || r.Document != "one" || r.Catalog.Database != "d" {
		t.Errorf("live is %+v, %v", r, err)
	}
	w, err := s.Window(ctx, "w")
	if err != nil || w.LiveRelease != 8 || w.Draft != "one" || w.LiveDocument != "one" {
		t.Errorf("the window is %+v, %v", w, err)
	}
	if _, err := s.Window(ctx, "x"); !errors.Is(err, records.ErrNone) {
		t.Errorf("another window: %v", err)
	}
}

func TestOperatorsAndClients(t *testing.T) {
	t.Parallel()
	ctx, s := context.Background(), open(t, harbourtest.Database(t, false))
	if err := s.SaveOperator(ctx, "Keeper@Saltmere.example", "hash"); err != nil {
		t.Fatal(err)
	}
	o, err := s.Operator(ctx, "keeper@saltmere.EXAMPLE")
	if err != nil || o.PasswordHash != "hash" {
		t.Fatalf("operator %+v, %v", o, err)
	}
	for token, life := range map[string]time.Duration{"good": time.Hour, "over": -time.Second} {
		if err := s.SaveSession(ctx, []byte(token), o.ID, time.Now().Add(life)); err != nil {
			t.Fatal(err)
		}
	}
	if email, err := s.SessionOperator(ctx, []byte("good")); err != nil || email != "keeper@saltmere.example" {
		t.Errorf("session of %q, %v", email, err)
	}
	if _, err := s.SessionOperator(ctx, []byte("over")); !errors.Is(err, records.ErrNone) {
		t.Errorf("a session that is over: %v", err)
	}
	if err := s.EndSession(ctx, []byte("good")); err != nil {
		t.Fatal(err)
	}
	if _, err := s.SessionOperator(ctx, []byte("good")); !errors.Is(err, records.ErrNone) {
		t.Errorf("a session that was ended: %v", err)
	}
	c := &records.Client{ID: "c", SecretHash: "h", Roles: []string{"agent"}, Claims: map[string]any{"agent_id": 3.0}}
	if err := s.SaveClient(ctx, "w", c); !errors.Is(err, records.ErrNone) {
		t.Errorf("a client of no window: %v", err)
	}
	if err := s.SaveDraft(ctx, records.Draft{Window: "w", Document: "d", By: "a"}); err != nil {
		t.Fatal(err)
	}
	if err := s.SaveClient(ctx, "w", c); err != nil {
		t.Fatal(err)
	}
	got, err := s.Client(ctx, "w", "c")
	if err != nil || got.Roles[0] != "agent" || got.Claims["agent_id"] != 3.0 {
		t.Errorf("client %+v, %v", got, err)
	}
	for _, id := range []string{"a", "b"} { // the second is not needed
		if err := s.AddSigningKey(ctx, records.SigningKey{ID: id, Sealed: []byte("x")}, time.Hour); err != nil {
			t.Fatal(err)
		}
	}
	first, err := s.SigningKeys(ctx)
	if err != nil || len(first) != 1 || first[0].ID != "a" {
		t.Errorf("signing keys %v, %v", first, err)
	}
	if err := errors.Join(s.AddSigningKey(ctx, records.SigningKey{ID: "c", Sealed: []byte("y")}, 0),
		s.RetireSigningKeys(ctx, time.Hour)); err != nil {
		t.Fatal(err)
	}
	if both, err := s.SigningKeys(ctx); err != nil || len(both) != 2 || both[0].ID != "c" {
		t.Errorf("signing keys %v, %v", both, err)
	}
	if err := s.RetireSigningKeys(ctx, 0); err != nil {
		t.Fatal(err)
	}
	if left, err := s.SigningKeys(ctx); err != nil || len(left) != 1 || left[0].ID != "c" {
		t.Errorf("signing keys %v, %v", left, err)
	}
}

// Records that an older release made, whose version is one number, are taken over as they are.
func TestAdoptOlderRecords(t *testing.T) {
	t.Parallel()
	ctx, dsn := context.Background(), harbourtest.Database(t, false)
	open(t, dsn)
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	if _, err := conn.Exec(ctx, `insert into eager_window.source values ('kept', '\x01');
		drop table eager_window.migration, eager_window.revision;
		drop function eager_window.note_change cascade;
		drop function eager_window.note_window_change cascade;
		drop table eager_window.traffic, eager_window.traffic_shape, eager_window.refusal, eager_window.run;
		drop function eager_window.sum_times;
		drop table eager_window.suite, eager_window.asked;
		drop table eager_window.draft_version, eager_window.usage, eager_window.audit;
		drop function eager_window.keep_audit;
		alter table eager_window.draft drop column version;
		alter table eager_window.release drop column changes, drop column description, drop column restores;
		alter table eager_window.operator drop column disabled, drop column signed_in_at;
		alter table eager_window.client drop column generation, drop column disabled;
		create table eager_window.schema_version (version integer not null); insert into eager_window.schema_version values (3)`); err != nil {
		t.Fatal(err)
	}
	s := open(t, dsn)
	if sealed, err := s.Source(ctx, "kept"); err != nil || string(sealed) != "\x01" {
		t.Errorf("the source is %q, %v", sealed, err)
	}
	var versions int
	if err := conn.QueryRow(ctx, "select count(*) from eager_window.migration where version_id > 0").Scan(&versions); err != nil ||
		versions != 7 {
		t.Errorf("%d migrations are known, %v", versions, err)
	}
	open(t, dsn)
}
