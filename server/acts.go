package server

import (
	"context"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/latch"
	"unlatch/jobs"
)

// do carries an act out for whoever is signed in. Its error is a *Problem.
func (s *Server) do(ctx context.Context, a act.Act) (jobs.Done, error) {
	done, err := s.desk().Do(ctx, person(ctx), a)
	return done, s.explain(err)
}

func (s *Server) desk() jobs.Desk {
	return jobs.Desk{Store: s.cfg.Store, Queue: s.cfg.Queue, States: s.lineUp.states, Now: s.cfg.Now}
}

// TryQuery asks what an act would leave out. It is exported because huma reads exported fields only.
type TryQuery struct {
	Try bool `query:"try" doc:"say which devices would be left out, and do nothing"`
}

// tryOrBegin is begin for acts over many devices, which can be asked first what they would leave out.
func (s *Server) tryOrBegin(ctx context.Context, try TryQuery, a act.Act) (*runOut, error) {
	if !try.Try {
		return s.begin(ctx, a)
	}
	left, err := s.desk().Weigh(ctx, person(ctx), a)
	return &runOut{begunView{runView{State: "finished", Kind: "open"}, left}}, s.explain(err)
}

// runOut is the run that an act began, and what the act left out.
type runOut struct{ Body begunView }

type begunView struct {
	runView
	Left []act.Left `json:"left,omitempty" doc:"the devices that were left out, with the reason of each"`
}

// begin carries an act out that begins a run.
func (s *Server) begin(ctx context.Context, a act.Act) (*runOut, error) {
	done, err := s.do(ctx, a)
	if err != nil {
		return nil, err
	}
	return &runOut{begunView{viewOfRun(*done.Run, time.Now()), done.Left}}, nil
}

// leftOut is what an act that begins no run left out.
type leftOut struct {
	Body struct {
		Left []act.Left `json:"left" doc:"the devices that were left out, with the reason of each"`
	}
}

// keep carries an act out of which nothing is told.
func (s *Server) keep(ctx context.Context, a act.Act) (*struct{}, error) {
	_, err := s.do(ctx, a)
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

// latches are the devices of the line-up in their order, as core knows them.
func (s *siteLineUp) latches() []*latch.Device {
	out := make([]*latch.Device, len(s.order))
	for i, x := range s.order {
		out[i] = x.d.Latch()
	}
	return out
}
