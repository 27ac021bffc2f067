package service

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
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"time"

	"rectura/service/api"
	"rectura/service/api/transport"
	"rectura/service/background"
	"rectura/service/bench"
)

// How control watches the bench.
const (
	looksEvery = 100 * time.Millisecond // at its size, and whether it answers

	mostRest  = 5 * time.Second  // before it is started once more
	lastsLong = 10 * time.Second // one that ran for longer is started again at once
	benchEnds = 3 * time.Second  // that it has to end by itself
)

// A bench that is silent for longer hangs, and one that is larger than its limit by more than the collector needs to work has too
// much to do: either is ended. Tests have less patience.
var (
	mostSilence = 15 * time.Second
	oversize    = 1.25
)

// A benchProcess is the bench as control has it: it is started, watched, bounded, ended, and started again. It is an
// http.RoundTripper that reaches the bench, and whose errors are sentences.
type benchProcess struct {
	log    *slog.Logger
	setup  func(context.Context) (bench.Setup, error)
	memory int64
	socket string
	remove string // a folder of the socket alone
	http   *http.Transport

	first   chan struct{} // closed once it has answered, or ended, for the first time
	settled sync.Once

	mu      sync.Mutex
	state   api.Process
	changed chan struct{} // closed at each change of state
}

// newBenchProcess returns one that is not started yet. Its socket is in the data folder, unless the path is too long for one.
func newBenchProcess(data string, memory int64, log *slog.Logger, setup func(context.Context) (bench.Setup, error)) (*benchProcess, error) {
	b := &benchProcess{log: log, setup: setup, memory: memory, socket: filepath.Join(data, "bench.sock"), first: make(chan struct{}),
		changed: make(chan struct{}), state: api.Process{Name: api.ProcessNameBench, State: api.Starting, Since: time.Now()}}
	const longest = 100 // bytes of a socket's path, of which systems have at least 104
	if path, err := filepath.Abs(b.socket); err != nil || len(path) > longest {
		folder, err := os.MkdirTemp("", "rectura-")
		if err != nil {
			return nil, fmt.Errorf("making a folder for the bench's socket: %w", err)
		}
		b.remove, b.socket = folder, filepath.Join(folder, "bench.sock")
	}
	b.http = &http.Transport{DisableCompression: true, MaxIdleConnsPerHost: 64, IdleConnTimeout: 5 * time.Second,
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "unix", b.socket)
		}}
	return b, nil
}

// run starts the bench, and starts it again whenever it has ended, until ctx ends.
func (b *benchProcess) run(ctx context.Context) {
	runtime.LockOSThread() // the bench is ended with the thread that has started it
	defer runtime.UnlockOSThread()
	rest := time.Duration(0)
	for ctx.Err() == nil {
		began := time.Now()
		why := b.once(ctx)
		if ctx.Err() != nil {
			break
		}
		b.log.Error("the bench ended, and is started again", slog.String("because", why))
		b.become(api.Ended, why)
		b.http.CloseIdleConnections()
		if rest = min(max(2*rest, looksEvery), mostRest); time.Since(began) > lastsLong {
			rest = looksEvery
		}
		select {
		case <-ctx.Done():
		case <-time.After(rest):
		}
	}
	b.http.CloseIdleConnections()
	if b.remove != "" {
		if err := os.RemoveAll(b.remove); err != nil {
			b.log.Warn("the folder of the bench's socket stays", slog.Any("error", err))
		}
	}
}

// once runs the bench until it ends, or ctx does, and returns why it ended.
func (b *benchProcess) once(ctx context.Context) (why string) {
	s, err := b.setup(ctx)
	if err != nil {
		return err.Error()
	}
	said, err := json.Marshal(s)
	if err != nil {
		return err.Error()
	}
	c, err := itself(bench.Command)
	if err != nil {
		return err.Error()
	}
	in, err := c.StdinPipe()
	if err != nil {
		return err.Error()
	}
	log, err := c.StderrPipe()
	if err != nil {
		return err.Error()
	}
	if err := c.Start(); err != nil {
		return err.Error()
	}
	ends := make(chan struct{})
	w := &benchWatch{b: b, process: c.Process, ends: ends}
	var besides background.Group
	failed := func(err error) { b.log.Error("the bench is not watched", slog.Any("error", err)); w.kill(err.Error()) }
	besides.Go(b.log, "watching the bench", func() error { w.run(ctx, in); return nil }, failed)
	if _, err := in.Write(append(said, '\n')); err != nil {
		b.log.Warn("the bench was not told its setup", slog.Any("error", err))
	}
	last := b.take(log)
	err = c.Wait()
	close(ends)
	besides.Wait()
	return w.reason(last, err)
}

// take takes the log of the bench into the service's, until the bench has ended. It returns why, if that was the last it said.
func (b *benchProcess) take(log io.Reader) (last string) {
	lines := bufio.NewScanner(log)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		var r map[string]any
		if err := json.Unmarshal(lines.Bytes(), &r); err != nil {
			b.log.Error("the bench says", slog.String("line", lines.Text())) // a panic's stack, for example
			continue
		}
		var level slog.Level
		text, _ := r["level"].(string)
		if err := level.UnmarshalText([]byte(text)); err != nil {
			level = slog.LevelWarn
		}
		message, _ := r["msg"].(string)
		if message == bench.Failed {
			last, _ = r["error"].(string)
		}
		about := []slog.Attr{slog.String("process", "bench")}
		for name, v := range r {
			if name != "time" && name != "level" && name != "msg" {
				about = append(about, slog.Any(name, v))
			}
		}
		b.log.LogAttrs(context.Background(), level, message, about...)
	}
	if err := lines.Err(); err != nil {
		b.log.Warn("the bench's log was not read on", slog.Any("error", err))
		_, _ = io.Copy(io.Discard, log) // so that the bench does not wait for a reader; there is nobody to tell of its end
	}
	return last
}

// become notes a state, and why the bench ended.
func (b *benchProcess) become(state api.ProcessState, because string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if state == api.Ended {
		b.state.Ends++
		b.state.Pid, b.state.MemoryBytes = 0, 0
	}
	b.state.State, b.state.Since = state, time.Now()
	if because != "" {
		b.state.Because = because
	}
	close(b.changed)
	b.changed = make(chan struct{})
	if state != api.Starting {
		b.settled.Do(func() { close(b.first) })
	}
}

// most returns the size, in bytes, beyond which the bench is ended.
func (b *benchProcess) most() int64 { return int64(oversize * float64(b.memory)) }

// now returns the state, and what is closed when it changes.
func (b *benchProcess) now() (api.Process, <-chan struct{}) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.state, b.changed
}

// RoundTrip has the bench answer a request. Where the bench is not there, the error says so at once; only at the start of the service,
// requests wait for it.
func (b *benchProcess) RoundTrip(r *http.Request) (*http.Response, error) {
	select {
	case <-b.first:
	case <-r.Context().Done():
		return nil, r.Context().Err()
	}
	switch p, _ := b.now(); p.State {
	case api.Runs:
	case api.Silent:
		return nil, transport.Refuse(http.StatusServiceUnavailable, "The bench does not answer just now. What runs goes on. Ask again in a while.")
	default:
		return nil, absent(p.Because)
	}
	a, err := b.http.RoundTrip(r)
	if err == nil || r.Context().Err() != nil || transport.ProblemOf(err).Status != http.StatusInternalServerError {
		return a, err // or the request is at fault
	}
	return nil, b.ended(r.Context())
}

// ended returns why a request that the bench had has no answer.
func (b *benchProcess) ended(ctx context.Context) error {
	patience := time.After(time.Second) // until it is known why
	for {
		p, changed := b.now()
		if p.State == api.Ended {
			return absent(p.Because)
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return ctx.Err()
		case <-patience:
			return absent("it closed the connection")
		}
	}
}

func absent(because string) error {
	return transport.Refuse(http.StatusServiceUnavailable, "The bench ended: "+because+"; it is being started again. What runs goes on. Ask again in a while.")
}

// A benchWatch looks after one run of the bench.
type benchWatch struct {
	b       *benchProcess
	process *os.Process
	ends    chan struct{} // closed when it has ended

	mu     sync.Mutex
	killed string // why
}

// run looks at the bench until it has ended. Once ctx ends, the bench is told to end; if it does not, it is killed.
func (w *benchWatch) run(ctx context.Context, in io.Closer) {
	t := time.NewTicker(looksEvery)
	defer t.Stop()
	answers, silent, asked := make(chan bool, 1), time.Duration(0), false
	for {
		select {
		case <-w.ends:
			return
		case <-ctx.Done():
			w.end(in)
			return
		case is := <-answers:
			if asked = false; is {
				silent = 0
				w.answered()
			}
		case <-t.C:
			if !asked {
				asked = true
				background.Go(w.b.log, "asking the bench whether it is there", func() error { answers <- w.b.alive(ctx); return nil })
			}
			// Of ticks, not of elapsed time: a whole service that slept does not take the bench for one that hangs.
			silent += looksEvery
			if p, _ := w.b.now(); silent > mostSilence/3 && p.State == api.Runs {
				w.b.become(api.Silent, "")
			}
			if silent > mostSilence {
				w.kill(fmt.Sprintf("it did not answer for %s", mostSilence))
			}
			w.look()
		}
	}
}

// answered notes that the bench is there.
func (w *benchWatch) answered() {
	if p, _ := w.b.now(); p.State != api.Runs {
		w.b.mu.Lock()
		w.b.state.Pid = w.process.Pid
		w.b.mu.Unlock()
		w.b.become(api.Runs, "")
	}
}

// look ends a bench that is too large.
func (w *benchWatch) look() {
	bytes, err := sizeOf(w.process.Pid)
	if err != nil {
		return // it has ended just now, or the system does not say
	}
	w.b.mu.Lock()
	w.b.state.MemoryBytes = bytes
	w.b.mu.Unlock()
	if most := w.b.most(); bytes > most {
		w.kill(fmt.Sprintf("out of memory: it took %d MiB, and may take %d", bytes>>20, most>>20))
	}
}

func (w *benchWatch) kill(why string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.killed != "" {
		return
	}
	w.killed = why
	if err := w.process.Kill(); err != nil && !errors.Is(err, os.ErrProcessDone) {
		w.b.log.Error("the bench is not ended", slog.Any("error", err))
	}
}

// end lets the bench end by itself, for a while.
func (w *benchWatch) end(in io.Closer) {
	if err := in.Close(); err != nil {
		w.b.log.Warn("the bench was not told to end", slog.Any("error", err))
	}
	select {
	case <-w.ends:
	case <-time.After(benchEnds):
		w.kill("it did not end with the service")
	}
}

// reason returns why the bench ended: why it was killed, what it said last, or how.
func (w *benchWatch) reason(last string, err error) string {
	w.mu.Lock()
	defer w.mu.Unlock()
	var exit *exec.ExitError
	switch {
	case w.killed != "":
		return w.killed
	case last != "":
		return last
	case errors.As(err, &exit):
		return "its process ended with " + exit.String()
	case err != nil:
		return err.Error()
	}
	return "it ended by itself"
}

// alive asks the bench whether it answers.
func (b *benchProcess) alive(ctx context.Context) bool {
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://bench/inside/alive", nil)
	if err != nil {
		return false
	}
	a, err := b.http.RoundTrip(r)
	if err != nil {
		return false
	}
	return errors.Join(a.Body.Close()) == nil && a.StatusCode == http.StatusNoContent
}

// sizeOf returns the memory of a process that is in use, in bytes (proc_pid_statm(5)).
func sizeOf(pid int) (int64, error) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", pid))
	if err != nil {
		return 0, err
	}
	fields := strings.Fields(string(text))
	if len(fields) < 2 {
		return 0, fmt.Errorf("/proc/%d/statm has %d fields", pid, len(fields))
	}
	pages, err := strconv.ParseInt(fields[1], 10, 64)
	return pages * int64(os.Getpagesize()), err
}
