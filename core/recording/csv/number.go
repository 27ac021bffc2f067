package csv

import (
	"bytes"
	"errors"
	"fmt"
	"math"
	"strconv"
	"time"

	"rectura/core/recording"
)

// words are the cells that are no numbers, in small letters.
var words = map[string]float64{
	"on": 1, "true": 1, "closed": 1, "off": 0, "false": 0, "open": 0,
	"nan": math.NaN(), "bad": math.NaN(), "null": math.NaN(),
	"inf": math.Inf(1), "+inf": math.Inf(1), "-inf": math.Inf(-1),
	"infinity": math.Inf(1), "+infinity": math.Inf(1), "-infinity": math.Inf(-1),
}

// tens are the powers of ten that a float64 holds exactly.
var tens = [...]float64{1e0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11,
	1e12, 1e13, 1e14, 1e15, 1e16, 1e17, 1e18, 1e19, 1e20, 1e21, 1e22}

// parseFloat reads a number, correctly rounded. Short ones take the exact path
// of Clinger (How to read floating point numbers accurately, 1990): up to 15
// digits and a power of ten up to 22 are both exact, so one division rounds
// once. Everything else goes to strconv.
func parseFloat(b []byte) (float64, bool) {
	i, negative := 0, false
	if i < len(b) && (b[i] == '-' || b[i] == '+') {
		negative = b[i] == '-'
		i++
	}
	var mantissa uint64
	digits, fraction := 0, 0
	point := false
	for ; i < len(b); i++ {
		switch c := b[i]; {
		case '0' <= c && c <= '9':
			if digits > 0 || c != '0' {
				digits++
			}
			if digits > 15 {
				return parseSlow(b)
			}
			mantissa = mantissa*10 + uint64(c-'0')
			if point {
				fraction++
			}
		case c == '.' && !point:
			point = true
		default:
			return parseSlow(b)
		}
	}
	if fraction >= len(tens) || len(b) == 0 || !isDigit(b[len(b)-1]) && (len(b) < 2 || !isDigit(b[len(b)-2])) {
		return parseSlow(b)
	}
	v := float64(mantissa)
	if fraction > 0 {
		v /= tens[fraction]
	}
	if negative {
		v = -v
	}
	return v, true
}

func isDigit(c byte) bool { return '0' <= c && c <= '9' }

// parseSlow leaves to strconv what looks like a decimal number; its other
// forms are none here. A number beyond what a float64 holds is an infinity,
// which is a bad reading.
func parseSlow(b []byte) (float64, bool) {
	for _, c := range b {
		if !isDigit(c) && c != '.' && c != '-' && c != '+' && c != 'e' && c != 'E' {
			return 0, false
		}
	}
	v, err := strconv.ParseFloat(string(b), 64)
	if err != nil && !errors.Is(err, strconv.ErrRange) {
		return 0, false
	}
	return v, true
}

// A timeReader reads the cells of the time column. The first one settles what
// they are.
type timeReader struct {
	heading string
	clock   recording.Clock
	settled func(*timeReader, []byte) (int64, error)
	scale   int64 // of numbers, in nanoseconds

	day   [10]byte // the date last read
	epoch int64    // its beginning, in nanoseconds since 1970, in UTC
}

func (r *timeReader) read(b []byte) (int64, error) {
	if r.settled == nil {
		if err := r.settle(b); err != nil {
			return 0, err
		}
	}
	return r.settled(r, b)
}

// settle finds out from the first time what the times are.
func (r *timeReader) settle(b []byte) error {
	if len(b) > 10 && b[4] == '-' && (b[10] == 'T' || b[10] == 't' || b[10] == ' ') {
		t, err := time.Parse(time.RFC3339Nano, upperT(b))
		if err != nil {
			return fmt.Errorf("%q is no time; write it as 2026-03-02T02:14:05Z, with its zone, or as elapsed seconds", shorten(b))
		}
		_, r.clock.Offset = t.Zone()
		r.settled = (*timeReader).rfc3339
		return nil
	}
	v, ok := parseFloat(b)
	if !ok {
		return fmt.Errorf("%q is no time; write it as 2026-03-02T02:14:05Z or as elapsed seconds", shorten(b))
	}
	r.scale, r.settled = int64(time.Second), (*timeReader).decimal
	switch {
	case v < 1e8:
		r.clock.Elapsed = true
	case v >= 1e11:
		r.scale = int64(time.Millisecond)
	}
	return nil
}

func upperT(b []byte) string {
	s := bytes.ToUpper(b)
	if len(s) > 10 && s[10] == ' ' {
		s[10] = 'T'
	}
	return string(s)
}

// decimal reads a number of seconds or milliseconds, to the nanosecond.
func (r *timeReader) decimal(b []byte) (int64, error) {
	rest, negative := b, false
	if len(rest) > 0 && rest[0] == '-' {
		rest, negative = rest[1:], true
	}
	var whole, part int64
	unit := r.scale
	point, digits := false, 0
	for _, c := range rest {
		switch {
		case isDigit(c) && !point:
			if whole > (math.MaxInt64/r.scale-9)/10 {
				return 0, fmt.Errorf("the time %s is more than 292 years", shorten(b))
			}
			whole = whole*10 + int64(c-'0')
			digits++
		case isDigit(c):
			unit /= 10
			if unit == 0 && c != '0' {
				return 0, fmt.Errorf("the time %s is finer than a nanosecond", shorten(b))
			}
			part += int64(c-'0') * unit
			digits++
		case c == '.' && !point:
			point = true
		default:
			return 0, fmt.Errorf("%q is no time; the ones before it are numbers", shorten(b))
		}
	}
	if digits == 0 {
		return 0, fmt.Errorf("%q is no time; the ones before it are numbers", shorten(b))
	}
	t := whole*r.scale + part
	if negative {
		t = -t
	}
	return t, nil
}

// rfc3339 reads a time with its zone. The date, which seldom changes, is
// remembered; what does not have the usual form is left to package time.
func (r *timeReader) rfc3339(b []byte) (int64, error) {
	if len(b) >= 20 && b[len(b)-1] == 'Z' && b[10] == 'T' && b[13] == ':' && b[16] == ':' {
		hour, ok1 := twoDigits(b[11:], 23)
		minute, ok2 := twoDigits(b[14:], 59)
		second, ok3 := twoDigits(b[17:], 59)
		fraction, ok4 := nanoseconds(b[19 : len(b)-1])
		if ok1 && ok2 && ok3 && ok4 {
			if string(r.day[:]) != string(b[:10]) {
				day, err := time.Parse(time.DateOnly, string(b[:10]))
				if err != nil || day.Year() < 1700 || day.Year() > 2200 {
					return 0, fmt.Errorf("%q is no date", shorten(b[:10]))
				}
				copy(r.day[:], b)
				r.epoch = day.UnixNano()
			}
			return r.epoch + (hour*3600+minute*60+second)*int64(time.Second) + fraction, nil
		}
	}
	t, err := time.Parse(time.RFC3339Nano, upperT(b))
	if err != nil || t.Year() < 1700 || t.Year() > 2200 {
		return 0, fmt.Errorf("%q is no time like the ones before it; write it as 2026-03-02T02:14:05Z", shorten(b))
	}
	return t.UnixNano(), nil
}

func twoDigits(b []byte, most int64) (int64, bool) {
	if !isDigit(b[0]) || !isDigit(b[1]) {
		return 0, false
	}
	n := int64(b[0]-'0')*10 + int64(b[1]-'0')
	return n, n <= most
}

// nanoseconds reads the fraction of a second, ".125", or nothing.
func nanoseconds(b []byte) (int64, bool) {
	if len(b) == 0 {
		return 0, true
	}
	if b[0] != '.' || len(b) < 2 || len(b) > 10 {
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
