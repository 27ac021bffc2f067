//go:build e2e

package e2e

import (
	"os"
	"testing"

	"rectura/service/bench"
)

// TestMain lets the test's program be the bench, too: the service starts its own program as that.
func TestMain(m *testing.M) {
	if len(os.Args) == 2 && os.Args[1] == bench.Command {
		os.Exit(bench.Main(os.Stdin, os.Stderr))
	}
	os.Exit(m.Run())
}
