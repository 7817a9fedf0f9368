package windows

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/compare"
	"eagerwindow/internal/core/describe"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/records"
)

// side is a bound document as it is compared.
func (b *bound) side() compare.Side { return compare.Side{Policy: b.policy, Catalog: b.catalog} }

// released binds the document of a release to the catalog that it was published with.
func (s *Registry) released(ctx context.Context, name string, number int) (*records.Release, *bound, error) {
	r, err := s.records.Release(ctx, name, number)
	if errors.Is(err, records.ErrNone) {
		if _, err := s.window(ctx, name); err != nil {
			return nil, nil, err
		}
		return nil, nil, fault.New(fault.NotFound, "release.unknown", "%q has no release %d; \"eager releases %s\" lists them", name, number,
			name)
	}
	if err != nil {
		return nil, nil, fmt.Errorf("read release %d of %q: %w", number, name, err)
	}
	b, err := parseAndBind([]byte(r.Document), r.Catalog)
	if err != nil {
		return nil, nil, fmt.Errorf("bind release %d of %q: %w", number, name, err)
	}
	return r, b, nil
}

// difference compares what is live with a bound document. Where nothing is live there are no changes.
func (s *Registry) difference(ctx context.Context, name string, w *records.Window, b *bound) (*Difference, error) {
	d := &Difference{Window: name, From: strconv.Itoa(w.LiveRelease), To: "draft", Changes: []compare.Change{}}
	if w.LiveRelease == 0 {
		d.From = ""
		return d, nil
	}
	live, was, err := s.released(ctx, name, w.LiveRelease)
	if f, is := fault.From(err); is && f.Code == "document.invalid" { // of an older service
		d.Changes = append(d.Changes, compare.Change{Effect: compare.Breaking, Area: compare.Endpoint,
			Message: "what is live can't be compared with: " + f.Error()})
		return d, nil
	}
	if err != nil {
		return nil, err
	}
	d.Changes = append(d.Changes, compare.Versions(was.side(), b.side())...)
	d.Text = string(b.document) != live.Document
	d.Catalog = !sameCatalog(live.Catalog, b.catalog)
	return d, s.callers(ctx, name, d.Changes)
}

// sameCatalog reports whether two catalogs are the same but for how many rows there are.
func sameCatalog(a, b *catalog.Catalog) bool {
	plain := func(c *catalog.Catalog) []byte {
		out := *c
		out.Version = 0
		out.Tables = make([]*catalog.Table, len(c.Tables))
		for i, t := range c.Tables {
			copied := *t
			copied.RowEstimate = 0
			out.Tables[i] = &copied
		}
		text, _ := json.Marshal(out) // of plain values
		return text
	}
	return bytes.Equal(plain(a), plain(b))
}

// callers notes with each breaking change who lately used what it is about.
func (s *Registry) callers(ctx context.Context, name string, changes []compare.Change) error {
	if !slices.ContainsFunc(changes, func(c compare.Change) bool { return c.Effect == compare.Breaking }) {
		return nil
	}
	users, err := s.records.Users(ctx, name)
	if err != nil {
		return fmt.Errorf("read who uses %q: %w", name, err)
	}
	for i, c := range changes {
		if c.Effect == compare.Breaking && c.Area != compare.Description {
			changes[i].Callers = users[c.Used()]
		}
	}
	return nil
}

// Difference compares two versions of a window: "draft", or the number of a release; "" is what is live, or the draft.
func (s *Registry) Difference(ctx context.Context, name, from, to string) (*Difference, error) {
	w, err := s.window(ctx, name)
	if err != nil {
		return nil, err
	}
	if from == "" {
		from = strconv.Itoa(w.LiveRelease)
	}
	if to == "" {
		to = "draft"
	}
	if from == "0" {
		return nil, fault.New(fault.Conflict, "release.none", "nothing of %q is published, so there is nothing to compare with", name)
	}
	documents, sides := [2]string{}, [2]compare.Side{}
	var last *bound
	for i, version := range []string{from, to} {
		if version == "draft" {
			b, err := s.bind(ctx, []byte(w.Draft))
			if err != nil {
				return nil, err
			}
			documents[i], sides[i], last = w.Draft, b.side(), b
			continue
		}
		number, err := strconv.Atoi(version)
		if err != nil {
			return nil, fault.New(fault.Invalid, "release.number", "%q is neither \"draft\" nor the number of a release", version)
		}
		r, b, err := s.released(ctx, name, number)
		if err != nil {
			return nil, err
		}
		documents[i], sides[i], last = r.Document, b.side(), b
	}
	d := &Difference{Window: name, From: from, To: to, Changes: append([]compare.Change{}, compare.Versions(sides[0], sides[1])...),
		Text: documents[0] != documents[1], Catalog: !sameCatalog(sides[0].Catalog, sides[1].Catalog),
		Diff: strings.TrimSuffix(window.Diff(documents[0], documents[1], versionName(from), versionName(to)), "\n")}
	if err := s.callers(ctx, name, d.Changes); err != nil {
		return nil, err
	}
	if last.pool, err = s.pool(ctx, last.policy.Model().Document.Source.Value); err == nil { // without a source nothing can be counted
		s.countRules(ctx, name, s.api(last, 0), d.Changes)
	}
	return d, nil
}

// versionName is a version in words.
func versionName(version string) string {
	if version == "draft" {
		return version
	}
	return "release " + version
}

// Publish makes the draft, or the document of an earlier release, a release and the release live. Callers see the old one or the new one,
// whole. It compares first, and stops where callers would break, or where the database opens more than the document names.
func (s *Registry) Publish(ctx context.Context, name string, in NewRelease, by string) (*Release, error) {
	for {
		out, err := s.publish(ctx, name, in, by)
		if !errors.Is(err, records.ErrChanged) { // somebody published or saved just now: compare with that
			return out, err
		}
	}
}

func (s *Registry) publish(ctx context.Context, name string, in NewRelease, by string) (*Release, error) {
	w, err := s.window(ctx, name)
	if err != nil {
		return nil, err
	}
	document, draft, note := w.Draft, w.DraftVersion, in.Note
	if in.Restore != 0 {
		r, err := s.records.Release(ctx, name, in.Restore)
		if errors.Is(err, records.ErrNone) {
			return nil, fault.New(fault.NotFound, "release.unknown", "%q has no release %d; \"eager releases %s\" lists them", name, in.Restore,
				name)
		}
		if err != nil {
			return nil, fmt.Errorf("read release %d of %q: %w", in.Restore, name, err)
		}
		document, draft = r.Document, 0
		if note == "" {
			note = fmt.Sprintf("Restored from release %d.", in.Restore)
		}
	}
	b, err := s.bind(ctx, []byte(document))
	if err != nil {
		return nil, err
	}
	d, err := s.difference(ctx, name, w, b)
	if err != nil {
		return nil, err
	}
	s.countRules(ctx, name, s.api(b, 0), d.Changes)
	if err := d.stop(w.LiveRelease, in); err != nil {
		return nil, err
	}
	description, err := compressedDescription(b)
	if err != nil {
		return nil, err
	}
	changes, err := json.Marshal(d.Changes)
	if err != nil {
		return nil, err
	}
	number, err := s.records.Publish(ctx, name, records.NewRelease{Release: records.Release{Document: document, Catalog: b.catalog, Note: note,
		CreatedBy: by, Changes: changes, Restores: in.Restore}, Description: description, Over: w.LiveRelease, Draft: draft,
		SkipChecks: in.SkipChecks})
	if err != nil {
		return nil, fmt.Errorf("publish %q: %w", name, err)
	}
	if err := s.reload(ctx, name); err != nil {
		return nil, err
	}
	s.lookSoon()
	return &Release{Number: number, At: time.Now(), By: by, Note: note, Live: true, Counts: compare.Count(d.Changes), Changes: d.Changes,
		Restores: in.Restore}, nil
}

// stop is the refusal of a release that has no changes, or changes that were not allowed. The details are these changes.
func (d *Difference) stop(live int, in NewRelease) error {
	if live > 0 && !d.Text && !d.Catalog && len(d.Changes) == 0 {
		what := "the draft"
		if in.Restore > 0 {
			what = fmt.Sprintf("release %d", in.Restore)
		}
		return fault.New(fault.Conflict, "release.same", "%s of %q is the same as release %d, which is live; there is nothing to publish", what,
			d.Window, live)
	}
	var stopped fault.List
	var flags []string
	for _, kind := range []struct {
		allowed bool
		flag    string
		is      func(compare.Change) bool
		code    string
	}{
		{in.AllowWidening, "--allow-widening", func(c compare.Change) bool { return c.Widens }, "release.widens"},
		{in.AllowBreaking, "--allow-breaking", func(c compare.Change) bool { return c.Effect == compare.Breaking }, "release.breaks"},
	} {
		if kind.allowed {
			continue
		}
		found := false
		for _, c := range compare.Brief(d.Changes) {
			if kind.is(c) {
				found = true
				stopped.Add(kind.code, c.Target, 0, 0, "%s", withNotes(c))
			}
		}
		if found {
			flags = append(flags, kind.flag)
		}
	}
	if stopped == nil {
		return nil
	}
	message := "the release would break callers; if that is meant, publish with --allow-breaking"
	switch {
	case len(flags) == 2:
		message = "the release would break callers, and open what the document does not name; if both are meant, publish with " +
			strings.Join(flags, " ")
	case flags[0] == "--allow-widening":
		message = "the release would open what the database has got since and the document does not name; name it, leave it out with " +
			"\"expose: false\", or publish with --allow-widening"
	}
	return &fault.Fault{Kind: fault.Conflict, Code: stopped[0].Code, Message: message, Details: stopped}
}

// withNotes is a change on one line, with for whom it is one.
func withNotes(c compare.Change) string {
	if notes := c.Notes(); notes != "" {
		return c.String() + "; " + notes
	}
	return c.String()
}

// compressedDescription is the description of all that a release exposes.
func compressedDescription(b *bound) ([]byte, error) {
	scope, err := b.policy.Scope(access.Caller{Operator: true, Subject: "release"})
	if err != nil {
		return nil, err
	}
	text, err := describe.Write(b.policy, scope, describe.Place{Server: "/api/" + b.policy.Model().Name}, describe.Form{})
	if err != nil {
		return nil, fmt.Errorf("describe the release: %w", err)
	}
	var out bytes.Buffer
	z := gzip.NewWriter(&out)
	_, _ = z.Write(text) // into memory
	err = z.Close()
	return out.Bytes(), err
}

// PolicyOf is what the roles of a release may do, as it was published.
func (s *Registry) PolicyOf(ctx context.Context, name string, number int) (*access.Policy, error) {
	_, b, err := s.released(ctx, name, number)
	if err != nil {
		return nil, err
	}
	return b.policy, nil
}

// Description is the OpenAPI document of a release, as it was when that was published.
func (s *Registry) Description(ctx context.Context, name string, number int) ([]byte, error) {
	packed, err := s.records.ReleaseDescription(ctx, name, number)
	if errors.Is(err, records.ErrNone) || err == nil && packed == nil {
		_, _, err := s.released(ctx, name, number)
		return nil, errors.Join(err, fault.New(fault.NotFound, "release.description", "release %d of %q was made before descriptions were kept",
			number, name))
	}
	if err != nil {
		return nil, err
	}
	z, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		return nil, err
	}
	return io.ReadAll(z)
}

// Releases lists the releases of a window, the newest first.
func (s *Registry) Releases(ctx context.Context, name string) ([]Release, error) {
	w, err := s.window(ctx, name)
	if err != nil {
		return nil, err
	}
	list, err := s.records.Releases(ctx, name)
	if err != nil {
		return nil, fmt.Errorf("read the releases of %q: %w", name, err)
	}
	out := make([]Release, len(list))
	for i, r := range list {
		if out[i], err = releaseOf(r, w.LiveRelease); err != nil {
			return nil, err
		}
		out[i].Changes = nil
	}
	return out, nil
}

func releaseOf(r *records.Release, live int) (Release, error) {
	out := Release{Number: r.Number, At: r.CreatedAt, By: r.CreatedBy, Note: r.Note, Live: r.Number == live, Restores: r.Restores}
	if err := json.Unmarshal(r.Changes, &out.Changes); err != nil {
		return out, fmt.Errorf("read the changes of release %d: %w", r.Number, err)
	}
	out.Counts = compare.Count(out.Changes)
	return out, nil
}

// ReleaseOf is a release with its document and what it changed.
func (s *Registry) ReleaseOf(ctx context.Context, name string, number int) (*Release, error) {
	r, _, err := s.released(ctx, name, number)
	if err != nil {
		return nil, err
	}
	w, err := s.window(ctx, name)
	if err != nil {
		return nil, err
	}
	out, err := releaseOf(r, w.LiveRelease)
	out.Document = r.Document
	return &out, err
}
