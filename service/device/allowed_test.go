package device_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/service/device"
)

func TestAllowed(t *testing.T) {
	usual, err := device.ParseAllowed(nil)
	require.NoError(t, err)
	few, err := device.ParseAllowed([]string{"198.51.100.7", "203.0.113.0/24", "/dev/ttyS1", "0.0.0.0/0"})
	require.NoError(t, err)
	for _, c := range []struct {
		transport  string
		usual, few string // the place that is refused
	}{
		{"tcp 127.0.0.1:502", "", ""},
		{"tcp [::1]:502", "", "::1"},
		{"tcp 10.1.2.3:502", "", ""},
		{"tcp 172.31.9.9:502", "", ""},
		{"tcp 172.32.0.1:502", "172.32.0.1", ""},
		{"tcp 198.51.100.7:502", "198.51.100.7", ""},
		{"tcp 169.254.169.254:80", "169.254.169.254", "169.254.169.254"}, // a link-local address is refused by any list
		{"tcp [fe80::1]:502", "fe80::1", "fe80::1"},
		{"tcp [fd00::1]:502", "", "fd00::1"},
		{"tcp no.such.name:502", "", ""},
		{"serial /dev/ttyUSB0", "", "/dev/ttyUSB0"},
		{"serial /dev/ttyS1", "", ""},
		{"serial /DEV/TTYS1", "", ""}, // which is not plugged in
		{"serial /dev/sda", "/dev/sda", "/dev/sda"},
		{"serial /dev/tty/../sda", "/dev/tty/../sda", "/dev/tty/../sda"},
	} {
		assert.Equal(t, c.usual, usual.Refuses([]string{c.transport}), c.transport)
		assert.Equal(t, c.few, few.Refuses([]string{c.transport}), c.transport)
	}
	for _, wrong := range []string{"rack", "10.0.0.0/33", "/dev/[", ""} {
		_, err := device.ParseAllowed([]string{wrong})
		assert.Error(t, err, wrong)
	}
}
