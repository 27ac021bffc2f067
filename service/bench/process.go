// Package bench is the second process of the service: the bench of bench.db, and the records of what ran. Control starts it, and tells
// it what it needs on its standard input, which stays open for as long as control lives. It reaches no device.
package bench

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime/debug"
	"time"

	"rectura/service/api/bench"
	"rectura/service/background"
	"rectura/service/store"
)

// Setup configures the bench. Control sends it as one line of JSON.
type Setup struct {
	Data        string        // the folder of bench.db and plant.db
	Socket      string        // where it listens
	UploadLimit int64         // the largest recording taken, in bytes of its file
	WorkLimit   time.Duration // of one computation
	Memory      int64         // bytes that the process is to stay below
	Quota       int64         // bytes that bench.db may take; 0 for as many as the disk has
	Above       int64         // jobs are numbered above this: the plant has records up to it
}

// Command is the argument by which a program of ours is asked to be the bench.
const Command = "bench-process"

// Failed is the message of the last line of the log of a bench that cannot go on. Its attribute error says why.
const Failed = "the bench cannot go on"

// closing bounds the time in which requests under way may end.
const closing = 2 * time.Second

// Main is the bench. It returns the exit code once control has closed in. The log is a line of JSON a record, which control takes into
// its own.
func Main(in io.Reader, log io.Writer) int {
	l := slog.New(slog.NewJSONHandler(log, nil))
	if err := background.Do(l, "running the bench", func() error { return run(in, l) }); err != nil {
		l.Error(Failed, slog.Any("error", err))
		return 1
	}
	return 0
}

func run(in io.Reader, log *slog.Logger) error {
	lines := bufio.NewReader(in)
	line, err := lines.ReadBytes('\n')
	if err != nil {
		return fmt.Errorf("reading what control says: %w", err)
	}
	var s Setup
	if err := json.Unmarshal(line, &s); err != nil {
		return fmt.Errorf("reading what control says: %w", err)
	}
	yield(log)
	debug.SetMemoryLimit(s.Memory) // towards which the collector works harder
	ctx, end := context.WithCancel(context.Background())
	defer end()
	background.Go(log, "waiting for control to end", func() error {
		defer end()
		_, err := io.Copy(io.Discard, lines)
		return err
	})
	return serve(ctx, s, log)
}

// serve answers until ctx ends.
func serve(ctx context.Context, s Setup, log *slog.Logger) (err error) {
	st, err := store.Open(ctx, filepath.Join(s.Data, "bench.db"), store.Options{Log: log, Quota: s.Quota})
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, st.Close()) }()
	if err := st.NumberAbove(ctx, s.Above); err != nil {
		return err
	}
	records, err := store.OpenRecords(filepath.Join(s.Data, "plant.db"), log)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, records.Close()) }()
	var besides background.Group
	defer besides.Wait()
	watching, stop := context.WithCancel(ctx)
	defer stop()
	damages := &store.Damages{}
	besides.Go(log, "looking for damage", func() error { damages.Watch(watching, log, st.Verify); return nil })
	handler, err := bench.New(bench.Config{Store: st, Records: records, Log: log, UploadLimit: s.UploadLimit, Now: time.Now, Memory: s.Memory,
		WorkLimit: s.WorkLimit, Closing: ctx, Damaged: damages.List})
	if err != nil {
		return err
	}
	l, err := listen(ctx, s.Socket)
	if err != nil {
		return err
	}
	return answer(ctx, &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second, ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelWarn)}, l, log)
}

// answer serves until ctx ends, and lets requests under way end.
func answer(ctx context.Context, server *http.Server, l net.Listener, log *slog.Logger) error {
	served := make(chan error, 1)
	background.Go(log, "serving", func() error { served <- server.Serve(l); return nil }, func(err error) { served <- err })
	select {
	case err := <-served:
		return fmt.Errorf("serving: %w", err)
	case <-ctx.Done():
	}
	limit, cancel := context.WithTimeout(context.WithoutCancel(ctx), closing)
	defer cancel()
	err := server.Shutdown(limit)
	if errors.Is(err, context.DeadlineExceeded) {
		err = server.Close()
	}
	if e := <-served; !errors.Is(e, http.ErrServerClosed) {
		err = errors.Join(err, e)
	}
	return err
}

// listen opens the socket, for the owner alone, in place of one that an ended bench has left.
func listen(ctx context.Context, socket string) (net.Listener, error) {
	if err := os.Remove(socket); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("removing the bench's socket: %w", err)
	}
	l, err := (&net.ListenConfig{}).Listen(ctx, "unix", socket)
	if err != nil {
		return nil, fmt.Errorf("opening the bench's socket: %w", err)
	}
	if err := os.Chmod(socket, 0o600); err != nil {
		return nil, errors.Join(fmt.Errorf("keeping the bench's socket for its owner: %w", err), l.Close())
	}
	return l, nil
}
