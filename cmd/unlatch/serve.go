package main

import (
	"context"
	"crypto/rand"
	"encoding/base32"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/spf13/cobra"

	"unlatch/core/decide/doctor"
	"unlatch/core/ground/address"
	"unlatch/core/ground/journal"
	"unlatch/jobs"
	"unlatch/server"
	"unlatch/server/certs"
	"unlatch/store"
	"unlatch/store/backup"
	"unlatch/store/cluster"
	"unlatch/web"
)

// place is where a server keeps its data and listens.
type place struct {
	data     string // folder: database, key file
	database string // address of a database of the person's own; "" for one in the data folder
	listen   string
	log      *slog.Logger
	level    slog.Level // from which on the log is written
	form     string     // of the log: "text" or "json"
	flagless flagless   // settings without a flag

	tls, plain    bool // whether it was asked to serve by TLS, or without it where others can reach it
	certificate   certificateFlags
	backups       backupFlags
	config        string // the file with settings; "" for none
	unsaved       bool   // tables are brought up to date without a backup
	kind          string // of the process: "server" or "worker"
	relay         string // address and port to serve streams on; "" for nowhere
	relayTLS      string // and over TLS
	relayCores    float64
	relayFaces    string
	relayPages    string
	relayPagesURL string
	traces        string // URL that spans are sent to; "" for nowhere
	public        string // the address under which people reach the server
	proxies       []string
	forgetSignIns bool
	far           *store.Far       // which paired worker this is; nil for a process with a key file
	journal       *journal.Journal // of a paired worker; nil otherwise
	dial          pgconn.DialFunc  // to the database of a server elsewhere, over a link; nil for its own address
	nameServer    string           // is asked for names of targets; "" for those that the machine is set to
	signOn        signOnFlags
}

// resolver returns what looks the names of targets up.
func (p *place) resolver() address.Resolver {
	if p.nameServer == "" {
		return nil
	}
	return address.NameServer(p.nameServer)
}

func (p *place) flags(c *cobra.Command, listens bool) {
	c.Flags().StringVar(&p.data, "data", ".unlatch", "folder for database and key file")
	c.Flags().StringVar(&p.database, "database", "",
		"address of a PostgreSQL database of your own, such as postgres://user@127.0.0.1:5432/unlatch")
	c.Flags().BoolVar(&p.forgetSignIns, "forget-sign-ins", false,
		"empty the keyring where its key file is lost for good, and make a new key")
	c.Flags().TextVar(&p.level, "log-level", slog.LevelWarn,
		"`level` from which on the log is written to standard error: debug (each request), info, warn or error")
	c.Flags().StringVar(&p.form, "log-format", "text", "how the log is written: text, or json with one object a line")
	c.Flags().String(configFlag, "", "`file` with settings, such as /etc/unlatch/unlatch.yaml; flags and the environment win over it")
	c.PreRunE = func(c *cobra.Command, _ []string) (err error) {
		if p.flagless, err = configure(c); err != nil {
			return err
		}
		p.config = configPath(c.Flags())
		if p.form != "text" && p.form != "json" {
			return usageError{errors.New("--log-format is text or json")}
		}
		return nil
	}
	c.Flags().BoolVar(&p.unsaved, "update-without-backup", false,
		"bring the tables of an older version up to date without a backup of them in the data folder")
	c.Flags().StringVar(&p.relay, "relay", "",
		"address and port on which the workers of this process serve streams on by RTSP, such as 0.0.0.0:8554; none means never")
	c.Flags().StringVar(&p.relayTLS, "relay-tls", "",
		"address and port on which they do so over TLS (rtsps), such as 0.0.0.0:8322, with a certificate of the server's own making")
	c.Flags().StringVar(&p.relayFaces, "relay-faces", "",
		"address and ports on which relays have ONVIF devices of their own, such as 0.0.0.0:8580-8599; none means never")
	c.Flags().StringVar(&p.relayPages, "relay-pages", "",
		"address and port on which relays are served to web pages, by HTTP and, on the same port of UDP, by WebRTC, such as 0.0.0.0:8590")
	c.Flags().StringVar(&p.relayPagesURL, "relay-pages-url", "",
		"address under which browsers reach them, such as https://view.example, where something that speaks TLS stands in front")
	c.Flags().Float64Var(&p.relayCores, "relay-cores", 0,
		"how many processor cores the workers of this process may take for turning streams into other forms; 0 means half of the machine's")
	c.Flags().StringVar(&p.traces, "trace-endpoint", "",
		"URL that traces are sent to by OTLP over HTTP, such as http://127.0.0.1:4318; none means nowhere")
	c.Flags().StringVar(&p.nameServer, "name-server", "",
		"address and port of the name server to ask for names of targets, such as 192.0.2.53:53; none means those of this machine")
	if !listens {
		return
	}
	c.Flags().StringVar(&p.listen, "listen", "127.0.0.1:8470", "address and port to serve on; TLS is used on anything but loopback")
	c.Flags().BoolVar(&p.tls, "tls", false, "serve by TLS on loopback too")
	p.certificate.flags(c)
	p.backups.flags(c)
	c.Flags().BoolVar(&p.plain, "plain-http", false,
		"serve without TLS where others on the network can listen: only behind a proxy that adds it")
	c.Flags().StringVar(&p.public, "public-url", "",
		"address under which people reach the server, such as https://bench.example, where that is a name or a proxy's")
	c.Flags().StringSliceVar(&p.proxies, "trusted-proxy", nil, "address or range of a proxy whose X-Forwarded-For is believed")
	p.signOn.flags(c)
}

// services are what a running server consists of, ended in the reverse order.
type services struct {
	Store   *store.Store
	Queue   *jobs.Queue
	live    server.Live            // nil where the workers are other processes
	agent   jobs.Agent             // of the workers in this process; nil where there are none
	room    *server.Room           // of the database, where it is ours
	meters  []prometheus.Collector // of the workers in this process
	closers []func()

	preparing func() string // what the demo still prepares; nil where there is no demo
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
	p.log = p.logTo(os.Stderr)
	s := &services{}
	if p.traces != "" {
		end, err := startTracing(ctx, p.traces, p.kind)
		if err != nil {
			return nil, err
		}
		s.closers = append(s.closers, end)
	}
	url := p.database
	if url == "" {
		if url, err = p.ownDatabase(ctx, s); err != nil {
			s.Close()
			return nil, err
		}
	}
	before := func(ctx context.Context, u store.Update) error { return p.backUpBefore(ctx, url, u) }
	if s.Store, err = store.OpenWith(ctx, store.Options{URL: url, KeyFile: filepath.Join(data, backup.KeyFile), Log: p.log,
		BeforeUpdate:  before,
		Dial:          p.dial,
		Far:           p.far,
		ForgetSignIns: p.forgetSignIns, Spans: p.traces != ""}); err != nil {
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

// logTo returns a log that is written to w as the person wants it.
func (p *place) logTo(w io.Writer) *slog.Logger {
	o := &slog.HandlerOptions{Level: p.level}
	if p.form == "json" {
		return slog.New(slog.NewJSONHandler(w, o))
	}
	return slog.New(slog.NewTextHandler(w, o))
}

// runningIn returns the address of the database in a data folder, where that runs.
func runningIn(data string) (url string, ok bool) {
	return cluster.Running(cluster.Reachable(filepath.Join(data, "pg")))
}

// openBeside opens the store beside a server that may be running: it joins the database if that runs, and starts it if not.
func (p *place) openBeside(ctx context.Context) (*services, error) {
	data, err := filepath.Abs(p.data)
	if err != nil {
		return nil, err
	}
	if p.database == "" {
		if url, ok := runningIn(data); ok {
			beside := *p
			beside.database = url
			if s, err := beside.open(ctx); err == nil {
				return s, nil
			}
		}
	}
	return p.open(ctx)
}

func (p *place) ownDatabase(ctx context.Context, s *services) (string, error) {
	if err := os.MkdirAll(p.data, 0o755); err != nil {
		return "", p.folderError(err)
	}
	lock, err := os.OpenFile(filepath.Join(p.data, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return "", p.folderError(err)
	}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		lock.Close()
		return "", fmt.Errorf("another Unlatch is running already on the data folder %s: stop it first, or choose another folder with --data",
			p.data)
	}
	s.closers = append(s.closers, func() { lock.Close() })
	wanted := filepath.Join(p.data, "pg")
	dir := cluster.Reachable(wanted)
	if dir != wanted {
		fmt.Fprintf(os.Stderr, "The database lies in %s: PostgreSQL runs as a user of its own, which cannot enter the folders above %s.\n",
			dir, wanted)
	}
	c, err := cluster.Start(ctx, cluster.Options{Dir: dir, Log: p.log})
	if err != nil {
		return "", err
	}
	s.room = &server.Room{Folder: dir}
	s.closers = append(s.closers, c.Stop)
	return c.URL, nil
}

// folderError says what to do about a data folder that cannot be written to.
func (p *place) folderError(err error) error {
	do := "choose another with --data"
	switch {
	case errors.Is(err, fs.ErrPermission):
		do = "it belongs to somebody else: run this as that user, or choose another folder with --data"
	case errors.Is(err, syscall.EROFS):
		do = "its disk is mounted read-only: see whether that has a fault, or choose another folder with --data"
	case errors.Is(err, syscall.ENOSPC):
		do = "its disk is full: make room, or choose another folder with --data"
	}
	return fmt.Errorf("the data folder %s cannot be used: %w; %s", p.data, err, do)
}

// listener opens the address to serve on, with a fix where it cannot.
func (p *place) listener() (net.Listener, error) {
	if err := p.check(); err != nil {
		return nil, err
	}
	if l, err := passed(); l != nil || err != nil {
		return l, err
	}
	l, err := net.Listen("tcp", p.listen)
	switch {
	case errors.Is(err, syscall.EADDRINUSE):
		return nil, fmt.Errorf("%s is in use by another program: stop that, or choose another address, for example: --listen "+
			"127.0.0.1:8471", p.listen)
	case errors.Is(err, syscall.EACCES):
		return nil, fmt.Errorf("%s needs root: choose a port over 1023, for example: --listen 127.0.0.1:8470", p.listen)
	}
	return l, err
}

// workers starts workers in this process.
func (s *services) workers(p *place, o jobs.Options) (*jobs.Workers, error) {
	o.Resolver, o.Folder, o.Traced, o.Journal = p.resolver(), p.data, p.traces != "", p.journal
	o.RelayCores = p.relayCores
	var err error
	if o.FacesHost, o.Faces, err = p.faces(); err != nil {
		return nil, err
	}
	relays, err := p.relays()
	if err != nil {
		return nil, err
	}
	relays.tell(&o)
	w, err := jobs.StartWorkers(s.Store, p.log, o)
	if err != nil {
		relays.close()
	}
	if err == nil {
		if list := relays.listeners(); len(list) > 0 {
			ports := jobs.RelayPorts{Streams: list, Pages: relays.pages, Datagrams: relays.datagrams, Front: web.Files()}
			ctx, stop := context.WithCancel(context.Background())
			ended := make(chan struct{})
			go func() { defer close(ended); w.ServeRelays(ctx, o.Sites, ports) }()
			defer func() { s.closers = append(s.closers, func() { stop(); <-ended }) }() // before the workers are stopped
		}
		s.agent, s.live, s.meters = jobs.Here{Resolver: p.resolver()}, w, []prometheus.Collector{w.Metrics()}
		s.closers = append(s.closers, w.Stop)
	}
	return w, err
}

// serve answers on l until ctx ends: by TLS where it was asked for and where others can listen.
func (s *services) serve(ctx context.Context, p *place, l net.Listener, out io.Writer) error {
	if err := s.Store.Paired.EnsureRoles(ctx); err != nil {
		return err
	}
	code, err := s.setupCode(ctx)
	if err != nil {
		return err
	}
	public, err := p.publicURL()
	if err != nil {
		return err
	}
	proxies, err := address.Parse(p.proxies...)
	if err != nil {
		return err
	}
	signOn, err := p.signOn.provider(p.flagless["oidc-secret"])
	if err != nil {
		return err
	}
	secure, err := p.secure(l.Addr().(*net.TCPAddr).IP)
	if err != nil {
		return err
	}
	serving, stop := context.WithCancel(ctx)
	defer stop()
	scheme := "http"
	var kept *certs.Keeper
	if secure {
		scheme = "https"
		if l, kept, err = p.overTLS(serving, l); err != nil {
			return err
		}
	}
	go s.watchRoom(serving, p.log)
	s.upkeep(serving, p, kept)
	h := &http.Server{
		Handler: server.New(serving, server.Config{Store: s.Store, Queue: s.Queue, Agent: s.agent, Live: s.live,
			MetricsToken: p.flagless["metrics-token"], Web: web.Files(), Log: p.log, SetupCode: code,
			Secure: secure || public != nil && public.Scheme == "https", PublicURL: public, TrustedProxies: proxies, Room: s.room,
			SignOn: signOn, Preparing: s.preparing, Meters: s.meters, Traced: p.traces != ""}),
		ReadHeaderTimeout: 10 * time.Second,
		ReadTimeout:       time.Minute,
		IdleTimeout:       90 * time.Second,
		MaxHeaderBytes:    64 << 10,
		ErrorLog:          slog.NewLogLogger(p.log.Handler(), slog.LevelDebug), // whoever speaks plainly to a TLS port is no news
		BaseContext:       func(net.Listener) context.Context { return serving },
	}
	ended := make(chan error, 1)
	go func() { ended <- h.Serve(l) }()
	address := scheme + "://" + shownAt(l.Addr(), public) + "/"
	if kept != nil {
		fmt.Fprintf(out, "\n  Certificate, SHA-256       %s\n", kept.Fingerprint())
		if kept.State().Source == doctor.SelfMade {
			fmt.Fprintln(out, "  It was made here, so a browser asks the first time: compare this line with what it shows.")
		}
	}
	if err := p.keepSetup(address, code); err != nil {
		return err
	}
	if code != "" {
		fmt.Fprintf(out, "\n  Make the first account at  %ssetup#%s\n  Set-up code                %s\n", address, code, code)
	} else {
		fmt.Fprintf(out, "\n  Unlatch serves at  %s\n", address)
	}
	tellReady(ctx, p.log, s.Store.Pool.Ping)
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

// keepSetup keeps the way to the first account in a file of the data folder, for a server that is started by the system: whoever may read
// that folder may read the key file too. Once there is an account the file is taken away.
func (p *place) keepSetup(address, code string) error {
	path := filepath.Join(p.data, "setup")
	if code == "" {
		if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return nil
	}
	return os.WriteFile(path, []byte(address+"setup#"+code+"\n"), 0o600)
}

// secure decides whether to serve by TLS at a listening address.
func (p *place) secure(at net.IP) (bool, error) {
	wanted := p.tls || p.certificate.wanted()
	if wanted && p.plain {
		return false, usageError{errors.New("--plain-http and a certificate exclude each other")}
	}
	return wanted || !at.IsLoopback() && !p.plain, nil
}

// check refuses wrong use before anything is started.
func (p *place) check() error {
	if err := errors.Join(p.certificate.check(), p.backups.check()); err != nil {
		return err
	}
	if p.certificate.directory != "" && p.public == "" {
		return usageError{errors.New("a certificate by ACME is for a name: set public-url to the one that people use")}
	}
	if _, err := netip.ParseAddrPort(p.nameServer); err != nil && p.nameServer != "" {
		return usageError{fmt.Errorf("--name-server: write it as address and port, such as 192.0.2.53:53")}
	}
	if _, err := p.publicURL(); err != nil {
		return err
	}
	if _, err := address.Parse(p.proxies...); err != nil {
		return usageError{fmt.Errorf("--trusted-proxy: %w", err)}
	}
	_, err := p.signOn.provider(p.flagless["oidc-secret"])
	return err
}

// publicURL reads --public-url.
func (p *place) publicURL() (*url.URL, error) {
	if p.public == "" {
		return nil, nil
	}
	u, err := url.Parse(p.public)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || strings.Trim(u.Path, "/") != "" {
		return nil, usageError{errors.New("--public-url takes an address such as https://bench.example")}
	}
	return u, nil
}

// watchRoom says when the disk of the database is nearly full, and when it is no longer.
func (s *services) watchRoom(ctx context.Context, log *slog.Logger) {
	if s.room == nil {
		return
	}
	for {
		if low, turned := s.room.Turned(); turned {
			free, _ := s.room.Free()
			if low {
				log.Warn("the disk of the database is nearly full; free some space", "free bytes", free, "folder", s.room.Folder)
			} else {
				log.Warn("the disk of the database has room again", "free bytes", free)
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(20 * time.Second):
		}
	}
}

// setupCode is made anew at each start for as long as there is no account.
func (s *services) setupCode(ctx context.Context) (string, error) {
	has, err := s.Store.People.Any(ctx)
	if err != nil || has {
		return "", err
	}
	raw := make([]byte, 10)
	rand.Read(raw)
	return base32.StdEncoding.EncodeToString(raw), nil
}

func serveCommand() *cobra.Command {
	p := &place{kind: "server"}
	var noWorkers bool
	c := &cobra.Command{Use: "serve", Short: "Run the server with its workers", Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
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
			if !noWorkers {
				if _, err := s.workers(p, jobs.Options{}); err != nil {
					return err
				}
			}
			return s.serve(cmd.Context(), p, l, cmd.OutOrStdout())
		}}
	p.flags(c, true)
	c.Flags().BoolVar(&noWorkers, "no-workers", false, "serve pages only: workers elsewhere (unlatch worker) reach the sites")
	return c
}
