// Package payload reads the bodies of writes: JSON in, for each field a value that PostgreSQL takes, or all mistakes at once,
// each with its field, what was expected and what was found.
package payload

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/window"
)

// Row is the body of a write: the fields that it gives, in the resource's order, and for each its value as PostgreSQL reads
// it, nil for null.
type Row struct {
	Fields   []*model.Field
	Values   []*string
	Defaults []*model.Field // of a replacement: what goes to its default
}

// Read reads the body of a create or an update of a resource, as the decision allows it.
func Read(body []byte, r *model.Resource, op window.Operation, d *access.Decision) (*Row, error) {
	return read(body, r, op, d, nil, false)
}

// Replace reads the body of a replacement: what it leaves out, of all that the decision lets it write, goes to its default.
func Replace(body []byte, r *model.Resource, d *access.Decision) (*Row, error) {
	return read(body, r, window.Update, d, nil, true)
}

// CreateAt reads the body of a create whose key the path gives, by the order of the key's fields.
func CreateAt(body []byte, r *model.Resource, d *access.Decision, key []string) (*Row, error) {
	return read(body, r, window.Create, d, key, false)
}

func read(body []byte, r *model.Resource, op window.Operation, d *access.Decision, key []string, replace bool) (*Row, error) {
	members, err := object(body)
	if err != nil {
		return nil, err
	}
	rd := &reader{resource: r, op: op, decision: d}
	values := make([]*string, len(r.Fields))
	given := make([]bool, len(r.Fields))
	for i := range key {
		f := r.Key[i]
		values[f.Index], given[f.Index] = &key[i], true
	}
	for _, m := range members {
		if f := r.Field(m.name); f != nil && f.InKey && (key != nil || op == window.Update) {
			continue // the path names the row; sent back, its key is passed over (Protocol, 11.4.3)
		}
		if strings.HasPrefix(m.name, "@") {
			continue // control information: what a client read and sends back
		}
		f := rd.field(m.name)
		if f == nil {
			continue
		}
		given[f.Index] = true
		if v, ok := rd.value(f, m.value); ok {
			values[f.Index] = v
		}
	}
	var defaults []*model.Field
	switch {
	case op == window.Create:
		rd.missing(given)
	case replace:
		for _, f := range r.Fields {
			if !given[f.Index] && d.Fields[f.Index] && !f.ReadOnly && !f.InKey && !rd.preset(f) {
				defaults = append(defaults, f)
				if f.Required {
					rd.wrong(f.Name, "field.missing", "is required: %s; a replacement gives the whole row, PATCH changes what it names", articled(f.Type))
				}
			}
		}
	}
	if err := rd.mistakes.Fault(fault.Invalid, "body.invalid", fmt.Sprintf("the body has %d mistakes", len(rd.mistakes))); err != nil {
		return nil, err
	}
	row := &Row{Defaults: defaults}
	for i, ok := range given {
		if ok {
			row.Fields = append(row.Fields, r.Fields[i])
			row.Values = append(row.Values, values[i])
		}
	}
	if op == window.Update && !replace && len(row.Fields) == 0 {
		return nil, fault.New(fault.Invalid, "body.empty", "the body names no field to change; %s has %s", r.Name, strings.Join(rd.writable(), ", "))
	}
	return row, nil
}

type member struct {
	name  string
	value json.RawMessage
}

// object parts the body into its members and refuses what is no single JSON object, with the line and column.
func object(body []byte) ([]member, error) {
	if len(bytes.TrimSpace(body)) == 0 {
		return nil, fault.New(fault.Invalid, "body.missing", "the body is empty; a JSON object with the row's fields is expected")
	}
	if !utf8.Valid(body) {
		return nil, fault.New(fault.Invalid, "body.syntax", "the body is not valid UTF-8")
	}
	if err := json.Unmarshal(body, new(json.RawMessage)); err != nil {
		return nil, notJSON(body, err)
	}
	if trimmed := bytes.TrimSpace(body); trimmed[0] != '{' {
		return nil, fault.New(fault.Invalid, "body.type", "a JSON object with the row's fields is expected, this is %s", found(trimmed))
	}
	d := json.NewDecoder(bytes.NewReader(body))
	if _, err := d.Token(); err != nil { // the opening brace
		return nil, notJSON(body, err)
	}
	var members []member
	for d.More() {
		name, err := d.Token()
		if err != nil {
			return nil, notJSON(body, err)
		}
		m := member{name: name.(string)}
		if err := d.Decode(&m.value); err != nil {
			return nil, notJSON(body, err)
		}
		if slices.ContainsFunc(members, func(o member) bool { return o.name == m.name }) {
			return nil, fault.New(fault.Invalid, "body.duplicate", "%q stands twice in the body", m.name).On(m.name)
		}
		members = append(members, m)
	}
	return members, nil
}

// notJSON tells where the body stops being JSON, line and column counted from 1.
func notJSON(body []byte, err error) error {
	offset := len(body)
	var syntax *json.SyntaxError
	if errors.As(err, &syntax) {
		offset = min(max(int(syntax.Offset)-1, 0), len(body))
	}
	before := body[:offset]
	line := bytes.Count(before, []byte("\n")) + 1
	column := utf8.RuneCount(before[bytes.LastIndexByte(before, '\n')+1:]) + 1
	return fault.New(fault.Invalid, "body.syntax", "the body is not JSON: line %d, column %d: %s", line, column, err)
}

type reader struct {
	resource *model.Resource
	op       window.Operation
	decision *access.Decision
	mistakes fault.List
}

func (rd *reader) wrong(f string, code, format string, args ...any) {
	rd.mistakes.Add(code, f, 0, 0, f+": "+format, args...)
}

// writable lists the fields that the caller may send.
func (rd *reader) writable() []string {
	var names []string
	for _, f := range rd.resource.Fields {
		if rd.decision.Fields[f.Index] && !f.ReadOnly && !(rd.op == window.Update && f.InKey) {
			names = append(names, f.Name)
		}
	}
	return names
}

func (rd *reader) field(name string) *model.Field {
	f := rd.resource.Field(name)
	switch {
	case f == nil && rd.resource.Relation(name) != nil:
		rd.wrong(name, "field.unknown", "this is a relation of %s; rows of it are written on their own", rd.resource.Name)
	case f == nil:
		rd.wrong(name, "field.unknown", "%s has no such field%s", rd.resource.Name, fault.Suggest(name, rd.writable()))
	case f.ReadOnly:
		rd.wrong(name, "field.readonly", "the database fills this field itself; leave it out")
	case rd.preset(f):
		rd.wrong(name, "field.preset", "the service sets this field for your role; leave it out")
	case !rd.decision.Fields[f.Index]:
		rd.wrong(name, "access.field", "your role may not %s this field; it may %s %s", rd.op, rd.op, strings.Join(rd.writable(), ", "))
	default:
		return f
	}
	return nil
}

func (rd *reader) preset(f *model.Field) bool {
	return slices.ContainsFunc(rd.decision.Set, func(p access.Preset) bool { return p.Field == f })
}

func (rd *reader) missing(given []bool) {
	for _, f := range rd.resource.Fields {
		if f.Required && !given[f.Index] && !rd.preset(f) {
			rd.wrong(f.Name, "field.missing", "is required: %s", articled(f.Type))
		}
	}
}

// value converts one member. A second result of false says that a mistake was noted.
func (rd *reader) value(f *model.Field, raw json.RawMessage) (*string, bool) {
	if string(raw) == "null" && f.Type.Kind != model.JSON || string(raw) == "null" && f.Nullable {
		if !f.Nullable {
			rd.wrong(f.Name, "field.null", "can't be null: %s is expected", articled(f.Type))
			return nil, false
		}
		return nil, true
	}
	text, err := convert(raw, f.Type)
	if err != nil {
		rd.wrong(f.Name, "value.invalid", "%s", err)
		return nil, false
	}
	return &text, true
}

// convert is the JSON value as PostgreSQL reads the type, or an error that says what was expected and found.
func convert(raw json.RawMessage, t *model.Type) (string, error) {
	mismatch := func(hint string) error {
		if hint != "" {
			hint = "; " + hint
		}
		return fmt.Errorf("%s is expected, this is %s%s", articled(t), found(raw), hint)
	}
	switch t.Kind {
	case model.JSON:
		if bytes.Contains(raw, []byte(`\u0000`)) {
			return "", fmt.Errorf("the text holds a NUL character, which can't be stored")
		}
		return string(raw), nil
	case model.Boolean:
		if s := string(raw); s == "true" || s == "false" {
			return s, nil
		}
		return "", mismatch(unquote(raw, "true", "false"))
	case model.Int16, model.Int32, model.Int64:
		return wholeNumber(raw, t, mismatch)
	case model.Decimal, model.Single, model.Double:
		return number(raw, t, mismatch)
	case model.Collection:
		return array(raw, t, mismatch)
	case model.Complex, model.Range:
		return "", fmt.Errorf("values of this type can't be written yet")
	}
	var s string
	if raw[0] != '"' || json.Unmarshal(raw, &s) != nil {
		hint := ""
		if raw[0] != '{' && raw[0] != '[' && raw[0] != 'n' {
			hint = "put it in quotes"
		}
		return "", mismatch(hint)
	}
	if strings.ContainsRune(s, utf8.RuneError) && !bytes.Contains(raw, []byte("\uFFFD")) && !bytes.Contains(bytes.ToLower(raw), []byte(`\ufffd`)) {
		return "", fmt.Errorf("the text holds half of a surrogate pair, which is no character")
	}
	return stringValue(s, t)
}

func stringValue(s string, t *model.Type) (string, error) {
	switch {
	case strings.IndexByte(s, 0) >= 0:
		return "", fmt.Errorf("the text holds a NUL character, which can't be stored")
	case t.Kind == model.String:
		if n := utf8.RuneCountInString(s); t.Length > 0 && n > t.Length {
			return "", fmt.Errorf("at most %d characters fit, this has %d", t.Length, n)
		}
		return s, nil
	case t.Kind == model.Binary:
		b, err := base64.RawURLEncoding.DecodeString(strings.TrimRight(s, "="))
		if err != nil {
			return "", fmt.Errorf("base64url text is expected (letters, digits, - and _)")
		}
		return fmt.Sprintf(`\x%x`, b), nil
	}
	v := request.Value{T: t, Fixed: &request.Literal{Class: request.Segment, Text: s}}
	arg, err := v.Arg(nil)
	if err != nil {
		if t.Kind == model.Enum {
			return "", fmt.Errorf("%s is expected, this is %q%s", articled(t), s, fault.Suggest(s, t.Values))
		}
		return "", fmt.Errorf("%s is expected, such as %s; this is %q", articled(t), example(t), s)
	}
	if m, ok := arg.(time.Time); ok && t.Kind == model.Instant {
		return m.Format(time.RFC3339Nano), nil
	}
	return s, nil
}

func wholeNumber(raw json.RawMessage, t *model.Type, mismatch func(string) error) (string, error) {
	if !isNumber(raw) {
		return "", mismatch(numberInQuotes(raw))
	}
	bits := map[model.Kind]int{model.Int16: 16, model.Int32: 32, model.Int64: 64}[t.Kind]
	if strings.ContainsAny(string(raw), ".eE") {
		return "", mismatch("it has to be whole")
	}
	if _, err := strconv.ParseInt(string(raw), 10, bits); err != nil {
		return "", fmt.Errorf("the number is out of range: from %d to %d", -1<<(bits-1), 1<<(bits-1)-1)
	}
	return string(raw), nil
}

func number(raw json.RawMessage, t *model.Type, mismatch func(string) error) (string, error) {
	if s := string(raw); s == `"NaN"` || s == `"INF"` || s == `"-INF"` {
		return strings.Replace(strings.Trim(s, `"`), "INF", "Infinity", 1), nil
	}
	if !isNumber(raw) {
		return "", mismatch(numberInQuotes(raw))
	}
	if t.Kind != model.Decimal {
		bits := 64
		if t.Kind == model.Single {
			bits = 32
		}
		if _, err := strconv.ParseFloat(string(raw), bits); err != nil {
			return "", fmt.Errorf("the number is out of range")
		}
		return string(raw), nil
	}
	return decimal(string(raw), t)
}

// decimal checks the digits before and after the point, as PostgreSQL would round the latter in silence.
func decimal(s string, t *model.Type) (string, error) {
	if _, exponent, ok := strings.Cut(strings.ToLower(s), "e"); ok {
		if n, err := strconv.Atoi(exponent); err != nil || n > 1000 || n < -1000 {
			return "", fmt.Errorf("the number is out of range")
		}
		return s, nil
	}
	if t.Precision == 0 {
		return s, nil
	}
	whole, fraction, _ := strings.Cut(strings.TrimLeft(strings.TrimPrefix(s, "-"), "0"), ".")
	if len(whole) > t.Precision-t.Scale {
		return "", fmt.Errorf("at most %d digits fit before the point, this has %d", t.Precision-t.Scale, len(whole))
	}
	if n := len(strings.TrimRight(fraction, "0")); n > t.Scale {
		return "", fmt.Errorf("at most %d digits fit after the point, this has %d", t.Scale, n)
	}
	return s, nil
}

// array writes a JSON array as PostgreSQL's array text.
func array(raw json.RawMessage, t *model.Type, mismatch func(string) error) (string, error) {
	var items []json.RawMessage
	if raw[0] != '[' || json.Unmarshal(raw, &items) != nil {
		return "", mismatch("")
	}
	var b strings.Builder
	b.WriteByte('{')
	for i, item := range items {
		if i > 0 {
			b.WriteByte(',')
		}
		if string(item) == "null" {
			b.WriteString("NULL")
			continue
		}
		nested := item[0] == '[' && t.Element.Kind != model.JSON // PostgreSQL's arrays of arrays have the type of the inner one
		of := t.Element
		if nested {
			of = t
		}
		text, err := convert(item, of)
		if err != nil {
			return "", fmt.Errorf("item %d: %w", i+1, err)
		}
		if nested {
			b.WriteString(text)
			continue
		}
		b.WriteByte('"')
		b.WriteString(strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(text))
		b.WriteByte('"')
	}
	b.WriteByte('}')
	return b.String(), nil
}

func isNumber(raw json.RawMessage) bool { return raw[0] == '-' || raw[0] >= '0' && raw[0] <= '9' }

func numberInQuotes(raw json.RawMessage) string {
	var s string
	if raw[0] == '"' && json.Unmarshal(raw, &s) == nil {
		if _, err := strconv.ParseFloat(s, 64); err == nil {
			return "leave out the quotes"
		}
	}
	return ""
}

func unquote(raw json.RawMessage, words ...string) string {
	if slices.Contains(words, strings.Trim(string(raw), `"`)) {
		return "leave out the quotes"
	}
	return ""
}

// found names what a JSON value is.
func found(raw []byte) string {
	switch raw[0] {
	case '"':
		return "a string"
	case '{':
		return "an object"
	case '[':
		return "an array"
	case 't', 'f':
		return "a boolean"
	case 'n':
		return "null"
	}
	return "a number"
}

func articled(t *model.Type) string {
	switch t.Kind {
	case model.Enum:
		return t.String()
	case model.Int16, model.Int32, model.Int64, model.Collection, model.Complex:
		return "an " + t.String()
	case model.Decimal:
		if t.Precision > 0 && t.Scale > 0 {
			return fmt.Sprintf("a number (at most %d digits, %d of them after the point)", t.Precision, t.Scale)
		}
	}
	return "a " + t.String()
}

func example(t *model.Type) string {
	switch t.Kind {
	case model.Date:
		return `"2026-07-01"`
	case model.TimeOfDay:
		return `"12:30:00"`
	case model.Instant:
		return `"2026-07-01T12:30:00Z"`
	case model.Duration:
		return `"PT48H"`
	case model.GUID:
		return `"0e2c7a52-3f6d-4c1b-9f0e-2d8a6c4b1e90"`
	}
	return `"…"`
}
