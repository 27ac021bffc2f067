// Package service is the long-running part. It is two processes of one program: control runs plants, and answers; the bench, which
// control starts and watches, plays and keeps everything else.
package service

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"math"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"github.com/KimMachineGun/automemlimit/memlimit"
	"github.com/coreos/go-systemd/v22/daemon"

	"rectura/service/api"
	apilive "rectura/service/api/live"
	"rectura/service/background"
	"rectura/service/bench"
	"rectura/service/device"
	"rectura/service/live"
	"rectura/service/store"
)

// DefaultListen is where the service listens unless told otherwise.
const DefaultListen = "127.0.0.1:8470"

// DefaultUploadLimit is the largest recording file taken, in bytes.
const DefaultUploadLimit = 512 << 20

// DefaultWorkLimit is for how long one computation goes on at the most.
const DefaultWorkLimit = 2 * time.Minute

// How long the service may take to end: whoever supervises it kills it in the end, and then nothing more is kept.
const (
	closing = 2 * time.Second // of requests under way
	leaving = 3 * time.Second // until outputs are at their fail states, if they are to be; meanwhile requests end
)

// firstBench is for how long the start of the service waits for the bench. What runs is running by then.
const firstBench = 10 * time.Second

// Config is how a service is run. Zero values stand for the defaults.
type Config struct {
	Data        string        // the folder that holds the store; it is made if it is missing
	Listen      string        // a loopback address with its port; port 0 takes a free one
	UploadLimit int64         // DefaultUploadLimit
	WorkLimit   time.Duration // DefaultWorkLimit
	Memory      int64         // bytes that the bench is to stay below; half of what the machine, or its container, has
	Quota       int64         // bytes that the store may take; as many as the disk has
	Version     string
	Console     fs.FS
	Log         *slog.Logger
	Devices     []string // where jobs may have devices: addresses, ranges, patterns of serial lines; device.DefaultAllowed
	OnExit      string   // hold leaves armed outputs as they are when the service ends; fail writes their fail states; empty is hold
}

// A Service listens from Start until its Run has ended.
type Service struct {
	plant    *store.Plant
	bench    *benchProcess
	benched  background.Group // waits for the bench to end
	jobs     *live.Jobs       // that are run
	toFail   bool             // outputs go to what they fail to when it ends
	lock     *lock
	listener net.Listener
	server   *http.Server
	log      *slog.Logger
	close    context.CancelFunc // ends the bench, probes, and the watch over the clock
	damages  store.Damages      // of the plant's file
}

// Start goes on with the jobs that ran, starts the bench, and begins to listen; requests are answered once Run is called. The address
// must be a loopback one: whoever reaches the service may do everything.
func Start(ctx context.Context, c Config) (s *Service, err error) {
	s = &Service{log: c.Log}
	defer func() {
		if err != nil {
			err = errors.Join(err, s.release())
			s = nil
		}
	}()
	allowed, err := device.ParseAllowed(c.Devices)
	if err != nil {
		return s, err
	}
	if s.lock, err = open(c); err != nil {
		return s, err
	}
	s.toFail = c.OnExit == "fail"
	kept, err := s.openPlant(ctx, c)
	if err != nil {
		return s, err
	}
	l, err := listen(ctx, c.Listen)
	if err != nil {
		return s, err
	}
	address := l.Addr().(*net.TCPAddr)
	s.listener = newDoor(l)
	if err = s.lock.says(s.URL()); err != nil {
		return s, err
	}
	if err = c.complete(); err != nil {
		return s, err
	}
	var ended context.Context
	ended, s.close = context.WithCancel(context.Background())
	if err = s.startBench(ended, c); err != nil {
		return s, err
	}
	s.jobs = live.Begin(ctx, s.plant, kept, live.NewMachine(ended, c.Log), allowed, c.Log)
	if err = s.awaitBench(ctx); err != nil {
		return s, err
	}
	s.server, err = s.newServer(ended, c, hosts(address))
	return s, err
}

// complete puts defaults in the place of zero values.
func (c *Config) complete() (err error) {
	if c.UploadLimit == 0 {
		c.UploadLimit = DefaultUploadLimit
	}
	if c.WorkLimit == 0 {
		c.WorkLimit = DefaultWorkLimit
	}
	c.Memory, err = memoryOf(c.Memory)
	return err
}

// newServer returns the server of all requests. What it computes ends with ctx.
func (s *Service) newServer(ctx context.Context, c Config, hosts []string) (*http.Server, error) {
	began := time.Now()
	handler, err := apilive.New(
		apilive.Config{
			Plant:       s.plant,
			Jobs:        s.jobs,
			Bench:       s.bench,
			Log:         c.Log,
			Version:     c.Version,
			Console:     c.Console,
			Hosts:       hosts,
			UploadLimit: c.UploadLimit,
			Now:         time.Now,
			WorkLimit:   c.WorkLimit,
			Closing:     ctx,
			Damaged:     s.damages.List,
			Processes:   func() []api.Process { return s.processes(began) },
		},
	)
	if err != nil {
		return nil, err
	}
	return &http.Server{
		Handler: handler, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 32 << 10,
		ErrorLog: slog.NewLogLogger(c.Log.Handler(), slog.LevelWarn),
	}, nil
}

// open takes the data folder.
func open(c Config) (*lock, error) {
	if err := os.MkdirAll(c.Data, 0o700); err != nil {
		return nil, fmt.Errorf("making the data folder: %w", err)
	}
	if err := os.Chmod(c.Data, 0o700); err != nil {
		return nil, fmt.Errorf("keeping the data folder for its owner: %w", err)
	}
	l, err := takeLock(c.Data)
	if err != nil {
		return nil, err
	}
	if err := takeOver(filepath.Join(c.Data, "rectura.db"), benchFile(c.Data)); err != nil {
		return nil, errors.Join(err, l.Close())
	}
	return l, nil
}

// startBench starts the bench, which runs until ctx ends.
func (s *Service) startBench(ctx context.Context, c Config) (err error) {
	s.bench, err = newBenchProcess(c.Data, c.Memory, c.Log, func(ctx context.Context) (bench.Setup, error) {
		highest, err := s.plant.HighestNumber(ctx)
		return bench.Setup{Data: c.Data, Socket: s.bench.socket, UploadLimit: c.UploadLimit, WorkLimit: c.WorkLimit, Memory: c.Memory, Quota: c.Quota,
			Above: highest}, err
	})
	if err != nil {
		return err
	}
	failed := func(err error) {
		c.Log.Error("the service goes on without the bench", slog.Any("error", err))
		s.bench.become(api.Ended, err.Error())
	}
	s.benched.Go(c.Log, "running the bench", func() error { s.bench.run(ctx); return nil }, failed)
	return nil
}

// awaitBench waits a while for the bench. A bench that cannot start is an error, unless something runs: that goes on without it.
func (s *Service) awaitBench(ctx context.Context) error {
	select {
	case <-s.bench.first:
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(firstBench):
		return nil
	}
	if p, _ := s.bench.now(); p.State == api.Ended && len(s.jobs.Running()) == 0 {
		return errors.New(p.Because)
	}
	return nil
}

// processes returns how the two processes are.
func (s *Service) processes(began time.Time) []api.Process {
	control := api.Process{Name: api.ProcessNameControl, State: api.Runs, Pid: os.Getpid(), Since: began}
	if bytes, err := sizeOf(control.Pid); err == nil {
		control.MemoryBytes = bytes
	}
	b, _ := s.bench.now()
	b.MostBytes = s.bench.most()
	return []api.Process{control, b}
}

// openPlant opens the plant's file, and recalls the jobs that were run. The bench numbers new jobs above them.
func (s *Service) openPlant(ctx context.Context, c Config) (*store.Start, error) {
	numbers, err := numbersFor(ctx, c)
	if err != nil {
		return nil, err
	}
	var kept *store.Start
	s.plant, kept, err = store.OpenSound(ctx, plantFile(c.Data), store.PlantOptions{Options: store.Options{Log: c.Log}, Numbers: numbers}, time.Now())
	if err != nil {
		return nil, err
	}
	if kept.Aside != "" {
		c.Log.Error("the plant's file was damaged, and is put aside", slog.String("file", kept.Aside))
		s.damages.Found = append(s.damages.Found, "the plant's file was damaged; it is put aside as "+kept.Aside)
	}
	for _, wrong := range kept.Wrong {
		c.Log.Error("the plant's file is not as it was kept", slog.String("because", wrong))
		s.damages.Found = append(s.damages.Found, wrong)
	}
	return kept, nil
}

// numbersFor returns the numbers of jobs where an earlier program has kept what runs by their names alone.
func numbersFor(ctx context.Context, c Config) (map[string]int64, error) {
	if by, err := store.KeptByName(ctx, plantFile(c.Data)); err != nil || !by {
		return nil, err
	}
	st, err := store.Open(ctx, benchFile(c.Data), store.Options{Log: c.Log})
	if err != nil {
		return nil, err
	}
	numbers, err := numbersOf(ctx, st)
	return numbers, errors.Join(err, st.Close())
}

func benchFile(data string) string { return filepath.Join(data, "bench.db") }

func plantFile(data string) string { return filepath.Join(data, "plant.db") }

// numbersOf returns the numbers of all jobs, by their names.
func numbersOf(ctx context.Context, st *store.Store) (map[string]int64, error) {
	jobs, err := st.Jobs(ctx)
	if err != nil {
		return nil, err
	}
	numbers := map[string]int64{}
	for _, j := range jobs {
		numbers[j.Name] = j.ID
	}
	return numbers, nil
}

// takeOver gives the store's file the name that it has now, if it is there under the
// one that it had before. What belongs to it goes first, so that one that was
// interrupted is done again.
func takeOver(before, now string) error {
	if _, err := os.Stat(now); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, end := range []string{"-wal", "-shm", ""} {
		if err := os.Rename(before+end, now+end); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("renaming the store's file: %w", err)
		}
	}
	return nil
}

// Check goes through everything that a data folder holds and names what is
// damaged. No service may run on it.
func Check(ctx context.Context, c Config) (damaged []error, err error) {
	l, err := open(c)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, l.Close()) }()
	st, err := store.Open(ctx, benchFile(c.Data), store.Options{Log: c.Log, Quota: c.Quota})
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, st.Close()) }()
	if damaged, err = st.Verify(ctx); err != nil {
		return damaged, err
	}
	numbers, err := numbersOf(ctx, st)
	if err != nil {
		return damaged, err
	}
	plant, err := store.OpenPlant(ctx, plantFile(c.Data), store.PlantOptions{Options: store.Options{Log: c.Log}, Numbers: numbers})
	if errors.Is(err, store.ErrDamaged) {
		return append(damaged, err), nil
	}
	if err != nil {
		return damaged, err
	}
	defer func() { err = errors.Join(err, plant.Close()) }()
	more, err := plant.Verify(ctx)
	return append(damaged, more...), err
}

// memoryOf returns the bench's limit of memory, in bytes: the one that was asked for, or half of the memory of the machine or container.
func memoryOf(asked int64) (int64, error) {
	if asked > 0 {
		return asked, nil
	}
	whole, err := memlimit.ApplyFallback(memlimit.FromCgroup, memlimit.FromSystem)()
	if err != nil {
		return 0, fmt.Errorf("finding out how much memory there is, say --bench-memory instead: %w", err)
	}
	return int64(min(whole/2, math.MaxInt64)), nil
}

// listen opens a loopback address and nothing else.
func listen(ctx context.Context, address string) (net.Listener, error) {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return nil, fmt.Errorf("the address %q is not HOST:PORT, such as %s: %w", address, DefaultListen, err)
	}
	ips := []net.IP{net.ParseIP(host)}
	if host != "" && ips[0] == nil {
		if ips, err = net.DefaultResolver.LookupIP(ctx, "ip", host); err != nil {
			return nil, fmt.Errorf("looking up the address %s: %w", address, err)
		}
	}
	for _, ip := range ips {
		if !ip.IsLoopback() {
			return nil, fmt.Errorf(
				"the address %s can be reached from other machines; the service listens on loopback only, such as %s",
				address,
				DefaultListen,
			)
		}
	}
	l, err := (&net.ListenConfig{}).Listen(ctx, "tcp", address)
	if err != nil {
		return nil, fmt.Errorf("listening on %s: %w", address, err)
	}
	return l, nil
}

// hosts are the names under which the service may be addressed.
func hosts(a *net.TCPAddr) []string {
	port := fmt.Sprint(a.Port)
	return []string{a.String(), net.JoinHostPort("localhost", port), net.JoinHostPort("127.0.0.1", port), net.JoinHostPort("::1", port)}
}

// URL is where the service is reached.
func (s *Service) URL() string { return "http://" + s.listener.Addr().String() }

// Run answers requests until the context ends, lets those under way end, and
// closes the store.
func (s *Service) Run(ctx context.Context) error {
	var server, besides background.Group
	served, hung := make(chan error, 1), make(chan error, 1)
	server.Go(s.log, "serving", func() error { served <- s.server.Serve(s.listener); return nil }, func(err error) { served <- err })
	s.log.Info("listening", slog.String("url", s.URL()))
	s.tell(daemon.SdNotifyReady)
	watching, stopWatching := context.WithCancel(ctx)
	defer stopWatching()
	failed := func(err error) { s.log.Error("the service goes on without", slog.Any("error", err)) }
	besides.Go(s.log, "looking for damage", func() error { s.damages.Watch(watching, s.log, s.plant.Verify); return nil }, failed)
	besides.Go(s.log, "deleting old records", func() error { s.forget(watching); return nil }, failed)
	besides.Go(s.log, "watching engines", func() error { return s.jobs.Watch(watching, func() { s.tell(daemon.SdNotifyWatchdog) }) }, func(err error) { hung <- err })
	var err error
	select {
	case err = <-served:
	case err = <-hung: // whoever supervises the service starts it again
		s.log.Error("the service ends", slog.Any("error", err))
		return fmt.Errorf("running jobs: %w", err)
	case <-ctx.Done():
		s.leave(ctx, &besides)
		err = s.shutdown(ctx, served)
	}
	stopWatching()
	besides.Wait()
	if err != nil {
		err = fmt.Errorf("serving: %w", err)
	}
	return errors.Join(err, s.release())
}

// tell tells systemd, if that has started the service, how it is (sd_notify(3)).
func (s *Service) tell(state string) {
	if _, err := daemon.SdNotify(false, state); err != nil {
		s.log.Warn("the service's supervisor was not told how it is", slog.Any("error", err))
	}
}

// leave has outputs driven to their fail states, if the service is to leave them so.
func (s *Service) leave(ctx context.Context, all *background.Group) {
	if !s.toFail {
		return
	}
	all.Go(s.log, "driving outputs to their fail states", func() error {
		limit, cancel := context.WithTimeout(context.WithoutCancel(ctx), leaving)
		defer cancel()
		s.jobs.LeaveAtFail(limit)
		return nil
	})
}

// shutdown lets requests under way end, and cuts off those that do not.
func (s *Service) shutdown(ctx context.Context, served chan error) error {
	s.log.Info("closing")
	s.tell(daemon.SdNotifyStopping)
	s.close()
	limit, cancel := context.WithTimeout(context.WithoutCancel(ctx), closing)
	defer cancel()
	err := s.server.Shutdown(limit)
	if errors.Is(err, context.DeadlineExceeded) {
		s.log.Warn("requests that did not end were cut off")
		err = s.server.Close()
	}
	if e := <-served; !errors.Is(e, http.ErrServerClosed) {
		err = errors.Join(err, e)
	}
	return err
}

// forgetEvery is how often what is older than it is kept for is deleted.
const forgetEvery = time.Hour

// forget deletes what is older than it is kept for, from time to time.
func (s *Service) forget(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(forgetEvery):
		}
		if err := s.jobs.Forget(ctx, store.DefaultRetention); err != nil && ctx.Err() == nil {
			s.log.Error("old entries are not deleted", slog.Any("error", err))
		}
	}
}

// release gives back what Start has taken.
func (s *Service) release() error {
	var errs []error
	if s.close != nil {
		s.close()
	}
	if s.listener != nil {
		if err := s.listener.Close(); err != nil && !errors.Is(err, net.ErrClosed) {
			errs = append(errs, err)
		}
	}
	if s.jobs != nil {
		errs = append(errs, s.jobs.Close())
	}
	s.benched.Wait()
	if s.plant != nil {
		errs = append(errs, s.plant.Close())
	}
	if s.lock != nil {
		errs = append(errs, s.lock.Close())
	}
	return errors.Join(errs...)
}
