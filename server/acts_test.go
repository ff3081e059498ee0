package server

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/decide/baseline"
	"unlatch/core/decide/command"
	"unlatch/core/decide/doctor"
	"unlatch/core/decide/drift"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/handover"
	"unlatch/core/decide/handover/packtest"
	"unlatch/core/decide/proof"
	"unlatch/core/ground/address"
	"unlatch/core/ground/certificate"
	"unlatch/core/ground/pairing"
	"unlatch/core/ground/signin"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/capacity"
	"unlatch/core/stream/sighting"
	"unlatch/core/stream/tuning"
	"unlatch/core/wire/target"
	"unlatch/jobs"
	"unlatch/store"
	"unlatch/store/storetest"
)

// A depot is a site on which every act can be done, as often as it is asked for.
type depot struct {
	p *page
	s *store.Store
	// own and other are two sites with the same things on them.
	own, other depotSite
	signIn     uuid.UUID
	books      map[act.BookKind]uuid.UUID
	member     uuid.UUID               // a technician of the first site
	link       uuid.UUID               // an invitation
	floor      map[uuid.UUID]uuid.UUID // a site plan of each site
	showing    string                  // the address of something that shows a certificate
	session    uuid.UUID               // of the keeper, in another browser
	token      uuid.UUID               // of the keeper, for a program
	factor     uuid.UUID               // of the keeper
	passkey    map[string]any
	pack       uuid.UUID // a handover pack that was brought
	paired     uuid.UUID // a paired worker
}

// depotSecret is the key of an app that makes one-time codes.
const depotSecret = "JBSWY3DPEHPK3PXPJBSWY3DPEHPK3PXP"

// codeNow is the key of an app, which stands in a request as the code of the moment that it is sent at.
type codeNow string

func (c codeNow) MarshalJSON() ([]byte, error) {
	code, err := totp.GenerateCode(string(c), time.Now())
	return []byte(`"` + code + `"`), err
}

// prepareOwn prepares what the keeper does with the own account: a token and a factor to take away, and two ceremonies to finish.
func (x *depot) prepareOwn(t *testing.T) {
	ctx := context.Background()
	keeper, err := x.s.People.ByName(ctx, "keeper")
	require.NoError(t, err)
	x.token, x.factor = uuid.New(), uuid.New()
	_, err = x.s.Acts().Keep(ctx, keeper.Person, act.About{}, act.MakeToken{ID: x.token, Hash: []byte("x"), Name: "Old",
		Start: "unlatch_Other", Role: act.Owner,
		Until: time.Now().Add(time.Hour)})
	require.NoError(t, err)
	require.NoError(t, x.s.BeginCeremony(ctx, "first", store.Ceremony{Purpose: forCode, Person: keeper.ID, Until: time.Now().Add(time.Hour)}))
	_, err = x.s.Acts().Keep(ctx, keeper.Person, act.About{}, act.AddFactor{ID: x.factor, Kind: act.OneTimeCode, Secret: depotSecret,
		Ceremony: store.HashOfToken("first")})
	require.NoError(t, err)
	w := relyingParty(context.WithValue(ctx, originKey{}, origin{"bench.example", depotOrigin}))
	options, session, err := w.BeginRegistration(holder{person: keeper.Person})
	require.NoError(t, err)
	raw, err := json.Marshal(options.Response)
	require.NoError(t, err)
	x.passkey = newAuthenticator(t).register(raw, depotOrigin)
	state, err := json.Marshal(session)
	require.NoError(t, err)
	for token, c := range map[string]store.Ceremony{"for-a-code": {Purpose: forCode, State: depotSecret},
		"for-a-passkey": {Purpose: forPasskey, State: string(state)}, "to-connect": {Purpose: forConnection, State: "{}"}} {
		c.Person, c.Until = keeper.ID, time.Now().Add(time.Hour)
		require.NoError(t, x.s.BeginCeremony(ctx, token, c))
	}
	at, err := url.Parse(x.p.url)
	require.NoError(t, err)
	x.p.client.Jar.SetCookies(at, []*http.Cookie{{Name: signOnCookie, Value: "to-connect", Path: "/"}})
}

// depotOrigin is where browsers reach the depot.
const depotOrigin = "https://bench.example"

// atDepot is the configuration of a server that is reached there.
func atDepot() Config {
	u, _ := url.Parse(depotOrigin)
	return Config{PublicURL: u, SignOn: aSignOn{}}
}

// aSignOn is a provider at which everybody is the same person.
type aSignOn struct{}

func (aSignOn) Rule() act.SignOnRule { return act.SignOnRule{Provider: "Depot accounts"} }

func (aSignOn) Begin(context.Context, string) (address, kept string, err error) {
	return "https://id.example/authorize", "kept", nil
}

func (aSignOn) Finish(context.Context, string, string, string) (act.SignOn, error) {
	return act.SignOn{Issuer: "https://id.example", Subject: "7001", Names: []string{"ada"}}, nil
}

// depotSite is one site of it, with its things by name.
type depotSite struct {
	id                                                 uuid.UUID
	camera, fresh, stray, recorder, bridge, feed, list uuid.UUID
	plan, run                                          uuid.UUID
	old, lost, updated, rule, relay                    uuid.UUID
	version                                            uuid.UUID // of the handover pack, made
}

// depotCode is what a machine shows that waits to be paired.
const depotCode = "K7QM-2P4X"

const depotPin = "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa"

// depotGroup is where the camera sends a stream that somebody gave, and took away again.
const depotGroup = "udp://@239.255.0.9:20000"

func newDepot(t *testing.T, p *page, s *store.Store) *depot {
	showing := httptest.NewTLSServer(http.NotFoundHandler())
	t.Cleanup(showing.Close)
	x := &depot{p: p, s: s, books: map[act.BookKind]uuid.UUID{}, showing: showing.URL, floor: map[uuid.UUID]uuid.UUID{}}
	ctx := context.Background()
	var err error
	x.signIn, err = s.SignIns.Add(ctx, signin.New{Label: "Fitter", User: "fitter", Secret: signin.NewSecret("brass-lamp-41")})
	require.NoError(t, err)
	require.NoError(t, s.Upkeep.ReportProcess(ctx, doctor.Process{Name: "server-1", Kind: doctor.Server,
		Backup: &doctor.BackupSchedule{To: "/srv"}}))
	require.NoError(t, s.Upkeep.ReportProcess(ctx, doctor.Process{Name: "worker-1", Kind: doctor.Worker,
		Relay: "192.0.2.5:8554", Pages: "http://192.0.2.5:8590"}))
	x.own, x.other = x.site(t, "Depot"), x.site(t, "Elsewhere")
	recipient := pairing.NewIdentity("", "").Recipient()
	require.NoError(t, s.Paired.Ask(ctx, "token", depotCode, store.Pairing{Key: pairing.NewKey().Public(), Recipient: recipient,
		Machine: "box"}))
	x.paired = uuid.New()
	_, err = s.SQL().ExecContext(ctx, `INSERT INTO paired_workers (id, name, public_key, recipient, version)
		VALUES ($1, 'Cabinet', 'x', $2, '0.1.0')`, x.paired, recipient)
	require.NoError(t, err)
	storetest.Offer(t, s, "9.1.0", "the program")
	_, err = s.SQL().ExecContext(ctx, "INSERT INTO workers (name, epoch) VALUES ('worker-1', 1)")
	require.NoError(t, err)
	_, err = s.SQL().ExecContext(ctx, "INSERT INTO worker_sites (worker, site_id) SELECT 'worker-1', id FROM sites")
	require.NoError(t, err)
	for _, site := range []uuid.UUID{x.own.id, x.other.id} {
		x.floor[site] = get[idBody](p, "POST", "/api/sites/"+site.String()+"/site-plans", fields{"name": "Floor", "content": floorPicture}).ID
	}
	for kind, yaml := range map[act.BookKind]string{act.PresetBooks: "name: Own\npresets: []\n", act.IntakeBooks: "name: Own\nintakes: []\n"} {
		x.books[kind], err = s.Shelf.Put(ctx, kind, "Own", yaml)
		require.NoError(t, err)
	}
	_, err = s.SQL().ExecContext(ctx, "INSERT INTO path_books (id, name, yaml) VALUES ($1, 'Own', 'name: Own')", uuid.New())
	require.NoError(t, err)
	var id uuid.UUID
	require.NoError(t, s.SQL().QueryRowContext(ctx, "SELECT id FROM path_books").Scan(&id))
	x.books[act.PathBooks] = id
	x.member = addPerson(t, s, "Technician Tess", act.Technician, x.own.id)
	x.link, x.session = uuid.New(), uuid.New()
	_, err = s.SQL().ExecContext(ctx, "INSERT INTO links (id, token_hash, name, role, made_by, expires_at) "+
		"VALUES ($1, 'x', 'Guest', 'owner', '', now() + interval '1 hour')", x.link)
	require.NoError(t, err)
	_, err = s.SQL().ExecContext(ctx, "INSERT INTO sessions (id, token_hash, person_id, expires_at) "+
		"SELECT $1, 'x', id, now() + interval '1 hour' FROM people WHERE name = 'keeper'", x.session)
	require.NoError(t, err)
	x.prepareOwn(t)
	x.pack = bringPack(p, packtest.Sample(1)).ID
	return x
}

// addPerson makes an account that can be signed in to as its ID.
func addPerson(t *testing.T, s *store.Store, name string, role act.Role, sites ...uuid.UUID) uuid.UUID {
	t.Helper()
	id := uuid.New()
	_, err := s.SQL().ExecContext(context.Background(), "INSERT INTO people (id, name, password_hash, role) VALUES ($1, $2, 'x', $3)", id,
		name, role)
	require.NoError(t, err)
	for _, site := range sites {
		_, err := s.SQL().ExecContext(context.Background(), "INSERT INTO person_sites (person_id, site_id) VALUES ($1, $2)", id, site)
		require.NoError(t, err)
	}
	return id
}

func (x *depot) site(t *testing.T, name string) (d depotSite) {
	ctx, s := context.Background(), x.s
	made, err := s.Sites.Create(ctx, name, address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	d.id = made.ID
	sight := func(addr string, kind sighting.Kind, stray bool) uuid.UUID {
		id, err := s.Devices.Sight(ctx, d.id, nil, sighting.Sighting{Method: sighting.WSDiscovery, At: time.Now(), Kind: kind,
			Addr: netip.MustParseAddr(addr), Endpoint: "urn:" + name + addr, Maker: "Corvane", XAddr: "http://" + addr + "/onvif/device_service",
			Stray: stray})
		require.NoError(t, err)
		return id
	}
	d.camera, d.fresh = sight("192.0.2.7", sighting.Camera, false), sight("192.0.2.8", sighting.Camera, false)
	d.old, d.rule, d.relay = sight("192.0.2.9", sighting.Camera, false), uuid.New(), uuid.New()
	d.stray, d.recorder = sight("198.51.100.7", sighting.Camera, true), sight("192.0.2.20", sighting.Recorder, false)
	d.bridge = storetest.Target(t, s, d.id, act.TargetForm{Kind: "bridge", Name: "Desk", Address: "http://192.0.2.5:80"})
	d.feed = storetest.Target(t, s, d.id, act.TargetForm{Kind: "feed", Name: "Screens"})
	d.list = storetest.Target(t, s, d.id, act.TargetForm{Kind: "template", Name: "List", Settings: map[string]string{"text": "x"}})
	layout := target.Layout{Slots: []target.Slot{{Token: "1", Label: "slot 1", Is: target.Free}}}
	require.NoError(t, s.Targets.Saw(ctx, d.bridge, nil, store.Seen{What: "answered", Pin: depotPin, Layout: &layout,
		About: &target.About{Name: "Desk", Kind: "recorder"}}))
	opened := evidence.SignedIn{SignIn: x.signIn, Label: "Fitter", User: "fitter", Scheme: "digest MD5", Level: "Administrator"}
	taken := opened
	taken.Recorder = true
	for _, f := range []struct {
		device uuid.UUID
		store.Finding
	}{
		{d.camera, store.Finding{Body: evidence.Reached{Addr: netip.MustParseAddr("192.0.2.7"),
			TLS: &certificate.Certificate{SHA256: depotPin}}}},
		{d.camera, store.Finding{Body: opened}},
		{d.camera, store.Finding{Body: evidence.Located{Streams: []camera.Stream{{Token: "p1", Role: "main", Channel: 1,
			URL: "rtsp://192.0.2.7/vista"}}}}},
		{d.camera, store.Finding{Subject: depotGroup, Body: evidence.StreamByHand{Removed: true,
			Stream: camera.Stream{Token: depotGroup, URL: depotGroup, Channel: 1, Service: camera.ByPerson}}}},
		{d.camera, store.Finding{Subject: "p1", Body: evidence.Proof{Proof: proof.Proof{OK: true}, PlainURL: "rtsp://192.0.2.7/vista"}}},
		{d.camera, store.Finding{Subject: "192.0.2.99", Body: evidence.Claimed{Addr: netip.MustParseAddr("192.0.2.99"), Method: "mdns"}}},
		{d.camera, store.Finding{Subject: d.list.String(), Body: evidence.Placed{Slot: "1"}}},
		{d.fresh, store.Finding{Body: evidence.SignedIn{SignIn: x.signIn, User: "admin", Factory: true}}},
		{d.recorder, store.Finding{Body: taken}},
	} {
		require.NoError(t, s.Devices.Record(ctx, &store.Device{ID: f.device, Site: d.id}, nil, f.Finding))
	}
	require.NoError(t, s.Targets.Wish(ctx, act.InAnySlot(d.list, d.camera)))
	plan, err := tuning.ParsePlan(map[string]string{"main": "10fps"})
	require.NoError(t, err)
	d.plan, err = s.Plans.Put(ctx, d.id, store.Plan{Owner: tuning.Model, Name: "V4", Plan: plan})
	require.NoError(t, err)
	q, err := jobs.NewQueue(s, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	run, err := q.Begin(ctx, d.id, command.Work{Kind: "open", Title: "Open", Devices: command.Each([]uuid.UUID{d.camera},
		command.Device{Open: &command.Open{}})})
	require.NoError(t, err)
	d.run = run.ID
	keeper := act.Person{Name: "keeper"}
	d.version = uuid.New()
	require.NoError(t, s.Handovers.Begin(ctx, keeper, act.MakeHandover{Site: d.id, ID: d.version}))
	manifest := handover.Manifest{Number: 1, Files: []handover.FileEntry{}}
	manifest.Complete()
	raw, err := manifest.Write()
	require.NoError(t, err)
	require.NoError(t, s.Handovers.PutFiles(ctx, d.version, handover.File{Path: handover.ManifestFile, Type: "application/json", Data: raw}))
	require.NoError(t, s.Handovers.Complete(ctx, act.HandoverMade{Site: d.id, ID: d.version, Manifest: manifest}))
	require.NoError(t, s.Drifts.Settle(ctx, store.FoundDrifts{Site: d.id, Of: d.camera, At: time.Now(), Drifts: []drift.Drift{
		{Device: d.camera, Title: "Clock", Cause: drift.Silent}, {Device: d.camera, Title: "Clock", Cause: drift.Firmware,
			Fields: []baseline.FieldChange{{Field: baseline.Firmware, Was: "1", Is: "2"}}}}}))
	list, err := s.Drifts.Open(ctx, d.id)
	require.NoError(t, err)
	of := func(c drift.Cause) uuid.UUID {
		return list[slices.IndexFunc(list, func(e drift.Episode) bool { return e.Cause == c })].ID
	}
	d.lost, d.updated = of(drift.Silent), of(drift.Firmware)
	return d
}

// An asking is a request in good order for one operation.
type asking struct {
	method, path string
	body         any
}

type fields = map[string]any

// askings returns a request for each operation that is an act, by the operation's ID. Those that take something away come last.
func (x *depot) askings(d depotSite) (order []string, all map[string]asking) {
	site, dev := "/api/sites/"+d.id.String(), "/api/devices/"+d.camera.String()
	one := []uuid.UUID{d.camera}
	on := func(t uuid.UUID) string { return site + "/targets/" + t.String() }
	key := "/api/sign-ins/" + x.signIn.String()
	floor := site + "/site-plans/" + x.floor[d.id].String()
	placed := func(more fields) fields {
		out := fields{"device": d.camera, "target": d.bridge}
		for k, v := range more {
			out[k] = v
		}
		return out
	}
	list := []struct {
		id string
		asking
	}{
		{"rename-device", asking{"PATCH", dev, fields{"name": "Clock"}}},
		{"set-roles", asking{"PUT", dev + "/roles", fields{"roles": map[string]string{"p1": "sub"}}}},
		{"take-certificate", asking{"POST", dev + "/certificate", fields{"sha256": depotPin}}},
		{"consent", asking{"POST", "/api/devices/" + d.stray.String() + "/consent", fields{"address": "198.51.100.7", "reason": "ours"}}},
		{"withdraw-consent", asking{"DELETE", "/api/devices/" + d.stray.String() + "/consent", nil}},
		{"reveal-url", asking{"POST", dev + "/streams/sub/reveal", nil}},
		{"add-intakes", asking{"POST", "/api/intakes", fields{"yaml": "name: Brought\nintakes: []\n"}}},
		{"add-path-book", asking{"POST", "/api/path-books", fields{"yaml": "name: Brought\nrecipes:\n  - {name: a, path: /a}\n"}}},
		{"add-presets", asking{"POST", "/api/presets", fields{"yaml": "name: Brought\npresets: []\n"}}},
		{"save-preset", asking{"POST", "/api/presets/own", fields{"name": "Night", "plan": fields{"main": "5fps"}}}},
		{"add-sign-in", asking{"POST", "/api/sign-ins", fields{"user": "steward", "secret": "green-flag-07"}}},
		{"order-sign-ins", asking{"PUT", "/api/sign-ins", fields{"ids": []uuid.UUID{x.signIn}}}},
		{"import-sign-ins", asking{"POST", "/api/sign-ins/import", fields{"content": []byte("user,password\nporter,cold-tea-11\n")}}},
		{"change-sign-in", asking{"PUT", key, fields{"label": "Fitters"}}},
		{"reveal-sign-in", asking{"POST", key + "/reveal", nil}},
		{"create-site", asking{"POST", "/api/sites", fields{"name": "New", "ranges": []string{"203.0.113.0/24"}}}},
		{"change-site", asking{"PUT", site, fields{"name": "Depot", "ranges": []string{"192.0.2.0/24", "198.51.100.0/30"}}}},
		{"watch-site", asking{"PUT", site + "/watch", fields{"on": false}}},
		{"end-storms", asking{"DELETE", site + "/storms", nil}},
		{"import-address-list", asking{"PUT", site + "/address-list", fields{"content": []byte("name,address\nClock,192.0.2.7\n")}}},
		{"use-listed-names", asking{"POST", site + "/address-list/names", nil}},
		{"name-devices", asking{"POST", site + "/names", fields{"devices": one, "pattern": "Platform {n}"}}},
		{"remove-address-list", asking{"DELETE", site + "/address-list", nil}},
		{"apply-addresses", asking{"POST", site + "/addresses", fields{"lines": []fields{{"device": d.camera, "address": "192.0.2.90",
			"bits": 24}}}}},
		{"agree-readable", asking{"POST", site + "/agreements", fields{"devices": one, "breadth": "devices"}}},
		{"withdraw-agreement", asking{"DELETE", dev + "/agreement", nil}},
		{"claim-devices", asking{"POST", site + "/claim", fields{"devices": []uuid.UUID{d.fresh}, "user": "admin"}}},
		{"put-costs", asking{"PUT", site + "/costs", capacity.UsualRecording}},
		{"plan-devices", asking{"PUT", site + "/device-plans", fields{"plans": map[string]any{d.camera.String(): fields{"main": "10fps"}}}}},
		{"put-plan", asking{"PUT", site + "/plans", fields{"owner": "site", "plan": fields{"main": "10fps"}}}},
		{"fix-devices", asking{"POST", site + "/fixes", fields{"devices": one, "action": "stream_user", "user": "watch"}}},
		{"plan-groups", asking{"POST", site + "/group-plans", fields{"streams": []fields{{"device": d.camera, "role": "sub"}}, "send": true}}},
		{"put-outside", asking{"PUT", site + "/outside", fields{"addresses": []string{"203.0.113.7"}, "pool": "20000-20099",
			"maps": []fields{{"port": 20000, "inside": "192.0.2.7:554", "device": d.camera}}}}},
		{"take-baseline", asking{"POST", site + "/baselines", fields{"name": "Handed over", "reason": "the customer knows"}}},
		{"set-keeping", asking{"PUT", "/api/keeping", fields{"minutes": 14}}},
		{"make-backup", asking{"POST", "/api/backups", nil}},
		{"put-relay", asking{"PUT", site + "/relays/" + d.relay.String(), fields{"device": d.camera, "relay": fields{"role": "main",
			"path": "depot/main", "for": "Vault", "page": true, "push": fields{"to": "rtmps://ingest.example/live"}}, "key": "brass-key-4"}}},
		{"make-page", asking{"POST", site + "/relays/" + d.relay.String() + "/pages", fields{"until": time.Now().Add(time.Hour)}}},
		{"pause-push", asking{"PUT", site + "/relays/" + d.relay.String() + "/paused", fields{"paused": true}}},
		{"pair-worker", asking{"POST", "/api/paired-workers", fields{"code": depotCode, "name": "Viaduct", "sites": []uuid.UUID{d.id}}}},
		{"give-sites", asking{"PUT", "/api/paired-workers/" + x.paired.String() + "/sites", fields{"sites": []uuid.UUID{d.id}}}},
		{"update-worker", asking{"PUT", "/api/paired-workers/" + x.paired.String() + "/update", fields{"version": "9.1.0"}}},
		{"rotate-site-key", asking{"POST", "/api/data-keys", fields{"site": d.id}}},
		{"revoke-worker", asking{"DELETE", "/api/paired-workers/" + x.paired.String(), nil}},
		{"stop-pushes", asking{"POST", site + "/pushes/stop", nil}},
		{"reveal-relay", asking{"POST", site + "/relays/" + d.relay.String() + "/reveal", nil}},
		{"delete-relay", asking{"DELETE", site + "/relays/" + d.relay.String(), nil}},
		{"set-rounds", asking{"PUT", site + "/rounds", fields{"on": true, "camera_minutes": 30}}},
		{"look-now", asking{"POST", site + "/rounds/now", nil}},
		{"waive-finding", asking{"POST", site + "/handover/waivers", fields{"cause": "factory_password", "things": []uuid.UUID{d.fresh},
			"reason": "nobody wants it"}}},
		{"withdraw-waiver", asking{"POST", site + "/handover/waivers/withdraw", fields{"cause": "factory_password",
			"things": []uuid.UUID{d.fresh}}}},
		{"attest-item", asking{"PUT", site + "/handover/attested", fields{"item": "shown"}}},
		{"put-checklist", asking{"PUT", site + "/handover/checklist", fields{"yaml": "name: x\nitems:\n  - {id: a, title: b}\n"}}},
		{"put-firm-checklist", asking{"PUT", "/api/firm/checklist", fields{"yaml": ""}}},
		{"set-firm", asking{"PUT", "/api/firm", fields{"name": "Tarnside Signals", "mark": floorPicture}}},
		{"make-handover", asking{"POST", site + "/handover/versions", fields{"language": "en", "passphrase": "a passphrase of some length"}}},
		{"sign-handover", asking{"POST", site + "/handover/versions/" + d.version.String() + "/sign", fields{"name": "Ada Marsh",
			"strokes": [][]float64{{0.1, 0.2, 0.3, 0.4}}}}},
		{"open-pack", asking{"POST", "/api/packs/" + x.pack.String() + "/open", fields{}}},
		{"repair-drifts", asking{"POST", site + "/drifts/repair", fields{"drifts": []uuid.UUID{d.lost}}}},
		{"put-off-drifts", asking{"POST", site + "/drifts/put-off", fields{"drifts": []uuid.UUID{d.lost}, "until": time.Now().Add(time.Hour)}}},
		{"accept-drifts", asking{"POST", site + "/drifts/accept", fields{"drifts": []uuid.UUID{d.updated}, "reason": "on purpose"}}},
		{"replace-device", asking{"POST", site + "/replace", fields{"device": d.fresh, "replaces": d.old}}},
		{"put-tell-rule", asking{"PUT", site + "/tellings/" + d.rule.String(), fields{"rule": fields{"name": "Desk", "way": "webhook",
			"to": "http://192.0.2.9/in", "from": "urgent"}, "secret": "oak-door-52"}}},
		{"test-telling", asking{"POST", site + "/tellings/" + d.rule.String() + "/test", nil}},
		{"delete-tell-rule", asking{"DELETE", site + "/tellings/" + d.rule.String(), nil}},
		{"prove-outside", asking{"POST", site + "/outside/prove", nil}},
		{"send-command", asking{"POST", site + "/commands", fields{"devices": one, "command": "Sign-in of the streams",
			"values": map[string]string{"method": "digest"}}}},
		{"mark-devices", asking{"POST", site + "/marks", fields{"devices": one, "how": "label"}}},
		{"cast-devices", asking{"POST", site + "/multicast", fields{"streams": []fields{{"device": d.camera, "role": "sub"}},
			"action": "measure"}}},
		{"open-latches", asking{"POST", site + "/open", fields{"devices": one}}},
		{"take-paste", asking{"POST", site + "/paste", fields{"text": "rtsp://a:b@192.0.2.7/one", "path": "", "channels": 1}}},
		{"place", asking{"POST", site + "/place", fields{"placements": []fields{{"device": d.camera, "target": d.bridge}}}}},
		{"fill", asking{"POST", on(d.bridge) + "/fill", fields{"devices": one}}},
		{"move-placement", asking{"POST", site + "/move", placed(fields{"slot": "1"})}},
		{"show-on-screen", asking{"POST", site + "/show", placed(fields{"screen": "hall"})}},
		{"set-rule", asking{"POST", site + "/rule", placed(fields{"event": "bell", "screen": "hall"})}},
		{"attest", asking{"POST", site + "/attest", fields{"devices": one, "target": d.list}}},
		{"order-list", asking{"PUT", on(d.list) + "/order", fields{"devices": one}}},
		{"start-sweep", asking{"POST", site + "/sweeps", fields{}}},
		{"add-target", asking{"POST", site + "/targets", fields{"name": "Panel", "kind": "bridge", "address": "http://192.0.2.6:81",
			"agree": []string{"sign_in"}}}},
		{"add-site-plan", asking{"POST", site + "/site-plans", fields{"name": "Ground floor", "content": floorPicture}}},
		{"mark-on-site-plan", asking{"PUT", floor + "/marks", fields{"marks": []fields{{"device": d.camera, "x": 0.5, "y": 0.5}}}}},
		{"take-off-site-plan", asking{"POST", floor + "/take-off", fields{"devices": one}}},
		{"rename-site-plan", asking{"PUT", floor, fields{"name": "First floor"}}},
		{"remove-site-plan", asking{"DELETE", floor, nil}},
		{"see-addresses", asking{"POST", site + "/targets/addresses", fields{"kind": "bridge", "address": "http://localhost"}}},
		{"see-certificate", asking{"POST", site + "/targets/certificate", fields{"kind": "bridge", "address": x.showing}}},
		{"set-target", asking{"PUT", on(d.bridge), fields{"name": "Desk", "kind": "bridge", "address": "http://192.0.2.5:80"}}},
		{"set-target-intake", asking{"PUT", on(d.bridge) + "/intake", fields{"name": ""}}},
		{"look-at-targets", asking{"POST", site + "/targets/look", fields{}}},
		{"change-target", asking{"POST", on(d.bridge) + "/change", fields{"free": "1"}}},
		{"open-feed", asking{"POST", on(d.feed) + "/feed", nil}},
		{"close-feed", asking{"DELETE", on(d.feed) + "/feed", nil}},
		{"agree-for-target", asking{"POST", on(d.bridge) + "/agreements", fields{"secret": "camera_sign_ins"}}},
		{"withdraw-target-agreement", asking{"DELETE", on(d.bridge) + "/agreements", nil}},
		{"take-target-certificate", asking{"POST", on(d.bridge) + "/certificate", fields{"sha256": depotPin}}},
		{"tune-devices", asking{"POST", site + "/tune", fields{"devices": one, "plan": fields{"main": "5fps"}}}},
		{"take-away-stream", asking{"PUT", dev + "/given", fields{"token": depotGroup, "back": true}}},
		{"walk-past", asking{"POST", site + "/walks", fields{"device": d.camera}}},
		{"remove-from-target", asking{"POST", site + "/remove", fields{"devices": one, "target": d.bridge}}},
		{"stop-run", asking{"POST", "/api/runs/" + d.run.String() + "/stop", nil}},
		{"dismiss-claim", asking{"DELETE", dev + "/claims/192.0.2.99", nil}},
		{"make-token", asking{"POST", "/api/tokens", fields{"name": "Nightly", "role": "engineer", "expires_at": time.Now().Add(time.Hour)}}},
		{"revoke-token", asking{"DELETE", "/api/tokens/" + x.token.String(), nil}},
		{"require-factors", asking{"PUT", "/api/people/strict-roles", fields{"roles": []string{"customer"}}}},
		{"drop-factors", asking{"POST", "/api/people/" + x.member.String() + "/drop-factors", nil}},
		{"add-code", asking{"POST", "/api/session/factors/code", fields{"ceremony": "for-a-code", "code": codeNow(depotSecret)}}},
		{"add-passkey", asking{"POST", "/api/session/factors/passkey", fields{"ceremony": "for-a-passkey", "passkey": x.passkey}}},
		{"new-recovery-codes", asking{"POST", "/api/session/recovery-codes", fields{"password": keeperPassword}}},
		{"remove-factor", asking{"POST", "/api/session/factors/" + x.factor.String() + "/remove", fields{"password": keeperPassword}}},
		{"connect-sign-on", asking{"POST", "/api/session/sign-on", fields{"code": "a", "state": "b"}}},
		{"disconnect-sign-on", asking{"POST", "/api/session/sign-on/disconnect", fields{"password": keeperPassword}}},
		{"end-session", asking{"DELETE", "/api/session/all/" + x.session.String(), nil}}, // the change of password ends it too
		{"change-password", asking{"PUT", "/api/session/password", fields{"old": keeperPassword, "new": keeperPassword}}},
		{"invite-person", asking{"POST", "/api/people/links", fields{"name": "Ida", "role": "viewer", "sites": []uuid.UUID{d.id}}}},
		{"change-person", asking{"PUT", "/api/people/" + x.member.String(), fields{"role": "engineer", "sites": []uuid.UUID{d.id}}}},
		{"reset-person", asking{"POST", "/api/people/" + x.member.String() + "/reset", nil}},
		{"withdraw-link", asking{"DELETE", "/api/people/links/" + x.link.String(), nil}},
		{"remove-person", asking{"DELETE", "/api/people/" + x.member.String(), nil}},
		{"delete-plan", asking{"DELETE", site + "/plans/" + d.plan.String(), nil}},
		{"delete-intakes", asking{"DELETE", "/api/intakes/" + x.books[act.IntakeBooks].String(), nil}},
		{"delete-presets", asking{"DELETE", "/api/presets/" + x.books[act.PresetBooks].String(), nil}},
		{"delete-path-book", asking{"DELETE", "/api/path-books/" + x.books[act.PathBooks].String(), nil}},
		{"delete-target", asking{"DELETE", on(d.list), nil}},
		{"forget-device", asking{"DELETE", "/api/devices/" + d.stray.String(), nil}},
		{"forget-devices", asking{"POST", site + "/forget", fields{"devices": []uuid.UUID{d.fresh}}}},
		{"delete-sign-in", asking{"DELETE", key, nil}},
		{"delete-site", asking{"DELETE", site, nil}},
	}
	all = map[string]asking{}
	for _, l := range list {
		order = append(order, l.id)
		all[l.id] = l.asking
	}
	return order, all
}

// actsOfAPI returns the operations of the document that are acts, with the act of each.
func actsOfAPI(t *testing.T) map[string]string {
	raw, err := OpenAPI()
	require.NoError(t, err)
	var doc struct {
		Paths map[string]map[string]struct {
			OperationID string         `json:"operationId"`
			Act         string         `json:"x-act"`
			Security    []any          `json:"security"`
			Parameters  []any          `json:"parameters"`
			RequestBody map[string]any `json:"requestBody"`
		} `json:"paths"`
	}
	require.NoError(t, json.Unmarshal(raw, &doc))
	out := map[string]string{}
	for _, ops := range doc.Paths {
		for _, op := range ops {
			if op.Act != "" {
				out[op.OperationID] = op.Act
			}
		}
	}
	return out
}

// digest is everything that an act may write, in short.
func digest(t *testing.T, s *store.Store) string {
	t.Helper()
	var parts []string
	for _, table := range []string{"sites", "devices", "evidence", "runs", "audit", "wanted_placements", "agreements",
		"target_agreements", "consents",
		"targets", "past_feeds", "sign_ins", "sign_in_devices", "plans", "device_plans", "stream_roles", "books", "path_books",
		"expected", "waivers", "attested", "firm", "handovers", "handover_files", "sign_offs", "opened_packs",
		"people", "person_sites", "links", "factors", "recovery_codes", "strict_roles"} {
		parts = append(parts,
			"SELECT '"+table+"' AS what, count(*) AS n, COALESCE(md5(string_agg(x::text, '|' ORDER BY x::text)), '') AS sum FROM "+table+" x")
	}
	parts = append(parts, "SELECT 'tokens', count(*), COALESCE(md5(string_agg(id::text, '|' ORDER BY id)), '') FROM tokens")
	parts = append(parts, "SELECT 'sessions', count(*), COALESCE(md5(string_agg(id::text, '|' ORDER BY id)), '') FROM sessions")
	parts = append(parts, "SELECT 'jobs', count(*), COALESCE(md5(string_agg(args::text || state::text, '|' ORDER BY id)), '') FROM river_job")
	var out string
	require.NoError(t, s.SQL().QueryRowContext(context.Background(),
		"SELECT string_agg(what || ' ' || n || ' ' || sum, E'\\n' ORDER BY what) FROM ("+
			strings.Join(parts, " UNION ALL ")+") d").Scan(&out))
	return out
}

// Whoever lacks the right to an act is refused, and nothing is written; in good order each act leaves one line in the record, with the
// person. Every operation of the API that changes something is an act, and each is tried.
func TestEveryActHasARightAndALine(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	p, s, log := serveWith(t, storetest.URL(t), atDepot())
	p.setUp()
	x := newDepot(t, p, s)
	jar, _ := cookiejar.New(nil)
	viewer := &page{t, p.url, &http.Client{Jar: jar}, s}
	viewer.signIn(act.Person{ID: addPerson(t, s, "Viewer", act.Viewer, x.own.id)})
	order, askings := x.askings(x.own)
	known := actsOfAPI(t)
	for op := range known {
		assert.Contains(t, order, op, "each operation that is an act is tried here")
	}
	for _, op := range order {
		ask := askings[op]
		before := digest(t, s)
		asker := viewer
		if op == "sign-handover" { // whoever may look at a site may sign for it
			asker = p.as("Customer Cass", act.Customer, x.other.id)
			before = digest(t, s)
		}
		status, raw, _ := asker.do(ask.method, ask.path, ask.body)
		if slices.Contains(ownAffairs, op) || op == "sign-handover" {
			assert.Contains(t, []int{http.StatusUnauthorized, http.StatusNotFound, http.StatusGone, http.StatusUnprocessableEntity}, status,
				"%s: a viewer has no such password, session, token or factor", op)
		} else {
			assert.Equal(t, http.StatusForbidden, status, "%s without the right: %s", op, raw)
		}
		assert.Equal(t, before, digest(t, s), "%s without the right", op)

		last, err := s.Record.List(ctx, store.LineFilter{Limit: 1})
		require.NoError(t, err)
		status, raw, _ = p.do(ask.method, ask.path, ask.body)
		require.Less(t, status, 300, "%s: %s %s", op, raw, log)
		now, err := s.Record.List(ctx, store.LineFilter{Limit: 50})
		require.NoError(t, err)
		if len(last) > 0 {
			i := slices.IndexFunc(now, func(l store.Line) bool { return l.ID == last[0].ID })
			now = now[:i]
		}
		require.Len(t, now, 1, op)
		assert.Equal(t, []string{"keeper", known[op]}, []string{now[0].Person, string(now[0].Act)}, op)
		assert.NotEqual(t, now[0].Action, string(now[0].Act), "%s has no words", op)
		if strings.HasPrefix(ask.path, "/api/sites/") && op != "create-site" {
			require.NotNil(t, now[0].SiteID, op)
			assert.Equal(t, x.own.id, *now[0].SiteID, op)
		}
	}
}

// ownAffairs are operations that everybody may ask for, about what is their own.
var ownAffairs = []string{"change-password", "end-session", "make-token", "revoke-token", "add-code", "add-passkey", "new-recovery-codes",
	"remove-factor", "connect-sign-on", "disconnect-sign-on"}

// A killer cuts the connection that a transaction runs on before its nth statement.
type killer struct {
	mu    sync.Mutex
	armed bool
	left  int
	on    *pgx.Conn
	began bool
}

// arm has the next transaction that a request runs cut off before its nth statement.
func (k *killer) arm(n int) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.armed, k.left, k.on, k.began = true, n, nil, false
}

// disarm reports whether the transaction came that far.
func (k *killer) disarm() (killed bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	killed = k.armed && k.left == 0
	k.armed = false
	return killed
}

func (k *killer) trace(_ context.Context, conn *pgx.Conn, sql string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if !k.armed || k.left == 0 {
		return
	}
	if strings.Contains(sql, "WHERE p.id = $1 FOR SHARE OF p") { // an act's transaction has begun
		k.on, k.began = conn, true
	}
	if !k.began || conn != k.on {
		return
	}
	if k.left--; k.left == 0 {
		conn.PgConn().Conn().Close()
	}
	k.began = sql != "commit" // what comes on the connection afterwards is no part of it
}

// An act that is cut off before any statement of its transaction has done nothing at all, and can be done again.
func TestAnActIsWholeOrNothing(t *testing.T) {
	t.Parallel()
	k := &killer{}
	cfg := atDepot()
	cfg.Patience = 5 * time.Minute // a busy machine is no reason to end a request
	p, s, _ := serveTraced(t, storetest.URL(t), cfg, k.trace)
	p.setUp()
	x := newDepot(t, p, s)
	order, askings := x.askings(x.own)
	cut := 0
	for _, op := range order {
		ask, before := askings[op], digest(t, s)
		for n := 1; ; n++ {
			require.Less(t, n, 100, op)
			k.arm(n)
			status, raw, _ := p.do(ask.method, ask.path, ask.body)
			if !k.disarm() {
				require.Less(t, status, 300, "%s: %s", op, raw)
				break
			}
			cut++
			assert.GreaterOrEqual(t, status, 500, "%s, cut before statement %d: %s", op, n, raw)
			require.Equal(t, before, digest(t, s), "%s, cut before statement %d", op, n)
		}
	}
	assert.Greater(t, cut, 4*len(order))
}

// What an act is on may be gone, or another site's: of many the one is named, and nothing happens to any.
func TestActsOnWhatIsNotThere(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	x := newDepot(t, p, s)
	var many []uuid.UUID
	_, err := s.SQL().ExecContext(ctx,
		"INSERT INTO devices (id, site_id, addr) SELECT gen_random_uuid(), $1, '192.0.2.200' FROM generate_series(1, 4999)", x.own.id)
	require.NoError(t, err)
	list, err := s.SQL().QueryContext(ctx, "SELECT id FROM devices WHERE site_id = $1 LIMIT 4999", x.own.id)
	require.NoError(t, err)
	defer list.Close()
	for list.Next() {
		var id uuid.UUID
		require.NoError(t, list.Scan(&id))
		many = append(many, id)
	}
	many = append(many, x.other.camera)
	before := digest(t, s)
	gone := p.problem("not_found", "POST", "/api/sites/"+x.own.id.String()+"/open", fields{"devices": many})
	assert.Contains(t, gone.Detail, x.other.camera.String(), "the one that is another site's is named")
	p.problem("not_found", "POST", "/api/sites/"+x.own.id.String()+"/remove", fields{"devices": []uuid.UUID{x.other.camera},
		"target": x.own.bridge})
	p.problem("not_found", "POST", "/api/runs/"+uuid.NewString()+"/stop", nil)
	assert.Equal(t, before, digest(t, s))

	// Its device is taken away between the decision and the transaction, and the right of the person.
	queue, err := jobs.NewQueue(s, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	desk := jobs.Desk{Store: s, Queue: queue}
	keeper, err := s.People.ByName(ctx, "keeper")
	require.NoError(t, err)
	about := act.Open{Site: x.own.id, Devices: []uuid.UUID{x.own.stray}}.About()
	_, err = s.Devices.Forget(ctx, x.own.id, []uuid.UUID{x.own.stray})
	require.NoError(t, err)
	assert.ErrorAs(t, s.Acts().Together(ctx, func(ctx context.Context) error { return s.Acts().Confirm(ctx, keeper.Person, about) }),
		new(*act.MissingError))
	// One that came to stand at another site meanwhile is not there any more either.
	about = act.Open{Site: x.own.id, Devices: []uuid.UUID{x.own.camera}}.About()
	_, err = s.SQL().ExecContext(ctx, "UPDATE devices SET site_id = $2 WHERE id = $1", x.own.camera, x.other.id)
	require.NoError(t, err)
	moved := new(act.MissingError)
	require.ErrorAs(t, s.Acts().Together(ctx, func(ctx context.Context) error { return s.Acts().Confirm(ctx, keeper.Person, about) }), &moved)
	assert.ErrorContains(t, moved, x.own.camera.String())
	_, err = s.SQL().ExecContext(ctx, "UPDATE devices SET site_id = $2 WHERE id = $1", x.own.camera, x.own.id)
	require.NoError(t, err)
	_, err = s.SQL().ExecContext(ctx, "UPDATE people SET role = 'viewer' WHERE id = $1", keeper.ID)
	require.NoError(t, err)
	_, err = s.SQL().ExecContext(ctx, "INSERT INTO person_sites (person_id, site_id) VALUES ($1, $2)", keeper.ID, x.own.id)
	require.NoError(t, err)
	_, err = desk.Do(ctx, keeper.Person, act.Open{Site: x.own.id, Devices: []uuid.UUID{x.own.camera}})
	assert.True(t, errors.Is(err, act.ErrForbidden), "%v", err)
}

// A line of the record takes text in any script, and as much as people type.
func TestLinesOfAnyText(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	x := newDepot(t, p, s)
	name := strings.Repeat("駅 محطة 🚉 ", 6)
	get[any](p, "PATCH", "/api/devices/"+x.own.camera.String(), fields{"name": strings.TrimSpace(name)})
	long := strings.Repeat("あ", 10_000)
	require.NoError(t, s.Acts().Write(context.Background(), act.Person{Name: "keeper"}, act.About{Name: "place", Site: x.own.id},
		act.Line{Subject: long, Before: "\x00 torn", After: long}))
	lines, err := s.Record.List(context.Background(), store.LineFilter{Limit: 2})
	require.NoError(t, err)
	assert.True(t, lines[0].Subject == long && lines[0].After == long, "nothing of it is lost")
	assert.Equal(t, []string{" torn", strings.TrimSpace(name)}, []string{lines[0].Before, lines[1].After})
}
