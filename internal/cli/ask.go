package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"eagerwindow/internal/client"
	"eagerwindow/internal/core/jsontext"
	"eagerwindow/internal/core/snippet"
)

func (a *app) ask() *cobra.Command {
	c := &cobra.Command{
		Use:   "ask WINDOW PATH",
		Short: "Send a request to a window",
		Long: `Send a request to a window's draft, as its operator or as any role, or with --live to what is published. The path is
written as it is read: blanks and quotes need no encoding.

As a table an answer shows its rows; -o json shows it as it came, and so is any other format that format= asks for. --plan shows
how the database finds them, and which index it lacks; before a change or deletion of many rows, how many there would be. With it,
nothing is written.

The rows of a draft are the real ones. So a write is rehearsed: it runs for real, is rolled back, and each row is shown before and after.
--for-real writes it.`,
		Example: `  eager ask saltmere "/port_calls?filter=status eq 'expected'&orderby=eta&top=5&select=id,eta&expand=vessel(select=name)"
  eager ask saltmere /vessels --as agent --claim agent_id=3
  eager ask saltmere /arrivals_board --live
  eager ask saltmere "/port_calls?filter=draught_m gt 13.4" --plan
  eager ask saltmere /tugs --body '{"name":"Petra","bollard_pull_t":41.5}'
  eager ask saltmere /tugs --set name=Olga --set bollard_pull_t=38 --for-real
  eager ask saltmere "/tugs?top=1" --copy python
  eager ask saltmere /vessels --live --as agent --claim agent_id=3
  eager ask saltmere "/port_calls/\$filter(status eq 'cancelled')/\$each" --method DELETE --plan`,
		Args: exactly("WINDOW", "PATH"),
	}
	a.outputFlag(c)
	q := &question{app: a}
	c.Flags().StringVar(&q.method, "method", "", "GET, POST, PUT, PATCH or DELETE (default: GET, or POST with --body)")
	c.Flags().StringVar(&q.body, "body", "", "JSON to send; @FILE reads it from a file")
	c.Flags().StringArrayVar(&q.set, "set", nil, "a field of the body, as name=value; the value as JSON, or else a text")
	c.Flags().StringSliceVar(&q.as, "as", nil, "act as this role, or several: pilot,agent")
	c.Flags().StringToStringVar(&q.claims, "claim", nil, "a claim of the role, as name=value")
	c.Flags().BoolVar(&q.live, "live", false, "ask what is published: as anyone, with --token-file, or as its operator --as a role")
	c.Flags().BoolVar(&q.real, "for-real", false, "write what otherwise is rehearsed")
	c.Flags().StringArrayVar(&q.headers, "header", nil, "a header to send, as 'Name: value'")
	c.Flags().BoolVarP(&q.include, "include", "i", false, "show the status and the headers of the answer")
	c.Flags().StringVar(&q.copy, "copy", "", "print the request instead, for curl, httpie, javascript, go or python")
	c.Flags().StringVar(&q.tokenFile, "token-file", "", "file with an access token for --live")
	c.Flags().BoolVar(&q.plan, "plan", false, "show how the database answers, and what would spare it work (on the draft)")
	c.RunE = func(c *cobra.Command, args []string) error {
		return q.ask(c.Context(), args[0], strings.TrimPrefix(args[1], "/"))
	}
	return c
}

// question is what ask sends.
type question struct {
	app                     *app
	method, body, tokenFile string
	set, as                 []string
	claims                  map[string]string
	headers                 []string
	copy                    string
	live, plan              bool
	real, include           bool
}

func (q *question) ask(ctx context.Context, window, path string) error {
	s := q.app.service()
	r, body, err := q.request(window, path)
	if err != nil {
		return err
	}
	if q.live {
		token, err := q.token()
		if err != nil {
			return err
		}
		if len(q.as) == 0 {
			s.Token = token
		}
	}
	if q.copy != "" {
		return q.snippet(s, r, body)
	}
	if r.Method != http.MethodGet && r.Method != http.MethodHead && !q.plan && !q.real && (!q.live || len(q.as) > 0) &&
		!strings.HasSuffix(path, "/$query") {
		r.Header.Del("Rehearsal")
		return q.rehearse(ctx, window, r, body)
	}
	if q.real && q.live && len(q.as) > 0 {
		return usage("--for-real writes on the live API with a token of its own: --token-file")
	}
	res, err := s.Send(ctx, r)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	return q.answered(res)
}

// answered shows an answer, or says why there is none.
func (q *question) answered(res *http.Response) error {
	if q.include {
		fmt.Fprintln(q.app.Out, res.Proto, res.Status)
		_ = res.Header.Write(q.app.Out) // as what follows
		fmt.Fprintln(q.app.Out)
	}
	if err := client.Check(res); err != nil {
		if refused, ok := err.(*client.Refused); ok {
			return fmt.Errorf("%s: %w", res.Status, refused)
		}
		return err
	}
	if q.plan && q.app.output == "table" {
		text, err := io.ReadAll(res.Body)
		if err != nil {
			return fmt.Errorf("the answer broke off: %w", err)
		}
		return q.app.plan(res.Request.Method, text)
	}
	return q.app.answer(res)
}

// request is what is asked, with the text of its body.
func (q *question) request(window, path string) (r client.Request, body []byte, err error) {
	r = client.Request{Method: strings.ToUpper(q.method), Path: "/draft/" + window + "/" + path, ActAs: actAs(q.as, q.claims),
		Header: http.Header{}}
	if q.plan {
		r.Header.Set("Prefer", "explain")
	}
	if q.live {
		r.Path = "/api/" + window + "/" + path
		if len(q.as) > 0 { // an operator is somebody on the live API in a rehearsal only
			r.Header.Set("Rehearsal", "once")
		}
	}
	for _, h := range q.headers {
		name, value, is := strings.Cut(h, ":")
		if !is {
			return r, nil, usage("--header takes 'Name: value', not %q", h)
		}
		r.Header.Add(strings.TrimSpace(name), strings.TrimSpace(value))
	}
	if body, err = q.text(); err != nil {
		return r, nil, err
	}
	if body != nil {
		r.Body = bytes.NewReader(body)
	}
	if r.Method == "" {
		r.Method = http.MethodGet
		if body != nil {
			r.Method = http.MethodPost
		}
	}
	return r, body, nil
}

// snippet prints a request for a shell or in a language.
func (q *question) snippet(s *client.Client, r client.Request, body []byte) error {
	names := make([]string, len(snippet.Languages))
	for i, l := range snippet.Languages {
		names[i] = strings.ToLower(l.Name)
	}
	i := slices.Index(names, strings.ToLower(q.copy))
	if i < 0 {
		return usage("--copy is one of %s, not %q", strings.Join(names, ", "), q.copy)
	}
	path, query, _ := strings.Cut(r.Path, "?")
	out := snippet.Request{Method: r.Method, URL: s.URL + (&url.URL{Path: path}).EscapedPath(), Body: string(body), Token: !q.live ||
		s.Token != ""}
	for part := range strings.SplitSeq(query, "&") {
		if name, value, _ := strings.Cut(part, "="); name != "" {
			if plain, err := url.QueryUnescape(value); err == nil && strings.Contains(value, "%") {
				value = plain
			}
			out.Query = append(out.Query, snippet.Pair{Name: name, Value: value})
		}
	}
	if r.ActAs != "" {
		out.Headers = append(out.Headers, snippet.Pair{Name: "Act-As", Value: r.ActAs})
	}
	for name := range r.Header {
		out.Headers = append(out.Headers, snippet.Pair{Name: name, Value: r.Header.Get(name)})
	}
	_, err := io.WriteString(q.app.Out, snippet.Languages[i].Write(out))
	return err
}

// token is what a question to the live API carries; "" for none.
func (q *question) token() (string, error) {
	switch {
	case q.plan:
		return "", usage("--plan works on the draft: callers of the live API are not told of the database")
	case len(q.as) > 0 && q.tokenFile != "":
		return "", usage("--as and --token-file both say who calls; keep one")
	case q.tokenFile == "":
		return "", nil
	}
	text, err := os.ReadFile(q.tokenFile)
	if err != nil {
		return "", usage("%w", err)
	}
	return strings.TrimSpace(string(text)), nil
}

// text is the body that is sent; nil for none.
func (q *question) text() ([]byte, error) {
	switch {
	case len(q.set) > 0 && q.body != "":
		return nil, usage("--set and --body both make the body; keep one")
	case len(q.set) > 0:
		text, err := bodyOf(q.set)
		return []byte(text), err
	case q.body == "":
		return nil, nil
	}
	if name, isFile := strings.CutPrefix(q.body, "@"); isFile {
		text, err := os.ReadFile(name)
		if err != nil {
			return nil, usage("%w", err)
		}
		return text, nil
	}
	return []byte(q.body), nil
}

// bodyOf makes a body of fields: a value that is JSON stands as it is, any other is a text.
func bodyOf(set []string) (string, error) {
	var b strings.Builder
	for i, field := range set {
		name, value, ok := strings.Cut(field, "=")
		if !ok || name == "" {
			return "", usage("--set takes name=value, not %q", field)
		}
		if !json.Valid([]byte(value)) {
			text, err := json.Marshal(value)
			if err != nil {
				return "", err
			}
			value = string(text)
		}
		b.WriteString(map[bool]string{true: "{", false: ","}[i == 0])
		fmt.Fprintf(&b, "%q:%s", name, value)
	}
	return b.String() + "}", nil
}

// actAs writes the Act-As header (RFC 9651, 3.1): whole numbers as numbers, the rest as strings.
func actAs(roles []string, claims map[string]string) string {
	if len(roles) == 0 {
		return ""
	}
	var b strings.Builder
	b.WriteString(strings.Join(roles, ", "))
	for name, value := range claims {
		if _, err := strconv.ParseInt(value, 10, 64); err != nil {
			value = `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(value) + `"`
		}
		fmt.Fprintf(&b, ";%s=%s", name, value)
	}
	return b.String()
}

func (a *app) answer(res *http.Response) error {
	if a.output == "json" {
		_, err := io.Copy(a.Out, res.Body)
		return err
	}
	text, err := io.ReadAll(res.Body)
	if err != nil {
		return fmt.Errorf("the answer broke off: %w", err)
	}
	switch {
	case len(text) == 0:
		fmt.Fprintln(a.Out, res.Status+affected(res.Header.Get("Rows-Affected")))
		return nil
	case !strings.HasPrefix(res.Header.Get("Content-Type"), "application/json"):
		_, err := a.Out.Write(text) // CSV, a number: as it came
		return err
	case a.output == "yaml":
		return a.yaml(text)
	}
	return a.table(text)
}

// table prints the rows of an answer, members as columns in the order in which they came.
func (a *app) table(text []byte) error {
	top, err := members(text)
	if err != nil {
		return fmt.Errorf("the answer is not JSON: %w", err)
	}
	var rows []json.RawMessage
	count, next, isList := "", "", false
	for _, m := range top {
		switch m.name {
		case "value":
			isList = json.Unmarshal(m.value, &rows) == nil
		case "@count":
			count = string(m.value)
		case "@nextLink":
			_ = json.Unmarshal(m.value, &next)
		}
	}
	w := tabwriter.NewWriter(a.Out, 0, 0, 2, ' ', 0)
	if !isList {
		for _, m := range top {
			if !strings.HasPrefix(m.name, "@") {
				fmt.Fprintf(w, "%s\t%s\n", m.name, cell(m.value))
			}
		}
		return w.Flush()
	}
	for i, row := range rows {
		list, err := members(row)
		if err != nil {
			return err
		}
		var names, cells []string
		for _, m := range list {
			names = append(names, m.name)
			cells = append(cells, cell(m.value))
		}
		if i == 0 {
			fmt.Fprintln(w, strings.Join(names, "\t"))
		}
		fmt.Fprintln(w, strings.Join(cells, "\t"))
	}
	if err := w.Flush(); err != nil {
		return err
	}
	fmt.Fprint(a.Out, summary(len(rows), count, next))
	return nil
}

func summary(rows int, count, next string) string {
	s := "\n" + counted(int64(rows), "row")
	if count != "" {
		s += " of " + count
	}
	if next != "" {
		s += "; more at " + next
	}
	return s + "\n"
}

type member struct {
	name  string
	value json.RawMessage
}

// members are the members of a JSON object in their order.
func members(text []byte) ([]member, error) {
	if text = bytes.TrimSpace(text); !json.Valid(text) || text[0] != '{' {
		return nil, fmt.Errorf("an object is expected")
	}
	var list []member
	for name, value := range jsontext.Members(string(text)) {
		if field, hidden := strings.CutSuffix(name, "@Core.Permissions"); hidden { // it stands in the place of the field
			name, value = field, `"(hidden)"`
		}
		if name == "@etag" { // a version is for programs
			continue
		}
		list = append(list, member{name, json.RawMessage(value)})
	}
	return list, nil
}

// cell is a value as it is in a table: strings without quotes, objects by their values, lists with their items.
func cell(v json.RawMessage) string {
	switch v[0] {
	case '"':
		var s string
		_ = json.Unmarshal(v, &s)
		return strings.Map(func(r rune) rune {
			if r < ' ' || r == 0x7f {
				return ' '
			}
			return r
		}, s)
	case 'n':
		return "-"
	case '{':
		list, _ := members(v)
		parts := make([]string, len(list))
		for i, m := range list {
			parts[i] = cell(m.value)
		}
		return strings.Join(parts, " ")
	case '[':
		var items []json.RawMessage
		_ = json.Unmarshal(v, &items)
		parts := make([]string, len(items))
		for i, item := range items {
			parts[i] = cell(item)
		}
		return dash(strings.Join(parts, ", "))
	}
	return string(v)
}

// affected says how many rows a write of many has written.
func affected(rows string) string {
	n, err := strconv.ParseInt(rows, 10, 64)
	if err != nil {
		return ""
	}
	return ", " + counted(n, "row") + " written"
}

func counted(n int64, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
