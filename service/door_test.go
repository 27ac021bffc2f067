package service

import (
	"context"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// One address that opens connections without end leaves room for others.
func TestDoor(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	d := newDoor(l)
	in := make(chan net.Conn)
	go func() {
		for {
			c, err := d.Accept()
			if err != nil {
				close(in)
				return
			}
			in <- c
		}
	}()
	dial := func(from string) net.Conn {
		c, err := (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}}).Dial("tcp", l.Addr().String())
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Close() })
		return c
	}
	var let []net.Conn
	for range mostOfAddress {
		dial("127.0.0.1")
		let = append(let, <-in)
	}
	_, err = dial("127.0.0.1").Read(make([]byte, 1))
	assert.Equal(t, io.EOF, err, "one too many is closed at once")
	dial("127.0.0.2")
	other := <-in
	require.NoError(t, let[0].Close())
	require.Error(t, let[0].Close(), "which makes room once")
	dial("127.0.0.1")
	let[0] = <-in
	for _, c := range let {
		require.NoError(t, c.Close())
	}
	require.NoError(t, other.Close())
	assert.Zero(t, d.total)
	assert.Empty(t, d.of)
	require.NoError(t, d.Close())
	_, open := <-in
	assert.False(t, open)
}

// A data folder is one process's, which the next one names; it is its owner's
// alone; and what is damaged is found without starting.
func TestDataFolder(t *testing.T) {
	data := filepath.Join(t.TempDir(), "data")
	require.NoError(t, os.Mkdir(data, 0o777))
	c := Config{Data: data, Listen: "127.0.0.1:0", Log: slog.New(slog.DiscardHandler)}
	s, err := Start(t.Context(), c)
	require.NoError(t, err)
	info, err := os.Stat(data)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), info.Mode().Perm())
	_, err = Start(t.Context(), c)
	require.ErrorIs(t, err, ErrLocked)
	assert.ErrorContains(t, err, "is held by process ")
	assert.ErrorContains(t, err, ", at "+s.URL()+"; end that, use it, or choose another folder with --data")
	_, err = Check(t.Context(), c)
	require.ErrorIs(t, err, ErrLocked)

	ctx, stop := context.WithCancel(t.Context())
	stop()
	require.NoError(t, s.Run(ctx))
	damaged, err := Check(t.Context(), c)
	require.NoError(t, err)
	assert.Empty(t, damaged)
	require.NoError(
		t,
		os.WriteFile(
			filepath.Join(data, "bench.db"),
			[]byte("this is no database at all, although it is long enough to be looked at as one"),
			0o600,
		),
	)
	_, err = Start(t.Context(), c)
	assert.ErrorContains(t, err, "the database's file is damaged: it is not as it was kept; restore a backup")
	require.NoError(t, os.Remove(filepath.Join(data, "bench.db")))
	s, err = Start(t.Context(), c)
	require.NoError(t, err, "what could not be started holds nothing")
	require.NoError(t, s.release())
}

// Many first starts at once do not trip over each other: one runs, the others are
// told of it.
func TestFirstStartsAtOnce(t *testing.T) {
	data := filepath.Join(t.TempDir(), "new")
	c := Config{Data: data, Listen: "127.0.0.1:0", Log: slog.New(slog.DiscardHandler)}
	type outcome struct {
		s   *Service
		err error
	}
	all := make(chan outcome)
	for range 8 {
		go func() {
			s, err := Start(context.Background(), c)
			all <- outcome{s, err}
		}()
	}
	started := 0
	var running *Service
	for range 8 {
		o := <-all
		if o.err == nil {
			started++
			running = o.s
			continue
		}
		require.ErrorIs(t, o.err, ErrLocked)
	}
	require.Equal(t, 1, started)
	require.NoError(t, running.release())
}

// A lock that is a link would be written elsewhere.
func TestLockIsNoLink(t *testing.T) {
	data, elsewhere := t.TempDir(), filepath.Join(t.TempDir(), "elsewhere")
	require.NoError(t, os.Symlink(elsewhere, filepath.Join(data, "lock")))
	_, err := Start(t.Context(), Config{Data: data, Listen: "127.0.0.1:0", Log: slog.New(slog.DiscardHandler)})
	require.ErrorContains(t, err, "lock is no regular file; remove it")
	assert.NoFileExists(t, elsewhere)
}
