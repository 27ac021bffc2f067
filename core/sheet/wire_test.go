package sheet_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/core/sheet"
)

// What is written of devices and wires is laid out in one way, and as such read again.
func TestWiresAreCanonical(t *testing.T) {
	for written, want := range map[string]string{
		"device field modbus rtu \"/dev/ttyS1\" 19200 8E1 unit 3\n": "",
		"device rack modbus tcp \"a:502\" unit 1\n  alarm when lost priority critical\n  heartbeat coil 9 every 1s\n  byte order low first\n  word order low first\n  timeout 1 s\n  poll 500ms\n": "device rack modbus tcp \"a:502\" unit 1\n" +
			"  poll 500 ms\n  timeout 1 s\n  word order low first\n  byte order low first\n  heartbeat coil 9 every 1 s\n  alarm when lost priority critical\n",
		"input x\n  source rack holding 4 dint word order low first byte order high first\n  poll 5 s\n  unit mA\n": "",
		"input x discrete\n  source rack input 4 bit 15\n  poll 5 s\n":                                              "",
		"output o\n  refresh 10s\n  drives rack holding 4 bit 0\n  fail off\n":                                      "output o\n  drives rack holding 4 bit 0\n  refresh 10 s\n  fail off\n",
		"output o analog 0..100 %\n  service after 2000h\n  fail off\n":                                             "output o analog 0..100 %\n  fail off\n  service after 2000 h\n",
		"output o analog 0..100 %\n  drives rack holding 4 lreal\n  fail off\n":                                     "",
	} {
		if want == "" {
			want = written
		}
		f, found := sheet.ParseFile("a.rct", []byte(written))
		require.Empty(t, found, written)
		assert.Equal(t, want, f.String())
		again, found := sheet.ParseFile("a.rct", []byte(f.String()))
		require.Empty(t, found, f.String())
		assert.Equal(t, want, again.String())
	}
}

// A job watches its plant: rules may ask for a device as for a signal, each device and each wired output has an alarm
// that nobody wrote, and a device's has the highest priority that it stands for.
func TestWatched(t *testing.T) {
	text := "job \"x\"\ndevice rack modbus tcp \"a:502\" unit 1\ninput x\n  source rack holding 0\n  unit mg/L\n  alarm when bad priority critical\n" +
		"output o\n  drives rack coil 0\n  fail off\n  service after 2000 h\noutput q\n  fail off\n" +
		"rule r\n  on when rack is bad or rack.lost or o.mismatch\n  call o, q\n"
	job, found := sheet.Parse([]sheet.Source{{Name: "a.rct", Text: []byte(text)}})
	require.False(t, sheet.HasErrors(found), "%v", found)
	var watched, alarms []string
	for _, in := range job.Watched {
		watched = append(watched, in.Name)
	}
	for _, a := range job.Alarms {
		alarms = append(alarms, a.Name+" "+a.Priority.Word)
	}
	assert.Equal(t, []string{"rack", "o.readback", "o.inhand", "o.hours", "service.running", "service.locks", "service.records"}, watched)
	assert.Equal(
		t,
		[]string{"x.bad critical", "rack.lost critical", "o.mismatch high", "o.hand high", "o.service low", "service.restarts high", "service.unlocked high",
			"service.damaged high"},
		alarms,
	)
	renamed, err := sheet.Rename([]sheet.Source{{Name: "a.rct", Text: []byte(text)}}, "rack", "panel")
	require.NoError(t, err)
	assert.Equal(t, 5, strings.Count(string(renamed[0].Text), "panel"), "%s", renamed[0].Text)
	assert.NotContains(t, string(renamed[0].Text), "rack")
}
