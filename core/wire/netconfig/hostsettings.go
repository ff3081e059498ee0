package netconfig

import (
	"context"
	"strings"
	"time"
	"unicode"

	"golang.org/x/text/unicode/norm"

	"unlatch/core/stream/camera"
	"unlatch/core/wire/onvif"
)

// sendHostSettings sends what is wanted besides the address, first: the device still answers where it is.
func (w *work) sendHostSettings(ctx context.Context, c *onvif.Client) error {
	a := w.To.HostSettings
	if len(a.DNS) > 0 || a.NoDNS {
		w.doing("setting its name servers")
		if err := c.SetDNS(ctx, a.DNS); err != nil {
			return err
		}
		w.step("set the name servers")
	}
	if a.NTP != "" || a.NoNTP {
		w.doing("setting its time server")
		if err := c.SetNTP(ctx, a.NTP); err != nil {
			return err
		}
		w.step("set the time server")
	}
	if a.Host != "" {
		w.doing("naming it")
		if err := c.SetHostname(ctx, a.Host); err != nil {
			return err
		}
		w.step("set the host name")
	}
	if a.Clock || a.TimeZone != "" {
		w.doing("setting its clock")
		// Whole seconds are sent: half a second more is right on the average.
		if err := c.SetClock(ctx, time.Now().Add(500*time.Millisecond), a.NTP != "", a.TimeZone); err != nil {
			return err
		}
		w.step("set the clock")
	}
	return nil
}

// readAlso reads back what was asked for, and nothing else: a device need not know every one of these operations.
func (w *work) readAlso(ctx context.Context, c *onvif.Client, into *camera.Network) (err error) {
	a := w.To.HostSettings
	if len(a.DNS) > 0 || a.NoDNS {
		if into.DNS, _, err = c.DNS(ctx); err != nil {
			return err
		}
	}
	if a.NTP != "" || a.NoNTP {
		if into.NTP, err = c.NTP(ctx); err != nil {
			return err
		}
	}
	if a.Host != "" {
		if into.Host, err = c.Hostname(ctx); err != nil {
			return err
		}
	}
	if a.Clock || a.TimeZone != "" {
		if into.TimeZone, err = c.TimeZone(ctx); err != nil {
			return err
		}
		skew, err := c.Clock(ctx)
		if err != nil {
			return err
		}
		into.SkewMS = skew.Milliseconds()
	}
	return nil
}

// HostName makes a host name of what a camera is called: letters, digits and hyphens, at most 63 (RFC 1123 §2.1). "" where nothing is
// left of it.
func HostName(title string) string {
	var b strings.Builder
	for _, r := range norm.NFKD.String(strings.ReplaceAll(title, "ß", "ss")) {
		switch {
		case unicode.Is(unicode.Mn, r): // an accent, parted from its letter
		case r < 128 && (unicode.IsLetter(r) || unicode.IsDigit(r)):
			b.WriteRune(unicode.ToLower(r))
		case b.Len() > 0 && !strings.HasSuffix(b.String(), "-"):
			b.WriteByte('-')
		}
	}
	name := b.String()
	return strings.Trim(name[:min(len(name), 63)], "-")
}
