package server

import (
	"context"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/latch"
	"unlatch/jobs"
	"unlatch/store"
)

// acts carry acts out.
type acts struct {
	problems
	store  *store.Store
	queue  *jobs.Queue
	lineUp *lineUp
	now    func() time.Time
}

// A resource is what every kind of thing that the API tells of is served with. Each kind has a type of its own, with what it needs besides.
type resource struct{ acts }

// do carries an act out for whoever is signed in. Its error is a *Problem.
func (a acts) do(ctx context.Context, what act.Act) (jobs.Done, error) {
	done, err := a.desk().Do(ctx, person(ctx), what)
	return done, a.explain(err)
}

func (a acts) desk() jobs.Desk {
	return jobs.Desk{Store: a.store, Queue: a.queue, States: a.lineUp.states, Now: a.now}
}

// TryQuery asks what an act would leave out. It is exported because huma reads exported fields only.
type TryQuery struct {
	Try bool `query:"try" doc:"say which devices would be left out, and do nothing"`
}

// tryOrBegin is begin for acts over many devices, which can be asked first what they would leave out.
func (a acts) tryOrBegin(ctx context.Context, try TryQuery, what act.Act) (*runOut, error) {
	if !try.Try {
		return a.begin(ctx, what)
	}
	out, err := a.desk().Weigh(ctx, person(ctx), what)
	return &runOut{begunView{runView{State: "finished", Kind: "open"}, out.Left, out.Slots}}, a.explain(err)
}

// runOut is the run that an act began, and what the act left out.
type runOut struct{ Body begunView }

type begunView struct {
	runView
	Left  []act.Left        `json:"left,omitempty" doc:"the devices that were left out, with the reason of each"`
	Slots []act.PlannedSlot `json:"slots,omitempty" doc:"the slots that cameras go into, in order"`
}

// begin carries an act out that begins a run.
func (a acts) begin(ctx context.Context, what act.Act) (*runOut, error) {
	done, err := a.do(ctx, what)
	if err != nil {
		return nil, err
	}
	return &runOut{begunView{viewOfRun(*done.Run, time.Now()), done.Left, done.Slots}}, nil
}

// leftOut is what an act that begins no run left out.
type leftOut struct {
	Body struct {
		Left []act.Left `json:"left" doc:"the devices that were left out, with the reason of each"`
	}
}

// keep carries an act out of which nothing is told.
func (a acts) keep(ctx context.Context, what act.Act) (*struct{}, error) {
	_, err := a.do(ctx, what)
	return nil, err
}

// states are devices of a site with their states, as the line-up has them.
func (l *lineUp) states(ctx context.Context, site uuid.UUID, devices []uuid.UUID) ([]*latch.Device, error) {
	up, err := l.site(ctx, site)
	if err != nil {
		return nil, err
	}
	defer up.mu.Unlock()
	var out []*latch.Device
	for _, id := range devices {
		if x := up.devices[id]; x != nil {
			out = append(out, x.d.Latch())
		}
	}
	return out, nil
}

// all returns the devices of a site with their states, as the line-up has them, in their order.
func (l *lineUp) all(ctx context.Context, site uuid.UUID) ([]*latch.Device, error) {
	up, err := l.site(ctx, site)
	if err != nil {
		return nil, err
	}
	defer up.mu.Unlock()
	return up.latches(), nil
}

// latches returns the devices of the line-up in their order, as core knows them.
func (s *siteLineUp) latches() []*latch.Device {
	out := make([]*latch.Device, len(s.order))
	for i, x := range s.order {
		out[i] = x.d.Latch()
	}
	return out
}
