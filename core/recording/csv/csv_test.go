package csv

import (
	"bytes"
	"io"
	"math"
	"strconv"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rectura/core/recording"
)

func read(text string) (*recording.Recording, error) {
	return Reader{Name: "r.csv"}.Read(strings.NewReader(text))
}

// dump prints a recording's readings, "oxygen[mA] 0=1 5=NaN".
func dump(r *recording.Recording) string {
	var lines []string
	for _, c := range r.Columns {
		line := c.Name
		if c.Unit != "" {
			line += "[" + c.Unit + "]"
		}
		c.Each(func(t int64, v float64) bool {
			line += " " + strconv.FormatFloat(float64(t-r.Start)/1e9, 'f', -1, 64) + "=" + strconv.FormatFloat(v, 'g', -1, 64)
			return true
		})
		lines = append(lines, line)
	}
	return strings.Join(lines, "\n")
}

func TestRead(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"plain", "time,a,b\n0,1,2\n1,3,4\n", "a 0=1 1=3\nb 0=2 1=4"},
		{"units in headings", "time,a [mA], b [ mg/L ] \n0,1,2\n", "a[mA] 0=1\nb[mg/L] 0=2"},
		{"no reading, and bad ones", "time,a\n0,\n1,NaN\n2,bad\n3,NULL\n4,inf\n5,-Infinity\n6,1e999\n7,5\n", "a 1=NaN 2=NaN 3=NaN 4=+Inf 5=-Inf 6=+Inf 7=5"},
		{"words for contacts", "time,k\n0,on\n1,OFF\n2,True\n3,false\n4,closed\n5,Open\n", "k 0=1 1=0 2=1 3=0 4=1 5=0"},
		{"byte order mark, CRLF, no newline at the end", "\ufefftime,a\r\n0,1\r\n1,2", "a 0=1 1=2"},
		{"quoted cells", "\"time\",\"a \"\"x\"\" [mA]\" ,b\n0, \"1\" ,2\n\"1\",2,\"\"\n", "a \"x\"[mA] 0=1 1=2\nb 0=2"},
		{"time column in the middle, by its name", "a,Timestamp,b\n1,0,2\n", "a 0=1\nb 0=2"},
		{"time column is the first if none is named so", "seconds,a\n5,1\n6,2\n", "a 0=1 1=2"},
		{"RFC 3339, zones and fractions", "time,a\n2026-03-02T02:14:05Z,1\n2026-03-02T03:14:05.5+01:00,2\n2026-03-02 02:14:06Z,3\n2026-03-02T02:14:06.000000001Z,4\n", "a 0=1 0.5=2 1=3 1.000000001=4"},
		{"seconds and milliseconds since 1970", "time,a\n1772417645.25,1\n1772417646,2\n", "a 0=1 0.75=2"},
		{"milliseconds", "time,a\n1772417645250,1\n1772417646000,2\n", "a 0=1 0.75=2"},
		{"a time that comes twice", "time,a,b\n0,1,1\n0,2,\n1,3,3\n", "a 0=2 1=3\nb 0=1 1=3"},
		{"empty lines", "time,a\n\n0,1\n\n\n1,2\n\n", "a 0=1 1=2"},
		{"negative elapsed times", "time,a\n-0.5,1\n0,2\n", "a 0=1 0.5=2"},
		{"numbers of every form", "time,a\n0,-0.5\n1,+2\n2,1e3\n3,.5\n4,5.\n5,12345678901234567890\n", "a 0=-0.5 1=2 2=1000 3=0.5 4=5 5=1.2345678901234567e+19"},
	} {
		r, err := read(c.text)
		require.NoError(t, err, c.name)
		assert.Equal(t, c.want, dump(r), c.name)
	}
	r, err := read("time,a\n2026-03-02T03:14:05+01:00,1\n")
	require.NoError(t, err)
	assert.Equal(t, recording.Clock{Offset: 3600}, r.Clock)
	r, err = read("time,a\n5,1\n5,2\n")
	require.NoError(t, err)
	assert.Equal(t, []string{"readings that came again for the same time, of which the later counts: 1"}, r.Notes)
	assert.True(t, r.Clock.Elapsed)
	r, err = Reader{TimeColumn: "when"}.Read(strings.NewReader("time,when\n7,0\n"))
	require.NoError(t, err)
	assert.Equal(t, "time 0=7", dump(r))
}

func TestErrors(t *testing.T) {
	for text, want := range map[string]string{
		"":                             "r.csv: the file is empty; a recording begins with a row of column names",
		"\n\n":                         "r.csv: the file is empty; a recording begins with a row of column names",
		"time,a\n":                     "r.csv: the file has column names and no row below them",
		"\x89PNG\r\n\x1a\n\x00":        "r.csv: this is not a text file; a recording is read as CSV",
		"1,2,3\n4,5,6\n":               "r.csv:1:1: the first row holds numbers where the column names must stand",
		"time,a,a\n":                   "r.csv:1:8: two columns are named a; rename one",
		"time,,a\n":                    "r.csv:1:6: column 2 has no name",
		"time,a [mA\n":                 "r.csv:1:6: the heading a [mA has a bracket that is not a unit at its end; write it as: name [unit]",
		"time,a\n0,1\n1\n":             "r.csv:3:2: this row ends after cell 1 of 2; a is missing",
		"time,a\n0,1,5\n":              "r.csv:2:4: this row has more cells than the heading, 2; a decimal comma is not read",
		"time,é,b\n0,1,x\n":            "r.csv:2:5: b: \"x\" is no reading; a cell holds a number, a word such as on, off or bad, or nothing",
		"time,a\n0,12 mA\n":            "r.csv:2:3: a: \"12 mA\" is no reading; a cell holds a number, a word such as on, off or bad, or nothing",
		"time,a\n0,0x10\n":             "r.csv:2:3: a: \"0x10\" is no reading; a cell holds a number, a word such as on, off or bad, or nothing",
		"time,a\n5,1\n4,2\n":           "r.csv:3:1: the time goes back, from 5 to 4; sort the rows by time",
		"oxygen,a\n7.9,1\n7.8,2\n":     "r.csv:3:1: the time goes back, from 7.9 to 7.8 (no column is named time, so the first, oxygen, is taken for the time); sort the rows by time",
		"oxygen,a\nhigh,1\n":           "r.csv:2:1: \"high\" is no time; write it as 2026-03-02T02:14:05Z or as elapsed seconds (no column is named time, so the first, oxygen, is taken for the time)",
		"time,a\n2026-03-02 02:14,1\n": "r.csv:2:1: \"2026-03-02 02:14\" is no time; write it as 2026-03-02T02:14:05Z, with its zone, or as elapsed seconds",
		"time,a\n2026-03-02T02:14:05Z,1\n2026-02-30T02:14:05Z,1\n": "r.csv:3:1: \"2026-02-30\" is no date",
		"time,a\n2026-03-02T02:14:05Z,1\n7,1\n":                    "r.csv:3:1: \"7\" is no time like the ones before it; write it as 2026-03-02T02:14:05Z",
		"time,a\n0,1\nx,1\n":                                       "r.csv:3:1: \"x\" is no time; the ones before it are numbers",
		"time,a\n0.0000000001,1\n":                                 "r.csv:2:1: the time 0.0000000001 is finer than a nanosecond",
		"time,a\n0,1\n99999999999,1\n":                             "r.csv:3:1: the time 99999999999 is more than 292 years",
		"time,a\n0,\"1\n":                                          "r.csv:2:3: the quote that opens here is not closed on its line",
		"time,a\n0,1\"2\n":                                         "r.csv:2:4: a quote in the middle of a cell; quote the whole cell, and double the quotes in it",
		"time,a\n0,\"1\"2\n":                                       "r.csv:2:6: \"2\" after a quoted cell, where a comma or the end of the row must stand",
	} {
		_, err := read(text)
		assert.EqualError(t, err, want, "%q", text)
	}
	_, err := Reader{Name: "r.csv", TimeColumn: "when"}.Read(strings.NewReader("time,a\n"))
	assert.EqualError(t, err, "r.csv:1:1: no column is named when, which was to be the time")
	_, err = Reader{Name: "r.csv"}.Read(io.MultiReader(strings.NewReader("time,a\n0,1\n"), iotest.ErrReader(io.ErrUnexpectedEOF)))
	assert.EqualError(t, err, "reading r.csv: unexpected EOF")
}

// An endless line is refused after a megabyte, without being read to its end.
func TestLongLine(t *testing.T) {
	endless := &counter{in: io.MultiReader(strings.NewReader("time,a\n0,"), repeat('1'))}
	_, err := Reader{Name: "r.csv"}.Read(endless)
	assert.EqualError(t, err, "r.csv:2:1: this line is longer than 1 MiB; this is no CSV recording")
	assert.Less(t, endless.n, 4*MaxLine)
}

type repeat byte

func (r repeat) Read(b []byte) (int, error) {
	for i := range b {
		b[i] = byte(r)
	}
	return len(b), nil
}

type counter struct {
	in io.Reader
	n  int
}

func (c *counter) Read(b []byte) (int, error) {
	n, err := c.in.Read(b)
	c.n += n
	return n, err
}

// Numbers and times are read as the standard library reads them.
func TestNumbersLikeTheStandardLibrary(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.OneOf(rapid.StringMatching(`[-+]?[0-9]{0,18}(\.[0-9]{0,18})?([eE][-+]?[0-9]{1,3})?`),
			rapid.Map(rapid.Float64(), func(v float64) string { return strconv.FormatFloat(v, 'g', -1, 64) })).Draw(t, "number")
		want, err := strconv.ParseFloat(text, 64)
		got, ok := parseFloat([]byte(text))
		if err != nil && !math.IsInf(want, 0) {
			require.False(t, ok, text)
			return
		}
		require.True(t, ok, text)
		require.Equal(t, math.Float64bits(want), math.Float64bits(got), text)
	})
	rapid.Check(t, func(t *rapid.T) {
		at := time.Unix(rapid.Int64Range(-1e9, 7e9).Draw(t, "s"), rapid.Int64Range(0, 999_999_999).Draw(t, "ns")).UTC()
		r := timeReader{}
		got, err := r.read([]byte(at.Format(time.RFC3339Nano)))
		require.NoError(t, err)
		require.Equal(t, at.UnixNano(), got)
		elapsed := timeReader{}
		ns := rapid.Int64Range(-1e17, 1e17-1).Draw(t, "elapsed")
		got, err = elapsed.read([]byte(strconv.FormatFloat(0, 'f', -1, 64)))
		require.NoError(t, err)
		require.Zero(t, got)
		text := strconv.FormatInt(ns/1e9, 10) + "." + strconv.FormatInt(1e9+max(ns%1e9, -(ns%1e9)), 10)[1:]
		if ns < 0 && ns > -1e9 {
			text = "-" + text
		}
		got, err = elapsed.read([]byte(text))
		require.NoError(t, err, text)
		require.Equal(t, ns, got, text)
	})
}

// A reader that gives one byte at a time makes no difference.
func TestSmallReads(t *testing.T) {
	text := "time,a,b\n0,1,\"x\"\n"
	_, err := Reader{Name: "r.csv"}.Read(iotest.OneByteReader(strings.NewReader(text)))
	_, same := read(text)
	assert.Equal(t, same, err)
}

// Whatever the bytes, reading ends, does not panic, and gives columns whose
// times go up.
func FuzzRead(f *testing.F) {
	f.Add([]byte("time,a [mA],k\n2026-03-02T02:14:05Z,12.5,on\n2026-03-02T02:14:06.5Z,,bad\n"))
	f.Add([]byte("\ufefftime,\"a\"\"b\"\r\n0,1\r\n0,2\r\n1e3,3\r\n"))
	f.Add([]byte("t,a\n1772417645250,1\n1772417646250,inf\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		r, err := Reader{Name: "r.csv"}.Read(bytes.NewReader(text))
		if err != nil {
			return
		}
		for _, c := range r.Columns {
			last := int64(math.MinInt64)
			c.Each(func(at int64, _ float64) bool {
				if at < r.Start || at > r.End || at <= last {
					t.Fatalf("column %s: time %d after %d, in %d to %d", c.Name, at, last, r.Start, r.End)
				}
				last = at
				return true
			})
		}
	})
}
