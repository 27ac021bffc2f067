package memo_test

import (
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/core/memo"
)

type colour uint8

// A thing has a field of each sort.
type thing struct {
	on       bool
	count    int32
	hue      colour
	at, ends int64
	level    float64
	print    uint64
	name     string
	levels   []float64
	inner    *thing
	parts    []thing
}

func (x *thing) fields(f *memo.Fields) {
	f.Bool(1, &x.on)
	memo.Int(f, 2, &x.count)
	memo.One(f, 3, 3, &x.hue)
	f.Time(4, &x.at)
	f.Usually(5, memo.Never, &x.ends)
	f.Float(6, &x.level)
	f.Print(7, &x.print)
	f.Text(8, &x.name)
	f.Floats(9, &x.levels)
	if x.inner != nil {
		f.Group(10, x.inner.fields)
	}
	n := len(x.parts)
	f.Many(11, &n, func(f *memo.Fields, i int) {
		if f.Reading() {
			x.parts = append(x.parts, thing{})
		}
		x.parts[i].fields(f)
	})
}

func full() *thing {
	return &thing{on: true, count: -7, hue: 2, at: 12e9, ends: 0, level: math.Inf(1), print: 1<<63 | 5, name: strings.Repeat("oxygen ", 50),
		levels: []float64{
			1,
			math.Copysign(0, -1),
		}, inner: &thing{at: 3, ends: memo.Never}, parts: []thing{{count: 1, ends: memo.Never}, {name: "x", ends: 9}}}
}

func TestRoundTrip(t *testing.T) {
	x := full()
	data := memo.Write([]byte("before"), x.fields)
	require.Equal(t, "before", string(data[:6]))
	y := &thing{inner: &thing{}}
	require.NoError(t, memo.Read(data[6:], y.fields))
	assert.Equal(t, x, y)

	assert.Empty(t, memo.Write(nil, (&thing{ends: memo.Never}).fields), "what has its usual value costs nothing")
	z := full()
	z.inner, z.parts = nil, nil
	require.NoError(t, memo.Read(nil, z.fields))
	assert.Equal(t, &thing{ends: memo.Never, levels: []float64{}}, z, "what was left out is zero, whatever stood there")
}

func TestShift(t *testing.T) {
	x, y := full(), full()
	memo.Shift(5e9, x.fields)
	y.at, y.ends, y.inner.at, y.parts[1].ends = 17e9, 5e9, 5e9+3, 5e9+9
	for i := range y.parts { // a time of 0 is one as any other
		y.parts[i].at = 5e9
	}
	assert.Equal(t, y, x)
	early, late := int64(-math.MaxInt64), int64(math.MaxInt64-1)
	memo.Shift(-5, func(f *memo.Fields) { f.Time(1, &early) })
	memo.Shift(5, func(f *memo.Fields) { f.Time(1, &late) })
	assert.Equal(t, []int64{memo.Always, memo.Never}, []int64{early, late}, "no time wraps round")
}

// A later program passes over what it does not know, and says what does not fit.
func TestWhatDoesNotFit(t *testing.T) {
	var n int32
	var hue colour
	for _, c := range []struct {
		name, want string
		write      func(*memo.Fields)
		read       func(*memo.Fields)
	}{
		{"unknown", "", full().fields, func(f *memo.Fields) { memo.Int(f, 2, &n) }},
		{"text for a number", "field 2: a number was expected", func(f *memo.Fields) { s := "x"; f.Text(2, &s) }, func(f *memo.Fields) { memo.Int(f, 2, &n) }},
		{"too large", "field 2: a number that is too large", func(f *memo.Fields) { x := int64(1 << 40); memo.Int(f, 2, &x) }, func(f *memo.Fields) { memo.Int(f, 2, &n) }},
		{"none of a few", "field 3: 9 is none of the 3 that it can be", func(f *memo.Fields) { x := 9; memo.Int(f, 3, &x) }, func(f *memo.Fields) { memo.One(f, 3, 3, &hue) }},
		{"half a number", "field 9: numbers of 8 bytes were expected", func(f *memo.Fields) { s := "123"; f.Text(9, &s) }, func(f *memo.Fields) { var all []float64; f.Floats(9, &all) }},
		{"a number for fields", "field 10: fields were expected", func(f *memo.Fields) { x := 9; memo.Int(f, 10, &x) }, func(f *memo.Fields) { f.Group(10, func(*memo.Fields) {}) }},
		{"inside", "field 10: field 2: a number was expected", func(f *memo.Fields) { f.Group(10, func(f *memo.Fields) { s := "x"; f.Text(2, &s) }) },
			func(f *memo.Fields) { f.Group(10, func(f *memo.Fields) { memo.Int(f, 2, &n) }) }},
		{"no form", "field 10: this is no memory, or only a part of one", func(f *memo.Fields) { s := "\xff"; f.Text(10, &s) },
			func(f *memo.Fields) { f.Group(10, func(*memo.Fields) {}) }},
	} {
		err := memo.Read(memo.Write(nil, c.write), c.read)
		if c.want == "" {
			assert.NoError(t, err, c.name)
		} else {
			assert.EqualError(t, err, c.want, c.name)
		}
	}
}

// FuzzRead reads any bytes: what it takes for a memory is written and read alike.
func FuzzRead(f *testing.F) {
	f.Add(memo.Write(nil, full().fields))
	f.Fuzz(func(t *testing.T, data []byte) {
		x, y := &thing{inner: &thing{}}, &thing{inner: &thing{}}
		if memo.Read(data, x.fields) != nil {
			return
		}
		written := memo.Write(nil, x.fields)
		require.NoError(t, memo.Read(written, y.fields))
		require.Equal(t, written, memo.Write(nil, y.fields))
	})
}
