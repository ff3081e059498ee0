package jobs

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/away"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/signin"
	"unlatch/core/work/bringup"
	"unlatch/store"
)

// A heldCamera is what is held of one camera.
type heldCamera struct {
	turn   store.Turn
	device *store.HeldDevice
	way    store.WayOut
	keys   map[uuid.UUID]heldKey
	at     time.Duration // since when it is held
	looked time.Duration
	going  bool
	// refused says that the camera has refused a sign-in since: none is sent to it before somebody sees that.
	refused atomic.Bool
}

type heldKey struct {
	bringup.Key
	in signin.SignIn
}

// heldRecord is what is held of a camera as the memory of a look. A look asks for nothing else.
type heldRecord struct {
	bringup.Record
	camera *heldCamera
	look   *away.Look
}

func (r heldRecord) AddAndRead(ctx context.Context, d *latch.Device, fs ...bringup.Finding) (*latch.Device, error) {
	if err := r.AddLater(ctx, d, fs...); err != nil {
		return nil, err
	}
	return r.camera.device.Latch(), nil
}

func (r heldRecord) Add(ctx context.Context, d *latch.Device, f bringup.Finding) error {
	return r.AddLater(ctx, d, f)
}

func (r heldRecord) AddLater(_ context.Context, _ *latch.Device, fs ...bringup.Finding) error {
	for i, f := range findings(fs) {
		raw, err := evidence.Encode(fs[i].Body)
		if err != nil {
			return err
		}
		if err := r.camera.device.Add(f, time.Now().UTC()); err != nil {
			return err
		}
		r.look.Findings = append(r.look.Findings, away.Finding{Kind: evidence.KindOf(f.Body), Subject: f.Subject, Body: raw, Exchange: f.Exchange,
			Still: f.Still, StillID: f.StillID})
	}
	return nil
}

func (r heldRecord) Still(context.Context, uuid.UUID) ([]byte, error) { return nil, nil }

// heldKeyring are the sign-ins that have opened a camera. One that it refuses once is not sent again: who else has tried it meanwhile is
// not known here.
type heldKeyring struct {
	c    *heldCamera
	look *away.Look

	mu    sync.Mutex
	begun map[uuid.UUID]away.Try
}

func (k *heldKeyring) Key(_ context.Context, id uuid.UUID) (bringup.Key, error) {
	if key, ok := k.c.keys[id]; ok {
		return key.Key, nil
	}
	return bringup.Key{}, bringup.ErrGone
}

func (k *heldKeyring) Decrypt(_ context.Context, id uuid.UUID) (signin.SignIn, error) {
	if key, ok := k.c.keys[id]; ok {
		return key.in, nil
	}
	return signin.SignIn{}, bringup.ErrGone
}

func (k *heldKeyring) OfRelay(context.Context, uuid.UUID) (signin.SignIn, error) {
	return signin.SignIn{}, bringup.ErrGone
}

func (k *heldKeyring) Candidates(context.Context, *latch.Device, signin.Purpose, bool) (out []bringup.Key, err error) {
	for _, key := range k.c.keys {
		out = append(out, key.Key)
	}
	return out, nil
}

func (k *heldKeyring) Begin(_ context.Context, _ *latch.Device, in uuid.UUID, p signin.Purpose, host string) (uuid.UUID, error) {
	if k.c.refused.Load() {
		return uuid.Nil, &signin.HeldBackError{Wrong: 1, Until: time.Now().Add(signin.Window)}
	}
	t := away.Try{ID: uuid.Must(uuid.NewV7()), SignIn: in, Purpose: p, Host: host}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.begun[t.ID] = t
	return t.ID, nil
}

func (k *heldKeyring) BeginOn(context.Context, *bringup.Target, uuid.UUID, string) (uuid.UUID, error) {
	return uuid.Nil, bringup.ErrGone
}

func (k *heldKeyring) End(_ context.Context, try uuid.UUID, r signin.Result, wait time.Duration) error {
	if r == signin.Opened || r == signin.NoAnswer {
		return nil
	}
	k.c.refused.Store(true)
	k.mu.Lock()
	defer k.mu.Unlock()
	if t, ok := k.begun[try]; ok {
		t.Result, t.Wait = r, wait
		k.look.Tries = append(k.look.Tries, t)
	}
	return nil
}

func (k *heldKeyring) WrongTries(context.Context, uuid.UUID) (int, error) { return 0, nil }

// quietly reports to the log alone: nobody reads along while the line is cut.
type quietly struct{ env *env }

func (quietly) Doing(string)                                     {}
func (quietly) Problem(context.Context, string) error            { return nil }
func (quietly) Wake(context.Context, uuid.UUID, time.Time) error { return nil }
func (q quietly) Warn(text string, err error)                    { q.env.log.Warn(text, "err", err) }
