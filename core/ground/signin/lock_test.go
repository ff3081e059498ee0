package signin

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestLockoutAnswersAreRead(t *testing.T) {
	now := time.Date(2026, 5, 4, 9, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		name, retry, text string
		status            int
		wait              time.Duration // 0: not locked
		hinted            bool
	}{
		{name: "a bare refusal", status: 401, text: "Unauthorized"},
		{name: "a user without the right", status: 403, text: "Forbidden"},
		{name: "a busy device", status: 503, text: "Service Unavailable"},
		{name: "a setting that is locked", status: 500, text: "The address is locked on this device"},
		{name: "not there", status: 404, text: "Not Found"},
		{name: "seconds", status: 503, retry: "90", wait: 90 * time.Second, hinted: true},
		{name: "a date", status: 403, retry: "Mon, 04 May 2026 09:02:00 GMT", wait: 2 * time.Minute, hinted: true},
		{name: "a date that has passed", status: 403, retry: "Mon, 04 May 2026 08:00:00 GMT"},
		{name: "in words", status: 401, text: "User locked, try again in 120 seconds", wait: 2 * time.Minute, hinted: true},
		{name: "in minutes", status: 403, text: "Account is locked. Remaining time: 5 min", wait: 5 * time.Minute, hinted: true},
		{name: "in a fault", status: 500, text: "Too many failed attempts", wait: DefaultWait},
		{name: "its own status", status: 423, wait: DefaultWait},
		{name: "asked too often", status: 429, retry: "3", wait: 3 * time.Second, hinted: true},
		{name: "a hint beyond reason", status: 429, retry: "999999", wait: MaxWait, hinted: true},
		{name: "a hint that is no number", status: 423, retry: "soon", text: "locked -5 s", wait: 5 * time.Second, hinted: true},
		{name: "nought", status: 423, text: "locked 0 s", wait: DefaultWait},
	} {
		got := Locked(c.status, c.retry, c.text, now)
		if c.wait == 0 {
			assert.Nil(t, got, c.name)
			continue
		}
		require.NotNil(t, got, c.name)
		assert.Equal(t, c.wait, got.Wait, c.name)
		assert.Equal(t, c.hinted, got.Hinted, c.name)
	}
}

func TestABusyDeviceIsNotLocked(t *testing.T) {
	now := time.Now()
	assert.NoError(t, LockedOut(false, 503, "30", "Service Unavailable", now), "it has taken the sign-in before, or was not shown one")
	assert.Error(t, LockedOut(true, 503, "30", "Service Unavailable", now))
	var l *LockedError
	require.ErrorAs(t, LockedOut(false, 403, "30", "Device locked", now), &l)
	assert.Equal(t, 30*time.Second, l.Wait)
}

func FuzzLocked(f *testing.F) {
	f.Add(503, "90", "locked for 5 min")
	f.Add(401, "", "Too many attempts; wait 99999 hours")
	f.Fuzz(func(t *testing.T, status int, retry, text string) {
		if l := Locked(status, retry, text, time.Now()); l != nil && (l.Wait <= 0 || l.Wait > MaxWait) {
			t.Fatalf("a wait of %s", l.Wait)
		}
	})
}

func TestTriesAreSpaced(t *testing.T) {
	now := time.Now()
	var held *HeldBackError
	require.ErrorAs(t, Allow([]time.Time{now.Add(-Space / 2)}, 0, now), &held)
	assert.True(t, held.Spacing)
	assert.Equal(t, now.Add(Space/2), held.Until)
	assert.NoError(t, Allow([]time.Time{now.Add(-Space)}, 0, now))
}
