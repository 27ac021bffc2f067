package service_test

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/client"
	"rectura/service/device/simulated"
)

// disarm lets an armed job listen, or one that listens be idle.
func (m *mortal) disarm(to client.Parting) {
	d, err := m.api.DisarmWithResponse(m.t.Context(), m.name(), client.DisarmRequest{Outputs: &to})
	require.NoError(m.t, err)
	require.NotNil(m.t, d.JSON200, "%s", d.Body)
}

func (m *mortal) mode() (client.JobStatus, bool) {
	s, err := m.api.GetStatusWithResponse(m.t.Context())
	require.NoError(m.t, err)
	require.NotNil(m.t, s.JSON200, "%s", s.Body)
	i := slices.IndexFunc(*s.JSON200, func(s client.JobStatus) bool { return s.Job == m.name() })
	if i < 0 {
		return client.JobStatus{}, false
	}
	return (*s.JSON200)[i], true
}

// onRack is a rack with readings on which mortalJob rests.
func onRack(t *testing.T) *simulated.Rack {
	rack, err := simulated.Start()
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, rack.Close()) })
	rack.SetWords("holding", 0, 7)
	rack.SetBit("discrete", 0, true)
	return rack
}

// The service refuses to delete a running job, and a revision that it needs. If the store is lost, the status lists the job, it can be
// disarmed, and no other job gets its name before that.
func TestWhatRunsIsSeen(t *testing.T) {
	rack := onRack(t)
	data := t.TempDir()
	_, api, _, stop := start(t, data)
	m := &mortal{t: t, api: api}
	text := fmt.Sprintf(mortalJob, rack.Address())
	m.push(text)
	m.arm()
	m.command("off", "horn", "", "anna")
	m.push(strings.Replace(text, "settle 1 s", "settle 2 s", 1))
	gone, err := api.DeleteJobWithResponse(t.Context(), fennick, nil)
	require.NoError(t, err)
	assert.Contains(t, problemOf(t, http.StatusConflict, gone.Body), "the job hatchery is not idle; disarm it first")
	older, err := api.DeleteRevisionWithResponse(t.Context(), fennick, 1)
	require.NoError(t, err)
	assert.Equal(t, "Revision 1 is in force, and stays until another is.", problemOf(t, http.StatusConflict, older.Body))
	stop()

	for _, end := range []string{"", "-wal", "-shm"} {
		_ = os.Remove(filepath.Join(data, "bench.db"+end)) // which need not be there
	}
	_, api, _, stop = serve(t, data)
	m.api = api
	s, seen := m.mode()
	require.True(t, seen)
	assert.Equal(t, client.JobStatusModeArmed, s.Mode)
	assert.Contains(t, s.Fault, "is not in the store any more")
	m.until("it drives", func(n *client.Now) bool { return !n.Status.Waiting && !n.Status.Settling })
	rack.SetWords("holding", 0, 5)
	m.until("the blower runs", func(*client.Now) bool { return rack.Bit("coil", 0) })
	made, err := api.PutJobWithResponse(t.Context(), fennick)
	require.NoError(t, err)
	assert.Contains(t, problemOf(t, http.StatusConflict, made.Body), "A job named hatchery runs, though its revisions are not here any more")
	m.disarm(client.PartingHold)
	m.disarm(client.PartingHold)
	_, seen = m.mode()
	assert.False(t, seen)
	stop()

	// Another job of that name has nothing of it.
	_, api, _, _ = start(t, data)
	m.api = api
	m.push(text)
	l, err := api.ListenWithResponse(t.Context(), fennick, client.ListenRequest{})
	require.NoError(t, err)
	require.NotNil(t, l.JSON200, "%s", l.Body)
	m.until("it listens", func(n *client.Now) bool { return !n.Status.Waiting })
	assert.Empty(t, m.now().Bypasses)
	j := &client.GetJournalResponse{}
	require.Eventually(t, func() bool { // once it is kept
		j, err = api.GetJournalWithResponse(t.Context(), fennick, nil)
		return err == nil && j.JSON200 != nil && len(*j.JSON200) > 0
	}, 10*time.Second, 20*time.Millisecond)
	assert.EqualValues(t, 1, (*j.JSON200)[0].Number)
	assert.Equal(t, "listening, revision 1", (*j.JSON200)[0].To)
}

// Deleting a job puts its records into a file of their own, unless the request purges them.
func TestDeletedJob(t *testing.T) {
	rack := onRack(t)
	data := t.TempDir()
	_, api, _, _ := start(t, data)
	m := &mortal{t: t, api: api}
	for _, purge := range []bool{false, true} {
		m.push(fmt.Sprintf(mortalJob, rack.Address()))
		m.arm()
		m.command("set", "low", "6.5 mg/L", "")
		m.disarm(client.PartingFail)
		m.disarm(client.PartingFail)
		gone, err := api.DeleteJobWithResponse(t.Context(), fennick, &client.DeleteJobParams{Purge: &purge})
		require.NoError(t, err)
		require.NotNil(t, gone.JSON200, "%s", gone.Body)
		assert.Equal(t, purge, gone.JSON200.Aside == "")
		if !purge {
			assert.FileExists(t, filepath.Join(data, gone.JSON200.Aside))
		}
		made, err := api.PutJobWithResponse(t.Context(), fennick)
		require.NoError(t, err)
		require.Equal(t, http.StatusCreated, made.StatusCode())
		j, err := api.GetJournalWithResponse(t.Context(), fennick, nil)
		require.NoError(t, err)
		assert.Empty(t, *j.JSON200)
	}
}

// takes returns how long commands of a job take, the shortest first.
func (m *mortal) takes(n int) (all []time.Duration) {
	for i := range n {
		begun := time.Now()
		m.command("set", "low", fmt.Sprintf("%g mg/L", 5+float64(i%10)/10), "")
		all = append(all, time.Since(begun))
	}
	slices.Sort(all)
	return all
}

// A job whose devices are mute is nothing to another.
func TestMuteUnits(t *testing.T) {
	if raced {
		t.Skip("it is about time")
	}
	mute, rack := onRack(t), onRack(t)
	mute.Misbehave(simulated.Silent, 0)
	_, api, _, _ := start(t, t.TempDir())
	m := &mortal{t: t, api: api}
	m.push(fmt.Sprintf(mortalJob, rack.Address()))
	m.arm()
	other := &mortal{t: t, api: api, job: "far-ponds"}
	made, err := api.PutJobWithResponse(t.Context(), other.name())
	require.NoError(t, err)
	require.Equal(t, http.StatusCreated, made.StatusCode())
	var text strings.Builder
	text.WriteString("job \"Far ponds\"\n")
	for i := range 20 {
		fmt.Fprintf(&text, "device d%d modbus tcp %q unit %d\n  timeout 1 s\ninput level%d\n  source d%d holding 0\n  unit mm\n", i, mute.Address(), i+1, i, i)
	}
	text.WriteString("output gate\n  drives d0 coil 0\n  fail off\nrule r\n  on when level0 > 5 mm\n  call gate\n")
	other.push(text.String())
	l, err := api.ListenWithResponse(t.Context(), other.name(), client.ListenRequest{})
	require.NoError(t, err)
	require.NotNil(t, l.JSON200, "%s", l.Body)
	all := m.takes(100)
	t.Logf("half are answered within %s, nine of ten within %s, all within %s", all[50], all[90], all[99])
	assert.Less(t, all[90], 50*time.Millisecond)
	assert.Less(t, all[99], time.Second, "nobody waits for a device of another")
}

// Two hundred who look once a second do not hold up whoever drives.
func TestReaders(t *testing.T) {
	if raced {
		t.Skip("it is about time")
	}
	rack := onRack(t)
	url, api, _, _ := start(t, t.TempDir())
	m := &mortal{t: t, api: api}
	m.push(fmt.Sprintf(mortalJob, rack.Address()))
	m.arm()
	stop, answered, done := make(chan struct{}), atomic.Int64{}, atomic.Bool{}
	var all sync.WaitGroup
	for i := range 200 {
		all.Go(func() {
			tick := time.NewTicker(time.Second)
			defer tick.Stop()
			time.Sleep(time.Duration(i) * 5 * time.Millisecond) // they do not ask at once
			for {
				r, err := http.Get(url + "/api/jobs/" + fennick + "/now")
				if err == nil {
					if r.StatusCode == http.StatusOK {
						answered.Add(1)
					}
					_ = r.Body.Close() // the test reads no answer
				}
				select {
				case <-tick.C:
				case <-stop:
					return
				}
			}
		})
	}
	for range 3 { // and a busy machine
		all.Go(func() {
			for !done.Load() {
				_ = make([]byte, 1<<10) // something to do
			}
		})
	}
	took := m.takes(100)
	s, _ := m.mode()
	close(stop)
	done.Store(true)
	all.Wait()
	t.Logf("%d answers; half of the commands take %s, nine of ten %s, all %s; instants are %.1f ms late", answered.Load(), took[50], took[90],
		took[99], s.LatenessMs.P99)
	assert.Greater(t, answered.Load(), int64(200))
	assert.Less(t, took[50], 100*time.Millisecond)
	assert.LessOrEqual(t, s.Late, int64(2), "instants are not handled more than 100 ms late")
}

// A revision is not run where it has a device that the operator has not allowed, or too many. The answer shows the option.
func TestDevicesAreAllowed(t *testing.T) {
	_, api, _, _ := start(t, t.TempDir())
	m := &mortal{t: t, api: api}
	var many strings.Builder
	for i := range 130 {
		fmt.Fprintf(&many, "device d%d modbus tcp \"127.0.0.1:%d\" unit 1\ninput i%d discrete\n  source d%d coil 0\n", i, 20000+i, i, i)
	}
	for device, want := range map[string]string{
		`device rack modbus tcp "203.0.113.7:502" unit 1`:                    "a device is at 203.0.113.7, and this service may have devices at 127.0.0.0/8",
		`device rack modbus tcp "169.254.169.254:80" unit 1`:                 "start it with --device 169.254.169.254",
		`device rack modbus rtu "/dev/null" 9600 8N1 unit 1`:                 "a device is at /dev/null",
		`device rack modbus tcp "127.0.0.1:1" unit 1` + "\n" + many.String(): "its devices are at 131 addresses, and a job may have 128",
	} {
		m.push("job \"Fry tank\"\n" + device + "\ninput mains discrete\n  source rack coil 0\noutput horn\n  drives rack coil 1\n  fail off\n")
		l, err := api.ListenWithResponse(t.Context(), fennick, client.ListenRequest{})
		require.NoError(t, err)
		assert.Contains(t, problemOf(t, http.StatusConflict, l.Body), want)
		p, err := api.PlanArmingWithResponse(t.Context(), fennick, client.ListenRequest{})
		require.NoError(t, err)
		assert.Contains(t, problemOf(t, http.StatusConflict, p.Body), want)
		if strings.Contains(want, "128") {
			continue
		}
		probe, err := api.ProbePointWithResponse(t.Context(), fennick, client.ProbeRequest{Point: "mains"})
		require.NoError(t, err)
		assert.Contains(t, problemOf(t, http.StatusConflict, probe.Body), want)
	}
}
