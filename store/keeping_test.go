package store_test

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/keeping"
	"unlatch/core/decide/proof"
	"unlatch/core/decide/watchround"
	"unlatch/core/ground/address"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/media"
	"unlatch/store"
	"unlatch/store/storetest"
)

// heardCamera is a site with one camera that was heard.
func heardCamera(t *testing.T, s *store.Store) (site, camera uuid.UUID) {
	made, err := s.Sites.Create(ctx, "Tarn Ferry station", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	camera, err = s.Devices.Sight(ctx, made.ID, nil, sight("192.0.2.7", "urn:1"))
	require.NoError(t, err)
	return made.ID, camera
}

// First, last and changes stay; repeats, their pictures and the conversations of what went well go. A device stands as it stood before.
func TestForgetting(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	site, camera := heardCamera(t, s)
	proof := func(ok bool, codec string) store.Finding {
		p := evidence.Proof{Proof: proof.Proof{OK: ok, Video: &media.Measured{Codec: codec, Width: 640, Height: 360}},
			PlainURL: "rtsp://192.0.2.7/1"}
		if !ok {
			p.Diagnosis = &diagnose.Diagnosis{Cause: trouble.SessionLimit}
		}
		still := uuid.New()
		p.Still = &still
		return store.Finding{Subject: "p1", Body: p, Exchange: "> DESCRIBE", Still: []byte("x"), StillID: still}
	}
	list := []store.Finding{proof(true, "H.264"), proof(true, "H.264"), proof(true, "H.264"), proof(false, ""), proof(true, "H.264"),
		proof(true, "H.264"), proof(true, "H.265"), proof(true, "H.265"), proof(true, "H.265"), proof(true, "H.265")}
	for _, f := range list {
		require.NoError(t, s.Devices.Record(ctx, &store.Device{ID: camera, Site: site}, nil, f))
	}
	before, err := s.Devices.Get(ctx, camera)
	require.NoError(t, err)
	now := time.Now().UTC()
	gone, err := s.Watched.Forget(ctx, keeping.KeepingRule{}, now)
	require.NoError(t, err)
	assert.Zero(t, gone.Records, "nothing is old yet")

	gone, err = s.Watched.Forget(ctx, keeping.KeepingRule{}, now.AddDate(0, 0, 31))
	require.NoError(t, err)
	assert.EqualValues(t, 3, gone.Records, "the second, the eighth and the ninth")
	history, err := s.Devices.History(ctx, camera, 100)
	require.NoError(t, err)
	var proofs, told int
	for _, r := range history {
		if r.Kind != evidence.KindProof {
			continue
		}
		proofs++
		if r.HasExchange {
			told++
		}
	}
	assert.Equal(t, 7, proofs)
	assert.Equal(t, 2, told, "of the failure, and of the last")
	var stills int
	require.NoError(t, s.SQL().QueryRowContext(ctx, "SELECT count(*) FROM stills").Scan(&stills))
	assert.Equal(t, 7, stills)
	after, err := s.Devices.Get(ctx, camera)
	require.NoError(t, err)
	assert.Equal(t, before.Status.Proofs, after.Status.Proofs)
	again, err := s.Watched.Forget(ctx, keeping.KeepingRule{}, now.AddDate(0, 0, 31))
	require.NoError(t, err)
	assert.Zero(t, again.Records+again.Exchanges)
}

// Measures are thinned by dropping whole partitions, and a longer rule loses nothing that is still there.
func TestMeasuresAreThinned(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	_, camera := heardCamera(t, s)
	now := time.Date(2026, 3, 20, 12, 0, 0, 0, time.UTC)
	for day := range 120 {
		for _, value := range []float64{20, 30} {
			require.NoError(t, s.Watched.Measure(ctx, camera, map[string]float64{"rate main": value}, now.AddDate(0, 0, -day)))
		}
	}
	count := func(r store.Resolution) int {
		list, err := s.Watched.Measures(ctx, camera, r, now.AddDate(-1, 0, 0), now)
		require.NoError(t, err)
		for _, p := range list["rate main"] {
			assert.Equal(t, [3]float64{20, 25, 30}, [3]float64{p.Least, p.Mean, p.Most})
		}
		return len(list["rate main"])
	}
	assert.Equal(t, 120, count(store.Minutes))
	_, err := s.Watched.Forget(ctx, keeping.KeepingRule{}, now)
	require.NoError(t, err)
	assert.Equal(t, 8, count(store.Minutes), "today and the seven days before")
	assert.Less(t, count(store.Quarters), 120)
	assert.Greater(t, count(store.Quarters), 92)
	assert.Equal(t, 120, count(store.Hours))
	_, err = s.Watched.Forget(ctx, keeping.KeepingRule{Minutes: 90}, now)
	require.NoError(t, err)
	assert.Equal(t, 8, count(store.Minutes))
	require.NoError(t, s.Watched.SetKeeping(ctx, keeping.KeepingRule{Hours: 4000}))
	r, err := s.Watched.Keeping(ctx)
	require.NoError(t, err)
	assert.Equal(t, 4000, r.Hours)
}

// A storm of goodbyes has a camera looked at once, and not for each.
func TestAStormOfGoodbyes(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	site, camera := heardCamera(t, s)
	now := time.Now().UTC()
	rule := watchround.WatchRule{On: true}
	require.NoError(t, s.Watched.Enrol(ctx, site, rule, []uuid.UUID{camera}, nil, now))
	claim := func(at time.Time) []store.Turn {
		out, err := s.Watched.Claim(ctx, []uuid.UUID{site}, at, 10)
		require.NoError(t, err)
		return out
	}
	looks := 0
	for i := range 300 {
		at := now.Add(time.Duration(i) * time.Second)
		require.NoError(t, s.Watched.AgainByEndpoint(ctx, site, "urn:1", at.Add(time.Minute)))
		require.NoError(t, s.Watched.AgainByEndpoint(ctx, site, "urn:nobody", at))
		for _, turn := range claim(at) {
			looks++
			require.NoError(t, s.Watched.Done(ctx, turn, store.Looked{At: at, State: watchround.Up}))
		}
	}
	assert.LessOrEqual(t, looks, 4, "in five minutes of one goodbye a second")
	assert.GreaterOrEqual(t, looks, 1)

	// A worker that was away for a week makes up for nothing: one look, and the week is told as not looked.
	week := now.AddDate(0, 0, 7)
	turns := claim(week)
	require.Len(t, turns, 1)
	require.NoError(t, s.Watched.Done(ctx, turns[0], store.Looked{At: week, State: watchround.Up}))
	assert.Empty(t, claim(week.Add(time.Second)))
	spans, err := s.Watched.Spans(ctx, site, camera, now, week)
	require.NoError(t, err)
	whole := watchround.Whole(spans[camera], now, week, rule.Round(false))
	assert.Greater(t, watchround.Availability(whole).NotLooked, 6*24*time.Hour)

	// Another length of a round takes effect, and what is watched no longer is not looked at.
	rule.CameraMinutes = 1
	require.NoError(t, s.Watched.Enrol(ctx, site, rule, []uuid.UUID{camera}, nil, week))
	assert.Len(t, claim(week.Add(time.Minute)), 1)
	require.NoError(t, s.Watched.Enrol(ctx, site, rule, nil, nil, week))
	assert.Empty(t, claim(week.AddDate(1, 0, 0)))
}
