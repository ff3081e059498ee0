package store_test

import (
	"context"
	"fmt"
	"slices"
	"testing"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/core/ground/pairing"
	"unlatch/core/ground/sealed"
	"unlatch/core/ground/signin"
	"unlatch/store"
	"unlatch/store/storetest"
)

// A worker opens the sign-ins of its sites and no more: neither by the store nor with all that stands in its files and in the tables it
// reads.
func TestAPairedWorkerOpensItsSignInsAlone(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	ctx := t.Context()
	var sites []uuid.UUID
	ids := map[string]uuid.UUID{}
	add := func(name string, terms signin.Terms) {
		id, err := s.SignIns.Add(ctx, signin.New{Label: name, User: "fitter", Secret: signin.NewSecret("secret " + name), Terms: terms})
		require.NoError(t, err)
		ids[name] = id
	}
	for _, name := range []string{"near", "far"} {
		site, err := s.Sites.Create(ctx, name, address.MustParse("192.0.2.0/24"))
		require.NoError(t, err)
		sites = append(sites, site.ID)
	}
	add("before", signin.Terms{Site: &sites[0]})
	plain := storetest.Pair(t, s, false, sites[0])
	shared := storetest.Pair(t, s, true, sites[0])
	add("mine", signin.Terms{Site: &sites[0]})
	add("other", signin.Terms{Site: &sites[1]})
	add("all", signin.Terms{})
	a, b := storetest.OpenFar(t, s, plain), storetest.OpenFar(t, s, shared)
	reads := func(w *store.Store) (out []string) {
		for name, id := range ids {
			if in, err := w.SignIns.Decrypt(ctx, id); err == nil && in.Secret.Reveal() == "secret "+name {
				out = append(out, name)
			}
		}
		slices.Sort(out)
		return out
	}
	assert.Equal(t, []string{"all", "before", "mine", "other"}, reads(s))
	assert.Equal(t, []string{"before", "mine"}, reads(a))
	assert.Equal(t, []string{"all", "before", "mine"}, reads(b))
	_, err := a.SignIns.Decrypt(ctx, ids["all"])
	assert.ErrorIs(t, err, store.ErrNotFound, "it does not see what it cannot open")

	// With a copy of the whole database, and the worker's own file: each wrapped key is tried on each value.
	assert.Equal(t, []string{"before", "mine"}, opensAll(t, s, plain, ids))

	// A sign-in that moves to another site moves to another key.
	require.NoError(t, s.SignIns.SetTerms(ctx, ids["mine"], "mine", signin.Terms{Site: &sites[1]}))
	assert.Equal(t, []string{"before"}, opensAll(t, s, plain, ids))

	// Revoked, it could read what is listed; with the key of the site rotated it opens nothing more, a copy of its old keys does not either.
	old := wrappedFor(t, s, plain)
	revoke(t, s, plain)
	open, err := s.Paired.LaidOpen(ctx, uuid.MustParse(plain.Worker))
	require.NoError(t, err)
	require.Len(t, open, 1)
	assert.Equal(t, "before, fitter", open[0].What)
	assert.False(t, open[0].Gone)
	assert.NotEmpty(t, opened(t, s, plain, old, ids), "the old key opens what it opened")
	rotated, err := s.RotateSite(ctx, &sites[0])
	require.NoError(t, err)
	assert.Equal(t, 1, rotated)
	assert.Empty(t, opened(t, s, plain, old, ids))
	assert.Equal(t, []string{"all", "before", "mine", "other"}, reads(s))
	assert.Equal(t, []string{"all", "before"}, reads(storetest.OpenFar(t, s, shared)), "those that stay paired go on")
	add("after", signin.Terms{Site: &sites[0]})
	assert.Empty(t, opened(t, s, plain, old, ids))
	_, _, err = s.Paired.Login(ctx, uuid.MustParse(plain.Worker))
	assert.ErrorIs(t, err, store.ErrNotFound)
}

// revoke ends that a worker is let in.
func revoke(t *testing.T, s *store.Store, i pairing.Identity) {
	t.Helper()
	a := storetest.Revoke(i)
	_, err := s.Acts().Keep(t.Context(), storetest.Owner, a.About(), a)
	require.NoError(t, err)
}

// wrappedFor returns the wrapped keys of a worker.
func wrappedFor(t *testing.T, s *store.Store, i pairing.Identity) (out [][]byte) {
	t.Helper()
	rows, err := s.Pool.Query(t.Context(), "SELECT wrapped FROM wrapped_keys WHERE worker_id = $1", i.Worker)
	require.NoError(t, err)
	out, err = pgx.CollectRows(rows, pgx.RowTo[[]byte])
	require.NoError(t, err)
	return out
}

// opensAll returns the sign-ins that open with a worker's file and a copy of the database.
func opensAll(t *testing.T, s *store.Store, i pairing.Identity, ids map[string]uuid.UUID) []string {
	t.Helper()
	rows, err := s.Pool.Query(t.Context(), "SELECT wrapped FROM wrapped_keys")
	require.NoError(t, err)
	all, err := pgx.CollectRows(rows, pgx.RowTo[[]byte])
	require.NoError(t, err)
	return opened(t, s, i, all, ids)
}

// opened returns the sign-ins that open with a worker's file and some wrapped keys.
func opened(t *testing.T, s *store.Store, i pairing.Identity, wrapped [][]byte, ids map[string]uuid.UUID) (out []string) {
	t.Helper()
	for _, w := range wrapped {
		raw, err := sealed.Open(w, signin.NewSecret(i.Unwrap), 32)
		if err != nil {
			continue
		}
		for name, id := range ids {
			var value []byte
			require.NoError(t, s.Pool.QueryRow(t.Context(), "SELECT sealed FROM sign_ins WHERE id = $1", id).Scan(&value))
			if store.OpensWith(raw, value, id.String()) {
				out = append(out, name)
			}
		}
	}
	slices.Sort(out)
	return out
}

// Sign-ins are turned over to data keys and back, cut off at any row.
func TestTurningTheKeyringOver(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	ctx := t.Context()
	site, err := s.Sites.Create(ctx, "Near", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	var ids []uuid.UUID
	for i := range 6 {
		terms := signin.Terms{}
		if i%2 == 0 {
			terms.Site = &site.ID
		}
		id, err := s.SignIns.Add(ctx, signin.New{Label: fmt.Sprint(i), User: "fitter", Secret: signin.NewSecret(fmt.Sprint("secret ",
			i)), Terms: terms})
		require.NoError(t, err)
		ids = append(ids, id)
	}
	reads := func() {
		t.Helper()
		for i, id := range ids {
			in, err := s.SignIns.Decrypt(ctx, id)
			require.NoError(t, err)
			assert.Equal(t, fmt.Sprint("secret ", i), in.Secret.Reveal())
		}
	}
	turned := func(want int, turn func(context.Context) (int, error)) {
		t.Helper()
		n, err := turn(ctx)
		require.NoError(t, err)
		assert.Equal(t, want, n)
		reads()
	}
	turned(0, s.TurnOver)
	turned(6, s.TurnBack)
	turned(0, s.TurnBack)
	// Cut off after a few rows, by a row that cannot be read.
	var value []byte
	require.NoError(t, s.Pool.QueryRow(ctx, "SELECT sealed FROM sign_ins WHERE id = $1", ids[3]).Scan(&value))
	_, err = s.Pool.Exec(ctx, "UPDATE sign_ins SET sealed = $2 WHERE id = $1", ids[3], append([]byte{value[0] ^ 1}, value[1:]...))
	require.NoError(t, err)
	n, err := s.TurnOver(ctx)
	assert.ErrorContains(t, err, "a value in sign_ins")
	assert.Equal(t, 5, n, "a damaged row keeps no other from it")
	_, err = s.Pool.Exec(ctx, "UPDATE sign_ins SET sealed = $2 WHERE id = $1", ids[3], value)
	require.NoError(t, err)
	turned(1, s.TurnOver)
}
