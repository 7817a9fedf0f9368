package windows

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/probes"
	"eagerwindow/internal/core/suite"
	"eagerwindow/internal/data"
	"eagerwindow/internal/records"
)

// Suite is a suite of checks that is kept for a window; Asked is a request that an operator has made of its draft; Run is one execution of
// suites.
type (
	Suite = records.Suite
	Asked = records.Asked
	Run   = records.Run
)

var suiteName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,62}$`)

// Suites lists those that are kept for a window.
func (s *Registry) Suites(ctx context.Context, name string) ([]Suite, error) {
	if _, err := s.window(ctx, name); err != nil {
		return nil, err
	}
	list, err := s.records.Suites(ctx, name)
	if err != nil {
		return nil, fmt.Errorf("list the suites of %q: %w", name, err)
	}
	return slices.Grow(list, 0), nil
}

// SuiteText is the text of a suite that is kept.
func (s *Registry) SuiteText(ctx context.Context, window, name string) (string, error) {
	list, err := s.Suites(ctx, window)
	if err != nil {
		return "", err
	}
	names := make([]string, len(list))
	for i, one := range list {
		if names[i] = one.Name; one.Name == name {
			return one.Text, nil
		}
	}
	return "", fault.New(fault.NotFound, "suite.unknown", "%q has no suite %q%s", window, name, fault.Suggest(name, append(names,
		probes.Suites...)))
}

// SaveSuite keeps a suite of a window; one with mistakes in it is refused.
func (s *Registry) SaveSuite(ctx context.Context, window, name, text, by string) (Suite, error) {
	switch {
	case !suiteName.MatchString(name):
		return Suite{}, fault.New(fault.Invalid, "suite.name",
			"%q can't be the name of a suite: use lower-case letters, digits and hyphens, a letter first", name)
	case slices.Contains(probes.Suites, name):
		return Suite{}, fault.New(fault.Conflict, "suite.name", "%q is the name of a suite that follows from the document", name)
	}
	if _, err := suite.Parse([]byte(text)); err != nil {
		return Suite{}, err
	}
	if _, err := s.window(ctx, window); err != nil {
		return Suite{}, err
	}
	out := Suite{Name: name, Text: text, SavedBy: by}
	if err := s.records.SaveSuite(ctx, window, out); err != nil {
		return Suite{}, fmt.Errorf("keep suite %q of %q: %w", name, window, err)
	}
	return out, nil
}

// Amendments are criteria of a suite to be rewritten.
type Amendments struct {
	Amendments []suite.Amendment `json:"amendments"`
}

// AmendSuite rewrites criteria of a suite that is kept.
func (s *Registry) AmendSuite(ctx context.Context, window, name string, list []suite.Amendment, by string) (Suite, error) {
	text, err := s.SuiteText(ctx, window, name)
	if err != nil {
		return Suite{}, err
	}
	amended, err := suite.Amend([]byte(text), list)
	if err != nil {
		return Suite{}, err
	}
	return s.SaveSuite(ctx, window, name, string(amended), by)
}

// RemoveSuite forgets a suite.
func (s *Registry) RemoveSuite(ctx context.Context, window, name string) error {
	err := s.records.RemoveSuite(ctx, window, name)
	if errors.Is(err, records.ErrNone) {
		return fault.New(fault.NotFound, "suite.unknown", "%q has no suite %q", window, name)
	}
	return err
}

// VersionAPI is a version of a window as it answers requests: its draft, what is live, or an earlier release.
func (s *Registry) VersionAPI(ctx context.Context, name, version string) (*data.API, error) {
	switch version {
	case "", "draft":
		return s.DraftAPI(ctx, name)
	case "live":
		return s.Live(ctx, name)
	}
	var number int
	if _, err := fmt.Sscanf(version, "%d", &number); err != nil || fmt.Sprint(number) != version {
		return nil, fault.New(fault.Invalid, "version.unknown", "%q is no version; write draft, live, or the number of a release", version)
	}
	_, b, err := s.released(ctx, name, number)
	if err != nil {
		return nil, err
	}
	if b.pool, err = s.pool(ctx, b.policy.Model().Document.Source.Value); err != nil {
		return nil, err
	}
	return s.api(b, number), nil
}

// SuiteText is a suite as it is sent.
type SuiteText struct {
	Text string `json:"text"`
}

// NewChecks says which suites are to be run, and on what.
type NewChecks struct {
	Suites    []string        `json:"suites,omitempty"`    // by name; nothing at all: those that follow from the document
	Documents []NamedDocument `json:"documents,omitempty"` // suites that are sent along
	On        string          `json:"on,omitempty"`        // draft, live, or the number of a release
	Only      string          `json:"only,omitempty"`      // only checks whose name contains this
	Seed      uint64          `json:"seed,omitempty"`
	Inputs    map[string]any  `json:"inputs,omitempty"`
	Lasting   bool            `json:"lasting,omitempty"` // no rehearsal: what is written stays
}

// NamedDocument is a suite that is sent along.
type NamedDocument struct {
	Name string `json:"name"`
	Text string `json:"text"`
}

// CallersForChecks are claims that clients of a window have, for checks to act with, by role.
func (s *Registry) CallersForChecks(ctx context.Context, name string, m *model.Model) (map[string]probes.Caller, error) {
	clients, err := s.records.Clients(ctx, name)
	if err != nil {
		return nil, fmt.Errorf("list the clients of %q: %w", name, err)
	}
	out := map[string]probes.Caller{}
	for _, c := range clients {
		for _, role := range c.Roles {
			known := m.Role(role)
			if _, has := out[role]; has || known == nil {
				continue
			}
			caller := probes.Caller{Claims: map[string]string{}}
			for _, claim := range known.Claims {
				value := fmt.Sprint(c.Claims[claim.Name])
				if claim.Type.Kind == model.String {
					value = "'" + strings.ReplaceAll(value, "'", "''") + "'"
				}
				caller.Claims[claim.Name] = value
			}
			out[role] = caller
		}
	}
	return out, nil
}

// NewComparison says what is to be asked of two versions of a window.
type NewComparison struct {
	From  string   `json:"from"`
	To    string   `json:"to"`
	ActAs string   `json:"act_as,omitempty"` // as the header has it; "" as the operator
	Paths []string `json:"paths,omitempty"`  // below the window; none: a page of each resource
}

// ComparedAnswer is what two versions answer to the same read.
type ComparedAnswer struct {
	Path       string        `json:"path"`
	From       AnswerFigures `json:"from"`
	To         AnswerFigures `json:"to"`
	Difference string        `json:"difference"` // the first place where they differ; "" for the same
}

// AnswerFigures are of one answer.
type AnswerFigures struct {
	Status       int     `json:"status"`
	Milliseconds float64 `json:"milliseconds"` // the median of some
	Statements   int     `json:"statements"`
	Bytes        int     `json:"bytes"`
}

// KeepAsked keeps a request that an operator has made of a draft.
func (s *Registry) KeepAsked(ctx context.Context, window, operator string, a Asked) error {
	return s.records.KeepAsked(ctx, window, operator, a)
}

// Asked lists what an operator has asked of a window, the last first.
func (s *Registry) Asked(ctx context.Context, window, operator string, limit int) ([]Asked, error) {
	if _, err := s.window(ctx, window); err != nil {
		return nil, err
	}
	list, err := s.records.Asked(ctx, window, operator, limit)
	if err != nil {
		return nil, fmt.Errorf("list what was asked of %q: %w", window, err)
	}
	return list, nil
}
