package exchange

import (
	"fmt"
	"time"

	"unlatch/core/ground/trouble"
)

// Trouble says that the device answers and does not finish in time.
func (e *SlowError) Trouble() trouble.Trouble { return TooSlow(e.Bytes, e.After) }

// TooSlow returns the trouble with a device that sent bytes within after and did not finish.
func TooSlow(bytes int64, after time.Duration) trouble.Trouble {
	after = after.Round(100 * time.Millisecond)
	return trouble.Trouble{Cause: trouble.TooSlow, Facts: trouble.Facts{"bytes": bytes, "after": after},
		Seen: fmt.Sprintf("%d bytes came within %s", bytes, after)}
}

// Trouble says that the device takes the connection and says nothing.
func (e *MuteError) Trouble() trouble.Trouble { return trouble.Trouble{Cause: trouble.Silent} }
