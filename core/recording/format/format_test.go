package format_test

import (
	"bytes"
	"fmt"
	"math"
	"strconv"
	"strings"
	"testing"

	pq "github.com/parquet-go/parquet-go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rectura/core/recording"
	"rectura/core/recording/format"
	"rectura/core/recording/recordingtest"
	"rectura/core/recording/text"
)

func read(name string, data []byte, o recording.Options) (*recording.Recording, error) {
	return format.Read(name, bytes.NewReader(data), int64(len(data)), o, nil)
}

// What is written reads back the same, to the last bit.
func TestWrittenReadsBack(t *testing.T) {
	for _, f := range []format.Format{format.CSV, format.JSONL, format.Parquet} {
		t.Run(string(f), rapid.MakeCheck(func(t *rapid.T) {
			r := recordingtest.Recording(t)
			var b bytes.Buffer
			require.NoError(t, format.Write(f, &b, r))
			back, err := read("r."+string(f), b.Bytes(), recording.Options{})
			require.NoError(t, err, "%s", b.String())
			recordingtest.Same(t, r, back)
			for i, c := range r.Columns {
				if f == format.JSONL { // its keys have the order in which they first occur
					break
				}
				require.Equal(t, c.Heading(), back.Columns[i].Heading())
			}
		}))
	}
}

// forms are one recording, written in every form that is read.
func forms(t *testing.T) map[string]*recording.Recording {
	t.Helper()
	wide := "time,oxygen [mA],mains\n2026-03-02T02:00:00Z,10.48,1\n2026-03-02T02:00:01.5Z,bad,\n2026-03-02T02:00:02Z,,0\n2026-03-02T02:00:03Z,9.5,0\n"
	all := map[string]*recording.Recording{}
	take := func(name, text string, o recording.Options) *recording.Recording {
		r, err := read(name, []byte(text), o)
		require.NoError(t, err, name)
		all[name] = r
		return r
	}
	plain := take("wide.csv", wide, recording.Options{})
	take(
		"semicolons.csv",
		"\ufefftime;oxygen [mA];mains\r\n02.03.2026 02:00:00;10,48;on\r\n02.03.2026 02:00:01,5;NaN;\r\n02.03.2026 02:00:02;;off\r\n02.03.2026 02:00:03;9,5;OFF\r\n",
		recording.Options{},
	)
	take("tabs.tsv", strings.ReplaceAll(strings.ReplaceAll(wide, ",", "\t"), "T02", " 02"), recording.Options{})
	take(
		"long.csv",
		"time,point,value,unit,quality\n2026-03-02T02:00:00Z,oxygen,10.48,mA,good\n2026-03-02T02:00:00Z,mains,closed,,\n2026-03-02T02:00:01.5Z,oxygen,1,mA,bad\n2026-03-02T02:00:02Z,mains,open,,\n2026-03-02T02:00:03Z,oxygen,9.5,mA,\n2026-03-02T02:00:03Z,mains,0,,\n",
		recording.Options{},
	)
	take("wide.jsonl", `{"time":"2026-03-02T02:00:00Z","oxygen [mA]":10.48,"mains":true}
{"time":"2026-03-02T02:00:01.5Z","oxygen [mA]":null}

{"mains":false,"time":"2026-03-02T02:00:02Z"}
{"time":"2026-03-02T02:00:03Z","oxygen [mA]":9.5,"mains":"off"}
`, recording.Options{})
	take("long.jsonl", `{"time":1772416800,"point":"oxygen","value":10.48,"unit":"mA"}
{"time":1772416800,"point":"mains","value":"on"}
{"time":1772416801.5,"point":"oxygen","value":"bad","unit":"mA"}
{"time":1772416802,"point":"mains","value":0}
{"time":1772416803,"point":"oxygen","value":9.5,"unit":"mA","quality":"good"}
{"time":1772416803,"point":"mains","value":0}
`, recording.Options{})
	take(
		"capture.txt",
		"boot\n[2026-03-02 02:00:00] DO=10.48 K=1\n[2026-03-02 02:00:01.5] DO=bad\n[2026-03-02 02:00:02] K=0\n[2026-03-02 02:00:03] DO=9.5 K=0\n",
		recording.Options{
			Pattern: pattern(t, `\[(?P<time>[^]]+)\](?: DO=(?P<do>\S+))?(?: K=(?P<mains>\S+))?`),
			Map:     []recording.Mapping{{Column: "do", Point: "oxygen", Unit: "mA"}},
		},
	)
	assert.Equal(
		t,
		[]string{
			"times are read as YYYY-MM-DD hh:mm:ss in UTC, since nothing says in which zone they are",
			`lines that the pattern does not match: 1; the first is line 1, "boot"`,
		},
		all["capture.txt"].Notes,
	)
	var b bytes.Buffer
	require.NoError(t, format.Write(format.Parquet, &b, plain))
	take("wide.parquet", b.String(), recording.Options{})
	take("long.parquet", longParquet(t), recording.Options{})
	return all
}

type longRow struct {
	Time    int64 `parquet:"time,timestamp(millisecond)"`
	Point   string
	Value   *float64 `parquet:"value,optional"`
	Unit    string
	Quality string
}

func longParquet(t *testing.T) string {
	var b bytes.Buffer
	ms := func(s float64) int64 { return int64((1772416800 + s) * 1000) }
	v := func(x float64) *float64 { return &x }
	require.NoError(t, pq.Write(&b, []longRow{
		{ms(0), "oxygen", v(10.48), "mA", "good"}, {ms(0), "mains", v(1), "", ""}, {ms(1.5), "oxygen", nil, "mA", "bad"},
		{ms(2), "mains", v(0), "", "good"}, {ms(3), "oxygen", v(9.5), "mA", ""}, {ms(3), "mains", v(0), "", ""},
	}))
	return b.String()
}

func TestEveryFormReadsTheSame(t *testing.T) {
	all := forms(t)
	for name, r := range all {
		t.Run(name, func(t *testing.T) { recordingtest.Same(t, all["wide.csv"], r) })
	}
	assert.Equal(
		t,
		"CSV, wide, separated by semicolon, decimal comma; times DD.MM.YYYY hh:mm:ss in UTC",
		all["semicolons.csv"].Understood.String(),
	)
	assert.Equal(t, "JSON Lines, long; times seconds", all["long.jsonl"].Understood.String())
	assert.Equal(t, "Parquet, long; times rfc3339", all["long.parquet"].Understood.String())
}

type nested struct {
	Time int64
	Tank struct{ Level float64 }
}

func TestErrors(t *testing.T) {
	var nestedFile, whole bytes.Buffer
	require.NoError(t, pq.Write(&nestedFile, []nested{{}}))
	r, err := read("r.csv", []byte("time,a\n0,1\n1,2\n"), recording.Options{})
	require.NoError(t, err)
	require.NoError(t, format.Write(format.Parquet, &whole, r))
	timed := recording.Options{Pattern: pattern(t, `(?P<time>\d+) DO=(?P<oxygen>\S+)`)}
	for _, c := range []struct {
		name, text string
		options    recording.Options
		want       string
	}{
		{"r.jsonl", "", recording.Options{}, "r.jsonl: the file is empty; a recording has a JSON object on each line"},
		{"r.jsonl", "[1]\n", recording.Options{}, `r.jsonl:1:1: "[1]" is no JSON object; each line of the file is one`},
		{"r.jsonl", "{\"a\":1}\n", recording.Options{}, "r.jsonl:1:1: this object has no time; its key is time, timestamp, date or datetime, or say which"},
		{"r.jsonl", "{\"time\":0,\"a\":1}\n{\"a\":1}\n", recording.Options{}, "r.jsonl:2:1: this object has no time"},
		{"r.jsonl", "{\"time\":0,\"a\":{}}\n", recording.Options{}, "r.jsonl:1:15: a holds another object; a reading is a number, a word or null"},
		{"r.jsonl", "{\"time\":0,\"a\":\"high\"}\n", recording.Options{}, `r.jsonl:1:15: a: "high" is no reading; it is a number, a word such as on, off or bad, or null`},
		{"r.jsonl", "{\"time\":0,\"a\":1}\n{\"time\":1,\"a\"", recording.Options{}, "r.jsonl:2:14: the object is not closed on its line; the file may have been cut off"},
		{"r.jsonl", "{\"time\":5,\"a\":1}\n{\"time\":4,\"a\":1}\n", recording.Options{}, "r.jsonl:2:9: the time goes back, from 5 to 4; sort the rows by time"},
		{"r.txt", "hello\n  5 DA=5\n", timed, `r.txt:2:6: the pattern matches no line of the file; it comes furthest in this one, up to "  5 D": then "A=5" stands where the pattern has "O="`},
		{"r.txt", "5 DO=high\n", timed, `r.txt:1:6: oxygen: "high" is no reading; it is a number, or a word such as on, off or bad`},
		{"r.txt", "x\n5 DO=1\n4 DO=1\n", timed, "r.txt:3:1: the time goes back, from 5 to 4; sort the rows by time"},
		{"r.txt", "DO=1\n", recording.Options{Pattern: pattern(t, `DO=(?P<oxygen>\S+)`)}, "r.txt: the pattern has no group named time, and nothing says how far apart the lines are; put {time} where it stands, or give the time between lines"},
		{"r.txt", "DO=1\n", recording.Options{Pattern: pattern(t, `(?P<time>\d+)`)}, `r.txt: the pattern names no point; write its name in braces where the reading stands, such as 'DO={oxygen} mA'`},
		{"r.txt", "\n\n", timed, `r.txt:1:1: the pattern matches no line of the file, nor does its beginning; this one is ""`},
		{"r.txt", "raw: 5", recording.Options{Pattern: pattern(t, "raw: {lamp} mA"), Every: 1}, `r.txt:1:7: the pattern matches no line of the file; it comes furthest in this one, up to "raw: 5": then the line ends where the pattern has a blank`},
		{"r.txt", "raw:", recording.Options{Pattern: pattern(t, "raw: {lamp}"), Every: 1}, `up to "raw:": then the line ends where the pattern has a blank`},
		{"r.txt", "raw: 5mA", recording.Options{Pattern: pattern(t, "raw: {lamp}"), Every: 1}, `r.txt:1:6: lamp: "5mA" is no reading`},
		{"r.parquet", "", recording.Options{}, "r.parquet: the file is empty"},
		{"r.parquet", "PAR1 and no more", recording.Options{}, "r.parquet: this is no whole Parquet file, or it has been cut off: "},
		{"r.parquet", whole.String()[:whole.Len()-20], recording.Options{}, "r.parquet: this is no whole Parquet file, or it has been cut off: "},
		{"r.parquet", nestedFile.String(), recording.Options{}, "r.parquet: the column Tank is nested; a recording has one reading a row in each column, so write it out flat"},
	} {
		_, err := read(c.name, []byte(c.text), c.options)
		require.Error(t, err, c.want)
		assert.Contains(t, err.Error(), c.want)
	}
	every := recording.Options{Pattern: pattern(t, `DO=(?P<oxygen>\S+)`), Every: 5e8}
	r, err = read("r.txt", []byte("DO=1\nDO=2\n"), every)
	require.NoError(t, err)
	assert.Equal(t, int64(5e8), r.End)
}

func pattern(t require.TestingT, s string) *recording.Pattern {
	p, err := text.Compile(s)
	require.NoError(t, err)
	return p
}

// In a pattern of words, names stand in braces; what else there is stands for
// itself.
func TestPatternsOfWords(t *testing.T) {
	for _, c := range []struct{ pattern, text, want string }{
		{"raw: {lamp}", "boot\n  raw:   512\nraw: 3.5 ok\n", "lamp 512 3.5"},
		{"{lamp}", "  512\n3.5 V\n", "lamp 512 3.5"},
		{"{time}  raw={lamp [mA]}; k={ mains }", "2026-03-02 02:14:00 raw=4.25; k=on\n2026-03-02 02:14:01 raw=bad; k=off\n", "lamp[mA] 4.25 NaN mains 1 0"},
		{"[{time}] a+b(c)={lamp}mA ", "[5] a+b(c)=7mA\n", "lamp 7"},
		{"x{3}=(?P<lamp>\\d+)", "xxx=7\n", "lamp 7"},
	} {
		r, err := read("r.txt", []byte(c.text), recording.Options{Pattern: pattern(t, c.pattern), Every: 1e9})
		require.NoError(t, err, c.pattern)
		var got []string
		for _, x := range r.Columns {
			got = append(got, strings.Replace(x.Heading(), " [", "[", 1))
			x.Each(func(_ int64, v float64) bool { got = append(got, strconv.FormatFloat(v, 'g', -1, 64)); return true })
		}
		assert.Equal(t, c.want, strings.Join(got, " "), c.pattern)
	}
	for p, want := range map[string]string{
		"raw: {}":                         "a point's name stands in braces where its reading is",
		"raw: {3 lamps}":                  "a point's name stands in braces where its reading is",
		"{time}{lamp}":                    "nothing stands between the readings {time} and {lamp}; write what ends the first",
		"a={lamp} b={lamp}":               "lamp stands in the pattern twice",
		"(?P<a>\\d{999}){lamp}":           "the pattern is too large",
		strings.Repeat("x", 1200) + "{a}": "the pattern is too large",
	} {
		_, err := text.Compile(p)
		assert.ErrorContains(t, err, want, p)
	}
}

// Whatever the pattern, it is refused or reads a capture to its end, within a time
// that its size is worth.
func FuzzPattern(f *testing.F) {
	f.Add("raw: {lamp}", "raw: 5\n raw 6\n")
	f.Add("(?i)(?P<time>\\S+)|x DO=(?P<oxygen>\\S+)$", "5 DO=1\nx do=2\n")
	f.Fuzz(func(t *testing.T, words, capture string) {
		p, err := text.Compile(words)
		if err != nil {
			return
		}
		require.Len(t, p.Headings, 1+p.NumSubexp())
		_, err = text.Reader{Name: "r.txt", Options: recording.Options{Pattern: p, Every: 1}}.Read(strings.NewReader(capture))
		if err != nil {
			require.True(t, strings.HasPrefix(err.Error(), "r.txt"), err)
		}
	})
}

// Whatever the bytes, reading ends, does not panic, and gives columns whose
// times go up.
func FuzzRead(f *testing.F) {
	f.Add("r.jsonl", []byte(`{"time":0,"a [mA]":1.5}`+"\n"+`{"time":1,"b":"on"}`+"\n"))
	f.Add("r.jsonl", []byte(`{"time":"2026-03-02 02:00:00","point":"a","value":null,"unit":"mA"}`))
	f.Add("r.csv", []byte("time;point;value\n02.03.2026 02:00;a;1,5\n"))
	f.Add("r.txt", []byte("5 DO=1 K=on\n6 DO=bad\n"))
	f.Add("r.parquet", []byte("PAR1"))
	timed := pattern(f, `(?P<time>\S+) DO=(?P<oxygen>\S+)`)
	f.Fuzz(func(t *testing.T, name string, data []byte) {
		o := recording.Options{}
		if strings.HasSuffix(name, ".txt") {
			o.Pattern = timed
		}
		r, err := read(name, data, o)
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

// BenchmarkFormats reads the same recording as CSV, as Parquet, packed with zstd, and as JSON Lines. Parquet is to be
// 2.5 times as fast as CSV at the least, JSON Lines to take 3 times as long at the most.
func BenchmarkFormats(b *testing.B) {
	var text strings.Builder
	text.WriteString("time,a,b,c,d,e,f,g,h\n")
	for i := range 200_000 {
		fmt.Fprintf(&text, "2026-03-%02dT%02d:%02d:%02dZ", 2+i/86400, i/3600%24, i/60%60, i%60)
		for k := range 8 {
			text.WriteString("," + strconv.FormatFloat(float64((i*31+k*7)%2000)/100, 'f', 4, 64))
		}
		text.WriteByte('\n')
	}
	plain := []byte(text.String())
	r, err := read("r.csv", plain, recording.Options{})
	require.NoError(b, err)
	var packed, lines bytes.Buffer
	require.NoError(b, format.Write(format.Parquet, &packed, r))
	require.NoError(b, format.Write(format.JSONL, &lines, r))
	var seconds [3]float64
	for b.Loop() {
		for i, data := range [][]byte{plain, packed.Bytes(), lines.Bytes()} {
			began := b.Elapsed()
			r, err := read([]string{"r.csv", "r.parquet", "r.jsonl"}[i], data, recording.Options{})
			require.NoError(b, err)
			require.Equal(b, 200_000, r.Rows)
			seconds[i] += (b.Elapsed() - began).Seconds()
		}
	}
	b.ReportMetric(seconds[0]/seconds[1], "parquet-faster-than-csv")
	b.ReportMetric(seconds[2]/seconds[0], "jsonl-slower-than-csv")
	b.ReportMetric(0, "ns/op")
}
