package recording

import (
	"bytes"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"
)

// TimeFormats are the names of the ways in which times are written. Besides
// them, a layout of YYYY or YY, MM, DD, hh, mm and ss says how local times
// stand, such as DD.MM.YYYY hh:mm:ss; a fraction of the second may always
// follow. Of two digits, 69 to 99 are years from 1969 on, the others from 2000
// on, as in POSIX (strptime, %y).
var TimeFormats = []string{"rfc3339", "elapsed", "seconds", "milliseconds"}

// layouts are the local times that are found by themselves.
var layouts = []string{
	"YYYY-MM-DD hh:mm:ss", "YYYY-MM-DDThh:mm:ss", "YYYY-MM-DD hh:mm", "YYYY/MM/DD hh:mm:ss", "YYYY/MM/DD hh:mm",
	"DD.MM.YYYY hh:mm:ss", "DD.MM.YYYY hh:mm", "DD-MM-YYYY hh:mm:ss", "DD-MM-YYYY hh:mm",
	"DD/MM/YYYY hh:mm:ss", "MM/DD/YYYY hh:mm:ss", "DD/MM/YYYY hh:mm", "MM/DD/YYYY hh:mm",
	"DD.MM.YY hh:mm:ss", "DD.MM.YY hh:mm", "YY-MM-DD hh:mm:ss", "DD-MM-YY hh:mm:ss", "YY-MM-DD hh:mm", "DD-MM-YY hh:mm",
	"DD/MM/YY hh:mm:ss", "MM/DD/YY hh:mm:ss", "YY/MM/DD hh:mm:ss", "DD/MM/YY hh:mm", "MM/DD/YY hh:mm", "YY/MM/DD hh:mm",
}

// Times reads the times of a file. What they are is settled by Settle, from
// the first of them.
type Times struct {
	Heading string // of the column, for messages
	Decimal byte   // the decimal mark of numbers
	zone    *time.Location
	asked   string // the format that was asked for

	format string
	clock  Clock
	read   func(*Times, []byte) (int64, error)
	scale  int64 // of numbers, in nanoseconds
	layout layout
	last   int64 // the last local time's instant

	day   [10]byte // the date last read
	epoch int64    // its beginning, in nanoseconds since 1970, in UTC

	quarter int64 // the quarter of an hour of local time whose offset is known
	offset  int64 // seconds east of UTC in it
	known   bool
}

// NewTimes begins to read times as the options say.
func NewTimes(o Options, heading string, decimal byte) *Times {
	return &Times{Heading: heading, Decimal: decimal, zone: o.Zone, asked: o.TimeFormat}
}

// Independent tells whether a time is read without knowing those before it, so
// that parts of a file can be read by copies.
func (r *Times) Independent() bool { return r.layout == nil && r.read != nil }

// Clock is how the file's times are to be shown.
func (r *Times) Clock() Clock { return r.clock }

// Describe fills in how times were understood.
func (r *Times) Describe(u *Understood) {
	u.TimeColumn, u.TimeFormat = r.Heading, r.format
	if r.layout != nil {
		u.Zone = r.location().String()
	}
}

// Notes are what a person should know of how times were taken.
func (r *Times) Notes() []string {
	if r.layout == nil {
		return nil
	}
	note := fmt.Sprintf("times are read as %s in %s", r.format, r.location())
	if r.zone == nil {
		note += ", since nothing says in which zone they are"
	}
	return []string{note}
}

func (r *Times) location() *time.Location {
	if r.zone == nil {
		return time.UTC
	}
	return r.zone
}

// Settle finds out what the times are: from the format that was asked for, or
// else from the first ones of the file.
func (r *Times) Settle(first [][]byte) error {
	if len(first) == 0 {
		return nil
	}
	switch format := r.asked; {
	case format == "":
		return r.find(first)
	case format == "rfc3339":
		r.asRFC3339(first[0])
	case slices.Contains(TimeFormats, format):
		r.asNumber(format)
	default:
		l, err := parseLayout(format)
		if err != nil {
			return err
		}
		r.asLocal(format, l)
	}
	return nil
}

func (r *Times) find(first [][]byte) error {
	b := first[0]
	if v, ok := ParseNumber(b, r.Decimal); ok {
		switch {
		case v < 1e8:
			r.asNumber("elapsed")
		case v < 1e11:
			r.asNumber("seconds")
		default:
			r.asNumber("milliseconds")
		}
		return nil
	}
	if _, err := time.Parse(time.RFC3339Nano, upperT(b)); err == nil {
		r.asRFC3339(b)
		return nil
	}
	var fits []string
	alike := true // in the order of day, month and year
	for _, name := range layouts {
		l, _ := parseLayout(name) // of our own list, which the tests read
		if !slices.ContainsFunc(first, func(b []byte) bool { _, err := l.civil(b); return err != nil }) {
			fits = append(fits, name)
			alike = alike && dateOrder(name) == dateOrder(fits[0])
		}
	}
	switch {
	case len(fits) > 0 && alike:
		l, _ := parseLayout(fits[0])
		r.asLocal(fits[0], l)
		return nil
	case len(fits) > 1:
		return mendedBy(
			"time-format",
			"%s reads as a date in more than one way; say with the time format whether it is '%s'",
			Shorten(b),
			strings.Join(fits, "' or '"),
		)
	}
	// The first one alone may have a layout that a later one breaks; then the
	// error belongs to the later one.
	for _, name := range layouts {
		l, _ := parseLayout(name)
		if _, err := l.civil(b); err == nil {
			r.asLocal(name, l)
			return nil
		}
	}
	return mendedBy(
		"time-format",
		"%q is no time; write it as 2026-03-02T02:14:05Z, as 2026-03-02 02:14:05 or as elapsed seconds, or give the time format",
		Shorten(b),
	)
}

// dateOrder is the order of day, month and year in a layout's name.
func dateOrder(name string) string {
	date, _, _ := strings.Cut(name, "h")
	return strings.Map(func(r rune) rune {
		if strings.ContainsRune("YMD", r) {
			return r
		}
		return -1
	}, strings.Replace(date, "YYYY", "YY", 1))
}

func (r *Times) asNumber(format string) {
	r.format, r.read, r.scale = format, (*Times).decimal, int64(time.Second)
	switch format {
	case "elapsed":
		r.clock.Elapsed = true
	case "milliseconds":
		r.scale = int64(time.Millisecond)
	}
}

func (r *Times) asRFC3339(first []byte) {
	r.format, r.read = "rfc3339", (*Times).rfc3339
	if t, err := time.Parse(time.RFC3339Nano, upperT(first)); err == nil {
		_, r.clock.Offset = t.Zone()
	}
}

func (r *Times) asLocal(format string, l layout) {
	r.format, r.layout, r.read = format, l, (*Times).local
	if offset, fixed := fixedOffset(r.location().String()); fixed {
		r.clock.Offset = offset
	} else {
		r.clock.Zone = r.location().String()
	}
	r.last = math.MinInt64
}

// Read reads a time, in nanoseconds since 1970 or since the clock's zero.
func (r *Times) Read(b []byte) (int64, error) {
	if r.read == nil {
		if err := r.Settle([][]byte{b}); err != nil {
			return 0, err
		}
	}
	return r.read(r, b)
}

func upperT(b []byte) string {
	s := bytes.ToUpper(b)
	if len(s) > 10 && s[10] == ' ' {
		s[10] = 'T'
	}
	return string(s)
}

// decimal reads a number of seconds or milliseconds, to the nanosecond.
func (r *Times) decimal(b []byte) (int64, error) {
	rest, negative := b, false
	if len(rest) > 0 && rest[0] == '-' {
		rest, negative = rest[1:], true
	}
	mark := r.Decimal
	if mark == 0 {
		mark = '.'
	}
	var whole, part int64
	unit := r.scale
	point, digits := false, 0
	for _, c := range rest {
		switch {
		case isDigit(c) && !point:
			if whole > (math.MaxInt64/r.scale-9)/10 {
				return 0, fmt.Errorf("the time %s is more than 292 years", Shorten(b))
			}
			whole = whole*10 + int64(c-'0')
			digits++
		case isDigit(c):
			unit /= 10
			if unit == 0 && c != '0' {
				return 0, fmt.Errorf("the time %s is finer than a nanosecond", Shorten(b))
			}
			part += int64(c-'0') * unit
			digits++
		case c == mark && !point:
			point = true
		default:
			return 0, fmt.Errorf("%q is no time; the ones before it are numbers", Shorten(b))
		}
	}
	if digits == 0 {
		return 0, fmt.Errorf("%q is no time; the ones before it are numbers", Shorten(b))
	}
	t := whole*r.scale + part
	if negative {
		t = -t
	}
	return t, nil
}

// rfc3339 reads a time with its zone. The date, which seldom changes, is
// remembered; what does not have the usual form is left to package time.
func (r *Times) rfc3339(b []byte) (int64, error) {
	if len(b) >= 20 && b[len(b)-1] == 'Z' && b[10] == 'T' && b[13] == ':' && b[16] == ':' {
		hour, ok1 := twoDigits(b[11:], 23)
		minute, ok2 := twoDigits(b[14:], 59)
		second, ok3 := twoDigits(b[17:], 59)
		fraction, ok4 := nanoseconds(b[19 : len(b)-1])
		if ok1 && ok2 && ok3 && ok4 {
			if string(r.day[:]) != string(b[:10]) {
				day, err := time.Parse(time.DateOnly, string(b[:10]))
				if err != nil || day.Year() < 1700 || day.Year() > 2200 {
					return 0, fmt.Errorf("%q is no date", Shorten(b[:10]))
				}
				copy(r.day[:], b)
				r.epoch = day.UnixNano()
			}
			return r.epoch + (hour*3600+minute*60+second)*int64(time.Second) + fraction, nil
		}
	}
	t, err := time.Parse(time.RFC3339Nano, upperT(b))
	if err != nil || t.Year() < 1700 || t.Year() > 2200 {
		return 0, fmt.Errorf("%q is no time like the ones before it; write it as 2026-03-02T02:14:05Z", Shorten(b))
	}
	return t.UnixNano(), nil
}

// Prefix reads the time that a text begins with, and its length in bytes, if it
// has the most usual form, on the day of the last one: 2026-03-02T02:14:05Z.
// Otherwise the length is 0.
func (r *Times) Prefix(b []byte) (t int64, n int) {
	const length = len("2026-03-02T02:14:05Z")
	if r.scale != 0 || len(b) < length || b[length-1] != 'Z' || b[10] != 'T' || b[13] != ':' || b[16] != ':' ||
		string(b[:10]) != string(r.day[:]) {
		return 0, 0
	}
	a, c, d, e, f, g := b[11]-'0', b[12]-'0', b[14]-'0', b[15]-'0', b[17]-'0', b[18]-'0'
	hour, minute, second := a*10+c, d*10+e, f*10+g
	if a > 2 || c > 9 || d > 5 || e > 9 || f > 5 || g > 9 || hour > 23 {
		return 0, 0
	}
	return r.epoch + (int64(hour)*3600+int64(minute)*60+int64(second))*int64(time.Second), length
}

func twoDigits(b []byte, most int64) (int64, bool) {
	if !isDigit(b[0]) || !isDigit(b[1]) {
		return 0, false
	}
	n := int64(b[0]-'0')*10 + int64(b[1]-'0')
	return n, n <= most
}

// nanoseconds reads the fraction of a second, ".125" or ",125", or nothing.
func nanoseconds(b []byte) (int64, bool) {
	if len(b) == 0 {
		return 0, true
	}
	if b[0] != '.' && b[0] != ',' || len(b) < 2 || len(b) > 10 {
		return 0, false
	}
	n, unit := int64(0), int64(time.Second)
	for _, c := range b[1:] {
		if !isDigit(c) {
			return 0, false
		}
		unit /= 10
		n += int64(c-'0') * unit
	}
	return n, true
}

// local reads a time that has no zone of its own. Where clocks go back, an hour
// comes twice: the earlier one is taken unless time would go back with it.
func (r *Times) local(b []byte) (int64, error) {
	c, err := r.layout.civil(b)
	if err != nil {
		return 0, fmt.Errorf("%q is no time of the form %s: %w", Shorten(b), r.format, err)
	}
	const quarter = 900
	seconds := c / int64(time.Second)
	if c < 0 && c%int64(time.Second) != 0 {
		seconds--
	}
	if r.known && seconds/quarter == r.quarter {
		r.last = c - r.offset*int64(time.Second)
		return r.last, nil
	}
	offset := func(at int64) int64 {
		_, o := time.Unix(at, 0).In(r.location()).Zone()
		return int64(o)
	}
	early, late := offset(seconds-36*3600), offset(seconds+36*3600)
	isEarly, isLate := offset(seconds-early) == early, offset(seconds-late) == late
	o := early
	switch {
	case !isEarly && !isLate:
		return 0, mendedBy("zone", "%q does not exist in %s: clocks went forward over it; give another zone", Shorten(b), r.location())
	case !isEarly, isLate && early != late && c-early*int64(time.Second) < r.last:
		o = late
	}
	r.known = isEarly != isLate || early == late
	r.quarter, r.offset = seconds/quarter, o
	r.last = c - o*int64(time.Second)
	return r.last, nil
}

// A layout is how a local time is written: numbers with what stands between.
type layout []field

// A field is a number of a time, after a text that stands before it.
type field struct {
	before byte // 0 for the first
	what   byte // Y (four digits) y (two) M D h m s
}

// parseLayout reads YYYY-MM-DD hh:mm:ss and the like.
func parseLayout(s string) (layout, error) {
	var l layout
	wrong := mendedBy(
		"time-format",
		"the time format %q is neither one of %s nor made of YYYY or YY, MM, DD, hh, mm and ss",
		s,
		strings.Join(TimeFormats, ", "),
	)
	for rest := s; rest != ""; {
		f := field{}
		if len(l) > 0 {
			f.before, rest = rest[0], rest[1:]
		}
		switch {
		case strings.HasPrefix(rest, "YYYY"):
			f.what, rest = 'Y', rest[4:]
		case strings.HasPrefix(rest, "YY"):
			f.what, rest = 'y', rest[2:]
		case len(rest) >= 2 && strings.Contains("MM DD hh mm ss", rest[:2]) && rest[0] == rest[1]:
			f.what, rest = rest[0], rest[2:]
		default:
			return nil, wrong
		}
		if l.has(f.what) {
			return nil, wrong
		}
		l = append(l, f)
	}
	for _, need := range []byte("MDhm") {
		if !l.has(need) {
			return nil, wrong
		}
	}
	if l.has('Y') == l.has('y') {
		return nil, wrong
	}
	return l, nil
}

func (l layout) has(what byte) bool {
	return slices.ContainsFunc(l, func(f field) bool { return f.what == what })
}

// civil reads a time as nanoseconds since the beginning of 1970 on a clock on
// the wall, whatever its zone. `AM` or `PM` may follow the time of day.
func (l layout) civil(b []byte) (int64, error) {
	var n [256]int
	n['s'] = 0
	rest := b
	fraction := int64(0)
	for i, f := range l {
		if i > 0 {
			if len(rest) == 0 || rest[0] != f.before {
				return 0, fmt.Errorf("a %q is missing", f.before)
			}
			rest = rest[1:]
		}
		digits := 0
		for digits < len(rest) && isDigit(rest[digits]) && digits < 4 {
			n[f.what] = n[f.what]*10 + int(rest[digits]-'0')
			digits++
		}
		if digits == 0 || f.what == 'Y' && digits != 4 || f.what != 'Y' && digits > 2 || f.what == 'y' && digits != 2 {
			return 0, fmt.Errorf(
				"a number of %s is missing",
				map[byte]string{'Y': "four digits for the year", 'y': "two digits for the year", 'M': "two digits for the month", 'D': "two digits for the day", 'h': "hours", 'm': "minutes", 's': "seconds"}[f.what],
			)
		}
		rest = rest[digits:]
		if f.what == 's' {
			end := 0
			for end < len(rest) && (isDigit(rest[end]) || end == 0 && (rest[0] == '.' || rest[0] == ',')) {
				end++
			}
			var ok bool
			if fraction, ok = nanoseconds(rest[:end]); !ok {
				return 0, fmt.Errorf("the fraction of its second cannot be read")
			}
			rest = rest[end:]
		}
	}
	switch half := strings.ToUpper(string(bytes.TrimSpace(rest))); {
	case half == "":
	case (half == "AM" || half == "PM") && n['h'] >= 1 && n['h'] <= 12:
		n['h'] %= 12
		if half == "PM" {
			n['h'] += 12
		}
	default:
		return 0, fmt.Errorf("%q follows it", Shorten(rest))
	}
	if l.has('y') {
		if n['Y'] = 2000 + n['y']; n['y'] >= 69 {
			n['Y'] -= 100
		}
	}
	t := time.Date(n['Y'], time.Month(n['M']), n['D'], n['h'], n['m'], n['s'], 0, time.UTC)
	if n['Y'] < 1700 || n['Y'] > 2200 || t.Day() != n['D'] || int(t.Month()) != n['M'] || n['h'] > 23 || n['m'] > 59 || n['s'] > 59 {
		return 0, fmt.Errorf("there is no such date or time of day")
	}
	return t.UnixNano() + fraction, nil
}
