// Package jobs is the long work: River jobs that drive core over the store. A job may be killed at any moment: what it found
// is already kept, and it goes on from there when another worker takes it up.
package jobs

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivertype"

	"unlatch/core/decide/doctor"
	"unlatch/core/ground/address"
	"unlatch/core/ground/fair"
	"unlatch/core/ground/journal"
	"unlatch/core/ground/redact"
	"unlatch/core/ground/wiretext"
	"unlatch/core/stream/conversion"
	"unlatch/core/work/bringup"
	"unlatch/core/work/convert"
	"unlatch/core/work/fanout"
	"unlatch/core/work/live"
	"unlatch/core/work/relay"
	"unlatch/store"
)

// Workers takes jobs from the queue, in this process, until stopped.
type Workers struct {
	env       *env
	client    *river.Client[pgx.Tx]
	stop      context.CancelFunc
	done      chan struct{}
	attendant *attendant
	// faces is the host on which relays have ONVIF faces; "" for nowhere.
	faces string
	// watching ends when listening for announcements has.
	watching sync.WaitGroup
}

// Tuning of the workers.
const (
	parallel = 100 // jobs at once; what flows meanwhile is bounded by the link budget
	moving   = 128 // devices that are given addresses or settings at once: they wait for restarts and for encoders to settle
)

// retryEarly begins a job again that was cut short: after its first attempt a while later, after its second twice that.
type retryEarly struct{ after time.Duration }

// NextRetry implements river.ClientRetryPolicy.
func (s retryEarly) NextRetry(job *rivertype.JobRow) time.Time {
	return time.Now().Add(time.Duration(len(job.Errors)+1) * s.after)
}

// Options are how a process works. The store of a worker elsewhere has it do what is of its sites alone. The zero value is usable.
type Options struct {
	Sites    []string         // names or IDs of those whose jobs it takes; none means all
	Resolver address.Resolver // looks the names of targets up; nil means the name servers of the machine
	Outside  bool             // this machine reaches the outside addresses of the sites and not their inside
	// Folder is where the process keeps its data. With one, the worker tells of itself and of its machine once a minute.
	Folder string
	// Relay is where the process serves streams on, as address and port, of which it tells; "" for nowhere.
	Relay string
	// RelayTLS is where it does so over TLS.
	RelayTLS string
	// FacesHost is where ONVIF faces of relays listen, and Faces are their ports; "" and none where none are made.
	FacesHost string
	// PagesAt is where streams are served to web pages, as address and port, and Pages the address under which browsers reach that; "" for
	// nowhere.
	PagesAt, Pages string
	Faces          doctor.Ports
	// OnlyLooks has it refuse whatever would change a device or a target.
	OnlyLooks bool
	// Journal is where a worker elsewhere keeps what it sees while its line is cut; nil has it see nothing then.
	Journal *journal.Journal
	// RelayCores is how many processor cores conversions may take in all; 0 for half of the machine's.
	RelayCores float64
	far        bool // the store is that of a worker elsewhere
	// Traced says that spans go somewhere: then each connection to a device is one.
	Traced bool
}

// commonQueue returns the queue that the process takes besides those of sites. For a worker elsewhere it is one that stays empty.
func (o Options) commonQueue() string {
	switch {
	case o.far:
		return "far-idle"
	case o.Outside:
		return "outside"
	}
	return river.QueueDefault
}

// StartWorkers begins to take jobs.
func StartWorkers(s *store.Store, log *slog.Logger, o Options) (*Workers, error) {
	return startWorkers(s, log, hooks{}, o)
}

func startWorkers(s *store.Store, log *slog.Logger, h hooks, o Options) (*Workers, error) {
	o.far = s.IsFar()
	ctx, cancel := context.WithCancel(context.Background())
	log = slog.New(originHandler{log.Handler()})
	name := fmt.Sprintf("worker-%d-%s", os.Getpid(), uuid.NewString()[:8])
	queue, err := NewQueue(s, log)
	if err != nil {
		cancel()
		return nil, err
	}
	env := &env{store: s, log: log, hooks: h, queue: queue, resolver: o.Resolver, packing: make(chan struct{}, 1),
		traced: o.Traced, onlyLooks: o.OnlyLooks, gate: fair.New(cmp.Or(h.Places, places())), again: make(chan struct{}, 1),
		relaysAt: []string{o.Relay, o.RelayTLS, o.PagesAt}}
	env.converting.Set(conversion.Rates{Budget: cmp.Or(o.RelayCores, float64(runtime.NumCPU())/2)})
	env.meter = newMeter(&env.links)
	env.said.tell = func(run uuid.UUID, doing string) { s.Runs.Progress(context.Background(), run, doing, -1) }
	workers := river.NewWorkers()
	river.AddWorker(workers, &deviceWorker{env: env})
	river.AddWorker(workers, &targetWorker{env: env})
	river.AddWorker(workers, &siteWorker{env: env})
	river.AddWorker(workers, &questionWorker{env: env})
	river.AddWorker(workers, &tellWorker{env: env})
	client, err := river.NewClient(riverpgxv5.New(s.Pool), &river.Config{
		ID: name, Workers: workers, Logger: spare(log),
		Queues:            map[string]river.QueueConfig{o.commonQueue(): {MaxWorkers: parallel}},
		FetchCooldown:     50 * time.Millisecond,
		FetchPollInterval: time.Second,
		JobTimeout:        jobTimeout,
		MaxAttempts:       maxAttempts,
		RetryPolicy:       retryEarly{cmp.Or(h.RetryAfter, time.Second)},
		Middleware: []rivertype.Middleware{river.WorkerMiddlewareFunc(env.underOrigin), river.WorkerMiddlewareFunc(env.ofSite),
			river.WorkerMiddlewareFunc(env.meter.timed),
			river.WorkerMiddlewareFunc(env.underLease)},
		RescueStuckJobsAfter: time.Hour, // dead workers are found sooner by their lock
	})
	if err != nil {
		cancel()
		return nil, err
	}
	w := &Workers{env: env, client: client, stop: cancel, done: make(chan struct{}), faces: o.FacesHost}
	held := make(chan struct{}, 1)
	go func() {
		defer close(w.done)
		s.Workers.Hold(ctx, name, func(lease context.Context, l store.Lease) {
			env.hold(lease, l)
			select {
			case held <- struct{}{}:
			default:
			}
		})
	}()
	// No job is taken before the lock is held: another worker would take it for one whose worker has died.
	select {
	case <-held:
	case <-time.After(30 * time.Second):
		cancel()
		return nil, errors.New("the database does not answer")
	}
	if err := client.Start(ctx); err != nil {
		cancel()
		return nil, err
	}
	attendant := &attendant{env: env, client: client, reach: o.Sites, outside: o.Outside, queues: map[uuid.UUID]bool{}}
	if err := attendant.look(ctx); err != nil {
		w.Stop()
		return nil, err
	}
	w.attendant = attendant
	w.attend(ctx, attendant, o)
	return w, nil
}

// attend begins what a worker does besides its jobs, until ctx ends: it keeps in step with its sites, listens, looks in rounds and tells.
func (w *Workers) attend(ctx context.Context, a *attendant, o Options) {
	log := w.env.log
	w.watching.Go(func() { a.attend(ctx, log) })
	if !o.far {
		go rescue(ctx, w.env.store, log)
	}
	if o.Folder != "" {
		since := time.Now().UTC()
		w.watching.Go(func() {
			Report(ctx, w.env.store, log, w.env.again, func(ctx context.Context) doctor.Process { return a.process(ctx, since, o) })
		})
	}
	if o.Journal != nil && o.far && !o.Outside {
		w.env.away = newAwayWatch(w.env, o.Journal, w.env.hooks.AwayClock)
		w.watching.Go(func() { w.env.away.run(ctx) })
	}
	if !o.Outside {
		w.watching.Go(func() { w.env.watch(ctx, o.Sites) })
		w.watching.Go(func() { newRounds(w.env, o.Sites).run(ctx) })
	}
	if !o.Outside && !o.far {
		w.watching.Go(func() { w.env.tell(ctx) })
	}
}

// rescue looks for jobs whose worker has died, now and every few seconds.
func rescue(ctx context.Context, s *store.Store, log *slog.Logger) {
	for {
		if n, err := s.Workers.Rescue(ctx); err == nil && n > 0 {
			log.Info("taking up jobs whose worker has died", "jobs", n)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(5 * time.Second):
		}
	}
}

// Stop ends the workers. Jobs under way are cut short and stay in the queue for the next start.
func (w *Workers) Stop() {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	w.client.StopAndCancel(ctx)
	w.stop()
	w.watching.Wait()
	<-w.done
}

// env is what every worker needs.
type env struct {
	store *store.Store
	log   *slog.Logger
	hooks hooks
	queue *Queue // for work that follows from work

	packing    chan struct{} // held by whoever makes a handover pack: one takes some hundred MB
	links      links
	lists      bringup.Lists
	meter      *meter
	traced     bool // spans go somewhere
	onlyLooks  bool // nothing is changed
	gate       *fair.Gate
	looks      live.Hub
	said       latest                       // by jobs, of what they do
	streams    fanout.Hub                   // what looks, relays and pushes take
	relaysAt   []string                     // where this process serves streams on, as addresses with ports
	relaying   atomic.Pointer[relay.Server] // nil where this process serves none
	converting convert.Machine
	measured   atomic.Bool   // what converting costs is known
	again      chan struct{} // the process has something to tell of itself
	agreements agreements
	away       *awayWatch             // nil where nothing is seen while the line is cut
	forgot     time.Time              // when this process last looked what is kept no longer
	findings   []doctor.ServerFinding // of the installation, as of judgedAt
	judgedAt   time.Time
	// resolver looks the names of targets up; nil means the name servers of the machine.
	resolver address.Resolver

	mu    sync.Mutex
	until context.Context // ends with the lease
	lease store.Lease
}

// hold takes a new lease.
func (e *env) hold(until context.Context, l store.Lease) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.until, e.lease = until, l
}

// held returns the present lease.
func (e *env) held() (store.Lease, bool) {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.lease, e.until != nil && e.until.Err() == nil
}

// underLease runs a job for as long as the lease holds that it was begun with.
func (e *env) underLease(ctx context.Context, _ *rivertype.JobRow, work func(context.Context) error) error {
	ctx, end := e.leased(ctx)
	defer end()
	return work(ctx)
}

// leased is ctx for the time of the present lease: a worker that loses it stops what it does, and what it would still write or try is
// refused by the database.
func (e *env) leased(ctx context.Context) (context.Context, context.CancelFunc) {
	e.mu.Lock()
	defer e.mu.Unlock()
	ctx, cancel := context.WithCancelCause(ctx)
	if e.until == nil {
		return ctx, func() { cancel(nil) }
	}
	stop := context.AfterFunc(e.until, func() { cancel(store.ErrFenced) })
	return store.WithLease(ctx, e.lease), func() { stop(); cancel(nil) }
}

// finish turns what a job's work returned into what River does with it: done, stopped, or again later.
func (e *env) finish(ctx context.Context, run uuid.UUID, err error) error {
	stopped := errors.Is(context.Cause(ctx), rivertype.ErrJobCancelledRemotely)
	switch {
	case err == nil:
		return nil
	case stopped:
		return river.JobCancel(errors.New("stopped by the person"))
	case ctx.Err() == nil && store.Away(err) || errors.Is(err, store.ErrFenced) || errors.Is(context.Cause(ctx), store.ErrFenced) ||
		errors.Is(err, store.ErrSignInChanged) || errors.Is(context.Cause(ctx), store.ErrLockLost):
		e.log.WarnContext(ctx, "the work goes on where it was: the database is away, this worker's lease has ended or a sign-in was changed",
			"err", err)
		return river.JobSnooze(2 * time.Second) // it is nobody's fault and counts as no attempt
	case ctx.Err() != nil || errors.Is(err, context.DeadlineExceeded):
		// The process ends, the time is up, or the database has answered too late: River runs it again, later each time.
		return err
	}
	// Trying again would not change it: the run says what happened.
	keep, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	e.store.Keep(keep, "the problem of a run", func(ctx context.Context) error { return e.store.Runs.Problem(ctx, run, problemText(err)) })
	return river.JobCancel(err)
}

// problemText returns an error as a run shows it. What the database says is for the log: nobody else is helped by SQL.
func problemText(err error) string {
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		return "Something went wrong in Unlatch itself; the server's log has the details."
	}
	return wiretext.Line(redact.Text(err.Error()), 500)
}

// announce tells readers once River has had the time to note the end of a job.
func (e *env) announce(site, run uuid.UUID) {
	time.AfterFunc(150*time.Millisecond, func() {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		e.store.Runs.Announce(ctx, site, run)
	})
}
