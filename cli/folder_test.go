package cli

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Nothing outside of a job's folder is read by a link in it, and nothing that has no end.
func TestJobFolder(t *testing.T) {
	outside := filepath.Join(t.TempDir(), "secret.rct")
	require.NoError(t, os.WriteFile(outside, []byte("job \"secret\"\n"), 0o600))
	for name, make := range map[string]func(file string) error{
		"path escapes":           func(file string) error { return os.Symlink(outside, file) },
		"it is no regular file":  func(file string) error { return syscall.Mkfifo(file, 0o600) },
		"escapes from parent":    func(file string) error { return os.Symlink("/dev/zero", file) },
		"no such file or direct": func(file string) error { return os.Symlink("nowhere", file) },
	} {
		folder := t.TempDir()
		require.NoError(t, make(filepath.Join(folder, "a.rct")))
		_, err := readSheets(folder)
		assert.ErrorContains(t, err, name)
	}
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "b.rct"), []byte("job \"Pond\"\n"), 0o600))
	require.NoError(t, os.Symlink("b.rct", filepath.Join(folder, "a.rct")), "a link within the folder is followed")
	sources, err := readSheets(folder)
	require.NoError(t, err)
	assert.Len(t, sources, 2)
}

// An answer that has no end is given up.
func TestEndlessAnswer(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprint(w, `[{"name": "`)
		for r.Context().Err() == nil {
			if _, err := w.Write(make([]byte, 1<<20)); err != nil {
				return // the client has gone
			}
		}
	}))
	t.Cleanup(s.Close)
	out, code := run(t, "jobs", "--server", s.URL)
	assert.NotZero(t, code)
	assert.Contains(t, out, "the answer is larger than 256 MiB")
}
