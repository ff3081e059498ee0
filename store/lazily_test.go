package store_test

import (
	"database/sql"
	"log/slog"
	"path/filepath"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/evidence"
	"unlatch/core/ground/address"
	"unlatch/store"
	"unlatch/store/storetest"
)

// What is recorded lazily waits for no disk, as does what a run says of itself; all else does.
func TestLazily(t *testing.T) {
	t.Parallel()
	url, key := storetest.URL(t), filepath.Join(t.TempDir(), "key")
	open := func() *store.Store {
		s, err := store.Open(ctx, url, key, slog.New(slog.DiscardHandler))
		require.NoError(t, err)
		t.Cleanup(s.Close)
		return s
	}
	s := open()
	_, err := s.Pool.Exec(ctx, `DO $$ BEGIN EXECUTE format('ALTER DATABASE %I SET synchronous_commit = on', current_database()); END $$;
		CREATE TABLE commits (wrote text, waits text);
		CREATE FUNCTION note_commit() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
			INSERT INTO commits VALUES (TG_TABLE_NAME, current_setting('synchronous_commit'));
			RETURN NULL;
		END $$;
		CREATE CONSTRAINT TRIGGER noted AFTER INSERT ON evidence DEFERRABLE INITIALLY DEFERRED FOR EACH ROW EXECUTE FUNCTION note_commit();
		CREATE CONSTRAINT TRIGGER noted AFTER UPDATE ON runs DEFERRABLE INITIALLY DEFERRED FOR EACH ROW EXECUTE FUNCTION note_commit()`)
	require.NoError(t, err)
	s = open() // its connections begin with the setting
	site, err := s.Sites.Create(ctx, "x", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	id, err := s.Devices.Sight(ctx, site.ID, nil, sight("192.0.2.7", "urn:a"))
	require.NoError(t, err)
	run, err := s.Runs.Start(ctx, store.Run{Site: site.ID, Kind: "open"}, func(*sql.Tx, uuid.UUID) error { return nil })
	require.NoError(t, err)
	kept := func(does func() error) (wrote, waits string) {
		_, err := s.Pool.Exec(ctx, "TRUNCATE commits")
		require.NoError(t, err)
		require.NoError(t, does())
		require.NoError(t, s.Pool.QueryRow(ctx, "SELECT wrote, waits FROM commits").Scan(&wrote, &waits))
		return wrote, waits
	}
	left := store.Finding{Body: evidence.Left{}}
	for what, c := range map[string]struct {
		does         func() error
		wrote, waits string
	}{
		"a finding":             {func() error { return s.Devices.RecordAll(ctx, id, nil, left) }, "evidence", "on"},
		"one lazily":            {func() error { return s.Devices.RecordAll(store.Lazily(ctx), id, nil, left) }, "evidence", "off"},
		"what a run does":       {func() error { return s.Runs.Progress(ctx, run.ID, "plays", -1) }, "runs", "off"},
		"a step of a run":       {func() error { return s.Runs.StepDone(ctx, run.ID) }, "runs", "off"},
		"where a run goes on":   {func() error { return s.Runs.StepTo(ctx, run.ID, 7) }, "runs", "on"},
		"that a run is stopped": {func() error { return s.Runs.Stop(ctx, run.ID) }, "runs", "on"},
	} {
		wrote, waits := kept(c.does)
		assert.Equal(t, []string{c.wrote, c.waits}, []string{wrote, waits}, what)
	}
	var after string
	require.NoError(t, s.Pool.QueryRow(ctx, "SHOW synchronous_commit").Scan(&after))
	assert.Equal(t, "on", after, "for that transaction alone")
}
