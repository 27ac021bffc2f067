package live_test

import (
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/service/live"
)

// lease is that of a job with some lines about a device, and outputs that are wired there.
func lease(t *testing.T, all *live.Leases, job, at string, wires ...string) (*live.Lease, error) {
	text := fmt.Sprintf("job %q\ndevice rack modbus %s\n", job, at)
	for i, w := range wires {
		text += fmt.Sprintf("output p%d\n  drives rack %s\n  fail off\n", i, w)
	}
	p, _ := program(t, text)
	drivers, err := live.Drivers(p, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	return all.Of(t.Context(), job, drivers)
}

func leases(t *testing.T) *live.Leases {
	all := live.NewLeases(slog.New(slog.DiscardHandler))
	t.Cleanup(func() { assert.NoError(t, all.Close()) })
	return all
}

// Two spellings of one place conflict.
func TestLeases(t *testing.T) {
	folder, err := os.MkdirTemp("/dev/shm", "lease")
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, os.RemoveAll(folder)) })
	line, link := filepath.Join(folder, "ttyS7"), filepath.Join(folder, "by-name")
	require.NoError(t, os.WriteFile(line, nil, 0o600))
	require.NoError(t, os.Symlink(line, link))
	const rack = `tcp "127.0.0.1:1502" unit 1`
	for _, c := range []struct {
		name               string
		one, wire          string
		other, wired, says string // nothing is said where both go together
	}{
		{"a name for an address", rack, "coil 3", `tcp "localhost:1502" unit 1`, "coil 3", "p0 is wired to rack coil 3, which p0 of the job one drives"},
		{"an address within another", rack, "coil 3", `tcp "[::ffff:127.0.0.1]:1502" unit 1`, "coil 3", "which p0 of the job one drives"},
		{"another unit", rack, "coil 3", `tcp "127.0.0.1:1502" unit 2`, "coil 3", ""},
		{"another port", rack, "coil 3", `tcp "127.0.0.1:1503" unit 1`, "coil 3", ""},
		{"another coil", rack, "coil 3", rack, "coil 4", ""},
		{"another table", rack, "coil 3", rack, "holding 3 bit 0", ""},
		{"two bits of a register", rack, "holding 9 bit 1", rack, "holding 9 bit 2", "rack holding 9 bit 2, which p0 of the job one drives"},
		{"bits of two registers", rack, "holding 9 bit 1", rack, "holding 10 bit 1", ""},
		{"a heartbeat", rack + "\n  heartbeat coil 9 every 1 s", "coil 3", rack, "coil 9", "which the heartbeat of rack of the job one drives"},
		{"a link to a serial line", fmt.Sprintf("rtu %q 19200 8E1 unit 1", line), "coil 3", fmt.Sprintf("rtu %q 9600 8N1 unit 2", link), "coil 9",
			"the job one talks on"},
	} {
		t.Run(c.name, func(t *testing.T) {
			all := leases(t)
			one, err := lease(t, all, "one", c.one, c.wire)
			require.NoError(t, err)
			require.NoError(t, one.Listen())
			require.NoError(t, one.Take(nil))
			two, err := lease(t, all, "two", c.other, c.wired)
			require.NoError(t, err)
			if err = two.Listen(); err == nil {
				err = two.Take(nil)
			}
			if c.says == "" {
				require.NoError(t, err)
				return
			}
			require.ErrorIs(t, err, live.ErrRefused)
			assert.ErrorContains(t, err, c.says)
			one.Release()
			require.NoError(t, two.Listen())
			require.NoError(t, two.Take(nil), "it is free again")
		})
	}
	_, err = lease(t, leases(t), "one", rack, "coil 3", "coil 4\n  fail off\ndevice again modbus tcp \"localhost:1502\" unit 1\noutput q\n  drives again coil 3")
	assert.ErrorContains(t, err, "p0 and q are one place")
}

// Of many that want one place at once, one gets it; another service on this machine does not; and a hand in a job that listens takes
// one place, and gives it back.
func TestOneHolds(t *testing.T) {
	const rack = `tcp "127.0.0.1:1502" unit 1`
	all := leases(t)
	var got atomic.Int64
	var run sync.WaitGroup
	for i := range 50 {
		x, err := lease(t, all, fmt.Sprintf("job%d", i), rack, "coil 3")
		require.NoError(t, err)
		run.Go(func() {
			if x.Take(nil) == nil {
				got.Add(1)
			}
		})
	}
	run.Wait()
	assert.EqualValues(t, 1, got.Load())

	beside := leases(t)
	y, err := lease(t, beside, "other", `tcp "localhost:1502" unit 1`, "coil 3", "coil 4")
	require.NoError(t, err)
	assert.EqualError(t, y.Take(nil), "rack coil 3 is driven by another service on this machine; disarm it there first")
	hand := func(name string) func(string) bool { return func(p string) bool { return p == name } }
	require.NoError(t, y.Take(hand("p1")))
	z, err := lease(t, beside, "third", rack, "coil 4")
	require.NoError(t, err)
	assert.ErrorContains(t, z.Take(nil), "which p1 of the job other drives")
	y.Keep(func(string) bool { return false })
	require.NoError(t, z.Take(nil))
	w, err := lease(t, leases(t), "fourth", rack, "coil 4")
	require.NoError(t, err)
	assert.ErrorContains(t, w.Take(nil), "another service on this machine")
	z.Release()
	require.NoError(t, w.Take(nil))
}
