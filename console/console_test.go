package console

import (
	"compress/gzip"
	"io"
	"io/fs"
	"path"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is packed beside a file is that file.
func TestPackedFiles(t *testing.T) {
	files, built := Files()
	if !built {
		t.Skip("the console is not built; run make build")
	}
	packed := 0
	require.NoError(t, fs.WalkDir(files, ".", func(name string, _ fs.DirEntry, err error) error {
		if err != nil || path.Ext(name) != ".gz" {
			return err
		}
		plain, err := fs.ReadFile(files, strings.TrimSuffix(name, ".gz"))
		require.NoError(t, err)
		f, err := files.Open(name)
		require.NoError(t, err)
		unpacker, err := gzip.NewReader(f)
		require.NoError(t, err)
		unpacked, err := io.ReadAll(unpacker)
		require.NoError(t, err)
		require.NoError(t, f.Close())
		assert.Equal(t, string(plain), string(unpacked), name)
		packed++
		return nil
	}))
	assert.Positive(t, packed)
}
