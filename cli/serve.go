package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"

	"github.com/spf13/cobra"

	"rectura/console"
	"rectura/service"
)

type serveFlags struct {
	data, listen string
	upload       int64
}

func addServeFlags(c *cobra.Command, f *serveFlags, data string) {
	c.Flags().StringVar(&f.data, "data", "", "the `folder` that keeps revisions and recordings (default "+data+")")
	c.Flags().StringVar(&f.listen, "listen", service.DefaultListen, "the loopback `address` to listen on; port 0 takes a free one")
	c.Flags().Int64Var(&f.upload, "upload-limit", service.DefaultUploadLimit>>20, "the largest recording taken, in `MiB` of its file")
	before := c.PreRunE
	c.PreRunE = func(c *cobra.Command, args []string) error {
		if f.upload < 1 || f.upload > 1<<20 {
			return fmt.Errorf("--upload-limit %d: it is from 1 to 1048576 MiB", f.upload)
		}
		if before != nil {
			return before(c, args)
		}
		return nil
	}
}

func newServe() *cobra.Command {
	var f serveFlags
	c := &cobra.Command{
		Use:   "serve",
		Short: "Run the service and its console on this machine",
		Long: `Runs the service: it keeps jobs as numbered revisions, and recordings, and serves
the console and the API. It listens on loopback only.`,
		Example: "  rectura serve --data /var/lib/rectura --listen 127.0.0.1:8470",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if f.data == "" {
				folder, err := dataFolder()
				if err != nil {
					return err
				}
				f.data = folder
			}
			s, err := start(c, f)
			if err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "Rectura is at %s\n", s.URL())
			return s.Run(c.Context())
		},
	}
	addServeFlags(c, &f, "rectura in the user's data folder")
	return c
}

// dataFolder is where a user's data belongs (XDG base directory specification).
func dataFolder() (string, error) {
	if base := os.Getenv("XDG_DATA_HOME"); filepath.IsAbs(base) {
		return filepath.Join(base, "rectura"), nil
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "", fmt.Errorf("finding the user's data folder, say --data instead: %w", err)
	}
	return filepath.Join(home, ".local", "share", "rectura"), nil
}

// start starts the service; logs go to standard error, a line each.
func start(c *cobra.Command, f serveFlags) (*service.Service, error) {
	files, built := console.Files()
	if !built {
		fmt.Fprintln(c.ErrOrStderr(), "rectura: this program was built without the console; a page says how to build it")
	}
	// A signal lets the service end what it is doing; the next one ends it at
	// once. Other commands end at the first.
	ctx, stop := signal.NotifyContext(c.Context(), os.Interrupt, syscall.SIGTERM)
	context.AfterFunc(ctx, stop)
	c.SetContext(ctx)
	return service.Start(ctx, service.Config{Data: f.data, Listen: f.listen, UploadLimit: f.upload << 20, Version: fullVersion(), Console: files,
		Log: slog.New(slog.NewTextHandler(c.ErrOrStderr(), nil))})
}

// alongside runs the service while work uses it, and ends it with the context
// or when work fails.
func alongside(ctx context.Context, s *service.Service, work func(ctx context.Context) error) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	done := make(chan error, 1)
	go func() { done <- s.Run(ctx) }()
	if err := work(ctx); err != nil {
		stop()
		return errors.Join(err, <-done)
	}
	return <-done
}
