package store

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/latch"
	"unlatch/core/decide/outside"
	"unlatch/core/ground/signin"
	"unlatch/core/stream/intake"
	"unlatch/core/stream/tuning"
)

// An intent is everything that people want of some devices of a site, and what else a status needs besides the evidence of the device.
type intent struct {
	wanted     map[uuid.UUID][]latch.Target
	shared     map[string]*sharedAddress
	recorders  map[uuid.UUID]string
	roles      map[uuid.UUID]map[string]string
	consents   map[uuid.UUID]time.Time
	agreements []agreement
	layers     layers
	outside    outside.Form
}

// A scope names devices of one site in statements.
type scope struct {
	where string // names the devices d, by $1
	site  string // is the ID of their site, in SQL
	args  []any
}

func ofSite(site uuid.UUID) scope { return scope{"d.site_id = $1", "$1", []any{site}} }

// ofDevice is one device, which is $1.
var ofDevice = scope{where: "d.id = $1", site: "(SELECT site_id FROM devices WHERE id = $1)"}

func ofDevices(ids []uuid.UUID, site uuid.UUID) scope {
	return scope{"d.id = ANY($1)", "$2", []any{ids, site}}
}

// An intentReading is what is asked for an intent, and where the answers go.
type intentReading struct {
	reading
	agreements []agreement
	seen       []outsideRow
	wanted     []wantedRow
	shared     []sharedRow
	recorders  []recorderRow
	roles      []roleRow
	consents   []consentRow
	plans      []planRow
	own        []ownPlanRow
}

// askIntent adds the questions for the intent of some devices.
func (r *intentReading) askIntent(of scope) {
	r.ask(&r.wanted, wantedQuery(of.where))
	r.ask(&r.shared, sharedQuery(of))
	r.ask(&r.recorders, recordersQuery(of.where))
	r.ask(&r.roles, rolesQuery(of.where))
	r.ask(&r.consents, consentsQuery(of.where))
	r.ask(&r.agreements, agreementsQuery(of.site))
	r.ask(&r.plans, sitePlansQuery(of.site))
	r.ask(&r.own, ownPlansQuery(of.where))
	r.ask(&r.seen, outsideQuery(of.site))
}

// intent puts the answers together.
func (s Devices) intent(ctx context.Context, r *intentReading) (in intent, err error) {
	var books []*intake.Book
	for _, w := range r.wanted {
		if w.Intake != "" {
			if books, err = Shelf(s).Intakes(ctx); err != nil {
				return in, err
			}
			break
		}
	}
	in.agreements = r.agreements
	in.wanted, in.shared, in.roles = wantedTargets(r.wanted, books), sharedAddresses(r.shared), rolesByDevice(r.roles)
	in.recorders, in.consents = map[uuid.UUID]string{}, map[uuid.UUID]time.Time{}
	for _, x := range r.recorders {
		in.recorders[x.ID] = x.Name
	}
	for _, o := range r.seen {
		in.outside = o.Outside
	}
	for _, c := range r.consents {
		in.consents[c.Device] = c.Until
	}
	in.layers, err = readLayers(r.plans, r.own)
	return in, err
}

// of returns what latch.Derive needs for one of the devices.
func (in *intent) of(d *Device) latch.Intent {
	out := latch.Intent{
		Targets:  in.wanted[d.ID],
		Plans:    func(model string) []tuning.Layer { return in.layers.layersOf(d.ID, model) },
		Consent:  in.consents[d.ID],
		Recorder: in.recorders[d.ID],
		Roles:    in.roles[d.ID],
		Outside:  in.outside,
		Agreed:   func(model string) (time.Time, signin.Agreement) { return agreed(in.agreements, d.ID, model) },
	}
	if a := in.shared[d.Addr]; a != nil && d.Via == nil {
		out.SharedWith = a.othersThan(d.ID)
	}
	return out
}

// A recorderRow is the name that a person gave to the recorder of a device.
type recorderRow struct {
	ID   uuid.UUID `json:"id"`
	Name string    `json:"name"`
}

func recordersQuery(where string) string {
	return "SELECT d.id, COALESCE(v.name, '') AS name FROM devices d JOIN devices v ON v.id = d.via WHERE " + where
}

// mostShared is how many of those that share an address are named.
const mostShared = 3

// A sharedRow is one of the devices of a site that were last heard at the same address.
type sharedRow struct {
	Addr  string    `json:"addr"`
	ID    uuid.UUID `json:"id"`
	Name  string    `json:"name"`
	Count int       `json:"count"`
}

// sharedQuery looks at each address once, however many devices claim it, and names a few of them. The addresses are an array and not a
// subquery: before the database knows how many devices there are, it looks through all of them for each of a subquery's.
func sharedQuery(of scope) string {
	return fmt.Sprintf(`SELECT addr, id, name, count FROM (
			SELECT addr, id, COALESCE(name, mac, serial, endpoint, 'another device') AS name, count(*) OVER (PARTITION BY addr) AS count,
				row_number() OVER (PARTITION BY addr ORDER BY created_at, id) AS n
			FROM devices WHERE site_id = %s AND via IS NULL AND addr = ANY(ARRAY(SELECT d.addr FROM devices d WHERE %s))) s
		WHERE count > 1 AND n <= %d ORDER BY addr, n`, of.site, of.where, mostShared+1)
}

// A sharedAddress is an address that several devices claim: a few of them by name, and how many there are.
type sharedAddress struct {
	ids   []uuid.UUID
	names []string
	count int
}

func sharedAddresses(rows []sharedRow) map[string]*sharedAddress {
	out := map[string]*sharedAddress{}
	for _, r := range rows {
		a := out[r.Addr]
		if a == nil {
			a = &sharedAddress{count: r.Count}
			out[r.Addr] = a
		}
		a.ids, a.names = append(a.ids, r.ID), append(a.names, r.Name)
	}
	return out
}

// othersThan names the others that claim the address of a device: a few by name, and how many more there are.
func (a *sharedAddress) othersThan(device uuid.UUID) (others []string) {
	for i, id := range a.ids {
		if id != device && len(others) < mostShared {
			others = append(others, a.names[i])
		}
	}
	if more := a.count - 1 - len(others); more > 0 {
		others = append(others, fmt.Sprintf("%d more", more))
	}
	return others
}
