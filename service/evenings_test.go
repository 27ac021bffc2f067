//go:build peers

package service_test

import (
	"bufio"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/client"
)

var realEvenings = flag.Int("evenings", 2, "how many evenings the program is killed and stopped in, against a rack of others")

const eveningJob = `job "Drum filter"
  settle 1 s
device rack %s unit 1
  poll 100 ms
  timeout 300 ms
input level
  source rack holding 0
  unit mm
input trip discrete
  source rack discrete 0
output pump
  drives rack coil 0
  fail hold
  interlock when trip
  minimum off 4 s
output valve
  drives rack coil 1
  fail hold
  interlock when trip
rule high
  on when level > 500 mm hysteresis 100 mm for 2 s
  off when level < 300 mm
  call pump
rule low
  on when level < 200 mm
  off when level > 400 mm
  call valve
`

// A happened is something of a real evening.
type happened struct {
	at    time.Time
	what  string
	value int
	ends  time.Time
}

// A taken write is one that the plant has told.
type taken struct {
	At     int64
	First  int
	Values []int
	Before []int
}

// A realEvening is the program, and a plant of which nobody here wrote a line.
type realEvening struct {
	*mortal
	r       *rand.Rand
	plant   io.WriteCloser
	history []happened

	mu     sync.Mutex
	writes []taken
}

// The test kills and stops the program at random while it drives a rack of another project. The rack's own log is the judge.
func TestPeersEvenings(t *testing.T) {
	for n := range *realEvenings {
		t.Run(fmt.Sprint(n), func(t *testing.T) {
			x := &realEvening{mortal: &mortal{t: t, data: filepath.Join(t.TempDir(), "data")}, r: rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 7))}
			x.play(x.rack([]string{"tcp", "serial"}[n%2]))
		})
	}
}

// rack starts the plant, and returns how the sheet reaches it.
func (x *realEvening) rack(how string) string {
	t := x.t
	var at, device string
	if how == "tcp" {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		at = fmt.Sprint(l.Addr().(*net.TCPAddr).Port)
		require.NoError(t, l.Close())
		device = fmt.Sprintf("modbus tcp \"127.0.0.1:%s\"", at)
	} else {
		ours := filepath.Join(t.TempDir(), "ours")
		at = filepath.Join(t.TempDir(), "theirs")
		line := exec.Command("socat", "pty,raw,echo=0,link="+ours, "pty,raw,echo=0,link="+at)
		require.NoError(t, line.Start())
		t.Cleanup(func() { assert.NoError(t, line.Process.Kill()); _ = line.Wait() }) // it was killed
		require.Eventually(t, func() bool { _, err := os.Stat(ours); _, other := os.Stat(at); return err == nil && other == nil }, 10*time.Second,
			10*time.Millisecond)
		real, err := filepath.EvalSymlinks(ours)
		require.NoError(t, err)
		device = fmt.Sprintf("modbus rtu %q 19200 8N1", real)
	}
	rack := exec.Command("/usr/bin/python3", "testdata/plant.py", how, at)
	rack.Stderr = os.Stderr
	var err error
	x.plant, err = rack.StdinPipe()
	require.NoError(t, err)
	out, err := rack.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, rack.Start())
	t.Cleanup(func() { assert.NoError(t, rack.Process.Kill()); _ = rack.Wait() }) // it was killed
	lines := bufio.NewScanner(out)
	require.True(t, lines.Scan())
	require.Equal(t, "ready", lines.Text())
	go func() {
		for lines.Scan() {
			var w taken
			if json.Unmarshal(lines.Bytes(), &w) == nil {
				x.mu.Lock()
				x.writes = append(x.writes, w)
				x.mu.Unlock()
			}
		}
	}()
	return device
}

func (x *realEvening) note(what string, value int) *happened {
	x.history = append(x.history, happened{at: time.Now(), what: what, value: value})
	return &x.history[len(x.history)-1]
}

// set has something happen in the plant.
func (x *realEvening) set(table string, address, value int) {
	_, err := fmt.Fprintf(x.plant, "%s %d %d\n", table, address, value)
	require.NoError(x.t, err)
	x.note(fmt.Sprintf("%s %d", table, address), value)
}

func (x *realEvening) play(device string) {
	x.set("holding", 0, 450)
	x.start()
	made, err := x.api.PutJobWithResponse(x.t.Context(), x.name())
	require.NoError(x.t, err)
	require.Equal(x.t, http.StatusCreated, made.StatusCode())
	x.push(fmt.Sprintf(eveningJob, device))
	x.arm()
	for range 18 {
		x.happen()
		time.Sleep(time.Duration(200+x.r.IntN(2200)) * time.Millisecond) // as evenings go
	}
	x.set("discrete", 0, 0)
	x.set("holding", 0, 900)
	x.until("the pump runs, and the valve is shut", func(n *client.Now) bool {
		on := map[string]string{}
		for _, p := range n.Points {
			if p.Found != nil {
				on[p.Name] = *p.Found
			}
		}
		return on["pump"] == "on" && on["valve"] == "off" && n.Status.Mode == client.JobStatusModeArmed
	})
	x.judge()
	v, err := x.api.VerifyWithResponse(x.t.Context(), x.name(), nil)
	require.NoError(x.t, err)
	require.NotNil(x.t, v.JSON200, "%s", v.Body)
	assert.Empty(x.t, v.JSON200.Differ)
	x.kill()
}

func (x *realEvening) happen() {
	switch x.r.IntN(8) {
	case 0, 1, 2:
		x.set("holding", 0, []int{100, 100, 250, 450, 600, 900, 900}[x.r.IntN(7)])
	case 3:
		x.set("discrete", 0, x.r.IntN(2))
	case 4: // another master, who does not switch what must be off on
		x.set("coil", x.r.IntN(2), 0)
	case 5:
		x.note("away", 0)
		i := len(x.history) - 1
		x.kill()
		if x.r.IntN(2) == 0 {
			x.set("holding", 0, []int{100, 600}[x.r.IntN(2)])
		}
		time.Sleep(time.Duration(x.r.IntN(2500)) * time.Millisecond) // nobody is there
		x.start()
		x.history[i].ends = time.Now()
	default:
		x.note("stopped", 0)
		i := len(x.history) - 1
		require.NoError(x.t, x.run.Process.Signal(syscall.SIGSTOP))
		time.Sleep(time.Duration([]int{100, 900, 3000, 7000}[x.r.IntN(4)]) * time.Millisecond) // it is stopped
		require.NoError(x.t, x.run.Process.Signal(syscall.SIGCONT))
		x.history[i].ends = time.Now()
	}
}

// judge looks at each write of the rack's log.
func (x *realEvening) judge() {
	x.mu.Lock()
	defer x.mu.Unlock()
	stopped := map[int]time.Time{}
	others := slices.Clone(x.history)
	had := map[int]int{}
	for _, w := range x.writes {
		at := time.Unix(0, w.At)
		for len(others) > 0 && others[0].at.Before(at) {
			if h := others[0]; len(h.what) > 5 && h.what[:5] == "coil " {
				coil := int(h.what[5] - '0')
				if had[coil] == 1 && h.value == 0 {
					stopped[coil] = h.at
				}
				had[coil] = h.value
			}
			others = others[1:]
		}
		for k, v := range w.Values {
			coil := w.First + k
			if v == w.Before[k] {
				x.t.Errorf("%s: coil %d is written %d, which it has already", x.clock(at), coil, v)
			}
			if last := stopped[coil]; coil == 0 && v == 1 && !last.IsZero() && at.Sub(last) < 3900*time.Millisecond {
				x.t.Errorf("%s: the pump starts %s after it stopped", x.clock(at), at.Sub(last))
			}
			if coil == 0 && v == 1 {
				if watched := x.watched(at); watched < 1850*time.Millisecond {
					x.t.Errorf("%s: the pump starts, though its delay was watched for %s only", x.clock(at), watched)
				}
			}
			if v == 1 && x.tripped(at) {
				x.t.Errorf("%s: coil %d is switched on, though it is interlocked", x.clock(at), coil)
			}
			if had[coil] == 1 && v == 0 {
				stopped[coil] = at
			}
			had[coil] = v
		}
	}
	x.tell()
}

// clock is a time of the evening, in seconds.
func (x *realEvening) clock(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return fmt.Sprintf("%.3f", t.Sub(x.history[0].at).Seconds())
}

// tell prints the evening, if it failed.
func (x *realEvening) tell() {
	x.t.Logf("%d writes, %d things that happened", len(x.writes), len(x.history))
	if !x.t.Failed() {
		return
	}
	for _, h := range x.history {
		x.t.Logf("%s %s %d %s", x.clock(h.at), h.what, h.value, x.clock(h.ends))
	}
	for _, w := range x.writes {
		x.t.Logf("%s write %d %v, was %v", x.clock(time.Unix(0, w.At)), w.First, w.Values, w.Before)
	}
	j, err := x.api.GetJournalWithResponse(x.t.Context(), x.name(), nil)
	require.NoError(x.t, err)
	for _, e := range *j.JSON200 {
		x.t.Logf("%s %s %s %s → %s: %s", x.clock(e.Time), e.Kind, e.Name, e.From, e.To, e.Because)
	}
}

// tripped reports whether the contact had been on for long enough to be seen.
func (x *realEvening) tripped(at time.Time) bool {
	on, since := false, time.Time{}
	for _, h := range x.history {
		if h.what == "discrete 0" && h.at.Before(at) {
			if h.value == 1 && !on {
				since = h.at
			}
			on = h.value == 1
		}
		if h.ends.After(since) && h.ends.Before(at) {
			since = h.ends
		}
	}
	return on && at.Sub(since) > 1200*time.Millisecond
}

// watched returns the longest time for which the running program saw the level above its point, since the level was last below the off
// point.
func (x *realEvening) watched(at time.Time) (longest time.Duration) {
	above, since, gap := false, time.Time{}, time.Duration(0)
	end := func(t time.Time) {
		if above {
			longest = max(longest, t.Sub(since)-gap)
		}
	}
	for _, h := range x.history {
		if h.at.After(at.Add(-150 * time.Millisecond)) { // the program had no poll to see it
			break
		}
		switch {
		case h.what == "holding 0":
			now := h.value > 500 || above && h.value >= 400 // with its hysteresis
			if !now {
				end(h.at)
			}
			if now && !above {
				since, gap = h.at, 0
			}
			if above = now; h.value < 300 {
				longest = 0
			}
		case h.what == "away":
			end(h.at)
			since, gap = h.ends, 0
		case h.what == "stopped" && h.ends.Sub(h.at) > 250*time.Millisecond: // in a shorter one, nothing can have passed unseen
			gap += h.ends.Sub(h.at)
		}
	}
	end(at)
	return longest
}
