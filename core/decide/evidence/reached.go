package evidence

import (
	"fmt"
	"net/netip"
	"time"

	"unlatch/core/decide/diagnose"
	"unlatch/core/ground/certificate"
	"unlatch/core/stream/camera"
)

// Reached is the outcome of asking the device's ports.
type Reached struct {
	Addr         netip.Addr           `json:"addr"`
	Service      string               `json:"service,omitempty" doc:"address of the device service that answered"`
	SkewMS       int64                `json:"skew_ms,omitempty" doc:"device clock minus ours"`
	Stream       string               `json:"stream,omitempty" doc:"where the stream service answers, of a device without a device service"`
	StreamServer *camera.StreamServer `json:"ladder,omitempty" doc:"how that stream service judges requests"`
	Before       *netip.Addr          `json:"before,omitempty" doc:"where it was before, until what it told then confirms the move"`
	Known        string               `json:"known,omitempty" doc:"by what it was known again after a move: certificate or hardware address"`
	// TLS is the certificate that the device service showed.
	TLS        *certificate.Certificate `json:"tls,omitempty"`
	Redirected bool                     `json:"redirected,omitempty" doc:"the plain port has sent us to the one for TLS"`
	Diagnosis  *diagnose.Diagnosis      `json:"diagnosis,omitempty"`
}

// maxSkew is how far a device's clock may be off before somebody should set it: recordings would carry the wrong time.
const maxSkew = 5 * time.Second

// ClockWrong reports whether the device's clock is so far off that somebody should set it.
func (r Reached) ClockWrong() bool {
	return (time.Duration(r.SkewMS) * time.Millisecond).Abs() > maxSkew
}

func (Reached) kind() Kind { return KindReached }

func (b Reached) failure() *diagnose.Diagnosis { return b.Diagnosis }

func (b Reached) sum(_ string) string {
	if b.Stream != "" {
		return fmt.Sprintf("No device service; the stream service answers at %s", b.Stream)
	}
	switch {
	case b.Redirected:
		return fmt.Sprintf("Device service answers at %s over TLS, where its plain port has sent us", b.Addr)
	case b.TLS != nil:
		return fmt.Sprintf("Device service answers at %s over TLS", b.Addr)
	}
	return fmt.Sprintf("Device service answers at %s", b.Addr)
}
