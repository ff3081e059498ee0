// Package live drives a live platform by way of a recorder: the recorder sends one of its channels on by RTMP, and the platform itself says
// whether that is live.
package live

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"unlatch/core/ground/certificate"
	"unlatch/core/ground/trouble"
	"unlatch/core/wire/bridge"
	"unlatch/core/wire/rtmp"
	"unlatch/core/wire/target"
)

// Kind is the kind of target that this driver is for.
const Kind target.Kind = "live"

// Settings of such a target.
const (
	Ingest = "ingest" // rtmp://host/app
	Stream = "stream" // main or sub
)

// Driver is the driver; its zero value is ready.
type Driver struct{}

// Kind implements target.Driver.
func (Driver) Kind() target.Kind { return Kind }

// Connect implements target.Driver. The address is where the platform answers for the account; its sign-in's password is the stream key.
// Through is the bridge of the recorder.
func (Driver) Connect(ctx context.Context, a target.Access) (target.Session, error) {
	if a.Through == nil {
		return nil, errors.New("a live platform is reached by way of a recorder, and none is chosen")
	}
	if _, err := rtmp.ParseIngest(a.Settings[Ingest]); err != nil {
		return nil, err
	}
	open := func(a target.Access) (*bridge.Client, error) {
		return bridge.New(a.Address, bridge.Options{Dial: a.Dial, SignIn: a.SignIn, Leave: a.Leave, Pin: a.Pin, Log: a.Log})
	}
	platform, err := open(a)
	if err != nil {
		return nil, err
	}
	recorder, err := open(*a.Through)
	if err != nil {
		return nil, err
	}
	s := &session{platform: platform, recorder: recorder, handOver: a.Through.HandOver, push: bridge.Push{Ingest: a.Settings[Ingest],
		Key:    a.SignIn.Secret.Reveal(),
		Stream: a.Settings[Stream]}}
	if s.push.Stream == "" {
		s.push.Stream = "main"
	}
	t, err := platform.Target(ctx)
	s.push.Sound = err == nil && slices.Contains(t.Intake.Audio, "AAC")
	if err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

type session struct {
	platform, recorder *bridge.Client
	push               bridge.Push
	handOver           target.HandOver // of the recorder, which is given the stream key
}

// Scheme implements target.SignedIn.
func (s *session) Scheme() string { return s.platform.Scheme() }

// Shown implements target.Certified.
func (s *session) Shown() *certificate.Certificate { return s.platform.Shown() }

// hand asks whether the recorder may be given the stream key.
func (s *session) hand(ctx context.Context) error {
	if s.push.Key == "" {
		return nil
	}
	t, err := s.recorder.Target(ctx)
	if err != nil {
		return err
	}
	return s.handOver.Ask(ctx, target.Handing{Secret: target.StreamKey, Channel: s.recorder.Channel(), Scheme: s.recorder.Scheme(),
		About: target.About{Kind: t.Kind, Maker: t.Maker, Model: t.Model, Serial: t.Serial}})
}

// Close implements target.Session.
func (s *session) Close() {
	s.platform.Close()
	s.recorder.Close()
}

// Describe implements target.Describer.
func (s *session) Describe(ctx context.Context) (target.About, error) {
	t, err := s.platform.Target(ctx)
	if err != nil {
		return target.About{}, err
	}
	out := target.About{Name: t.Name, Kind: t.Kind, Maker: t.Maker, Model: t.Model, Through: true}
	if s.push.Sound {
		out.Abilities = []string{"sound"}
	}
	return out, nil
}

// Slots implements target.Lister: what the platform says of its one channel.
func (s *session) Slots(ctx context.Context) (target.Layout, error) {
	all, err := s.platform.Slots(ctx)
	if err != nil {
		return target.Layout{}, err
	}
	out := target.Layout{Slots: []target.Slot{}}
	for _, x := range all.Slots {
		t := target.Slot{Token: x.ID, Label: x.Label, Is: target.Free, Why: x.Why}
		if st := x.Status; st != nil {
			t.State = words(st)
			if st.State != "off" {
				t.Is = target.Used
			}
		}
		out.Slots = append(out.Slots, t)
	}
	return out, nil
}

func words(st *bridge.Status) string {
	parts := []string{map[string]string{"showing": "live", "off": "not live"}[st.State]}
	if parts[0] == "" {
		parts[0] = st.State
	}
	if st.Since != "" {
		parts = append(parts, "since "+st.Since)
	}
	if st.Says != "" {
		parts = append(parts, st.Says)
	}
	return strings.Join(parts, ", ")
}

// Place implements target.Session: the recorder that holds the camera sends it on.
func (s *session) Place(ctx context.Context, c target.Camera) (target.Placement, error) {
	all, err := s.recorder.Slots(ctx)
	if err != nil {
		return target.Placement{}, err
	}
	x := all.Find(c.Identity)
	if x == nil {
		return target.Placement{}, &target.ThroughError{Target: "The live platform"}
	}
	for _, o := range all.Slots { // one channel at a time
		if o.ID != x.ID && o.Status != nil && o.Status.Pushed != "" && o.Status.Pushed != "off" {
			if o.Entry != nil && c.Replaces != o.Entry.Key {
				return target.Placement{}, &target.TakenError{Slot: "The live channel", By: o.Entry.Name}
			}
			if err := s.recorder.EndPush(ctx, o.ID); err != nil {
				return target.Placement{}, err
			}
		}
	}
	if err := s.hand(ctx); err != nil {
		return target.Placement{}, err
	}
	if _, err := s.recorder.Push(ctx, x.ID, s.push); err != nil {
		return target.Placement{}, err
	}
	return target.Placement{Ref: target.Ref(x.ID), Slot: "the live channel, from " + x.Label, Token: "live"}, nil
}

// Confirm implements target.Session: the platform's own word counts. Where it waits, what the recorder meets tells a wrong key from a wrong
// address.
func (s *session) Confirm(ctx context.Context, ref target.Ref, wait time.Duration) (target.Report, error) {
	began := time.Now()
	for {
		all, err := s.platform.Slots(ctx)
		if err != nil {
			return target.Report{}, err
		}
		out := target.Report{After: time.Since(began), Says: "nothing of it"}
		if len(all.Slots) > 0 && all.Slots[0].Status != nil {
			st := all.Slots[0].Status
			out.Says, out.Arrived = words(st), st.State == "showing"
			if st.MayBegin() {
				out.Waits, out.Until = trouble.WaitsToConnect, st.ReadyAt(time.Now())
			}
		}
		if out.Arrived {
			return out, nil
		}
		x, err := s.recorder.Slot(ctx, string(ref))
		if err != nil {
			return out, err
		}
		if x.Status != nil {
			switch x.Status.Pushed {
			case "refused":
				return out, &KeyError{Says: out.Says}
			case "no_answer":
				out.Says += "; the recorder gets no answer at the ingest address"
				out.Waits = ""
			case "sending":
				out.Says += "; the recorder sends"
			}
		}
		if out.After > wait {
			return out, nil
		}
		select {
		case <-ctx.Done():
			return out, ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
	}
}

// Remove implements target.Session.
func (s *session) Remove(ctx context.Context, ref target.Ref) error {
	err := s.recorder.EndPush(ctx, string(ref))
	var p *bridge.Problem
	if errors.As(err, &p) && p.Status == 404 {
		return nil
	}
	return err
}

// A KeyError says that the platform turns the stream key down.
type KeyError struct{ Says string }

func (e *KeyError) Error() string {
	return fmt.Sprintf("the platform turns the stream key down; it says: %s", e.Says)
}
