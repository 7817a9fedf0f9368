package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/textproto"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"eagerwindow/internal/client"
	"eagerwindow/internal/core/contract"
	"eagerwindow/internal/core/suite"
	"eagerwindow/internal/windows"
)

// contract reads what the description of a window promises.
func (a *app) contract(c *cobra.Command, window string) (*contract.Contract, error) {
	text, err := a.fetch(c, "/describe/"+url.PathEscape(window)+"/draft/openapi.json")
	if err != nil {
		return nil, err
	}
	doc, err := readDescription(text)
	if err != nil {
		return nil, err
	}
	return contract.New(doc)
}

func (a *app) checkNew() *cobra.Command {
	c := &cobra.Command{Use: "new WINDOW", Short: "Print a suite to begin with",
		Long:    "Print a suite of checks to begin with: a row is made, read, changed with its version, and deleted.",
		Example: "  eager check new saltmere > a-visit.yaml\n  eager check run saltmere ./a-visit.yaml", Args: exactly("WINDOW")}
	c.RunE = func(c *cobra.Command, args []string) error {
		described, err := a.contract(c, args[0])
		if err != nil {
			return err
		}
		text, err := suite.Begin(args[0], described)
		if err != nil {
			return err
		}
		_, err = a.Out.Write(text)
		return err
	}
	return c
}

// archive is a HAR file (HTTP Archive 1.2), as far as it is read and written here.
type archive struct {
	Log struct {
		Version string         `json:"version"`
		Creator named          `json:"creator"`
		Entries []archiveEntry `json:"entries"`
	} `json:"log"`
}

type named struct {
	Name    string `json:"name"`
	Version string `json:"version"`
}

type header struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

type archiveEntry struct {
	Started string  `json:"startedDateTime"`
	Time    float64 `json:"time"`
	Request struct {
		Method      string   `json:"method"`
		URL         string   `json:"url"`
		HTTPVersion string   `json:"httpVersion"`
		Headers     []header `json:"headers"`
		Query       []header `json:"queryString"`
		Cookies     []header `json:"cookies"`
		PostData    *posted  `json:"postData,omitempty"`
		HeadersSize int      `json:"headersSize"`
		BodySize    int      `json:"bodySize"`
	} `json:"request"`
	Response struct {
		Status      int      `json:"status"`
		StatusText  string   `json:"statusText"`
		HTTPVersion string   `json:"httpVersion"`
		Headers     []header `json:"headers"`
		Cookies     []header `json:"cookies"`
		Content     struct {
			Size     int    `json:"size"`
			MimeType string `json:"mimeType"`
			Text     string `json:"text"`
		} `json:"content"`
		RedirectURL string `json:"redirectURL"`
		HeadersSize int    `json:"headersSize"`
		BodySize    int    `json:"bodySize"`
	} `json:"response"`
	Cache   struct{} `json:"cache"`
	Timings struct {
		Send    float64 `json:"send"`
		Wait    float64 `json:"wait"`
		Receive float64 `json:"receive"`
	} `json:"timings"`
}

type posted struct {
	MimeType string `json:"mimeType"`
	Text     string `json:"text"`
}

// asArchive are requests of the history as a HAR file, the first of them first. Tokens are not in it.
func asArchive(at string, list []windows.Asked) archive {
	var out archive
	out.Log.Version, out.Log.Creator = "1.2", named{"eager", "1"}
	out.Log.Entries = []archiveEntry{}
	for _, q := range slices.Backward(list) {
		var e archiveEntry
		e.Started, e.Time, e.Timings.Wait = q.At.Format("2006-01-02T15:04:05.000Z07:00"), q.TookMS, q.TookMS
		e.Request.Method, e.Request.URL, e.Request.HTTPVersion = q.Method, at+"/"+q.Path, "HTTP/1.1"
		e.Request.Headers, e.Request.Query, e.Request.Cookies = []header{}, []header{}, []header{}
		e.Request.HeadersSize, e.Request.BodySize = -1, len(q.Body)
		var headers map[string]string
		if json.Unmarshal(q.Headers, &headers) == nil {
			for _, name := range slices.Sorted(maps.Keys(headers)) {
				e.Request.Headers = append(e.Request.Headers, header{name, headers[name]})
			}
		}
		if q.ActAs != "" {
			e.Request.Headers = append(e.Request.Headers, header{"Act-As", q.ActAs})
		}
		if q.Body != "" {
			e.Request.PostData = &posted{"application/json", q.Body}
		}
		e.Response.Status, e.Response.StatusText, e.Response.HTTPVersion = q.Status, http.StatusText(q.Status), "HTTP/1.1"
		e.Response.Headers, e.Response.Cookies = []header{}, []header{}
		e.Response.Content.Size, e.Response.Content.MimeType, e.Response.Content.Text = len(q.Answer), q.Kind, q.Answer
		e.Response.HeadersSize, e.Response.BodySize = -1, -1
		out.Log.Entries = append(out.Log.Entries, e)
	}
	return out
}

func (a *app) checkRecord() *cobra.Command {
	c := &cobra.Command{Use: "record WINDOW [FILE]", Short: "Make a suite of requests that were made",
		Long: `Make a suite of checks of the last requests that you have made of the draft, or of those in a HAR file, as browsers save it. Each
must be answered with the same status and fields again, and those that --field names with the same values. Keys and versions that an
answer has are taken from there.`,
		Example: "  eager ask saltmere /tugs/1\n  eager check record saltmere --last 1 > bram.yaml\n" +
			"  eager check record saltmere demo/visit.har --field name > visit.yaml", Args: cobra.RangeArgs(1, 2)}
	var fields []string
	c.Flags().StringSliceVar(&fields, "field", nil, "a field whose value must stay the same")
	last := c.Flags().Int("last", 0, "of the last so many requests, in place of a file")
	c.RunE = func(c *cobra.Command, args []string) error {
		if (len(args) == 2) == (*last > 0) {
			return usage("name a HAR file, or with --last how many of the last requests")
		}
		described, err := a.contract(c, args[0])
		if err != nil {
			return err
		}
		name := "recorded"
		var requests []suite.Recorded
		if *last > 0 {
			requests, err = a.asked(c, args[0], *last)
		} else {
			name = strings.TrimSuffix(filepath.Base(args[1]), filepath.Ext(args[1]))
			requests, err = archived(args[0], args[1])
		}
		if err != nil {
			return err
		}
		out, unknown, err := suite.Write(name, args[0], described, requests, fields)
		if err != nil {
			return err
		}
		for _, q := range unknown {
			fmt.Fprintf(a.Err, "left out, as the description has no operation for it: %s\n", q)
		}
		_, err = a.Out.Write(out)
		return err
	}
	return c
}

// asked are the last requests that the operator has made of a draft, the first of them first.
func (a *app) asked(c *cobra.Command, window string, last int) ([]suite.Recorded, error) {
	list, err := a.service().Asked(c.Context(), window, min(last, 200))
	if err != nil {
		return nil, err
	}
	var requests []suite.Recorded
	for _, q := range slices.Backward(list) {
		one := suite.Recorded{Method: q.Method, Path: q.Path, Headers: map[string]string{}, Body: q.Body, Status: q.Status, Kind: q.Kind,
			Answer: q.Answer,
			ActAs:  q.ActAs}
		if err := json.Unmarshal(q.Headers, &one.Headers); err != nil {
			return nil, err
		}
		requests = append(requests, one)
	}
	return requests, nil
}

// archived are the requests of a HAR file that were made of a window.
func archived(window, file string) ([]suite.Recorded, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, usage("%w", err)
	}
	var har archive
	if err := json.Unmarshal(text, &har); err != nil || har.Log.Entries == nil {
		return nil, usage("%s is no HAR file, as browsers save it", file)
	}
	var requests []suite.Recorded
	for _, e := range har.Log.Entries {
		u, err := url.Parse(e.Request.URL)
		if err != nil {
			continue
		}
		path := u.EscapedPath()
		for _, root := range []string{"/api/", "/draft/"} {
			path = strings.TrimPrefix(path, root+window+"/")
		}
		if path == u.EscapedPath() { // of something else on the page
			continue
		}
		if u.RawQuery != "" {
			path += "?" + u.RawQuery
		}
		one := suite.Recorded{Method: e.Request.Method, Path: path, Headers: map[string]string{},
			Status: e.Response.Status,
			Kind:   e.Response.Content.MimeType, Answer: e.Response.Content.Text}
		if e.Request.PostData != nil {
			one.Body = e.Request.PostData.Text
		}
		for _, h := range e.Request.Headers {
			one.Headers[textproto.CanonicalMIMEHeaderKey(h.Name)] = h.Value
			if strings.EqualFold(h.Name, "Act-As") {
				one.ActAs = h.Value
			}
		}
		requests = append(requests, one)
	}
	return requests, nil
}

func (a *app) checkHistory() *cobra.Command {
	c := &cobra.Command{Use: "history WINDOW", Short: "List what you have asked of a draft",
		Long:    "List what you have asked of a window's draft, the last first. The service keeps your last two hundred requests.",
		Example: "  eager ask saltmere /tugs/1\n  eager check history saltmere", Args: exactly("WINDOW")}
	a.outputFlag(c)
	last := c.Flags().Int("last", 20, "how many")
	har := c.Flags().Bool("har", false, "as a HAR file, which browsers and others read")
	c.RunE = func(c *cobra.Command, args []string) error {
		list, err := a.service().Asked(c.Context(), args[0], min(*last, 200))
		if err != nil {
			return err
		}
		if *har {
			e := json.NewEncoder(a.Out)
			e.SetEscapeHTML(false)
			e.SetIndent("", " ")
			return e.Encode(asArchive(a.service().URL+"/draft/"+args[0], list))
		}
		return a.print(list, func(w io.Writer) {
			t := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
			fmt.Fprintln(t, "NUMBER\tAT\tREQUEST\tAS\tSTATUS\tTOOK")
			for _, q := range list {
				path, err := url.PathUnescape(q.Path)
				if err != nil {
					path = q.Path
				}
				fmt.Fprintf(t, "%d\t%s\t%s /%s\t%s\t%d\t%.1f ms\n", q.ID, when(q.At), q.Method, short(path), q.ActAs, q.Status, q.TookMS)
			}
			_ = t.Flush() // as what follows
		})
	}
	return c
}

func (a *app) checkAgain() *cobra.Command {
	c := &cobra.Command{Use: "again WINDOW NUMBER", Short: "Send a request of the history once more",
		Long:    "Send a request of the history of a draft once more, in a rehearsal; its number is in \"eager check history\".",
		Example: "  eager ask saltmere /tugs/1\n  eager check again saltmere 1", Args: exactly("WINDOW", "NUMBER")}
	c.RunE = func(c *cobra.Command, args []string) error {
		list, err := a.service().Asked(c.Context(), args[0], 200)
		if err != nil {
			return err
		}
		i := slices.IndexFunc(list, func(q windows.Asked) bool { return strconv.FormatInt(q.ID, 10) == args[1] })
		if i < 0 {
			return usage("there is no request %s in the history; \"eager check history %s\" lists them", args[1], args[0])
		}
		q := list[i]
		r := client.Request{Method: q.Method, Path: "/draft/" + args[0] + "/" + q.Path, ActAs: q.ActAs,
			Header: http.Header{"Rehearsal": {"once"}}}
		var headers map[string]string
		if err := json.Unmarshal(q.Headers, &headers); err != nil {
			return err
		}
		for name, value := range headers {
			if name != "Rehearsal" {
				r.Header.Set(name, value)
			}
		}
		if q.Body != "" {
			r.Body = strings.NewReader(q.Body)
		}
		res, err := a.service().Send(c.Context(), r)
		if err != nil {
			return err
		}
		defer res.Body.Close()
		if err := client.Check(res); err != nil {
			return err
		}
		return a.answer(res)
	}
	return c
}

func (a *app) checkCompare() *cobra.Command {
	c := &cobra.Command{Use: "compare WINDOW FROM TO [PATH …]", Short: "Ask two versions the same, side by side",
		Long: `Send the same reads to two versions of a window, draft, live or the number of a release, and show where the answers differ, how
long they take, in how many statements, and how large they are. Without paths, a page of each resource.`,
		Example: "  eager check compare saltmere live draft\n  eager check compare saltmere 1 draft \"/tugs?orderby=name&top=3\"",
		Args:    cobra.MinimumNArgs(3)}
	as := c.Flags().StringSlice("as", nil, "act as this role, or several")
	claims := c.Flags().StringToString("claim", nil, "a claim of the role, as name=value")
	a.outputFlag(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		in := windows.NewComparison{From: args[1], To: args[2], ActAs: actAs(*as, *claims)}
		for _, path := range args[3:] {
			in.Paths = append(in.Paths, strings.TrimPrefix(path, "/"))
		}
		list, err := a.service().CompareAnswers(c.Context(), args[0], in)
		if err != nil {
			return err
		}
		if err := a.print(list, func(w io.Writer) { printComparison(w, args[1], args[2], list) }); err != nil {
			return err
		}
		for _, one := range list {
			if one.Difference != "" {
				return errFound
			}
		}
		return nil
	}
	return c
}

func printComparison(w io.Writer, from, to string, list []windows.ComparedAnswer) {
	t := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	fmt.Fprintf(t, "REQUEST\t%s\t\t\t\t%s\t\t\t\tANSWERS\n", strings.ToUpper(from), strings.ToUpper(to))
	for _, one := range list {
		same := "the same"
		if one.Difference != "" {
			same = one.Difference
		}
		cell := func(a windows.AnswerFigures) string {
			return fmt.Sprintf("%d\t%.1f ms\t%s\t%d B", a.Status, a.Milliseconds, counted(int64(a.Statements), "statement"), a.Bytes)
		}
		fmt.Fprintf(t, "/%s\t%s\t%s\t%s\n", one.Path, cell(one.From), cell(one.To), short(same))
	}
	_ = t.Flush() // as what follows
}
