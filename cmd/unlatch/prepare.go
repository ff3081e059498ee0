package main

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"

	"unlatch/demo"
	"unlatch/jobs"
	"unlatch/sim"
)

// A preparation is what the demo does behind its pages, so that somebody can sign in at once: the pictures of the railway are drawn
// where that has not been done, its stand-ins started, and the station's cameras worked through.
type preparation struct {
	place    *place
	scenario *sim.Scenario
	network  string
	screens  string // the server's address as the railway's screens reach it
	out      io.Writer

	mu    sync.Mutex
	doing string
}

// unfinished is the file that stands in the data folder until the station has been worked through, so that a demo that was
// stopped meanwhile goes on when it is started again.
func unfinished(p *place) string { return filepath.Join(p.data, "demo-unfinished") }

// prepare runs a preparation beside the server, and ends it before the rest of the services.
func (s *services) prepare(ctx context.Context, p *preparation) {
	ctx, cancel := context.WithCancel(ctx)
	ended := make(chan *sim.World)
	s.preparing = p.Doing
	p.say("Starting the railway")
	go func() {
		w, err := p.run(ctx, s)
		switch {
		case err == nil:
			p.say("")
			fmt.Fprintf(p.out, "  The railway is ready.\n")
		case ctx.Err() == nil:
			p.say("The demo could not be prepared: " + err.Error())
			fmt.Fprintf(p.out, "  The demo could not be prepared: %v\n", err)
		}
		ended <- w
	}()
	s.closers = append(s.closers, func() {
		cancel()
		if w := <-ended; w != nil {
			w.Stop()
		}
	})
}

// Doing says what is being prepared; "" when all is.
func (p *preparation) Doing() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.doing
}

func (p *preparation) say(doing string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.doing = doing
}

// run returns the world that it started, also with an error.
func (p *preparation) run(ctx context.Context, s *services) (*sim.World, error) {
	w, err := startSim(ctx, p.scenario, p.place.data, func(done, all int) {
		p.say(fmt.Sprintf("Drawing the railway’s pictures: %d of %d", done, all))
	})
	if err != nil {
		return nil, err
	}
	if _, err := os.Stat(unfinished(p.place)); err == nil {
		p.say("Working at " + demo.Station + ": sweeping, proving and placing its cameras")
		by, err := s.Store.People.ByName(ctx, demoPerson)
		if err != nil {
			return w, err
		}
		desk := jobs.Desk{Store: s.Store, Queue: s.Queue}
		if err := demo.Work(ctx, desk, by.Person, p.network); err != nil {
			return w, err
		}
		p.say("Letting things happen at " + demo.Station)
		if err := demo.Drift(ctx, desk, by.Person, p.network, w); err != nil {
			return w, err
		}
		if err := os.Remove(unfinished(p.place)); err != nil {
			return w, err
		}
	}
	return w, feedScreens(ctx, s, w, p.screens)
}
