package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"text/tabwriter"

	"eagerwindow/internal/client"
	"eagerwindow/internal/windows"
)

// rehearse sends a write in a transaction that is rolled back, and shows what would be written: each row before and after.
func (q *question) rehearse(ctx context.Context, window string, r client.Request, body []byte) error {
	in := windows.Write{Method: r.Method, ActAs: r.ActAs, Body: string(body), Headers: map[string]string{}}
	if in.Path = strings.TrimPrefix(r.Path, "/draft/"+window+"/"); q.live {
		in.Path, in.On = strings.TrimPrefix(r.Path, "/api/"+window+"/"), "live"
	}
	for name, values := range r.Header {
		in.Headers[name] = strings.Join(values, ", ")
	}
	out, err := q.app.service().RehearseOnce(ctx, window, in)
	if err != nil {
		return err
	}
	res := &http.Response{Proto: "HTTP/1.1", StatusCode: out.Status, Status: fmt.Sprint(out.Status, " ", out.Reason),
		Header: http.Header{}, Body: io.NopCloser(strings.NewReader(out.Body))}
	for name, value := range out.Headers {
		res.Header.Set(name, value)
	}
	if err := q.answered(res); err != nil {
		return err
	}
	if q.app.output == "table" {
		printRows(q.app.Out, out)
	}
	lasting := ""
	if len(out.Lasting) > 0 {
		lasting = " (" + strings.Join(out.Lasting, "; ") + ")"
	}
	fmt.Fprintf(q.app.Err, "Rehearsed: it was rolled back%s. With --for-real it is written.\n", lasting)
	return nil
}

// printRows shows what rows were and what they are: those that are new, those that are gone, and of others the fields that differ.
func printRows(out io.Writer, done windows.Rehearsed) {
	w := tabwriter.NewWriter(out, 0, 0, 2, ' ', 0)
	lines := 0
	line := func(cells ...string) {
		if lines++; lines == 1 {
			fmt.Fprintln(out)
			fmt.Fprintln(w, "ROW\tFIELD\tBEFORE\tAFTER")
		}
		fmt.Fprintln(w, strings.Join(cells, "\t"))
	}
	for _, row := range done.Rows {
		switch row.Became {
		case "unchanged":
			continue
		case "deleted", "linked", "unlinked":
			line(row.Row, "", "", row.Became)
			continue
		case "hidden":
			line(row.Row, "", "", "there, but not to be read by this role")
			continue
		}
		for i, f := range row.Fields {
			path := row.Row
			if row.Became == "created" {
				if path += " (new)"; i > 0 {
					path = ""
				}
			}
			line(path, f.Name, short(f.Before), short(f.After))
		}
	}
	if done.More > 0 {
		line(fmt.Sprintf("and %s more", counted(int64(done.More), "row")), "", "", "")
	}
	if lines > 0 {
		_ = w.Flush() // as the writer below
		fmt.Fprintln(out)
	}
}

// short is a value as far as it fits into a cell.
func short[T string | json.RawMessage](text T) string {
	if letters := []rune(string(text)); len(letters) > 60 {
		return string(letters[:59]) + "…"
	}
	return string(text)
}
