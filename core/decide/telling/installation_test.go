package telling_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"unlatch/core/decide/doctor"
	"unlatch/core/decide/telling"
)

// What is ill is told once, and once more when it is over; what only wants to be looked at is not.
func TestWhatOfTheInstallationIsNews(t *testing.T) {
	t.Parallel()
	failed := doctor.ServerFinding{Cause: "backup_failed", State: doctor.Ill, Says: "The backup failed."}
	low := doctor.ServerFinding{Cause: "disk_low", State: doctor.Soon, On: "bench"}
	full := doctor.ServerFinding{Cause: "disk_full", State: doctor.Ill, On: "bench"}
	began, over := telling.IllNews([]doctor.ServerFinding{failed, low, full}, map[string]string{full.Key(): "x", "no_worker ": "y"})
	assert.Equal(t, []doctor.ServerFinding{failed}, began)
	assert.Equal(t, []string{"no_worker "}, over)
	began, over = telling.IllNews([]doctor.ServerFinding{full}, map[string]string{full.Key(): "x"})
	assert.Empty(t, began)
	assert.Empty(t, over)
	m := telling.OfIll(failed, telling.About{Name: "Tarn Ferry"})
	assert.Equal(t, "Tarn Ferry: Unlatch: The backup failed.", m.Subject())
	assert.Equal(t, "Over: Unlatch: The backup failed.", telling.OfIllOver(failed.Says, telling.About{}).Headline)
}
