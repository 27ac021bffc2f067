//go:build linux

package service_test

import (
	"bytes"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/client"
	"rectura/service/device/simulated"
)

// The disk is full: the plant is run on, what switches off is done, what would be lost is refused, and all is kept once
// there is room.
func TestFullDisk(t *testing.T) {
	data := t.TempDir()
	if err := syscall.Mount("tmpfs", data, "tmpfs", 0, "size=160m"); err != nil {
		t.Skipf("a small disk cannot be made here: %v", err)
	}
	t.Cleanup(func() { assert.NoError(t, syscall.Unmount(data, syscall.MNT_DETACH)) })
	rack, err := simulated.Start()
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, rack.Close()) })
	rack.SetWords("holding", 0, 25)
	rack.SetBit("discrete", 0, true)
	_, api, _, stop := start(t, data)
	pushed, err := api.PushRevisionWithResponse(
		t.Context(),
		fennick,
		client.NewRevision{Sheets: []client.Sheet{{Name: "a.rct", Text: fmt.Sprintf(mortalJob, rack.Address())}}},
	)
	require.NoError(t, err)
	require.Equal(t, http.StatusCreated, pushed.StatusCode(), "%s", pushed.Body)
	m := &mortal{t: t, api: api}
	m.arm()
	m.until("the lamp burns", func(*client.Now) bool { return rack.Bit("coil", 3) })

	filler := filepath.Join(data, "filler")
	f, err := os.Create(filler)
	require.NoError(t, err)
	for size := 1 << 22; size > 0; size /= 2 { // to the last byte
		for err == nil {
			_, err = f.Write(bytes.Repeat([]byte{1}, size))
		}
		err = nil
	}
	require.NoError(t, f.Close())
	off := func() *client.CommandAnswer { return m.command("off", "beacon", "", "") }
	require.Eventually(t, func() bool { return !off().Kept }, 20*time.Second, 10*time.Millisecond, "done, not kept")
	assert.Equal(t, "off", off().State)
	value := "7 mg/L"
	set, err := api.CommandWithResponse(
		t.Context(),
		fennick,
		client.CommandRequest{Do: client.CommandRequestDoSet, Name: "low", Value: &value},
	)
	require.NoError(t, err)
	require.Equal(t, http.StatusConflict, set.StatusCode(), "%s", set.Body)
	assert.Contains(t, string(set.Body), "so that set would be lost at a restart")
	assert.NotNil(t, m.now().Status.NotKeptSince)
	rack.SetWords("holding", 0, 5)
	m.until("rules go on", func(*client.Now) bool { return rack.Bit("coil", 0) })

	require.NoError(t, os.Remove(filler))
	m.until("it is kept again", func(n *client.Now) bool { return n.Status.NotKeptSince == nil })
	assert.True(t, m.command("set", "low", value, "").Kept)
	m.check(0)
	stop()
}
