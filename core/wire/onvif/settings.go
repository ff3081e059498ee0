package onvif

import (
	"context"
	"fmt"
	"net/netip"
	"strings"
	"time"
)

// DNS asks for the name servers that are set by hand (Core Specification §8.2.5); fromDHCP tells that the device takes those of DHCP
// instead.
func (c *Client) DNS(ctx context.Context) (servers []netip.Addr, fromDHCP bool, err error) {
	var out struct {
		FromDHCP bool     `xml:"DNSInformation>FromDHCP"`
		Manual   []string `xml:"DNSInformation>DNSManual>IPv4Address"`
	}
	if err := c.Call(ctx, c.device, NSDevice+"/GetDNS", `<GetDNS xmlns="`+NSDevice+`"/>`, &out); err != nil {
		return nil, false, err
	}
	for _, text := range out.Manual {
		if a, err := netip.ParseAddr(strings.TrimSpace(text)); err == nil && len(servers) < 8 {
			servers = append(servers, a)
		}
	}
	return servers, out.FromDHCP, nil
}

// SetDNS sets name servers by hand, or with none of them lets DHCP give them (Core Specification §8.2.6).
func (c *Client) SetDNS(ctx context.Context, servers []netip.Addr) error {
	var b strings.Builder
	for _, a := range servers {
		fmt.Fprintf(&b, "<DNSManual><tt:Type>IPv4</tt:Type><tt:IPv4Address>%s</tt:IPv4Address></DNSManual>", a)
	}
	return c.Call(ctx, c.device, NSDevice+"/SetDNS", fmt.Sprintf(`<SetDNS xmlns="%s"><FromDHCP>%t</FromDHCP>%s</SetDNS>`, NSDevice,
		len(servers) == 0, &b), nil)
}

// NTP asks for the time server that is set by hand, an address or a name (Core Specification §8.2.7); "" for none or the one of DHCP.
func (c *Client) NTP(ctx context.Context) (string, error) {
	var out struct {
		FromDHCP bool `xml:"NTPInformation>FromDHCP"`
		Manual   []struct {
			IPv4 string `xml:"IPv4Address"`
			Name string `xml:"DNSname"`
		} `xml:"NTPInformation>NTPManual"`
	}
	if err := c.Call(ctx, c.device, NSDevice+"/GetNTP", `<GetNTP xmlns="`+NSDevice+`"/>`, &out); err != nil || out.FromDHCP {
		return "", err
	}
	for _, m := range out.Manual {
		if s := clip(strings.TrimSpace(m.IPv4 + m.Name)); s != "" {
			return s, nil
		}
	}
	return "", nil
}

// SetNTP sets a time server by hand, or with "" lets DHCP give it (Core Specification §8.2.8).
func (c *Client) SetNTP(ctx context.Context, server string) error {
	manual := ""
	if a, err := netip.ParseAddr(server); err == nil && a.Is4() {
		manual = "<NTPManual><tt:Type>IPv4</tt:Type><tt:IPv4Address>" + a.String() + "</tt:IPv4Address></NTPManual>"
	} else if server != "" {
		manual = "<NTPManual><tt:Type>DNS</tt:Type><tt:DNSname>" + Escape(server) + "</tt:DNSname></NTPManual>"
	}
	return c.Call(ctx, c.device, NSDevice+"/SetNTP", fmt.Sprintf(`<SetNTP xmlns="%s"><FromDHCP>%t</FromDHCP>%s</SetNTP>`, NSDevice,
		server == "", manual), nil)
}

// Hostname asks for the device's host name (Core Specification §8.2.1; needs no sign-in).
func (c *Client) Hostname(ctx context.Context) (string, error) {
	var out struct {
		Name string `xml:"HostnameInformation>Name"`
	}
	err := c.Call(ctx, c.device, NSDevice+"/GetHostname", `<GetHostname xmlns="`+NSDevice+`"/>`, &out)
	return clip(strings.TrimSpace(out.Name)), err
}

// SetHostname sets it (Core Specification §8.2.2). Devices take names of RFC 1123 only.
func (c *Client) SetHostname(ctx context.Context, name string) error {
	return c.Call(ctx, c.device, NSDevice+"/SetHostname", `<SetHostname xmlns="`+NSDevice+`"><Name>`+Escape(name)+`</Name></SetHostname>`, nil)
}

// TimeZone asks for the time zone in the form of POSIX 1003.1 §8.3, as "GMT0BST,M3.5.0/1,M10.5.0"; "" where the device does not say.
func (c *Client) TimeZone(ctx context.Context) (string, error) {
	var out struct {
		TZ string `xml:"SystemDateAndTime>TimeZone>TZ"`
	}
	err := c.Call(ctx, c.device, NSDevice+"/GetSystemDateAndTime", `<GetSystemDateAndTime xmlns="`+NSDevice+`"/>`, &out)
	return clip(strings.TrimSpace(out.TZ)), err
}

// SetClock sets the device's time (Core Specification §8.3.7): to t, or to what its time server says where byNTP is true. zone is left
// as it is where it is "". The skew of the client is read anew.
func (c *Client) SetClock(ctx context.Context, t time.Time, byNTP bool, zone string) error {
	kind := "Manual"
	if byNTP {
		kind = "NTP"
	}
	tz := ""
	if zone != "" {
		tz = "<TimeZone><tt:TZ>" + Escape(zone) + "</tt:TZ></TimeZone>"
	}
	utc := ""
	if !byNTP {
		t = t.UTC()
		utc = fmt.Sprintf("<UTCDateTime><tt:Time><tt:Hour>%d</tt:Hour><tt:Minute>%d</tt:Minute><tt:Second>%d</tt:Second></tt:Time>"+
			"<tt:Date><tt:Year>%d</tt:Year><tt:Month>%d</tt:Month><tt:Day>%d</tt:Day></tt:Date></UTCDateTime>",
			t.Hour(), t.Minute(), t.Second(), t.Year(), t.Month(), t.Day())
	}
	if err := c.Call(ctx, c.device, NSDevice+"/SetSystemDateAndTime",
		fmt.Sprintf(`<SetSystemDateAndTime xmlns="%s"><DateTimeType>%s</DateTimeType>`+
			`<DaylightSavings>%t</DaylightSavings>%s%s</SetSystemDateAndTime>`,
			NSDevice, kind, strings.Contains(zone, ","), tz, utc), nil); err != nil {
		return err
	}
	_, err := c.Clock(ctx)
	return err
}
