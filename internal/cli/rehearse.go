package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"text/tabwriter"

	"eagerwindow/internal/client"
	"eagerwindow/internal/windows"
)

// maxShown is how many rows a rehearsal shows before and after.
const maxShown = 20

// rehearse sends a write in a transaction that is rolled back, and shows what would be written: each row before and after.
func (q *question) rehearse(ctx context.Context, window string, r client.Request, body []byte) error {
	s := q.app.service()
	open, err := s.OpenRehearsal(ctx, window, windows.NewRehearsal{})
	if err != nil {
		return err
	}
	defer func() { _ = s.CloseRehearsal(context.WithoutCancel(ctx), window, open.ID) }() // or its time ends it
	h := &rehearsed{client: s, id: open.ID, root: strings.Join(strings.SplitN(r.Path, "/", 4)[:3], "/"), actAs: r.ActAs}
	path, _, _ := strings.Cut(r.Path, "?")
	for _, end := range []string{"/$each", "/$ref"} {
		path = strings.TrimSuffix(path, end)
	}
	before, err := h.rows(ctx, path)
	if err != nil {
		return err
	}
	if r.Method == http.MethodPost { // the rows that are there are not meant
		before = nil
	}
	res, err := h.send(ctx, r.Method, r.Path, body, r.Header)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if err := client.Check(res); err != nil {
		if refused, ok := err.(*client.Refused); ok {
			return fmt.Errorf("%s: %w", res.Status, refused)
		}
		return err
	}
	var after []row
	paths := []string{}
	for _, one := range before {
		paths = append(paths, one.path)
	}
	if made := res.Header.Get("Location"); made != "" {
		paths = append(paths, made)
	}
	for _, path := range paths {
		found, err := h.rows(ctx, path)
		if err != nil {
			return err
		}
		after = append(after, found...)
	}
	if err := q.app.answer(res); err != nil {
		return err
	}
	printRows(q.app.Out, before, after)
	lasting := ""
	if len(open.Lasting) > 0 && r.Method == http.MethodPost {
		lasting = " (" + strings.Join(open.Lasting, "; ") + ")"
	}
	fmt.Fprintf(q.app.Err, "Rehearsed: it was rolled back%s. With --for-real it is written.\n", lasting)
	return nil
}

// rehearsed sends requests in a rehearsal.
type rehearsed struct {
	client          *client.Client
	id, root, actAs string
}

func (h *rehearsed) send(ctx context.Context, method, path string, body []byte, header http.Header) (*http.Response, error) {
	r := client.Request{Method: method, Path: path, ActAs: h.actAs, Header: header.Clone()}
	if r.Header == nil {
		r.Header = http.Header{}
	}
	r.Header.Set("Rehearsal", h.id)
	if body != nil {
		r.Body = bytes.NewReader(body)
	}
	return h.client.Send(ctx, r)
}

// row is a row with its path.
type row struct {
	path   string
	fields map[string]json.RawMessage
	names  []string // in their order
}

// rows are those at a path, none where there is nothing.
func (h *rehearsed) rows(ctx context.Context, path string) ([]row, error) {
	if !strings.HasPrefix(path, "/") {
		path = h.root + "/" + path
	}
	separator := "?"
	if strings.Contains(path, "?") {
		separator = "&"
	}
	if !strings.Contains(path, "(") && strings.Count(path, "/") == 3 {
		path += fmt.Sprintf("%stop=%d", separator, maxShown)
	}
	res, err := h.send(ctx, http.MethodGet, path, nil, http.Header{"Accept": {"application/json;metadata=full"}})
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	if err != nil || res.StatusCode != http.StatusOK {
		return nil, err
	}
	var list struct{ Value []json.RawMessage }
	if json.Unmarshal(text, &list) != nil || list.Value == nil {
		list.Value = []json.RawMessage{text}
	}
	var rows []row
	for _, item := range list.Value[:min(len(list.Value), maxShown)] {
		one := row{fields: map[string]json.RawMessage{}}
		if json.Unmarshal(item, &one.fields) != nil {
			continue
		}
		d := json.NewDecoder(bytes.NewReader(item))
		for depth := 0; ; {
			token, err := d.Token()
			if err != nil {
				break
			}
			switch token := token.(type) {
			case json.Delim:
				depth += map[json.Delim]int{'{': 1, '[': 1, '}': -1, ']': -1}[token]
			case string:
				if _, known := one.fields[token]; known && depth == 1 && !slices.Contains(one.names, token) && !strings.Contains(token, "@") {
					one.names = append(one.names, token)
				}
			}
		}
		var id string
		if json.Unmarshal(one.fields["@id"], &id) == nil && id != "" {
			one.path = id
		} else {
			one.path = path
		}
		rows = append(rows, one)
	}
	return rows, nil
}

// printRows shows what rows were and what they are: those that are new, those that are gone, and of others the fields that differ.
func printRows(out io.Writer, before, after []row) {
	w := tabwriter.NewWriter(out, 0, 0, 2, ' ', 0)
	now := map[string]row{}
	for _, r := range after {
		now[r.path] = r
	}
	lines := 0
	line := func(cells ...string) {
		if lines++; lines == 1 {
			fmt.Fprintln(out)
			fmt.Fprintln(w, "ROW\tFIELD\tBEFORE\tAFTER")
		}
		fmt.Fprintln(w, strings.Join(cells, "\t"))
	}
	for _, was := range before {
		is, there := now[was.path]
		delete(now, was.path)
		if !there {
			line(was.path, "", "", "deleted")
			continue
		}
		for _, name := range was.names {
			if a, b := string(was.fields[name]), string(is.fields[name]); a != b {
				line(was.path, name, short(a), short(b))
			}
		}
	}
	for _, r := range after {
		if _, made := now[r.path]; !made {
			continue
		}
		for i, name := range r.names {
			path := ""
			if i == 0 {
				path = r.path + " (new)"
			}
			line(path, name, "", short(string(r.fields[name])))
		}
	}
	if lines > 0 {
		_ = w.Flush() // as the writer below
		fmt.Fprintln(out)
	}
}

// short is a value as far as it fits into a cell.
func short(text string) string {
	if letters := []rune(text); len(letters) > 60 {
		return string(letters[:59]) + "…"
	}
	return text
}
