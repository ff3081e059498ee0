package bringup

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/address"
	"unlatch/core/ground/trouble"
	"unlatch/core/wire/target"
)

// A fickle target says of a picture what a test has it say.
type fickle struct{ says target.Report }

func (*fickle) Kind() target.Kind                                                { return "fickle" }
func (f *fickle) Connect(context.Context, target.Access) (target.Session, error) { return f, nil }
func (*fickle) Place(context.Context, target.Camera) (target.Placement, error) {
	return target.Placement{Ref: "1", Slot: "slot 1", Token: "1"}, nil
}
func (f *fickle) Confirm(context.Context, target.Ref, time.Duration) (target.Report, error) {
	return f.says, nil
}
func (*fickle) Remove(context.Context, target.Ref) error {
	return errors.New("it is not asked for that")
}
func (*fickle) Close() {}

// What connects is waited for as long as fits the target: two minutes, twice its own past, or until the moment that it has given itself.
// One that shows and fails in turns is told as what it last said, and begins to wait anew.
func TestHowLongAPictureIsWaitedFor(t *testing.T) {
	m := newMemory(t)
	clock := m.heard("Clock", "127.44.97.11", "http://127.44.97.11/onvif/device_service", "camera")
	driver, on := &fickle{}, uuid.New()
	m.targets[on] = &Target{ID: on, Kind: driver.Kind(), Name: "Vault"}
	m.intents[clock.ID] = latch.Intent{Targets: []latch.Target{{ID: on, Kind: driver.Kind(), Name: "Vault"}}}
	require.NoError(t, m.Add(ctx, clock, Finding{Subject: on.String(), Body: evidence.Placed{Slot: "slot 1", Token: "1", Ref: "1"}}))
	ask := func(says target.Report) *latch.Placement {
		driver.says = says
		fresh, err := m.Device(ctx, clock.ID)
		require.NoError(t, err)
		w := Start(fresh, Config{Record: m, Keyring: m, Report: m, Clock: m, Targets: map[target.Kind]target.Driver{driver.Kind(): driver},
			Guard: &address.Guard{Allowed: address.MustParse("127.44.97.0/24")}})
		defer w.Close()
		require.NoError(t, w.Confirm(ctx, on))
		fresh, err = m.Device(ctx, clock.ID)
		require.NoError(t, err)
		return fresh.Status.PlacementOn(on)
	}
	pass := func(d time.Duration) { m.at = m.at.Add(d) }
	connecting := target.Report{Says: "connecting", Waits: trouble.WaitsToConnect}
	p := ask(connecting)
	require.Equal(t, trouble.WaitsToConnect, p.Waits, "%+v", p)
	began := p.WaitsSince
	pass(latch.ConnectTime - time.Second)
	p = ask(connecting)
	assert.Nil(t, p.Diagnosis)
	assert.Equal(t, began, p.WaitsSince, "it has waited since then")
	pass(2 * time.Second)
	assert.NotNil(t, ask(connecting).Diagnosis, "longer than any target may take that has no past")
	m.longest = 20 * time.Minute
	p = ask(connecting)
	assert.Nil(t, p.Diagnosis, "it has taken long before")
	pass(39 * time.Minute)
	assert.Nil(t, ask(connecting).Diagnosis)
	pass(2 * time.Minute)
	assert.NotNil(t, ask(connecting).Diagnosis)
	m.longest = time.Hour
	ask(connecting)
	pass(time.Hour + time.Second)
	assert.NotNil(t, ask(connecting).Diagnosis, "an hour is too long for any")

	m.longest = 0
	until := m.Now().Add(3 * time.Hour).UTC()
	told := connecting
	told.Until = until
	p = ask(told)
	assert.True(t, until.Equal(p.WaitsUntil))
	assert.True(t, until.Equal(p.AskAgainAt(m.Now(), time.Minute)), "it is asked when it can begin")
	pass(3 * time.Hour)
	assert.Nil(t, ask(told).Diagnosis, "it may begin only now")
	pass(latch.ConnectTime)
	assert.NotNil(t, ask(told).Diagnosis)

	for range 3 {
		p = ask(target.Report{Says: "showing", Arrived: true})
		assert.True(t, p.Confirmed)
		p = ask(target.Report{Says: "failed"})
		assert.False(t, p.Confirmed)
		require.NotNil(t, p.Diagnosis)
		assert.Contains(t, p.Diagnosis.Summary, "failed")
		pass(time.Minute)
		p = ask(connecting)
		assert.Nil(t, p.Diagnosis)
		assert.WithinDuration(t, m.Now(), p.WaitsSince, time.Second, "it waits anew")
	}
}
