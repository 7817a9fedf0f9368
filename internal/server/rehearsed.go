package server

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"maps"
	"net/http"
	"net/textproto"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/jsontree"
	"eagerwindow/internal/core/suite"
	"eagerwindow/internal/data"
	"eagerwindow/internal/windows"
)

// maxShown is how many rows a rehearsal shows before and after.
const maxShown = 20

// rehearseOnce serves a write in a rehearsal of its own, and tells what it did to each row.
func (s *Server) rehearseOnce(r *http.Request, email string) (any, error) {
	in, err := inputUpTo[windows.Write](r, maxBulk)
	if err != nil {
		return nil, err
	}
	ctx, name := r.Context(), chi.URLParam(r, "window")
	api, err := s.service.VersionAPI(ctx, name, in.On)
	if err != nil {
		return nil, err
	}
	lasting, err := s.service.Lasting(ctx, api, in.Method == http.MethodPost)
	if err != nil {
		return nil, err
	}
	rehearsal, err := api.Rehearse(ctx, access.Caller{Operator: true, Subject: email}, onceTime)
	if err != nil {
		return nil, err
	}
	defer rehearsal.Close()
	t := &writeRehearsal{inProcess: inProcess{s, name, email, api}, rehearsal: rehearsal, actAs: in.ActAs, rows: map[string]*shownRow{}}
	begun := time.Now()
	answer, err := t.write(ctx, in)
	if err != nil {
		return nil, err
	}
	out := windows.Rehearsed{Status: answer.Status, Reason: http.StatusText(answer.Status), Headers: map[string]string{},
		Body: strings.ToValidUTF8(string(answer.Body), "\uFFFD"),
		Rows: t.changes(strings.HasSuffix(pathOf(in.Path), "/$ref")), Lasting: lasting}
	for name, values := range answer.Header {
		out.Headers[name] = strings.Join(values, ", ")
	}
	if n, err := strconv.Atoi(answer.Header.Get("Rows-Affected")); err == nil && n > len(t.paths) {
		out.More = n - len(t.paths)
	}
	if api.Release == 0 {
		s.keepRehearsed(ctx, name, email, in, answer, time.Since(begun))
	}
	return out, nil
}

// keepRehearsed keeps a rehearsed write among what its operator has asked.
func (s *Server) keepRehearsed(ctx context.Context, window, email string, in windows.Write, a suite.Answer, took time.Duration) {
	headers := maps.Clone(in.Headers)
	if headers == nil {
		headers = map[string]string{}
	}
	headers["Rehearsal"] = "once"
	text, _ := json.Marshal(headers) // texts
	err := s.service.KeepAsked(ctx, window, email, windows.Asked{Method: in.Method, Path: in.Path, ActAs: in.ActAs, Headers: text,
		Body: plainText([]byte(in.Body[:min(len(in.Body), maxKeptBody)])), Status: a.Status, Kind: a.Header.Get("Content-Type"),
		Answer: plainText(a.Body[:min(len(a.Body), maxKeptAnswer)]), TookMS: float64(took.Microseconds()) / 1000})
	if err != nil {
		s.log.Warn("a request can't be kept in the history", "error", err)
	}
}

// writeRehearsal is a write that is rehearsed, with the rows that it is about.
type writeRehearsal struct {
	inProcess
	rehearsal *data.Rehearsal
	actAs     string
	paths     []string // of the rows, in their order
	rows      map[string]*shownRow
}

// shownRow is a row before and after; nil where there is none.
type shownRow struct {
	before, after *jsontree.Object
	hidden        bool // after the write, the row is there, and who wrote it may not read it
}

// write sends the write, and reads the rows that it is about before and after.
func (t *writeRehearsal) write(ctx context.Context, in windows.Write) (suite.Answer, error) {
	if in.Method != http.MethodPost && in.Method != http.MethodPatch && in.Method != http.MethodPut && in.Method != http.MethodDelete {
		return suite.Answer{}, fault.New(fault.Invalid, "rehearsal.method", "%q does not write; rehearse POST, PATCH, PUT or DELETE",
			in.Method).On("method")
	}
	about := pathOf(in.Path)
	links := strings.HasSuffix(about, "/$ref")
	about = strings.TrimSuffix(strings.TrimSuffix(about, "/$each"), "/$ref")
	if links || in.Method != http.MethodPost { // a new row is not among those that are there
		if err := t.readBefore(ctx, about, in); err != nil {
			return suite.Answer{}, err
		}
	}
	header := textproto.MIMEHeader{}
	for name, value := range in.Headers {
		header.Set(name, value)
	}
	if in.Body != "" && header.Get("Content-Type") == "" {
		header.Set("Content-Type", "application/json")
	}
	answer, err := t.send(ctx, t.rehearsal, suite.Request{ActAs: t.actAs, Method: in.Method, Path: in.Path, Header: header,
		Body: []byte(in.Body)})
	if err != nil || answer.Status >= http.StatusBadRequest {
		t.rows, t.paths = nil, nil
		return answer, err
	}
	after := func(row *shownRow, now *jsontree.Object) { row.after = now }
	if links {
		_, err := t.read(ctx, about, in.Path, after)
		return answer, err
	}
	paths := slices.Clone(t.paths)
	if made := answer.Header.Get("Location"); made != "" {
		paths = append(paths, made)
	}
	for _, path := range paths {
		if _, err := t.read(ctx, path, "", after); err != nil {
			return answer, err
		}
		if row := t.rows[path]; row != nil && row.after == nil && t.actAs != "" {
			asOperator := suite.Request{Method: http.MethodGet, Path: path}
			there, err := t.send(ctx, t.rehearsal, asOperator)
			if err != nil {
				return answer, err
			}
			row.hidden = there.Status == http.StatusOK
		}
	}
	return answer, nil
}

// readBefore finds the rows that a write is about: those that a delta names, those at its path, or the one whose field is there.
func (t *writeRehearsal) readBefore(ctx context.Context, about string, in windows.Write) error {
	before := func(row *shownRow, now *jsontree.Object) { row.before = now }
	named := rowsOfDelta(in)
	for _, path := range named[:min(len(named), maxShown)] {
		if _, err := t.read(ctx, path, "", before); err != nil {
			return err
		}
	}
	if named != nil {
		return nil
	}
	status, err := t.read(ctx, about, in.Path, before)
	if at := strings.LastIndexByte(about, '/'); err == nil && at > 0 && len(t.paths) == 0 && status < http.StatusBadRequest {
		_, err = t.read(ctx, about[:at], "", before)
	}
	return err
}

// rowsOfDelta are the paths of the rows that a delta changes or deletes; nil for another write.
func rowsOfDelta(in windows.Write) []string {
	body, err := jsontree.Parse([]byte(in.Body))
	top, is := body.(*jsontree.Object)
	if err != nil || !is || in.Method != http.MethodPatch || strings.HasSuffix(pathOf(in.Path), "/$each") {
		return nil
	}
	var paths []string
	for _, item := range top.List("value") {
		row, is := item.(*jsontree.Object)
		if !is { // a field of that name
			return nil
		}
		if id := row.Text("@id"); id != "" {
			paths = append(paths, id)
		}
	}
	return paths
}

// read finds the rows at a path, none where there is nothing, and returns the status of the answer; parameters that a filter in the path
// names are in the query of asked.
func (t *writeRehearsal) read(ctx context.Context, path, asked string, keep func(*shownRow, *jsontree.Object)) (status int, err error) {
	path = t.within(path)
	var options []string
	_, query, _ := strings.Cut(asked, "?")
	for option := range strings.SplitSeq(query, "&") {
		if strings.HasPrefix(option, "@") || strings.HasPrefix(option, "%40") {
			options = append(options, option)
		}
	}
	answer, err := t.send(ctx, t.rehearsal, suite.Request{ActAs: t.actAs, Method: http.MethodGet,
		Path:   path + "?" + strings.Join(options, "&"),
		Header: textproto.MIMEHeader{"Accept": {"application/json;metadata=full"}, "Prefer": {"maxpagesize=" + strconv.Itoa(maxShown)}}})
	if err != nil || answer.Status != http.StatusOK {
		return answer.Status, err
	}
	v, err := jsontree.Parse(answer.Body)
	top, is := v.(*jsontree.Object)
	if err != nil || !is { // a value of another format
		return answer.Status, nil
	}
	list := top.List("value")
	if strings.HasSuffix(top.Text("@context"), "/$entity") {
		list = jsontree.List{top}
	}
	for _, item := range list {
		now, is := item.(*jsontree.Object)
		if !is {
			continue
		}
		at := path
		if id := now.Text("@id"); id != "" {
			at = t.within(id)
		} else if len(list) > 1 { // rows that have no path
			continue
		}
		if t.rows[at] == nil {
			t.rows[at] = &shownRow{}
			t.paths = append(t.paths, at)
		}
		keep(t.rows[at], now)
	}
	return answer.Status, nil
}

// within is a path below the window.
func (t *writeRehearsal) within(path string) string {
	for _, root := range []string{"/api/", "/draft/"} {
		if rest, is := strings.CutPrefix(path, root+t.window+"/"); is {
			return rest
		}
	}
	return strings.TrimPrefix(path, "/")
}

// changes are what became of the rows. Of links, rows that are linked or not are told.
func (t *writeRehearsal) changes(links bool) []windows.RowChange {
	list := []windows.RowChange{}
	for _, path := range t.paths {
		row := t.rows[path]
		change := windows.RowChange{Row: path, Became: "changed", Fields: fieldChanges(row.before, row.after)}
		switch {
		case row.before == nil:
			change.Became = "created"
		case row.hidden:
			change.Became, change.Fields = "hidden", nil
		case row.after == nil:
			change.Became = "deleted"
		case len(change.Fields) == 0:
			change.Became = "unchanged"
		}
		if links {
			change.Became = map[string]string{"created": "linked", "deleted": "unlinked"}[change.Became]
			change.Fields = nil
		}
		if change.Became != "" {
			list = append(list, change)
		}
	}
	return list
}

// fieldChanges are the fields of a row whose values differ; of a row that is new or gone, all that it has.
func fieldChanges(before, after *jsontree.Object) []windows.FieldChange {
	fields := []windows.FieldChange{}
	row := cmp.Or(after, before)
	for _, m := range row.Members {
		if strings.Contains(m.Name, "@") {
			continue
		}
		change := windows.FieldChange{Name: m.Name}
		for _, side := range []struct {
			row  *jsontree.Object
			into *json.RawMessage
		}{{before, &change.Before}, {after, &change.After}} {
			if side.row != nil {
				*side.into = jsontree.Append(nil, side.row.Get(m.Name), false)
			}
		}
		if !bytes.Equal(change.Before, change.After) {
			fields = append(fields, change)
		}
	}
	return fields
}

// pathOf is a path without its query.
func pathOf(path string) string {
	path, _, _ = strings.Cut(path, "?")
	return path
}
