package modbus_test

import (
	"fmt"
	"testing"
	"time"

	vendor "github.com/simonvetter/modbus"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/service/device/modbus"
	"rectura/service/device/simulated"
)

const pond = `job "Brood stock pond"
device rack modbus tcp %q unit 1
  timeout 200 ms
  word order low first
input level
  source rack holding 0
  unit mm
input flow
  source rack holding 6 real
  unit L/s
input deep
  source rack input 3 lint
  unit mm
input float discrete
  source rack discrete 7
input door discrete
  source rack holding 1 bit 3
output pump
  drives rack coil 0
  fail on
output lamp
  drives rack holding 20 bit 2
  fail off
output valve analog -100..100 %%
  drives rack holding 30 int
  fail 20 %%
rule fill
  on when level < 800 mm and flow < 3 L/s and deep > 3 mm and float and door
  call pump, lamp, valve at 20 %%
`

// rackOf starts a rack, and a job with its line to it.
func rackOf(t *testing.T) (*simulated.Rack, *modbus.Device, *modbus.Line) {
	t.Helper()
	rack, err := simulated.Start()
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, rack.Close()) })
	d := devicesOf(t, fmt.Sprintf(pond, rack.Address()))[0]
	l, err := modbus.NewLine(d, nil)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, l.Close()) })
	rack.SetWords("holding", 0, 750, 0x0008)
	rack.SetWords("holding", 6, 0, 0x40e8) // 7.25, the low word first
	rack.SetWords("input", 3, 0xfffe, 0xffff, 0xffff, 0xffff)
	rack.SetBit("discrete", 7, true)
	return rack, d, l
}

// poll reads everything once.
func poll(d *modbus.Device, l *modbus.Line) (map[string]any, error) {
	all := map[string]any{}
	for _, r := range d.Requests() {
		readings, err := l.Read(d, r)
		if err != nil {
			return all, err
		}
		for _, x := range readings {
			if all[x.Point] = x.Value; x.Fault != "" {
				all[x.Point] = x.Fault
			}
		}
	}
	return all, nil
}

func TestReading(t *testing.T) {
	rack, d, l := rackOf(t)
	good := map[string]any{"level": 750.0, "door": 1.0, "flow": 7.25, "deep": -2.0, "float": 1.0, "pump": 0.0, "lamp": 0.0, "valve": 0.0}
	got, err := poll(d, l)
	require.NoError(t, err)
	assert.Equal(t, good, got)
	assert.Equal(
		t,
		"[{coil 0 1} {discrete 7 1} {holding 0 8} {holding 20 1} {holding 30 1} {input 3 4}]",
		fmt.Sprint(rack.Reads()),
		"what is near by is read at once",
	)

	// What lies between two points cannot be read: from then on it is left out, and the points stay good.
	rack.Refuse("holding", 3, vendor.ErrIllegalDataAddress)
	before := len(rack.Reads())
	for range 2 {
		got, err = poll(d, l)
		require.NoError(t, err)
		assert.Equal(t, good, got)
	}
	in := 0
	for _, r := range rack.Reads()[before:] {
		if r == (simulated.Read{Table: "holding", First: 0, Count: 8}) {
			in++
		}
	}
	assert.Equal(t, 1, in, "asked in vain once, not twice")
	assert.Len(t, rack.Reads()[before:], 1+2*7)

	// A point of its own is refused: it is bad, with the exception's name, and the others are not.
	rack.Refuse("holding", 7, vendor.ErrServerDeviceFailure)
	got, err = poll(d, l)
	require.NoError(t, err)
	assert.Equal(t, "rack refuses to read holding 6: server device failure", got["flow"])
	assert.Equal(t, 750.0, got["level"])
	rack.Refuse("holding", 7, nil)

	rack.SetWords("holding", 6, 0, 0x7fc0)
	got, err = poll(d, l)
	require.NoError(t, err)
	assert.Equal(t, "rack has no number in holding 6", got["flow"])
}

func TestWriting(t *testing.T) {
	rack, d, l := rackOf(t)
	rack.SetWords("holding", 20, 0xff00)
	wire := map[string]*modbus.Wire{}
	for i := range d.Wires {
		wire[d.Wires[i].Point] = &d.Wires[i]
	}
	require.NoError(t, l.Write(d, wire["pump"], 1))
	require.NoError(t, l.Write(d, wire["lamp"], 1))
	require.NoError(t, l.Write(d, wire["valve"], -20.4))
	require.ErrorContains(t, l.Write(d, wire["valve"], 40_000), "valve cannot be 40000: as int it holds from -32768 to 32767")
	require.NoError(t, l.Write(d, wire["pump"], 0))
	rack.Refuse("coil", 0, vendor.ErrServerDeviceBusy)
	require.ErrorContains(t, l.Write(d, wire["pump"], 1), "rack refuses to write pump to coil 0: server device busy")
	var got []string
	for _, w := range rack.Writes() {
		got = append(got, fmt.Sprintf("%s %d %#x", w.Table, w.Address, w.Value))
	}
	assert.Equal(t, []string{"coil 0 0x1", "holding 20 0xff04", "holding 30 0xffec", "coil 0 0x0"}, got)
}

// Whatever a rack does with its answers, a point is never given what is not its own; and once the rack is itself
// again, all is read.
func TestFaults(t *testing.T) {
	rack, d, l := rackOf(t)
	good, err := poll(d, l)
	require.NoError(t, err)
	for _, fault := range []simulated.Fault{simulated.Silent, simulated.Closing, simulated.Half, simulated.Misnumbered, simulated.Unreadable} {
		rack.Misbehave(fault, 0)
		_, err := l.Read(d, d.Requests()[0])
		require.ErrorIs(t, err, modbus.ErrNoAnswer, "fault %d", fault)
		rack.Misbehave(simulated.None, 0)
		got, err := poll(d, l)
		require.NoError(t, err, "fault %d", fault)
		assert.Equal(t, good, got, "fault %d", fault)
	}

	// An answer that comes too late is not taken for that of the next request.
	rack.Misbehave(simulated.Slow, 300*time.Millisecond)
	_, err = l.Read(d, d.Requests()[0])
	require.ErrorIs(t, err, modbus.ErrNoAnswer)
	rack.Misbehave(simulated.None, 0)
	for range 3 {
		got, err := poll(d, l)
		require.NoError(t, err)
		assert.Equal(t, good, got)
	}

	// A connection that the rack has closed costs nothing: the request is made again.
	rack.Drop()
	got, err := poll(d, l)
	require.NoError(t, err)
	assert.Equal(t, good, got)

	require.NoError(t, rack.Close())
	_, err = l.Read(d, d.Requests()[0])
	require.ErrorIs(t, err, modbus.ErrNoAnswer)
}
