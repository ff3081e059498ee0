package store

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/decide/act"
	"unlatch/core/decide/doctor"
	"unlatch/core/decide/drift"
	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/stream/conversion"
)

// Relays are the streams that are served on.
type Relays struct{ *database }

// A Relay is one of them, without its secret.
type Relay struct {
	ID      uuid.UUID `db:"id"`
	Site    uuid.UUID `db:"site_id"`
	Device  uuid.UUID `db:"device_id"`
	Role    string    `db:"role"`
	Path    string    `db:"path"`
	User    string    `db:"user_name"`
	For     string    `db:"for_whom"`
	Always  bool      `db:"always"`
	Most    int       `db:"most"`
	By      string    `db:"made_by"`
	Created time.Time `db:"created_at"`
	// Form is what the stream is turned into.
	Form jsonb[conversion.Shape] `db:"form"`
	// At is where a worker serves it; "" for one that was made before that was kept.
	At string `db:"at"`
	// Target is the target that is given it in place of the camera's own; nil for none.
	Target *uuid.UUID `db:"target_id"`
	// FacePort is the port of its ONVIF face; 0 for none.
	FacePort int `db:"face_port"`
	// Page says that it is served to web pages as well.
	Page bool `db:"page"`
	// Push is the live platform that it is sent to; nil for none.
	Push jsonb[*act.PushForm] `db:"push"`
}

const relayColumns = "id, site_id, device_id, role, path, user_name, for_whom, always, most, made_by, created_at, form, at, target_id, " +
	"face_port, page, push"

// keyOwner binds an encrypted stream key to its relay.
func keyOwner(id uuid.UUID) string { return "stream key " + id.String() }

// relayOwner binds an encrypted password to its relay.
func relayOwner(id uuid.UUID) string { return "relay " + id.String() }

// List returns the relays of some sites, by path.
func (s Relays) List(ctx context.Context, sites ...uuid.UUID) (out []Relay, err error) {
	return out, s.on(ctx).SelectContext(ctx, &out, "SELECT "+relayColumns+" FROM relays WHERE site_id = ANY($1) ORDER BY path", sites)
}

// Get returns one relay.
func (s Relays) Get(ctx context.Context, id uuid.UUID) (r Relay, err error) {
	return r, notFoundIfNone(s.on(ctx).GetContext(ctx, &r, "SELECT "+relayColumns+" FROM relays WHERE id = $1", id))
}

// Secret decrypts the password that opens a relay.
func (s Relays) Secret(ctx context.Context, id uuid.UUID) (signin.Secret, error) {
	return s.secretIn(ctx, id, "sealed", relayOwner(id))
}

// secretIn decrypts what stands in a column of a relay; empty where nothing does.
func (s Relays) secretIn(ctx context.Context, id uuid.UUID, column, owner string) (signin.Secret, error) {
	var row struct {
		Value []byte     `db:"value"`
		Key   *uuid.UUID `db:"key_id"`
	}
	err := s.on(ctx).GetContext(ctx, &row, "SELECT "+column+" AS value, key_id FROM relays WHERE id = $1", id)
	if err != nil || len(row.Value) == 0 {
		return signin.Secret{}, notFoundIfNone(err)
	}
	text, err := s.decryptBy(ctx, row.Key, row.Value, owner)
	return signin.NewSecret(text), err
}

// faceOf returns the relay whose ONVIF face has an endpoint reference, where that has the form of one.
func faceOf(endpoint string) (relay uuid.UUID, ok bool) {
	relay, err := uuid.Parse(strings.TrimPrefix(endpoint, "urn:uuid:"))
	return relay, err == nil
}

// IsFace reports whether an endpoint reference is that of a relay's ONVIF face.
func (s Relays) IsFace(ctx context.Context, endpoint string) (is bool, err error) {
	id, ok := faceOf(endpoint)
	if !ok {
		return false, nil
	}
	return is, s.on(ctx).GetContext(ctx, &is, "SELECT EXISTS (SELECT 1 FROM relays WHERE id = $1 AND face_port > 0)", id)
}

// Key decrypts the stream key of the platform that a relay is sent to; empty where it has none.
func (s Relays) Key(ctx context.Context, id uuid.UUID) (signin.Secret, error) {
	return s.secretIn(ctx, id, "sealed_key", keyOwner(id))
}

// SignIn decrypts the sign-in that opens a relay.
func (s Relays) SignIn(ctx context.Context, id uuid.UUID) (signin.SignIn, error) {
	r, err := s.Get(ctx, id)
	if err != nil {
		return signin.SignIn{}, err
	}
	secret, err := s.Secret(ctx, id)
	return signin.SignIn{User: r.User, Secret: secret}, err
}

// put keeps a relay, a new one or an old one that was changed. ErrTaken means that another has its path.
func (s Relays) put(ctx context.Context, by act.Person, x act.PutRelay) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		own, err := s.cipherOf(ctx, tx, &x.Site)
		if err != nil {
			return err
		}
		if err := s.rekey(ctx, tx, "relays", x.ID, &own); err != nil && !errors.Is(err, ErrNotFound) {
			return err
		}
		target := orNull(x.Target)
		var key []byte
		var push any
		if x.Push != nil {
			push = JSON(x.Push)
		}
		if x.Push != nil && !x.Key.Empty() {
			key = own.Encrypt(x.Key.Reveal(), keyOwner(x.ID))
		}
		if x.Secret.Empty() {
			err = touchedOne(tx.ExecContext(ctx, `UPDATE relays SET role = $3, path = $4, for_whom = $5, always = $6, most = $7, form = $8,
				cores = $9, at = $10, target_id = $11, face_port = $12, page = $13, push = $14,
				sealed_key = CASE WHEN $14::jsonb IS NULL THEN NULL ELSE coalesce($15, sealed_key) END WHERE id = $1 AND site_id = $2`,
				x.ID, x.Site, x.Role, x.Path, x.For, x.Always, x.Most, JSON(x.Form), x.Cores, x.At, target, x.FacePort, x.Page, push, key))
		} else {
			err = touchedOne(tx.ExecContext(ctx, `INSERT INTO relays AS r (id, site_id, device_id, role, path, user_name, sealed, for_whom, always,
				most, made_by, form, cores, at, target_id, face_port, page, push, sealed_key, key_id)
				VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, $18, $19, $20)
				ON CONFLICT (id) DO UPDATE SET role = excluded.role, path = excluded.path, user_name = excluded.user_name,
				sealed = excluded.sealed, for_whom = excluded.for_whom, always = excluded.always, most = excluded.most,
				form = excluded.form, cores = excluded.cores, at = excluded.at, target_id = excluded.target_id,
				face_port = excluded.face_port, page = excluded.page, push = excluded.push, key_id = excluded.key_id,
				sealed_key = CASE WHEN excluded.push IS NULL THEN NULL ELSE coalesce(excluded.sealed_key, r.sealed_key) END
				WHERE r.site_id = excluded.site_id AND r.device_id = excluded.device_id`,
				x.ID, x.Site, x.Device, x.Role, x.Path, x.User, own.Encrypt(x.Secret.Reveal(), relayOwner(x.ID)), x.For, x.Always, x.Most,
				by.Name, JSON(x.Form), x.Cores, x.At, target, x.FacePort, x.Page, push, key, own.Key))
		}
		if err != nil {
			return takenIfDouble(err)
		}
		return s.changed(ctx, tx, x.Site, x.ID, x.Device)
	})
}

// pause stops, or begins again, what is sent of one relay to a live platform.
func (s Relays) pause(ctx context.Context, x act.PausePush) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := touchedOne(tx.ExecContext(ctx, `UPDATE relays SET push = jsonb_set(push, '{paused}', to_jsonb($3::boolean))
			WHERE id = $1 AND site_id = $2 AND push IS NOT NULL`, x.ID, x.Site, x.Paused)); err != nil {
			return err
		}
		return s.changed(ctx, tx, x.Site, x.ID, x.Device)
	})
}

// stopAll stops all that is sent to live platforms of a site.
func (s Relays) stopAll(ctx context.Context, site uuid.UUID) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE relays SET push = jsonb_set(push, '{paused}', 'true') WHERE site_id = $1
			AND push IS NOT NULL`, site); err != nil {
			return err
		}
		return s.notify(ctx, tx, Event{Site: site, What: "relay"})
	})
}

// remove has a stream served on no more.
func (s Relays) remove(ctx context.Context, x act.DeleteRelay) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := touchedOne(tx.ExecContext(ctx, "DELETE FROM relays WHERE id = $1 AND site_id = $2 AND device_id = $3", x.ID, x.Site,
			x.Device)); err != nil {
			return err
		}
		return s.changed(ctx, tx, x.Site, x.ID, x.Device)
	})
}

// removeOn removes the stream that is served on for a target that a camera is taken off.
func (s Relays) removeOn(ctx context.Context, q querier, device, target uuid.UUID) error {
	var rows []struct {
		ID   uuid.UUID `db:"id"`
		Site uuid.UUID `db:"site_id"`
	}
	if err := q.SelectContext(ctx, &rows, "DELETE FROM relays WHERE device_id = $1 AND target_id = $2 RETURNING id, site_id", device,
		target); err != nil {
		return err
	}
	for _, r := range rows {
		if err := s.notify(ctx, q, Event{Site: r.Site, What: "relay", ID: r.ID}); err != nil {
			return err
		}
	}
	return nil
}

// changed tells workers of a relay, and readers of its camera: a target may be given another stream now.
func (s Relays) changed(ctx context.Context, q querier, site, relay, device uuid.UUID) error {
	if err := s.deviceChanged(ctx, q, device); err != nil {
		return err
	}
	return s.notify(ctx, q, Event{Site: site, What: "relay", ID: relay})
}

// Serving returns the workers that serve streams of a site on, given its name and its ranges, in order of name, with what the site's and
// all other relays cost there.
func (s Relays) Serving(ctx context.Context, site string, ranges address.Ranges) (out []act.Serving, err error) {
	processes, err := Upkeep(s).Processes(ctx)
	if err != nil {
		return nil, err
	}
	var sites int
	if err := s.on(ctx).GetContext(ctx, &sites, "SELECT count(*) FROM sites"); err != nil {
		return nil, err
	}
	for _, p := range processes {
		at := p.ServedAt(site, ranges.Prefixes(), p.Relay)
		if at == "" {
			continue
		}
		w := act.Serving{At: at, Rates: p.Converting, Taken: map[uuid.UUID]float64{},
			Shared: len(p.Sites) > 1 || len(p.Sites) == 0 && sites > 1,
			Faces:  p.Faces, FacesTaken: map[int]uuid.UUID{}, Pages: PagesOf(p, at)}
		if err := s.addTaken(ctx, &w, site); err != nil {
			return nil, err
		}
		out = append(out, w)
	}
	return out, nil
}

// addTaken fills in what relays take of a worker: those of the named site in Taken, those of other sites in Others.
func (s Relays) addTaken(ctx context.Context, w *act.Serving, site string) error {
	var rows []struct {
		ID    uuid.UUID `db:"id"`
		Cores float64   `db:"cores"`
		Port  int       `db:"face_port"`
		Own   bool      `db:"own"`
	}
	err := s.on(ctx).SelectContext(ctx, &rows, `SELECT r.id, r.cores, r.face_port, s.name = $2 AS own
		FROM relays r JOIN sites s ON s.id = r.site_id WHERE r.at = $1`, w.At, site)
	for _, r := range rows {
		if r.Own {
			w.Taken[r.ID] = r.Cores
		} else {
			w.Others += r.Cores
		}
		if r.Port > 0 {
			w.FacesTaken[r.Port] = r.ID
		}
	}
	return err
}

// PagesOf returns the address under which a worker serves streams to web pages, given that at which it serves streams of a site; "" where
// it serves none. One that listens on every address has the same host.
func PagesOf(p doctor.Process, at string) string {
	u, err := url.Parse(p.Pages)
	if err != nil || u.Host == "" {
		return ""
	}
	host, _, err := net.SplitHostPort(at)
	if a, aerr := netip.ParseAddr(u.Hostname()); err == nil && aerr == nil && a.IsUnspecified() {
		u.Host = net.JoinHostPort(host, u.Port())
	}
	return u.String()
}

// A RelayStatus is how a relay goes at the worker that serves it.
type RelayStatus struct {
	ID      string    `db:"relay_id"`
	Takers  int       `db:"takers"`
	Packets int64     `db:"packets"`
	Lost    int64     `db:"lost"`
	Problem string    `db:"problem"`
	At      time.Time `db:"at"`
	// FPS and DelayMS are what one of the takers gets: pictures a second, and milliseconds that serving adds.
	FPS     float64 `db:"fps"`
	DelayMS float64 `db:"delay_ms"`
	// CameraFPS and CameraLost are what comes from the camera meanwhile: pictures a second, and packets that did not come.
	CameraFPS  float64 `db:"camera_fps"`
	CameraLost int64   `db:"camera_lost"`
	// PushState is how sending to a live platform goes, since when, and what the platform says; "" where it is sent to none.
	PushState string     `db:"push_state"`
	PushSince *time.Time `db:"push_since"`
	PushSays  string     `db:"push_says"`
}

const statusColumns = "relay_id, takers, packets, lost, problem, fps, delay_ms, camera_fps, camera_lost, push_state, push_since, push_says"

// Going keeps how relays go.
func (s Relays) Going(ctx context.Context, list []RelayStatus) error {
	for _, x := range list {
		if _, err := s.on(ctx).NamedExecContext(ctx, `INSERT INTO relay_status (`+statusColumns+`)
			SELECT CAST(:relay_id AS uuid), :takers, :packets, :lost, :problem, :fps, :delay_ms, :camera_fps, :camera_lost, :push_state,
			CAST(:push_since AS timestamptz), :push_says WHERE EXISTS (SELECT 1 FROM relays WHERE id = CAST(:relay_id AS uuid))
			ON CONFLICT (relay_id) DO UPDATE SET takers = excluded.takers, packets = excluded.packets, lost = excluded.lost,
			problem = excluded.problem, fps = excluded.fps, delay_ms = excluded.delay_ms, camera_fps = excluded.camera_fps,
			camera_lost = excluded.camera_lost, push_state = excluded.push_state, push_since = excluded.push_since,
			push_says = excluded.push_says, at = now()`, x); err != nil {
			return err
		}
	}
	return nil
}

// Told returns how the relays of a device go, as their workers told of them last.
func (s Relays) Told(ctx context.Context, device uuid.UUID) (out []drift.Relay, err error) {
	var rows []struct {
		Path     string    `db:"path"`
		Role     string    `db:"role"`
		For      string    `db:"for_whom"`
		At       string    `db:"at"`
		Told     time.Time `db:"told"`
		Problem  string    `db:"problem"`
		Platform string    `db:"platform"`
	}
	err = s.on(ctx).SelectContext(ctx, &rows, `SELECT r.path, r.role, r.for_whom, r.at, COALESCE(g.at, r.created_at) AS told,
		COALESCE(g.problem, '') AS problem,
		CASE WHEN r.push IS NOT NULL AND g.push_state IN ('refused', 'broken') THEN g.push_says ELSE '' END AS platform
		FROM relays r LEFT JOIN relay_status g ON g.relay_id = r.id WHERE r.device_id = $1 ORDER BY r.path`, device)
	for _, r := range rows {
		out = append(out, drift.Relay(r))
	}
	return out, err
}

// Statuses returns how the relays of a site go, by their IDs.
func (s Relays) Statuses(ctx context.Context, site uuid.UUID) (map[string]RelayStatus, error) {
	var rows []RelayStatus
	err := s.on(ctx).SelectContext(ctx, &rows, `SELECT `+statusColumns+`, at
		FROM relay_status WHERE relay_id IN (SELECT id FROM relays WHERE site_id = $1)`, site)
	out := map[string]RelayStatus{}
	for _, r := range rows {
		out[r.ID] = r
	}
	return out, err
}
