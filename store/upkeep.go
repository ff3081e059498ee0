package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgxpool"

	"unlatch/core/decide/doctor"
)

// Upkeep is what the installation itself is: its processes, its database, its queue, its backups.
type Upkeep struct{ *database }

// ReportProcess keeps what a server or a worker tells of itself, and forgets those that have told nothing for a day.
func (s Upkeep) ReportProcess(ctx context.Context, p doctor.Process) error {
	_, err := s.on(ctx).ExecContext(ctx, `WITH gone AS (DELETE FROM processes WHERE seen < now() - interval '1 day' AND name <> $1)
		INSERT INTO processes (name, kind, since, facts) VALUES ($1, $2, $3, $4)
		ON CONFLICT (name) DO UPDATE SET seen = now(), facts = excluded.facts`, p.Name, p.Kind, p.Since, JSON(p))
	return err
}

// ForgetProcess forgets a process that ends as it should.
func (s Upkeep) ForgetProcess(ctx context.Context, name string) error {
	_, err := s.on(ctx).ExecContext(ctx, "DELETE FROM processes WHERE name = $1", name)
	return err
}

// Processes lists the servers and workers, servers first, each with the sites that it reaches.
func (s Upkeep) Processes(ctx context.Context) ([]doctor.Process, error) {
	var rows []struct {
		Facts jsonb[doctor.Process] `db:"facts"`
		Seen  time.Time             `db:"seen"`
		Sites jsonb[[]string]       `db:"sites"`
		Far   bool                  `db:"far"`
	}
	err := s.on(ctx).SelectContext(ctx, &rows, `SELECT p.facts, p.seen, COALESCE((SELECT json_agg(s.name ORDER BY s.name) FROM worker_sites w
		JOIN sites s ON s.id = w.site_id WHERE w.worker = p.name), '[]') AS sites,
		p.role LIKE 'unlatch_far_%' AS far FROM processes p ORDER BY p.kind, p.name`)
	out := make([]doctor.Process, len(rows))
	for i, r := range rows {
		out[i] = r.Facts.V
		out[i].Seen, out[i].Sites, out[i].Paired = r.Seen.UTC(), r.Sites.V, r.Far
	}
	return out, err
}

// mostTables is how many of the largest tables are told of.
const mostTables = 8

// Database returns what PostgreSQL says of itself.
func (s Upkeep) Database(ctx context.Context) (d doctor.Database, err error) {
	err = s.db.QueryRowContext(ctx, `SELECT current_setting('server_version'), now(), pg_database_size(current_database()),
		current_setting('max_connections')::int, (SELECT count(*) FROM pg_stat_activity WHERE backend_type = 'client backend'),
		(SELECT max(version_id) FROM goose_db_version),
		(SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND state = 'active' AND query_start < now() - $1::interval
			AND wait_event_type IS DISTINCT FROM 'Client'),
		COALESCE((SELECT extract(epoch FROM now() - min(query_start)) FROM pg_stat_activity WHERE datname = current_database()
			AND state = 'active'), 0)::float8,
		(SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND wait_event_type = 'Lock'
			AND wait_event IS DISTINCT FROM 'advisory')`, doctor.SlowAfter.String()).
		Scan(&d.Version, &d.Clock, &d.Bytes, &d.MostConnections, &d.Connections, &d.Schema, &d.SlowNow, &d.SlowestSeconds, &d.Blocked)
	if err != nil {
		return d, err
	}
	var rows []struct {
		Name  string `db:"name"`
		Bytes int64  `db:"bytes"`
		Rows  int64  `db:"rows"`
		Dead  int64  `db:"dead"`
	}
	err = s.on(ctx).SelectContext(ctx, &rows, `SELECT relname::text AS name, pg_total_relation_size(relid) AS bytes, n_live_tup AS rows,
		n_dead_tup AS dead FROM pg_stat_user_tables WHERE schemaname = 'public' ORDER BY bytes DESC, name LIMIT $1`, mostTables)
	for _, r := range rows {
		d.Tables = append(d.Tables, doctor.Table(r))
	}
	d.Clock = d.Clock.UTC()
	return d, err
}

// Queue returns how work goes.
func (s Upkeep) Queue(ctx context.Context) (q doctor.Queue, err error) {
	if err := s.db.QueryRowContext(ctx, `SELECT count(*) FILTER (WHERE state = 'available'), count(*) FILTER (WHERE state = 'running'),
		count(*) FILTER (WHERE state IN ('scheduled', 'retryable', 'pending')),
		COALESCE(extract(epoch FROM now() - min(scheduled_at) FILTER (WHERE state = 'available')), 0)::float8
		FROM river_job WHERE state IN ('available', 'running', 'scheduled', 'retryable', 'pending')`).
		Scan(&q.Waiting, &q.Working, &q.Later, &q.OldestSeconds); err != nil {
		return q, err
	}
	var failed []struct {
		Kind string `db:"kind"`
		N    int    `db:"n"`
	}
	err = s.on(ctx).SelectContext(ctx, &failed, `SELECT kind, count(*) AS n FROM river_job WHERE state = 'discarded'
		AND finalized_at > now() - interval '1 day' GROUP BY kind`)
	for _, f := range failed {
		if q.Failed == nil {
			q.Failed = map[string]int{}
		}
		q.Failed[f.Kind] = f.N
	}
	return q, err
}

// Sites returns the sites as far as their workers go.
func (s Upkeep) Sites(ctx context.Context) (out []doctor.Site, err error) {
	var rows []struct {
		Name      string `db:"name"`
		Reached   bool   `db:"reached"`
		Cameras   int    `db:"cameras"`
		Announced int    `db:"announced"`
	}
	err = s.on(ctx).SelectContext(ctx, &rows, `SELECT s.name, EXISTS (SELECT 1 FROM worker_sites w WHERE w.site_id = s.id) AS reached,
		count(DISTINCT l.device_id) AS cameras,
		count(DISTINCT l.device_id) FILTER (WHERE e.body->>'method' IN ('ws-discovery', 'mdns', 'ssdp')) AS announced
		FROM sites s LEFT JOIN devices d ON d.site_id = s.id
		LEFT JOIN latest_evidence l ON l.device_id = d.id AND l.kind = 'heard' LEFT JOIN evidence e ON e.id = l.evidence_id
		GROUP BY s.id ORDER BY s.name`)
	for _, r := range rows {
		out = append(out, doctor.Site(r))
	}
	return out, err
}

// KeepBackup keeps how a backup went, and forgets those of more than a year ago.
func (s Upkeep) KeepBackup(ctx context.Context, b doctor.Backup) error {
	_, err := s.on(ctx).ExecContext(ctx, `WITH gone AS (DELETE FROM backups WHERE at < now() - interval '1 year')
		INSERT INTO backups (at, path, bytes, rows, problem) VALUES ($1, $2, $3, $4, $5)`, b.At, b.Path, b.Bytes, b.Rows, b.Problem)
	return err
}

// Backups returns the newest backup that was tried and the newest that was made.
func (s Upkeep) Backups(ctx context.Context) (out doctor.Backups, err error) {
	var rows []struct {
		At      time.Time `db:"at"`
		Path    string    `db:"path"`
		Bytes   int64     `db:"bytes"`
		Rows    int64     `db:"rows"`
		Problem string    `db:"problem"`
	}
	err = s.on(ctx).SelectContext(ctx, &rows, `(SELECT at, path, bytes, rows, problem FROM backups ORDER BY at DESC LIMIT 1)
		UNION ALL (SELECT at, path, bytes, rows, problem FROM backups WHERE problem = '' ORDER BY at DESC LIMIT 1)`)
	for i, r := range rows {
		b := doctor.Backup(r)
		b.At = b.At.UTC()
		if i == 0 {
			out.Last = &b
		}
		if b.Problem == "" {
			out.LastGood = &b
		}
	}
	return out, err
}

// Condition returns all that is judged.
func (s Upkeep) Condition(ctx context.Context) (f doctor.Facts, err error) {
	d, err := s.Database(ctx)
	if err != nil {
		return f, err
	}
	f.At, f.Database = d.Clock, &d
	q, err := s.Queue(ctx)
	if err != nil {
		return f, err
	}
	f.Queue = &q
	if f.Processes, err = s.Processes(ctx); err != nil {
		return f, err
	}
	if f.Sites, err = s.Sites(ctx); err != nil {
		return f, err
	}
	if f.Backups, err = s.Backups(ctx); err != nil {
		return f, err
	}
	f.Relays, err = s.Relays(ctx)
	return f, err
}

// Relays returns the streams that are served on, as their workers told of them last.
func (s Upkeep) Relays(ctx context.Context) (out []doctor.Relay, err error) {
	var rows []struct {
		Path    string    `db:"path"`
		Site    string    `db:"site"`
		For     string    `db:"for_whom"`
		Problem string    `db:"problem"`
		Told    time.Time `db:"at"`
	}
	err = s.on(ctx).SelectContext(ctx, &rows, `SELECT r.path, s.name AS site, r.for_whom, COALESCE(g.problem, '') AS problem,
		COALESCE(g.at, r.created_at) AS at FROM relays r JOIN sites s ON s.id = r.site_id
		LEFT JOIN relay_status g ON g.relay_id = r.id ORDER BY r.path`)
	for _, r := range rows {
		out = append(out, doctor.Relay(r))
	}
	return out, err
}

// ToldIll returns what a rule was told to be wrong with the installation, by the finding's key, with what was said.
func (s Upkeep) ToldIll(ctx context.Context, rule uuid.UUID) (map[string]string, error) {
	var rows []struct {
		Finding string `db:"finding"`
		Says    string `db:"says"`
	}
	err := s.on(ctx).SelectContext(ctx, &rows, "SELECT finding, says FROM told_ill WHERE rule_id = $1", rule)
	out := map[string]string{}
	for _, r := range rows {
		out[r.Finding] = r.Says
	}
	return out, err
}

// MadeBackups lists the backups whose files are there, the newest first.
func (s Upkeep) MadeBackups(ctx context.Context) (out []doctor.Backup, err error) {
	var rows []struct {
		At   time.Time `db:"at"`
		Path string    `db:"path"`
	}
	err = s.on(ctx).SelectContext(ctx, &rows, "SELECT at, path FROM backups WHERE path <> '' ORDER BY at DESC")
	for _, r := range rows {
		out = append(out, doctor.Backup{At: r.At, Path: r.Path})
	}
	return out, err
}

// BackupGone keeps that the file of a backup was removed.
func (s Upkeep) BackupGone(ctx context.Context, path string) error {
	_, err := s.on(ctx).ExecContext(ctx, "UPDATE backups SET path = '' WHERE path = $1", path)
	return err
}

// Counts are how much there is of what happens.
type Counts struct {
	Runs   map[string]int64 // by kind, ever
	Drifts map[string]int64 // that last, by cause
	Takers int64            // of streams that are served on
	// WatchLagSeconds is by how much the look that is most overdue is.
	WatchLagSeconds float64
}

// Counts counts.
func (s Upkeep) Counts(ctx context.Context) (c Counts, err error) {
	type counted struct {
		Name string `json:"name"`
		N    int64  `json:"n"`
	}
	var runs, drifts, takers []counted
	var lag []struct {
		Seconds float64 `json:"seconds"`
	}
	var r reading
	r.ask(&runs, "SELECT kind AS name, count(*) AS n FROM runs GROUP BY kind")
	r.ask(&drifts, "SELECT cause AS name, count(*) AS n FROM drifts WHERE ended_at IS NULL GROUP BY cause")
	r.ask(&takers,
		"SELECT 'all' AS name, COALESCE(sum(takers), 0) AS n FROM relay_status WHERE at > now() - interval '1 minute'")
	r.ask(&lag, "SELECT COALESCE(extract(epoch FROM now() - min(due)), 0)::float8 AS seconds FROM watched WHERE due < now()")
	if err := r.answer(ctx, s.on(ctx)); err != nil {
		return c, err
	}
	c.Runs, c.Drifts = map[string]int64{}, map[string]int64{}
	for _, x := range runs {
		c.Runs[x.Name] = x.N
	}
	for _, x := range drifts {
		c.Drifts[x.Name] = x.N
	}
	for _, x := range takers {
		c.Takers = x.N
	}
	for _, x := range lag {
		c.WatchLagSeconds = x.Seconds
	}
	return c, nil
}

// A PoolLoad is how the connections of this process to the database are used.
type PoolLoad struct {
	Used, Idle, Most int32
	Waits            int64 // how often somebody had to wait for one
}

// PoolLoad returns how the connections of this process are used.
func (s *Store) PoolLoad() (l PoolLoad) {
	for _, p := range []*pgxpool.Pool{s.Pool, s.singles} {
		st := p.Stat()
		l.Used, l.Idle, l.Most = l.Used+st.AcquiredConns(), l.Idle+st.IdleConns(), l.Most+st.MaxConns()
		l.Waits += st.EmptyAcquireCount()
	}
	return l
}

// backupRow is the setting that says that a backup was asked for.
const backupRow = "backup_wanted"

// WantBackup asks for a backup now.
func (s Upkeep) WantBackup(ctx context.Context) error {
	_, err := s.on(ctx).ExecContext(ctx, "INSERT INTO settings (name, value) VALUES ($1, '') ON CONFLICT DO NOTHING", backupRow)
	return err
}

// TakeBackupWish reports whether a backup was asked for, once.
func (s Upkeep) TakeBackupWish(ctx context.Context) (wanted bool, err error) {
	res, err := s.on(ctx).ExecContext(ctx, "DELETE FROM settings WHERE name = $1", backupRow)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n > 0, err
}
