package recording

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"rectura/core/unit"
)

// A Clock says how a recording's times are to be read and shown: as instants
// since 1970, in a zone or at an offset from UTC, or as seconds elapsed on no
// clock.
type Clock struct {
	Elapsed bool
	Offset  int    // seconds east of UTC; only where there is no zone
	Zone    string // an IANA name, such as Europe/Dublin; empty for a fixed offset
	Twice   bool   // an hour comes twice: times of day are shown with their offset from UTC
}

// Spanning is the clock of a recording from one time to another.
func (c Clock) Spanning(start, end int64) Clock {
	c.Twice = !c.Elapsed && c.Zone != "" && goesBack(c.zone(), start, end)
	return c
}

// ZoneText names the zone in which times are shown; empty for elapsed ones.
func (c Clock) ZoneText() string {
	switch {
	case c.Elapsed:
		return ""
	case c.Zone != "":
		return c.Zone
	case c.Offset == 0:
		return "UTC"
	}
	return "UTC" + time.Unix(0, 0).In(c.zone()).Format("-07:00")
}

func (c Clock) zone() *time.Location {
	switch {
	case c.Zone != "":
		zone, err := LoadZone(c.Zone)
		if err != nil {
			return time.UTC // a zone that this machine does not know
		}
		return zone
	case c.Offset == 0:
		return time.UTC
	}
	return time.FixedZone("", c.Offset)
}

// OffsetAt is how many seconds east of UTC the clock is at a time.
func (c Clock) OffsetAt(t int64) int {
	if c.Elapsed {
		return 0
	}
	_, offset := time.Unix(0, t).In(c.zone()).Zone()
	return offset
}

// Format prints a time for people: the time of day, "02:14:05", or "+845 s";
// "02:14:05+01:00" where an hour comes twice. Fractions of a second are printed
// only where there are some.
func (c Clock) Format(t int64) string {
	if c.Elapsed {
		return "+" + unit.FormatDecimal(t, int64(time.Second)) + " s"
	}
	return c.timeOfDay(t, "15:04:05.999999999")
}

// FormatMillis prints a time for a table: always with thousandths, "02:14:05.000".
func (c Clock) FormatMillis(t int64) string {
	if c.Elapsed {
		return fmt.Sprintf("+%.3f s", float64(t)/float64(time.Second))
	}
	return c.timeOfDay(t, "15:04:05.000")
}

// FormatMinutes prints a time of day without its seconds, "02:14".
func (c Clock) FormatMinutes(t int64) string { return c.timeOfDay(t, "15:04") }

func (c Clock) timeOfDay(t int64, layout string) string {
	if c.Twice {
		layout += "-07:00"
	}
	return time.Unix(0, t).In(c.zone()).Format(layout)
}

// Full prints a time for programs: RFC 3339, or the elapsed seconds.
func (c Clock) Full(t int64) string {
	if c.Elapsed {
		return unit.FormatDecimal(t, int64(time.Second))
	}
	return time.Unix(0, t).In(c.zone()).Format(time.RFC3339Nano)
}

// Date prints the day a time falls on, "2 March 2026"; nothing for an elapsed one.
func (c Clock) Date(t int64) string {
	if c.Elapsed {
		return ""
	}
	return time.Unix(0, t).In(c.zone()).Format("2 January 2006")
}

// ParseIn reads a time that a person gives for a recording: an offset from its
// start, `+75 s`; a full RFC 3339 time; or a time of day, perhaps with its offset
// from UTC, the first one at or after the start.
func (r *Recording) ParseIn(s string) (int64, error) {
	s = strings.TrimSpace(s)
	if offset, ok := strings.CutPrefix(s, "+"); ok {
		if offset = strings.TrimSpace(offset); offset == "0" || offset == "0 s" || offset == "0s" {
			return r.Origin, nil
		}
		d, err := unit.ParseDuration(offset)
		if err != nil {
			return 0, err
		}
		return r.Origin + d, nil
	}
	if r.Clock.Elapsed {
		return 0, fmt.Errorf(
			"%q is no time of this recording, which has elapsed seconds; write an offset from its start, such as \"+75 s\"",
			s,
		)
	}
	if t, err := time.Parse(time.RFC3339Nano, s); err == nil {
		return t.UnixNano(), nil
	}
	for _, form := range []string{"15:04:05.999999999", "15:04"} {
		if day, err := time.Parse(form, s); err == nil {
			return r.firstOf(day, s, nil)
		}
		if day, err := time.Parse(form+"Z07:00", s); err == nil {
			_, offset := day.Zone()
			return r.firstOf(day, s, &offset)
		}
	}
	return 0, fmt.Errorf(
		"%s is no time; write a time of day such as 02:14:05, a full one such as 2026-03-02T02:14:05Z, or an offset such as \"+75 s\"",
		strconv.Quote(s),
	)
}

// firstOf is the first time at or after the recording's start at which its clock
// shows a time of day, written s; with an offset, at which it is that time there.
func (r *Recording) firstOf(day time.Time, s string, offset *int) (int64, error) {
	start := time.Unix(0, r.Origin).In(r.Clock.zone())
	hour, minute, second := day.Clock()
	skipped := false // by clocks that went forward
	for later := -1; later <= 1; later++ {
		wall := time.Date(start.Year(), start.Month(), start.Day()+later, hour, minute, second, day.Nanosecond(), time.UTC).UnixNano()
		if offset != nil {
			if t := wall - int64(*offset)*int64(time.Second); t >= r.Origin {
				return t, nil
			}
			continue
		}
		shown := false
		for _, near := range []int64{wall - 24*3600e9, wall + 24*3600e9} { // before and after a change of clocks
			o := r.Clock.OffsetAt(near)
			t := wall - int64(o)*int64(time.Second)
			if r.Clock.OffsetAt(t) != o {
				continue
			}
			if shown = true; t >= r.Origin && (!skipped || t <= r.End) {
				return t, nil
			}
		}
		skipped = skipped || !shown
	}
	return 0, fmt.Errorf("there is no %s in this recording: clocks in %s went forward over it", s, r.Clock.ZoneText())
}

// Window reads the ends of a part of the recording, as ParseIn does; empty for
// its start and its end.
func (r *Recording) Window(from, to string) (first, last int64, err error) {
	first, last = r.Start, r.End
	if from != "" {
		if first, err = r.ParseIn(from); err != nil {
			return 0, 0, err
		}
	}
	if to != "" {
		if last, err = r.ParseIn(to); err != nil {
			return 0, 0, err
		}
	}
	if last < first {
		return 0, 0, fmt.Errorf("the part from %s to %s ends before it begins", r.Clock.Format(first), r.Clock.Format(last))
	}
	return first, last, nil
}
