package main

import (
	"context"
	"crypto/rand"
	"encoding/base32"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"unlatch/jobs"
	"unlatch/server"
	"unlatch/store"
	"unlatch/store/cluster"
	"unlatch/web"
)

// place is where a server keeps its data and listens.
type place struct {
	data     string // folder: database, key file
	database string // address of a database of the person's own; "" for one in the data folder
	listen   string
	log      *slog.Logger
}

func (p *place) flags(c *cobra.Command, listens bool) {
	c.Flags().StringVar(&p.data, "data", ".unlatch", "folder for database and key file")
	c.Flags().StringVar(&p.database, "database", "", "address of a PostgreSQL database of your own, such as postgres://user@127.0.0.1:5432/unlatch")
	if listens {
		c.Flags().StringVar(&p.listen, "listen", "127.0.0.1:8470", "address and port to serve on")
	}
}

// services are what a running server consists of, ended in the reverse order.
type services struct {
	Store   *store.Store
	Queue   *jobs.Queue
	closers []func()
}

func (s *services) Close() {
	for i := len(s.closers) - 1; i >= 0; i-- {
		s.closers[i]()
	}
}

// open starts the database if it is ours, and the store and queue on it.
func (p *place) open(ctx context.Context) (*services, error) {
	data, err := filepath.Abs(p.data)
	if err != nil {
		return nil, err
	}
	p.data = data
	p.log = slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn}))
	s := &services{}
	url := p.database
	if url == "" {
		if url, err = p.ownDatabase(ctx, s); err != nil {
			s.Close()
			return nil, err
		}
	}
	if s.Store, err = store.Open(ctx, url, filepath.Join(data, "key"), p.log); err != nil {
		s.Close()
		return nil, err
	}
	s.closers = append(s.closers, s.Store.Close)
	if s.Queue, err = jobs.NewQueue(s.Store, p.log); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

func (p *place) ownDatabase(ctx context.Context, s *services) (string, error) {
	if err := os.MkdirAll(p.data, 0o755); err != nil {
		return "", err
	}
	lock, err := os.OpenFile(filepath.Join(p.data, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return "", err
	}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		lock.Close()
		return "", fmt.Errorf("Unlatch is running already on the data folder %s: stop it first, or choose another folder with --data", p.data)
	}
	s.closers = append(s.closers, func() { lock.Close() })
	c, err := cluster.Start(ctx, cluster.Options{Dir: cluster.Reachable(filepath.Join(p.data, "pg"))})
	if err != nil {
		return "", err
	}
	s.closers = append(s.closers, c.Stop)
	return c.URL, nil
}

// listener opens the address to serve on, with a remedy where it cannot.
func (p *place) listener() (net.Listener, error) {
	l, err := net.Listen("tcp", p.listen)
	switch {
	case errors.Is(err, syscall.EADDRINUSE):
		return nil, fmt.Errorf("%s is in use by another program: stop that, or choose another address, for example: --listen 127.0.0.1:8471", p.listen)
	case errors.Is(err, syscall.EACCES):
		return nil, fmt.Errorf("%s needs root: choose a port over 1023, for example: --listen 127.0.0.1:8470", p.listen)
	}
	return l, err
}

// workers starts the workers in this process.
func (s *services) workers(p *place) error {
	w, err := jobs.StartWorkers(s.Store, p.log)
	if err == nil {
		s.closers = append(s.closers, w.Stop)
	}
	return err
}

// serve answers on l until ctx ends.
func (s *services) serve(ctx context.Context, p *place, l net.Listener, out io.Writer) error {
	code, err := s.setupCode(ctx)
	if err != nil {
		return err
	}
	serving, stop := context.WithCancel(ctx)
	defer stop()
	h := &http.Server{
		Handler:           server.New(serving, server.Config{Store: s.Store, Queue: s.Queue, Web: web.Files(), Log: p.log, SetupCode: code}),
		ReadHeaderTimeout: 10 * time.Second,
		BaseContext:       func(net.Listener) context.Context { return serving },
	}
	ended := make(chan error, 1)
	go func() { ended <- h.Serve(l) }()
	address := "http://" + l.Addr().String() + "/"
	if code != "" {
		fmt.Fprintf(out, "\n  Make the first account at  %ssetup#%s\n  Set-up code                %s\n", address, code, code)
	} else {
		fmt.Fprintf(out, "\n  Unlatch serves at  %s\n", address)
	}
	select {
	case err := <-ended:
		return err
	case <-ctx.Done():
	}
	stop() // ends the event streams, which would otherwise hold the shutdown up
	bye, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	h.Shutdown(bye)
	return nil
}

// setupCode is made anew at each start for as long as there is no account.
func (s *services) setupCode(ctx context.Context) (string, error) {
	has, err := s.Store.HasPeople(ctx)
	if err != nil || has {
		return "", err
	}
	raw := make([]byte, 10)
	rand.Read(raw)
	return base32.StdEncoding.EncodeToString(raw), nil
}

func serveCommand() *cobra.Command {
	p := &place{}
	c := &cobra.Command{Use: "serve", Short: "Run the server with its workers", Args: noArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		l, err := p.listener()
		if err != nil {
			return err
		}
		defer l.Close()
		s, err := p.open(cmd.Context())
		if err != nil {
			return err
		}
		defer s.Close()
		if err := s.workers(p); err != nil {
			return err
		}
		return s.serve(cmd.Context(), p, l, cmd.OutOrStdout())
	}}
	p.flags(c, true)
	return c
}

func workerCommand() *cobra.Command {
	p := &place{}
	c := &cobra.Command{Use: "worker", Short: "Run workers only, on the database of a server", Args: noArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		if p.database == "" {
			return usageError{errors.New("a worker needs the server's database: --database postgres://... and the server's key file in --data")}
		}
		s, err := p.open(cmd.Context())
		if err != nil {
			return err
		}
		defer s.Close()
		if err := s.workers(p); err != nil {
			return err
		}
		fmt.Fprintln(cmd.OutOrStdout(), "Working; stop with Ctrl-C.")
		<-cmd.Context().Done()
		return nil
	}}
	p.flags(c, false)
	return c
}
