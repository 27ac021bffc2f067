package sheet_test

import (
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
