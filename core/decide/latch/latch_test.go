package latch

import (
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/proof"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/target/byhand"
)

var (
	addr       = netip.MustParseAddr("192.0.2.11")
	strongroom = uuid.MustParse("01900000-0000-7000-8000-000000000001")
	wish       = Intent{Targets: []Target{{ID: strongroom, Name: "Strongroom"}}}
)

// story builds evidence in order, a minute apart.
type story struct{ records []evidence.Record }

func (s *story) add(subject string, body evidence.Body) *story {
	raw, err := evidence.Encode(body)
	if err != nil {
		panic(err)
	}
	return s.raw(evidence.KindOf(body), subject, string(raw))
}

func (s *story) raw(kind evidence.Kind, subject, body string) *story {
	s.records = append(s.records, evidence.Record{ID: uuid.Must(uuid.NewV7()),
		At:   time.Unix(0, 0).Add(time.Duration(len(s.records)) * time.Minute),
		Kind: kind, Subject: subject, Body: []byte(body)})
	return s
}

func heardAt(a netip.Addr) evidence.Heard {
	return evidence.Heard{Method: sighting.WSDiscovery, Addr: a, Endpoint: "urn:1", Kind: sighting.Camera}
}

func proofOf(url string, cause trouble.Cause) evidence.Proof {
	p := evidence.Proof{PlainURL: url, Proof: proof.Proof{OK: cause == ""}}
	if cause != "" {
		p.Diagnosis = &diagnose.Diagnosis{Cause: cause, Summary: "because"}
	}
	return p
}

const mainURL, subURL = "rtsp://192.0.2.11/a", "rtsp://192.0.2.11/b"

func streams(host string) evidence.Located {
	r := strings.NewReplacer("192.0.2.11", host)
	return evidence.Located{Streams: []camera.Stream{{Token: "p1", Role: "main", Channel: 1, URL: r.Replace(mainURL)},
		{Token: "p2", Role: "sub", Channel: 1, URL: r.Replace(subURL)}}}
}

func upToProven() *story {
	return (&story{}).add("ws-discovery", heardAt(addr)).add("", evidence.Reached{Addr: addr}).
		add("", evidence.SignedIn{Label: "Fitter"}).add("", streams("192.0.2.11")).
		add("p1", proofOf(mainURL, "")).add("p2", proofOf(subURL, ""))
}

// marks writes a chain as one letter a latch.
func marks(s Status) string {
	out := ""
	for _, l := range s.Latches {
		out += map[State]string{Open: "o", Next: "n", Stuck: "x", Waived: "w", Stale: "s", Closed: ".", Waiting: "h"}[l.State]
	}
	return out
}

// silentAt is wish for a target that could not be asked since then.
func silentAt(since time.Time) Intent {
	return Intent{Targets: []Target{{ID: strongroom, Name: "Strongroom", SilentSince: since}}}
}

func TestDerive(t *testing.T) {
	elsewhere, crib := netip.MustParseAddr("192.0.2.99"), uuid.New()
	at := time.Date(2026, 3, 14, 9, 26, 53, 0, time.UTC)
	for _, c := range []struct {
		name   string
		story  *story
		intent Intent
		want   string
		at     Name
	}{
		{"nothing", &story{}, Intent{}, "n....w..", Heard},
		{"heard", (&story{}).add("ws-discovery", heardAt(addr)), Intent{}, "on...w..", Reachable},
		{"a stray", (&story{}).add("ws-discovery", evidence.Heard{Addr: addr, Stray: true}), Intent{}, "ox...w..", Reachable},
		{"a stray that a person has agreed to", (&story{}).add("ws-discovery", evidence.Heard{Addr: addr, Stray: true}),
			Intent{Consent: time.Unix(9, 0)}, "on...w..", Reachable},
		{"two at one address", upToProven(), Intent{SharedWith: []string{"Footbridge"}}, "oxsssw..", Reachable},
		{"fresh from the factory", (&story{}).add("", heardAt(addr)).add("", evidence.Reached{Addr: addr}).add("",
			evidence.SignedIn{Open: true}), Intent{}, "oox..w..", SignedIn},
		{"no answer", (&story{}).add("", heardAt(addr)).add("", evidence.Reached{Addr: addr,
			Diagnosis: &diagnose.Diagnosis{Cause: trouble.NoAnswer}}), Intent{}, "ox...w..", Reachable},
		{"proven, no target wanted", upToProven(), Intent{}, "ooooown.", Placed},
		{"proven, a target wanted", upToProven(), wish, "ooooown.", Placed},
		{"one stream not played", &story{upToProven().records[:5]}, Intent{}, "oooonw..", Proven},
		{"one stream fails", upToProven().add("p2", proofOf(subURL, trouble.SessionLimit)), Intent{}, "ooooxw..", Proven},
		{"the stream refuses what the device service takes", upToProven().add("p1", proofOf(mainURL, trouble.WrongSignIn)), Intent{},
			"ooxs.w..", SignedIn},
		{"another sign-in since", upToProven().add("p1", proofOf(mainURL, trouble.WrongSignIn)).add("", evidence.SignedIn{Label: "Steward"}),
			Intent{}, "ooooxw..", Proven},
		{"the URL changed since", upToProven().add("", evidence.Located{Streams: []camera.Stream{{Token: "p1", Role: "main", Channel: 1,
			URL: "rtsp://192.0.2.11/new"}}}), Intent{}, "oooosw..", Proven},
		{"heard at another address", upToProven().add("ws-discovery", heardAt(elsewhere)), Intent{}, "ossssw..", Reachable},
		{"reached there again", upToProven().add("ws-discovery", heardAt(elsewhere)).add("", evidence.Reached{Addr: elsewhere}), Intent{},
			"ooossw..", Located},
		{"placed", upToProven().add(strongroom.String(), evidence.Placed{Slot: "slot_01", URL: mainURL}), wish, "ooooowon", Confirmed},
		{"placed, then the camera moved", upToProven().add(strongroom.String(), evidence.Placed{Slot: "slot_01", URL: "rtsp://192.0.2.5/a"}),
			wish, "ooooows.", Placed},
		{"confirmed", upToProven().add(strongroom.String(), evidence.Placed{Slot: "slot_01", URL: mainURL}).add(strongroom.String(),
			evidence.Confirmed{Says: "Connected, recording Active"}), wish, "ooooowoo", ""},
		{"confirmed, and its target cannot be asked any more", upToProven().add(strongroom.String(), evidence.Placed{Slot: "slot_01",
			URL: mainURL}).add(strongroom.String(), evidence.Confirmed{Says: "Connected"}),
			silentAt(time.Unix(0, 0).Add(time.Hour)), "ooooowos", Confirmed},
		{"confirmed since its target did not answer", upToProven().add(strongroom.String(), evidence.Placed{Slot: "slot_01",
			URL: mainURL}).add(strongroom.String(), evidence.Confirmed{Says: "Connected"}),
			silentAt(time.Unix(0, 0).Add(time.Minute)), "ooooowoo", ""},
		{"confirmed before it was placed again", upToProven().add(strongroom.String(),
			evidence.Confirmed{Says: "Connected"}).add(strongroom.String(), evidence.Placed{Slot: "slot_01",
			URL: mainURL}), wish, "ooooowon", Confirmed},
		{"no picture there", upToProven().add(strongroom.String(), evidence.Placed{Slot: "slot_01", URL: mainURL}).add(strongroom.String(),
			evidence.Confirmed{Diagnosis: &diagnose.Diagnosis{Cause: trouble.TargetWaiting}}), wish, "ooooowox", Confirmed},
		{"its target is connecting", upToProven().add(strongroom.String(), evidence.Placed{Slot: "slot_01",
			URL: mainURL}).add(strongroom.String(), evidence.Confirmed{Waits: trouble.WaitsToConnect, Since: at}), wish, "ooooowoh", Confirmed},
		{"one target waits and another is broken", upToProven().add(strongroom.String(), evidence.Placed{Slot: "slot_01",
			URL: mainURL}).add(strongroom.String(), evidence.Confirmed{Waits: trouble.WaitsToConnect, Since: at}).add(crib.String(),
			evidence.Placed{Slot: "1", URL: mainURL}).add(crib.String(), evidence.Confirmed{Diagnosis: &diagnose.Diagnosis{
			Cause: trouble.TargetWaiting}}), Intent{Targets: append([]Target{{ID: crib, Name: "Tool crib"}}, wish.Targets...)}, "ooooowox",
			Confirmed},
		{"a list that nobody has looked at", upToProven().add(strongroom.String(), evidence.Placed{Slot: "1", URL: mainURL}),
			Intent{Targets: []Target{{ID: strongroom, Name: "List", Kind: byhand.Kind}}}, "ooooowoh", Confirmed},
		{"it waits and the stream fails", upToProven().add(strongroom.String(), evidence.Placed{Slot: "slot_01",
			URL: mainURL}).add(strongroom.String(), evidence.Confirmed{Waits: trouble.WaitsToConnect, Since: at}).add("p1",
			proofOf(mainURL, trouble.SessionLimit)), wish, "ooooxws.", Proven},
		{"taken off", upToProven().add(strongroom.String(), evidence.Placed{Slot: "slot_01", URL: mainURL}).add(strongroom.String(),
			evidence.Placed{Removed: true}), Intent{}, "ooooown.", Placed},
		{"the recorder is full", upToProven().add(strongroom.String(),
			evidence.Placed{Diagnosis: &diagnose.Diagnosis{Cause: trouble.TargetFull}}), wish, "ooooowx.", Placed},
		{"one of two targets", upToProven().add(strongroom.String(), evidence.Placed{Slot: "slot_01", URL: mainURL}).add(strongroom.String(),
			evidence.Confirmed{Says: "Connected"}),
			Intent{Targets: append([]Target{{ID: uuid.New(), Name: "Tool crib"}}, wish.Targets...)}, "ooooown.", Placed},
		{"unreadable evidence", upToProven().raw(evidence.KindReached, "", `"nonsense"`), Intent{}, "oxsssw..", Reachable},
	} {
		got := Derive(c.story.records, c.intent)
		assert.Equal(t, c.want, marks(got), c.name)
		assert.Equal(t, c.at, got.At(), c.name)
		for _, l := range got.Latches {
			if l.State == Stuck {
				assert.NotNil(t, l.Diagnosis, c.name)
			}
		}
	}
}

func TestDeriveIsPure(t *testing.T) {
	s := upToProven().add(strongroom.String(), evidence.Placed{Slot: "slot_01", URL: mainURL})
	want := Derive(s.records, wish)
	for range 20 {
		rand.Shuffle(len(s.records), func(i, j int) { s.records[i], s.records[j] = s.records[j], s.records[i] })
		assert.Equal(t, want, Derive(s.records, wish), "the order in which evidence is read does not matter")
	}
}

// A record that this program cannot read is said, by name, on the latch that it would open; the others are not spoilt by it.
func TestWhatCannotBeReadIsSaid(t *testing.T) {
	s := upToProven().raw(evidence.KindSignedIn, "", `{"v":99}`).raw(evidence.KindWeb, "", `[]`)
	got := Derive(s.records, Intent{})
	require.Len(t, got.Unreadable, 2)
	assert.Equal(t, evidence.KindSignedIn, got.Unreadable[0].Kind)
	assert.Contains(t, got.Unreadable[0].Diagnosis.Fix, "newer version")
	assert.Contains(t, got.Unreadable[1].Diagnosis.Seen, `"web"`)
	l := got.Latch(SignedIn)
	assert.Equal(t, Stuck, l.State)
	assert.Equal(t, trouble.UnreadableRecord, l.Diagnosis.Cause)
	assert.Equal(t, Open, got.Latch(Reachable).State)
	last := s.records[len(s.records)-1]
	assert.True(t, last.Failed())
	assert.Contains(t, last.Sum(), "cannot be read")
}

func TestRecordsSumUpInOneLine(t *testing.T) {
	for _, r := range upToProven().add(strongroom.String(), evidence.Confirmed{Says: "Connected, recording Active"}).records {
		assert.NotEmpty(t, r.Sum())
		assert.False(t, r.Failed())
	}
	failed := upToProven().add("p2", proofOf(subURL, trouble.SessionLimit)).records
	require.True(t, failed[len(failed)-1].Failed())
	assert.Equal(t, "because", failed[len(failed)-1].Sum())
}

// Whatever stands in a record, the latches are derived and no panic spoils the list.
func FuzzDerive(f *testing.F) {
	f.Add("reached", "", []byte(`{"addr":"192.0.2.7","before":"192.0.2.6"}`))
	f.Add("signed_in", "", []byte(`{"sign_in":"00000000-0000-0000-0000-000000000000","open":true}`))
	f.Add("located", "", []byte(`{"streams":[{"tier":"main","url":"rtsp://x/"}]}`))
	f.Add("proof", "main", []byte(`{"ok":true,"plain_url":"rtsp://x/","video":null}`))
	f.Add("claimed", "192.0.2.9", []byte(`{"addr":"192.0.2.9"}`))
	f.Add("addressed", "", []byte(`{"before":{},"after":{"addr":"192.0.2.7"}}`))
	f.Fuzz(func(t *testing.T, kind, subject string, body []byte) {
		r := evidence.Record{Kind: evidence.Kind(kind), Subject: subject, Body: body}
		s := Derive([]evidence.Record{r}, Intent{})
		if len(s.Latches) != len(Names) {
			t.Fatal("a latch is missing")
		}
		r.Sum()
		r.Failed()
	})
}

// sized returns what a device names after somebody has changed its encoders: two streams by their tokens, of a width each.
func sized(first, second int) evidence.Located {
	return evidence.Located{Streams: []camera.Stream{
		{Token: "p1", Role: "main", Channel: 1, URL: mainURL, Claimed: camera.Settings{Codec: "H.264", Width: first, Height: first}},
		{Token: "p2", Role: "sub", Channel: 1, URL: subURL, Claimed: camera.Settings{Codec: "H.264", Width: second, Height: second}}}}
}

func provenAt(url string, width int) evidence.Proof {
	p := proofOf(url, "")
	p.Settings = camera.Settings{Codec: "H.264", Width: width, Height: width}.Fingerprint()
	return p
}

// A stream is known by its token: other settings swap no roles and lose no proof, and what was proven with the old ones is asked for anew.
func TestStreamsKeepTheirNameWhenTheirSettingsChange(t *testing.T) {
	before := (&story{}).add("ws-discovery", heardAt(addr)).add("", evidence.Reached{Addr: addr}).add("", evidence.SignedIn{Label: "Fitter"}).
		add("", sized(1920, 640)).add("p1", provenAt(mainURL, 1920)).add("p2", provenAt(subURL, 640))
	require.Equal(t, "ooooown.", marks(Derive(before.records, Intent{})))
	st := Derive(before.add("", sized(320, 640)).records, Intent{})
	assert.Equal(t, "oooosw..", marks(st))
	assert.Contains(t, st.Latch(Proven).Reason, "settings of the main stream have changed")
	assert.Equal(t, []string{"p1", "p2"}, []string{st.Streams[0].Token, st.Streams[1].Token}, "the smaller picture is main still")
	assert.Equal(t, mainURL, st.Proofs["main"].PlainURL, "what was measured is there to compare with")
	assert.Equal(t, []bool{false, true}, []bool{st.Proves(st.Streams[0]), st.Proves(st.Streams[1])})
	assert.Equal(t, "ooooown.", marks(Derive(before.add("p1", provenAt(mainURL, 320)).records, Intent{})))
}

// A person says which stream is what; the proofs go with the streams.
func TestRolesOfAPerson(t *testing.T) {
	st := Derive(upToProven().records, Intent{Roles: map[string]string{"p2": "main"}})
	require.Len(t, st.Streams, 2)
	assert.Equal(t, []string{"p2 main", "p1 sub"}, []string{st.Streams[0].Token + " " + st.Streams[0].Role, st.Streams[1].Token + " " +
		st.Streams[1].Role})
	assert.Equal(t, subURL, st.Proofs["main"].PlainURL)
	assert.Equal(t, Open, st.Latch(Proven).State)
	placed := upToProven().add(strongroom.String(), evidence.Placed{Slot: "slot_01", URL: mainURL})
	assert.True(t, Derive(placed.records, Intent{Targets: wish.Targets, Roles: map[string]string{"p2": "main"}}).Placements[0].Moved,
		"the recorder has what was main before")
}

// Proofs of the time when streams were known by their tier are found still.
func TestProofsByTierAreFound(t *testing.T) {
	old := (&story{}).add("ws-discovery", heardAt(addr)).add("", evidence.Reached{Addr: addr}).add("", evidence.SignedIn{Label: "Fitter"}).
		raw(evidence.KindLocated, "", `{"streams":[{"channel":1,"tier":"main","profile":"p1","url":"`+mainURL+`"}]}`).
		raw(evidence.KindProof, "main", `{"ok":true,"plain_url":"`+mainURL+`"}`)
	assert.Equal(t, "ooooown.", marks(Derive(old.records, Intent{})))
}

// Since when a camera stands where it stands: since it got stuck, or since the latch before opened.
func TestStandsSince(t *testing.T) {
	minute := func(n int) time.Time { return time.Unix(0, 0).Add(time.Duration(n) * time.Minute) }
	for name, c := range map[string]struct {
		story *story
		want  *time.Time
	}{
		"nothing was heard of it": {&story{}, nil},
		"it can go on":            {(&story{}).add("ws-discovery", heardAt(addr)), new(minute(0))},
		"it got stuck": {(&story{}).add("ws-discovery", heardAt(addr)).add("", evidence.Reached{Addr: addr,
			Diagnosis: &diagnose.Diagnosis{Cause: trouble.NoAnswer}}), new(minute(1))},
	} {
		got := Derive(c.story.records, Intent{})
		assert.Equal(t, c.want, got.StandsSince(), name)
	}
}
