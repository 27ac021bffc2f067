package service_test

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/client"
	"rectura/service"
	"rectura/service/device/simulated"
	"rectura/service/store"
)

var kills = flag.Int("kills", 10, "how often the service is killed")

// program builds the program, without the race detector.
var program = sync.OnceValues(func() (string, error) {
	folder, err := os.MkdirTemp("", "rectura")
	if err != nil {
		return "", err
	}
	file := filepath.Join(folder, "rectura")
	build := exec.Command("go", "build", "-o", file, "rectura/cmd/rectura")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if text, err := build.CombinedOutput(); err != nil {
		return "", fmt.Errorf("%w: %s", err, text)
	}
	return file, nil
})

// A mortal is a service in a process of its own, that can be killed and started again.
type mortal struct {
	t     *testing.T
	job   string // fennick if it is left out
	data  string
	under []string // a program, with its arguments, that runs the service; none if nothing does
	run   *exec.Cmd
	log   *buffer
	api   *client.ClientWithResponses
}

// name is the job's.
func (m *mortal) name() string { return cmp.Or(m.job, fennick) }

func (m *mortal) start() {
	file, err := program()
	require.NoError(m.t, err)
	line := append(slices.Clone(m.under), file, "serve", "--data", m.data, "--listen", "127.0.0.1:0", "--device", "127.0.0.0/8", "--device", "/dev/pts/*")
	m.run, m.log = exec.Command(line[0], line[1:]...), &buffer{}
	m.run.Stderr = m.log
	out, err := m.run.StdoutPipe()
	require.NoError(m.t, err)
	require.NoError(m.t, m.run.Start())
	said, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(m.t, err, "%s", m.log.String())
	m.api, err = client.NewClientWithResponses(strings.TrimSpace(strings.TrimPrefix(said, "Rectura is at ")) + "/api")
	require.NoError(m.t, err)
}

// kill ends it at once.
func (m *mortal) kill() {
	require.NoError(m.t, m.run.Process.Kill())
	_ = m.run.Wait() // which says that it was killed
}

func (m *mortal) now() *client.Now {
	a, err := m.api.GetNowWithResponse(context.Background(), m.name())
	require.NoError(m.t, err)
	require.NotNil(m.t, a.JSON200, "%s", a.Body)
	return a.JSON200
}

// until waits until the job is as it should be.
func (m *mortal) until(what string, is func(n *client.Now) bool) {
	require.Eventually(m.t, func() bool {
		a, err := m.api.GetNowWithResponse(context.Background(), m.name())
		return err == nil && a.JSON200 != nil && is(a.JSON200)
	}, 30*time.Second, 10*time.Millisecond, what)
}

// arm arms the newest revision.
func (m *mortal) arm() {
	plan := &client.PlanArmingResponse{}
	require.Eventually(m.t, func() bool {
		a, err := m.api.PlanArmingWithResponse(context.Background(), m.name(), client.ListenRequest{})
		plan = a
		return err == nil && a.JSON200 != nil && a.JSON200.Waiting == ""
	}, 30*time.Second, 50*time.Millisecond)
	a, err := m.api.ArmWithResponse(
		context.Background(),
		m.name(),
		client.ArmRequest{Plan: plan.JSON200.Number, Revision: plan.JSON200.Revision},
	)
	require.NoError(m.t, err)
	require.NotNil(m.t, a.JSON200, "%s", a.Body)
	require.True(m.t, a.JSON200.Armed)
}

const mortalJob = `job "Fry tank"
  settle 1 s
device rack modbus tcp %q unit 1
  poll 50 ms
  timeout 300 ms
input oxygen
  source rack holding 0
  unit mg/L
  alarm when bad
input mains discrete
  source rack discrete 0
input button discrete
  source rack discrete 1
setpoint low 6 mg/L
  allow 4..9 mg/L
output blower
  drives rack coil 0
  fail on
output beacon
  drives rack coil 1
  fail hold
output horn
  drives rack coil 2
  fail on
output lamp
  drives rack coil 3
  fail off
  minimum on 20 s
rule low_oxygen
  on when oxygen < low hysteresis 2 mg/L for 1 s
  interlock unless mains
  call blower
rule latched
  on when button
  latch
  call beacon
rule bright
  on when oxygen > 20 mg/L
  call lamp
rule ring
  on when oxygen > 30 mg/L
  call horn
`

// drive starts the service and a rack that it drives, with a rule inside its band, a latch, and an output that is kept off.
func (m *mortal) drive() *simulated.Rack {
	rack, err := simulated.Start()
	require.NoError(m.t, err)
	m.t.Cleanup(func() { assert.NoError(m.t, rack.Close()) })
	rack.SetWords("holding", 0, 7)
	rack.SetBit("discrete", 0, true)
	m.start()
	made, err := m.api.PutJobWithResponse(m.t.Context(), m.name())
	require.NoError(m.t, err)
	require.Equal(m.t, http.StatusCreated, made.StatusCode())
	m.push(fmt.Sprintf(mortalJob, rack.Address()))
	m.arm()
	rack.SetWords("holding", 0, 5)
	rack.SetBit("discrete", 1, true)
	m.until("the blower and the beacon are on", func(*client.Now) bool { return rack.Bit("coil", 0) && rack.Bit("coil", 1) })
	rack.SetBit("discrete", 1, false)
	rack.SetWords("holding", 0, 7) // inside the band of the blower's rule
	m.command("off", "horn", "", "anna")
	return rack
}

// push makes a sheet the newest revision.
func (m *mortal) push(text string) {
	q := client.NewRevision{Sheets: []client.Sheet{{Name: "a.rct", Text: text}}}
	pushed, err := m.api.PushRevisionWithResponse(m.t.Context(), m.name(), q)
	require.NoError(m.t, err)
	require.Equal(m.t, http.StatusCreated, pushed.StatusCode(), "%s", pushed.Body)
}

// The service is killed again and again while it is commanded: what was acknowledged comes back, the journal has no gap and
// no double, and nothing in the plant moves.
func TestKilledUnderLoad(t *testing.T) {
	if testing.Short() {
		t.Skip("builds the program")
	}
	m := &mortal{t: t, data: filepath.Join(t.TempDir(), "data")}
	rack := m.drive()

	random := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 1)) // which instants are hit is up to chance
	low, sent := 6.0, 6.0
	for range *kills {
		var acknowledged sync.WaitGroup
		ctx, stop := context.WithCancel(t.Context())
		values := rand.New(rand.NewPCG(random.Uint64(), 2))
		acknowledged.Go(func() {
			for ctx.Err() == nil {
				sent = 5.5 + float64(values.IntN(350))/100 // which the blower stays on with
				value := fmt.Sprintf("%g mg/L", sent)
				a, err := m.api.CommandWithResponse(
					ctx,
					fennick,
					client.CommandRequest{Do: client.CommandRequestDoSet, Name: "low", Value: &value},
				)
				if err != nil || a.JSON200 == nil {
					return
				}
				assert.True(t, a.JSON200.Kept)
				low = sent
			}
		})
		time.Sleep(time.Duration(random.IntN(400)) * time.Millisecond) // the instant at which it is hit
		m.kill()
		stop()
		acknowledged.Wait()
		before := len(rack.Writes())
		m.start()
		m.until("it has settled", func(n *client.Now) bool { return !n.Status.Waiting && !n.Status.Settling })
		now := m.now()
		assert.Equal(t, client.JobStatusModeArmed, now.Status.Mode)
		assert.Contains(t, []float64{low, sent}, now.Setpoints[0].Value, "as acknowledged, or as sent and not answered")
		low = now.Setpoints[0].Value
		require.Len(t, now.Bypasses, 1)
		assert.Equal(
			t,
			"horn lock anna",
			now.Bypasses[0].Name+" "+now.Bypasses[0].Kind+" "+now.Bypasses[0].Value[len("off, with the lock "):],
		)
		had := map[int]uint16{0: 1, 1: 1, 2: 0, 3: 0}
		for _, w := range rack.Writes()[before:] {
			assert.Equal(t, had[w.Address], w.Value, "no write after the restart changes anything: coil %d", w.Address)
		}
	}
	m.check(*kills)
	reset := m.command("reset", "latched", "", "")
	assert.Equal(t, "off", reset.State, "the latch has held through all of it")
	assert.NoError(t, m.run.Process.Signal(os.Interrupt))
	assert.NoError(t, m.run.Wait(), "%s", m.log.String())
}

// The service is killed while it writes, and a bit of one of the plant's files turns: that is named, or nothing of what counts has
// changed. Nothing false is served.
func TestBitsAfterKills(t *testing.T) {
	if testing.Short() {
		t.Skip("builds the program")
	}
	m := &mortal{t: t, data: filepath.Join(t.TempDir(), "data")}
	m.drive()
	random := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 3)) // which instants are hit is up to chance
	named, unharmed := map[string]int{}, map[string]int{}
	for range *kills {
		ctx, stop := context.WithCancel(t.Context())
		var all sync.WaitGroup
		all.Go(func() {
			for i := 0; ctx.Err() == nil; i++ {
				value := fmt.Sprintf("%g mg/L", 5.5+float64(i%35)/10)
				if _, err := m.api.CommandWithResponse(ctx, fennick, client.CommandRequest{Do: "set", Name: "low", Value: &value}); err != nil {
					return
				}
			}
		})
		time.Sleep(time.Duration(random.IntN(300)) * time.Millisecond) // the instant at which it is hit
		m.kill()
		stop()
		all.Wait()
		sound := recalledOf(t, m.data)
		for _, name := range []string{"plant.db", "plant.db-wal", "plant.head", "plant.head.synced"} {
			spoilt := copyOf(t, m.data)
			data, err := os.ReadFile(filepath.Join(spoilt, name))
			if err != nil || len(data) == 0 {
				continue
			}
			data[random.IntN(len(data))] ^= 1 << random.IntN(8)
			require.NoError(t, os.WriteFile(filepath.Join(spoilt, name), data, 0o600))
			if told(t, spoilt, sound, name) {
				named[name]++
			} else {
				unharmed[name]++
			}
			require.NoError(t, os.RemoveAll(spoilt))
		}
		m.start()
	}
	t.Logf("named: %v; a bit that says nothing, such as one of a page that is free: %v", named, unharmed)
	assert.Zero(t, unharmed["plant.head"]+unharmed["plant.head.synced"])
	assert.Equal(t, *kills, named["plant.head"])
	m.kill()
}

// copyOf copies the plant's files, as a kill has left them.
func copyOf(t *testing.T, data string) string {
	folder := t.TempDir()
	for _, name := range []string{"plant.db", "plant.db-wal", "plant.head", "plant.head.synced"} {
		text, err := os.ReadFile(filepath.Join(data, name))
		if !errors.Is(err, os.ErrNotExist) {
			require.NoError(t, errors.Join(err, os.WriteFile(filepath.Join(folder, name), text, 0o600)))
		}
	}
	return folder
}

// recalledOf returns the records of the one job, and requires that they are sound.
func recalledOf(t *testing.T, data string) store.Recalled {
	p, start, err := store.OpenSound(t.Context(), filepath.Join(copyOf(t, data), "plant.db"), store.PlantOptions{}, time.Now())
	require.NoError(t, err)
	defer func() { assert.NoError(t, p.Close()) }()
	require.Len(t, start.Jobs, 1)
	require.Empty(t, start.Jobs[0].Damage, "a kill is no damage")
	return start.Jobs[0]
}

// told reports whether damage was named. If it was not, what is kept must be what was kept.
func told(t *testing.T, folder string, sound store.Recalled, spoilt string) bool {
	p, start, err := store.OpenSound(t.Context(), filepath.Join(folder, "plant.db"), store.PlantOptions{}, time.Now())
	if err != nil {
		return true
	}
	defer func() { assert.NoError(t, p.Close()) }()
	require.Len(t, start.Jobs, 1, spoilt)
	job := start.Jobs[0]
	if job.Damage != "" || len(start.Wrong) > 0 {
		return true
	}
	if job.Armed.Last != sound.Armed.Last { // the kill came before the head was written, so that nobody was told of the last commit
		head, err := os.ReadFile(filepath.Join(folder, "plant.head"))
		require.NoError(t, err)
		assert.Contains(t, string(head), fmt.Sprintf(`"last":%d,`, job.Armed.Last), "what the head says is there")
		return false
	}
	assert.Equal(t, sound, job, "%s: nothing is named, and nothing is false", spoilt)
	damaged, err := p.Verify(t.Context())
	require.NoError(t, err)
	return len(damaged) > 0
}

// command does something, with a lock where it is an off.
func (m *mortal) command(do, name, value, lock string) *client.CommandAnswer {
	q := client.CommandRequest{Do: client.CommandRequestDo(do), Name: name}
	if value != "" {
		q.Value = &value
	}
	if lock != "" {
		q.Lock = &lock
	}
	a, err := m.api.CommandWithResponse(context.Background(), m.name(), q)
	require.NoError(m.t, err)
	require.NotNil(m.t, a.JSON200, "%s", a.Body)
	return a.JSON200
}

// check looks at the journal, in which the service has gone on so often, and at the capture.
func (m *mortal) check(restarts int) {
	j, err := m.api.GetJournalWithResponse(context.Background(), m.name(), nil)
	require.NoError(m.t, err)
	gaps := 0
	for i, e := range *j.JSON200 {
		require.Equal(m.t, int64(i+1), e.Number, "no gap and no double")
		if e.Kind == "service" && strings.HasPrefix(e.Because, "nobody was there from ") {
			gaps++
		}
	}
	assert.Equal(m.t, restarts, gaps, "the gap is stated")
	v, err := m.api.VerifyWithResponse(context.Background(), m.name(), nil)
	require.NoError(m.t, err)
	require.NotNil(m.t, v.JSON200, "%s", v.Body)
	assert.Empty(m.t, v.JSON200.Differ)
	assert.Positive(m.t, v.JSON200.Same)
}

// Jobs are listened to and disarmed by the service as a technician would; what is refused is told in a sentence.
func TestRunning(t *testing.T) {
	rack, err := simulated.Start()
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, rack.Close()) })
	rack.SetWords("holding", 0, 7)
	rack.SetBit("discrete", 0, true)
	_, api, _, _ := start(t, t.TempDir())
	m := &mortal{t: t, api: api}
	text := fmt.Sprintf(mortalJob, rack.Address())
	push := func(job, text string) {
		pushed, err := api.PushRevisionWithResponse(
			t.Context(),
			job,
			client.NewRevision{Sheets: []client.Sheet{{Name: "a.rct", Text: text}}},
		)
		require.NoError(t, err)
		require.Equal(t, http.StatusCreated, pushed.StatusCode(), "%s", pushed.Body)
	}
	push(fennick, text)
	refused := func(body []byte, status int, why string) {
		t.Helper()
		assert.Contains(t, string(body), why)
		assert.Contains(t, string(body), fmt.Sprintf(`"status":%d`, status))
	}
	n, err := api.GetNowWithResponse(t.Context(), fennick)
	require.NoError(t, err)
	refused(
		n.Body,
		http.StatusConflict,
		"The job hatchery is idle: its devices are not read, and its rules do not run. Let it listen, or arm it.",
	)
	m.arm()
	l, err := api.ListenWithResponse(t.Context(), fennick, client.ListenRequest{})
	require.NoError(t, err)
	refused(l.Body, http.StatusConflict, "the job is armed with revision 1; disarm it first, or arm the other revision over it.")
	w, err := api.GetReasonWithResponse(t.Context(), fennick, &client.GetReasonParams{Name: "blowr"})
	require.NoError(t, err)
	refused(w.Body, http.StatusConflict, "nothing is named blowr; did you mean blower?")

	// Another job that drives the same coils is not armed.
	other, err := api.PutJobWithResponse(t.Context(), "twin")
	require.NoError(t, err)
	require.Equal(t, http.StatusCreated, other.StatusCode())
	push("twin", text)
	plan := &client.PlanArmingResponse{}
	require.Eventually(t, func() bool {
		plan, err = api.PlanArmingWithResponse(t.Context(), "twin", client.ListenRequest{})
		return err == nil && plan.JSON200 != nil && plan.JSON200.Waiting == ""
	}, 20*time.Second, 50*time.Millisecond)
	a, err := api.ArmWithResponse(t.Context(), "twin", client.ArmRequest{Plan: plan.JSON200.Number, Revision: 1})
	require.NoError(t, err)
	refused(a.Body, http.StatusConflict, "which blower of the job hatchery drives; disarm that, or wire one of them elsewhere.")

	// A failed trial needs a reason, which is journalled.
	push("twin", text+"\ntrial dry\n  play \"recordings/a.csv\"\n  expect blower off always\n")
	d, err := api.DisarmWithResponse(t.Context(), "twin", client.DisarmRequest{})
	require.NoError(t, err)
	assert.Equal(t, client.DisarmingModeIdle, d.JSON200.Mode)
	require.Eventually(t, func() bool {
		p, err := api.PlanArmingWithResponse(t.Context(), "twin", client.ListenRequest{})
		return err == nil && p.JSON200 != nil
	}, 20*time.Second, 50*time.Millisecond)
	a, err = api.ArmWithResponse(t.Context(), "twin", client.ArmRequest{Plan: 1, Revision: 2})
	require.NoError(t, err)
	refused(
		a.Body,
		http.StatusConflict,
		"Revision 2 is not armed, since of its trials dry was not played with this revision. Play them, or say why that does not matter: despite.",
	)

	rack.SetWords("holding", 0, 5)
	m.until("the blower runs, and is read back", func(n *client.Now) bool {
		i := slices.IndexFunc(n.Points, func(p client.PointNow) bool { return p.Name == "blower" })
		return rack.Bit("coil", 0) && n.Points[i].Found != nil && *n.Points[i].Found == "on"
	})
	// What entered becomes a recording, and is refused where there is none.
	c, err := api.KeepCaptureWithResponse(
		t.Context(),
		fennick,
		client.CaptureRequest{Name: "evening", From: time.Now().Add(-time.Minute), To: time.Now()},
	)
	require.NoError(t, err)
	require.NotNil(t, c.JSON201, "%s", c.Body)
	assert.Equal(t, "evening", c.JSON201.Name)
	var columns []string
	for _, x := range c.JSON201.Columns {
		columns = append(columns, x.Name)
	}
	assert.ElementsMatch(t, []string{"oxygen", "mains", "button"}, columns)
	c, err = api.KeepCaptureWithResponse(
		t.Context(),
		fennick,
		client.CaptureRequest{Name: "evening", From: time.Now(), To: time.Now().Add(-time.Minute)},
	)
	require.NoError(t, err)
	refused(c.Body, http.StatusUnprocessableEntity, "The stretch ends before it begins; give the earlier time first.")
	c, err = api.KeepCaptureWithResponse(
		t.Context(),
		fennick,
		client.CaptureRequest{Name: "evening", From: time.Unix(0, 0), To: time.Unix(60, 0)},
	)
	require.NoError(t, err)
	refused(c.Body, http.StatusUnprocessableEntity, "Nothing was captured from 1970-01-01 00:00:00 to 1970-01-01 00:01:00.")
	c, err = api.KeepCaptureWithResponse(t.Context(), fennick,
		client.CaptureRequest{Name: "ages", From: time.Date(1, 1, 1, 0, 0, 0, 0, time.UTC), To: time.Date(2900, 1, 1, 0, 0, 0, 0, time.UTC)})
	require.NoError(t, err)
	refused(c.Body, http.StatusUnprocessableEntity, "A stretch is 31 d long at the most.")
	long := time.Date(1, 1, 1, 0, 0, 0, 0, time.UTC)
	past, err := api.GetReasonWithResponse(t.Context(), fennick, &client.GetReasonParams{Name: "blower", At: &long})
	require.NoError(t, err)
	refused(past.Body, http.StatusNotFound, "Nothing was captured at 1970-01-01 00:00:00.")

	// A stretch in which readings change their unit is no recording.
	rack.SetWords("holding", 0, 5)
	push(fennick, strings.Replace(text, "  unit mg/L\n", "  scale 0..100 counts to 0..100 mg/L\n", 1))
	m.arm()
	m.until("oxygen is read by the other revision", func(n *client.Now) bool { return n.Points[0].Value != nil && *n.Points[0].Value == 5 })
	require.Eventually(t, func() bool { // what has entered is kept after a while
		c, err = api.KeepCaptureWithResponse(
			t.Context(),
			fennick,
			client.CaptureRequest{Name: "both", From: time.Now().Add(-time.Minute), To: time.Now()},
		)
		return err == nil && c.StatusCode() == http.StatusUnprocessableEntity
	}, 20*time.Second, 100*time.Millisecond)
	assert.Contains(t, string(c.Body), "another revision took over, for which oxygen is read in counts and not in mg/L")

	moves, err := api.PlanDisarmingWithResponse(t.Context(), fennick, &client.PlanDisarmingParams{})
	require.NoError(t, err)
	require.Len(t, *moves.JSON200, 1)
	assert.Equal(t, client.Move{Output: "horn", From: "off", To: "on", Because: "disarmed"}, (*moves.JSON200)[0])
	d, err = api.DisarmWithResponse(t.Context(), fennick, client.DisarmRequest{})
	require.NoError(t, err)
	assert.Equal(t, client.DisarmingModeListening, d.JSON200.Mode)
	assert.Empty(t, d.JSON200.Left)
	assert.True(t, rack.Bit("coil", 2), "the horn fails on")
	s, err := api.GetStatusWithResponse(t.Context())
	require.NoError(t, err)
	i := slices.IndexFunc(*s.JSON200, func(s client.JobStatus) bool { return s.Job == fennick })
	assert.Equal(t, client.JobStatusModeListening, (*s.JSON200)[i].Mode)

	// Now the coils are free for the other job, and its trial does not matter to somebody who says why.
	despite := "it is a bench rack"
	twin, err := api.PlanArmingWithResponse(t.Context(), "twin", client.ListenRequest{})
	require.NoError(t, err)
	require.NotNil(t, twin.JSON200, "%s", twin.Body)
	a, err = api.ArmWithResponse(t.Context(), "twin", client.ArmRequest{Plan: twin.JSON200.Number, Revision: 2, Despite: &despite})
	require.NoError(t, err)
	require.NotNil(t, a.JSON200, "%s", a.Body)
	assert.True(t, a.JSON200.Armed)
	newest := 20
	j, err := api.GetJournalWithResponse(t.Context(), "twin", &client.GetJournalParams{Newest: &newest})
	require.NoError(t, err)
	assert.True(t, slices.ContainsFunc(*j.JSON200, func(e client.JournalEntry) bool {
		return e.Kind == "command" && e.To == "armed, revision 2" && strings.Contains(e.Because, despite)
	}), "the reason is journalled: %s", j.Body)
}

// A job in fault, whose outputs switch each other to and fro, is nothing to another job on the same rack.
func TestOneFault(t *testing.T) {
	rack, err := simulated.Start()
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, rack.Close()) })
	rack.SetWords("holding", 0, 7)
	rack.SetBit("discrete", 0, true)
	_, api, _, _ := start(t, t.TempDir())
	m := &mortal{t: t, api: api}
	m.push(fmt.Sprintf(mortalJob, rack.Address()))
	m.arm()

	made, err := api.PutJobWithResponse(t.Context(), "pump-house")
	require.NoError(t, err)
	require.Equal(t, http.StatusCreated, made.StatusCode())
	const restless = "job \"Pump house\"\n  settle 1 s\ndevice rack modbus tcp %q unit 1\n  poll 50 ms\ninput key discrete\n  source rack discrete 7\n" +
		"output pump\n  drives rack coil 9\n  fail on\nrule r\n  on when key and pump is off\n  call pump\n"
	other := &mortal{t: t, api: api, job: "pump-house"}
	other.push(fmt.Sprintf(restless, rack.Address()))
	other.arm()
	rack.SetBit("discrete", 7, true)
	require.Eventually(t, func() bool {
		s, err := api.GetStatusWithResponse(t.Context())
		require.NoError(t, err)
		i := slices.IndexFunc(*s.JSON200, func(s client.JobStatus) bool { return s.Job == "pump-house" })
		return strings.Contains((*s.JSON200)[i].Fault, "switch each other to and fro") && rack.Bit("coil", 9)
	}, 20*time.Second, 20*time.Millisecond, "it is in fault, with its output at its fail state")
	rack.SetWords("holding", 0, 5)
	m.until("the blower runs", func(n *client.Now) bool { return rack.Bit("coil", 0) && n.Status.Fault == "" })
}

// Two jobs do not talk on one serial line, and do not write bits of one register, which each would read, change and write.
func TestTwoJobsOnOneWire(t *testing.T) {
	rack, err := simulated.Start()
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, rack.Close()) })
	_, api, _, _ := start(t, t.TempDir())
	const line = "/dev/ttyUSB9" // which is on no machine of ours, so that its device is lost
	const text = "job \"Pond\"\n  settle 1 s\ndevice rack modbus tcp %q unit 1\n  poll 50 ms\ndevice field modbus rtu %q 19200 8E1 unit %d\n" +
		"  timeout 100 ms\ninput key discrete\n  source rack discrete 7\ninput flow\n  source field holding 0\n  unit L/s\n" +
		"output pump\n  drives rack holding 9 bit %d\n  fail off\nrule r\n  on when key and flow is good\n  call pump\n"
	begin := func(job, text string) *mortal {
		made, err := api.PutJobWithResponse(t.Context(), job)
		require.NoError(t, err)
		require.Contains(t, []int{http.StatusCreated, http.StatusOK}, made.StatusCode())
		m := &mortal{t: t, api: api, job: job}
		m.push(text)
		return m
	}
	one := begin("one", fmt.Sprintf(text, rack.Address(), line, 1, 0))
	one.arm()
	begin("two", fmt.Sprintf(text, rack.Address(), line, 2, 1))
	l, err := api.ListenWithResponse(t.Context(), "two", client.ListenRequest{})
	require.NoError(t, err)
	assert.Equal(t, http.StatusConflict, l.StatusCode())
	assert.Contains(
		t,
		string(l.Body),
		"the job one talks on "+line+" 19200 8E1, where two would disturb each other; give all devices of that line to one job, or disarm one.",
	)

	two := begin("two", fmt.Sprintf(text, rack.Address(), line+"0", 2, 1))
	plan := &client.PlanArmingResponse{}
	require.Eventually(t, func() bool {
		plan, err = api.PlanArmingWithResponse(t.Context(), two.name(), client.ListenRequest{})
		return err == nil && plan.JSON200 != nil && plan.JSON200.Waiting == ""
	}, 20*time.Second, 50*time.Millisecond)
	a, err := api.ArmWithResponse(t.Context(), "two", client.ArmRequest{Plan: plan.JSON200.Number, Revision: plan.JSON200.Revision})
	require.NoError(t, err)
	assert.Equal(t, http.StatusConflict, a.StatusCode())
	assert.Contains(t, string(a.Body), "rack holding 9 bit 1, which pump of the job one drives")
}

// A plant's file that is damaged is not run on: the service says so, and does not start.
func TestDamagedPlant(t *testing.T) {
	data := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(data, "plant.db"), bytes.Repeat([]byte("no database"), 1000), 0o600))
	_, err := service.Start(t.Context(), service.Config{Data: data, Listen: "127.0.0.1:0", Log: slog.New(slog.DiscardHandler)})
	require.ErrorIs(t, err, store.ErrDamaged)
	assert.ErrorContains(t, err, "plant.db: the database's file is damaged")
}

// A service that is told so leaves its outputs at what they fail to when it ends; any other leaves them as they are.
func TestOnExit(t *testing.T) {
	for _, exit := range []string{"hold", "fail"} {
		t.Run(exit, func(t *testing.T) {
			rack, err := simulated.Start()
			require.NoError(t, err)
			t.Cleanup(func() { assert.NoError(t, rack.Close()) })
			data := t.TempDir()
			rack.SetWords("holding", 0, 25) // the lamp's rule calls, and it fails off; the horn fails on, and nothing calls it
			rack.SetBit("discrete", 0, true)
			s, err := service.Start(
				t.Context(),
				service.Config{Data: data, Listen: "127.0.0.1:0", OnExit: exit, Memory: testMemory, Log: slog.New(slog.DiscardHandler)},
			)
			require.NoError(t, err)
			ctx, stop := context.WithCancel(context.Background())
			done := make(chan error, 1)
			go func() { done <- s.Run(ctx) }()
			api, err := client.NewClientWithResponses(s.URL() + "/api")
			require.NoError(t, err)
			made, err := api.PutJobWithResponse(t.Context(), fennick)
			require.NoError(t, err)
			require.Equal(t, http.StatusCreated, made.StatusCode())
			pushed, err := api.PushRevisionWithResponse(
				t.Context(),
				fennick,
				client.NewRevision{Sheets: []client.Sheet{{Name: "a.rct", Text: fmt.Sprintf(mortalJob, rack.Address())}}},
			)
			require.NoError(t, err)
			require.Equal(t, http.StatusCreated, pushed.StatusCode())
			m := &mortal{t: t, api: api}
			m.arm()
			m.until("the lamp burns", func(*client.Now) bool { return rack.Bit("coil", 3) })
			stop()
			require.NoError(t, <-done)
			assert.Equal(t, exit == "fail", rack.Bit("coil", 2), "the horn")
			assert.Equal(t, exit == "hold", rack.Bit("coil", 3), "the lamp")
			plant, err := store.OpenPlant(t.Context(), filepath.Join(data, "plant.db"), store.PlantOptions{})
			require.NoError(t, err)
			kept, err := plant.Recall(t.Context())
			require.NoError(t, errors.Join(err, plant.Close()))
			assert.Equal(t, "armed", kept[0].Armed.Mode, "it goes on when the service is there again")
		})
	}
}
