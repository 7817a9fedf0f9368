package windows

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/text/language"
	"golang.org/x/text/message"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/compare"
	"eagerwindow/internal/core/doctor"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/data"
	"eagerwindow/internal/postgres"
)

// Finding is something that is not as it should be.
type Finding = doctor.Finding

// Doctor finds what is not as it should be between a window and its database: as the live release has it, or the draft where there is none.
func (s *Registry) Doctor(ctx context.Context, name string) ([]Finding, error) {
	w, err := s.window(ctx, name)
	if err != nil {
		return nil, err
	}
	out := []Finding{}
	var live *data.API
	if w.LiveRelease > 0 {
		if live, err = s.Live(ctx, name); err == nil {
			drift, err := s.DriftOf(ctx, name)
			if _, is := fault.From(err); err != nil && !is { // a source that is away is told of below
				return nil, err
			}
			out = append(out, ofDrift(drift)...)
		}
	}
	b, err := s.bind(ctx, []byte(w.Draft))
	if f, is := fault.From(err); is {
		about, do := "drift", "edit the document and push it"
		if f.Kind == fault.Unavailable || strings.HasPrefix(f.Code, "source.") {
			about, do = "source", "look at \"eager source list\", and give the source another DSN with \"eager source set\""
		}
		return append(out, Finding{About: about, Target: name, Message: "the draft can't be served: " + err.Error(), Do: do}), nil
	}
	if err != nil {
		return nil, err
	}
	facts, err := postgres.Facts(ctx, b.pool)
	if err != nil {
		return nil, err
	}
	out = append(out, doctor.Examine(b.policy, facts)...)
	for _, ix := range missingIndexes(b.policy, live) {
		f, err := s.tryIndex(ctx, b.pool, ix)
		if err != nil {
			s.log.Warn("an index can't be tried", "window", name, "error", err)
			continue
		}
		out = append(out, f...)
	}
	return out, nil
}

// ofDrift is what a drift breaks or opens.
func ofDrift(d *Drift) (out []Finding) {
	if d == nil {
		return nil
	}
	if d.Wrong != "" {
		out = append(out, Finding{About: "drift", Target: d.Window, Message: "the live document does not fit the database any more: " + d.Wrong,
			Do: "edit the document, and publish it"})
	}
	for _, c := range compare.Brief(d.Changes) {
		switch {
		case c.Widens:
			out = append(out, Finding{About: "drift", Target: c.Target, Message: c.String(),
				Do: "name it in the document, or leave it out with \"expose: false\", and publish"})
		case c.Effect == compare.Breaking:
			out = append(out, Finding{About: "drift", Target: c.Target, Message: withNotes(c),
				Do: "publish it, or undo the change in the database"})
		}
	}
	return out
}

// slowShapes is how many of the slowest statements are looked at, and slowFrom from which time on they are.
const (
	slowShapes = 20
	slowFrom   = 20 * time.Millisecond
)

// missingIndexes lists the indexes that foreign keys, row rules and slow statements would use.
func missingIndexes(p *access.Policy, live *data.API) []doctor.Index {
	list := doctor.Indexes(p)
	if live == nil {
		return list
	}
	for _, slow := range live.Slowest(slowShapes, slowFrom) {
		for _, ix := range doctor.OfPlan(slow.Plan, fmt.Sprintf("%s takes %s", slow.Shape, slow.Took.Round(time.Millisecond))) {
			same := func(o doctor.Index) bool {
				return o.Table.QualifiedName() == ix.Table.QualifiedName() && slices.Equal(o.Columns, ix.Columns)
			}
			if !slices.ContainsFunc(list, same) {
				list = append(list, ix)
			}
		}
	}
	return list
}

// inEnglish writes numbers with separators.
var inEnglish = message.NewPrinter(language.English)

// worthIt is how much of its cost a statement must be spared for an index to be advised.
const worthIt = 0.5

// tryIndex is the finding that an index is missing, if the database would use it; where it can't be tried, it is advised.
func (s *Registry) tryIndex(ctx context.Context, source *postgres.Source, ix doctor.Index) ([]Finding, error) {
	paper, err := postgres.OnPaper(ctx, source, ix)
	if err != nil {
		if f, is := fault.From(err); is {
			err = errors.New(f.Message)
		}
		return nil, err
	}
	f := Finding{About: "index", Target: ix.Table.String(), SQL: ix.Definition(true),
		Message: inEnglish.Sprintf("no index on (%s) of about %d rows, for %s", strings.Join(ix.Columns, ", "), ix.Table.RowEstimate, ix.Why)}
	switch {
	case paper == nil:
		if whole, err := postgres.ReadsWhole(ctx, source, ix); err != nil || !whole {
			return nil, err
		}
		f.Message += "; as planned now, the whole table is read"
		f.Do = "with the extension hypopg in the database, it would be tried on paper"
	case paper.After > paper.Before*worthIt:
		return nil, nil
	default:
		f.Message += fmt.Sprintf("; on paper, the planner's cost falls from %.0f to %.0f", paper.Before, paper.After)
	}
	return []Finding{f}, nil
}
