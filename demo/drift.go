package demo

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/latch"
	"unlatch/core/decide/ready"
	"unlatch/core/decide/watchround"
	"unlatch/core/stream/media"
	"unlatch/jobs"
	"unlatch/sim"
	"unlatch/store"
)

// troubles are what has happened at the station since its state was agreed on: six cameras, and two of them for one cause.
var troubles = []sim.Trouble{
	{Kind: "firmware", Name: "Footbridge", To: "4.3.1"},
	{Kind: "settings", Name: "Platform clock"},
	{Kind: "cover", Name: "Signal box stairs"},
	{Kind: "clock", Name: "Crossing south"},
	{Kind: "slot", Name: "Platform clock", To: "Overlea Desk"},
	{Kind: "slot", Name: "Footbridge", To: "Overlea Desk"},
}

// Drift agrees on the state of the station that Work has left, has it watched, and lets things happen there. A week is invented that the
// watch has seen before.
func Drift(ctx context.Context, desk jobs.Desk, by act.Person, network string, world *sim.World) error {
	r := &railway{desk, by, cmp.Or(network, Network)}
	sites, err := desk.Store.Sites.List(ctx)
	if err != nil {
		return err
	}
	for _, site := range sites {
		if site.Name == Station {
			return r.drift(ctx, site.ID, world)
		}
	}
	return nil
}

func (r *railway) drift(ctx context.Context, station uuid.UUID, world *sim.World) error {
	devices, err := r.desk.Store.Devices.List(ctx, station)
	if err != nil {
		return err
	}
	var agreed []uuid.UUID
	var usual []media.Measured
	for i := range devices {
		st := &devices[i].Status
		if p := st.Proofs["main"]; st.InScope() && st.Latch(latch.Proven).State == latch.Open && p.Video != nil {
			agreed, usual = append(agreed, devices[i].ID), append(usual, *p.Video)
		}
	}
	if err := r.do(ctx, act.TakeBaseline{ID: uuid.Must(uuid.NewV7()), Site: station, Devices: agreed, Name: "Handed over", Whole: true,
		Reason: "The station opens on Saturday; the rest is done in the winter."}); err != nil {
		return err
	}
	if err := r.week(ctx, station, agreed, usual); err != nil {
		return err
	}
	if err := r.do(ctx, act.SetRounds{Site: station, Rule: watchround.WatchRule{On: true}, Agreed: true}); err != nil {
		return err
	}
	if err := r.handOver(ctx, station); err != nil {
		return err
	}
	for _, t := range troubles {
		if err := world.Trouble(t); err != nil {
			return fmt.Errorf("%s: %w", t.Kind, err)
		}
	}
	return r.hurry(ctx, station, len(agreed))
}

// handOver makes a version of the station's handover pack, in the name of an invented firm.
func (r *railway) handOver(ctx context.Context, station uuid.UUID) error {
	for _, a := range []act.Act{
		act.SetFirm{Name: "Fellside Signals"},
		act.WaiveFinding{Site: station, Cause: ready.OneSignIn, Things: []uuid.UUID{station}, Titles: []string{Station},
			Reason: "One fitter looks after all of them until the winter."},
		act.MakeHandover{Site: station, ID: uuid.Must(uuid.NewV7()), HandoverForm: act.HandoverForm{Language: "en",
			Base: "https://unlatch.tarnside.example"}},
	} {
		if err := r.do(ctx, a); err != nil {
			return err
		}
	}
	return nil
}

// hurry has all that is watched looked at now, once the workers have taken it up.
func (r *railway) hurry(ctx context.Context, station uuid.UUID, cameras int) error {
	for {
		how, err := r.desk.Store.Watched.How(ctx, station, time.Now())
		if err != nil {
			return err
		}
		if how.Things >= cameras {
			return r.desk.Store.Watched.Hurry(ctx, station, time.Now())
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// week invents what the watch has seen of cameras in the last seven days: they were up, but for a night in which the server stood still and
// a morning in which the switch of two of them was out.
func (r *railway) week(ctx context.Context, station uuid.UUID, cameras []uuid.UUID, usual []media.Measured) error {
	now := time.Now().UTC().Truncate(time.Hour)
	from := now.AddDate(0, 0, -7)
	still := from.AddDate(0, 0, 3).Add(2 * time.Hour)
	out := from.AddDate(0, 0, 5).Add(7 * time.Hour)
	rnd := rand.New(rand.NewPCG(41, 7)) // the same week each time
	for i, id := range cameras {
		spans := []watchround.SeenSpan{{State: watchround.Up, From: from, To: still}}
		if i < 2 {
			spans = append(spans, watchround.SeenSpan{State: watchround.Up, From: still.Add(5 * time.Hour), To: out},
				watchround.SeenSpan{State: watchround.Down, From: out.Add(15 * time.Minute), To: out.Add(100 * time.Minute)},
				watchround.SeenSpan{State: watchround.Up, From: out.Add(115 * time.Minute), To: now})
		} else {
			spans = append(spans, watchround.SeenSpan{State: watchround.Up, From: still.Add(5 * time.Hour), To: now})
		}
		if err := r.desk.Store.Watched.Remember(ctx, station, id, spans); err != nil {
			return err
		}
		if err := r.measures(ctx, id, spans, usual[i], rnd); err != nil {
			return err
		}
	}
	return nil
}

// measures invents what was measured in the times in which a camera was up; usual is what it measures now.
func (r *railway) measures(ctx context.Context, id uuid.UUID, spans []watchround.SeenSpan, usual media.Measured, rnd *rand.Rand) error {
	for what, at := range map[string]func(t time.Time) float64{
		"bitrate main": func(t time.Time) float64 { // busy by day
			day := math.Max(0, math.Sin((float64(t.Hour())-6)/12*math.Pi))
			return usual.BitrateKbps * (0.55 + 0.4*day + 0.08*rnd.Float64())
		},
		"rate main": func(time.Time) float64 { return usual.FPS - 0.2*rnd.Float64() },
		"skew":      func(time.Time) float64 { return 400 + 120*rnd.Float64() },
	} {
		for res, step := range map[store.Resolution]time.Duration{store.Quarters: 15 * time.Minute, store.Hours: time.Hour} {
			var points []store.MeasuredPoint
			for _, s := range spans {
				for t := s.From; s.State == watchround.Up && t.Before(s.To); t = t.Add(step) {
					v := at(t)
					points = append(points, store.MeasuredPoint{At: t, Mean: v, Least: v * 0.97, Most: v * 1.03})
				}
			}
			if err := r.desk.Store.Watched.RememberMeasures(ctx, id, res, what, points); err != nil {
				return err
			}
		}
	}
	return nil
}
