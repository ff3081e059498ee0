package jobs

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/drift"
	"unlatch/core/decide/watchround"
	"unlatch/core/stream/picturematch"
	"unlatch/store"
)

// agreements keeps what was agreed on at sites at hand: it is read anew only when another state was agreed on.
type agreements struct {
	mu    sync.Mutex
	sites map[uuid.UUID]agreement
}

type agreement struct {
	over   uuid.UUID
	agreed *drift.Agreed
}

// of returns what was agreed on at a site when that was read last; the zero agreement where it was not.
func (a *agreements) of(site uuid.UUID) agreement {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.sites[site]
}

// agreedAt returns what was agreed on at a site; nil where nothing was.
func (e *env) agreedAt(ctx context.Context, site uuid.UUID) (*drift.Agreed, error) {
	newest, err := e.store.Baselines.Newest(ctx, site)
	if err != nil || newest == uuid.Nil {
		return nil, err
	}
	known := e.agreements.of(site)
	if known.over == newest {
		return known.agreed, nil
	}
	state, over, err := e.store.Baselines.Agreed(ctx, site)
	if err != nil {
		return nil, err
	}
	known = agreement{over, drift.Index(state)}
	e.agreements.mu.Lock()
	defer e.agreements.mu.Unlock()
	if e.agreements.sites == nil {
		e.agreements.sites = map[uuid.UUID]agreement{}
	}
	e.agreements.sites[site] = known
	return known.agreed, nil
}

// settle compares a device with what was agreed on of it and keeps how its drifts stand. after is the look before this one, the zero time
// for none. It returns the drifts that the device has now.
func (e *env) settle(ctx context.Context, device uuid.UUID, after, at time.Time) ([]drift.Drift, error) {
	d, err := e.store.Devices.Get(ctx, device)
	if err != nil {
		return nil, err
	}
	agreed, err := e.agreedAt(ctx, d.Site)
	if err != nil || agreed == nil {
		return nil, err
	}
	found := agreed.Find(d.Latch()) // nothing of a device that is not agreed on any more: what had drifted is over then
	if agreed.Has(device) {
		relays, err := e.store.Relays.Told(ctx, device)
		if err != nil {
			return nil, err
		}
		found = drift.WithRelays(d.Latch(), found, relays, time.Now())
	}
	err = e.store.Keep(ctx, "how a device differs from what was agreed on", func(ctx context.Context) error {
		return e.store.Drifts.Settle(ctx, store.FoundDrifts{Site: d.Site, Of: device, Drifts: found, After: after, At: at})
	})
	return found, err
}

// settleTarget is settle for a target.
func (e *env) settleTarget(ctx context.Context, site, id uuid.UUID, after, at time.Time) ([]drift.Drift, error) {
	agreed, err := e.agreedAt(ctx, site)
	if err != nil || agreed == nil {
		return nil, err
	}
	now, err := e.store.Acts().TargetState(ctx, site, id)
	if err != nil {
		return nil, err
	}
	found := agreed.FindTarget(now)
	return found, e.store.Keep(ctx, "how a target differs from what was agreed on", func(ctx context.Context) error {
		return e.store.Drifts.Settle(ctx, store.FoundDrifts{Site: site, Of: id, Target: true, Drifts: found, After: after, At: at})
	})
}

// mendByItself begins the repairs that the rule of a site leaves to the watch, in the name of whoever has made the rule. Each drift is
// mended at most once an hour, and all together as often a day as the rule says.
func (e *env) mendByItself(ctx context.Context, site, device uuid.UUID, rule watchround.WatchRule, by uuid.UUID) error {
	if len(rule.Mends) == 0 || by == uuid.Nil || e.onlyLooks {
		return nil
	}
	now := time.Now()
	open, err := e.store.Drifts.Between(ctx, site, device, now, now)
	if err != nil {
		return err
	}
	open = slices.DeleteFunc(open, func(x drift.Episode) bool { return !rule.Mending(x.Repair()) || x.PutOff.After(now) })
	var going []drift.Episode
	for _, x := range open {
		may, err := e.store.Drifts.Mend(ctx, site, x.ID, x.Repair(), now.Add(-24*time.Hour), rule.MostMends())
		if err != nil {
			return err
		}
		if may {
			going = append(going, x)
		}
	}
	if len(going) == 0 {
		return nil
	}
	person, err := e.store.People.OfRounds(ctx, site)
	if err != nil {
		return err
	}
	person.Token = "the watch"
	agreed, err := e.agreedAt(ctx, site)
	if err != nil || agreed == nil {
		return err
	}
	_, err = Desk{Store: e.store, Queue: e.queue}.Do(ctx, person, act.RepairDrifts{Site: site, Drifts: going, Agreed: agreed})
	if r := new(act.Refusal); errors.As(err, &r) {
		e.log.InfoContext(ctx, "the watch cannot put a drift right", "site", site, "device", device, "why", r.Detail)
		return nil
	}
	return err
}

// views is the store as the memory of what cameras show.
type views struct{ job *deviceJob }

func (v views) Of(ctx context.Context, device uuid.UUID) (picturematch.Views, error) {
	return v.job.env.store.Watched.ViewsOf(ctx, device)
}

func (v views) All(ctx context.Context) (map[uuid.UUID]picturematch.Views, error) {
	return v.job.env.store.Watched.Views(ctx, v.job.site.ID)
}

func (v views) Learn(ctx context.Context, device uuid.UUID, hour int, x picturematch.View) error {
	return v.job.env.store.Watched.LearnView(ctx, device, picturematch.PartOf(hour), x)
}
