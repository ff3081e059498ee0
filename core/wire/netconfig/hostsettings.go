package netconfig

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"
	"unicode"

	"golang.org/x/text/unicode/norm"

	"unlatch/core/wire/onvif"
)

// HostSettings are what goes to a device in one action with its address; what is empty is left as it is.
type HostSettings struct {
	DNS      []netip.Addr `json:"dns,omitempty"`
	NTP      string       `json:"ntp,omitempty" doc:"time server: an address or a name"`
	Host     string       `json:"host,omitempty" doc:"host name, RFC 1123"`
	TimeZone string       `json:"time_zone,omitempty" doc:"POSIX 1003.1 §8.3, as GMT0BST,M3.5.0/1,M10.5.0"`
	// NoDNS and NoNTP give back to DHCP what was set by hand: undo of a change that was the first one.
	NoDNS bool `json:"no_dns,omitempty"`
	NoNTP bool `json:"no_ntp,omitempty"`
	// Clock asks that the device's clock be set right: by the time server where one is given, else to this machine's time.
	Clock bool `json:"clock,omitempty"`
	// SkewMS is what was read of the clock, the device's minus this machine's, in milliseconds; it is not sent.
	SkewMS int64 `json:"skew_ms,omitempty"`
}

// Changed says in words what differs from before.
func (a HostSettings) Changed(before HostSettings) (out []string) {
	if !slices.Equal(a.DNS, before.DNS) {
		out = append(out, "name servers")
	}
	for _, f := range []struct{ what, now, then string }{{"time server " + a.NTP, a.NTP, before.NTP},
		{"host name " + a.Host, a.Host, before.Host}, {"time zone " + a.TimeZone, a.TimeZone, before.TimeZone}} {
		if f.now != f.then {
			out = append(out, f.what)
		}
	}
	if off := before.SkewMS - a.SkewMS; off > 2000 || off < -2000 {
		out = append(out, fmt.Sprintf("clock, which was %s off", (time.Duration(before.SkewMS)*time.Millisecond).Round(time.Second)))
	}
	return out
}

// also sends what is wanted besides the address, first: the device still answers where it is.
func (w *work) also(ctx context.Context, c *onvif.Client) error {
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
func (w *work) readAlso(ctx context.Context, c *onvif.Client, into *Setting) (err error) {
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
