package main

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/core/sheet"
	"rectura/examples/hatchery"
)

// The recordings that are kept are the ones that this program writes.
func TestRecordingsAreMade(t *testing.T) {
	folder := t.TempDir()
	for _, s := range stories {
		require.NoError(t, write(folder, s))
		made, err := os.ReadFile(filepath.Join(folder, s.name))
		require.NoError(t, err)
		kept, err := hatchery.Files.ReadFile("recordings/" + s.name)
		require.NoError(t, err)
		assert.True(t, string(made) == string(kept), "%s differs from what make writes; run go generate ./examples/hatchery", s.name)
	}
}

func TestJobHasNoFindings(t *testing.T) {
	sources, err := sheet.ReadSources(hatchery.Files)
	require.NoError(t, err)
	_, found := sheet.Parse(sources)
	assert.Empty(t, found)
}

// Saturation is that of the published tables, to 0.1 mg/L.
func TestSaturation(t *testing.T) {
	for celsius, want := range map[float64]float64{0: 14.62, 10: 11.29, 20: 9.09} {
		assert.InDelta(t, want, saturation(celsius), 0.1)
	}
}
