package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"rectura/console"
	"rectura/core/unit"
	"rectura/service"
	"rectura/service/bench"
)

type serveFlags struct {
	data, listen          string
	upload, memory, quota int64
	work                  string
	onExit                string
	devices               []string
}

// leastMemory is the least memory in which the bench can work, in MiB.
const leastMemory = 128

// config is how the service is run, by the flags.
func (f *serveFlags) config() (c service.Config, err error) {
	const mib = 1 << 20
	for name, v := range map[string]int64{"upload-limit": f.upload, "bench-memory": f.memory, "quota": f.quota} {
		if v < 0 || v > 1<<20 || v == 0 && name == "upload-limit" {
			return c, fmt.Errorf("--%s %d: it is from 1 to 1048576 MiB", name, v)
		}
	}
	if f.memory > 0 && f.memory < leastMemory {
		return c, fmt.Errorf("--bench-memory %d: the bench needs %d MiB at the least", f.memory, leastMemory)
	}
	c = service.Config{
		Data:        f.data,
		Listen:      f.listen,
		UploadLimit: f.upload * mib,
		Memory:      f.memory * mib,
		Quota:       f.quota * mib,
		Version:     fullVersion(),
	}
	if f.onExit != "" && f.onExit != "hold" && f.onExit != "fail" {
		return c, fmt.Errorf("--on-exit %s: it is hold or fail", f.onExit)
	}
	c.OnExit, c.Devices = f.onExit, f.devices
	if f.work != "" {
		ns, err := unit.ParseDuration(f.work)
		if err != nil {
			return c, fmt.Errorf("--work-limit: %w", err)
		}
		c.WorkLimit = time.Duration(ns)
	}
	return c, nil
}

func addServeFlags(c *cobra.Command, f *serveFlags, data string) {
	c.Flags().StringVar(&f.data, "data", "", "the `folder` that keeps revisions and recordings (default "+data+")")
	c.Flags().StringVar(&f.listen, "listen", service.DefaultListen, "the loopback `address` to listen on; port 0 takes a free one")
	c.Flags().Int64Var(&f.upload, "upload-limit", service.DefaultUploadLimit>>20, "the largest recording taken, in `MiB` of its file")
	c.Flags().Int64Var(&f.memory, "bench-memory", 0, "the memory that the bench may take, in `MiB` (default half of the machine's)")
	c.Flags().Int64Var(&f.quota, "quota", 0, "how large the store may become, in `MiB` (default as large as the disk allows)")
	c.Flags().StringVar(
		&f.work,
		"work-limit",
		unit.FormatDuration(int64(service.DefaultWorkLimit)),
		"for how long one `computation` may go on",
	)
}

func newServe() *cobra.Command {
	var f serveFlags
	var check, unit bool
	c := &cobra.Command{
		Use:   "serve",
		Short: "Run the service and its console on this machine",
		Long: `Runs the service: it keeps jobs as numbered revisions, and recordings, and serves
the console and the API. It listens on loopback only. With --check it goes through
all that the folder holds, says what is damaged, and ends. With --unit it prints a
unit of systemd that runs it with the other options, and ends.`,
		Example: "  rectura serve --data /var/lib/rectura --listen 127.0.0.1:8470\n  rectura serve --data /var/lib/rectura --check",
		RunE: func(c *cobra.Command, _ []string) error {
			if f.data == "" {
				folder, err := dataFolder()
				if err != nil {
					return err
				}
				f.data = folder
			}
			switch {
			case check:
				return checkKept(c, f)
			case unit:
				return printUnit(c, f)
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
	c.Flags().
		StringVar(&f.onExit, "on-exit", "hold", "`what` armed outputs do when the service ends: hold, or fail for their fail states")
	c.Flags().StringArrayVar(&f.devices, "device", nil, "a `place` where jobs may have devices: an IP address, a range such as 10.0.0.0/8, or a serial\nline such as /dev/ttyUSB0; given several times, all of them (default this machine,\nprivate networks, /dev/tty* and /dev/serial/*)")
	c.Flags().BoolVar(&unit, "unit", false, "print a unit of systemd, and end")
	c.Flags().BoolVar(&check, "check", false, "say what of the data is damaged, and end")
	return c
}

// printUnit prints a unit that runs the service with the options that were given.
func printUnit(c *cobra.Command, f serveFlags) error {
	config, err := f.config()
	if err != nil {
		return err
	}
	var arguments []string
	c.Flags().Visit(func(x *pflag.Flag) {
		switch values, several := x.Value.(pflag.SliceValue); {
		case x.Name == "data" || x.Name == "listen" || x.Name == "unit":
		case several:
			for _, v := range values.GetSlice() {
				arguments = append(arguments, "--"+x.Name, v)
			}
		default:
			arguments = append(arguments, "--"+x.Name, x.Value.String())
		}
	})
	text, err := service.Unit(c.Context(), config, arguments)
	if err != nil {
		return err
	}
	_, err = io.WriteString(c.OutOrStdout(), text)
	return err
}

// newBench is the bench, as the service itself starts it.
func newBench() *cobra.Command {
	return &cobra.Command{
		Use:    bench.Command,
		Short:  "The bench of a service, which starts it by itself",
		Hidden: true,
		Args:   cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if bench.Main(c.InOrStdin(), c.ErrOrStderr()) != 0 {
				return errNo // it is in the log already
			}
			return nil
		},
	}
}

// checkKept goes through a data folder; the exit code is 1 if something in it is
// damaged.
func checkKept(c *cobra.Command, f serveFlags) error {
	config, err := f.config()
	if err != nil {
		return err
	}
	config.Log = slog.New(slog.NewTextHandler(c.ErrOrStderr(), nil))
	damaged, err := service.Check(c.Context(), config)
	if err != nil {
		return err
	}
	for _, d := range damaged {
		fmt.Fprintf(c.OutOrStdout(), "damaged: %v\n", d)
	}
	if len(damaged) > 0 {
		return errNo
	}
	fmt.Fprintln(c.OutOrStdout(), "Everything is as it was kept.")
	return nil
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
	config, err := f.config()
	if err != nil {
		return nil, err
	}
	config.Console, config.Log = files, slog.New(slog.NewTextHandler(c.ErrOrStderr(), nil))
	return service.Start(ctx, config)
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
