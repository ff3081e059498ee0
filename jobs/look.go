package jobs

import (
	"context"
	"encoding/json"
	"errors"
	"net"
	"net/netip"
	"os"
	"runtime"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/rivertype"
	"golang.org/x/sync/errgroup"

	"unlatch/core/decide/command"
	"unlatch/core/ground/address"
	"unlatch/core/ground/certificate"
	"unlatch/core/ground/wiretext"
	"unlatch/core/wire/netconfig"
	"unlatch/store"
)

// An Agent answers short questions about the network of a site, from a machine that reaches it. The web process dials nothing itself.
type Agent interface {
	// Machine is the one that reaches a site, or any for the nil UUID.
	Machine(ctx context.Context, site uuid.UUID) (address.Machine, error)
	// Taken finds which addresses something answers at, with the port that did.
	Taken(ctx context.Context, site store.Site, addrs []netip.Addr) (map[netip.Addr]int, error)
	// Certificate agrees on TLS at the first place of a host that answers, which a person has stated, and returns what is shown there.
	// Nothing else is sent.
	Certificate(ctx context.Context, site store.Site, host string, at []netip.AddrPort) (*certificate.Certificate, error)
	// Addresses looks a name up, as address.Lookup does.
	Addresses(ctx context.Context, site store.Site, name string) ([]netip.Addr, error)
}

// Here is the agent of a process that works itself. Resolver looks names up; nil means the name servers of the machine.
type Here struct{ Resolver address.Resolver }

// Addresses implements Agent.
func (h Here) Addresses(ctx context.Context, _ store.Site, name string) ([]netip.Addr, error) {
	if h.Resolver == nil {
		h.Resolver = net.DefaultResolver
	}
	return address.Lookup(ctx, h.Resolver, name)
}

// Machine implements Agent.
func (Here) Machine(context.Context, uuid.UUID) (address.Machine, error) {
	name, err := os.Hostname()
	if err != nil {
		name = "this machine"
	}
	cards, err := address.Interfaces()
	return address.Machine{Name: wiretext.Line(name, 100), System: runtime.GOOS, Interfaces: cards}, err
}

// asksAtOnce is how many addresses are looked at together.
const asksAtOnce = 32

// Taken implements Agent.
func (Here) Taken(ctx context.Context, site store.Site, addrs []netip.Addr) (map[netip.Addr]int, error) {
	guard := &address.Guard{Allowed: site.Ranges}
	out := map[netip.Addr]int{}
	var mu sync.Mutex
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(asksAtOnce)
	for _, a := range addrs {
		group.Go(func() error {
			var occupied *netconfig.OccupiedError
			if err := netconfig.Free(ctx, guard, a); errors.As(err, &occupied) {
				mu.Lock()
				out[a] = occupied.Port
				mu.Unlock()
			}
			return ctx.Err()
		})
	}
	return out, group.Wait()
}

// Certificate implements Agent.
func (Here) Certificate(ctx context.Context, site store.Site, host string, at []netip.AddrPort) (*certificate.Certificate, error) {
	ctx, done := context.WithTimeout(ctx, certificateWait)
	defer done()
	guard := &address.Guard{Allowed: site.Ranges, Targets: at, Timeout: certificateWait / 2}
	var conn net.Conn
	err := errors.New("there is no address to ask")
	for _, a := range at {
		if conn, err = guard.DialContext(ctx, "tcp", a.String()); err == nil {
			break
		}
	}
	if err != nil {
		return nil, err
	}
	conn, shown, err := certificate.Agree(ctx, conn, host, "", nil)
	if err != nil {
		return nil, err
	}
	conn.Close()
	return shown, nil
}

// certificateWait is how long something gets to show its certificate.
const certificateWait = 8 * time.Second

// questionArgs is a job: a question to a worker.
type questionArgs struct{ command.Question }

// Kind implements river.JobArgs.
func (questionArgs) Kind() string { return "question" }

// questionAnswer is the answer.
type questionAnswer struct {
	Machine address.Machine `json:"machine"`
	Taken   map[string]int  `json:"taken,omitempty"`
	// Certificate is what was shown, and Failed why nothing was.
	Certificate *certificate.Certificate `json:"certificate,omitempty"`
	Failed      string                   `json:"failed,omitempty"`
	Addresses   []netip.Addr             `json:"addresses,omitempty"`
}

type questionWorker struct {
	river.WorkerDefaults[questionArgs]
	env *env
}

func (w *questionWorker) Work(ctx context.Context, job *river.Job[questionArgs]) error {
	var out questionAnswer
	var err error
	var site store.Site
	if job.Args.Site != uuid.Nil {
		if site, err = w.env.store.Sites.Get(ctx, job.Args.Site); err != nil {
			return river.JobCancel(err)
		}
	}
	here := Here{Resolver: w.env.resolver}
	var failed error
	switch {
	case job.Args.Name != "":
		out.Addresses, failed = here.Addresses(ctx, site, job.Args.Name)
	case len(job.Args.Shows) > 0:
		out.Certificate, failed = here.Certificate(ctx, site, job.Args.Host, job.Args.Shows)
	case len(job.Args.Addrs) == 0:
		out.Machine, err = here.Machine(ctx, job.Args.Site)
	default:
		var taken map[netip.Addr]int
		taken, err = here.Taken(ctx, site, job.Args.Addrs)
		out.Taken = map[string]int{}
		for a, port := range taken {
			out.Taken[a.String()] = port
		}
	}
	if failed != nil {
		out.Failed = failed.Error()
	}
	if err != nil {
		return river.JobCancel(err)
	}
	return river.RecordOutput(ctx, out)
}

// ErrNobody means that no worker answers for a site.
var ErrNobody = errors.New("no worker that reaches this site answers")

// Machine implements Agent, by way of a worker.
func (q *Queue) Machine(ctx context.Context, site uuid.UUID) (address.Machine, error) {
	out, err := q.look(ctx, command.Question{Site: site})
	return out.Machine, err
}

// Taken implements Agent, by way of a worker.
func (q *Queue) Taken(ctx context.Context, site store.Site, addrs []netip.Addr) (map[netip.Addr]int, error) {
	if len(addrs) == 0 {
		return nil, nil
	}
	out, err := q.look(ctx, command.Question{Site: site.ID, Addrs: addrs})
	taken := map[netip.Addr]int{}
	for text, port := range out.Taken {
		a, err := netip.ParseAddr(text)
		if err != nil {
			return nil, err
		}
		taken[a] = port
	}
	return taken, err
}

// Certificate implements Agent, by way of a worker.
func (q *Queue) Certificate(ctx context.Context, site store.Site, host string, at []netip.AddrPort) (*certificate.Certificate, error) {
	out, err := q.look(ctx, command.Question{Site: site.ID, Shows: at, Host: host})
	if err == nil && out.Certificate == nil {
		err = errors.New(out.Failed)
	}
	return out.Certificate, err
}

// Addresses implements Agent, by way of a worker.
func (q *Queue) Addresses(ctx context.Context, site store.Site, name string) ([]netip.Addr, error) {
	out, err := q.look(ctx, command.Question{Site: site.ID, Name: name})
	if err == nil && len(out.Addresses) == 0 {
		err = errors.New(out.Failed)
	}
	return out.Addresses, err
}

// How long a worker gets to answer, and how often its answer is looked for.
const (
	lookWait  = 15 * time.Second
	lookEvery = 30 * time.Millisecond
)

func (q *Queue) look(ctx context.Context, a command.Question) (out questionAnswer, err error) {
	ctx, done := context.WithTimeout(ctx, lookWait)
	defer done()
	opts := &river.InsertOpts{MaxAttempts: 1, Metadata: metadata(ctx)}
	if a.Site != uuid.Nil {
		opts.Queue = queueOf(a.Site)
	}
	asked, err := q.client.Insert(ctx, questionArgs{a}, opts)
	if err != nil {
		return out, err
	}
	for {
		job, err := q.client.JobGet(ctx, asked.Job.ID)
		switch {
		case err != nil && ctx.Err() == nil:
			return out, err
		case err == nil && job.State == rivertype.JobStateCompleted:
			return out, json.Unmarshal(job.Output(), &out)
		case err == nil && job.FinalizedAt != nil:
			return out, ErrNobody
		}
		select {
		case <-ctx.Done():
			keep, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
			defer cancel()
			q.client.JobCancel(keep, asked.Job.ID) // nobody waits for the answer any more
			return out, ErrNobody
		case <-time.After(lookEvery):
		}
	}
}
