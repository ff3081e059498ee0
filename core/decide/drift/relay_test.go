package drift

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/latch"
)

var lookedAt = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

// A relay that is down is a drift of its camera that names who is without a picture; what goes, and what was just told of, is none.
func TestARelayThatIsDown(t *testing.T) {
	t.Parallel()
	now := &latch.Device{ID: uuid.New(), Title: "Clock"}
	well := Relay{Path: "clock/main", Role: "main", For: "Vault", At: "192.0.2.5:8554", Told: lookedAt.Add(-10 * time.Second)}
	assert.Empty(t, WithRelays(now, nil, []Relay{well}, lookedAt))

	untold := well
	untold.Told = lookedAt.Add(-time.Hour)
	platform := well
	platform.Path, platform.For, platform.Platform = "clock/live", "Beacon Line", "The platform turns the stream key down"
	found := WithRelays(now, nil, []Relay{untold, well, platform}, lookedAt)
	require.Len(t, found, 2)
	assert.Equal(t, RelayDown, found[0].Cause)
	assert.Equal(t, "worker 192.0.2.5:8554", found[0].Shared)
	assert.Equal(t, "Served on for Vault: was yes, is no: no worker serves it.", found[0].Fields[0].String())
	assert.NotEqual(t, found[0].Key(), found[1].Key())
	f := Finding{Episode: Episode{Drift: found[1]}}
	assert.Equal(t, "Clock is not served on for Beacon Line", f.Headline())
	assert.Equal(t, Urgent, RelayDown.Severity())
	assert.False(t, RelayDown.Acceptable())

	other := found[0]
	other.Device, other.Title = uuid.New(), "Bank"
	grouped := Group([]Episode{{Drift: found[0], Before: lookedAt}, {Drift: other, Before: lookedAt}}, time.Hour)
	require.Len(t, grouped, 1, "a worker that has gone is one finding")
	assert.Equal(t, "2 streams are not served on by the worker at 192.0.2.5:8554", grouped[0].Headline())
}

// What keeps the camera from playing explains that its relays are down: who takes them stands under that.
func TestACameraThatIsDownExplainsItsRelays(t *testing.T) {
	t.Parallel()
	now := &latch.Device{ID: uuid.New(), Title: "Clock"}
	r := Relay{Path: "clock/main", Role: "main", For: "Vault", Told: lookedAt, Problem: "the camera does not answer"}
	silent := []Drift{{Device: now.ID, Cause: Silent}}
	found := WithRelays(now, silent, []Relay{r}, lookedAt)
	require.Len(t, found, 1)
	require.Len(t, found[0].Fields, 1)
	assert.Equal(t, "Served on for Vault", found[0].Fields[0].Words)
	found = WithRelays(now, []Drift{{Device: now.ID, Cause: NotPlaying, Subject: "sub"}}, []Relay{r}, lookedAt)
	assert.Len(t, found, 2, "another stream of the camera")
}
