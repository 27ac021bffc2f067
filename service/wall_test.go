package service_test

import (
	"context"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/client"
	"rectura/service"
	"rectura/service/device/simulated"
)

var benchEnds = flag.Int("bench-ends", 4, "how often the bench is ended under load")

// bench returns how the bench is.
func (m *mortal) bench() client.Process {
	p, err := m.api.GetProcessesWithResponse(m.t.Context())
	require.NoError(m.t, err)
	require.NotNil(m.t, p.JSON200, "%s", p.Body)
	require.Len(m.t, *p.JSON200, 2)
	return (*p.JSON200)[1]
}

// A besieged service has an armed job, and clients that keep its bench busy.
type besieged struct {
	*mortal
	url      string
	rack     *simulated.Rack
	answered atomic.Int64
	refused  atomic.Int64
}

// attacks are requests that keep the bench busy.
var attacks = []struct{ method, path, body string }{
	{http.MethodGet, "/journal?newest=1000", ""},
	{http.MethodPost, "/replays", `{"revision":1,"recording":1,"most":200}`},
	{http.MethodPost, "/explanations", `{"revision":1,"recording":1,"name":"blower","t":16000}`},
	{http.MethodPost, "/checks", `{"sheets":[{"name":"a.rct","text":"job \"x\"\nderived d = d + d\n"}]}`},
	{http.MethodPost, "/recordings?name=a%d", "time,oxygen\n"},
}

// The test ends, stops and outgrows the bench under load. The armed job runs on time, commands are answered, and each request to the
// bench has an answer or a sentence.
func TestBenchEnds(t *testing.T) {
	if raced {
		t.Skip("times are those of the program as it runs")
	}
	service.BenchMay(2*time.Second, 1.25)
	t.Cleanup(func() { service.BenchMay(15*time.Second, 1.25) })
	x := &besieged{mortal: &mortal{t: t}, rack: onRack(t)}
	x.url, x.api, _, _ = start(t, t.TempDir())
	x.push(fmt.Sprintf(mortalJob, x.rack.Address()))
	require.NotNil(t, upload(t, x.api, "night.csv", night(t)).JSON201)
	x.arm()
	x.until("it drives", func(n *client.Now) bool { return !n.Status.Settling })
	ctx, end := context.WithCancel(t.Context())
	var all sync.WaitGroup
	for i := range 6 {
		all.Go(func() { x.attack(ctx, rand.New(rand.NewPCG(uint64(i), 21))) })
	}
	var commands []time.Duration
	for n := range *benchEnds {
		x.endBench(n % 3)
		commands = append(commands, x.drives(n)...)
		require.Eventually(t, func() bool { p := x.bench(); return p.State == client.Runs && p.Ends == n+1 }, 30*time.Second, 20*time.Millisecond)
	}
	end()
	all.Wait()
	slices.Sort(commands)
	s, _ := x.mode()
	t.Logf("%d answers, %d sentences; late p50 %.1f ms, p99 %.1f ms; a command takes %s, at the 95th percentile %s", x.answered.Load(), x.refused.Load(),
		s.LatenessMs.P50, s.LatenessMs.P99, commands[len(commands)/2], commands[len(commands)*95/100])
	assert.Zero(t, s.Late, "instants that were late")
	assert.Less(t, s.LatenessMs.P99, 20.0)
	assert.Less(t, commands[len(commands)/2], 20*time.Millisecond)
	assert.Positive(t, x.answered.Load())
	assert.Positive(t, x.refused.Load())
}

// endBench ends the bench in one of three ways, and waits until control has noticed.
func (x *besieged) endBench(how int) {
	p := x.bench()
	ends := p.Ends
	want := "signal: killed"
	switch how {
	case 0:
		require.NoError(x.t, syscall.Kill(p.Pid, syscall.SIGKILL))
	case 1:
		require.NoError(x.t, syscall.Kill(p.Pid, syscall.SIGSTOP))
		want = "it did not answer for 2s"
	case 2: // its limit is lowered below what it takes, as if it had grown
		want = "out of memory"
		service.BenchMay(2*time.Second, 0.01)
		defer service.BenchMay(2*time.Second, 1.25)
	}
	var because string
	require.Eventually(x.t, func() bool {
		p := x.bench()
		if p.State == client.Ended {
			because = p.Because
		}
		return p.Ends > ends && because != ""
	}, 30*time.Second, 20*time.Millisecond)
	assert.Contains(x.t, because, want)
}

// drives has the job turn its blower on and off, and returns how long commands take meanwhile.
func (x *besieged) drives(n int) (took []time.Duration) {
	for _, oxygen := range []uint16{5, 9} {
		x.rack.SetWords("holding", 0, oxygen)
		x.until("the blower follows", func(*client.Now) bool { return x.rack.Bit("coil", 0) == (oxygen == 5) })
	}
	for k := range 20 {
		begun := time.Now()
		x.command("set", "low", fmt.Sprintf("6.%d%d mg/L", n%10, k%10), "")
		took = append(took, time.Since(begun))
	}
	return took
}

// attack asks the bench for one thing after another. Each request has an answer, or a sentence.
func (x *besieged) attack(ctx context.Context, r *rand.Rand) {
	for n := 0; ctx.Err() == nil; n++ {
		a := attacks[r.IntN(len(attacks))]
		path, body := a.path, a.body
		if strings.HasPrefix(path, "/recordings") {
			path = fmt.Sprintf(path, r.Int64())
			body += fmt.Sprintf("1,7\n%d,8\n", 2+r.Int32N(1<<30))
		}
		q, err := http.NewRequestWithContext(context.WithoutCancel(ctx), a.method, x.url+at(path), strings.NewReader(body))
		if err != nil {
			panic(err)
		}
		q.Header.Set("Content-Type", map[bool]string{true: "application/octet-stream", false: "application/json"}[strings.HasPrefix(path, "/recordings")])
		answer, err := http.DefaultClient.Do(q)
		if err != nil {
			assert.NoError(x.t, err, "%s has no answer", a.path)
			continue
		}
		text, err := io.ReadAll(answer.Body)
		switch {
		case answer.StatusCode < 500 && err == nil:
			x.answered.Add(1)
		case answer.StatusCode == http.StatusServiceUnavailable:
			x.refused.Add(1)
			assert.Contains(x.t, string(text), "The bench ")
		case err != nil && answer.StatusCode == http.StatusOK: // it was cut off in its middle
			x.refused.Add(1)
		default:
			assert.Fail(x.t, "an answer that is none", "%s: %d %s", a.path, answer.StatusCode, text)
		}
		_ = answer.Body.Close() // it was read
		time.Sleep(time.Duration(r.IntN(20)) * time.Millisecond)
	}
}

// A bench that is stopped does not keep the service from ending.
func TestStoppedBenchEnds(t *testing.T) {
	_, api, _, stop := start(t, t.TempDir())
	m := &mortal{t: t, api: api}
	pid := m.bench().Pid
	require.NoError(t, syscall.Kill(pid, syscall.SIGSTOP))
	begun := time.Now()
	stop()
	assert.Less(t, time.Since(begun), 5*time.Second)
	assert.ErrorIs(t, syscall.Kill(pid, 0), syscall.ESRCH, "nothing of it is left")
}
