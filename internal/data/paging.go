package data

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"hash/fnv"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/statement"
	"eagerwindow/internal/postgres"
)

// Page is an answer as it is read from the database: one row, or the rows of a page and the link to the next one.
type Page struct {
	Context   string // of @context, after "$metadata#"
	Single    bool
	Counted   bool
	View      query.View
	Field     *model.Field  // the answer is this field of the row
	Explained *Explanation  // asked for in place of the rows; there are none then
	Waited    time.Duration // for the database, until its first row
	Empty     bool          // there is no row; of a single one, that a relation leads to none

	api    *API
	caller access.Caller
	role   string
	read   *request.Request
	plan   *planned
	cursor *postgres.Cursor
	span   span
	handed int64
	last   []byte // order values of the page's last row, where another page follows
	more   bool
}

// span says where a page begins and ends.
type span struct {
	size   int64 // rows that are handed out at most
	left   int64 // rows that top asks for, from this page on; -1: all
	offset int64

	preferred bool // the size is the caller's preference, as far as the resource allows
}

// probes reports whether one row more than the page is fetched, to see whether another page follows.
func (s span) probes() bool { return s.left != s.size }

func (s span) fetch() int64 {
	if s.probes() {
		return s.size + 1
	}
	return s.size
}

// commonSizes are page sizes that many requests ask for.
var commonSizes = []int64{1, 2, 5, 10, 20, 25, 50, 100, 200, 250, 500, 1000}

func (s span) bounds() statement.Bounds {
	b := statement.Bounds{Offset: s.offset > 0}
	if slices.Contains(commonSizes, s.size) {
		b.Rows = s.fetch()
	}
	return b
}

// spanOf settles the page of a request: what top or the preference asks for, at most what the resource and the role allow; 0 is no
// limit of the role.
func spanOf(r *request.Request, t *nextToken, prefs Preferences, most int) (s span, err error) {
	s.size = int64(r.Resource.Page.Default)
	if s.left, err = r.Number("top"); err != nil {
		return s, err
	}
	if s.offset, err = r.Number("skip"); err != nil {
		return s, err
	}
	s.offset = max(s.offset, 0)
	if t != nil {
		s.left, s.offset = t.Left, t.Skip
	}
	switch {
	case prefs.MaxPageSize > 0:
		s.size, s.preferred = int64(prefs.MaxPageSize), true
	case s.left >= 0:
		s.size = s.left
	}
	for _, most := range []int{r.Resource.Page.Max, most} {
		if most > 0 {
			s.size = min(s.size, int64(most))
		}
	}
	if s.left >= 0 {
		s.size = min(s.size, s.left)
	}
	return s, nil
}

// Next moves to the next row of a collection's page and reports whether there is one. The first has been fetched by Read.
func (p *Page) Next() bool {
	if p.Empty {
		return false
	}
	if p.handed == p.span.size {
		if p.handed > 0 && p.span.probes() && p.last == nil {
			p.last = p.cursor.AppendOrder(nil)
			p.more = p.cursor.Next()
		}
		return false
	}
	if p.handed > 0 && !p.cursor.Next() {
		return false
	}
	p.handed++
	return true
}

// ETag is the entity tag of a single row: its version, and what representation of it the answer is (RFC 9110, 8.8.3.3). Where an answer
// depends on more than the row, on related rows or on the time, it has none.
func (p *Page) ETag() string {
	version := p.Version()
	if version == "" {
		return ""
	}
	tag := version + "." + p.plan.variant
	if p.plan.personal {
		sum := fnv.New32a()
		claims, _ := json.Marshal(p.caller.Claims) // came as JSON
		_, _ = sum.Write(claims)
		tag += "." + strconv.FormatUint(uint64(sum.Sum32()), 36)
	}
	return etag(tag)
}

// Version is when a single row was last changed, "" where it is not known.
func (p *Page) Version() string {
	if p.Empty || !p.Single || p.plan.query.Plan.Version < 0 {
		return ""
	}
	return strconv.FormatUint(uint64(p.cursor.Version()), 10)
}

// AppendHeader writes what the format has before the rows.
func (p *Page) AppendHeader(dst []byte) []byte { return p.plan.query.AppendHeader(dst) }

// AppendRow writes the row at hand as the format has it.
func (p *Page) AppendRow(dst []byte) []byte { return p.cursor.AppendRow(dst, p.nextNested) }

// nextNested links the rest of the rows of an expanded relation.
func (p *Page) nextNested(row, it, way string, shown int64) string {
	return p.api.Root() + "/" + p.read.NextNested(row, it, way, shown)
}

// Shape is the request without its values, as a log has it.
func (p *Page) Shape() string { return p.plan.shown }

// shownShape is a shape as people write requests: vessels?filter=name ne ?&top=?.
func shownShape(shape string) string {
	const most = 200
	parts := strings.Split(strings.TrimPrefix(literalClass.ReplaceAllString(shape, " ?"), "/"), "&")
	for i := range parts[1:] {
		parts[i+1] = strings.Replace(parts[i+1], " ", "=", 1)
	}
	text := parts[0]
	if len(parts) > 1 {
		text += "?" + strings.Join(parts[1:], "&")
	}
	return strings.ToValidUTF8(text[:min(len(text), most)], "")
}

// literalClass is what a literal is in a shape: the letter of its class, before it that of a list.
var literalClass = regexp.MustCompile(` [a-zA-Z]{1,2}\?`)

// Total is the number of rows of the filter, where the caller asked for it.
func (p *Page) Total() int64 { return p.cursor.Total() }

// Preferred is the size of the page where the caller's preference settled it, else 0.
func (p *Page) Preferred() int64 {
	if !p.span.preferred {
		return 0
	}
	return p.span.size
}

// Rows is the number of rows handed out so far.
func (p *Page) Rows() int64 { return p.handed }

// Close ends the reading and says what went wrong on the way.
func (p *Page) Close() error { return p.cursor.Close() }

// SkipToken is what the next link carries, once Next has said that the page is over; "" where no page follows.
func (p *Page) SkipToken() (string, error) {
	if !p.more {
		return "", nil
	}
	t := nextToken{Left: -1}
	if p.span.left >= 0 {
		t.Left = p.span.left - p.span.size
	}
	if len(p.plan.resource.Key) == 0 {
		t.Skip = p.span.offset + p.span.size // rows that nothing tells apart can only be counted
	} else if err := json.Unmarshal(p.last, &t.After); err != nil {
		return "", fmt.Errorf("keep the last row for the next link: %w", err)
	}
	plain, err := json.Marshal(t)
	if err != nil {
		return "", fmt.Errorf("write the next link: %w", err)
	}
	return base64.RawURLEncoding.EncodeToString(p.api.box.Seal(plain, p.api.Model.Name, p.role, p.read.Fingerprint())), nil
}

// nextToken is what a next link carries: the order values of the row after which the page begins, and how many rows top still
// asks for. It travels sealed: values that the caller may not read can be among them.
type nextToken struct {
	After []json.RawMessage `json:"a,omitempty"`
	Skip  int64             `json:"s,omitempty"`
	Left  int64             `json:"l"`
}

var errToken = fault.New(fault.Invalid, "next_link.invalid",
	"the next link is not one that this API gave for this request; begin again without skiptoken").On("skiptoken")

func (a *API) openToken(r *request.Request, role string) (*nextToken, error) {
	if r.After == "" {
		return nil, nil
	}
	sealed, err := base64.RawURLEncoding.DecodeString(r.After)
	if err != nil {
		return nil, errToken
	}
	plain, err := a.box.Open(sealed, a.Model.Name, role, r.Fingerprint())
	if err != nil {
		return nil, errToken
	}
	t := &nextToken{}
	if err := json.Unmarshal(plain, t); err != nil {
		return nil, errToken
	}
	return t, nil
}

// shape tells the plans of continued pages apart: by which values are null.
func (t *nextToken) shape() string {
	if t == nil {
		return ""
	}
	s := make([]byte, len(t.After))
	for i, v := range t.After {
		s[i] = 'v'
		if string(v) == "null" {
			s[i] = '0'
		}
	}
	return string(s)
}

// nulls says which values are null; it is nil where the page does not go on from a row.
func (t *nextToken) nulls(terms int) ([]bool, error) {
	if t == nil || t.After == nil {
		return nil, nil
	}
	if len(t.After) != terms { // a release since has another order
		return nil, errToken
	}
	out := make([]bool, terms)
	for i, v := range t.After {
		out[i] = string(v) == "null"
	}
	return out, nil
}

// values are the values as texts that PostgreSQL casts to the types of the order, nil for null.
func (t *nextToken) values(order []query.Term) []*string {
	if t == nil {
		return nil
	}
	out := make([]*string, len(t.After))
	for i, raw := range t.After {
		if string(raw) == "null" {
			continue
		}
		text := string(raw)
		if raw[0] == '"' {
			_ = json.Unmarshal(raw, &text) // it is our own writing, and sealed
			switch k := order[i].By.Type().Kind; {
			case k.Numeric():
				text = strings.Replace(text, "INF", "Infinity", 1)
			case k == model.Binary:
				b, _ := base64.RawURLEncoding.DecodeString(text)
				text = `\x` + hex.EncodeToString(b)
			}
		}
		out[i] = &text
	}
	return out
}
