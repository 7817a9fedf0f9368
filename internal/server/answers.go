package server

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"time"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/suite"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/data"
	"eagerwindow/internal/windows"
)

// How often each request of a comparison is sent, and how many there may be.
const (
	compareTimes = 5
	maxCompared  = 1000
)

// compareAnswers sends the same reads to two versions of a window.
func (s *Server) compareAnswers(ctx context.Context, name, email string, in windows.NewComparison) ([]windows.ComparedAnswer, error) {
	var sides [2]*checkRun
	var within [2]*data.Rehearsal // where statements can be counted
	for i, version := range []string{in.From, in.To} {
		run, err := s.newChecks(ctx, name, email, windows.NewChecks{Suites: []string{}, On: version})
		if err != nil {
			return nil, err
		}
		rehearsal, err := run.api.Rehearse(ctx, access.Caller{Operator: true, Subject: email}, checkTime)
		if err != nil {
			return nil, err
		}
		defer rehearsal.Close()
		sides[i], within[i] = run, rehearsal
	}
	if err := neitherKnows(sides, in.ActAs); err != nil {
		return nil, err
	}
	if len(in.Paths) == 0 {
		for _, r := range sides[0].api.Model.Resources {
			if r.Can(window.Read) && r.Query == nil {
				in.Paths = append(in.Paths, url.PathEscape(r.Name)+"?top=50")
			}
		}
	}
	list := []windows.ComparedAnswer{}
	for _, path := range in.Paths[:min(len(in.Paths), maxCompared)] {
		one := windows.ComparedAnswer{Path: path}
		var answers [2]suite.Answer
		var took [2][]float64
		for range compareTimes {
			for i, figures := range []*windows.AnswerFigures{&one.From, &one.To} {
				before, begun := within[i].Ran(), time.Now()
				a, err := sides[i].send(ctx, within[i], suite.Request{ActAs: in.ActAs, Method: "GET", Path: readable(path)})
				if err != nil {
					return nil, err
				}
				answers[i], took[i] = a, append(took[i], time.Since(begun).Seconds()*1000)
				slices.Sort(took[i])
				*figures = windows.AnswerFigures{Status: a.Status, Milliseconds: took[i][len(took[i])/2], Statements: within[i].Ran() - before,
					Bytes: len(a.Body)}
			}
		}
		one.Difference = difference("", answers[0].JSON(), answers[1].JSON())
		if one.From.Status != one.To.Status {
			one.Difference = fmt.Sprintf("status %d, then %d", one.From.Status, one.To.Status)
		}
		list = append(list, one)
	}
	return list, nil
}

// neitherKnows is the refusal of a role or a claim that neither version has. A role that one of them lacks is a difference.
func neitherKnows(sides [2]*checkRun, as string) error {
	if as == "" {
		return nil
	}
	r := &http.Request{Header: http.Header{"Act-As": {as}}}
	_, from := actAs(r, sides[0].api)
	_, to := actAs(r, sides[1].api)
	if from == nil {
		return nil
	}
	return to
}

// readable is a path that people write, with what an address needs.
func readable(path string) string {
	u := &url.URL{}
	if parsed, err := url.Parse(path); err == nil && parsed.RawQuery != "" {
		u = parsed
		if q, err := url.ParseQuery(u.RawQuery); err == nil {
			u.RawQuery = q.Encode()
		}
		return u.String()
	}
	return path
}

// difference is the first place where two values of JSON differ; notes are left out, as they tell of versions.
func difference(at string, a, b any) string {
	switch x := a.(type) {
	case map[string]any:
		y, is := b.(map[string]any)
		if !is {
			break
		}
		for _, name := range slices.Sorted(maps.Keys(x)) {
			if name[0] == '@' && name != "@count" {
				continue
			}
			other, there := y[name]
			if !there {
				return at + "/" + name + " is gone"
			}
			if d := difference(at+"/"+name, x[name], other); d != "" {
				return d
			}
		}
		for _, name := range slices.Sorted(maps.Keys(y)) {
			if _, there := x[name]; !there && name[0] != '@' {
				return at + "/" + name + " is new"
			}
		}
		return ""
	case []any:
		y, is := b.([]any)
		if !is {
			break
		}
		if len(x) != len(y) {
			return fmt.Sprintf("%s has %d items, then %d", at, len(x), len(y))
		}
		for i := range x {
			if d := difference(fmt.Sprintf("%s/%d", at, i), x[i], y[i]); d != "" {
				return d
			}
		}
		return ""
	}
	one, _ := json.Marshal(a)
	other, _ := json.Marshal(b)
	if string(one) != string(other) {
		return fmt.Sprintf("%s is %.40s, then %.40s", at, one, other)
	}
	return ""
}
