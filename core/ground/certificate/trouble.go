package certificate

import (
	"fmt"

	"unlatch/core/ground/trouble"
)

// Trouble says that another certificate is shown than the one that was seen before.
func (e *ChangedError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.CertificateChanged,
		Seen: fmt.Sprintf("SHA-256 %s, until %s; before %s", e.Shown.SHA256, e.Shown.Until.Format("2006-01-02"), e.Pinned)}
}
