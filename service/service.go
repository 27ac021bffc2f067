// Package service is the long-running part: it opens the store, listens, and
// answers until it is told to end.
package service

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"github.com/KimMachineGun/automemlimit/memlimit"

	"rectura/service/api"
	"rectura/service/live"
	"rectura/service/store"
)

// DefaultListen is where the service listens unless told otherwise.
const DefaultListen = "127.0.0.1:8470"

// DefaultUploadLimit is the largest recording file taken, in bytes.
const DefaultUploadLimit = 512 << 20

// DefaultWorkLimit is for how long one computation goes on at the most.
const DefaultWorkLimit = 2 * time.Minute

// closing is how long requests under way may take to end.
const closing = 10 * time.Second

// checkEvery is how often everything that is kept is gone through.
const checkEvery = 24 * time.Hour

// Config is how a service is run. Zero values stand for the defaults.
type Config struct {
	Data        string        // the folder that holds the store; it is made if it is missing
	Listen      string        // a loopback address with its port; port 0 takes a free one
	UploadLimit int64         // DefaultUploadLimit
	WorkLimit   time.Duration // DefaultWorkLimit
	Memory      int64         // bytes that the program is to stay below; half of what the machine, or its container, has
	Quota       int64         // bytes that the store may take; as many as the disk has
	Version     string
	Console     fs.FS
	Log         *slog.Logger
	OnExit      string // what armed outputs do when the service ends: hold, which is the default, or fail
}

// A Service listens from Start until its Run has ended.
type Service struct {
	store    *store.Store
	plant    *store.Plant
	jobs     *live.Jobs // that are run
	toFail   bool       // outputs go to what they fail to when it ends
	lock     *lock
	listener net.Listener
	server   *http.Server
	log      *slog.Logger
	close    context.CancelFunc // ends what is being worked out
	damages  *damages
}

// Start opens the store and begins to listen; requests are answered once Run is
// called. The address must be a loopback one: whoever reaches the service may
// do everything.
func Start(ctx context.Context, c Config) (s *Service, err error) {
	s = &Service{log: c.Log, damages: &damages{}}
	defer func() {
		if err != nil {
			err = errors.Join(err, s.release())
			s = nil
		}
	}()
	if s.store, s.lock, err = open(ctx, c); err != nil {
		return s, err
	}
	s.toFail = c.OnExit == "fail"
	if s.plant, err = store.OpenPlant(ctx, filepath.Join(c.Data, "plant.db"), store.Options{Log: c.Log}); err != nil {
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
	if c.UploadLimit == 0 {
		c.UploadLimit = DefaultUploadLimit
	}
	if c.WorkLimit == 0 {
		c.WorkLimit = DefaultWorkLimit
	}
	if c.Memory, err = limitMemory(c.Memory); err != nil {
		return s, err
	}
	if s.jobs, err = live.Begin(ctx, s.plant, live.Machine{}, c.Log); err != nil {
		return s, err
	}
	var ended context.Context
	ended, s.close = context.WithCancel(context.Background())
	handler, err := api.New(
		api.Config{
			Store:       s.store,
			Plant:       s.plant,
			Jobs:        s.jobs,
			Log:         c.Log,
			Version:     c.Version,
			Console:     c.Console,
			Hosts:       hosts(address),
			UploadLimit: c.UploadLimit,
			Now:         time.Now,
			Memory:      c.Memory,
			WorkLimit:   c.WorkLimit,
			Closing:     ended,
			Damaged:     s.damages.list,
		},
	)
	if err != nil {
		return s, err
	}
	s.server = &http.Server{
		Handler: handler, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 32 << 10,
		ErrorLog: slog.NewLogLogger(c.Log.Handler(), slog.LevelWarn),
	}
	return s, nil
}

// open takes the data folder and opens the store in it.
func open(ctx context.Context, c Config) (*store.Store, *lock, error) {
	if err := os.MkdirAll(c.Data, 0o700); err != nil {
		return nil, nil, fmt.Errorf("making the data folder: %w", err)
	}
	if err := os.Chmod(c.Data, 0o700); err != nil {
		return nil, nil, fmt.Errorf("keeping the data folder for its owner: %w", err)
	}
	l, err := takeLock(c.Data)
	if err != nil {
		return nil, nil, err
	}
	file := filepath.Join(c.Data, "bench.db")
	if err := takeOver(filepath.Join(c.Data, "rectura.db"), file); err != nil {
		return nil, nil, errors.Join(err, l.Close())
	}
	st, err := store.Open(ctx, file, store.Options{Log: c.Log, Quota: c.Quota})
	if err != nil {
		return nil, nil, errors.Join(err, l.Close())
	}
	return st, l, nil
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
	st, l, err := open(ctx, c)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, st.Close(), l.Close()) }()
	if damaged, err = st.Verify(ctx); err != nil {
		return damaged, err
	}
	plant, err := store.OpenPlant(ctx, filepath.Join(c.Data, "plant.db"), store.Options{Log: c.Log})
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

// limitMemory sets the memory that the program is to stay below, and gives it.
func limitMemory(bytes int64) (int64, error) {
	provider := memlimit.ApplyFallback(memlimit.FromCgroup, memlimit.FromSystem)
	ratio := 0.5
	if bytes > 0 {
		provider, ratio = memlimit.Limit(uint64(bytes)), 1
	}
	limit, err := memlimit.Set(memlimit.WithProvider(provider), memlimit.WithRatio(ratio))
	if err != nil {
		return 0, fmt.Errorf("finding out how much memory there is, say --memory instead: %w", err)
	}
	if limit == 0 { // GOMEMLIMIT is set already, and stays
		whole, err := provider()
		return int64(float64(whole) * ratio), err
	}
	return limit, nil
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
	done := make(chan error, 1)
	go func() { done <- s.server.Serve(s.listener) }()
	s.log.Info("listening", slog.String("url", s.URL()))
	watching, stopWatching := context.WithCancel(ctx)
	defer stopWatching()
	watched := make(chan struct{})
	go func() {
		defer close(watched)
		s.damages.watch(watching, s.store, s.log)
	}()
	hung := make(chan error, 1)
	go func() {
		if err := s.jobs.Watch(watching); err != nil {
			hung <- err
		}
	}()
	forgotten := make(chan struct{})
	go func() {
		defer close(forgotten)
		s.forget(watching)
	}()
	var err error
	select {
	case err = <-done:
	case err = <-hung: // whoever supervises the service starts it again
		s.log.Error("the service ends", slog.Any("error", err))
		return fmt.Errorf("running jobs: %w", err)
	case <-ctx.Done():
		s.log.Info("closing")
		s.close()
		limit, cancel := context.WithTimeout(context.WithoutCancel(ctx), closing)
		defer cancel()
		if err = s.server.Shutdown(limit); errors.Is(err, context.DeadlineExceeded) {
			s.log.Warn("requests that did not end were cut off")
			err = s.server.Close()
		}
		if e := <-done; !errors.Is(e, http.ErrServerClosed) {
			err = errors.Join(err, e)
		}
	}
	stopWatching()
	<-watched
	<-forgotten
	if s.toFail {
		limit, cancel := context.WithTimeout(context.WithoutCancel(ctx), closing)
		s.jobs.LeaveAtFail(limit)
		cancel()
	}
	if err != nil {
		err = fmt.Errorf("serving: %w", err)
	}
	return errors.Join(err, s.release())
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
	if s.plant != nil {
		errs = append(errs, s.plant.Close())
	}
	if s.store != nil {
		errs = append(errs, s.store.Close())
	}
	if s.lock != nil {
		errs = append(errs, s.lock.Close())
	}
	return errors.Join(errs...)
}
