//go:build peers

package modbus_test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/core/logic"
	"rectura/core/sheet"
	"rectura/service/device/modbus"
)

// values are what the peer holds, in the order of its registers.
var values = []struct {
	typ   string
	size  int
	value float64
}{
	{"uint", 1, 65000}, {"int", 1, -1234}, {"udint", 2, 4_000_000_000}, {"dint", 2, -123_456_789}, {"real", 2, float64(float32(7.26))},
	{"ulint", 4, 1 << 40}, {"lint", 4, -(1 << 41)}, {"lreal", 4, -0.123456789},
}

// A peer is a rack of which nobody here wrote a line.
type peer struct {
	in  io.Writer
	out *bufio.Reader
}

func startPeer(t *testing.T, args ...string) *peer {
	t.Helper()
	c := exec.Command("/usr/bin/python3", append([]string{"testdata/rack.py"}, args...)...)
	in, err := c.StdinPipe()
	require.NoError(t, err)
	out, err := c.StdoutPipe()
	require.NoError(t, err)
	c.Stderr = os.Stderr
	require.NoError(t, c.Start())
	t.Cleanup(func() {
		require.NoError(t, c.Process.Kill())
		_ = c.Wait() // it was killed
	})
	p := &peer{in, bufio.NewReader(out)}
	line, err := p.out.ReadString('\n')
	require.NoError(t, err)
	require.Equal(t, "ready\n", line)
	return p
}

// holds asks the peer what it has.
func (p *peer) holds(t *testing.T) (held struct{ Coils, Holding []int }) {
	t.Helper()
	_, err := io.WriteString(p.in, "\n")
	require.NoError(t, err)
	line, err := p.out.ReadBytes('\n')
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(line, &held))
	return held
}

func TestPeerOverTCP(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := l.Addr().(*net.TCPAddr)
	require.NoError(t, l.Close())
	p := startPeer(t, "tcp", fmt.Sprint(address.Port))
	talk(t, p, fmt.Sprintf("device rack modbus tcp %q unit 1\n", address))
}

func TestPeerOverASerialLine(t *testing.T) {
	folder := t.TempDir()
	ours, theirs := filepath.Join(folder, "ours"), filepath.Join(folder, "theirs")
	socat := exec.Command("socat", "pty,raw,echo=0,link="+ours, "pty,raw,echo=0,link="+theirs)
	require.NoError(t, socat.Start())
	t.Cleanup(func() {
		require.NoError(t, socat.Process.Kill())
		_ = socat.Wait() // it was killed
	})
	require.Eventually(t, func() bool {
		_, one := os.Stat(ours)
		_, two := os.Stat(theirs)
		return one == nil && two == nil
	}, 10*time.Second, 10*time.Millisecond)
	line, err := filepath.EvalSymlinks(ours)
	require.NoError(t, err)
	p := startPeer(t, "serial", theirs)
	talk(t, p, fmt.Sprintf("device rack modbus rtu %q 19200 8N1 unit 1\n", line))
}

// talk reads every type in both word orders, and writes coils, registers and a bit of one; what is written is what the
// peer says it has.
func talk(t *testing.T, p *peer, device string) {
	text := "job \"Brood stock pond\"\n" + device + "  timeout 500 ms\n"
	read := map[string]float64{"mains": 1, "hatch": 0}
	address := 0
	for _, order := range []string{"high", "low"} {
		for _, v := range values {
			name := order + "_" + v.typ
			read[name] = v.value
			text += fmt.Sprintf("input %s\n  source rack holding %d %s", name, address, v.typ)
			if v.size > 1 {
				text += fmt.Sprintf(" word order %s first", order)
			}
			text += "\n  unit mm\n"
			address += v.size
		}
	}
	text += "input near\n  source rack input 1 int\n  unit mm\ninput mains discrete\n  source rack discrete 0\ninput hatch discrete\n  source rack discrete 1\n"
	read["near"] = -1234
	text += "output pump\n  drives rack coil 0\n  fail off\noutput horn\n  drives rack coil 3\n  fail off\n"
	text += fmt.Sprintf(
		"output lamp\n  drives rack holding %d bit 9\n  fail off\noutput speed analog -50..50 Hz\n  drives rack holding %d int\n  fail off\n",
		address,
		address+1,
	)
	text += fmt.Sprintf("output dose analog 0..100 %%\n  drives rack holding %d real word order low first\n  fail off\n", address+2)
	_, compiled, found := logic.Check([]sheet.Source{{Name: "a.rct", Text: []byte(text)}})
	require.NotNil(t, compiled, "%v", found)
	d := modbus.Devices(compiled)[0]
	l, err := modbus.NewLine(d, nil)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, l.Close()) })

	var got map[string]any
	require.Eventually(t, func() bool { // once the peer listens
		got, err = poll(d, l)
		return err == nil
	}, 20*time.Second, 100*time.Millisecond, "%v", err)
	for name, want := range read {
		assert.Equal(t, want, got[name], name)
	}
	wire := map[string]*modbus.Wire{}
	for i := range d.Wires {
		wire[d.Wires[i].Point] = &d.Wires[i]
	}
	for name, value := range map[string]float64{"pump": 1, "horn": 1, "lamp": 1, "speed": -12, "dose": 7.25} {
		require.NoError(t, l.Write(d, wire[name], value), name)
	}
	require.NoError(t, l.Write(d, wire["horn"], 0))
	held := p.holds(t)
	assert.Equal(t, []int{1, 0, 0, 0, 0, 0, 0, 0}, held.Coils)
	assert.Equal(t, []int{1 << 9, 1<<16 - 12, 0, 0x40e8}, held.Holding[:4])
	got, err = poll(d, l)
	require.NoError(t, err)
	assert.Equal(t, []any{1.0, 0.0, 1.0, -12.0, 7.25}, []any{got["pump"], got["horn"], got["lamp"], got["speed"], got["dose"]})
}
