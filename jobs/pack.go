package jobs

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"
	"github.com/riverqueue/river/rivertype"

	"unlatch/core/decide/act"
	"unlatch/core/decide/handover"
	"unlatch/core/decide/latch"
	"unlatch/core/decide/siteplan"
	"unlatch/core/work/packing"
	"unlatch/store"
)

// makePack carries out command.Pack. A version that was begun and not made whole, since its worker was killed, is made anew.
func (e *env) makePack(ctx context.Context, run, site, version uuid.UUID) error {
	select {
	case e.packing <- struct{}{}:
		defer func() { <-e.packing }()
	case <-ctx.Done():
		return e.finish(ctx, run, ctx.Err())
	}
	task, err := e.store.Handovers.Task(ctx, version)
	if err != nil || task.Made {
		return e.finish(ctx, run, err)
	}
	if err := e.store.Handovers.Anew(ctx, version); err != nil {
		return e.finish(ctx, run, err)
	}
	err = aside(func(frugal func()) error { return e.packTask(ctx, run, task, frugal) })
	stopped := errors.Is(context.Cause(ctx), rivertype.ErrJobCancelledRemotely)
	if err != nil && !store.Away(err) && (ctx.Err() == nil || stopped) && !errors.Is(err, store.ErrFenced) {
		why := problemText(err)
		if stopped {
			why = "It was stopped."
		}
		e.store.Handovers.Fail(context.WithoutCancel(ctx), site, version, why)
	}
	return e.finish(ctx, run, err)
}

// packTask makes the files of a version, and says in the record that it was made.
func (e *env) packTask(ctx context.Context, run uuid.UUID, task store.HandoverTask, frugal func()) error {
	m, err := e.making(ctx, task)
	if err != nil {
		return err
	}
	m.BeforePapers = frugal
	done := int64(-1)
	m.Progress = func(doing string, part float64) {
		if now := int64(part * 100); now > done {
			done = now
			e.store.Runs.Progress(ctx, run, doing, now)
		}
	}
	files := fileBatch{put: func(ctx context.Context, list []handover.File) error {
		return e.store.Keep(ctx, "files of a handover pack", func(ctx context.Context) error {
			return e.store.Handovers.PutFiles(ctx, task.ID, list...)
		})
	}}
	man, err := packing.Make(ctx, m, files.add)
	if err == nil {
		err = files.flush(ctx)
	}
	if err != nil {
		return err
	}
	person, err := e.store.People.Get(ctx, task.Person)
	if err != nil {
		return fmt.Errorf("the account of %s, who began the pack, is not there any more", task.By)
	}
	desk := Desk{Store: e.store, Queue: e.queue}
	if _, err := desk.Do(ctx, person, act.HandoverMade{Site: task.Site, ID: task.ID, Manifest: man}); err != nil {
		return err
	}
	return e.store.Runs.Progress(ctx, run, "The pack is made", 100)
}

// A fileBatch keeps small files together, so that the database is asked seldom.
type fileBatch struct {
	put  func(ctx context.Context, list []handover.File) error
	list []handover.File
	size int
}

// batchBytes is how much waits in a batch before it is kept.
const batchBytes = 2 << 20

func (b *fileBatch) add(ctx context.Context, f handover.File) error {
	b.list, b.size = append(b.list, f), b.size+len(f.Data)
	if b.size < batchBytes {
		return nil
	}
	return b.flush(ctx)
}

func (b *fileBatch) flush(ctx context.Context) error {
	if len(b.list) == 0 {
		return nil
	}
	err := b.put(ctx, b.list)
	b.list, b.size = nil, 0
	return err
}

// making gathers what a version is made of, as of one moment.
func (e *env) making(ctx context.Context, task store.HandoverTask) (m packing.Making, err error) {
	var facts handover.Facts
	err = e.store.Snapshot(ctx, func(ctx context.Context) error {
		list, err := e.store.Devices.List(ctx, task.Site)
		if err != nil {
			return err
		}
		devices := make([]*latch.Device, len(list))
		for i := range list {
			devices[i] = list[i].Latch()
		}
		if facts, err = e.store.HandoverFacts(ctx, task.Site, devices, task.At); err != nil {
			return err
		}
		m.Manifest = handover.Manifest{Form: handover.Form, Site: task.Site, Name: facts.Name, Number: task.Number, By: task.By,
			At: packing.Now(task.At), Program: task.Program, Language: task.Language}
		if m.Manifest.Record, err = e.store.Record.Head(ctx); err != nil {
			return err
		}
		agreed, err := e.store.Baselines.List(ctx, task.Site)
		if err == nil && len(agreed) > 0 {
			b := agreed[0]
			m.Manifest.Baseline = &handover.AgreedState{ID: b.ID, Name: b.Name, By: b.By, At: packing.Now(b.At)}
		}
		return err
	})
	if err != nil {
		return m, err
	}
	firm, err := e.store.Handovers.Firm(ctx)
	if err != nil {
		return m, err
	}
	if firm.HasMark {
		if m.Mark, err = e.store.Handovers.Mark(ctx); err != nil {
			return m, err
		}
	}
	m.Firm, m.Size, m.Base, m.Labels = firm.Name, task.Size, task.Base, task.Labels
	m.Pack, m.Source = handover.Of(facts), packSource{e.store, task.Site}
	if task.Seal {
		m.Seal = func(ctx context.Context) ([]byte, handover.SealedTo, error) { return e.sealed(ctx, task, &m.Pack) }
	}
	return m, nil
}

// sealed seals the sign-ins that the devices and targets of a pack are opened with.
func (e *env) sealed(ctx context.Context, task store.HandoverTask, p *handover.Pack) ([]byte, handover.SealedTo, error) {
	byID := map[uuid.UUID]*handover.SealedSignIn{}
	use := func(s *handover.SignIn, title string, device uuid.UUID) {
		if s == nil {
			return
		}
		x := byID[s.ID]
		if x == nil {
			x = &handover.SealedSignIn{ID: s.ID, Label: s.Label, User: s.User}
			byID[s.ID] = x
		}
		if x.For = append(x.For, title); device != uuid.Nil {
			x.Devices = append(x.Devices, device)
		}
	}
	for _, c := range p.Cameras {
		use(c.SignIn, c.Title+" at "+c.Address, c.ID)
		use(c.StreamUser, c.Title+" at "+c.Address+", streams", c.ID)
	}
	for _, t := range p.Targets {
		use(t.SignIn, t.Name, uuid.Nil)
	}
	var list []handover.SealedSignIn
	for id, x := range byID {
		in, err := e.store.SignIns.Decrypt(ctx, id)
		if errors.Is(err, store.ErrNotFound) {
			continue // it was taken off the keyring since
		} else if err != nil {
			return nil, handover.SealedTo{}, err
		}
		x.Secret = in.Secret
		list = append(list, *x)
	}
	slices.SortFunc(list, func(a, b handover.SealedSignIn) int {
		return cmp.Or(strings.Compare(a.Label, b.Label), strings.Compare(a.ID.String(), b.ID.String()))
	})
	passphrase, err := e.store.Handovers.Passphrase(ctx, task.ID)
	if err != nil {
		return nil, handover.SealedTo{}, err
	}
	return handover.Seal(p.Site.Name, list, task.Recipients, passphrase)
}

// packSource reads the pictures of a pack one at a time.
type packSource struct {
	store *store.Store
	site  uuid.UUID
}

func (s packSource) Still(ctx context.Context, id uuid.UUID) ([]byte, error) {
	raw, err := s.store.Devices.Still(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, packing.ErrGone
	}
	return raw, err
}

func (s packSource) SitePlan(ctx context.Context, id uuid.UUID) (siteplan.Picture, error) {
	p, err := s.store.SitePlans.Picture(ctx, s.site, id)
	if errors.Is(err, store.ErrNotFound) {
		return p, packing.ErrGone
	}
	return p, err
}
