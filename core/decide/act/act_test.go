package act

import (
	"net/netip"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/command"
	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/identity"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/intake"
	"unlatch/core/stream/tuning"
	"unlatch/core/wire/target"
)

// device returns a device with a state, and facts hold it.
func device(title string, status latch.Status) *latch.Device {
	if status.Latches == nil {
		status.Latches = make([]latch.Latch, len(latch.Names))
	}
	return &latch.Device{ID: uuid.New(), Title: title, Addr: "192.0.2.7", Endpoint: "urn:" + title, Status: status}
}

func facts(devices ...*latch.Device) Facts {
	f := Facts{By: Person{Name: "Ada", Role: Owner}, Site: Site{Name: "Works", Ranges: address.MustParse("192.0.2.0/24")},
		Devices: map[uuid.UUID]*latch.Device{}, Targets: map[uuid.UUID]Target{}, Busy: map[uuid.UUID]Busy{}}
	for _, d := range devices {
		f.Devices[d.ID] = d
		f.Order = append(f.Order, d.ID)
	}
	return f
}

var (
	opened = latch.Status{SignedIn: &evidence.SignedIn{SignIn: uuid.New(), User: "fitter"}}
	shut   = latch.Status{}
)

// cause returns the cause of a refusal; "" for none.
func cause(t *testing.T, err error) string {
	t.Helper()
	if err == nil {
		return ""
	}
	var r *Refusal
	require.ErrorAs(t, err, &r)
	assert.NotEmpty(t, r.Fix, r.Detail)
	return r.Cause
}

// An act over many leaves out what lacks a precondition, names it, and goes on with the rest; a strict one is refused.
func TestAnActOverManyDoesWhatItCan(t *testing.T) {
	one, two, none := device("Clock", opened), device("Bridge", opened), device("Window", shut)
	all := []uuid.UUID{one.ID, none.ID, two.ID}
	plan, err := tuning.ParsePlan(map[string]string{"main": "10fps"})
	require.NoError(t, err)
	plans := map[uuid.UUID]tuning.Plan{one.ID: plan, two.ID: plan, none.ID: plan}
	for name, do := range map[string]func(ids []uuid.UUID, strict bool) Act{
		"tune": func(ids []uuid.UUID, strict bool) Act { return Tune{Devices: ids, Strict: strict, Plans: plans} },
		"fix": func(ids []uuid.UUID, strict bool) Act {
			return Fix{Devices: ids, Strict: strict, Action: evidence.FixClock}
		},
		"user": func(ids []uuid.UUID, strict bool) Act {
			return Fix{Devices: ids, Strict: strict, Action: evidence.FixStreamUser, User: "watch"}
		},
		"label": func(ids []uuid.UUID, strict bool) Act { return Mark{Devices: ids, Strict: strict, How: evidence.Label} },
	} {
		out, err := do(all, false).Decide(facts(one, two, none))
		require.NoError(t, err, name)
		require.Len(t, out.Work.Devices, 2, name)
		assert.Equal(t, []uuid.UUID{one.ID, two.ID}, []uuid.UUID{out.Work.Devices[0].Device, out.Work.Devices[1].Device},
			"in the order of the selection")
		require.Len(t, out.Left, 1, name)
		assert.Equal(t, []any{none.ID, "Window", "not_signed_in"}, []any{out.Left[0].Device, out.Left[0].Name, out.Left[0].Cause}, name)
		assert.NotEmpty(t, out.Left[0].Fix, name)
		assert.Equal(t, []uuid.UUID{one.ID, two.ID}, out.Line.Devices, "the record names those that were acted on")

		_, err = do(all, true).Decide(facts(one, two, none))
		assert.Equal(t, "not_signed_in", cause(t, err), name)
		_, err = do([]uuid.UUID{none.ID}, false).Decide(facts(none))
		assert.Equal(t, "not_signed_in", cause(t, err), "%s: with none left it is refused", name)
	}
}

func TestTuning(t *testing.T) {
	d := device("Clock", opened)
	plan, err := tuning.ParsePlan(map[string]string{"main": "10fps"})
	require.NoError(t, err)
	with := Tune{Devices: []uuid.UUID{d.ID}, Plans: map[uuid.UUID]tuning.Plan{d.ID: plan}}
	out, err := with.Decide(facts(d))
	require.NoError(t, err)
	assert.Equal(t, OwnPlans{d.ID: plan}, out.Keep[0])
	assert.Equal(t, "main 10fps", out.Line.After)

	f := facts(d)
	f.Busy[d.ID] = Busy{By: "Nell", Since: time.Now()}
	_, err = with.Decide(f)
	assert.Equal(t, "being_tuned", cause(t, err))
	f.Busy[d.ID] = Busy{By: "Ada"}
	_, err = with.Decide(f)
	assert.NoError(t, err, "one's own next run waits for the last")
	_, err = Tune{Devices: []uuid.UUID{d.ID}}.Decide(facts(d))
	assert.Equal(t, "no_plan", cause(t, err))
	out, err = Tune{Devices: []uuid.UUID{d.ID}, Undo: true}.Decide(facts(d))
	require.NoError(t, err)
	assert.Equal(t, OwnPlans{d.ID: tuning.Plan{}}, out.Keep[0], "its own plan is taken away")
	out, err = Tune{Devices: []uuid.UUID{d.ID}, Restart: true}.Decide(facts(d))
	require.NoError(t, err)
	assert.Empty(t, out.Keep)
}

// Passwords are kept before any device hears of them, one for all or one for each, and for nothing but those devices.
func TestClaiming(t *testing.T) {
	fresh := func(title string) *latch.Device {
		d := device(title, latch.Status{})
		d.Status.Latch(latch.SignedIn).Diagnosis = &diagnose.Diagnosis{Cause: trouble.FactoryFresh}
		return d
	}
	one, two, old := fresh("One"), fresh("Two"), device("Old", opened)
	ids := []uuid.UUID{one.ID, two.ID, old.ID}
	out, err := Claim{Devices: ids, User: "fitter"}.Decide(facts(one, two, old))
	require.NoError(t, err)
	keys := out.Keep[0].(NewSignIns)
	require.Len(t, keys, 2)
	assert.NotEqual(t, keys[0].Secret.Reveal(), keys[1].Secret.Reveal())
	assert.Equal(t, []uuid.UUID{one.ID}, keys[0].Devices)
	assert.Equal(t, keys[1].ID, out.Work.Devices[1].Do.Claim.SignIn)
	assert.Equal(t, "not_fresh", out.Left[0].Cause)

	out, err = Claim{Devices: ids[:2], User: "fitter", Secret: signin.NewSecret("a long password")}.Decide(facts(one, two))
	require.NoError(t, err)
	keys = out.Keep[0].(NewSignIns)
	require.Len(t, keys, 1)
	assert.Equal(t, ids[:2], keys[0].Devices)
	for _, c := range []struct{ user, secret, want string }{{" ", "a long password", "no_user"}, {"fitter", "short", "weak_password"}} {
		_, err = Claim{Devices: ids[:2], User: c.user, Secret: signin.NewSecret(c.secret)}.Decide(facts(one, two))
		assert.Equal(t, c.want, cause(t, err))
	}
	factory := device("Factory", latch.Status{SignedIn: &evidence.SignedIn{Factory: true, User: "admin"}})
	_, err = Claim{Devices: []uuid.UUID{factory.ID}, User: "fitter"}.Decide(facts(factory))
	assert.Equal(t, "other_user", cause(t, err))
}

func TestSweepingAsksForLargeRanges(t *testing.T) {
	f := facts()
	out, err := Sweep{}.Decide(f)
	require.NoError(t, err)
	assert.Positive(t, out.Work.Total())
	f.Site.Ranges = address.MustParse("10.0.0.0/8")
	_, err = Sweep{}.Decide(f)
	var r *Refusal
	require.ErrorAs(t, err, &r)
	assert.Equal(t, []any{"too_many_addresses", uint64(1 << 24)}, []any{r.Cause, r.Count})
	_, err = Sweep{Confirmed: true}.Decide(f)
	assert.NoError(t, err)
	f.Site.Ranges = address.Ranges{}
	_, err = Sweep{Confirmed: true}.Decide(f)
	assert.Equal(t, "bad_range", cause(t, err))
}

// Cameras go into free slots in the order of the selection; those for which there is none are named.
func TestFilling(t *testing.T) {
	one, two, three := device("One", opened), device("Two", opened), device("Three", opened)
	on := uuid.New()
	f := facts(one, two, three)
	layout := target.Layout{Slots: []target.Slot{{Token: "a", Is: target.Free}, {Token: "b", Is: target.Used}, {Token: "c", Is: target.Free}}}
	f.Targets[on] = Target{Target: latch.Target{ID: on, Name: "Vault"}, Layout: &layout}
	fill := Fill{Target: on, Devices: []uuid.UUID{three.ID, one.ID, two.ID}}
	out, err := fill.Decide(f)
	require.NoError(t, err)
	assert.Equal(t, Wishes{{Device: three.ID, Target: on, Slot: "a"}, {Device: one.ID, Target: on, Slot: "c"}}, out.Keep[0])
	require.Len(t, out.Left, 1)
	assert.Equal(t, []any{two.ID, "no_free_slot"}, []any{out.Left[0].Device, out.Left[0].Cause})
	fill.Places = []int{1}
	_, err = fill.Decide(f)
	assert.Equal(t, "places", cause(t, err))
	fill.Places = nil
	f.Targets[on] = Target{Target: latch.Target{ID: on, Name: "Vault"}, Layout: &target.Layout{}}
	_, err = fill.Decide(f)
	assert.Equal(t, "no_free_slot", cause(t, err))
	f.Targets[on] = Target{Target: latch.Target{ID: on, Name: "Vault"}}
	_, err = fill.Decide(f)
	assert.Equal(t, "not_seen", cause(t, err))
}

func TestPlacing(t *testing.T) {
	d := device("One", opened)
	a, b := uuid.New(), uuid.New()
	f := facts(d)
	small := &intake.Intake{Name: "small"}
	f.Targets[a], f.Targets[b] = Target{Target: latch.Target{ID: a, Name: "A", Intake: small}}, Target{Target: latch.Target{ID: b, Name: "B"}}
	place := Place{Placements: []Placement{{Device: d.ID, Target: a}, {Device: d.ID, Target: b, Slot: "2"}}}
	out, err := place.Decide(f)
	require.NoError(t, err)
	assert.Equal(t, []any{Wishes{{Device: d.ID, Target: a}, {Device: d.ID, Target: b, Slot: "2"}}}, out.Keep)
	assert.Equal(t, "Place 1 camera on 2 targets", out.Work.Title)
	f.Targets[b] = Target{Target: latch.Target{ID: b, Name: "B"}, Closed: true}
	_, err = place.Decide(f)
	assert.Equal(t, "target_closed", cause(t, err))
}

func TestGivingAddresses(t *testing.T) {
	d, via := device("One", opened), device("Channel", opened)
	recorder := uuid.New()
	via.Via = &recorder
	d.Status.Device.Addr = netip.MustParseAddr("192.0.2.7")
	to := func(addr string) camera.Network {
		return camera.Network{Addr: netip.MustParseAddr(addr), Bits: 24}
	}
	lines := []AddressLine{{Device: d.ID, To: to("192.0.2.90")}, {Device: via.ID, To: to("192.0.2.91")}}
	out, err := GiveAddresses{Lines: lines}.Decide(facts(d, via))
	require.NoError(t, err)
	assert.EqualValues(t, 2, out.Work.Total(), "it is moved, and opened anew")
	assert.Equal(t, "cannot_move", out.Left[0].Cause)
	assert.Equal(t, []string{"192.0.2.7", "192.0.2.90"}, []string{out.Line.Before, out.Line.After})
	for _, addr := range []string{"198.51.100.1", "192.0.2.90"} {
		_, err = GiveAddresses{Lines: []AddressLine{{Device: d.ID, To: to("192.0.2.90")}, {Device: via.ID, To: to(addr)}}}.Decide(facts(d, via))
		assert.Equal(t, "bad_address", cause(t, err), addr)
	}
}

// What is agreed for a model or a site goes as far as the device of the selection that needs the most; for devices, as far as each needs.
func TestAgreeingToReadableSignIns(t *testing.T) {
	one, two := device("One", latch.Status{Device: identity.Device{Maker: "corvane", Hardware: "V4"}}), device("Two", latch.Status{})
	f := facts(one, two)
	ids := []uuid.UUID{one.ID, two.ID}
	assert.Len(t, readable(f, ids, ForDevices), 2)
	models := readable(f, ids, ForModels)
	require.Len(t, models, 2)
	assert.NotEmpty(t, models[0].Model)
	assert.Equal(t, two.ID, models[1].Device, "one that tells no model is agreed for alone")
	assert.Equal(t, []Readable{{Clear: models[0].Clear}}, readable(f, ids, ForSite))
}

func TestTargetForms(t *testing.T) {
	for _, c := range []struct {
		form TargetForm
		want string
	}{
		{TargetForm{Kind: "bridge", Name: "Desk", Address: "http://192.0.2.9"}, ""},
		{TargetForm{Kind: "bridge", Address: "ftp://192.0.2.9"}, "bad_address"},
		{TargetForm{Kind: "bridge", Address: "http://u:p@192.0.2.9"}, "sign_in_in_address"},
		{TargetForm{Kind: "hub", Address: "mqtt://hub.example"}, "name_unseen"},
		{TargetForm{Kind: "hub", Address: "mqtt://hub_.example", Addresses: beyond}, "bad_address"},
		{TargetForm{Kind: "hub", Address: "mqtt://hub.example", Addresses: []netip.Addr{netip.IPv4Unspecified()}}, "bad_address"},
		{TargetForm{Kind: "hub", Address: "mqtt://hub.example", Addresses: make([]netip.Addr, 17)}, "too_many_addresses"},
		{TargetForm{Kind: "live", Address: "http://192.0.2.9"}, "no_recorder"},
		{TargetForm{Kind: "feed"}, "no_name"},
		{TargetForm{Kind: "bridge", Address: "http://192.0.2.9", Settings: map[string]string{"x": "y"}}, "bad_setting"},
		{TargetForm{Kind: "bridge", Address: "http://192.0.2.9", Intake: "none"}, "no_intake"},
	} {
		out, err := AddTarget{ID: uuid.New(), TargetForm: c.form}.Decide(facts())
		assert.Equal(t, c.want, cause(t, err), "%+v", c.form)
		if c.want == "" {
			put := out.Keep[0].(PutTarget)
			assert.Equal(t, []netip.AddrPort{netip.MustParseAddrPort("192.0.2.9:80")}, put.Reach)
			assert.Equal(t, "reached at 192.0.2.9:80", out.Line.After, "what it opens beyond the ranges is on record")
			assert.Len(t, out.Work.Targets, 1)
		}
	}
}

// A name is reached at the addresses that a person has taken for it: all of them are kept, and stand in the record.
func TestATargetByName(t *testing.T) {
	form := TargetForm{Kind: "hub", Name: "Hearth", Address: "mqtts://hub.example", Addresses: beyond}
	out, err := AddTarget{ID: uuid.New(), TargetForm: form}.Decide(facts())
	require.NoError(t, err)
	assert.Equal(t, []netip.AddrPort{netip.MustParseAddrPort("192.0.2.9:8883"), netip.MustParseAddrPort("198.51.100.9:8883")},
		out.Keep[0].(PutTarget).Reach)
	assert.Equal(t, "reached at 192.0.2.9:8883, 198.51.100.9:8883", out.Line.After)
	_, at, err := SeeCertificate{Kind: "hub", Address: form.Address, Addresses: beyond}.At()
	require.NoError(t, err)
	assert.Len(t, at, 2)
	name, err := SeeAddresses{Kind: "hub", Address: form.Address}.Host()
	require.NoError(t, err)
	assert.Equal(t, "hub.example", name)
	_, err = SeeAddresses{Kind: "hub", Address: "mqtts://192.0.2.9"}.Host()
	assert.Equal(t, "no_name", cause(t, err))
}

// beyond are addresses, not in order.
var beyond = []netip.Addr{netip.MustParseAddr("198.51.100.9"), netip.MustParseAddr("192.0.2.9")}

// Every role has the rights of the one below it, and the owner has all.
func TestRights(t *testing.T) {
	below := []Right{}
	for _, r := range []Role{Customer, Viewer, Technician, Engineer, Owner} {
		for _, right := range below {
			assert.True(t, r.May(right), "%s %s", r, right)
		}
		below = rights[r]
	}
	assert.Equal(t, Rights, Owner.Rights())
	assert.False(t, Role("").May(Work), "nobody may do nothing")
}

// A command tells what it is, however many kinds there are.
func TestCommandsHaveNames(t *testing.T) {
	assert.Equal(t, "tune", command.Device{Tune: &command.Tune{}}.Name())
	assert.True(t, command.Device{Tune: &command.Tune{}}.Waits())
	assert.Empty(t, command.Device{}.Name())
}

// Where a device is not finished, its state is agreed on by a reason; the state is that of all devices, in their order.
func TestTakingABaseline(t *testing.T) {
	begun := device("Clock", latch.Status{Latches: latch.Derive(nil, latch.Intent{}).Latches})
	finished := device("Weir", latch.Status{})
	for i := range finished.Status.Latches {
		finished.Status.Latches[i] = latch.Latch{Name: latch.Names[i], State: latch.Open}
	}
	for _, c := range []struct {
		name, reason string
		devices      []*latch.Device
		refused      string
	}{
		{" ", "", []*latch.Device{finished}, "no_name"},
		{"Handed over", "", nil, "no_devices"},
		{"Handed over", "", []*latch.Device{finished, begun}, "no_reason"},
		{"Handed over", " \n", []*latch.Device{finished, begun}, "no_reason"},
		{"Handed over", "", []*latch.Device{finished}, ""},
		{"Handed over", "the clock is ordered", []*latch.Device{finished, begun}, ""},
	} {
		out, err := TakeBaseline{Name: c.name, Reason: c.reason}.Decide(facts(c.devices...))
		assert.Equal(t, c.refused, cause(t, err), "%+v", c)
		if c.refused != "" {
			continue
		}
		kept := out.Keep[0].(TakeBaseline)
		require.Len(t, kept.State.Devices, len(c.devices))
		assert.Equal(t, "Weir", kept.State.Devices[0].Title)
		assert.Equal(t, c.reason != "", kept.State.Unfinished() == 1)
	}
}
