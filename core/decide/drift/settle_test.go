package drift

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"unlatch/core/decide/baseline"
)

// A drift begins at the look that shows it, changes with its fields, ends at the look that does not show it, and is the same one when it
// comes again within a day.
func TestSettle(t *testing.T) {
	at := time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)
	silent := Drift{Device: clockID, Title: "Platform clock", Cause: Silent}
	slow := Drift{Device: clockID, Title: "Platform clock", Cause: Slower, Subject: "main"}

	first := Settle(nil, []Drift{silent, silent}, at.Add(-time.Hour), at)
	assert.Len(t, first, 1, "one a cause and subject")
	assert.Equal(t, at, first[0].Before)
	assert.Equal(t, at.Add(-time.Hour), first[0].After)

	assert.Empty(t, Settle(first, []Drift{silent}, at, at.Add(time.Hour)), "it lasts")

	changed := slow
	changed.Fields = []baseline.FieldChange{{Field: baseline.Rate, Is: "3 fps"}}
	both := append(first, Settle(first, []Drift{silent, slow}, at, at.Add(time.Hour))...)
	assert.Len(t, both, 2)
	put := Settle(both, []Drift{silent, changed}, at, at.Add(2*time.Hour))
	assert.Len(t, put, 1)
	assert.Equal(t, both[1].ID, put[0].ID)
	assert.Equal(t, changed.Fields, put[0].Fields)

	over := Settle(first, nil, at, at.Add(time.Hour))
	assert.Len(t, over, 1)
	assert.Equal(t, at.Add(time.Hour), over[0].Ended)

	again := Settle(over, []Drift{silent}, at, at.Add(2*time.Hour))
	assert.Len(t, again, 1)
	assert.Equal(t, over[0].ID, again[0].ID)
	assert.Equal(t, 1, again[0].Flaps)
	assert.True(t, again[0].Ended.IsZero())
	assert.Empty(t, Settle(over, nil, at, at.Add(2*time.Hour)), "it is over already")
}
