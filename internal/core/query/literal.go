package query

import (
	"encoding/base64"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/syntax"
)

// NaturalType is what a literal is where nothing else tells.
func NaturalType(c syntax.Class) *model.Type {
	switch c {
	case syntax.Whole:
		return model.Int64Type
	case syntax.Fraction:
		return model.DecimalType
	case syntax.Floating:
		return model.DoubleType
	case syntax.Day:
		return model.DateType
	case syntax.Clock:
		return model.TimeType
	case syntax.Moment:
		return model.InstantType
	case syntax.Period:
		return model.DurationType
	case syntax.UUID:
		return model.GUIDType
	case syntax.Bytes:
		return model.BinaryType
	}
	return model.StringType
}

// Fitting is the type that a literal of that class takes where t is expected, or nil where it can't stand for one. It may
// be wider than t: id eq 7.5 compares as decimals.
func Fitting(c syntax.Class, t *model.Type) *model.Type {
	if c == syntax.Segment && Sortable(t) && !t.Kind.Numeric() && t.Kind != model.Boolean {
		return t
	}
	switch t.Kind {
	case model.Int16, model.Int32, model.Int64, model.Decimal:
		if c == syntax.Whole && t.Kind != model.Decimal {
			return model.Int64Type
		}
		if c == syntax.Whole || c == syntax.Fraction {
			return model.DecimalType
		}
		if c == syntax.Floating {
			return model.DoubleType
		}
	case model.Single, model.Double:
		if c == syntax.Whole || c == syntax.Fraction || c == syntax.Floating {
			return t
		}
	case model.String, model.Enum:
		if c == syntax.Text {
			return t
		}
	case model.Opaque:
		if c == syntax.Text && t.Ordered { // the database knows
			return t
		}
	case model.Date:
		if c == syntax.Day {
			return t
		}
	case model.TimeOfDay:
		if c == syntax.Clock {
			return t
		}
	case model.Instant:
		if c == syntax.Moment {
			return t
		}
	case model.Duration:
		if c == syntax.Period || c == syntax.Text {
			return t
		}
	case model.GUID:
		if c == syntax.UUID {
			return t
		}
	case model.Binary:
		if c == syntax.Bytes {
			return t
		}
	}
	return nil
}

// ExampleOf shows how a value of the type is written.
func ExampleOf(t *model.Type) string {
	switch t.Kind {
	case model.Boolean:
		return "true"
	case model.Int16, model.Int32, model.Int64:
		return "17"
	case model.Decimal, model.Single, model.Double:
		return "7.5"
	case model.Enum:
		if len(t.Values) > 0 {
			return syntax.QuoteText(t.Values[0])
		}
	case model.Date:
		return "2026-07-01"
	case model.TimeOfDay:
		return "12:30:00"
	case model.Instant:
		return "2026-07-01T12:30:00Z"
	case model.Duration:
		return "duration'PT48H'"
	case model.GUID:
		return "0e2c7a52-3f6d-4c1b-9f0e-2d8a6c4b1e90"
	case model.Binary:
		return "binary'aGFyYm91cg'"
	}
	return "'text'"
}

// Arg is the value of the literal as an argument of a statement: int64, float64, string, bool, time.Time, []byte, or a slice
// of one of these for a list. literals are those of the request at hand.
func (v *Value) Arg(literals []syntax.Literal) (any, error) {
	l := v.Literal(literals)
	if l.Class == syntax.Several {
		return v.listArg(l)
	}
	arg, err := Argument(l, v.T)
	if n, ok := arg.(int64); ok && v.Narrow && n != int64(int32(n)) {
		return nil, err
	}
	return arg, err
}

func (v *Value) Literal(literals []syntax.Literal) syntax.Literal {
	if v.Fixed != nil {
		return *v.Fixed
	}
	return literals[v.Index]
}

// listArg converts every item of a list. Kinds without a binary form of their own travel as text.
func (v *Value) listArg(l syntax.Literal) (any, error) {
	t := v.T
	if t.Kind == model.Collection {
		t = t.Element
	}
	switch t.Kind {
	case model.Int64:
		return listOf[int64](l, t)
	case model.Single, model.Double:
		return listOf[float64](l, t)
	}
	return listOf[string](l, t)
}

func listOf[T any](l syntax.Literal, t *model.Type) ([]T, error) {
	out := make([]T, len(l.Items))
	for i, item := range l.Items {
		a, err := Argument(item, t)
		if err != nil {
			return nil, err
		}
		switch a := a.(type) {
		case T:
			out[i] = a
		case time.Time:
			out[i] = any(TimeText(a, t.Kind)).(T)
		case []byte:
			out[i] = any(`\x` + HexString(a)).(T)
		}
	}
	return out, nil
}

func HexString(b []byte) string {
	const digits = "0123456789abcdef"
	out := make([]byte, 0, 2*len(b))
	for _, c := range b {
		out = append(out, digits[c>>4], digits[c&15])
	}
	return string(out)
}

var duration = regexp.MustCompile(`^[+-]?P(\d+Y)?(\d+M)?(\d+W)?(\d+D)?(T(\d+H)?(\d+M)?(\d+(\.\d+)?S)?)?$`)

// IsDuration reports whether the text is an ISO 8601 duration.
func IsDuration(s string) bool {
	return duration.MatchString(s) && s[len(s)-1] != 'P' && s[len(s)-1] != 'T'
}

// Argument converts one literal. A key segment may hold anything, so all is checked here and not while scanning.
func Argument(l syntax.Literal, t *model.Type) (any, error) {
	if l.Class == syntax.Absent {
		return nil, nil
	}
	if convert, ok := conversions[t.Kind]; ok {
		return convert(l, t)
	}
	if t == PatternType {
		if err := CheckPattern(l); err != nil {
			return nil, err
		}
	}
	if strings.IndexByte(l.Text, 0) >= 0 {
		return nil, notOf(l, "text: it holds a NUL character")
	}
	return l.Text, nil
}

// conversions make arguments of literals, by the kind of type that is expected. All others are texts.
var conversions = map[model.Kind]func(syntax.Literal, *model.Type) (any, error){
	model.Boolean:   booleanArgument,
	model.Int16:     integerArgument,
	model.Int32:     integerArgument,
	model.Int64:     integerArgument,
	model.Decimal:   decimalArgument,
	model.Single:    floatArgument,
	model.Double:    floatArgument,
	model.Enum:      enumArgument,
	model.Date:      dateArgument,
	model.TimeOfDay: clockArgument,
	model.Instant:   instantArgument,
	model.Duration:  durationArgument,
	model.GUID:      guidArgument,
	model.Binary:    binaryArgument,
}

// notOf is the fault of a literal that is none of its type.
func notOf(l syntax.Literal, what string) error {
	return syntax.FaultAt(l.Option, l.Pos, "value.invalid", "%s is no %s", strconv.Quote(l.Text), what)
}

func booleanArgument(l syntax.Literal, _ *model.Type) (any, error) {
	if l.Text != "true" && l.Text != "false" {
		return nil, notOf(l, "boolean: true or false")
	}
	return l.Text == "true", nil
}

func integerArgument(l syntax.Literal, _ *model.Type) (any, error) {
	n, err := strconv.ParseInt(l.Text, 10, 64)
	if err != nil {
		return nil, notOf(l, "whole number of 64 bits")
	}
	return n, nil
}

func decimalArgument(l syntax.Literal, _ *model.Type) (any, error) {
	if _, err := strconv.ParseFloat(l.Text, 64); err != nil && !isRange(err) {
		return nil, notOf(l, "number")
	}
	return strings.Replace(l.Text, "INF", "Infinity", 1), nil
}

func floatArgument(l syntax.Literal, t *model.Type) (any, error) {
	f, err := strconv.ParseFloat(l.Text, 64)
	if err != nil {
		return nil, notOf(l, "number in the range of a double")
	}
	if t.Kind == model.Single && !math.IsInf(f, 0) && math.Abs(f) > math.MaxFloat32 {
		return nil, notOf(l, "number in the range of a single")
	}
	return f, nil
}

func enumArgument(l syntax.Literal, t *model.Type) (any, error) {
	if !slices.Contains(t.Values, l.Text) {
		return nil, syntax.FaultAt(l.Option, l.Pos, "value.invalid", "%s is none of the values%s", strconv.Quote(l.Text),
			enumChoices(l.Text, t.Values))
	}
	return l.Text, nil
}

func dateArgument(l syntax.Literal, _ *model.Type) (any, error) {
	if d, ok := readTime(l.Text, time.DateOnly); ok {
		return d, nil
	}
	if isEndless(l) {
		return l.Text, nil
	}
	return nil, notOf(l, "date; write year-month-day such as 2026-07-01")
}

func clockArgument(l syntax.Literal, _ *model.Type) (any, error) {
	for _, layout := range []string{"15:04:05", "15:04"} {
		if _, err := time.Parse(layout, l.Text); err == nil {
			return l.Text, nil
		}
	}
	return nil, notOf(l, "time of day; write 12:30:00")
}

func instantArgument(l syntax.Literal, _ *model.Type) (any, error) {
	if m, ok := readTime(strings.ToUpper(l.Text), time.RFC3339Nano, "2006-01-02T15:04Z07:00"); ok {
		return m.UTC().Round(time.Microsecond), nil // as the database would
	}
	if isEndless(l) {
		return l.Text, nil
	}
	return nil, notOf(l, "timestamp with its zone; write 2026-07-01T12:30:00Z or 2026-07-01T12:30:00+02:00")
}

func durationArgument(l syntax.Literal, _ *model.Type) (any, error) {
	if !IsDuration(l.Text) {
		return nil, notOf(l, "duration; write PT48H or P2DT30M")
	}
	return IntervalText(l.Text), nil
}

// IntervalText is a duration as PostgreSQL reads one (8.5.4): the sign stands before each number, not before the whole.
func IntervalText(duration string) string {
	unsigned, negative := strings.CutPrefix(strings.TrimPrefix(duration, "+"), "-")
	if !negative {
		return unsigned
	}
	out := make([]byte, 0, len(unsigned)+8)
	for i := range len(unsigned) {
		if c := unsigned[i]; c >= '0' && c <= '9' && (unsigned[i-1] < '0' || unsigned[i-1] > '9') && unsigned[i-1] != '.' {
			out = append(out, '-')
		}
		out = append(out, unsigned[i])
	}
	return string(out)
}

func guidArgument(l syntax.Literal, _ *model.Type) (any, error) {
	if syntax.GuidLength(l.Text) != len(l.Text) || l.Text == "" {
		return nil, notOf(l, "uuid")
	}
	return l.Text, nil
}

func binaryArgument(l syntax.Literal, _ *model.Type) (any, error) {
	b, err := base64.RawURLEncoding.DecodeString(strings.TrimRight(l.Text, "="))
	if err != nil {
		return nil, notOf(l, "base64url text")
	}
	return b, nil
}

// isEndless reports whether a text of a body is the time before or after all others (PostgreSQL, 8.5.1.4), which it is answered as too.
func isEndless(l syntax.Literal) bool {
	return l.Class == syntax.Segment && (l.Text == "infinity" || l.Text == "-infinity")
}

// readTime reads a time by the first layout that fits it. A year has four digits or more, and one before the year 0 a sign (ABNF, year);
// the database has none past lastYear.
func readTime(text string, layouts ...string) (time.Time, bool) {
	for _, layout := range layouts {
		if t, err := time.Parse(layout, text); err == nil {
			return t, true
		}
	}
	n := syntax.YearLength(text)
	year, err := strconv.Atoi(text[:n])
	if n <= 4 || err != nil || year > lastYear || year < -lastYear {
		return time.Time{}, false
	}
	like := 2000 + (year%400+400)%400 // a year with the same days
	t, ok := readTime(strconv.Itoa(like)+text[n:], layouts...)
	return t.AddDate(year-like, 0, 0), ok
}

const lastYear = 5_874_897

// TimeText writes a date or timestamp as PostgreSQL reads it: it counts the years before the first from 1 BC on.
func TimeText(t time.Time, kind model.Kind) string {
	layout := time.RFC3339Nano
	if kind == model.Date {
		layout = time.DateOnly
	}
	text := t.Format(layout)
	if t.Year() > 0 {
		return text
	}
	return fmt.Sprintf("%04d%s BC", 1-t.Year(), text[syntax.YearLength(text):])
}

func CompilePattern(text string) error {
	_, err := regexp.Compile(text)
	return err
}

func isRange(err error) bool { return strings.HasSuffix(err.Error(), strconv.ErrRange.Error()) }

func enumChoices(text string, values []string) string {
	if len(values) <= 8 {
		near := fault.Nearest(text, values)
		if near != "" {
			return ", which are " + fault.Quoted(values) + "; did you mean " + strconv.Quote(near) + "?"
		}
		return ", which are " + fault.Quoted(values)
	}
	return fault.Suggest(text, values)
}

// PatternType marks the argument of matchesPattern: it is checked to be an expression of an engine without backtracking.
var PatternType = &model.Type{Kind: model.String, SQL: "text"}

// CheckPattern refuses what is no regular expression without backtracking: back references and look-around.
func CheckPattern(l syntax.Literal) error {
	if len(l.Text) > 500 {
		return syntax.FaultAt(l.Option, l.Pos, "pattern.invalid", "the pattern has %s characters, at most 500 are read",
			strconv.Itoa(len(l.Text)))
	}
	if err := CompilePattern(l.Text); err != nil {
		return syntax.FaultAt(l.Option, l.Pos, "pattern.invalid", "%q is no pattern that is understood: %s", l.Text,
			strings.TrimPrefix(err.Error(), "error parsing regexp: "))
	}
	return nil
}

// Sortable reports whether values of the type can be put in order.
func Sortable(t *model.Type) bool {
	switch t.Kind {
	case model.Unknown, model.JSON, model.Collection, model.Complex, model.Range:
		return false
	case model.Opaque:
		return t.Ordered
	}
	return true
}
