package ready_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/evidence"
	"unlatch/core/decide/identity"
	"unlatch/core/decide/latch"
	"unlatch/core/decide/outside"
	"unlatch/core/decide/proof"
	"unlatch/core/decide/ready"
	"unlatch/core/ground/certificate"
	"unlatch/core/ground/yamlfile"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/sighting"
)

var now = time.Date(2026, 3, 7, 9, 0, 0, 0, time.UTC)

// finished is a camera that has passed all its latches.
func finished(title string, key uuid.UUID) *latch.Device {
	d := &latch.Device{ID: uuid.New(), Title: title, Name: title, Addr: "192.0.2.10"}
	d.Status.Device = identity.Device{Kind: sighting.Camera}
	for _, n := range latch.Names {
		d.Status.Latches = append(d.Status.Latches, latch.Latch{Name: n, State: latch.Open})
	}
	d.Status.SignedIn = &evidence.SignedIn{SignIn: key, Label: "Station", User: "watch", Level: "User",
		Info: camera.Info{Manufacturer: "Corvane", Model: "V4", Firmware: "1.4"}}
	d.Status.Streams = []camera.Stream{{Role: "main"}}
	d.Status.Proofs = map[string]evidence.Proof{"main": {Proof: proof.Proof{OK: true, Auth: "digest MD5"}}}
	return d
}

// site is a site of which nothing is to be mended.
func site(devices ...*latch.Device) *ready.Site {
	s := &ready.Site{ID: uuid.New(), Title: "Tarn Ferry", Now: now, Devices: devices, Placed: map[uuid.UUID]bool{}, Agreed: true,
		Watched: true, Waivers: map[ready.Waived]ready.Waiver{}, Never: map[string]string{}}
	for _, d := range devices {
		s.Placed[d.ID] = true
	}
	return s
}

func TestASiteOfWhichNothingIsToBeMended(t *testing.T) {
	s := site(finished("Footbridge", uuid.New()), finished("Turntable", uuid.New()))
	assert.Empty(t, s.Findings())
	for _, p := range s.Progress(nil) {
		assert.True(t, p.Complete())
	}
	assert.Empty(t, (&ready.Site{}).Findings(), "an empty site has nothing to hand over")
}

// Each cause is found where it is so, at the thing that it is of, and alone.
func TestEachCauseIsFound(t *testing.T) {
	for cause, spoil := range map[ready.Cause]func(*ready.Site, *latch.Device){
		ready.FactoryPassword: func(_ *ready.Site, d *latch.Device) { d.Status.SignedIn.Factory = true },
		ready.ServiceOutside: func(s *ready.Site, d *latch.Device) {
			s.Never["192.0.2.10:80"] = "the web page of Footbridge"
			s.Outside = outside.Form{Maps: []outside.Map{{Port: 20000, Inside: "192.0.2.10:80", Device: d.ID}}}
		},
		ready.OpenStream: func(_ *ready.Site, d *latch.Device) {
			d.Status.Proofs["main"] = evidence.Proof{Proof: proof.Proof{OK: true, Auth: "none"}}
		},
		ready.ReadableSignIn: func(_ *ready.Site, d *latch.Device) { d.Status.Agreed = now },
		ready.AdminGiven: func(_ *ready.Site, d *latch.Device) {
			d.Status.SignedIn.Level = "Administrator"
			d.Status.Placements = []latch.Placement{{Name: "Recorder", Slot: "1", Confirmed: true, SignIn: d.Status.SignedIn.SignIn}}
		},
		ready.Unfinished: func(_ *ready.Site, d *latch.Device) { d.Status.Latch(latch.Confirmed).State = latch.Stuck },
		ready.Drifted:    func(s *ready.Site, d *latch.Device) { s.Drifts = []ready.Thing{{ID: d.ID, Title: d.Title}} },
		ready.TargetSilent: func(s *ready.Site, _ *latch.Device) {
			s.Targets = []ready.Target{{ID: uuid.New(), Name: "Panel", Silent: true}}
		},
		ready.ClockWrong: func(_ *ready.Site, d *latch.Device) { d.Status.Reached = &evidence.Reached{SkewMS: -61_000} },
		ready.CertificateEnds: func(_ *ready.Site, d *latch.Device) {
			d.Status.Reached = &evidence.Reached{TLS: &certificate.Certificate{Until: now.Add(30 * 24 * time.Hour)}}
		},
		ready.FirmwareDiffers: func(_ *ready.Site, d *latch.Device) { d.Status.SignedIn.Info.Firmware = "1.3.9" },
		ready.NoName:          func(_ *ready.Site, d *latch.Device) { d.Name = "" },
		ready.NoPlace:         func(s *ready.Site, d *latch.Device) { delete(s.Placed, d.ID) },
		ready.NotAgreed:       func(s *ready.Site, _ *latch.Device) { s.Agreed = false },
		ready.NotWatched:      func(s *ready.Site, _ *latch.Device) { s.Watched = false },
		ready.OneSignIn: func(s *ready.Site, d *latch.Device) {
			for _, x := range s.Devices {
				x.Status.SignedIn.SignIn = d.Status.SignedIn.SignIn
			}
		},
	} {
		d := finished("Footbridge", uuid.New())
		s := site(d, finished("Turntable", uuid.New()), finished("Coal stage", uuid.New()))
		spoil(s, d)
		found := s.Findings()
		require.Len(t, found, 1, cause)
		assert.Equal(t, cause, found[0].Cause)
		require.Len(t, found[0].Things, 1, cause)
		assert.Equal(t, 1, ready.Open(found), cause)

		// Waived, it is told as waived, and nothing is open.
		s.Waivers[ready.Waived{Cause: cause, Thing: found[0].Things[0].ID}] = ready.Waiver{By: "Rowan", At: now,
			Reason: "agreed with the railway"}
		found = s.Findings()
		require.Len(t, found, 1, cause)
		assert.Empty(t, found[0].Things, cause)
		assert.Equal(t, "agreed with the railway", found[0].Waived[0].Waiver.Reason)
		assert.Zero(t, ready.Open(found), cause)
	}
	assert.Len(t, ready.Causes, 16, "each cause stands in the table above")
}

// A waiver is for one thing: the next camera with the same fault is told.
func TestAWaiverIsForOneThing(t *testing.T) {
	a, b := finished("Footbridge", uuid.New()), finished("Turntable", uuid.New())
	a.Name, b.Name = "", ""
	s := site(a, b)
	s.Waivers[ready.Waived{Cause: ready.NoName, Thing: a.ID}] = ready.Waiver{Reason: "later"}
	found := s.Findings()
	require.Len(t, found, 1)
	assert.Equal(t, b.ID, found[0].Things[0].ID)
	progress := s.Progress(found)
	assert.True(t, progress[0].Complete())
	assert.Equal(t, []ready.Cause{ready.NoName}, progress[0].Passed)
	assert.False(t, progress[1].Complete())
}

// A stray that nobody agreed to connect to, and what is neither camera nor recorder, are not handed over.
func TestWhatIsNotHandedOver(t *testing.T) {
	stray, other := finished("Stray", uuid.New()), finished("Printer", uuid.New())
	stray.Name, other.Name = "", ""
	stray.Status.Device.Stray = true
	other.Status.Device.Kind = sighting.Other
	assert.Empty(t, site(finished("Footbridge", uuid.New()), stray, other).Findings())
	own := *stray
	stray.Status.Device.XAddr, own.Status.Device.XAddr = "http://192.0.2.77/onvif/device_service", "http://192.0.2.77/onvif/device_service"
	own.Status.Device.Stray = false
	assert.Equal(t, map[string]string{"192.0.2.77:80": "the device service of Stray"}, ready.StayInside(&own))
	assert.Empty(t, ready.StayInside(stray), "nor are its places on the papers")
}

func TestTheNewestFirmwareIsFoundByItsNumbers(t *testing.T) {
	key := uuid.New
	a, b, c := finished("a", key()), finished("b", key()), finished("c", key())
	a.Status.SignedIn.Info.Firmware, b.Status.SignedIn.Info.Firmware, c.Status.SignedIn.Info.Firmware = "1.9.2", "1.10", "1.010"
	found := site(a, b, c).Findings()
	require.Len(t, found, 1)
	assert.Equal(t, "1.9.2 < 1.10", found[0].Things[0].Detail)
}

func TestTheChecklist(t *testing.T) {
	list, err := ready.ReadChecklist([]byte(`name: Station
items:
  - {id: a, title: All finished, ticks: finished}
  - {id: b, title: Walked, ticks: walk_tested}
  - {id: c, title: No factory passwords, ticks: factory_password}
  - {id: d, title: Keys given back}
`))
	require.NoError(t, err)
	d := finished("Footbridge", uuid.New())
	d.Status.SignedIn.Factory = true
	s := site(d)
	checked := s.Check(list, s.Findings(), map[string]ready.Attested{"d": {By: "Rowan", At: now}, "a": {By: "nobody asks"}})
	var done []bool
	for _, x := range checked {
		done = append(done, x.Done)
	}
	assert.Equal(t, []bool{true, false, false, true}, done)
	assert.Nil(t, checked[0].Attested, "what evidence ticks is not attested")
	assert.Equal(t, 2, ready.Undone(checked))
	d.Status.Walked, d.Status.SignedIn.Factory = &latch.Walk{By: "Rowan"}, false
	assert.Zero(t, ready.Undone(s.Check(list, s.Findings(), map[string]ready.Attested{"d": {By: "Rowan"}})))
	empty := site()
	assert.False(t, empty.Check(list, nil, nil)[0].Done, "no camera is not every camera")
}

func TestAChecklistThatCannotBeRead(t *testing.T) {
	for text, want := range map[string]string{
		"name: x\nitems:\n  - {id: a, title: b, ticks: magic}":          `nothing ticks by "magic"`,
		"name: x\nitems:\n  - {id: a}":                                  "the item has no title",
		"name: x\nitems:\n  - {title: a}":                               "the item has no id",
		"name: x\nitems:\n  - {id: a, title: b}\n  - {id: a, title: c}": `two items have the id "a"`,
		"items:\n  - {id: a, title: b}":                                 "the checklist has no name",
		"name: x":                                                       "the checklist has no items",
		"name: x\nkeys: 1":                                              `a checklist has no "keys": it has name and items`,
		"name: x\nitems:\n  - {id: a, title: b, by: c}":                 `an item has no "by": it has id, title and ticks`,
		"name: x\nitems:\n  - just text":                                "an item is written as id, title and, where evidence ticks it, ticks",
	} {
		_, err := ready.ReadChecklist([]byte(text))
		var bad *yamlfile.Error
		require.ErrorAs(t, err, &bad, text)
		assert.Contains(t, bad.Error(), want)
	}
	_, err := ready.ReadChecklist([]byte(ready.DefaultChecklist))
	assert.NoError(t, err)
}

func FuzzReadChecklist(f *testing.F) {
	f.Add([]byte(ready.DefaultChecklist))
	f.Fuzz(func(t *testing.T, raw []byte) {
		if c, err := ready.ReadChecklist(raw); err == nil {
			assert.NotEmpty(t, c.Items)
		}
	})
}

func ExampleSite_Findings() {
	d := finished("Footbridge", uuid.New())
	d.Name = ""
	for _, f := range site(d).Findings() {
		fmt.Println(f.Cause, len(f.Things), f.Cause.Mend())
	}
	// Output: no_name 1 name
}
