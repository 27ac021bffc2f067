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

	"rectura/service/api"
	"rectura/service/store"
)

// DefaultListen is where the service listens unless told otherwise.
const DefaultListen = "127.0.0.1:8470"

// DefaultUploadLimit is the largest recording file taken, in bytes.
const DefaultUploadLimit = 512 << 20

// closing is how long requests under way may take to end.
const closing = 10 * time.Second

// Config is how a service is run.
type Config struct {
	Data        string // the folder that holds the store; it is made if it is missing
	Listen      string // a loopback address with its port; port 0 takes a free one
	UploadLimit int64  // 0: DefaultUploadLimit
	Version     string
	Console     fs.FS
	Log         *slog.Logger
}

// A Service listens from Start until its Run has ended.
type Service struct {
	store    *store.Store
	listener net.Listener
	server   *http.Server
	log      *slog.Logger
}

// Start opens the store and begins to listen; requests are answered once Run is
// called. The address must be a loopback one: whoever reaches the service may
// do everything.
func Start(ctx context.Context, c Config) (*Service, error) {
	listener, err := listen(ctx, c.Listen)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(c.Data, 0o700); err != nil {
		return nil, errors.Join(fmt.Errorf("making the data folder: %w", err), listener.Close())
	}
	st, err := store.Open(ctx, filepath.Join(c.Data, "rectura.db"))
	if err != nil {
		return nil, errors.Join(err, listener.Close())
	}
	if c.UploadLimit == 0 {
		c.UploadLimit = DefaultUploadLimit
	}
	address := listener.Addr().(*net.TCPAddr)
	handler, err := api.New(api.Config{Store: st, Log: c.Log, Version: c.Version, Console: c.Console, Hosts: hosts(address), UploadLimit: c.UploadLimit, Now: time.Now})
	if err != nil {
		return nil, errors.Join(err, st.Close(), listener.Close())
	}
	server := &http.Server{
		Handler: handler, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 32 << 10,
		ErrorLog: slog.NewLogLogger(c.Log.Handler(), slog.LevelWarn),
	}
	return &Service{st, listener, server, c.Log}, nil
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
			return nil, fmt.Errorf("the address %s can be reached from other machines; the service listens on loopback only, such as %s", address, DefaultListen)
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
	var err error
	select {
	case err = <-done:
	case <-ctx.Done():
		s.log.Info("closing")
		limit, cancel := context.WithTimeout(context.WithoutCancel(ctx), closing)
		defer cancel()
		err = s.server.Shutdown(limit)
		if e := <-done; !errors.Is(e, http.ErrServerClosed) {
			err = errors.Join(err, e)
		}
	}
	if err != nil {
		err = fmt.Errorf("serving: %w", err)
	}
	return errors.Join(err, s.store.Close())
}
