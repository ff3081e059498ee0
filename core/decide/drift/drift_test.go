package drift

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"

	"unlatch/core/decide/baseline"
	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/identity"
	"unlatch/core/decide/latch"
	"unlatch/core/decide/proof"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/media"
	"unlatch/core/stream/picturematch"
)

var (
	clockID = uuid.MustParse("00000000-0000-0000-0000-000000000001")
	bridge  = uuid.MustParse("00000000-0000-0000-0000-000000000002")
	vault   = uuid.MustParse("00000000-0000-0000-0000-000000000009")
)

// cameraOf returns a camera of which everything is known.
func cameraOf(id uuid.UUID, title, addr, serial string) *latch.Device {
	set := camera.Settings{Codec: "H.264", Width: 1920, Height: 1080, FPS: 25, BitrateKbps: 4096, GOPFrames: 50}
	low := camera.Settings{Codec: "H.264", Width: 640, Height: 360, FPS: 10, BitrateKbps: 512, GOPFrames: 20}
	video := media.Measured{Codec: "H.264", Width: 1920, Height: 1080, FPS: 25, BitrateKbps: 4000, GOPSeconds: 2}
	s := latch.Derive(nil, latch.Intent{})
	s.Device = identity.Device{Addr: netip.MustParseAddr(addr)}
	s.Reached = &evidence.Reached{}
	s.SignedIn = &evidence.SignedIn{Label: "Fitter", User: "fitter", Info: camera.Info{Manufacturer: "Corvane", Model: "V4",
		Firmware: "4.1", Serial: serial}}
	s.Streams = []camera.Stream{{Role: "main", Token: "p1", URL: "rtsp://" + addr + "/vista/1", Claimed: set},
		{Role: "sub", Token: "p2", URL: "rtsp://" + addr + "/vista/2", Claimed: low}}
	s.Proofs = map[string]evidence.Proof{"main": {Proof: proof.Proof{OK: true, Video: &video}}}
	s.Placements = []latch.Placement{{Target: vault, Name: "Vault", Slot: "3", Gives: []latch.Given{{Role: "main"}}, Confirmed: true,
		Match: "right camera"}}
	return &latch.Device{ID: id, Title: title, Addr: addr, Status: s}
}

func platformClock() *latch.Device { return cameraOf(clockID, "Platform clock", "192.0.2.7", "C7") }

func footbridge() *latch.Device { return cameraOf(bridge, "Footbridge", "192.0.2.8", "C8") }

func agreed() *Agreed {
	return Index(baseline.Of([]*latch.Device{platformClock(), footbridge()}))
}

// told is a drift in one line.
func told(d Drift) string {
	out := string(d.Cause)
	if d.Subject != "" && d.Subject != vault.String() {
		out += "/" + d.Subject
	}
	if len(d.Hints) > 0 {
		out += fmt.Sprint(" ", d.Hints)
	}
	if r := d.Repair(); r != "" {
		out += " -> " + string(r)
	}
	return out
}

// Each change has the cause that explains it, with what it explains besides, and its repair.
func TestFind(t *testing.T) {
	fails := func(c trouble.Cause) *diagnose.Diagnosis { return &diagnose.Diagnosis{Cause: c} }
	for name, c := range map[string]struct {
		change func(s *latch.Status)
		want   []string
	}{
		"nothing":  {func(*latch.Status) {}, nil},
		"no power": {func(s *latch.Status) { s.Reached.Diagnosis = fails(trouble.NoAnswer) }, []string{"silent -> open"}},
		"it said goodbye": {func(s *latch.Status) { s.Reached.Diagnosis, s.LeftAt = fails(trouble.NoAnswer), time.Now() },
			[]string{"silent [said_goodbye] -> open"}},
		"reset": {func(s *latch.Status) {
			s.SignedIn = &evidence.SignedIn{Open: true, Info: s.SignedIn.Info}
			s.Streams[0].Claimed.FPS = 15
		}, []string{"factory [lets_anyone]"}},
		"another password": {func(s *latch.Status) { s.SignedIn = &evidence.SignedIn{Diagnosis: fails(trouble.WrongSignIn)} },
			[]string{"password"}},
		"another of its kind": {func(s *latch.Status) { s.SignedIn.Info.Serial = "C99"; s.Streams[0].Claimed.FPS = 15 },
			[]string{"replaced [same_model]"}},
		"one of another kind": {func(s *latch.Status) { s.SignedIn.Info.Serial, s.SignedIn.Info.Model = "C99", "V9" }, []string{"replaced"}},
		"two claim its address": {func(s *latch.Status) {
			s.Latch(latch.Reachable).Diagnosis = fails(trouble.AddressConflict)
		}, []string{"replaced [not_known]"}},
		"another one says that it is it": {func(s *latch.Status) {
			s.Claims = []evidence.Claimed{{Addr: netip.MustParseAddr("192.0.2.99")}}
		}, []string{"claimed [not_known]"}},
		"swapped with the other": {func(s *latch.Status) { s.SignedIn.Info.Serial = "C8" }, []string{"swapped [same_model]"}},
		"another address":        {func(s *latch.Status) { s.Device.Addr = netip.MustParseAddr("192.0.2.77") }, []string{"moved -> address"}},
		"another address, not known again": {func(s *latch.Status) {
			s.Device.Addr, s.Before = netip.MustParseAddr("192.0.2.77"), netip.MustParseAddr("192.0.2.7")
		}, []string{"moved [not_known]"}},
		"firmware": {func(s *latch.Status) { s.SignedIn.Info.Firmware = "4.2" }, []string{"firmware"}},
		"firmware that set it back": {func(s *latch.Status) { s.SignedIn.Info.Firmware, s.Streams[0].Claimed.FPS = "4.2", 15 },
			[]string{"firmware [with_firmware] -> settings"}},
		"one stream set otherwise": {func(s *latch.Status) { s.Streams[0].Claimed.FPS = 12; s.Proofs["main"].Video.FPS = 12 },
			[]string{"settings -> settings"}},
		"all streams set otherwise": {func(s *latch.Status) { s.Streams[0].Claimed.FPS, s.Streams[1].Claimed.FPS = 12, 5 },
			[]string{"settings [all_settings] -> settings"}},
		"fewer pictures, set as before": {func(s *latch.Status) { s.Proofs["main"].Video.FPS = 9 }, []string{"slower/main"}},
		"smaller, set as before":        {func(s *latch.Status) { s.Proofs["main"].Video.Width = 640 }, []string{"smaller/main"}},
		"does not play": {func(s *latch.Status) {
			s.Proofs["main"] = evidence.Proof{Proof: proof.Proof{Diagnosis: fails(trouble.SessionLimit)}}
		}, []string{"not_playing/main -> open"}},
		"its group is another's": {func(s *latch.Status) {
			s.Proofs["main"] = evidence.Proof{Proof: proof.Proof{Diagnosis: fails(trouble.NoPackets)}}
			s.Multicast = map[string]evidence.Multicast{"main": {Diagnosis: fails(trouble.GroupShared)}}
		}, []string{"group_taken/main"}},
		"sound": {func(s *latch.Status) {
			s.Proofs["main"] = evidence.Proof{Proof: proof.Proof{OK: true, Video: s.Proofs["main"].Video, Audio: &media.Audio{Codec: "AAC"}}}
		}, []string{"sound/main"}},
		"clock":       {func(s *latch.Status) { s.Reached.SkewMS = 3_600_000 }, []string{"clock -> clock"}},
		"certificate": {func(s *latch.Status) { s.Device.Certificate = "ab" }, nil}, // none was known before
		"covered":     {func(s *latch.Status) { s.View = &evidence.View{Obstacle: picturematch.Covered} }, []string{"covered"}},
		"turned":      {func(s *latch.Status) { s.View = &evidence.View{Obstacle: picturematch.Turned} }, []string{"turned"}},
		"shows what the other showed": {func(s *latch.Status) {
			s.View = &evidence.View{Obstacle: picturematch.Turned, Shows: bridge}
		}, []string{"swapped"}},
		"slot empty": {func(s *latch.Status) {
			s.Placements[0].Untaken, s.Placements[0].Confirmed, s.Placements[0].Match = true, false, ""
			s.Placements[0].Diagnosis = fails(trouble.SlotGone)
		}, []string{"slot_lost -> slot"}},
		"slot taken": {func(s *latch.Status) {
			s.Placements[0].Untaken, s.Placements[0].Confirmed = true, false
			s.Placements[0].Diagnosis = fails(trouble.SlotTaken)
		}, []string{"slot_taken -> slot"}},
		"another picture in its slot": {func(s *latch.Status) {
			s.Placements[0].Confirmed, s.Placements[0].Diagnosis = false, fails(trouble.WrongPicture)
		}, []string{"wrong_picture -> slot"}},
		"no picture in its slot": {func(s *latch.Status) {
			s.Placements[0].Confirmed, s.Placements[0].Diagnosis = false, fails(trouble.TargetWaiting)
		}, []string{"not_shown -> slot"}},
		"its picture came late":     {func(s *latch.Status) { s.Placements[0].Match = "" }, nil},
		"not wanted there any more": {func(s *latch.Status) { s.Placements = nil }, []string{"other_slot [by_us]"}},
		"no power, and so no picture on its target": {func(s *latch.Status) {
			s.Reached.Diagnosis, s.Placements[0].Confirmed, s.Placements[0].Diagnosis = fails(trouble.NoAnswer), false, fails(trouble.TargetWaiting)
		}, []string{"silent -> open"}},
		"no power, and its slot is empty": {func(s *latch.Status) {
			s.Reached.Diagnosis, s.Placements[0].Slot, s.Placements[0].Confirmed = fails(trouble.NoAnswer), "", false
		}, []string{"silent -> open", "slot_lost -> slot"}},
	} {
		t.Run(name, func(t *testing.T) {
			now := platformClock()
			c.change(&now.Status)
			var got []string
			for _, d := range agreed().Find(now) {
				got = append(got, told(d))
				assert.True(t, d.Cause.Known())
				assert.Equal(t, now.ID, d.Device)
			}
			assert.Equal(t, c.want, got)
		})
	}
	assert.Nil(t, agreed().Find(cameraOf(uuid.New(), "Kiosk", "192.0.2.99", "K")), "nobody has agreed on it")
}

// What nothing was known of when it was agreed on has not drifted.
func TestWhatIsLearnedIsNoDrift(t *testing.T) {
	bare := platformClock()
	bare.Status.SignedIn, bare.Status.Streams, bare.Status.Proofs, bare.Status.Placements = nil, nil, nil, nil
	late := platformClock()
	late.Status.Reached.SkewMS = 200
	assert.Empty(t, Index(baseline.Of([]*latch.Device{bare})).Find(late))
}

// Eleven cameras behind a dead switch are one finding, and so are five that a recorder forgot; a camera that went by itself stays alone,
// and so does one that went an hour later.
func TestGroup(t *testing.T) {
	at := time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)
	var list []Episode
	add := func(n int, cause Cause, shared string, since time.Time) {
		for range n {
			id := uuid.New()
			d := Drift{Device: id, Title: fmt.Sprintf("Camera %02d", len(list)), Cause: cause, Shared: shared}
			if t, on := strings.CutPrefix(shared, "target "); on {
				d.Subject, d.Of = t, "Vault"
			}
			list = append(list, Episode{ID: id, Before: since, Drift: d})
			since = since.Add(time.Minute)
		}
	}
	add(11, Silent, "subnet 192.0.2.0/24", at)
	add(2, Silent, "subnet 198.51.100.0/24", at)
	add(1, Silent, "subnet 192.0.2.0/24", at.Add(2*time.Hour))
	add(5, SlotLost, "target "+vault.String(), at.Add(time.Minute))
	add(2, Firmware, "firmware 4.2", at)
	add(1, Covered, "", at)
	var got []string
	for _, f := range Group(list, 30*time.Minute) {
		got = append(got, fmt.Sprintf("%d %s", len(f.All()), f.Headline()))
	}
	assert.Equal(t, []string{
		"1 Camera 13 does not answer",
		"1 Camera 12 does not answer",
		"5 5 cameras are no longer in their slots on Vault",
		"11 11 cameras do not answer in 192.0.2.0/24",
		"1 Camera 11 does not answer",
		"1 Something stands before the lens of Camera 21",
		"2 2 cameras have another firmware: 4.2",
	}, got)
}

// Each cause says what it is, what to do, and how much it matters; one of a newer program is shown all the same.
func TestWords(t *testing.T) {
	for cause, s := range sayings {
		f := Finding{Episode: Episode{Drift: Drift{Device: clockID, Title: "Platform clock", Cause: cause}}}
		assert.Contains(t, f.Headline(), "Platform clock", cause)
		assert.NotContains(t, f.Headline()+s.many, "%!", cause)
		assert.NotEmpty(t, f.Do(), cause)
		two := Finding{Episode: f.Episode, Under: []Episode{f.Episode, f.Episode}}
		assert.Contains(t, two.Headline(), "3", cause)
	}
	for cause := range repairs {
		assert.True(t, cause.Known(), cause)
	}
	odd := Finding{Episode: Episode{Drift: Drift{Title: "Platform clock", Cause: "melted"}}}
	assert.Equal(t, "Platform clock is otherwise than agreed", odd.Headline())
	swap := Finding{Episode: Episode{Drift: Drift{Title: "A", Cause: Swapped}}, Under: []Episode{{Drift: Drift{Title: "B", Cause: Swapped}}}}
	assert.Equal(t, "A and B have changed places", swap.Headline())
	for s := Notice; s <= Urgent; s++ {
		back, ok := ParseSeverity(s.String())
		assert.True(t, ok)
		assert.Equal(t, s, back)
	}
	_, ok := ParseSeverity("dire")
	assert.False(t, ok)
}

// Accepting a drift takes what it is about into the agreed state, and nothing else.
func TestAccept(t *testing.T) {
	now := platformClock()
	now.Status.SignedIn.Info.Firmware = "4.2"
	now.Status.Streams[0].Claimed.FPS = 12
	now.Status.Proofs["main"].Video.FPS = 12
	was := baseline.Of([]*latch.Device{platformClock(), footbridge()})
	all := Index(was).Find(now)
	assert.Len(t, all, 1)
	next := was.Accept(baseline.Of([]*latch.Device{now}), now.ID, all[0].Parts())
	left := Index(next).Find(now)
	assert.Len(t, left, 1, "the measured rate was not part of it")
	assert.Equal(t, Slower, left[0].Cause)
	assert.Len(t, Index(next).Find(platformClock()), 1, "what was agreed on before differs now")
	assert.Empty(t, Index(next).Find(footbridge()))
	assert.Equal(t, 12.0, Index(next).Plan(clockID, []string{"main"}).Streams["main"].FPS)
}

func TestPlanAndAddress(t *testing.T) {
	a := agreed()
	plan := a.Plan(clockID, []string{"sub"})
	assert.Len(t, plan.Streams, 1)
	assert.Equal(t, 640, plan.Streams["sub"].Width)
	assert.True(t, a.Plan(uuid.New(), nil).IsZero())
	to, ok := a.Address(clockID, 24, netip.MustParseAddr("192.0.2.1"))
	assert.True(t, ok)
	assert.Equal(t, "192.0.2.7", to.Addr.String())
	_, ok = a.Address(uuid.New(), 24, netip.Addr{})
	assert.False(t, ok)
}
