package records

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/fault"
)

// ErrChanged says that what a change was made of is not what is there any more.
var ErrChanged = errors.New("changed in the meantime")

// Window is one window with its draft and the number of its live release, 0 where none is published.
type Window struct {
	Name          string
	LiveRelease   int
	Draft         string
	DraftVersion  int
	DraftUpdated  time.Time
	DraftBy       string
	LiveDocument  string
	LivePublished time.Time
	LastRequest   *time.Time // nil: never
}

const windowColumns = `select w.name, coalesce(w.live_release, 0), d.document, d.version, d.updated_at, d.updated_by,
			coalesce(r.document, ''), coalesce(r.created_at, 'epoch'),
			greatest((select max(used_at) from client c where c.window_id = w.id), (select max(used_at) from account a where a.window_id = w.id),
				(select max(last_at) from usage u where u.window_id = w.id))
	from api_window w join draft d on d.window_id = w.id
	left join release r on r.window_id = w.id and r.number = w.live_release`

func scanWindow(row pgx.CollectableRow) (*Window, error) {
	w := &Window{}
	return w, row.Scan(&w.Name, &w.LiveRelease, &w.Draft, &w.DraftVersion, &w.DraftUpdated, &w.DraftBy, &w.LiveDocument, &w.LivePublished,
		&w.LastRequest)
}

// Windows lists all windows by name.
func (s *Store) Windows(ctx context.Context) ([]*Window, error) {
	return list(ctx, s, scanWindow, windowColumns+" order by w.name")
}

// Window finds a window.
func (s *Store) Window(ctx context.Context, name string) (*Window, error) {
	return one(ctx, s, scanWindow, windowColumns+" where w.name = $1", name)
}

// draftsKept is how many versions of a draft are remembered.
const draftsKept = 100

// Draft is a document that becomes a window's draft. Of is the version that it was made of, 0 for a new window. How says what made it; Sent
// is the document that was sent, where edits of others were put together with it.
type Draft struct {
	Window, Document, By, How, Sent string
	Of                              int
}

// SaveDraft keeps a document as a window's draft. ErrChanged says that the draft is not any more what the document was made of.
func (s *Store) SaveDraft(ctx context.Context, d Draft) error {
	a := &act{"save draft", d.Window, map[string]any{"version": d.Of + 1, "how": d.How}}
	return s.act(ctx, a, func(ctx context.Context, tx pgx.Tx) error {
		if d.Of == 0 {
			a.name = "open window"
			tag, err := tx.Exec(ctx, "insert into api_window (name) values ($1) on conflict do nothing", d.Window)
			if err != nil {
				return err
			}
			if tag.RowsAffected() == 0 {
				return fault.New(fault.Conflict, "window.exists", "there is a window %q already", d.Window)
			}
			if _, err := tx.Exec(ctx,
				"insert into draft (window_id, document, updated_by, version) select id, '', '', 0 from api_window where name = $1",
				d.Window); err != nil {
				return err
			}
		}
		var id int
		err := tx.QueryRow(ctx, `update draft set document = $2, updated_by = $3, updated_at = clock_timestamp(), version = version + 1
			where window_id = (select id from api_window where name = $1) and version = $4 returning window_id`, d.Window, d.Document, d.By,
			d.Of).Scan(&id)
		if none(err) == ErrNone {
			var there bool
			if err := tx.QueryRow(ctx, "select exists (select from api_window where name = $1)", d.Window).Scan(&there); err != nil || there {
				return errors.Join(err, ErrChanged)
			}
			return ErrNone
		}
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `with old as (delete from draft_version where window_id = $1 and number <= $2 - $3::integer)
			insert into draft_version (window_id, number, document, how, saved_by, sent) values ($1, $2, $4, $5, $6, nullif($7, ''))`, id, d.Of+1,
			draftsKept, d.Document, d.How, d.By, d.Sent)
		return err
	})
}

// DraftVersion is one version of a draft.
type DraftVersion struct {
	Number   int
	Document string
	How      string
	SavedAt  time.Time
	SavedBy  string
	Sent     string // what was sent, apart from merged edits of others
}

const versionColumns = `select v.number, v.document, v.how, v.saved_at, v.saved_by, coalesce(v.sent, v.document) from draft_version ` +
	`v join api_window w on w.id = v.window_id
	where w.name = $1`

// DraftVersions lists the versions of a window's draft, the newest first.
func (s *Store) DraftVersions(ctx context.Context, window string) ([]DraftVersion, error) {
	return list(ctx, s, pgx.RowToStructByPos[DraftVersion], versionColumns+" order by number desc", window)
}

// DraftVersion finds a version of a window's draft.
func (s *Store) DraftVersion(ctx context.Context, window string, number int) (DraftVersion, error) {
	return one(ctx, s, pgx.RowToStructByPos[DraftVersion], versionColumns+" and v.number = $2", window, number)
}

// LastDraftBy finds the last version of a window's draft that somebody saved.
func (s *Store) LastDraftBy(ctx context.Context, window, by string) (DraftVersion, error) {
	return one(ctx, s, pgx.RowToStructByPos[DraftVersion], versionColumns+" and v.saved_by = $2 order by number desc limit 1", window, by)
}

// Release is a published document with the catalog it was bound to.
type Release struct {
	Number    int
	Document  string
	Catalog   *catalog.Catalog
	Note      string
	CreatedAt time.Time
	CreatedBy string
	Changes   json.RawMessage // to the release that was live before
	Restores  int             // the release whose document it is, 0 for none
}

const releaseColumns = `select r.number, r.document, r.catalog, r.note, r.created_at, r.created_by, r.changes, coalesce(r.restores, 0)
	from api_window w join release r on r.window_id = w.id`

// NewRelease is a release that is to be made, over the one that was live when it was compared, 0 for none.
type NewRelease struct {
	Release
	Description []byte // compressed
	Over        int
	Draft       int    // the version of the draft that it is made of, 0 where it is not of the draft
	SkipChecks  string // why the suites that the document demands were not run
}

// Publish keeps a release under the next number and makes it live, in one step. ErrChanged says that another release is live by now, or
// that the draft has changed.
func (s *Store) Publish(ctx context.Context, window string, r NewRelease) (number int, err error) {
	a := &act{"publish", window, map[string]any{"note": r.Note}}
	if r.SkipChecks != "" {
		a.details["skip_checks"] = r.SkipChecks
	}
	if r.Restores > 0 {
		a.name, a.details["restores"] = "restore", r.Restores
	}
	err = s.act(ctx, a, func(ctx context.Context, tx pgx.Tx) error {
		var id, live, draft int
		err := tx.QueryRow(ctx, `select w.id, coalesce(w.live_release, 0), d.version from api_window w join draft d on d.window_id = w.id
			where w.name = $1 for update`, window).Scan(&id, &live, &draft)
		if err != nil {
			return none(err)
		}
		if live != r.Over || r.Draft != 0 && r.Draft != draft {
			return ErrChanged
		}
		err = tx.QueryRow(ctx, `insert into release (window_id, number, document, catalog, note, created_by, changes, description, restores)
			select $1, coalesce(max(number), 0) + 1, $2, $3, $4, $5, $6, $7, nullif($8, 0) from release where window_id = $1 returning number`, id,
			r.Document, r.Catalog, r.Note, r.CreatedBy, r.Changes, r.Description, r.Restores).Scan(&number)
		if err != nil {
			return err
		}
		a.details["release"] = number
		_, err = tx.Exec(ctx, "update api_window set live_release = $2 where id = $1", id, number)
		return err
	})
	return number, err
}

func scanRelease(row pgx.CollectableRow) (*Release, error) {
	return pgx.RowToAddrOfStructByPos[Release](row)
}

// LiveRelease finds the release that a window serves.
func (s *Store) LiveRelease(ctx context.Context, window string) (*Release, error) {
	return one(ctx, s, scanRelease, releaseColumns+" and r.number = w.live_release where w.name = $1", window)
}

// Release finds a release of a window.
func (s *Store) Release(ctx context.Context, window string, number int) (*Release, error) {
	return one(ctx, s, scanRelease, releaseColumns+" where w.name = $1 and r.number = $2", window, number)
}

// Releases lists the releases of a window, the newest first, without their catalogs and documents.
func (s *Store) Releases(ctx context.Context, window string) ([]*Release, error) {
	return list(ctx, s, scanRelease, `select r.number, '', null::jsonb, r.note, r.created_at, r.created_by, r.changes, coalesce(r.restores, 0)
		from api_window w join release r on r.window_id = w.id where w.name = $1 order by r.number desc`, window)
}

// ReleaseDescription is the description of a release, compressed; nil where it was made before descriptions were kept.
func (s *Store) ReleaseDescription(ctx context.Context, window string, number int) (text []byte, err error) {
	err = s.pool.QueryRow(ctx, `select r.description from api_window w join release r on r.window_id = w.id where w.name = $1
		and r.number = $2`, window, number).Scan(&text)
	return text, none(err)
}

// CloseWindow removes a window with its draft, its releases and its callers.
func (s *Store) CloseWindow(ctx context.Context, window string) error {
	return s.mustAct(ctx, act{name: "close window", target: window}, "delete from api_window where name = $1", window)
}

// Use is how often a caller used a resource, or a field of it.
type Use struct {
	Window, Caller, Operation, Target string
	Count                             int64
}

// AddUses adds to the counts of today.
func (s *Store) AddUses(ctx context.Context, uses []Use) error {
	columns := [4][]string{}
	counts := make([]int64, len(uses))
	for i, u := range uses {
		for j, text := range []string{u.Window, u.Caller, u.Operation, u.Target} {
			columns[j] = append(columns[j], text)
		}
		counts[i] = u.Count
	}
	_, err := s.pool.Exec(ctx, `insert into usage (window_id, day, caller, operation, target, count)
		select w.id, current_date, u.caller, u.operation, u.target, u.count
		from unnest($1::text[], $2::text[], $3::text[], $4::text[], $5::bigint[]) u (name, caller, operation, target, count)
		join api_window w on w.name = u.name order by 1, 3, 4, 5
		on conflict (window_id, day, caller, operation, target) do update set count = usage.count + excluded.count,
		last_at = now()`, columns[0], columns[1],
		columns[2], columns[3], counts)
	return err
}

// usesKept is for how many days uses are remembered.
const usesKept = "31 days"

// ForgetUses forgets uses of long ago.
func (s *Store) ForgetUses(ctx context.Context) error {
	_, err := s.pool.Exec(ctx, "delete from usage where day < current_date - interval '"+usesKept+"'")
	return err
}

// Users lists who used what of a window in the last seven days: callers by target.
func (s *Store) Users(ctx context.Context, window string) (map[string][]string, error) {
	rows, err := s.pool.Query(ctx,
		`select u.target, array_agg(distinct u.caller order by u.caller) from usage u join api_window w on w.id = u.window_id
		where w.name = $1 and u.day > current_date - 7 group by u.target`, window)
	if err != nil {
		return nil, err
	}
	out := map[string][]string{}
	var target string
	var callers []string
	_, err = pgx.ForEachRow(rows, []any{&target, &callers}, func() error {
		out[target] = append([]string{}, callers...)
		return nil
	})
	return out, err
}
