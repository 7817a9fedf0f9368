package windows

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"eagerwindow/internal/core/compare"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/data"
	"eagerwindow/internal/records"
)

// DraftAPI serves a window as its draft has it, bound to the source as it was when the draft was last saved or first asked for.
func (s *Registry) DraftAPI(ctx context.Context, name string) (*data.API, error) {
	w, err := s.window(ctx, name)
	if err != nil {
		return nil, err
	}
	draftOf := func() *data.API {
		s.mu.Lock()
		defer s.mu.Unlock()
		if known, ok := s.drafts[name]; ok && known.updated.Equal(w.DraftUpdated) {
			return known.api
		}
		return nil
	}
	if api := draftOf(); api != nil {
		return api, nil
	}
	defer s.lock("the draft of " + name)()
	if api := draftOf(); api != nil { // somebody else has bound it
		return api, nil
	}
	b, err := s.bind(ctx, []byte(w.Draft))
	if err != nil {
		return nil, err
	}
	api := s.api(b, 0)
	s.mu.Lock()
	s.drafts[name] = draft{api, w.DraftUpdated}
	s.mu.Unlock()
	return api, nil
}

// Draft is the document of a window as it is being edited.
func (s *Registry) Draft(ctx context.Context, name string) (*Document, error) {
	w, err := s.window(ctx, name)
	if err != nil {
		return nil, err
	}
	return &Document{Document: w.Draft, Version: w.DraftVersion, SavedAt: &w.DraftUpdated, SavedBy: w.DraftBy}, nil
}

// How a draft came to be, as its history says.
const (
	pushed    = "pushed"
	merged    = "merged"
	granted   = "a grant was edited"
	discarded = "discarded: it is the live document again"
	opened    = "opened"
)

// SaveDraft binds a document to its source as that is now and keeps it as the window's draft, whatever was there; with mistakes in it
// nothing is kept, and all of them are reported. A window that does not exist yet is made.
func (s *Registry) SaveDraft(ctx context.Context, name, document, by string) (*Window, error) {
	return s.PushDraft(ctx, name, Push{Document: document, Replace: true}, by)
}

// PushDraft saves a document as the draft of a window. Where others have changed the draft since the version that the document was made of,
// their edits and those of the document are put together, if they do not touch.
func (s *Registry) PushDraft(ctx context.Context, name string, in Push, by string) (*Window, error) {
	for {
		out, err := s.push(ctx, name, in, by)
		if !errors.Is(err, records.ErrChanged) { // somebody saved it just now
			return out, err
		}
	}
}

func (s *Registry) push(ctx context.Context, name string, in Push, by string) (*Window, error) {
	w, err := s.records.Window(ctx, name)
	if errors.Is(err, records.ErrNone) {
		w, err = &records.Window{}, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read window %q: %w", name, err)
	}
	document, how := in.Document, in.How
	if how == "" {
		how = pushed
	}
	if !in.Replace && w.DraftVersion > 0 {
		base, err := s.baseOf(ctx, w, in.Base, by)
		if err != nil {
			return nil, err
		}
		if base != w.Draft {
			if document, err = window.Merge(base, in.Document, w.Draft); err != nil {
				return nil, err
			}
			if document != in.Document {
				how = merged
			}
		}
	}
	return s.save(ctx, w, records.Draft{Window: name, Document: document, By: by, How: how, Sent: in.Document, Of: w.DraftVersion})
}

// save binds a document and saves it as the next version of a draft. ErrChanged says that somebody else has done so.
func (s *Registry) save(ctx context.Context, w *records.Window, d records.Draft) (*Window, error) {
	b, err := s.bind(ctx, []byte(d.Document))
	if err != nil {
		return nil, err
	}
	if b.policy.Model().Name != d.Window {
		return nil, fault.New(fault.Invalid, "window.other", "the document is of window %q, but it was sent as the draft of %q",
			b.policy.Model().Name, d.Window)
	}
	if d.Document != w.Draft || d.Of == 0 {
		err := s.records.SaveDraft(ctx, d)
		if errors.Is(err, records.ErrNone) { // it has just been closed
			return nil, s.NoWindow(ctx, d.Window)
		}
		if err != nil {
			return nil, fmt.Errorf("save the draft of %q: %w", d.Window, err)
		}
	}
	s.forgetDraft(d.Window) // it is bound to the source as that is now
	if w, err = s.window(ctx, d.Window); err != nil {
		return nil, err
	}
	out := s.summary(w)
	if d.How == merged {
		out.Merged = d.Document
	}
	for _, d := range b.policy.Warnings() {
		out.Warnings = append(out.Warnings, d.String())
	}
	if w.LiveRelease > 0 {
		diff, err := s.difference(ctx, d.Window, w, b)
		if err != nil {
			return nil, err
		}
		counts := compare.Count(diff.Changes)
		out.Difference = &counts
	}
	return &out, nil
}

// baseOf is the document that a push was made of: the version that it names, or else the last one that whoever pushes has saved.
func (s *Registry) baseOf(ctx context.Context, w *records.Window, number int, by string) (string, error) {
	if number == 0 {
		last, err := s.records.LastDraftBy(ctx, w.Name, by)
		switch {
		case errors.Is(err, records.ErrNone) && w.Draft == w.LiveDocument:
			return w.Draft, nil // there is nothing of others that could be lost
		case errors.Is(err, records.ErrNone):
			return "", fault.New(fault.Conflict, "draft.unseen", "the draft of %q was last saved by %s, and you have not seen it; "+
				"run \"eager draft pull %s\" first, or push with --replace", w.Name, w.DraftBy, w.Name)
		}
		return last.Sent, err
	}
	v, err := s.version(ctx, w.Name, number)
	if err != nil {
		return "", err
	}
	return v.Document, nil
}

func (s *Registry) version(ctx context.Context, name string, number int) (records.DraftVersion, error) {
	v, err := s.records.DraftVersion(ctx, name, number)
	if errors.Is(err, records.ErrNone) {
		return v, fault.New(fault.NotFound, "draft.version", "the draft of %q has no version %d that is kept; \"eager draft log %s\" lists them",
			name, number, name)
	}
	return v, err
}

// forgetDraft lets the draft of a window be bound anew when it is asked for.
func (s *Registry) forgetDraft(name string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.drafts, name)
}

// History lists the versions of a window's draft, the newest first.
func (s *Registry) History(ctx context.Context, name string) ([]DraftVersion, error) {
	if _, err := s.window(ctx, name); err != nil {
		return nil, err
	}
	list, err := s.records.DraftVersions(ctx, name)
	out := make([]DraftVersion, len(list))
	for i, v := range list {
		out[i] = DraftVersion{Number: v.Number, How: v.How, SavedAt: v.SavedAt, SavedBy: v.SavedBy}
		if i+1 < len(list) {
			out[i].Added, out[i].Removed = changedLines(list[i+1].Document, v.Document)
		}
	}
	return out, err
}

func changedLines(from, to string) (added, removed int) {
	for line := range strings.Lines(window.Diff(from, to, "", "")) {
		switch {
		case strings.HasPrefix(line, "+++"), strings.HasPrefix(line, "---"):
		case strings.HasPrefix(line, "+"):
			added++
		case strings.HasPrefix(line, "-"):
			removed++
		}
	}
	return added, removed
}

// Version is one version of a window's draft.
func (s *Registry) Version(ctx context.Context, name string, number int) (*Document, error) {
	if _, err := s.window(ctx, name); err != nil {
		return nil, err
	}
	v, err := s.version(ctx, name, number)
	if err != nil {
		return nil, err
	}
	return &Document{Document: v.Document, Version: v.Number, SavedAt: &v.SavedAt, SavedBy: v.SavedBy}, nil
}

// Discard makes the live document the draft again.
func (s *Registry) Discard(ctx context.Context, name, by string) (*Window, error) {
	w, err := s.window(ctx, name)
	if err != nil {
		return nil, err
	}
	if w.LiveRelease == 0 {
		return nil, fault.New(fault.Conflict, "release.none", "nothing of %q is published, so there is nothing to go back to", name)
	}
	return s.PushDraft(ctx, name, Push{Document: w.LiveDocument, Replace: true, How: discarded}, by)
}

// Check binds a document and compares it with what is live, and saves nothing.
func (s *Registry) Check(ctx context.Context, document string) (*Difference, error) {
	b, err := s.bind(ctx, []byte(document))
	if err != nil {
		return nil, err
	}
	name := b.policy.Model().Name
	w, err := s.records.Window(ctx, name)
	if errors.Is(err, records.ErrNone) {
		w, err = &records.Window{Name: name}, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read window %q: %w", name, err)
	}
	d, err := s.difference(ctx, name, w, b)
	if err != nil {
		return nil, err
	}
	s.countRules(ctx, name, s.api(b, 0), d.Changes)
	d.To = "document"
	for _, warning := range b.policy.Warnings() {
		d.Warnings = append(d.Warnings, warning.String())
	}
	return d, nil
}
