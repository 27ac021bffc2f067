package recording

import (
	"fmt"
	"sync"
	"time"
)

// LoadZone finds the zone of local times: by its IANA name, such as
// Europe/Dublin, or by its offset from UTC, such as +01:00, which then holds
// summer and winter.
func LoadZone(name string) (*time.Location, error) {
	if offset, fixed := fixedOffset(name); fixed {
		return time.FixedZone(name, offset), nil
	}
	if known, ok := zones.Load(name); ok {
		return known.(*time.Location), nil
	}
	zone, err := time.LoadLocation(name)
	if err != nil || name == "" || name == "Local" {
		return nil, fmt.Errorf(
			"%q is no known time zone; write its IANA name, such as Europe/Dublin, or its offset from UTC, such as +01:00",
			name,
		)
	}
	zones.Store(name, zone)
	return zone, nil
}

// zones are the zones that were asked for; loading one reads a file.
var zones sync.Map // of *time.Location by name

// fixedOffset reads +01:00 or -03:30, in seconds east of UTC, at most 14 hours.
func fixedOffset(s string) (seconds int, ok bool) {
	if len(s) != len("+01:00") || s[0] != '+' && s[0] != '-' || s[3] != ':' {
		return 0, false
	}
	hours, ok1 := twoDigits([]byte(s[1:]), 14)
	minutes, ok2 := twoDigits([]byte(s[4:]), 59)
	if seconds = int(hours*3600 + minutes*60); s[0] == '-' {
		seconds = -seconds
	}
	return seconds, ok1 && ok2
}

// goesBack tells whether the clocks of a zone are put back between two times.
// Zones change some twice a year, so a day at a time is looked at, and no more than
// three years, in which every hour that can come twice has come.
func goesBack(zone *time.Location, from, to int64) bool {
	const day = 24 * 3600 * int64(time.Second)
	to = min(to, from+3*366*day)
	offset := func(t int64) int { _, o := time.Unix(0, t).In(zone).Zone(); return o }
	for t, last := from, offset(from); t < to; {
		t = min(t+day, to)
		now := offset(t)
		if now < last {
			return true
		}
		last = now
	}
	return false
}
