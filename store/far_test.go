package store_test

import (
	"fmt"
	"log/slog"
	"maps"
	"net/netip"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/ground/address"
	"unlatch/core/ground/pairing"
	"unlatch/core/ground/signin"
	"unlatch/core/stream/sighting"
	"unlatch/store"
	"unlatch/store/storetest"
)

// A farBench is two sites, each with a row in every table that has rows of sites, and a worker that is paired with the first.
type farBench struct {
	t           *testing.T
	s, far      *store.Store
	mine, other uuid.UUID
	worker      pairing.Identity
	// rows holds for each table the rows of the other site, as JSON documents, and own those of the worker's.
	rows, own map[string][]string
}

// farTables returns the tables of the product, without partitions.
func farTables(t *testing.T, pool *pgxpool.Pool) []string {
	t.Helper()
	rows, err := pool.Query(t.Context(), `SELECT relname FROM pg_class WHERE relnamespace = 'public'::regnamespace AND relkind IN ('r', 'p')
		AND NOT relispartition ORDER BY relname`)
	require.NoError(t, err)
	out, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(t, err)
	return out
}

// fillSite puts one row of a site into each table that can hold one, whatever else is needed for it coming first; what is of no site is
// filled as well. It returns the rows as JSON documents.
func fillSite(t *testing.T, pool *pgxpool.Pool, site uuid.UUID) map[string][]string {
	t.Helper()
	ctx := t.Context()
	ids := map[string]uuid.UUID{"sites": site}
	exec := func(sql string, args ...any) {
		t.Helper()
		_, err := pool.Exec(ctx, sql, args...)
		require.NoError(t, err, sql)
	}
	id := func(table string) uuid.UUID {
		if ids[table] == uuid.Nil {
			ids[table] = uuid.New()
		}
		return ids[table]
	}
	mark := site.String()
	exec("INSERT INTO people (id, name, password_hash) VALUES ($1, $2, 'hash')", id("people"), mark)
	exec("INSERT INTO devices (id, site_id, addr, name) VALUES ($1, $2, $3, $4)", id("devices"), site, "addr "+mark[:8], mark)
	exec("INSERT INTO targets (id, site_id, kind, name, address) VALUES ($1, $2, 'bridge', $3, $3)", id("targets"), site, mark)
	exec("INSERT INTO runs (id, site_id, kind, title) VALUES ($1, $2, 'find', $3)", id("runs"), site, mark)
	exec("INSERT INTO river_job (args, kind, max_attempts, queue) VALUES ($1::text::jsonb, 'device', 3, $2)",
		fmt.Sprintf(`{"run": %q}`, id("runs")),
		"site-"+mark)
	exec("INSERT INTO river_queue (name, updated_at) VALUES ($1, now())", "site-"+mark)
	device, target, person, run := ids["devices"], ids["targets"], ids["people"], ids["runs"]
	for _, x := range []struct {
		sql  string
		args []any
	}{
		{"INSERT INTO evidence (id, device_id, run_id, at, kind, subject, body) VALUES ($1, $2, $3, now(), 'heard', $4, '{}')",
			[]any{id("evidence"), device, run, mark}},
		{"INSERT INTO stills (id, device_id, jpeg) VALUES ($1, $2, $3)", []any{id("stills"), device, []byte(mark)}},
		{"INSERT INTO sign_in_devices (sign_in_id, device_id) SELECT id, $1 FROM sign_ins WHERE site_id = $2", []any{device, site}},
		{"INSERT INTO tries (id, device_id, site_id, sign_in_id, host) SELECT $1, $2, $3, id, 'h' FROM sign_ins WHERE site_id = $3",
			[]any{uuid.New(), device, site}},
		{"INSERT INTO relays (id, site_id, device_id, role, path, user_name, sealed) VALUES ($1, $2, $3, 'main', $4, 'u', '')",
			[]any{id("relays"), site, device, mark}},
		{"INSERT INTO relay_status (relay_id, takers, packets, lost, problem) VALUES ($1, 1, 1, 0, '')", []any{id("relays")}},
		{"INSERT INTO agreements (id, site_id, device_id, person_id) VALUES ($1, $2, $3, $4)", []any{uuid.New(), site, device, person}},
		{"INSERT INTO consents (id, device_id, person_id, addr, reason, until) VALUES ($1, $2, $3, $4, 'r', now())",
			[]any{uuid.New(), device, person, mark}},
		{"INSERT INTO stream_roles (device_id, token, role) VALUES ($1, $2, 'main')", []any{device, mark}},
		{"INSERT INTO views (device_id, part, form) VALUES ($1, 1, '{}')", []any{device}},
		{"INSERT INTO wanted_placements (device_id, target_id) VALUES ($1, $2)", []any{device, target}},
		{"INSERT INTO target_agreements (id, target_id, secret, identity, person_id) VALUES ($1, $2, 'sign_in', '{}', $3)",
			[]any{uuid.New(), target, person}},
		{"INSERT INTO target_seen (id, target_id, run_id, what) VALUES ($1, $2, $3, 'looked')", []any{uuid.New(), target, run}},
		{"INSERT INTO spans (thing, site_id, state, from_at, to_at) VALUES ($1, $2, 'up', now(), now())", []any{device, site}},
		{"INSERT INTO watched (thing, target, site_id, round_s, due, full_due) VALUES ($1, false, $2, 60, now(), now())", []any{device, site}},
		{"INSERT INTO storms (site_id, addr) VALUES ($1, $2)", []any{site, mark}},
		{"INSERT INTO expected (site_id, line, name, addr, mac, serial, note) VALUES ($1, 1, $2, '', '', '', '')", []any{site, mark}},
		{"INSERT INTO attested (site_id, item, by) VALUES ($1, $2, 'x')", []any{site, mark}},
		{"INSERT INTO waivers (site_id, cause, thing, by, reason) VALUES ($1, $2, $3, 'x', 'y')", []any{site, mark, device}},
		{"INSERT INTO drifts (id, site_id, device_id, cause, subject, body, after_at, before_at) VALUES ($1, $2, $3, 'c', $4, '{}', " +
			"now(), now())",
			[]any{id("drifts"), site, device, mark}},
		{"INSERT INTO mends (drift_id, site_id, repair) VALUES ($1, $2, 'slot')", []any{id("drifts"), site}},
		{"INSERT INTO plans (id, site_id, owner, name, parts) VALUES ($1, $2, 'x', $3, '{}')", []any{id("plans"), site, mark}},
		{"INSERT INTO audit (id, subject, site_id, site) VALUES ($1, $2, $3, $2)", []any{uuid.New(), mark, site}},
		{"INSERT INTO workers (name, epoch) VALUES ($1, 1)", []any{mark}},
		{"INSERT INTO worker_sites (worker, site_id) VALUES ($1, $2)", []any{mark, site}},
		{"INSERT INTO processes (name, kind, since, facts) VALUES ($1, 'worker', now(), '{}')", []any{mark}},
		{"INSERT INTO tell_rules (id, site_id, form, sealed) VALUES ($1, $2, '{}', $3)", []any{id("tell_rules"), site, []byte(mark)}},
		{"INSERT INTO person_sites (person_id, site_id) VALUES ($1, $2)", []any{person, site}},
		{"INSERT INTO settings (name, value) VALUES ($1, 'v')", []any{mark}},
	} {
		exec(x.sql, x.args...)
	}
	return rowsOf(t, pool, slices.Collect(maps.Values(ids)))
}

// rowsOf returns the rows of all tables in which one of some IDs stands.
func rowsOf(t *testing.T, pool *pgxpool.Pool, ids []uuid.UUID) map[string][]string {
	t.Helper()
	out := map[string][]string{}
	var texts []string
	for _, id := range ids {
		texts = append(texts, id.String())
	}
	for _, table := range farTables(t, pool) {
		rows, err := pool.Query(t.Context(), "SELECT to_jsonb(x)::text FROM "+table+" x WHERE to_jsonb(x)::text ~ $1", strings.Join(texts, "|"))
		require.NoError(t, err, table)
		list, err := pgx.CollectRows(rows, pgx.RowTo[string])
		require.NoError(t, err, table)
		if len(list) > 0 {
			out[table] = list
		}
	}
	return out
}

func newFarBench(t *testing.T) *farBench {
	t.Helper()
	x := &farBench{t: t, s: storetest.Open(t)}
	for name, to := range map[string]*uuid.UUID{"Mine": &x.mine, "Other": &x.other} {
		site, err := x.s.Sites.Create(t.Context(), name, address.MustParse("192.0.2.0/24"))
		require.NoError(t, err)
		*to = site.ID
		_, err = x.s.SignIns.Add(t.Context(), signin.New{Label: name, User: "fitter", Secret: signin.NewSecret("secret of " + name),
			Terms: signin.Terms{Site: to}})
		require.NoError(t, err)
	}
	x.worker = storetest.Pair(t, x.s, false, x.mine)
	x.far = storetest.OpenFar(t, x.s, x.worker)
	x.own = fillSite(t, x.s.Pool, x.mine)
	x.rows = fillSite(t, x.s.Pool, x.other)
	return x
}

// With a paired worker's own connection each table is asked for what is of another site, and each way of writing is tried on it.
func TestAPairedWorkerSeesItsSitesAlone(t *testing.T) {
	t.Parallel()
	x := newFarBench(t)
	require.Greater(t, len(x.rows), 35, "tables have rows of the other site")
	seen := 0
	for _, table := range farTables(t, x.s.Pool) {
		before := x.count(table)
		// What it sees: nothing of the other site, whatever it asks.
		rows, err := x.far.Pool.Query(t.Context(), "SELECT to_jsonb(x)::text FROM "+table+" x")
		if err == nil {
			list, err := pgx.CollectRows(rows, pgx.RowTo[string])
			if err == nil && len(list) > 0 {
				seen++
				for _, row := range list {
					assert.NotContains(t, row, x.other.String(), table)
					assert.NotContains(t, row, "secret of", table)
				}
				for _, row := range x.rows[table] {
					assert.NotContains(t, list, row, table)
				}
			}
		}
		x.mayNotWrite(table)
		assert.Equal(t, before, x.count(table), "%s is as it was", table)
	}
	assert.Greater(t, seen, 20, "it sees its own")
	for _, table := range []string{"people", "sessions", "factors", "tokens", "links", "settings", "tell_rules", "paired_workers", "data_keys",
		"handovers", "record_head", "measures_minute_20260101"} {
		_, err := x.far.Pool.Exec(t.Context(), "SELECT 1 FROM "+table)
		assert.Error(t, err, table)
	}
	var mine int
	require.NoError(t, x.far.Pool.QueryRow(t.Context(), "SELECT count(*) FROM devices WHERE site_id = $1", x.mine).Scan(&mine))
	assert.Equal(t, 1, mine)
}

// count is a fingerprint of all rows of a table but those that the worker's own connection is known by.
func (x *farBench) count(table string) string {
	x.t.Helper()
	var sum string
	require.NoError(x.t, x.s.Pool.QueryRow(x.t.Context(), "SELECT md5(COALESCE(string_agg(y, '' ORDER BY y), '')) FROM (SELECT "+
		"to_jsonb(x)::text AS y FROM "+
		table+" x) z").Scan(&sum))
	return sum
}

// mayNotWrite tries every way of writing to rows of the other site.
func (x *farBench) mayNotWrite(table string) {
	ctx := x.t.Context()
	for _, row := range x.rows[table] {
		for what, sql := range map[string]string{
			"insert": "INSERT INTO %[1]s SELECT * FROM jsonb_populate_record(null::%[1]s, $1)",
			"delete": "DELETE FROM %[1]s x WHERE to_jsonb(x) = $1",
			"lock":   "SELECT 1 FROM %[1]s x WHERE to_jsonb(x) = $1 FOR UPDATE",
		} {
			tx, err := x.far.Pool.Begin(ctx)
			require.NoError(x.t, err)
			tag, err := tx.Exec(ctx, fmt.Sprintf(sql, table), row)
			assert.True(x.t, err != nil || tag.RowsAffected() == 0, "%s into %s: %s", what, table, row)
			tx.Rollback(ctx)
		}
	}
	columns, err := x.s.Pool.Query(ctx, `SELECT attname FROM pg_attribute WHERE attrelid = $1::regclass AND attnum > 0 AND NOT attisdropped
		AND attgenerated = '' AND (atttypid = 'uuid'::regtype OR attname IN ('queue', 'role', 'worker'))`, table)
	require.NoError(x.t, err)
	names, err := pgx.CollectRows(columns, pgx.RowTo[string])
	require.NoError(x.t, err)
	for _, name := range names {
		for _, row := range x.rows[table] {
			// A row of its own made one of the other site's, or one that refers to it; and the other site's changed.
			for what, where := range map[string]string{"its own row": "to_jsonb(x)::text LIKE '%" + x.mine.String() + "%'",
				"another's": "to_jsonb(x) = $1"} {
				tx, err := x.far.Pool.Begin(ctx)
				require.NoError(x.t, err)
				tag, err := tx.Exec(ctx, fmt.Sprintf("UPDATE %[1]s x SET %[2]s = (jsonb_populate_record(null::%[1]s, $1)).%[2]s WHERE "+
					"%[3]s", table, name,
					where), row)
				if err == nil && tag.RowsAffected() > 0 && what == "its own row" {
					var text string
					_ = tx.QueryRow(ctx, "SELECT string_agg(to_jsonb(x)::text, ' ') FROM "+table+" x").Scan(&text)
					for _, id := range []string{x.other.String(), x.id("devices"), x.id("targets"), x.id("runs"), x.id("relays"), x.id("drifts")} {
						assert.NotContains(x.t, text, id, "%s.%s may be set to what is of the other site", table, name)
					}
				} else {
					assert.True(x.t, err != nil || tag.RowsAffected() == 0, "%s: %s.%s", what, table, name)
				}
				tx.Rollback(ctx)
			}
		}
	}
}

// id returns the ID of what the other site has one of.
func (x *farBench) id(table string) string {
	for _, row := range x.rows[table] {
		if i := strings.Index(row, `"id": "`); i >= 0 {
			return row[i+7 : i+7+36]
		}
	}
	return "nothing of " + table
}

// What else a session might try: to be somebody else, to read files, to lead, to make tables, to grant.
func TestAPairedWorkerIsNobodyElse(t *testing.T) {
	t.Parallel()
	x := newFarBench(t)
	for _, sql := range []string{
		"SET SESSION AUTHORIZATION unlatch", "SET ROLE unlatch", "SET ROLE postgres", "RESET SESSION AUTHORIZATION; SELECT 1 FROM people",
		"ALTER TABLE devices DISABLE ROW LEVEL SECURITY", "DROP POLICY far ON devices", "SET row_security = off; SELECT 1 FROM devices",
		"CREATE TABLE t (a int)", "CREATE ROLE x SUPERUSER", "ALTER ROLE unlatch_far SUPERUSER",
		"SELECT pg_read_file('/etc/passwd')", "COPY devices TO '/tmp/x'", "COPY devices FROM PROGRAM 'id'", "SELECT lo_import('/etc/passwd')",
		"TRUNCATE devices", "UPDATE sites SET ranges = '{0.0.0.0/0}'", "UPDATE sites SET name = 'x'", "UPDATE relays SET path = 'x'",
		"INSERT INTO paired_sites SELECT worker, site FROM (VALUES (1, 2)) v(worker, site)", "UPDATE sign_ins SET sealed = ''",
		"UPDATE targets SET address = 'http://198.51.100.9'", "UPDATE targets SET sign_in_id = NULL", "UPDATE devices SET site_id = site_id",
		"SELECT ensure_measures('minute', 'people', current_date, current_date + 1)",
		"SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE usename = 'unlatch'",
	} {
		_, err := x.far.Pool.Exec(t.Context(), sql)
		assert.Error(t, err, sql)
	}
	_, err := x.far.Pool.Exec(t.Context(), "GRANT ALL ON devices TO public")
	require.NoError(t, err, "PostgreSQL warns of it, and grants nothing")
	var granted bool
	require.NoError(t, x.s.Pool.QueryRow(t.Context(), "SELECT has_table_privilege('pg_monitor', 'devices', 'SELECT')").Scan(&granted))
	assert.False(t, granted)
	// The sites of a session are those of who signed in, whatever it says of itself.
	var other int
	require.NoError(t, x.far.Pool.QueryRow(t.Context(), `SELECT count(*) FROM (SELECT set_config('role', 'unlatch_far', true)) s, devices
		WHERE site_id = $1`, x.other).Scan(&other))
	assert.Zero(t, other)
	tag, err := x.far.Pool.Exec(t.Context(), `INSERT INTO river_leader (elected_at, expires_at, leader_id) VALUES (now(), now() +
		interval '1 year', 'me')`)
	require.NoError(t, err)
	assert.Zero(t, tag.RowsAffected())
	// Findings of a size or a time that no camera has.
	for _, sql := range []string{
		"INSERT INTO evidence (id, device_id, at, kind, subject, body) SELECT gen_random_uuid(), id, now() + interval '1 day', " +
			"'heard', '', '{}' FROM devices",
		"INSERT INTO evidence (id, device_id, at, kind, subject, body) SELECT gen_random_uuid(), id, now(), 'heard', '', " +
			"to_jsonb(repeat('x', 2000000)) " +
			"FROM devices",
		"INSERT INTO stills (id, device_id, jpeg) SELECT gen_random_uuid(), id, convert_to(repeat('x', 9000000), 'UTF8') FROM devices",
	} {
		_, err := x.far.Pool.Exec(t.Context(), sql)
		assert.ErrorContains(t, err, "row-level security", sql)
	}
	many := func(n int) error {
		_, err := x.far.Pool.Exec(t.Context(), `INSERT INTO evidence (id, device_id, at, kind, subject, body) SELECT
			gen_random_uuid(), d.id, now(),
			'heard', i::text, '{}' FROM devices d, generate_series(1, $1::int) i`, n)
		return err
	}
	require.NoError(t, many(3000))
	assert.ErrorContains(t, many(1), "row-level security", "it writes no more than a real device gives cause for")
	// A clock that is an hour ahead: what is heard is kept as of now, by the clock of the database.
	ahead, err := x.far.Devices.Sight(t.Context(), x.mine, nil, sighting.Sighting{Method: sighting.WSDiscovery, Kind: sighting.Camera,
		At: time.Now().Add(time.Hour), Addr: netip.MustParseAddr("192.0.2.7"), Endpoint: "urn:1"})
	require.NoError(t, err)
	var late bool
	require.NoError(t, x.s.Pool.QueryRow(t.Context(), "SELECT bool_or(at > now()) FROM evidence WHERE device_id = $1", ahead).Scan(&late))
	assert.False(t, late)
	// A line in the record says which worker wrote it, whoever it names.
	_, err = x.far.Pool.Exec(t.Context(), "INSERT INTO audit (id, subject, site_id, person, token, number, hash) VALUES ($1, 's', $2, "+
		"'Owner', 'the watch', 1, '')",
		uuid.New(), x.mine)
	require.NoError(t, err)
	var token string
	require.NoError(t, x.s.Pool.QueryRow(t.Context(), "SELECT token FROM audit WHERE person = 'Owner' AND subject = 's'").Scan(&token))
	assert.True(t, strings.HasPrefix(token, "the watch, Worker "), token)
}

// A server whose own role is no superuser pairs and revokes as well, where it may make roles, and says what to do where it may not.
func TestAServerThatIsNoSuperuser(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	at, err := url.Parse(storetest.EmptyURL(t))
	require.NoError(t, err)
	admin, err := pgx.Connect(ctx, at.String())
	require.NoError(t, err)
	defer admin.Close(ctx)
	name := strings.TrimPrefix(at.Path, "/")
	plain := "plain_" + name
	for _, sql := range []string{"CREATE ROLE " + plain + " LOGIN PASSWORD 'oak'", "ALTER DATABASE " + name + " OWNER TO " + plain,
		"ALTER SCHEMA public OWNER TO " + plain} {
		_, err := admin.Exec(ctx, sql)
		require.NoError(t, err)
	}
	at.User = url.UserPassword(plain, "oak")
	s, err := store.Open(ctx, at.String(), filepath.Join(t.TempDir(), "key"), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer s.Close()
	site, err := s.Sites.Create(ctx, "Near", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	a := act.PairWorker{ID: uuid.New(), Key: pairing.NewKey().Public(), Sites: []uuid.UUID{site.ID}}
	_, err = s.Acts().Keep(ctx, storetest.Owner, a.About(), a)
	var no *store.RolesError
	require.ErrorAs(t, err, &no)
	assert.Equal(t, plain, no.Role)
	// The group is there already where another database of the cluster has it: then its owner says who may join it.
	_, err = admin.Exec(ctx, "ALTER ROLE "+plain+" CREATEROLE")
	require.NoError(t, err)
	i := storetest.Pair(t, s, false, site.ID)
	far := storetest.OpenFar(t, s, i)
	sites, err := far.Sites.List(ctx)
	require.NoError(t, err)
	assert.Len(t, sites, 1)
	revoke(t, s, i)
	assert.Error(t, far.Ping(ctx))
}

// A restored database, or one of a version that gave other rights, has its roles put right by the next start.
func TestRolesArePutRightByAStart(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	at, key := storetest.URL(t), filepath.Join(t.TempDir(), "key")
	open := func() *store.Store {
		s, err := store.Open(ctx, at, key, slog.New(slog.DiscardHandler))
		require.NoError(t, err)
		t.Cleanup(s.Close)
		return s
	}
	s := open()
	site, err := s.Sites.Create(ctx, "Near", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	i := storetest.Pair(t, s, false, site.ID)
	role, _, err := s.Paired.Login(ctx, uuid.MustParse(i.Worker))
	require.NoError(t, err)
	for _, broken := range []string{"ALTER ROLE " + role + " PASSWORD 'another'", "DROP ROLE " + role,
		"REVOKE ALL ON sites FROM unlatch_far"} {
		_, err = s.Pool.Exec(ctx, broken)
		require.NoError(t, err)
		started := open()
		require.NoError(t, started.Paired.EnsureRoles(ctx))
		sites, err := storetest.OpenFar(t, started, i).Sites.List(ctx)
		require.NoError(t, err, broken)
		assert.Len(t, sites, 1)
	}
}
