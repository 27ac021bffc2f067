//go:build powercuts

package service_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/client"
	"rectura/core/capture"
	"rectura/core/logic"
	"rectura/service"
	"rectura/service/device/simulated"
	"rectura/service/store"
)

// A promise is a state of which a person was told that it is kept.
type promise struct {
	at       time.Time
	low      float64
	kept     []string // the outputs that a person keeps off
	revision int64
}

// The power fails at each sync of an evening. What was synced is on the disk, and nothing, everything or anything of the rest:
// what was answered is there, to one cut, and the plant is run on.
func TestPowerCuts(t *testing.T) {
	if out, err := exec.Command("strace", "-o", "/dev/null", "true").CombinedOutput(); err != nil {
		require.Contains(t, string(out), "Operation not permitted", "%v", err)
		t.Skip("on this machine nobody may be traced")
	}
	// The folder is there, and its name on the disk, before the service is.
	data, file := t.TempDir(), filepath.Join(t.TempDir(), "trace")
	m := &mortal{t: t, data: data, under: strace(file)}
	rack := m.drive()
	now := promise{time.Now(), 6, []string{"horn"}, 1}
	promises := []promise{now}
	random := rand.New(rand.NewPCG(14, 1))
	did := func() {
		now.at = time.Now()
		promises = append(promises, now)
	}
	for i := range 60 {
		switch {
		case i == 30:
			m.push(fmt.Sprintf(strings.Replace(mortalJob, "for 1 s", "for 2 s", 1), rack.Address()))
			m.arm()
			now.revision = 2
		case i%3 == 2 && len(now.kept) == 1:
			m.command("off", "lamp", "", "ben")
			now.kept = []string{"horn", "lamp"}
		case i%3 == 2:
			m.command("auto", "lamp", "", "ben")
			now.kept = []string{"horn"}
		default:
			now.low = 5.5 + float64(random.IntN(350))/100 // which the blower stays on with
			m.command("set", "low", fmt.Sprintf("%g mg/L", now.low), "")
		}
		did()
	}
	require.NoError(t, m.run.Process.Signal(os.Interrupt))
	require.NoError(t, m.run.Wait(), "%s", m.log.String()) // for strace, too, which writes to the same log

	disk := &traced{folder: data, names: map[string]*node{}, synced: map[string]*node{}}
	cuts, whole := 0, 0
	disk.replay(t, file, func(at time.Time) {
		promised := 0
		for promised < len(promises) && promises[promised].at.Before(at) {
			promised++
		}
		cuts++
		files := []map[string][]byte{
			disk.kept(func() bool { return false }),
			disk.kept(func() bool { return true }),
			disk.kept(chance(random)),
		}
		for i, f := range files {
			if i > 0 && maps.EqualFunc(f, files[0], func(a, b []byte) bool { return string(a) == string(b) }) {
				continue
			}
			folder := lay(t, f)
			promisesHold(t, folder, promises, promised)
			if promised > 0 && cuts%60 == i {
				whole++
				runOn(t, folder, rack)
			}
			require.NoError(t, os.RemoveAll(folder))
			require.False(t, t.Failed(), "the cut %d of the evening, kind %d, after %d promises", cuts, i, promised)
		}
	})
	t.Logf("%d cuts; the service was started after %d of them", cuts, whole)
	assert.Greater(t, cuts, 2*len(promises), "each promise was synced, and moved into its file")
	assert.Positive(t, whole)
}

// promisesHold looks at what a cut has left.
func promisesHold(t *testing.T, folder string, promises []promise, promised int) {
	bench, err := store.Open(t.Context(), filepath.Join(folder, "bench.db"), store.Options{})
	require.NoError(t, err)
	plant, err := store.OpenPlant(t.Context(), filepath.Join(folder, "plant.db"), store.PlantOptions{})
	require.NoError(t, err)
	defer func() { require.NoError(t, errors.Join(bench.Close(), plant.Close())) }()
	for _, verify := range []func() ([]error, error){
		func() ([]error, error) { return bench.Verify(t.Context()) },
		func() ([]error, error) { return plant.Verify(t.Context()) },
	} {
		damaged, err := verify()
		require.NoError(t, err)
		require.Empty(t, damaged)
	}
	kept, err := plant.Recall(t.Context())
	require.NoError(t, err)
	if len(kept) == 0 {
		require.Zero(t, promised, "what was answered is there")
		return
	}
	r := kept[0]
	require.Empty(t, r.Damage, "the loss of power is no damage")
	entries, err := plant.Journal(t.Context(), r.Armed.Number, store.JournalFilter{})
	require.NoError(t, err)
	promise := 0 // the newest one of which the journal tells; the first is that the horn is kept off
	for i, e := range entries {
		require.Equal(t, int64(i+1), e.Number, "no gap and no double")
		if e.Kind == "command" && (promise > 0 || e.Name == "horn") {
			promise++
		}
	}
	require.GreaterOrEqual(t, promise, promised, "what was answered is there")
	if promise == 0 {
		return
	}
	want := promises[promise-1]
	assert.Equal(t, "armed", r.Armed.Mode)
	assert.Equal(t, want.revision, r.Armed.Revision)
	var locked []string
	for _, b := range r.Bypasses {
		locked = append(locked, b.Name)
	}
	assert.Equal(t, want.kept, locked)
	_, p, _ := logic.Check(r.Armed.Sources)
	require.NotNil(t, p)
	s, lost, err := logic.Resume(p, r.Memory)
	require.NoError(t, err)
	assert.Empty(t, lost)
	since, err := plant.SinceCheckpoint(t.Context(), r.Armed.Number)
	require.NoError(t, err)
	play := capture.Run{S: s, Look: func(int64, []logic.Transition) {}}
	var d capture.Decoder
	for _, data := range since {
		require.NoError(t, d.Read(data, play.Enter))
	}
	assert.InDelta(t, want.low, s.Setting(0), 1e-9, "the journal and the memory are of one cut")
	latched := logic.Ref{Kind: logic.RuleKind, Index: 1}
	assert.Equal(t, logic.On, s.Standing(latched).To.State, "the latch holds")
	job, err := bench.Job(t.Context(), fennick)
	require.NoError(t, err)
	_, _, err = job.Revision(t.Context(), want.revision)
	assert.NoError(t, err, "the revision that is armed is there")
}

// runOn starts the service on what a cut has left: nothing moves.
func runOn(t *testing.T, folder string, rack *simulated.Rack) {
	t.Run("runs on", func(t *testing.T) {
		before := len(rack.Writes())
		c := service.Config{Data: folder, Listen: "127.0.0.1:0", Memory: testMemory, Log: slog.New(slog.DiscardHandler)}
		s, err := service.Start(t.Context(), c)
		require.NoError(t, err)
		ctx, stop := context.WithCancel(context.Background())
		done := make(chan error, 1)
		go func() { done <- s.Run(ctx) }()
		api, err := client.NewClientWithResponses(s.URL() + "/api")
		require.NoError(t, err)
		m := &mortal{t: t, api: api}
		m.until("it has settled", func(n *client.Now) bool { return !n.Status.Waiting && !n.Status.Settling })
		assert.Equal(t, client.JobStatusModeArmed, m.now().Status.Mode)
		had := map[int]uint16{0: 1, 1: 1, 2: 0, 3: 0}
		for _, w := range rack.Writes()[before:] {
			assert.Equal(t, had[w.Address], w.Value, "no write changes anything: coil %d", w.Address)
		}
		m.check(1)
		stop()
		require.NoError(t, <-done)
	})
}
