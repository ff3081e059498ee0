package store_test

import (
	"database/sql"
	"errors"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/wire/target"
	"unlatch/store"
	"unlatch/store/storetest"
)

// persist begins a try as the work does: it waits where only the space is missing or what came of another one is not known yet.
func persist(t *testing.T, s *store.Store, try store.Try) (uuid.UUID, error) {
	for {
		id, err := s.SignIns.BeginTry(ctx, try)
		var h *signin.HeldBackError
		if !errors.As(err, &h) || !h.Spacing {
			return id, err
		}
		time.Sleep(time.Until(h.Until))
	}
}

// Five devices name a sixth as where their streams come from. It sees no more wrong tries than the guard allows on one device, whoever has
// named it, and a camera at the same address on another site is not mixed up with it.
func TestTriesAreCountedByWhoIsHurt(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	site, err := s.Sites.Create(ctx, "x", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	other, err := s.Sites.Create(ctx, "y", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	key, err := s.SignIns.Add(ctx, signin.New{Label: "a", User: "a", Secret: signin.NewSecret("b")})
	require.NoError(t, err)
	victim, err := s.Devices.Sight(ctx, site.ID, nil, sight("192.0.2.99", "urn:victim"))
	require.NoError(t, err)
	var wg sync.WaitGroup
	var mu sync.Mutex
	sent := 0
	for i := range 5 {
		liar, err := s.Devices.Sight(ctx, site.ID, nil, sight("192.0.2."+string(rune('1'+i)), "urn:liar"+string(rune('1'+i))))
		require.NoError(t, err)
		wg.Go(func() {
			for range 3 {
				try, err := persist(t, s, store.Try{Device: liar, SignIn: key, Purpose: signin.Streams, Host: "192.0.2.99"})
				if err != nil {
					assert.ErrorAs(t, err, new(*signin.HeldBackError))
					return
				}
				mu.Lock()
				sent++
				mu.Unlock()
				assert.NoError(t, s.SignIns.EndTry(ctx, try, signin.Refused, 0))
			}
		})
	}
	wg.Wait()
	assert.Equal(t, signin.Budget, sent)
	_, err = persist(t, s, store.Try{Device: victim, SignIn: key, Purpose: signin.DeviceService})
	assert.ErrorAs(t, err, new(*signin.HeldBackError), "by its own name it is left alone as well")
	n, err := s.SignIns.WrongTries(ctx, victim)
	require.NoError(t, err)
	assert.Equal(t, signin.Budget, n)
	twin, err := s.Devices.Sight(ctx, other.ID, nil, sight("192.0.2.99", "urn:twin"))
	require.NoError(t, err)
	_, err = persist(t, s, store.Try{Device: twin, SignIn: key, Purpose: signin.DeviceService})
	assert.NoError(t, err, "the same address on another site is another device")
}

// A target hears a sign-in once: who comes while its answer is awaited waits too, and what it refuses is not sent again in the same work,
// also where a person has asked for it to be sent once more.
func TestATargetHearsASignInOnce(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	site, err := s.Sites.Create(ctx, "x", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	key, err := s.SignIns.Add(ctx, signin.New{Label: "a", User: "a", Secret: signin.NewSecret("b")})
	require.NoError(t, err)
	desk := storetest.Target(t, s, site.ID, act.TargetForm{Kind: "bridge", Name: "Desk", Address: "http://192.0.2.5:80"})
	for round := range 4 { // each is a run that a person has begun, with "again"
		again := store.Run{Site: site.ID, Kind: "target", Title: "again", Total: 1}
		run, err := s.Runs.Start(ctx, again, func(*sql.Tx, uuid.UUID) error { return nil })
		require.NoError(t, err)
		var wg sync.WaitGroup
		var mu sync.Mutex
		sent, refused, held := 0, 0, 0
		for range 8 {
			wg.Go(func() {
				try, err := persist(t, s, store.Try{Target: desk, SignIn: key, Purpose: signin.Target, Host: "192.0.2.5", Run: run.ID})
				mu.Lock()
				defer mu.Unlock()
				switch {
				case errors.Is(err, store.ErrRefusedMeanwhile):
					refused++
				case errors.As(err, new(*signin.HeldBackError)):
					held++
				case assert.NoError(t, err):
					sent++
					assert.NoError(t, s.SignIns.EndTry(ctx, try, signin.Refused, 0))
				}
			})
		}
		wg.Wait()
		if round < signin.Budget {
			assert.Equal(t, [3]int{1, 7, 0}, [3]int{sent, refused, held}, "round %d", round)
		} else {
			assert.Equal(t, [3]int{0, 0, 8}, [3]int{sent, refused, held}, "the budget is a device's")
		}
	}
}

// What was agreed for a target is bound to who answers, ends when another one does, and can be taken back.
func TestAgreementsForTargets(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	site, err := s.Sites.Create(ctx, "x", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	id := storetest.Target(t, s, site.ID, act.TargetForm{Kind: "bridge", Name: "Desk", Address: "http://192.0.2.5:80"})
	get := func() store.Target {
		x, err := s.Targets.Get(ctx, id)
		require.NoError(t, err)
		return x
	}
	holds := func() int {
		trust, err := s.Targets.Trust(ctx, get())
		require.NoError(t, err)
		return len(trust.Agreements)
	}
	require.NoError(t, s.Targets.Agree(ctx, act.Person{Name: "Ada"},
		act.Agreed{Target: id, Secrets: []target.Secret{target.OwnSignIn, target.CameraSignIn}}))
	assert.Equal(t, 2, holds())
	to := target.Identity{At: "http://192.0.2.5:80", Scheme: "none", Kind: "software", Maker: "Overlea"}
	require.NoError(t, s.Targets.Bind(ctx, id, target.CameraSignIn, to))
	require.NoError(t, s.Targets.Bind(ctx, id, target.CameraSignIn, target.Identity{At: "elsewhere"}))
	trust, err := s.Targets.Trust(ctx, get())
	require.NoError(t, err)
	for _, a := range trust.Agreements {
		if a.Secret == target.CameraSignIn {
			require.NotNil(t, a.To)
			assert.Equal(t, to, *a.To, "it is bound once")
		}
	}
	about := target.About{Name: "Desk", Kind: "software", Maker: "Overlea"}
	require.NoError(t, s.Targets.Saw(ctx, id, nil, store.Seen{About: &about, What: "answered"}))
	assert.Equal(t, 2, holds())
	about.Serial = "9"
	require.NoError(t, s.Targets.Saw(ctx, id, nil, store.Seen{About: &about, What: "answered"}))
	assert.Equal(t, 1, holds(), "it says that it is another one: what was bound to the first has ended")
	require.NoError(t, s.Targets.Disagree(ctx, id, ""))
	assert.Zero(t, holds())
}
