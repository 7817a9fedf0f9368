package encode

import (
	"encoding/base64"
	"encoding/binary"
	"math"
	"slices"
	"strconv"
	"unicode/utf8"

	"eagerwindow/internal/core/model"
)

// Appender writes one value, as it came binary from PostgreSQL, as JSON. The value is never null.
type Appender func(dst, src []byte) []byte

// AppenderOf is the Appender for the values of a type. PostgreSQL's binary formats are those of its send functions.
func AppenderOf(t *model.Type, f Format) Appender {
	switch t.Kind {
	case model.Boolean:
		return appendBoolean
	case model.Int64:
		if t.Catalog == nil || t.Catalog.Base().Name != "oid" {
			return integers(f)
		}
		fallthrough
	case model.Int16, model.Int32:
		if t.Catalog != nil && t.Catalog.Base().Name == "oid" {
			return func(dst, src []byte) []byte { return strconv.AppendUint(dst, uint64(binary.BigEndian.Uint32(src)), 10) }
		}
		return appendInteger
	case model.Decimal:
		if f.Strings {
			return quoting(appendNumeric)
		}
		return appendNumeric
	case model.Single:
		return func(dst, src []byte) []byte {
			return appendFloat(dst, float64(math.Float32frombits(binary.BigEndian.Uint32(src))), 32)
		}
	case model.Double:
		return func(dst, src []byte) []byte {
			return appendFloat(dst, math.Float64frombits(binary.BigEndian.Uint64(src)), 64)
		}
	case model.Date:
		return appendDate
	case model.TimeOfDay:
		return func(dst, src []byte) []byte {
			dst = append(dst, '"')
			return append(appendClock(dst, int64(binary.BigEndian.Uint64(src))), '"')
		}
	case model.Instant:
		return appendInstant
	case model.Duration:
		return appendInterval
	case model.GUID:
		return appendUUID
	case model.Binary:
		return func(dst, src []byte) []byte {
			dst = append(dst, '"')
			return append(base64.RawURLEncoding.AppendEncode(dst, src), '"')
		}
	case model.JSON:
		if t.JSONB {
			return func(dst, src []byte) []byte { return append(dst, src[1:]...) } // the first byte is the format's version
		}
		return func(dst, src []byte) []byte { return append(dst, src...) }
	case model.Collection:
		return appendArray(AppenderOf(t.Element, f))
	case model.Range:
		one := appendRange(AppenderOf(t.Element, f), t.Fields)
		if t.Multi {
			return appendMultirange(one)
		}
		return one
	case model.Complex:
		c := &column{columns: make([]column, len(t.Fields))}
		for i, sub := range t.Fields {
			c.columns[i] = column{name: memberName(sub.Name), at: sub.At, value: AppenderOf(sub.Type, f)}
		}
		return func(dst, src []byte) []byte { return appendRecord(dst, src, c, nil) }
	}
	return func(dst, src []byte) []byte { return appendText(dst, src) }
}

// integers is the Appender of 64-bit integers: JavaScript's numbers don't hold them all.
func integers(f Format) Appender {
	if f.Strings {
		return quoting(appendInteger)
	}
	return appendInteger
}

// quoting puts a number in quotes; what is a string already stays one.
func quoting(write Appender) Appender {
	return func(dst, src []byte) []byte {
		n := len(dst) + 1
		if dst = write(append(dst, '"'), src); dst[n] == '"' {
			return append(dst[:n-1], dst[n:]...)
		}
		return append(dst, '"')
	}
}

func appendBoolean(dst, src []byte) []byte { return strconv.AppendBool(dst, src[0] != 0) }

// appendInteger takes 2, 4 or 8 bytes.
func appendInteger(dst, src []byte) []byte {
	switch len(src) {
	case 2:
		return strconv.AppendInt(dst, int64(int16(binary.BigEndian.Uint16(src))), 10)
	case 4:
		return strconv.AppendInt(dst, int64(int32(binary.BigEndian.Uint32(src))), 10)
	}
	return strconv.AppendInt(dst, int64(binary.BigEndian.Uint64(src)), 10)
}

// appendFloat writes the shortest digits that read back the same; what JSON has no number for is a string (JSON Format, 7.1).
func appendFloat(dst []byte, f float64, bits int) []byte {
	switch {
	case math.IsNaN(f):
		return append(dst, `"NaN"`...)
	case math.IsInf(f, 1):
		return append(dst, `"INF"`...)
	case math.IsInf(f, -1):
		return append(dst, `"-INF"`...)
	}
	if a := math.Abs(f); a != 0 && (a < 1e-6 || a >= 1e21) {
		return strconv.AppendFloat(dst, f, 'e', -1, bits)
	}
	return strconv.AppendFloat(dst, f, 'f', -1, bits)
}

// appendNumeric writes a numeric with all the digits of its scale: number of digit groups, weight of the first, sign, scale,
// then groups of four decimal digits.
func appendNumeric(dst, src []byte) []byte {
	groups := int(binary.BigEndian.Uint16(src))
	weight := int(int16(binary.BigEndian.Uint16(src[2:])))
	sign := binary.BigEndian.Uint16(src[4:])
	scale := int(binary.BigEndian.Uint16(src[6:]))
	switch sign {
	case 0xC000:
		return append(dst, `"NaN"`...)
	case 0xD000:
		return append(dst, `"INF"`...)
	case 0xF000:
		return append(dst, `"-INF"`...)
	case 0x4000:
		dst = append(dst, '-')
	}
	group := func(i int) int {
		if i < 0 || i >= groups {
			return 0
		}
		return int(binary.BigEndian.Uint16(src[8+2*i:]))
	}
	if weight < 0 {
		dst = append(dst, '0')
	} else {
		dst = strconv.AppendInt(dst, int64(group(0)), 10)
		for i := 1; i <= weight; i++ {
			dst = appendFour(dst, group(i))
		}
	}
	if scale == 0 {
		return dst
	}
	dst = append(dst, '.')
	end := len(dst) + scale
	for i := weight + 1; len(dst) < end; i++ {
		dst = appendFour(dst, group(i))
	}
	return dst[:end]
}

func appendFour(dst []byte, n int) []byte {
	dst = append(dst, "0000"...)
	putTwo(dst[len(dst)-4:], uint32(n)/100)
	putTwo(dst[len(dst)-2:], uint32(n)%100)
	return dst
}

const (
	secondsPerDay = 86_400
	microsPerDay  = secondsPerDay * 1_000_000
)

// pairs are the numbers from 00 to 99.
const pairs = "0001020304050607080910111213141516171819202122232425262728293031323334353637383940414243444546474849505152535455565758596" +
	"0616263646566676869707172737475767778798081828384858687888990919293949596979899"

func putTwo(dst []byte, n uint32) {
	dst[1] = pairs[2*n+1]
	dst[0] = pairs[2*n]
}

// civil is the year, month and day of a day counted from 2000-01-01, in the proleptic Gregorian calendar.
func civil(day int64) (year int64, month, dayOfMonth uint32) {
	// Days are counted from 1 March of a year long ago, so that the leap day comes last and nothing is negative; centuries and
	// years are then found by dividing four times the days, months by a line through their lengths.
	const eras = 82
	n := 4*uint64(day+730_425+eras*146_097) + 3
	century, inCentury := n/146_097, uint32(n%146_097/4)
	product := uint64(2_939_745) * uint64(4*inCentury+3)
	yearOfCentury := uint32(product >> 32)
	dayOfYear := uint32(product) / 2_939_745 / 4
	line := 2141*dayOfYear + 197_913
	month, dayOfMonth = line>>16, (line&0xffff)/2141+1
	year = int64(100*century) + int64(yearOfCentury) - eras*400
	if month > 12 {
		year, month = year+1, month-12
	}
	return year, month, dayOfMonth
}

// appendCalendar writes year-month-day of a day counted from 2000-01-01.
func appendCalendar(dst []byte, day int64) []byte {
	year, month, dayOfMonth := civil(day)
	if year < 0 {
		dst = append(dst, '-')
		year = -year
	}
	if year > 9999 {
		dst = strconv.AppendInt(dst, year, 10)
	} else {
		dst = appendFour(dst, int(year))
	}
	dst = append(dst, "-00-00"...)
	putTwo(dst[len(dst)-5:], month)
	putTwo(dst[len(dst)-2:], dayOfMonth)
	return dst
}

// appendClock writes hours:minutes:seconds of microseconds since midnight, with as many digits of the fraction as there are.
func appendClock(dst []byte, micros int64) []byte {
	seconds := uint32(micros / 1_000_000)
	dst = append(dst, "00:00:00"...)
	b := dst[len(dst)-8:]
	putTwo(b, seconds/3600)
	putTwo(b[3:], seconds/60%60)
	putTwo(b[6:], seconds%60)
	if micros %= 1_000_000; micros != 0 {
		return appendFraction(dst, micros)
	}
	return dst
}

func appendFraction(dst []byte, micros int64) []byte {
	if micros == 0 {
		return dst
	}
	dst = append(dst, '.')
	for unit := int64(100_000); micros > 0; unit /= 10 {
		dst = append(dst, byte('0'+micros/unit))
		micros %= unit
	}
	return dst
}

func appendDate(dst, src []byte) []byte {
	day := int32(binary.BigEndian.Uint32(src))
	switch day {
	case math.MaxInt32:
		return append(dst, `"infinity"`...)
	case math.MinInt32:
		return append(dst, `"-infinity"`...)
	}
	dst = append(dst, '"')
	return append(appendCalendar(dst, int64(day)), '"')
}

// appendInstant writes microseconds since 2000 as RFC 3339 in UTC.
func appendInstant(dst, src []byte) []byte {
	micros := int64(binary.BigEndian.Uint64(src))
	switch micros {
	case math.MaxInt64:
		return append(dst, `"infinity"`...)
	case math.MinInt64:
		return append(dst, `"-infinity"`...)
	}
	day, rest := micros/microsPerDay, micros%microsPerDay
	if rest < 0 {
		day, rest = day-1, rest+microsPerDay
	}
	year, month, dayOfMonth := civil(day)
	if year < 0 || year > 9999 {
		dst = append(appendCalendar(append(dst, '"'), day), 'T')
		return append(appendClock(dst, rest), 'Z', '"')
	}
	seconds := uint32(rest / 1_000_000)
	dst = append(dst, `"0000-00-00T00:00:00`...)
	b := dst[len(dst)-20:]
	putTwo(b[1:], uint32(year)/100)
	putTwo(b[3:], uint32(year)%100)
	putTwo(b[6:], month)
	putTwo(b[9:], dayOfMonth)
	putTwo(b[12:], seconds/3600)
	putTwo(b[15:], seconds/60%60)
	putTwo(b[18:], seconds%60)
	return append(appendFraction(dst, rest%1_000_000), 'Z', '"')
}

// appendInterval writes microseconds, days and months as a duration of days and less (ABNF, durationValue). A year has 365.25 days and a
// month 30, as in PostgreSQL's own extract(epoch from …).
func appendInterval(dst, src []byte) []byte {
	const hour, day = 3_600_000_000, 86_400_000_000
	micros := int64(binary.BigEndian.Uint64(src))
	days := int64(int32(binary.BigEndian.Uint32(src[8:])))
	months := int64(int32(binary.BigEndian.Uint32(src[12:])))
	years := months / 12
	days, micros = days+years*365+months%12*30, micros+years*6*hour
	if days > 0 && micros < 0 || days < 0 && micros > 0 { // the sign precedes the whole
		carried := micros / day
		days, micros = days+carried, micros-carried*day
		if days > 0 && micros < 0 {
			days, micros = days-1, micros+day
		} else if days < 0 && micros > 0 {
			days, micros = days+1, micros-day
		}
	}
	if micros == 0 && days == 0 {
		return append(dst, `"PT0S"`...)
	}
	dst = append(dst, '"')
	if micros < 0 || days < 0 {
		dst = append(dst, '-')
		micros, days = -micros, -days
	}
	part := func(n int64, unit byte) {
		if n != 0 {
			dst = append(strconv.AppendInt(dst, n, 10), unit)
		}
	}
	dst = append(dst, 'P')
	part(days, 'D')
	if micros != 0 {
		dst = append(dst, 'T')
		part(micros/hour, 'H')
		part(micros/60_000_000%60, 'M')
		if rest := micros % 60_000_000; rest != 0 {
			dst = strconv.AppendInt(dst, rest/1_000_000, 10)
			dst = append(appendFraction(dst, rest%1_000_000), 'S')
		}
	}
	return append(dst, '"')
}

func appendUUID(dst, src []byte) []byte {
	const digits = "0123456789abcdef"
	dst = append(dst, '"')
	for i, b := range src[:16] {
		if i == 4 || i == 6 || i == 8 || i == 10 {
			dst = append(dst, '-')
		}
		dst = append(dst, digits[b>>4], digits[b&15])
	}
	return append(dst, '"')
}

func appendString(dst []byte, s string) []byte { return appendText(dst, []byte(s)) }

// appendText writes a JSON string.
func appendText(dst, src []byte) []byte {
	const digits = "0123456789abcdef"
	dst = append(dst, '"')
	start := 0
	for i := 0; i < len(src); {
		c := src[i]
		if c >= 0x20 && c != '"' && c != '\\' && c < utf8.RuneSelf {
			i++
			continue
		}
		if c >= utf8.RuneSelf {
			r, size := utf8.DecodeRune(src[i:])
			if r == utf8.RuneError && size == 1 {
				dst = append(append(dst, src[start:i]...), `\ufffd`...)
				i++
				start = i
				continue
			}
			i += size
			continue
		}
		dst = append(dst, src[start:i]...)
		switch c {
		case '"', '\\':
			dst = append(dst, '\\', c)
		case '\n':
			dst = append(dst, '\\', 'n')
		case '\r':
			dst = append(dst, '\\', 'r')
		case '\t':
			dst = append(dst, '\\', 't')
		default:
			dst = append(dst, '\\', 'u', '0', '0', digits[c>>4], digits[c&15])
		}
		i++
		start = i
	}
	return append(append(dst, src[start:]...), '"')
}

// field cuts one length-prefixed value off; a length of -1 is null.
func field(src []byte) (value, rest []byte) {
	n := int32(binary.BigEndian.Uint32(src))
	if n < 0 {
		return nil, src[4:]
	}
	return src[4 : 4+n : 4+n], src[4+n:]
}

// appendArray writes an array of any number of dimensions: their count, a flag for nulls, the element type, then size and
// lower bound of each, then the elements.
func appendArray(element Appender) Appender {
	return func(dst, src []byte) []byte {
		dimensions := int(binary.BigEndian.Uint32(src))
		if dimensions == 0 {
			return append(dst, '[', ']')
		}
		header, rest := src[12:12+8*dimensions], src[12+8*dimensions:]
		dst, _ = appendDimension(dst, header, rest, element)
		return dst
	}
}

func appendDimension(dst, header, rest []byte, element Appender) (out, after []byte) {
	size := int(binary.BigEndian.Uint32(header))
	dst = append(dst, '[')
	for i := range size {
		if i > 0 {
			dst = append(dst, ',')
		}
		if len(header) > 8 {
			dst, rest = appendDimension(dst, header[8:], rest, element)
			continue
		}
		var value []byte
		if value, rest = field(rest); value == nil {
			dst = append(dst, "null"...)
		} else {
			dst = element(dst, value)
		}
	}
	return append(dst, ']'), rest
}

// appendItems writes the elements of an array of one dimension as XML elements; of more, each innermost one.
func appendItems(dst, src []byte, element Appender) []byte {
	dimensions := int(binary.BigEndian.Uint32(src))
	count := min(dimensions, 1)
	for i := range dimensions {
		count *= int(binary.BigEndian.Uint32(src[12+8*i:]))
	}
	rest := src[12+8*dimensions:]
	for range count {
		var value []byte
		if value, rest = field(rest); value == nil {
			dst = append(dst, `<item xsi:nil="true"/>`...)
		} else {
			dst = append(element(append(dst, "<item>"...), value), "</item>"...)
		}
	}
	return dst
}

// appendRange writes a range as an object with its bounds; one that is open at an end lacks that end. It shows the parts alone that are
// given; nil: all.
func appendRange(element Appender, parts []model.SubType) Appender {
	const empty, lowerIn, upperIn, noLower, noUpper = 1, 2, 4, 8, 16
	shows := func(name string) bool {
		return parts == nil || slices.ContainsFunc(parts, func(p model.SubType) bool { return p.Name == name })
	}
	showsLower, showsUpper, showsBounds := shows("lower"), shows("upper"), shows("bounds")
	return func(dst, src []byte) []byte {
		flags, rest := src[0], src[1:]
		if flags&empty != 0 {
			return append(dst, `{"empty":true}`...)
		}
		dst = append(dst, '{')
		start := len(dst)
		var value []byte
		if flags&noLower == 0 {
			if value, rest = field(rest); showsLower {
				dst = append(element(append(dst, `"lower":`...), value), ',')
			}
		}
		if flags&noUpper == 0 && showsUpper {
			value, _ = field(rest)
			dst = append(element(append(dst, `"upper":`...), value), ',')
		}
		if showsBounds {
			dst = append(dst, `"bounds":"`...)
			dst = append(dst, "(["[flags&lowerIn/lowerIn], ")]"[flags&upperIn/upperIn], '"', ',')
		}
		if len(dst) > start {
			dst = dst[:len(dst)-1]
		}
		return append(dst, '}')
	}
}

func appendMultirange(one Appender) Appender {
	return func(dst, src []byte) []byte {
		count, rest := int(binary.BigEndian.Uint32(src)), src[4:]
		dst = append(dst, '[')
		for i := range count {
			if i > 0 {
				dst = append(dst, ',')
			}
			var value []byte
			value, rest = field(rest)
			dst = one(dst, value)
		}
		return append(dst, ']')
	}
}
