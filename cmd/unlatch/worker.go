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
)

func workerCommand() *cobra.Command {
	p := &place{kind: "worker"}
	var (
		sites     []string
		outside   bool
		server    jobs.ServerAddress
		to        string
		metricsAt string
		onlyLooks bool
	)
	c := &cobra.Command{Use: "worker", Short: "Run workers only, on the database of a server", Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, stop := context.WithCancelCause(cmd.Context())
			defer stop(nil)
			var up *jobs.Uplink
			if p.database == "" {
				var err error
				if up, err = p.uplink(ctx, stop); errors.Is(err, pairing.ErrNotPaired) {
					return usageError{errors.New("a worker needs to be paired with its server, by unlatch worker pair, or the server's database: " +
						"--database postgres://... (or UNLATCH_DATABASE, which no list of processes shows); and the server's key file in --data")}
				} else if err != nil {
					return err
				}
			}
			if to != "" {
				var err error
				if server.URL, err = url.Parse(to); err != nil || server.URL.Host == "" || server.URL.Scheme != "http" && server.URL.Scheme != "https" {
					return usageError{fmt.Errorf("--server takes the address under which people reach the server, such as "+
						"https://bench.example, not %q", to)}
				}
			}
			s, err := p.open(ctx)
			if err != nil {
				return errors.Join(context.Cause(ctx), err)
			}
			defer s.Close()
			w, err := s.workers(p, jobs.Options{Sites: sites, Outside: outside, OnlyLooks: onlyLooks})
			if err != nil {
				return err
			}
			if err := p.serveMetrics(ctx, metricsAt, w.Metrics()); err != nil {
				return err
			}
			if server.URL != nil {
				go w.SendPictures(ctx, server)
			}
			if up != nil {
				boundMemory()
				go w.SendPicturesOver(ctx, up)
				go keepStatus(ctx, p.data, up, w)
			}
			tellReady(ctx, p.log, s.Store.Pool.Ping)
			fmt.Fprintln(cmd.OutOrStdout(), "Working; stop with Ctrl-C.")
			<-ctx.Done()
			if no := (*link.Refusal)(nil); errors.As(context.Cause(ctx), &no) {
				return no
			}
			return nil
		}}
	c.AddCommand(pairCommand(), workerStatusCommand())
	p.flags(c, false)
	c.Flags().StringVar(&to, "server", "", "address of the server, to which live pictures are sent, such as https://bench.example")
	c.Flags().StringVar(&server.Fingerprint, "server-fingerprint", "",
		"SHA-256 of the server's certificate, where that is one of its own making: it prints it when it starts")
	c.Flags().StringVar(&metricsAt, "metrics-listen", "",
		"address and port on which a worker serves /metrics to whoever has metrics-token, such as 127.0.0.1:9470")
	c.Flags().StringSliceVar(&sites, "site", nil,
		"name or ID of a site that this machine reaches; may be given again; none means every site")
	c.Flags().BoolVar(&onlyLooks, "read-only", false,
		"look and change nothing: what would change a device or a target at its sites is refused, with that as the reason")
	c.Flags().BoolVar(&outside, "outside", false,
		"this machine is elsewhere: it reaches the sites' outside addresses and not their inside, and proves from there")
	return c
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
