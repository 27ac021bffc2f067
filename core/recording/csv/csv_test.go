package csv

import (
	"bytes"
	"io"
	"math"
	"strconv"
	"strings"
	"sync"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rectura/core/recording"
	"rectura/core/recording/recordingtest"
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
		{"semicolons and decimal commas", "time;a [mA];b\n0,5;1,25;-3\n1;;0,5\n", "a[mA] 0=1.25\nb 0=-3 0.5=0.5"},
		{"tabs and decimal commas", "time\ta\n0\t1,25\n", "a 0=1.25"},
		{"semicolons and decimal points", "time;a, b\n0;1.25\n", "a, b 0=1.25"},
		{"a comma in a quoted heading", "time,\"a;b;c\",d\n0,1,2\n", "a;b;c 0=1\nd 0=2"},
		{"days and months", "time;a\n28.02.2026 23:59:59,5;1\n01.03.2026 00:00:00;2\n", "a 0=1 0.5=2"},
		{"the month first, as a later row shows", "time,a\n02/03/2026 02:14,1\n02/13/2026 02:14,2\n", "a 0=1 864000=2"},
		{"half days", "time,a\n2/28/2026 11:59:59 PM,1\n3/1/2026 12:00:00 AM,2\n", "a 0=1 1=2"},
		{"a day and a time of day", "Date;Time;a\n28.02.26;23:59:59,5;1\n01.03.26;00:00:00;2\n", "a 0=1 0.5=2"},
		{"a time of day before its day", "a,time,b,date\n1,23:59:59,7,2026-02-28\n2,00:00:00,8,2026-03-01\n", "a 0=1 1=2\nb 0=7 1=8"},
		{"long, with a day and a time of day", "date,time,point,value\n2026-02-28,23:59:59,a,1\n2026-03-01,00:00:00,a,2\n", "a 0=1 1=2"},
		{"long", "time,point,value\n0,a,1\n0,b,on\n1,a,2\n1,b,\n2,b,off\n", "a 0=1 1=2\nb 0=1 2=0"},
		{"long, with units and quality", "Time;Point;Value;Unit;Quality\n0;a;1,5;mA;good\n1;a;2;mA;bad\n1;a;3;mA;\n", "a[mA] 0=1.5 1=3"},
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
	r, err = Reader{Options: recording.Options{TimeColumn: "when"}}.Read(strings.NewReader("time,when\n7,0\n"))
	require.NoError(t, err)
	assert.Equal(t, "time 0=7", dump(r))
}

func TestErrors(t *testing.T) {
	for text, want := range map[string]string{
		"":                                  "r.csv: the file is empty; a recording begins with a row of column names",
		"\n\n":                              "r.csv: the file is empty; a recording begins with a row of column names",
		"time,a\n":                          "r.csv: the file has column names and no row below them",
		"\x89PNG\r\n\x1a\n\x00":             "r.csv: this is not a text file; a recording is read as CSV",
		"1,2,3\n4,5,6\n":                    "r.csv:1:1: the first row holds numbers where the column names must stand",
		"time,a,a\n":                        "r.csv:1:8: two columns are named a; rename one",
		"time,,a\n":                         "r.csv:1:6: column 2 has no name",
		"time,a [mA\n":                      "r.csv:1:6: the heading a [mA has a bracket that is not a unit at its end; write it as: name [unit]",
		"time,a\n0,1\n1\n":                  "r.csv:3:2: this row ends after cell 1 of 2; a is missing",
		"time,a\n0,1,5\n":                   "r.csv:2:4: this row has more cells than the heading, 2; a decimal comma is read only where semicolons or tabs separate",
		"time,é,b\n0,1,x\n":                 "r.csv:2:5: b: \"x\" is no reading; a cell holds a number, a word such as on, off or bad, or nothing",
		"time,a\n0,12 mA\n":                 "r.csv:2:3: a: \"12 mA\" is no reading; a cell holds a number, a word such as on, off or bad, or nothing",
		"time,a\n0,0x10\n":                  "r.csv:2:3: a: \"0x10\" is no reading; a cell holds a number, a word such as on, off or bad, or nothing",
		"time,a\n5,1\n4,2\n":                "r.csv:3:1: the time goes back, from 5 to 4; sort the rows by time",
		"oxygen,a\n7.9,1\n7.8,2\n":          "r.csv:3:1: the time goes back, from 7.9 to 7.8 (no column is named time, so the first, oxygen, is taken for the time); sort the rows by time",
		"oxygen,a\nhigh,1\n":                "r.csv:2:1: \"high\" is no time; write it as 2026-03-02T02:14:05Z, as 2026-03-02 02:14:05 or as elapsed seconds, or give the time format (no column is named time, so the first, oxygen, is taken for the time)",
		"time,a\n2026-03-02T02:14:05+1,1\n": "r.csv:2:1: \"2026-03-02T02:14:05+1\" is no time; write it as 2026-03-02T02:14:05Z, as 2026-03-02 02:14:05 or as elapsed seconds, or give the time format",
		"time;a\n02/03/2026 02:14;1\n":      "r.csv:2:1: 02/03/2026 02:14 reads as a date in more than one way; say with the time format whether it is 'DD/MM/YYYY hh:mm' or 'MM/DD/YYYY hh:mm'",
		"time;a\n02.03.2026 02:14;1\n03.13.2026 02:14;1\n":         "r.csv:3:1: \"03.13.2026 02:14\" is no time of the form DD.MM.YYYY hh:mm: there is no such date or time of day",
		"time;a\n0;1,5\n1;2.5\n":                                   "r.csv:2:3: a: \"1,5\" is no reading; a cell holds a number, a word such as on, off or bad, or nothing",
		"time,point,value\n0,a,1\n1,,2\n":                          "r.csv:3:3: this row names no point",
		"time,point,value,quality\n0,a,1,fair\n":                   "r.csv:2:3: the quality \"fair\" is neither good nor bad",
		"time,point,value,unit\n0,a,1,mA\n1,a,2,V\n":               "r.csv:3:3: a is in V here, and was in mA before; a point has one unit in a recording",
		"time,point,value\n0,a,high\n":                             "r.csv:2:5: \"high\" is no reading; a value is a number, a word such as on, off or bad, or nothing",
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
	_, err := Reader{Name: "r.csv", Options: recording.Options{TimeColumn: "when"}}.Read(strings.NewReader("time,a\n"))
	assert.EqualError(t, err, "r.csv:1:1: no column is named when, which was to be the time; the file has time, a")
	_, err = Reader{Name: "r.csv", Options: recording.Options{TimeColumn: "Tag, Uhr"}}.Read(strings.NewReader("Tag,a\n"))
	assert.EqualError(t, err, `r.csv:1:1: "Tag, Uhr" names no two columns of this file, the day's and the time's; it has Tag, a`)
	_, err = Reader{Name: "r.csv"}.Read(io.MultiReader(strings.NewReader("time,a\n0,1\n"), iotest.ErrReader(io.ErrUnexpectedEOF)))
	assert.EqualError(t, err, "reading r.csv: unexpected EOF")
}

// What a person says of a file counts, and what was found is told.
func TestOptions(t *testing.T) {
	dublin, err := time.LoadLocation("Europe/Dublin")
	require.NoError(t, err)
	mapping, err := recording.ParseMapping("DO R1 (mg/L)=oxygen [mg/L]")
	require.NoError(t, err)
	for _, c := range []struct {
		name, text string
		options    recording.Options
		want       string
	}{
		{"a mapped column", "time,DO R1 (mg/L)\n0,1\n", recording.Options{Map: []recording.Mapping{mapping}}, "oxygen[mg/L] 0=1"},
		{"a mapped point", "time,point,value\n0,DO R1 (mg/L),1\n", recording.Options{Map: []recording.Mapping{mapping}}, "oxygen[mg/L] 0=1"},
		{"a mapped column that is not there", "time,b [mA]\n0,1\n", recording.Options{Map: []recording.Mapping{mapping}}, "r.csv: no column is named DO R1 (mg/L), which was mapped to oxygen; the file has b [mA]"},
		{"sorted", "time,a\n5,1\n4,2\n5,3\n", recording.Options{Sort: true}, "a 0=2 1=3"},
		{"broken rows left out", "time,a\n0,1\n1,x\n2\n0.5,9\n3,4\n", recording.Options{SkipBadRows: true}, "a 0=1 0.5=9 3=4"},
		{"only broken rows", "time,a\n0,x\n", recording.Options{SkipBadRows: true}, "r.csv: no row of the file can be read; the first is r.csv:2:3: a: \"x\" is no reading; a cell holds a number, a word such as on, off or bad, or nothing"},
		{"some rows", "time,a\n0,1\n1,2\n2,3\n", recording.Options{Rows: 2}, "a 0=1 1=2"},
		{"a format", "time,a\n02/03/2026 02:14,1\n", recording.Options{TimeFormat: "DD/MM/YYYY hh:mm"}, "a 0=1"},
		{"no format", "time,a\n02/03/2026 02:14,1\n", recording.Options{TimeFormat: "D/M/Y"}, "r.csv:2:1: the time format \"D/M/Y\" is neither one of rfc3339, elapsed, seconds, milliseconds nor made of YYYY or YY, MM, DD, hh, mm and ss"},
		{"large elapsed seconds", "time,a\n200000000,1\n200000001,2\n", recording.Options{TimeFormat: "elapsed"}, "a 0=1 1=2"},
		// On 29 March 2026 clocks go from 1:00 to 2:00, on 25 October back from 2:00 to 1:00.
		{"forward", "time,a\n2026-03-29 00:59:59,1\n2026-03-29 02:00:00,2\n", recording.Options{Zone: dublin}, "a 0=1 1=2"},
		{"over the gap", "time,a\n2026-03-29 01:30:00,1\n", recording.Options{Zone: dublin}, "r.csv:2:1: \"2026-03-29 01:30:00\" does not exist in Europe/Dublin: clocks went forward over it; give another zone"},
		{"back", "time,a\n2026-10-25 00:59:59,1\n2026-10-25 01:00:00,2\n2026-10-25 01:59:59,3\n2026-10-25 01:00:00,4\n2026-10-25 01:30:00,5\n2026-10-25 02:00:00,6\n", recording.Options{Zone: dublin},
			"a 0=1 1=2 3600=3 3601=4 5401=5 7201=6"},
	} {
		r, err := Reader{Name: "r.csv", Options: c.options}.Read(strings.NewReader(c.text))
		if err != nil {
			assert.EqualError(t, err, c.want, c.name)
			continue
		}
		if c.name == "broken rows left out" {
			assert.Equal(
				t,
				[]string{
					"broken rows left out: 2",
					"r.csv:3:3: a: \"x\" is no reading; a cell holds a number, a word such as on, off or bad, or nothing",
					"r.csv:4:2: this row ends after cell 1 of 2; a is missing",
				},
				r.Notes,
			)
		}
		assert.Equal(t, c.want, dump(r), c.name)
	}
	r, err := Reader{Name: "r.csv", Options: recording.Options{Zone: dublin}}.Read(strings.NewReader("time;a\n01.07.2026 12:00;1,5\n"))
	require.NoError(t, err)
	assert.Equal(t, "CSV, wide, separated by semicolon, decimal comma; times DD.MM.YYYY hh:mm in Europe/Dublin", r.Understood.String())
	assert.Equal(t, "12:00:00", r.Clock.Format(r.Start))
	assert.Equal(t, "2026-07-01T12:00:00+01:00", r.Clock.Full(r.Start))
	assert.Equal(t, []string{"times are read as DD.MM.YYYY hh:mm in Europe/Dublin"}, r.Notes)
}

// What is written reads back the same, to the last bit.
func TestWrite(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r := recordingtest.Recording(t)
		var b bytes.Buffer
		require.NoError(t, Write(&b, r))
		back, err := Reader{Name: "r.csv"}.Read(&b)
		require.NoError(t, err)
		recordingtest.Same(t, r, back)
	})
}

// A file that is read in parts, by several at once, gives the same recording,
// the same notes and the same error as one that is read from end to end.
func TestPartsMakeNoDifference(t *testing.T) {
	defer func(size int) { partSize = size }(partSize)
	spread := func(tasks []func()) {
		var all sync.WaitGroup
		for _, task := range tasks {
			all.Go(task)
		}
		all.Wait()
	}
	rapid.Check(t, func(t *rapid.T) {
		partSize = rapid.IntRange(20, 200).Draw(t, "part")
		var b strings.Builder
		b.WriteString("time,a [mA],k\n")
		at := rapid.Int64Range(0, 100).Draw(t, "start")
		for range rapid.IntRange(1, 40).Draw(t, "rows") {
			at += rapid.SampledFrom([]int64{0, 1, 1, 1, 1, 1, 1, 60}).Draw(t, "gap")
			if rapid.IntRange(0, 80).Draw(t, "back") == 0 {
				at -= 5
			}
			cell := rapid.SampledFrom([]string{"1.5", "12.25", "", "bad", "7", "7", "7"}).Draw(t, "cell")
			if rapid.IntRange(0, 80).Draw(t, "broken") == 0 {
				cell = rapid.SampledFrom([]string{"x", "1,2", "\""}).Draw(t, "broken cell")
			}
			contact := rapid.SampledFrom([]string{"0", "1", "on", ""}).Draw(t, "contact")
			end := rapid.SampledFrom([]string{"\n", "\r\n", "\n\n"}).Draw(t, "end")
			b.WriteString(strconv.FormatInt(at, 10) + "," + cell + "," + contact + end)
		}
		want, wantErr := read(b.String())
		got, gotErr := Reader{Name: "r.csv", Options: recording.Options{Spread: spread}}.Read(strings.NewReader(b.String()))
		require.Equal(t, wantErr, gotErr, b.String())
		if wantErr != nil {
			return
		}
		recordingtest.Same(t, want, got)
		require.Equal(t, want.Notes, got.Notes)
		require.Equal(t, want.Rows, got.Rows)
		for i := range want.Columns {
			require.Equal(t, want.Columns[i].Word, got.Columns[i].Word)
		}
	})
}

// An endless line is refused after a megabyte, without being read to its end.
func TestLongLine(t *testing.T) {
	endless := &counter{in: io.MultiReader(strings.NewReader("time,a\n0,"), repeat('1'))}
	_, err := Reader{Name: "r.csv"}.Read(endless)
	assert.EqualError(t, err, "r.csv:2:1: this line is longer than 1 MiB; this is no CSV recording")
	assert.Less(t, endless.n, 4*recording.MaxLine)
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
