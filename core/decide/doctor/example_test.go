package doctor_test

import (
	"fmt"
	"time"

	"unlatch/core/decide/doctor"
)

// What is ill comes first, with what to do.
func ExampleJudge() {
	f := whole()
	f.Backups.Last = &doctor.Backup{At: at.Add(-time.Hour), Problem: "no space left on device"}
	first := doctor.Judge(f)[0]
	fmt.Println(first.State, first.Cause)
	fmt.Println(first.Says)
	// Output:
	// ill backup_failed
	// The backup of 2026-11-30 08:00 failed: no space left on device; the last good one is of 2026-11-30 02:00.
}
