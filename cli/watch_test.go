package cli

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/service/device/simulated"
)

// A gathered is what a command has printed so far.
type gathered struct {
	mu   sync.Mutex
	text strings.Builder
}

func (g *gathered) Write(p []byte) (int, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.text.Write(p)
}

func (g *gathered) String() string {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.text.String()
}

// Watching a job, a line comes for each change, also after the service was away.
func TestWatch(t *testing.T) {
	if testing.Short() {
		t.Skip("takes a while")
	}
	rack, err := simulated.Start()
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, rack.Close()) })
	folder := filepath.Join(t.TempDir(), "fry")
	require.NoError(t, os.MkdirAll(folder, 0o755))
	text := "job \"Fry tank\"\n  settle 1 s\ndevice rack modbus tcp \"" + rack.Address() + "\" unit 1\n  poll 50 ms\ninput level\n  source rack holding 0\n" +
		"  unit mm\noutput pump\n  drives rack coil 0\n  fail off\nrule high\n  on when level > 500 mm for 2 s\n  call pump\n"
	require.NoError(t, os.WriteFile(filepath.Join(folder, "fry.rct"), []byte(text), 0o600))
	x := &evening{t: t, data: filepath.Join(t.TempDir(), "data"), rack: rack}
	x.start()
	t.Cleanup(func() { x.stop() })
	rack.SetWords("holding", 0, 450)
	for _, args := range [][]string{{"push", folder}, {"listen"}} {
		_, code := run(t, append(args, "--server", x.url)...)
		require.Zero(t, code, args)
	}
	ctx, end := context.WithCancel(t.Context())
	out, done := &gathered{}, make(chan int, 1)
	go func() { done <- Run(ctx, []string{"watch", "level", "high", "--server", x.url}, out, io.Discard) }()
	says := func(what string) {
		t.Helper()
		require.Eventually(t, func() bool { return strings.Contains(out.String(), what) }, 10*time.Second, 10*time.Millisecond, "%s in %s", what, out)
	}
	says("level  input  450  mm  50 mm")
	rack.SetWords("holding", 0, 600)
	says("level  input  600  mm  100 mm")
	says("high  rule  off  2 s")
	says("high  rule  on")
	assert.Equal(t, 1, strings.Count(out.String(), "2 s  level"), "a delay that runs is no change: %s", out)
	end()
	assert.Zero(t, <-done)

	bad, code := run(t, "watch", "levle", "--server", x.url)
	assert.Equal(t, 2, code)
	assert.Contains(t, bad, "the job has no point and no rule named levle")
}
