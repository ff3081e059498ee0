package store_test

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/decide/diagnose"
	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/stream/intake"
	"unlatch/core/wire/target"
	"unlatch/core/wire/target/feed"
	"unlatch/store"
	"unlatch/store/storetest"
)

// What a target says is added to its record, its last word of itself counts for what fits, and a refused sign-in is forgotten with another
// one.
func TestWhatTargetsSay(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	site, err := s.Sites.Create(ctx, "Works", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	key, err := s.SignIns.Add(ctx, signin.New{Label: "desk", User: "desk"})
	require.NoError(t, err)
	form := act.TargetForm{Kind: "bridge", Address: "http://192.0.2.9", SignIn: &key}
	id := storetest.Target(t, s, site.ID, form)
	require.NoError(t, s.Targets.Saw(ctx, id, nil, store.Seen{What: "signing in", Refused: key,
		Diagnosis: &diagnose.Diagnosis{Summary: "no"}, Exchange: "401"}))
	require.NoError(t, s.Targets.Saw(ctx, id, nil, store.Seen{Silent: true,
		Diagnosis: &diagnose.Diagnosis{Summary: "no answer"}}))
	assert.NotNil(t, silentSince(t, s, id), "it could not be asked")
	require.NoError(t, s.Targets.Saw(ctx, id, nil, store.Seen{Layout: &target.Layout{Slots: []target.Slot{{Token: "1", Is: "free"}}}}))
	assert.Nil(t, silentSince(t, s, id), "it answers again")
	got, err := s.Targets.Get(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, key, *got.Refused)
	assert.Len(t, got.Layout.V.Slots, 1)
	assert.Nil(t, got.About)
	history, err := s.Targets.History(ctx, id, 10)
	require.NoError(t, err)
	require.Len(t, history, 1, "slots that are asked for beside other work are no entry")
	text, err := s.Targets.Exchange(ctx, history[0].ID)
	require.NoError(t, err)
	assert.Equal(t, "401", text)

	// Its first certificate is kept, and goes only when somebody takes another one, or with its address.
	for _, pin := range []string{"aa", "bb"} {
		require.NoError(t, s.Targets.Saw(ctx, id, nil, store.Seen{Pin: pin}))
	}
	got, err = s.Targets.Get(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, "aa", got.Pin)
	require.NoError(t, s.Targets.Put(ctx, site.ID, act.PutTarget{ID: id, TargetForm: form}))
	got, err = s.Targets.Get(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, []any{"aa", key}, []any{got.Pin, *got.Refused}, "the same sign-in stays refused")
	form.Address = "http://192.0.2.10"
	require.NoError(t, s.Targets.Put(ctx, site.ID, act.PutTarget{ID: id, TargetForm: form}))
	got, err = s.Targets.Get(ctx, id)
	require.NoError(t, err)
	assert.Empty(t, got.Pin)

	about := &target.About{Name: "Desk", Through: true, Intake: &intake.Intake{Roles: []string{"sub"}}}
	require.NoError(t, s.Targets.Saw(ctx, id, nil, store.Seen{What: "answered", About: about}))
	got, err = s.Targets.Get(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, []any{"Desk", (*uuid.UUID)(nil)}, []any{got.Name, got.Refused}, "it has its own name where nobody gave one")
	l, err := s.Targets.Latch(ctx, got)
	require.NoError(t, err)
	assert.Equal(t, []any{true, []string{"sub"}}, []any{l.Through, l.Intake.Roles})
	require.NoError(t, s.Targets.SetIntake(ctx, site.ID, id, "takes H.264, any size"))
	got, err = s.Targets.Get(ctx, id)
	require.NoError(t, err)
	l, err = s.Targets.Latch(ctx, got)
	require.NoError(t, err)
	assert.Empty(t, l.Intake.Roles, "what a person has said goes before its own word")
}

// The order of a list is kept, a changed list makes what screens have old, and a token opens its feed alone.
func TestListsAndFeeds(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	site, err := s.Sites.Create(ctx, "Works", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	other, err := s.Sites.Create(ctx, "Elsewhere", address.MustParse("198.51.100.0/24"))
	require.NoError(t, err)
	id := storetest.Target(t, s, site.ID, act.TargetForm{Kind: feed.Kind, Name: "Rooms", Shared: true})
	shared, err := s.Targets.List(ctx, other.ID)
	require.NoError(t, err)
	assert.Len(t, shared, 1, "other sites may use a shared one")
	var cameras []uuid.UUID
	for _, e := range []string{"a", "b", "c"} {
		id, err := s.Devices.Sight(ctx, site.ID, nil, sight("192.0.2.1"+string('1'+e[0]-'a'), "urn:"+e))
		require.NoError(t, err)
		cameras = append(cameras, id)
	}
	require.NoError(t, s.Targets.Wish(ctx, act.InAnySlot(id, cameras...)))
	require.NoError(t, s.Targets.Order(ctx, id, []uuid.UUID{cameras[2], cameras[0]}))
	on, err := s.Targets.On(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, []uuid.UUID{cameras[2], cameras[0], cameras[1]}, on)

	require.NoError(t, s.Targets.OpenFeed(ctx, site.ID, id))
	token, err := s.Targets.FeedToken(ctx, id)
	require.NoError(t, err)
	f, err := s.Targets.ByFeed(ctx, token)
	require.NoError(t, err)
	assert.Equal(t, id, f.ID)
	_, err = s.Targets.ByFeed(ctx, token+"x")
	assert.ErrorIs(t, err, store.ErrNotFound)
	require.NoError(t, s.Targets.Fetched(ctx, f, token, "Hall", "192.0.2.50", "json"))
	require.NoError(t, s.Targets.Fetched(ctx, f, token, "Hall", "192.0.2.50", "m3u"))
	require.NoError(t, s.Targets.Showing(ctx, f, "Hall", "192.0.2.50", []string{"urn:a"}))
	screens, err := s.Targets.Screens(ctx, id)
	require.NoError(t, err)
	require.Len(t, screens, 1)
	assert.Equal(t, []any{2, true, []string{"urn:a"}}, []any{screens[0].Times, screens[0].Current, screens[0].Showing})
	require.NoError(t, s.Targets.Unwant(ctx, cameras[0], id))
	screens, err = s.Targets.Screens(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, []any{false, 0}, []any{screens[0].Current, len(screens[0].Showing)}, "its list is an older one now")
	for n := range 300 {
		require.NoError(t, s.Targets.Fetched(ctx, f, token, string(rune('a'+n)), "192.0.2.51", "json"))
	}
	screens, err = s.Targets.Screens(ctx, id)
	require.NoError(t, err)
	assert.LessOrEqual(t, len(screens), 200, "a flood of names fills no table")
	require.NoError(t, s.Targets.CloseFeed(ctx, site.ID, id))
	require.NoError(t, s.Targets.Fetched(ctx, f, token, "Hall", "192.0.2.50", "json"))
	screens, err = s.Targets.Screens(ctx, id)
	require.NoError(t, err)
	assert.Empty(t, screens, "what was under way when the address was replaced counts for nothing")
	require.NoError(t, s.Targets.AskedAtOldAddress(ctx, token, "Hall", "192.0.2.50"))
	screens, err = s.Targets.Screens(ctx, id)
	require.NoError(t, err)
	require.Len(t, screens, 1)
	assert.True(t, screens[0].Old)
	assert.ErrorIs(t, s.Targets.AskedAtOldAddress(ctx, token+"x", "Hall", "192.0.2.50"), store.ErrNotFound)
	_, err = s.Targets.ByFeed(ctx, token)
	assert.ErrorIs(t, err, store.ErrWithdrawn)
}

// silentSince is since when a target could not be asked; nil while it can.
func silentSince(t *testing.T, s *store.Store, id uuid.UUID) (since *time.Time) {
	t.Helper()
	require.NoError(t, s.SQL().QueryRowContext(ctx, "SELECT silent_since FROM targets WHERE id = $1", id).Scan(&since))
	return since
}
