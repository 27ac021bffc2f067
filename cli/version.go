package cli

import (
	"fmt"
	"runtime"
	"runtime/debug"

	"github.com/spf13/cobra"

	"rectura/console"
)

// version is that of the last release; a build from a checkout adds its commit.
const version = "0.1.0"

func newVersion() *cobra.Command {
	return &cobra.Command{
		Use:     "version",
		Short:   "Say what program this is",
		Example: "  rectura version",
		RunE: func(c *cobra.Command, _ []string) error {
			with := "with the console"
			if _, built := console.Files(); !built {
				with = "without the console; build it with: make build"
			}
			fmt.Fprintf(c.OutOrStdout(), "rectura %s, %s, %s/%s, %s\n", fullVersion(), runtime.Version(), runtime.GOOS, runtime.GOARCH, with)
			return nil
		},
	}
}

func fullVersion() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return version
	}
	for _, s := range info.Settings {
		if s.Key == "vcs.revision" && len(s.Value) >= 12 {
			return version + "+" + s.Value[:12]
		}
	}
	return version
}
