package recording_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rectura/core/recording"
)

// cells are the first cells of a time column.
func cells(texts ...string) [][]byte {
	var all [][]byte
	for _, t := range texts {
		all = append(all, []byte(t))
	}
	return all
}

// What times are is found from the first of them.
func TestTimeFormatsAreFound(t *testing.T) {
	for _, c := range []struct {
		first  []string
		format string
		read   string // of the first, RFC 3339 or elapsed seconds
	}{
		{[]string{"2026-03-02T02:14:05Z"}, "rfc3339", "2026-03-02T02:14:05Z"},
		{[]string{"2026-03-02t02:14:05.25z"}, "rfc3339", "2026-03-02T02:14:05.25Z"},
		{[]string{"2026-03-02 02:14:05+01:00"}, "rfc3339", "2026-03-02T02:14:05+01:00"},
		{[]string{"0"}, "elapsed", "0"},
		{[]string{"-5.5"}, "elapsed", "-5.5"},
		{[]string{"99999999.5"}, "elapsed", "99999999.5"},
		{[]string{"100000000"}, "seconds", "1973-03-03T09:46:40Z"},
		{[]string{"1772417645.000000001"}, "seconds", "2026-03-02T02:14:05.000000001Z"},
		{[]string{"1772417645250"}, "milliseconds", "2026-03-02T02:14:05.25Z"},
		{[]string{"2026-03-02 02:14:05"}, "YYYY-MM-DD hh:mm:ss", "2026-03-02T02:14:05Z"},
		{[]string{"2026-03-02T02:14:05.5"}, "YYYY-MM-DDThh:mm:ss", "2026-03-02T02:14:05.5Z"},
		{[]string{"2026-03-02 02:14"}, "YYYY-MM-DD hh:mm", "2026-03-02T02:14:00Z"},
		{[]string{"2026/3/2 2:14:05"}, "YYYY/MM/DD hh:mm:ss", "2026-03-02T02:14:05Z"},
		{[]string{"02.03.2026 02:14:05,125"}, "DD.MM.YYYY hh:mm:ss", "2026-03-02T02:14:05.125Z"},
		{[]string{"2.3.2026 2:14"}, "DD.MM.YYYY hh:mm", "2026-03-02T02:14:00Z"},
		{[]string{"02-03-2026 02:14:05"}, "DD-MM-YYYY hh:mm:ss", "2026-03-02T02:14:05Z"},
		{[]string{"02/03/2026 02:14:05", "13/03/2026 02:14:05"}, "DD/MM/YYYY hh:mm:ss", "2026-03-02T02:14:05Z"},
		{[]string{"02/03/2026 02:14", "03/13/2026 02:14"}, "MM/DD/YYYY hh:mm", "2026-02-03T02:14:00Z"},
		{[]string{"02.03.26 02:14:05"}, "DD.MM.YY hh:mm:ss", "2026-03-02T02:14:05Z"},
		{[]string{"02-03-69 02:14", "31-03-69 02:14"}, "DD-MM-YY hh:mm", "1969-03-02T02:14:00Z"},
		{[]string{"26/03/02 02:14:05", "69/03/31 02:14:05"}, "YY/MM/DD hh:mm:ss", "2026-03-02T02:14:05Z"},
		{[]string{"31/12/2026 11:59:59 pm"}, "DD/MM/YYYY hh:mm:ss", "2026-12-31T23:59:59Z"},
	} {
		times := recording.NewTimes(recording.Options{}, "time", '.')
		require.NoError(t, times.Settle(cells(c.first...)), c.first)
		var u recording.Understood
		times.Describe(&u)
		assert.Equal(t, c.format, u.TimeFormat, c.first)
		got, err := times.Read([]byte(c.first[0]))
		require.NoError(t, err, c.first)
		assert.Equal(t, c.read, times.Clock().Full(got), c.first)
	}
}

func TestTimesThatAreNone(t *testing.T) {
	for _, c := range []struct{ format, first, text, want string }{
		{"", "noon", "noon", `"noon" is no time; write it as 2026-03-02T02:14:05Z, as 2026-03-02 02:14:05 or as elapsed seconds, or give the time format`},
		{"", "02/03/2026 02:14", "", "02/03/2026 02:14 reads as a date in more than one way; say with the time format whether it is 'DD/MM/YYYY hh:mm' or 'MM/DD/YYYY hh:mm'"},
		{"", "26-03-02 02:14", "", "say with the time format whether it is 'YY-MM-DD hh:mm' or 'DD-MM-YY hh:mm'"},
		{"", "5", "2026-03-02T02:14:05Z", `"2026-03-02T02:14:05Z" is no time; the ones before it are numbers`},
		{"", "2026-03-02 02:14:05", "5", `"5" is no time of the form YYYY-MM-DD hh:mm:ss: a number of four digits for the year is missing`},
		{"", "2026-03-02 02:14:05", "2026-03-02 02:14", `"2026-03-02 02:14" is no time of the form YYYY-MM-DD hh:mm:ss: a ':' is missing`},
		{"", "2026-03-02 02:14:05", "2026-02-30 02:14:05", `"2026-02-30 02:14:05" is no time of the form YYYY-MM-DD hh:mm:ss: there is no such date or time of day`},
		{"", "2026-03-02 02:14:05", "2026-03-02 24:14:05", `"2026-03-02 24:14:05" is no time of the form YYYY-MM-DD hh:mm:ss: there is no such date or time of day`},
		{"", "2026-03-02 02:14:05", "2026-03-02 02:14:05.", `"2026-03-02 02:14:05." is no time of the form YYYY-MM-DD hh:mm:ss: the fraction of its second cannot be read`},
		{"", "2026-03-02 02:14:05", "2026-03-02 02:14:05 UTC", `"2026-03-02 02:14:05 UTC" is no time of the form YYYY-MM-DD hh:mm:ss: " UTC" follows it`},
		{"elapsed", "x", "1.0000000001", "the time 1.0000000001 is finer than a nanosecond"},
		{"elapsed", "x", "1,5", `"1,5" is no time; the ones before it are numbers`},
		{"seconds", "x", "99999999999", "the time 99999999999 is more than 292 years"},
		{"rfc3339", "x", "2026-13-02T02:14:05Z", `"2026-13-02" is no date`},
		{"YYYY-MM-DD", "x", "", `the time format "YYYY-MM-DD" is neither one of rfc3339, elapsed, seconds, milliseconds nor made of YYYY or YY, MM, DD, hh, mm and ss`},
		{"hh:mm DD.MM.YYYY hh", "x", "", `the time format "hh:mm DD.MM.YYYY hh" is neither one of`},
		{"YYYY-MM-DD hh:mm:ss z", "x", "", `the time format "YYYY-MM-DD hh:mm:ss z" is neither one of`},
	} {
		times := recording.NewTimes(recording.Options{TimeFormat: c.format}, "time", '.')
		err := times.Settle(cells(c.first))
		if err == nil {
			_, err = times.Read([]byte(c.text))
		}
		require.Error(t, err, c.want)
		assert.Contains(t, err.Error(), c.want)
	}
}

// A local time is read as package time reads it, in any zone and over every
// change of its clocks, as long as time goes on.
func TestLocalTimes(t *testing.T) {
	for _, name := range []string{"Europe/Dublin", "America/St_Johns", "Australia/Lord_Howe", "Asia/Kathmandu", "UTC"} {
		zone, err := time.LoadLocation(name)
		require.NoError(t, err)
		rapid.Check(t, func(t *rapid.T) {
			times := recording.NewTimes(recording.Options{Zone: zone, TimeFormat: "YYYY-MM-DD hh:mm:ss"}, "time", '.')
			at := rapid.Int64Range(1_700_000_000, 1_850_000_000).Draw(t, "start")
			if rapid.Bool().Draw(t, "at a change") { // clocks in Europe go back at 1:00 UTC on 25 October 2026
				at = 1_792_890_000 - rapid.Int64Range(0, 7200).Draw(t, "before")
			}
			for range 20 {
				at += rapid.SampledFrom([]int64{1, 60, 900, 1500}).Draw(t, "gap")
				text := time.Unix(at, 0).In(zone).Format(time.DateTime)
				got, err := times.Read([]byte(text))
				require.NoError(t, err)
				// The first time in an hour that comes twice may be either.
				shown := time.Unix(0, got).In(zone).Format(time.DateTime)
				require.Equal(t, text, shown)
				if got != at*1e9 {
					require.Less(t, got, at*1e9, "of two, the earlier is taken first")
				}
			}
		})
	}
}

func TestClockOfAZone(t *testing.T) {
	dublin := recording.Clock{Zone: "Europe/Dublin"}
	summer := time.Date(2026, 7, 1, 11, 0, 0, 0, time.UTC).UnixNano()
	winter := time.Date(2026, 1, 1, 11, 0, 0, 0, time.UTC).UnixNano()
	assert.Equal(t, "12:00:00", dublin.Format(summer))
	assert.Equal(t, "11:00:00", dublin.Format(winter))
	assert.Equal(t, 3600, dublin.OffsetAt(summer))
	assert.Equal(t, 0, dublin.OffsetAt(winter))
	assert.Equal(t, "2026-07-01T12:00:00+01:00", dublin.Full(summer))
	assert.Equal(t, "1 July 2026", dublin.Date(summer))
	assert.Equal(t, 0, recording.Clock{Elapsed: true}.OffsetAt(summer))
	assert.Equal(
		t,
		"11:00:00",
		recording.Clock{Zone: "Erewhon/Nowhere"}.Format(winter),
		"a zone that this machine does not know is shown as UTC",
	)
}

// Where clocks go back, a time of day is the first of its name, and can be
// chosen; where they go forward, some are not there.
func TestTimesOfDayOverAChangeOfClocks(t *testing.T) {
	at := func(s string) int64 {
		x, err := time.Parse(time.RFC3339, s)
		require.NoError(t, err)
		return x.UnixNano()
	}
	night := func(from, to string) *recording.Recording {
		r := &recording.Recording{Origin: at(from), Start: at(from), End: at(to)}
		r.Clock = recording.Clock{Zone: "Europe/Dublin"}.Spanning(r.Start, r.End)
		return r
	}
	back := night("2026-10-25T00:00:00+01:00", "2026-10-25T04:00:00Z")
	late := night("2026-10-25T01:15:00Z", "2026-10-25T04:00:00Z")
	forward := night("2026-03-29T00:00:00Z", "2026-03-29T04:00:00+01:00")
	long := night("2026-03-29T00:00:00Z", "2026-03-30T04:00:00+01:00")
	for _, c := range []struct {
		r          *recording.Recording
		text, want string
	}{
		{back, "01:45", "2026-10-25T01:45:00+01:00"},
		{back, "01:45+00:00", "2026-10-25T01:45:00Z"},
		{back, "01:45:30.5Z", "2026-10-25T01:45:30.5Z"},
		{back, "02:45", "2026-10-25T02:45:00Z"},
		{back, "2026-10-25T01:45:00Z", "2026-10-25T01:45:00Z"},
		{late, "01:45", "2026-10-25T01:45:00Z"},
		{late, "01:10", "2026-10-26T01:10:00Z"},
		{forward, "02:45", "2026-03-29T02:45:00+01:00"},
		{forward, "00:30+01:00", "2026-03-30T00:30:00+01:00"},
		{long, "01:45", "2026-03-30T01:45:00+01:00"},
	} {
		got, err := c.r.ParseIn(c.text)
		require.NoError(t, err, c.text)
		assert.Equal(t, at(c.want), got, c.text)
	}
	_, err := forward.ParseIn("01:45")
	assert.EqualError(t, err, "there is no 01:45 in this recording: clocks in Europe/Dublin went forward over it")

	second := at("2026-10-25T01:45:00Z")
	assert.Equal(t, "01:45:00+00:00", back.Clock.Format(second))
	assert.Equal(t, "01:45:00.000+01:00", back.Clock.FormatMillis(second-3600e9))
	assert.Equal(t, "01:45+00:00", back.Clock.FormatMinutes(second))
	assert.Equal(t, "01:45:00", late.Clock.Format(second))
	assert.Equal(t, "02:45:00", forward.Clock.Format(at("2026-03-29T02:45:00+01:00")))
	for want, clock := range map[string]recording.Clock{"": {Elapsed: true}, "UTC": {}, "UTC-03:30": {Offset: -12600}, "Europe/Dublin": back.Clock} {
		assert.Equal(t, want, clock.ZoneText())
	}
}

func TestZones(t *testing.T) {
	for name, want := range map[string]int{"+01:00": 3600, "-03:30": -12600, "+14:59": 53940, "Asia/Kathmandu": 20700, "UTC": 0} {
		zone, err := recording.LoadZone(name)
		require.NoError(t, err, name)
		_, offset := time.Unix(0, 0).In(zone).Zone()
		if name == "Asia/Kathmandu" {
			_, offset = time.Unix(1_790_000_000, 0).In(zone).Zone()
		}
		assert.Equal(t, want, offset, name)
	}
	for _, name := range []string{"", "Local", "Erewhon", "+1:00", "+15:00", "+01:60", "01:00", "../etc/passwd"} {
		_, err := recording.LoadZone(name)
		assert.ErrorContains(t, err, "is no known time zone", name)
	}
	times := recording.NewTimes(recording.Options{Zone: time.FixedZone("+01:00", 3600)}, "time", '.')
	got, err := times.Read([]byte("2026-07-01 12:00:00"))
	require.NoError(t, err)
	assert.Equal(t, "2026-07-01T12:00:00+01:00", times.Clock().Full(got))
	assert.Equal(t, recording.Clock{Offset: 3600}, times.Clock())
}

func TestMappings(t *testing.T) {
	for text, want := range map[string]recording.Mapping{
		"DO R1=oxygen":              {Column: "DO R1", Point: "oxygen"},
		" DO R1 = oxygen [mA] ":     {Column: "DO R1", Point: "oxygen", Unit: "mA"},
		"a=b=oxygen":                {Column: "a=b", Point: "oxygen"},
		"DO R1 (mg/L)=oxygen[mg/L]": {Column: "DO R1 (mg/L)", Point: "oxygen", Unit: "mg/L"},
	} {
		got, err := recording.ParseMapping(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got)
	}
	for _, text := range []string{"", "oxygen", "=oxygen", "x=", "x=oxygen [", "x=[mA]"} {
		_, err := recording.ParseMapping(text)
		assert.ErrorContains(t, err, "is not COLUMN=POINT", text)
	}
}

// Values are written so that they read back the same.
func TestValues(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		v := rapid.Float64().Draw(t, "value")
		got, word, ok := recording.ParseValue([]byte(recording.FormatValue(v)), '.')
		require.True(t, ok)
		require.False(t, word)
		require.Equal(t, v, got)
	})
	for text, want := range map[string]string{"closed": "1", "OFF": "0", "Null": "bad", "+Inf": "inf", "-infinity": "-inf", "-0": "-0", "1e-9": "1e-09", "12,5": "", "0x1p3": "", "1_000": "", "": ""} {
		v, _, ok := recording.ParseValue([]byte(text), '.')
		assert.Equal(t, want != "", ok, text)
		if ok {
			assert.Equal(t, want, recording.FormatValue(v), text)
		}
	}
	v, _, ok := recording.ParseValue([]byte("-1234567,25"), ',')
	assert.True(t, ok)
	assert.Equal(t, -1234567.25, v)
	_, _, ok = recording.ParseValue([]byte("1.5"), ',')
	assert.False(t, ok, "a point where commas are the mark")
}

// The lines of a text are the same by one, by chunks, and out of a reader that
// gives little at a time.
func TestLines(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.StringMatching(`([a-c]{0,9}(\n|\r\n)){0,12}[a-c]{0,4}`).Draw(t, "text")
		var want []string
		if text != "" {
			for _, l := range strings.Split(strings.TrimSuffix(text, "\n"), "\n") {
				want = append(want, strings.TrimSuffix(l, "\r"))
			}
		}
		all := func(l *recording.Lines) []string {
			var got []string
			for {
				line, err := l.Next()
				if err != nil {
					return got
				}
				got = append(got, string(line))
			}
		}
		require.Equal(t, want, all(recording.NewLines(strings.NewReader("\ufeff"+text))))
		require.Equal(t, want, all(recording.LinesOf([]byte(text))))
		size := rapid.IntRange(12, 40).Draw(t, "size")
		l := recording.NewLines(strings.NewReader("\ufeff" + text))
		head, err := l.Head()
		require.NoError(t, err)
		require.Equal(t, text, string(head))
		var got []string
		var buf []byte
		for {
			if buf, err = l.Chunk(buf, size); err != nil {
				break
			}
			require.LessOrEqual(t, len(buf), max(size, len(text)))
			got = append(got, all(recording.LinesOf(buf))...)
		}
		require.Equal(t, want, got)
	})
}
