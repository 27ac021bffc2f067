package modbus

import (
	"cmp"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rectura/core/logic"
	"rectura/core/sheet"
)

func devices(t *testing.T, text string) []*Device {
	t.Helper()
	_, p, found := logic.Check([]sheet.Source{{Name: "a.rct", Text: []byte(text)}})
	require.NotNil(t, p, "%v", found)
	return Devices(p)
}

const pond = `job "Brood stock pond"
  settle 4 s
constant slow 10 s
device rack modbus tcp "127.0.0.1:1502" unit 1
  poll 500 ms
  word order low first
  heartbeat coil 9 every 1 s
input level
  source rack holding 0
  unit mm
input flow
  source rack holding 2 real
  unit L/s
input total
  source rack holding 12 udint word order high first byte order low first
  unit L/s
input far
  source rack holding 23
  unit mm
input cold
  source rack holding 4
  poll slow
  unit degC
input float discrete
  source rack discrete 7
input door discrete
  source rack holding 1 bit 3
output pump
  drives rack coil 0
  fail on
output lamp
  drives rack coil 2
  refresh 10 s
output valve analog 0..100 %
  drives rack holding 30 int
  fail 20 %
rule fill
  on when level < 800 mm and flow < total and far < 3 mm and cold > 2 degC and float and door
  call pump, lamp, valve at 20 %
`

func TestWires(t *testing.T) {
	d := devices(t, pond)[0]
	var got []string
	for _, w := range d.Wires {
		got = append(got, w.Point+" "+w.Reference()+" "+w.Type+" "+w.Order()+" "+w.Every.String()+" "+w.Fail)
	}
	assert.Equal(t, []string{
		"pump 000001 bool  500ms on", "lamp 000003 bool  500ms off", "heartbeat 000010 bool  1s ", "float 100008 bool  500ms ",
		"level 400001 uint AB 500ms ", "door 400002 bool  500ms ", "flow 400003 real CDAB 500ms ", "cold 400005 uint AB 10s ",
		"total 400013 udint BADC 500ms ", "far 400024 uint AB 500ms ", "valve 400031 int AB 500ms 20 %",
	}, got)
	assert.Equal(t, 8*time.Second, d.Watchdog())
}

// What is wired near by is read at once, at each pace for itself; eight registers that nobody asks for are read
// along, and nine are not.
func TestRequests(t *testing.T) {
	assert.Equal(t, []Request{
		{"coil", 0, 3, 500 * time.Millisecond, []string{"pump", "lamp"}},
		{"discrete", 7, 1, 500 * time.Millisecond, []string{"float"}},
		{"holding", 0, 14, 500 * time.Millisecond, []string{"level", "door", "flow", "total"}},
		{"holding", 23, 8, 500 * time.Millisecond, []string{"far", "valve"}},
		{"holding", 4, 1, 10 * time.Second, []string{"cold"}},
	}, devices(t, pond)[0].Requests())
}

// Every wire is read whole, in one request of its table and pace, and no request is larger than the protocol lets
// it be, or reads along more than it may.
func TestRequestsReadEverything(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var wires []Wire
		for range rapid.IntRange(0, 80).Draw(t, "wires") {
			w := Wire{
				Table: rapid.SampledFrom(tables).Draw(t, "table"),
				Size:  1,
				Every: time.Duration(rapid.IntRange(1, 2).Draw(t, "every")),
			}
			most := 600
			if w.Registers() {
				w.Size = rapid.SampledFrom([]int{1, 2, 4}).Draw(t, "size")
			} else {
				most = 9000
			}
			w.Address = rapid.IntRange(0, most).Draw(t, "address")
			w.Point = rapid.StringMatching(`[a-z]{6}`).Draw(t, "point")
			wires = append(wires, w)
		}
		slices.SortStableFunc(wires, func(a, b Wire) int {
			return cmp.Or(slices.Index(tables, a.Table)-slices.Index(tables, b.Table), a.Address-b.Address)
		})
		requests := join(wires, gapRegisters, gapBits)
		read := 0
		for _, r := range requests {
			gap, most := gapBits, mostBits
			if r.Table == "holding" || r.Table == "input" {
				gap, most = gapRegisters, mostRegisters
			}
			require.LessOrEqual(t, r.Count, most)
			read += len(r.Points)
			next := r.First
			for _, w := range wires {
				if w.Table == r.Table && w.Every == r.Every && slices.Contains(r.Points, w.Point) && w.Address >= r.First &&
					w.Address+w.Size-1 <= r.Last() {
					require.LessOrEqual(t, w.Address-next, gap)
					next = max(next, w.Address+w.Size)
				}
			}
			require.Equal(t, r.Last()+1, next)
		}
		require.Equal(t, len(wires), read)
	})
}
