package service_test

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The packages keep apart what the two processes keep apart.
func TestArrows(t *testing.T) {
	for _, c := range []struct{ from, never string }{
		{"rectura/service/api/transport", "rectura/service/live"},
		{"rectura/service/api/transport", "rectura/service/device"},
		{"rectura/service/api/live", "rectura/core/bench"},
		{"rectura/service/api/live", "rectura/core/recording/format"},
		{"rectura/service/api/live", "rectura/service/api/bench"},
		{"rectura/service/api/bench", "rectura/service/api/live"},
		{"rectura/service/bench", "rectura/service/live"},
		{"rectura/service/bench", "rectura/service/device"},
		{"rectura/service/store", "rectura/service/live"},
		{"rectura/core/...", "rectura/service"},
	} {
		out, err := exec.Command("go", "list", "-deps", c.from).CombinedOutput()
		require.NoError(t, err, "%s", out)
		for used := range strings.FieldsSeq(string(out)) {
			assert.False(t, used == c.never || strings.HasPrefix(used, c.never+"/"), "%s uses %s", c.from, used)
		}
	}
}
