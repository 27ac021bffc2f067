package service_test

import (
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/client"
	"rectura/service"
)

// The unit lets the service open the serial lines of its jobs alone, and systemd understands it.
func TestUnit(t *testing.T) {
	data := t.TempDir()
	_, api, _, stop := start(t, data)
	m := &mortal{t: t, api: api}
	m.push("job \"Hopper\"\ndevice scale modbus rtu \"/dev/ttyUSB3\" 9600 8N1 unit 2\ninput feed discrete\n  source scale coil 0\n")
	text, err := service.Unit(t.Context(), service.Config{Data: data, Listen: "127.0.0.1:8470"}, []string{"--quota", "2000"})
	require.NoError(t, err)
	assert.Contains(t, text, " serve --data "+data+" --listen 127.0.0.1:8470 --quota 2000\n")
	assert.Contains(t, text, "ReadWritePaths="+data+"\n")
	assert.Contains(t, text, "DeviceAllow=/dev/ttyUSB3 rw\nSupplementaryGroups=dialout\n")
	stop()
	_, err = service.Unit(t.Context(), service.Config{Data: "/srv/fish tank", Listen: "127.0.0.1:8470"}, nil)
	assert.ErrorContains(t, err, `"/srv/fish tank" holds a sign`)
	if _, err := exec.LookPath("systemd-analyze"); err == nil {
		file := filepath.Join(t.TempDir(), "rectura.service")
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		out, err := exec.Command("systemd-analyze", "verify", file).CombinedOutput()
		require.NoError(t, err, "%s", out)
		assert.Empty(t, string(out))
	}
}

// systemd hears that the service is ready, that its engines make their passes, and that it ends.
func TestNotify(t *testing.T) {
	socket := filepath.Join(t.TempDir(), "notify")
	l, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: socket, Net: "unixgram"})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, l.Close()) })
	t.Setenv("NOTIFY_SOCKET", socket)
	rack := onRack(t)
	_, api, _, stop := start(t, t.TempDir())
	hear := func(want string) {
		require.NoError(t, l.SetReadDeadline(time.Now().Add(10*time.Second)))
		for said := make([]byte, 100); ; {
			n, err := l.Read(said)
			require.NoError(t, err, "systemd does not hear %s", want)
			if string(said[:n]) == want {
				return
			}
		}
	}
	hear("READY=1")
	m := &mortal{t: t, api: api}
	m.push(strings.Replace(mortalJob, "%q", `"`+rack.Address()+`"`, 1))
	listening, err := api.ListenWithResponse(t.Context(), fennick, client.ListenRequest{})
	require.NoError(t, err)
	require.NotNil(t, listening.JSON200, "%s", listening.Body)
	hear("WATCHDOG=1")
	hear("WATCHDOG=1")
	stop()
	hear("STOPPING=1")
}

// /metrics counts the readings, the instants and the requests of a running job.
func TestMetrics(t *testing.T) {
	rack := onRack(t)
	url, api, _, _ := start(t, t.TempDir())
	m := &mortal{t: t, api: api}
	m.push(fmt.Sprintf(mortalJob, rack.Address()))
	m.arm()
	m.until("it drives", func(n *client.Now) bool { return !n.Status.Settling })
	scrape := func() map[string]float64 {
		a, err := http.Get(url + "/metrics")
		require.NoError(t, err)
		text, err := io.ReadAll(a.Body)
		require.NoError(t, errors.Join(err, a.Body.Close()))
		require.Equal(t, http.StatusOK, a.StatusCode, "%s", text)
		all := map[string]float64{}
		for line := range strings.Lines(string(text)) {
			if name, value, is := strings.Cut(strings.TrimSpace(line), "} "); is && !strings.HasPrefix(line, "#") {
				all[name+"}"], err = strconv.ParseFloat(value, 64)
				require.NoError(t, err)
			}
		}
		return all
	}
	before := scrape()
	assert.EqualValues(t, 1, before[`rectura_job_mode{job="hatchery",mode="armed"}`])
	assert.EqualValues(t, 1, before[`rectura_device_up{device="rack",job="hatchery"}`])
	assert.EqualValues(t, 1, before[`rectura_process_up{process="bench"}`])
	assert.Zero(t, before[`rectura_device_time_outs_total{device="rack",job="hatchery"}`])
	rack.Drop()
	rack.SetWords("holding", 0, 5)
	m.until("the blower runs", func(*client.Now) bool { return rack.Bit("coil", 0) })
	after := scrape()
	for _, name := range []string{"rectura_job_readings_total{job=\"hatchery\"}", "rectura_job_instants_total{job=\"hatchery\"}",
		"rectura_device_requests_total{device=\"rack\",job=\"hatchery\"}", "rectura_device_time_outs_total{device=\"rack\",job=\"hatchery\"}"} {
		assert.Greater(t, after[name], before[name], name)
	}
}
