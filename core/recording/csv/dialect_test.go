package csv

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rectura/core/recording"
	"rectura/core/recording/recordingtest"
)

// A recording reads the same in every dialect, long and wide, with its rows in
// any order if they may be sorted.
func TestDialects(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		separator := rapid.SampledFrom([]string{",", ";", "\t"}).Draw(t, "separator")
		comma := separator != "," && rapid.Bool().Draw(t, "decimal comma")
		quote := rapid.Bool().Draw(t, "quotes")
		end := rapid.SampledFrom([]string{"\n", "\r\n"}).Draw(t, "line end")
		mark := rapid.SampledFrom([]string{"", "\ufeff"}).Draw(t, "byte order mark")
		layout := rapid.SampledFrom([]string{"2006-01-02T15:04:05.999Z07:00", "2006-01-02 15:04:05.999", "02.01.2006 15:04:05.999", "elapsed"}).
			Draw(t, "times")
		cell := func(s string) string {
			if _, isNumber := recording.ParseNumber([]byte(s), '.'); isNumber && comma {
				s = strings.Replace(s, ".", ",", 1)
			}
			if quote {
				s = `"` + strings.ReplaceAll(s, `"`, `""`) + `"`
			}
			return s
		}
		clock := recording.Clock{Elapsed: layout == "elapsed"}
		start := int64(1_772_417_645_000_000_000)
		if clock.Elapsed {
			start = 0
		}
		stamp := func(at int64) string {
			if clock.Elapsed {
				return clock.Full(at)
			}
			return time.Unix(0, at).UTC().Format(layout)
		}
		columns := []*recording.Column{{Name: "a", Unit: "mA"}, {Name: "k"}}
		b := recording.NewBuilder(columns, clock)
		var wide, long []string
		at := start
		for range rapid.IntRange(1, 12).Draw(t, "rows") {
			at += rapid.SampledFrom([]int64{1e9, 250e6, 60e9}).Draw(t, "gap")
			v := float64(rapid.IntRange(-1000, 1000).Draw(t, "value")) / 8
			k := float64(rapid.IntRange(0, 1).Draw(t, "contact"))
			silent := rapid.IntRange(0, 3).Draw(t, "silent") == 0
			b.Row(at, []recording.Cell{{Value: v, Present: !silent}, {Value: k, Present: true}})
			text := recording.FormatValue(v)
			if silent {
				text = ""
			}
			word := rapid.SampledFrom([][]string{{"0", "1"}, {"off", "ON"}, {"open", "closed"}, {"False", "true"}}).Draw(t, "word")[int(k)]
			wide = append(wide, strings.Join([]string{cell(stamp(at)), cell(text), cell(word)}, separator))
			long = append(long, strings.Join([]string{cell(stamp(at)), "k", cell(word), ""}, separator))
			if !silent {
				long = append(long, strings.Join([]string{cell(stamp(at)), "a", cell(text), "mA"}, separator))
			}
		}
		want, _ := b.Finish()
		o := recording.Options{}
		if rapid.Bool().Draw(t, "shuffled") {
			wide, o.Sort = rapid.Permutation(wide).Draw(t, "order"), true
		}
		heading := strings.Join([]string{"time", cell("a [mA]"), "k"}, separator)
		text := mark + heading + end + strings.Join(wide, end) + end
		got, err := Reader{Name: "r.csv", Options: o}.Read(strings.NewReader(text))
		require.NoError(t, err, text)
		recordingtest.Same(t, want, got)
		text = mark + strings.Join([]string{"time", "point", "value", "unit"}, separator) + end + strings.Join(long, end)
		got, err = Reader{Name: "r.csv"}.Read(strings.NewReader(text))
		require.NoError(t, err, text)
		// A column without a reading is one of a wide file only.
		if want.Columns[0].Len() == 0 {
			want.Columns = want.Columns[1:]
		}
		recordingtest.Same(t, want, got)
	})
}

// What is found of a file's dialect, also where it could be several.
func TestFindDialect(t *testing.T) {
	for _, c := range []struct {
		text string
		want dialect
	}{
		{"", dialect{',', '.'}},
		{"time\n1\n", dialect{',', '.'}},
		{"time,a\n1,2\n", dialect{',', '.'}},
		{"time;a\n1;2,5\n", dialect{';', ','}},
		{"time;a\n1;2.5\n", dialect{';', '.'}},
		{"time;a\n1,5;2\n", dialect{';', ','}},
		{"time;a\n1;2,5\n2;2.5\n", dialect{';', '.'}}, // a mixture is left for the reading to refuse
		{"time\ta\n1\t2,5\n", dialect{'\t', ','}},
		{"time,a;b\n1,2\n2,3\n", dialect{',', '.'}},        // the rows have commas
		{"time;a,b\n1;2\n2;3\n", dialect{';', '.'}},        // the rows have semicolons
		{"time,\"a;b;c;d\"\n1,2\n", dialect{',', '.'}},     // what is quoted separates nothing
		{"time;\"a\"\n1;\"2,5\"\n", dialect{';', ','}},     // quoted numbers count
		{"time;note\n1;in 2,5 words\n", dialect{';', '.'}}, // a number has no words
	} {
		assert.Equal(t, c.want, findDialect([]byte(c.text)), fmt.Sprintf("%q", c.text))
	}
}
