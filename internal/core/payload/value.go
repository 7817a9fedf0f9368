package payload

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"math/big"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf16"
	"unicode/utf8"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/jsontext"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/syntax"
)

// convert is the JSON value as PostgreSQL reads the type, or an error that says what was expected and found.
func convert(raw string, t *model.Type) (string, error) {
	mismatch := func(hint string) error {
		if hint != "" {
			hint = "; " + hint
		}
		return fmt.Errorf("%s is expected, this is %s%s", withArticle(t), kindOf(raw), hint)
	}
	switch t.Kind {
	case model.JSON:
		return raw, storable(raw)
	case model.Boolean:
		if raw == "true" || raw == "false" {
			return raw, nil
		}
		return "", mismatch(unquote(raw, "true", "false"))
	case model.Int16, model.Int32, model.Int64:
		return wholeNumber(raw, t, mismatch)
	case model.Decimal, model.Single, model.Double:
		return number(raw, t, mismatch)
	case model.Collection:
		return array(raw, t, mismatch)
	case model.Range:
		if t.Multi {
			return ranges(raw, t, mismatch)
		}
		return rangeText(raw, t, mismatch)
	case model.Complex:
		return composite(raw, t, mismatch)
	}
	if raw[0] == '"' && strings.IndexByte(raw, '\\') < 0 { // as most are
		return stringValue(raw[1:len(raw)-1], t)
	}
	s, ok := jsontext.Unquote(raw)
	if !ok {
		return "", notText(raw, t, mismatch)
	}
	if err := storable(raw); err != nil {
		return "", err
	}
	return stringValue(s, t)
}

// notText says how what is no string should be written.
func notText(raw string, t *model.Type, mismatch func(string) error) error {
	if raw[0] == '{' || raw[0] == '[' || raw[0] == 'n' {
		return mismatch("")
	}
	if _, err := stringValue(raw, t); err == nil {
		return mismatch("put it in quotes")
	}
	if e := example(t); e != noExample {
		return fmt.Errorf("%s is expected, such as %s; this is %s", withArticle(t), e, kindOf(raw))
	}
	return mismatch("")
}

// storable says what of escaped characters no text of PostgreSQL can hold.
func storable(raw string) error {
	for at := 0; ; {
		i := strings.IndexByte(raw[at:], '\\')
		if i < 0 {
			return nil
		}
		at += i + 2 // what is escaped may be a backslash
		if raw[at-1] != 'u' {
			continue
		}
		unit := codeUnit(raw[at:])
		at += 4
		switch {
		case unit == 0:
			return fmt.Errorf("the text holds a NUL character, which can't be stored")
		case !utf16.IsSurrogate(unit):
			continue
		}
		if !strings.HasPrefix(raw[at:], `\u`) || utf16.DecodeRune(unit, codeUnit(raw[at+2:])) == utf8.RuneError {
			return fmt.Errorf("the text holds half of a surrogate pair, which is no character")
		}
		at += len(`\udc00`)
	}
}

// codeUnit reads the four digits after \u, of a body that is known to be JSON.
func codeUnit(digits string) rune {
	unit, _ := strconv.ParseUint(digits[:4], 16, 16)
	return rune(unit)
}

func stringValue(s string, t *model.Type) (string, error) {
	switch {
	case strings.IndexByte(s, 0) >= 0: // of a key in the path
		return "", fmt.Errorf("the text holds a NUL character, which can't be stored")
	case t.Kind == model.Opaque: // the database knows
		return s, nil
	case t.Kind == model.String:
		if n := utf8.RuneCountInString(s); t.Length > 0 && n > t.Length {
			return "", fmt.Errorf("at most %s, this has %d", fit(t.Length, "character"), n)
		}
		return s, nil
	case t.Kind == model.Binary:
		b, err := base64.RawURLEncoding.DecodeString(strings.TrimRight(s, "="))
		if err != nil {
			return "", fmt.Errorf("base64url text is expected (letters, digits, - and _)")
		}
		return fmt.Sprintf(`\x%x`, b), nil
	}
	v := query.Value{T: t, Fixed: &syntax.Literal{Class: syntax.Segment, Text: s}}
	arg, err := v.Arg(nil)
	if err != nil {
		if t.Kind == model.Enum {
			return "", fmt.Errorf("%s is expected, this is %q%s", withArticle(t), s, fault.Meant(s, t.Values))
		}
		return "", fmt.Errorf("%s is expected, such as %s; this is %q", withArticle(t), example(t), s)
	}
	if text, ok := arg.(string); ok && t.Kind == model.Duration {
		return text, nil
	}
	if m, ok := arg.(time.Time); ok && !isPlain(s) {
		return query.TimeText(m, t.Kind), nil
	}
	return s, nil
}

// isPlain reports whether a timestamp that has been read is written as it would be written again.
func isPlain(s string) bool {
	return len(s) == len("2026-07-01T12:30:00Z") && s[10] == 'T' && s[len(s)-1] == 'Z' && s[:4] != "0000"
}

func wholeNumber(raw string, t *model.Type, mismatch func(string) error) (string, error) {
	raw = unquoted(raw, t)
	if !isNumber(raw) {
		return "", mismatch(numberInQuotes(raw))
	}
	bits := 64
	switch t.Kind {
	case model.Int16:
		bits = 16
	case model.Int32:
		bits = 32
	}
	if strings.ContainsAny(raw, ".eE") { // 3.0 is whole (JSON Schema Validation, 6.1.1)
		var ok bool
		if raw, ok = plainWhole(raw); !ok {
			return "", mismatch("it has to be whole")
		}
	}
	if _, err := strconv.ParseInt(raw, 10, bits); err != nil {
		return "", fmt.Errorf("the number is out of range: from %d to %d", -1<<(bits-1), 1<<(bits-1)-1)
	}
	return raw, nil
}

// plainWhole writes a whole number without point and exponent, and one that no integer is wide enough for as it stands.
func plainWhole(raw string) (whole string, ok bool) {
	digits, point, ok := significant(raw)
	switch {
	case !ok || point > len("-9223372036854775808"):
		return raw, true
	case digits == "":
		return "0", true
	case len(digits) > point:
		return "", false
	}
	whole = digits + strings.Repeat("0", point-len(digits))
	if raw[0] == '-' {
		whole = "-" + whole
	}
	return whole, true
}

// significant are the digits of a number between its leading and its trailing zeros, and how many of them stand before the point; the
// count is negative where zeros come between the point and them. It says no to an exponent that no type has room for.
func significant(raw string) (digits string, point int, ok bool) {
	mantissa, exponent, shifted := strings.Cut(strings.ToLower(strings.TrimPrefix(raw, "-")), "e")
	if shifted {
		var err error
		if point, err = strconv.Atoi(exponent); err != nil || point > 1000 || point < -1000 {
			return "", 0, false
		}
	}
	whole, fraction, _ := strings.Cut(mantissa, ".")
	all := whole + fraction
	digits = strings.TrimLeft(all, "0")
	point += len(whole) - (len(all) - len(digits))
	return strings.TrimRight(digits, "0"), point, true
}

func number(raw string, t *model.Type, mismatch func(string) error) (string, error) {
	if raw == `"NaN"` || raw == `"INF"` || raw == `"-INF"` {
		return strings.Replace(strings.Trim(raw, `"`), "INF", "Infinity", 1), nil
	}
	raw = unquoted(raw, t)
	if !isNumber(raw) {
		return "", mismatch(numberInQuotes(raw))
	}
	if t.Kind != model.Decimal {
		bits := 64
		if t.Kind == model.Single {
			bits = 32
		}
		if _, err := strconv.ParseFloat(raw, bits); err != nil {
			return "", fmt.Errorf("the number is out of range")
		}
		return raw, nil
	}
	return decimal(raw, t)
}

// unquoted is a number without its quotes, where the body has numbers of the type in quotes; one without quotes is read too.
func unquoted(raw string, t *model.Type) string {
	if s, ok := jsontext.Unquote(raw); ok && t.Quoted && s != "" {
		if _, err := strconv.ParseFloat(s, 64); err == nil && isNumber(s) && json.Valid([]byte(s)) {
			return s
		}
	}
	return raw
}

// decimal checks the digits before and after the point, as PostgreSQL would round the latter in silence.
func decimal(s string, t *model.Type) (string, error) {
	digits, point, ok := significant(s)
	switch {
	case !ok:
		return "", fmt.Errorf("the number is out of range")
	case t.Precision == 0 || digits == "": // any digits fit, or there are none
		return s, nil
	case point > t.Precision-t.Scale:
		return "", fmt.Errorf("at most %s before the point, this has %d", fit(t.Precision-t.Scale, "digit"), point)
	}
	if after := len(digits) - point; after > t.Scale {
		return "", fmt.Errorf("at most %s after the point, this has %d", fit(t.Scale, "digit"), after)
	}
	return s, nil
}

// fit says how many of something there is room for.
func fit(n int, what string) string {
	if n == 1 {
		return "1 " + what + " fits"
	}
	return fmt.Sprintf("%d %ss fit", n, what)
}

// mostDimensions is how deep PostgreSQL's arrays stand in arrays (its documentation, 8.15).
const mostDimensions = 6

// array writes a JSON array as PostgreSQL's array text.
func array(raw string, t *model.Type, mismatch func(string) error) (string, error) {
	items, ok := jsontext.Elements(raw)
	if !ok {
		return "", mismatch("")
	}
	var b strings.Builder
	err := writeArray(&b, items, t, 1)
	return b.String(), err
}

// writeArray writes one dimension of an array. Arrays of arrays have the type of the inner one, and are all of one length.
func writeArray(b *strings.Builder, items []string, t *model.Type, dimension int) error {
	size := -1 // of the arrays in this one; -1: there are none
	b.WriteByte('{')
	for i, item := range items {
		if i > 0 {
			b.WriteByte(',')
		}
		var inner []string
		length := -1
		if t.Element.Kind != model.JSON && item[0] == '[' {
			if dimension == mostDimensions {
				return fmt.Errorf("arrays stand at most %d deep", mostDimensions)
			}
			inner, _ = jsontext.Elements(item)
			length = len(inner)
		}
		if i == 0 {
			size = length
		}
		if length != size {
			return fmt.Errorf("item %d: the items of an array are arrays of one length, or none is an array", i+1)
		}
		if err := writeItem(b, item, inner, t, dimension); err != nil {
			return fmt.Errorf("item %d: %w", i+1, err)
		}
	}
	b.WriteByte('}')
	return nil
}

func writeItem(b *strings.Builder, item string, inner []string, t *model.Type, dimension int) error {
	if inner != nil {
		return writeArray(b, inner, t, dimension+1)
	}
	if item == "null" {
		b.WriteString("NULL")
		return nil
	}
	text, err := convert(item, t.Element)
	if err != nil {
		return err
	}
	b.WriteByte('"')
	b.WriteString(escaped.Replace(text))
	b.WriteByte('"')
	return nil
}

// escaped escapes what stands in quotes in the text of an array.
var escaped = strings.NewReplacer(`\`, `\\`, `"`, `\"`)

// rangeText writes an object with bounds as PostgreSQL's range text. An end that is left out is open.
func rangeText(raw string, t *model.Type, mismatch func(string) error) (string, error) {
	given, err := rangeParts(raw, t, mismatch)
	if err != nil {
		return "", err
	}
	if given["empty"] != nil && *given["empty"] == "true" {
		return "empty", nil
	}
	bounds, ends := "[)", [2]string{}
	if b := given["bounds"]; b != nil {
		bounds = *b
	}
	for i, name := range []string{"lower", "upper"} {
		if text := given[name]; text != nil {
			ends[i] = `"` + doubled.Replace(*text) + `"`
		}
	}
	return bounds[:1] + ends[0] + "," + ends[1] + bounds[1:], nil
}

// rangeParts are the parts of a range that an object gives, as PostgreSQL reads them; nil for null.
func rangeParts(raw string, t *model.Type, mismatch func(string) error) (map[string]*string, error) {
	members, err := partsOf(raw, mismatch, `as in {"lower":1,"upper":5,"bounds":"[)"}`)
	if err != nil {
		return nil, err
	}
	given := map[string]*string{}
	for _, m := range members {
		var text string
		switch m.name {
		case "lower", "upper":
			if m.value == "null" {
				given[m.name] = nil
				continue
			}
			if text, err = convert(m.value, t.Element); err != nil {
				return nil, fmt.Errorf("%s: %w", m.name, err)
			}
		case "bounds":
			if text, _ = jsontext.Unquote(m.value); !slices.Contains([]string{"[]", "[)", "(]", "()"}, text) {
				return nil, fmt.Errorf(`bounds: one of "[]", "[)", "(]", "()" is expected, this is %s`, m.value)
			}
		case "empty":
			if text = m.value; text != "true" && text != "false" {
				return nil, fmt.Errorf("empty: a boolean is expected, this is %s", kindOf(m.value))
			}
		default:
			return nil, fmt.Errorf("a range has no %q; it has lower, upper, bounds, empty", m.name)
		}
		given[m.name] = &text
	}
	if lower, upper := given["lower"], given["upper"]; lower != nil && upper != nil && swapped(*lower, *upper, t.Element) {
		return nil, fmt.Errorf("lower is %s and upper is %s; the lower bound comes first", *lower, *upper)
	}
	return given, nil
}

// swapped reports whether the bounds of a range are in the wrong order, where that can be said of their texts.
func swapped(lower, upper string, t *model.Type) bool {
	switch t.Kind {
	case model.Date, model.Instant:
		return lower[0] != '-' && upper[0] != '-' && len(lower) == len(upper) && lower > upper && strings.HasSuffix(lower, upper[len(upper)-1:])
	}
	if !t.Kind.Numeric() {
		return false
	}
	l, ok := new(big.Rat).SetString(lower)
	u, also := new(big.Rat).SetString(upper)
	return ok && also && l.Cmp(u) > 0
}

// partsText writes what an object gives of the parts of a value as a JSON object of their texts, for a change that leaves the others as
// they are; a replacement gives them all.
func partsText(raw string, t *model.Type, replace bool) (string, error) {
	parts, err := givenParts(raw, t, replace)
	if err != nil {
		return "", err
	}
	out, err := json.Marshal(parts)
	return string(out), err
}

func givenParts(raw string, t *model.Type, replace bool) (map[string]any, error) {
	mismatch := func(hint string) error {
		_, err := convert(raw, t) // says the same of the whole
		return err
	}
	out := map[string]any{}
	if t.Kind == model.Range {
		given, err := rangeParts(raw, t, mismatch)
		if replace {
			out = map[string]any{"lower": nil, "upper": nil, "bounds": "[)"}
		}
		for name, text := range given {
			if out[name] = nil; text != nil {
				out[name] = *text
			}
		}
		return out, err
	}
	members, err := partsOf(raw, mismatch, "")
	if err != nil {
		return nil, err
	}
	if replace {
		for _, f := range t.Fields {
			out[f.Name] = nil
		}
	}
	for _, m := range members {
		i := slices.IndexFunc(t.Fields, func(f model.SubType) bool { return f.Name == m.name })
		switch {
		case i < 0:
			_, err := convert(raw, t)
			return nil, err
		case m.value == "null":
			out[m.name] = nil
		case t.Fields[i].Type.Kind == model.Complex:
			if out[m.name], err = givenParts(m.value, t.Fields[i].Type, replace); err != nil {
				return nil, fmt.Errorf("%s: %w", m.name, err)
			}
		case t.Fields[i].Type.Kind == model.JSON:
			out[m.name] = json.RawMessage(m.value)
		default:
			text, err := convert(m.value, t.Fields[i].Type)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", m.name, err)
			}
			out[m.name] = text
		}
	}
	return out, nil
}

// ranges writes an array of ranges as PostgreSQL's multirange text.
func ranges(raw string, t *model.Type, mismatch func(string) error) (string, error) {
	items, ok := jsontext.Elements(raw)
	if !ok {
		return "", mismatch("an array of ranges is needed")
	}
	texts := make([]string, len(items))
	for i, item := range items {
		text, err := rangeText(item, t, mismatch)
		if err != nil {
			return "", fmt.Errorf("item %d: %w", i+1, err)
		}
		texts[i] = text
	}
	return "{" + strings.Join(texts, ",") + "}", nil
}

// composite writes an object as PostgreSQL's text of a row type. A field that is left out is null.
func composite(raw string, t *model.Type, mismatch func(string) error) (string, error) {
	members, err := partsOf(raw, mismatch, "")
	if err != nil {
		return "", err
	}
	names := make([]string, len(t.Fields))
	for i, f := range t.Fields {
		names[i] = f.Name
	}
	parts := make([]string, len(t.Fields))
	for _, m := range members {
		i := slices.Index(names, m.name)
		if i < 0 {
			return "", fmt.Errorf("it has no part %q%s", m.name, fault.Suggest(m.name, names))
		}
		if m.value == "null" {
			continue
		}
		text, err := convert(m.value, t.Fields[i].Type)
		if err != nil {
			return "", fmt.Errorf("%s: %w", m.name, err)
		}
		parts[i] = `"` + doubled.Replace(text) + `"`
	}
	return "(" + strings.Join(parts, ",") + ")", nil
}

// doubled escapes what stands in quotes in the text of a range or of a row type.
var doubled = strings.NewReplacer(`\`, `\\`, `"`, `""`)

func partsOf(raw string, mismatch func(string) error, hint string) ([]member, error) {
	if raw[0] != '{' {
		return nil, mismatch(hint)
	}
	return membersOf(raw, nil)
}

func isNumber(raw string) bool { return raw[0] == '-' || raw[0] >= '0' && raw[0] <= '9' }

func numberInQuotes(raw string) string {
	if s, ok := jsontext.Unquote(raw); ok {
		if _, err := strconv.ParseFloat(s, 64); err == nil {
			return "leave out the quotes"
		}
	}
	return ""
}

func unquote(raw string, words ...string) string {
	if slices.Contains(words, strings.Trim(raw, `"`)) {
		return "leave out the quotes"
	}
	return ""
}

// kindOf names what a JSON value is.
func kindOf(raw string) string {
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

func withArticle(t *model.Type) string {
	switch {
	case t.Kind == model.Enum:
		return t.String()
	case t.Kind == model.Decimal && t.Precision > 0 && t.Scale > 0:
		return fmt.Sprintf("a number (at most %d digits, %d of them after the point)", t.Precision, t.Scale)
	}
	return t.Kind.Article() + " " + t.String()
}

const noExample = `"…"`

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
	return noExample
}
