//go:build peers

package service_test

import (
	"bufio"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"regexp"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/client"
)

// A job drives a rack of which nobody here wrote a line, and another program looks at what was written there: it is what
// the journal says.
func TestPeersSeeWhatTheJournalSays(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := fmt.Sprint(l.Addr().(*net.TCPAddr).Port)
	require.NoError(t, l.Close())
	rack := exec.Command("/usr/bin/python3", "device/modbus/testdata/rack.py", "tcp", port)
	in, err := rack.StdinPipe()
	require.NoError(t, err)
	out, err := rack.StdoutPipe()
	require.NoError(t, err)
	rack.Stderr = os.Stderr
	require.NoError(t, rack.Start())
	t.Cleanup(func() {
		require.NoError(t, in.Close())
		require.NoError(t, rack.Process.Kill())
		_ = rack.Wait() // it was killed
	})
	line, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	require.Equal(t, "ready\n", line)

	_, api, _, _ := start(t, t.TempDir())
	m := &mortal{t: t, api: api}
	text := fmt.Sprintf(`job "Brood stock pond"
  settle 1 s
device rack modbus tcp "127.0.0.1:%s" unit 1
  poll 100 ms
input mains discrete
  source rack discrete 0
output pump
  drives rack coil 0
  fail off
output horn
  drives rack coil 3
  fail off
output speed analog -50..50 Hz
  drives rack holding 35 int
  fail off
output dose analog 0..100 %%
  drives rack holding 36 real word order low first
  fail off
rule run
  on when mains
  call pump
`, port)
	pushed, err := api.PushRevisionWithResponse(t.Context(), fennick, client.NewRevision{Sheets: []client.Sheet{{Name: "a.rct", Text: text}}})
	require.NoError(t, err)
	require.Equal(t, http.StatusCreated, pushed.StatusCode(), "%s", pushed.Body)
	m.arm()
	m.command("hand", "horn", "on", "")
	m.command("hand", "speed", "-12 Hz", "")
	m.command("hand", "dose", "7.25 %", "")
	m.command("auto", "horn", "", "")

	last := map[string]string{} // by the journal
	j, err := api.GetJournalWithResponse(t.Context(), fennick, &client.GetJournalParams{})
	require.NoError(t, err)
	for _, e := range *j.JSON200 {
		if e.Kind == "output" {
			last[e.Name] = e.To
		}
	}
	assert.Equal(t, map[string]string{"pump": "on", "horn": "off", "speed": "-12 Hz", "dose": "7.25 %"}, last)
	for _, x := range []struct {
		as, reference string
		want          float64
	}{{"0", "1", 1}, {"0", "4", 0}, {"4", "36", 65536 - 12}, {"4:float", "37", 7.25}} {
		assert.Eventually(
			t,
			func() bool { return looked(t, port, x.as, x.reference) == x.want },
			10*time.Second,
			50*time.Millisecond,
			"%s %s",
			x.as,
			x.reference,
		)
	}
}

// looked is what mbpoll sees.
func looked(t *testing.T, port, as, reference string) float64 {
	out, err := exec.Command("mbpoll", "-m", "tcp", "-p", port, "-a", "1", "-t", as, "-r", reference, "-c", "1", "-1", "127.0.0.1").
		CombinedOutput()
	require.NoError(t, err, "%s", out)
	found := regexp.MustCompile(`(?m)^\[\d+\]:\s+(-?[\d.]+)`).FindSubmatch(out)
	require.NotNil(t, found, "%s", out)
	v, err := strconv.ParseFloat(string(found[1]), 64)
	require.NoError(t, err)
	return v
}
