package viabridge

import (
	"context"
	"fmt"
	"time"

	"unlatch/core/wire/bridge"
	"unlatch/core/wire/target"
)

func (s *Session) can(ability string) error {
	if !s.about.Can(ability) {
		return &target.UnableError{Target: s.about.Name, Ability: ability}
	}
	return nil
}

// Move implements target.Mover.
func (s *Session) Move(ctx context.Context, r target.Ref, to string) (target.Placement, error) {
	if err := s.can(bridge.CanMove); err != nil {
		return target.Placement{}, err
	}
	x, err := s.find(ctx, r)
	if err != nil {
		return target.Placement{}, err
	}
	if x.ID != to {
		if err := s.client.Move(ctx, x.ID, to); err != nil {
			return target.Placement{}, err
		}
	}
	key := x.Entry.Key
	if x, err = s.client.Slot(ctx, to); err != nil {
		return target.Placement{}, err
	}
	if x.Entry == nil || x.Entry.Key != key {
		return target.Placement{}, &bridge.BrokenError{Problem: fmt.Sprintf("it said yes, and the camera is not in the slot %q", to)}
	}
	return target.Placement{Ref: ref(x.ID, key), Slot: labelOf(x), Token: x.ID}, nil
}

// Order implements target.Orderer.
func (s *Session) Order(ctx context.Context, slots []string) error {
	if err := s.can(bridge.CanOrder); err != nil {
		return err
	}
	return s.client.Order(ctx, slots)
}

// Free implements target.Freer.
func (s *Session) Free(ctx context.Context, slot string) error {
	if err := s.can(bridge.CanFree); err != nil {
		return err
	}
	x, err := s.client.Free(ctx, slot)
	if err == nil && x.State != bridge.Free {
		err = &bridge.BrokenError{Problem: fmt.Sprintf("it said yes, and the slot %q is %s", slot, x.State)}
	}
	return err
}

// Show implements target.Shower.
func (s *Session) Show(ctx context.Context, r target.Ref, screen string) (target.Report, error) {
	if err := s.can(bridge.CanShow); err != nil {
		return target.Report{}, err
	}
	x, err := s.find(ctx, r)
	if err != nil {
		return target.Report{}, err
	}
	shown, err := s.client.Show(ctx, x.ID, screen)
	return target.Report{Arrived: shown.Shown, Says: shown.Says, After: time.Duration(shown.AfterMS) * time.Millisecond}, err
}

// Picture implements target.Picturer.
func (s *Session) Picture(ctx context.Context, r target.Ref) ([]byte, error) {
	if err := s.can(bridge.CanPicture); err != nil {
		return nil, err
	}
	x, err := s.find(ctx, r)
	if err != nil {
		return nil, err
	}
	return s.client.Picture(ctx, x.ID)
}

// Schedule implements target.Scheduler.
func (s *Session) Schedule(ctx context.Context, slot string, want target.Schedule) error {
	if err := s.can(bridge.CanSchedule); err != nil {
		return err
	}
	out := bridge.Schedule{Mode: want.Mode}
	for _, p := range want.Week {
		out.Week = append(out.Week, bridge.Span(p))
	}
	return s.client.SetSchedule(ctx, slot, out)
}
