package server

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"

	"unlatch/core/decide/latch"
	"unlatch/core/stream/sighting"
	"unlatch/store"
)

// A lineUp holds the devices of each site as pages see them. A device's status is derived when what it is derived from has changed, and not
// at each request: the store tells which devices those are, whichever process changed them.
type lineUp struct {
	store *store.Store
	now   func() time.Time
	// begun tells the versions of this process from those of another.
	begun string
	mu    sync.Mutex
	sites map[uuid.UUID]*siteLineUp
}

func newLineUp(s *store.Store, now func() time.Time) *lineUp {
	return &lineUp{store: s, now: now, begun: strconv.FormatInt(now().UnixNano(), 36), sites: map[uuid.UUID]*siteLineUp{}}
}

// A siteLineUp is one site's. Everything in it is guarded by mu.
type siteLineUp struct {
	mu      sync.Mutex
	mark    string // of the store, to look from the next time
	version int64  // counts changes that a page can see
	devices map[uuid.UUID]*lineUpRow
	// consents are when the consents to connect to strays end.
	consents map[uuid.UUID]time.Time
	order    []*lineUpRow // by address, where sorted is true
	sorted   bool
	packed   packedList // order, as it was last sent to somebody who loaded everything
	gone     []leftDevice
	forgot   int64 // the version of the last departure that is not in gone any more
}

// A lineUpRow is one device of the line-up.
type lineUpRow struct {
	d       store.Device
	view    deviceView
	encoded encodedDevice // the view
	version int64         // with which it last changed
}

// A leftDevice is a device that was taken off.
type leftDevice struct {
	id      uuid.UUID
	version int64
}

// An encodedDevice is a deviceView as JSON: on a large site it is sent far more often than it changes.
type encodedDevice json.RawMessage

// MarshalJSON implements json.Marshaler.
func (e encodedDevice) MarshalJSON() ([]byte, error) { return e, nil }

// Schema implements huma.SchemaProvider.
func (encodedDevice) Schema(r huma.Registry) *huma.Schema {
	return r.Schema(reflect.TypeFor[deviceView](), true, "")
}

// mostGone is how many departures are remembered. A page that has missed more asks for everything.
const mostGone = 256

// changesView is what a page needs to be as the server is.
type changesView struct {
	Version string          `json:"version" doc:"to ask from the next time"`
	Since   string          `json:"since,omitempty" doc:"the version that these changes follow; missing where they are everything"`
	Devices []encodedDevice `json:"devices" doc:"that are new or have changed"`
	Gone    []uuid.UUID     `json:"gone" doc:"devices that were taken off"`
}

// encode returns the view as JSON. The devices are encoded already and are not looked through again, as json.Marshal would: on a large
// site that takes longer than all the rest.
func (c changesView) encode() []byte {
	head, tail := c.ends()
	size := len(head) + len(tail)
	for _, d := range c.Devices {
		size += len(d) + 1
	}
	out := append(make([]byte, 0, size), head...)
	for i, d := range c.Devices {
		if i > 0 {
			out = append(out, ',')
		}
		out = append(out, d...)
	}
	return append(out, tail...)
}

// ends returns the view's JSON before and behind its devices.
func (c changesView) ends() (head, tail []byte) {
	head, _ = json.Marshal(struct {
		Version string `json:"version"`
		Since   string `json:"since,omitempty"`
	}{c.Version, c.Since})
	gone, _ := json.Marshal(c.Gone)
	return append(head[:len(head)-1], `,"devices":[`...), append(append([]byte(`],"gone":`), gone...), '}')
}

// atOnce is how many sites are brought up to date side by side.
const atOnce = 4

// each calls look with the line-up of each of the sites, brought up to date; what has changed at all of them is asked once. look is called
// for several sites side by side. A site that is no more is left out.
func (l *lineUp) each(ctx context.Context, ids []uuid.UUID, look func(id uuid.UUID, s *siteLineUp)) error {
	marks := map[uuid.UUID]string{}
	for _, id := range ids {
		s := l.held(id)
		s.mu.Lock()
		marks[id] = s.mark
		s.mu.Unlock()
	}
	changes, err := l.store.Devices.ChangesOf(ctx, marks)
	if err != nil {
		return err
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(atOnce)
	for _, id := range ids {
		group.Go(func() error {
			c, there := changes[id]
			if !there {
				l.forget(id)
				return nil
			}
			s := l.held(id)
			s.mu.Lock()
			defer s.mu.Unlock()
			// Somebody else may have brought it up to date meanwhile; these changes were seen before that.
			if s.mark == marks[id] {
				if err := s.take(ctx, l.store, id, c, l.now()); err != nil {
					return err
				}
			}
			look(id, s)
			return nil
		})
	}
	return group.Wait()
}

// held returns what is held of a site, as it is.
func (l *lineUp) held(id uuid.UUID) *siteLineUp {
	l.mu.Lock()
	defer l.mu.Unlock()
	s := l.sites[id]
	if s == nil {
		s = &siteLineUp{devices: map[uuid.UUID]*lineUpRow{}, consents: map[uuid.UUID]time.Time{}}
		l.sites[id] = s
	}
	return s
}

// site returns a site's line-up, brought up to date. The caller unlocks it.
func (l *lineUp) site(ctx context.Context, id uuid.UUID) (*siteLineUp, error) {
	s := l.held(id)
	s.mu.Lock()
	if err := s.update(ctx, l.store, id, l.now()); err != nil {
		s.mu.Unlock()
		if errors.Is(err, store.ErrNotFound) {
			l.forget(id)
		}
		return nil, err
	}
	return s, nil
}

// forget lets go of a site that is no more.
func (l *lineUp) forget(id uuid.UUID) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.sites, id)
}

// update reads what has changed since the last time.
func (s *siteLineUp) update(ctx context.Context, st *store.Store, site uuid.UUID, now time.Time) error {
	c, err := st.Devices.Changes(ctx, site, s.mark)
	if err != nil {
		return err
	}
	return s.take(ctx, st, site, c, now)
}

// take reads the devices that have changed.
func (s *siteLineUp) take(ctx context.Context, st *store.Store, site uuid.UUID, c store.Changes, now time.Time) error {
	if c.Whole {
		all, err := st.Devices.List(ctx, site)
		if err != nil {
			return err
		}
		s.replace(all)
		s.mark = c.Mark
		return nil
	}
	for id, until := range s.consents { // a consent ends by itself
		if now.After(until) && !slices.Contains(c.Devices, id) {
			c.Devices = append(c.Devices, id)
		}
	}
	// The status of other devices may depend on this one: those that share its address, or the cameras of a recorder. They are read anew once.
	done := map[uuid.UUID]bool{}
	for ask := c.Devices; len(ask) > 0; {
		list, err := st.Devices.Of(ctx, ask)
		if err != nil {
			return err
		}
		for _, id := range ask {
			done[id] = true
		}
		next := map[uuid.UUID]bool{}
		for i := range list {
			for _, id := range s.putDevice(list[i]) {
				if !done[id] {
					next[id] = true
				}
			}
		}
		ask = ask[:0:0]
		for id := range next {
			ask = append(ask, id)
		}
	}
	s.mark = c.Mark
	s.sort()
	return nil
}

// replace takes all devices of the site anew.
func (s *siteLineUp) replace(all []store.Device) {
	here := map[uuid.UUID]bool{}
	for i := range all {
		here[all[i].ID] = true
		s.putDevice(all[i])
	}
	for id := range s.devices {
		if here[id] {
			continue
		}
		s.sorted = false
		delete(s.devices, id)
		delete(s.consents, id)
		s.version++
		if s.gone = append(s.gone, leftDevice{id, s.version}); len(s.gone) > mostGone {
			s.forgot = s.gone[mostGone/2].version
			s.gone = slices.Clone(s.gone[mostGone/2+1:])
		}
	}
	s.sort()
}

// putDevice takes one device as it is now, and returns the others whose status depends on what has changed.
func (s *siteLineUp) putDevice(d store.Device) (others []uuid.UUID) {
	if until := d.Status.Consent; until.IsZero() {
		delete(s.consents, d.ID)
	} else {
		s.consents[d.ID] = until
	}
	view := viewOf(&d)
	before := s.devices[d.ID]
	if before != nil && before.view.Revision == view.Revision {
		before.d = d
		return nil
	}
	s.version++
	encoded, _ := json.Marshal(view) // a view holds nothing that cannot be encoded
	now := &lineUpRow{d: d, view: view, encoded: encoded, version: s.version}
	s.devices[d.ID] = now
	moved := before == nil || before.d.Addr != d.Addr
	if moved {
		s.sorted = false
	} else if i := slices.Index(s.order, before); i >= 0 {
		s.order[i] = now
	}
	renamed := before != nil && before.view.Name != view.Name
	for id, x := range s.devices {
		switch {
		case id == d.ID:
		case moved && (x.d.Addr == d.Addr || before != nil && x.d.Addr == before.d.Addr),
			renamed && x.d.Via != nil && *x.d.Via == d.ID,
			renamed && slices.ContainsFunc(x.view.Placements, func(p latch.Placement) bool { return p.Target == d.ID }):
			others = append(others, id)
		}
	}
	return others
}

// sort orders the devices by address, as the store does, where that may have changed.
func (s *siteLineUp) sort() {
	if s.sorted {
		return
	}
	s.sorted = true
	s.order = s.order[:0]
	for _, x := range s.devices {
		s.order = append(s.order, x)
	}
	slices.SortFunc(s.order, func(a, b *lineUpRow) int { return store.ByAddress(&a.d, &b.d) })
}

// ordered returns the devices in their order.
func (s *siteLineUp) ordered() []encodedDevice {
	out := make([]encodedDevice, len(s.order))
	for i, x := range s.order {
		out[i] = x.encoded
	}
	return out
}

// since returns the changes after a version; everything where it is none of this process, or too old.
func (s *siteLineUp) since(begun, version string) changesView {
	out := changesView{Version: fmt.Sprintf("%s-%d", begun, s.version), Devices: []encodedDevice{}, Gone: []uuid.UUID{}}
	number, own := strings.CutPrefix(version, begun+"-")
	n, err := strconv.ParseInt(number, 10, 64)
	if !own || err != nil || n > s.version || n < s.forgot {
		out.Devices = s.ordered()
		return out
	}
	out.Since = version
	for _, x := range s.order {
		if x.version > n {
			out.Devices = append(out.Devices, x.encoded)
		}
	}
	for _, g := range s.gone {
		if g.version > n {
			out.Gone = append(out.Gone, g.id)
		}
	}
	return out
}

// answer is since as a page is sent it, gzipped where that was asked for and there is enough of it.
func (s *siteLineUp) answer(begun, version string, zip bool) (body []byte, zipped bool) {
	c := s.since(begun, version)
	if c.Since != "" || !zip {
		return c.encode(), false
	}
	head, tail := c.ends()
	return s.packed.gzip(head, s.order, tail), true
}

// sum counts the devices of a site, for its card.
func (s *siteLineUp) sum(v *siteView) {
	for _, x := range s.order {
		st := &x.d.Status
		if st.Device.Stray {
			v.Strays++
			continue
		}
		switch st.Device.Kind {
		case sighting.Recorder:
			v.Recorders++
			continue
		case sighting.Camera:
			v.Cameras++
		default:
			v.Others++
			continue
		}
		switch at := st.At(); {
		case at == "":
			v.Done++
		default:
			v.Funnel[string(at)]++
			state := st.Latch(at).State
			switch state {
			case latch.Stuck:
				v.Stuck++
			case latch.Waiting: // for others
			default:
				v.CanGoOn++
			}
			if since := st.StandsSince(); state != latch.Waiting && since != nil && (v.Since == nil || since.Before(*v.Since)) {
				v.Since = since
			}
		}
		if p, ok := st.Proofs["main"]; ok && p.Still != nil && len(v.Stills) < 4 {
			v.Stills = append(v.Stills, *p.Still)
		}
	}
}
