package sheet_test

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/core/sheet"
)

// What the user's pages show as a job is one, without errors.
func TestJobsInTheDocs(t *testing.T) {
	for page, want := range map[string]int{"../../docs/language.md": 9, "../../README.md": 1} {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		jobs := 0
		for i, block := range strings.Split(string(text), "```\n") {
			if i%2 == 0 || !strings.HasPrefix(block, "job ") {
				continue
			}
			jobs++
			_, found := parse(block)
			assert.False(t, sheet.HasErrors(found), "%s: %v", page, found)
		}
		assert.Equal(t, want, jobs, page)
	}
}
