package cli

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/examples/patterns"
)

// Every pattern gives a folder in which everything works at once, and in which
// nothing is found.
func TestPatterns(t *testing.T) {
	all, err := patterns.All()
	require.NoError(t, err)
	dirs, err := os.ReadDir("../examples/patterns")
	require.NoError(t, err)
	assert.Len(t, all, len(dirs)-1, "all folders beside patterns.go are listed")
	t.Chdir(t.TempDir())
	for _, p := range all {
		t.Run(p.Name, func(t *testing.T) {
			run := func(args ...string) string {
				var out, errs bytes.Buffer
				require.Zero(t, Run(t.Context(), args, &out, &errs), "%v\n%s%s", args, &out, &errs)
				assert.Empty(t, errs.String(), "%v", args)
				return out.String()
			}
			assert.Contains(t, run("new", p.Name, "--pattern", p.Name), p.Title)
			assert.Contains(t, run("check", p.Name), "0 errors, 0 warnings")
			assert.NotContains(t, run("trial", p.Name), "FAILED")
			assert.Empty(t, run("fmt", p.Name, "--diff"))
			recordings, err := filepath.Glob(p.Name + "/recordings/*.csv")
			require.NoError(t, err)
			require.Len(t, recordings, 1)
			assert.NotContains(t, run("replay", p.Name, recordings[0]), "Nothing changed")
		})
	}
	for want, args := range map[string][]string{
		"rectura: loop is not empty, and nothing is written over; name another folder\n": {"new", "loop"},
		"rectura: no pattern is named \"lop\"; there are start-stop, ":                   {"new", "other", "--pattern", "lop"},
		"rectura: name one folder, or ask for the list of patterns with --list\n":        {"new"},
	} {
		var out, errs bytes.Buffer
		assert.Equal(t, 2, Run(t.Context(), args, &out, &errs))
		assert.Contains(t, errs.String(), want)
	}
	assert.NoDirExists(t, "other")
}
