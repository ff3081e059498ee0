package main

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"runtime/debug"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/spf13/cobra"

	"unlatch/core/ground/machine"
	"unlatch/core/ground/pairing"
	"unlatch/core/wire/link"
	"unlatch/jobs"
	"unlatch/server"
	"unlatch/store"
)

// A workerRun is what a worker is started with.
type workerRun struct {
	*place
	jobs.Options
	server    jobs.ServerAddress
	to        string
	metricsAt string
	updateKey string
}

func workerCommand() *cobra.Command {
	r := &workerRun{place: &place{kind: "worker"}}
	c := &cobra.Command{Use: "worker", Short: "Run workers only, on the database of a server", Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			u, err := newUpdating(r.data, r.updateKey, r.logTo(os.Stderr))
			if err != nil {
				return err
			}
			if err = r.work(cmd, u); errors.Is(err, errNewProgram) {
				// It returns only where the other program cannot begin; then whoever watches over this one starts it again.
				err = errors.Join(err, u.become())
			}
			return err
		}}
	c.AddCommand(pairCommand(), workerStatusCommand())
	r.flags(c, false)
	c.Flags().StringVar(&r.to, "server", "", "address of the server, to which live pictures are sent, such as https://bench.example")
	c.Flags().StringVar(&r.server.Fingerprint, "server-fingerprint", "",
		"SHA-256 of the server's certificate, where that is one of its own making: it prints it when it starts")
	c.Flags().StringVar(&r.metricsAt, "metrics-listen", "",
		"address and port on which a worker serves /metrics to whoever has metrics-token, such as 127.0.0.1:9470")
	c.Flags().StringVar(&r.updateKey, "update-key", "",
		"key of whoever signs programs, as unlatch program key prints it: a paired worker takes newer ones that its server tells it to")
	c.Flags().StringSliceVar(&r.Sites, "site", nil,
		"name or ID of a site that this machine reaches; may be given again; none means every site")
	c.Flags().BoolVar(&r.OnlyLooks, "read-only", false,
		"look and change nothing: what would change a device or a target at its sites is refused, with that as the reason")
	c.Flags().BoolVar(&r.Outside, "outside", false,
		"this machine is elsewhere: it reaches the sites' outside addresses and not their inside, and proves from there")
	return c
}

// work runs workers until the command ends, or until another program shall begin in place of this one: errNewProgram.
func (r *workerRun) work(cmd *cobra.Command, u *updating) error {
	ctx, stop := context.WithCancelCause(cmd.Context())
	defer stop(nil)
	if err := r.reach(ctx, stop, u); err != nil {
		return err
	}
	s, err := r.open(ctx)
	if u.up != nil && errors.As(err, new(*store.NewerError)) { // the server's version has come to be newer than this machine's
		if uerr := u.look(ctx); errors.Is(uerr, errNewProgram) {
			return uerr
		}
	}
	if err != nil {
		return errors.Join(context.Cause(ctx), err)
	}
	defer s.Close()
	w, err := s.workers(r.place, r.Options)
	if err != nil {
		return err
	}
	if err := r.serveMetrics(ctx, r.metricsAt, w.Metrics()); err != nil {
		return err
	}
	if r.server.URL != nil {
		go w.SendPictures(ctx, r.server)
	}
	if u.up != nil {
		boundMemory()
		u.works.Store(true)
		u.far = func(context.Context) (*store.FarUpdates, error) { return s.Store.FarUpdates(), nil }
		go u.watch(ctx, stop)
		go w.SendPicturesOver(ctx, u.up)
		go keepStatus(ctx, r.data, u.up, w)
	}
	tellReady(ctx, r.log, s.Store.Pool.Ping)
	fmt.Fprintln(cmd.OutOrStdout(), "Working; stop with Ctrl-C.")
	<-ctx.Done()
	if err := context.Cause(ctx); errors.As(err, new(*link.Refusal)) || errors.Is(err, errNewProgram) {
		return err
	}
	return nil
}

// reach begins the connection of a paired worker, and reads where live pictures are sent to.
func (r *workerRun) reach(ctx context.Context, stop context.CancelCauseFunc, u *updating) (err error) {
	if r.database == "" {
		if u.up, err = r.uplink(ctx, stop); errors.Is(err, pairing.ErrNotPaired) {
			return usageError{errors.New("a worker needs to be paired with its server, by unlatch worker pair, or the server's database: " +
				"--database postgres://... (or UNLATCH_DATABASE, which no list of processes shows); and the server's key file in --data")}
		} else if err != nil {
			return err
		}
	}
	if r.to == "" {
		return nil
	}
	if r.server.URL, err = url.Parse(r.to); err != nil || r.server.URL.Host == "" || r.server.URL.Scheme != "http" &&
		r.server.URL.Scheme != "https" {
		return usageError{fmt.Errorf("--server takes the address under which people reach the server, such as "+
			"https://bench.example, not %q", r.to)}
	}
	return nil
}

// boundMemory has the program give memory back before it takes more than it may: a small machine in a cabinet
// has nobody who starts it again. GOMEMLIMIT in the environment says otherwise.
func boundMemory() {
	if most := machine.MayTake(); most > 0 && os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(most)
	}
}

// serveMetrics serves what is measured of a worker at an address, until ctx ends; "" for nowhere.
func (p *place) serveMetrics(ctx context.Context, at string, more ...prometheus.Collector) error {
	if at == "" {
		return nil
	}
	token := p.flagless["metrics-token"]
	if token == "" {
		return usageError{errors.New("--metrics-listen needs metrics-token in the settings: nobody else is to read it")}
	}
	l, err := net.Listen("tcp", at)
	if err != nil {
		return fmt.Errorf("--metrics-listen: %w", err)
	}
	mux := http.NewServeMux()
	mux.Handle("GET /metrics", server.Metrics(token, more...))
	s := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 10 * time.Second, WriteTimeout: 30 * time.Second,
		MaxHeaderBytes: 16 << 10}
	go s.Serve(l)
	context.AfterFunc(ctx, func() { s.Close() })
	return nil
}
