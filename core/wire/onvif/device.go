package onvif

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"unlatch/core/stream/camera"
)

// Clock asks for the device's time (Core Specification §8.3.6; needs no sign-in) and keeps the skew for signing in. It
// is also the harmless question that tells a device service from a web server.
func (c *Client) Clock(ctx context.Context) (skew time.Duration, err error) {
	var out struct {
		UTC *struct {
			Hour   int `xml:"Time>Hour"`
			Minute int `xml:"Time>Minute"`
			Second int `xml:"Time>Second"`
			Year   int `xml:"Date>Year"`
			Month  int `xml:"Date>Month"`
			Day    int `xml:"Date>Day"`
		} `xml:"SystemDateAndTime>UTCDateTime"`
	}
	asked := time.Now()
	if err := c.Call(ctx, c.device, NSDevice+"/GetSystemDateAndTime", `<GetSystemDateAndTime xmlns="`+NSDevice+`"/>`, &out); err != nil {
		return 0, err
	}
	if out.UTC == nil || out.UTC.Year == 0 {
		return 0, nil // a device that does not tell is taken to be right
	}
	t := out.UTC
	told := time.Date(t.Year, time.Month(t.Month), t.Day, t.Hour, t.Minute, t.Second, 0, time.UTC)
	// The answer has whole seconds: half of one is the fairest guess, half the round trip the rest.
	middle := asked.Add(time.Since(asked) / 2)
	c.skew = told.Add(500 * time.Millisecond).Sub(middle)
	if c.skew.Abs() < 2*time.Second {
		c.skew = 0
	}
	return c.skew, nil
}

// Services asks which services the device has (Core Specification §8.1.1 GetServices, else the older GetCapabilities) and
// returns their addresses by namespace, with the reachable host put in. A device is asked once.
func (c *Client) Services(ctx context.Context) (map[string]string, error) {
	if c.services != nil {
		return c.services, nil
	}
	var out struct {
		Services []struct {
			Namespace string `xml:"Namespace"`
			XAddr     string `xml:"XAddr"`
		} `xml:"Service"`
	}
	err := c.Call(ctx, c.device, NSDevice+"/GetServices",
		`<GetServices xmlns="`+NSDevice+`"><IncludeCapability>false</IncludeCapability></GetServices>`, &out)
	var fault *Fault
	if errors.As(err, &fault) {
		return c.capabilities(ctx)
	}
	if err != nil {
		return nil, err
	}
	c.services = map[string]string{}
	for _, s := range out.Services {
		if a, _, err := c.reachable(s.XAddr); err == nil && len(c.services) < 64 {
			c.services[strings.TrimSpace(s.Namespace)] = a
		}
	}
	return c.services, nil
}

func (c *Client) capabilities(ctx context.Context) (map[string]string, error) {
	var out struct {
		Media     string `xml:"Capabilities>Media>XAddr"`
		Recording string `xml:"Capabilities>Extension>Recording>XAddr"`
		Receiver  string `xml:"Capabilities>Extension>Receiver>XAddr"`
		Search    string `xml:"Capabilities>Extension>Search>XAddr"`
		Replay    string `xml:"Capabilities>Extension>Replay>XAddr"`
	}
	if err := c.Call(ctx, c.device, NSDevice+"/GetCapabilities",
		`<GetCapabilities xmlns="`+NSDevice+`"><Category>All</Category></GetCapabilities>`, &out); err != nil {
		return nil, err
	}
	c.services = map[string]string{}
	for ns, addr := range map[string]string{NSMedia: out.Media, NSRecording: out.Recording, NSReceiver: out.Receiver, NSSearch: out.Search,
		NSReplay: out.Replay} {
		if a, _, err := c.reachable(addr); err == nil && addr != "" {
			c.services[ns] = a
		}
	}
	return c.services, nil
}

// Info asks for GetDeviceInformation. Most devices want a sign-in for it, which makes it the question that proves one.
func (c *Client) Info(ctx context.Context) (camera.Info, error) {
	var in struct {
		Manufacturer    string
		Model           string
		FirmwareVersion string
		SerialNumber    string
		HardwareID      string `xml:"HardwareId"`
	}
	err := c.Call(ctx, c.device, NSDevice+"/GetDeviceInformation", `<GetDeviceInformation xmlns="`+NSDevice+`"/>`, &in)
	return camera.Info{Manufacturer: clip(in.Manufacturer), Model: clip(in.Model), Firmware: clip(in.FirmwareVersion),
		Serial: clip(in.SerialNumber), Hardware: clip(in.HardwareID)}, err
}

// What a device may tell of its services: the standard knows three protocols (Core Specification §8.2.13), and each has a port or two.
const (
	mostProtocols = 16
	mostPorts     = 16
)

// Protocols asks for GetNetworkProtocols: which services are on, and on which ports.
func (c *Client) Protocols(ctx context.Context) ([]camera.Protocol, error) {
	var in struct {
		Protocols []struct {
			Name    string
			Enabled bool
			Port    []int
		} `xml:"NetworkProtocols"`
	}
	err := c.Call(ctx, c.device, NSDevice+"/GetNetworkProtocols", `<GetNetworkProtocols xmlns="`+NSDevice+`"/>`, &in)
	var out []camera.Protocol
	for _, p := range in.Protocols[:min(len(in.Protocols), mostProtocols)] {
		out = append(out, camera.Protocol{Name: clip(p.Name), Enabled: p.Enabled, Ports: p.Port[:min(len(p.Port), mostPorts)]})
	}
	return out, err
}

// SetProtocol switches one network protocol on or off and sets its ports (Core Specification §8.2.14); the others stay as they are.
func (c *Client) SetProtocol(ctx context.Context, p camera.Protocol) error {
	var ports strings.Builder
	for _, n := range p.Ports {
		fmt.Fprintf(&ports, "<tt:Port>%d</tt:Port>", n)
	}
	return c.Call(ctx, c.device, NSDevice+"/SetNetworkProtocols",
		fmt.Sprintf(`<SetNetworkProtocols xmlns="%s"><NetworkProtocols><tt:Name>%s</tt:Name>`+
			`<tt:Enabled>%t</tt:Enabled>%s</NetworkProtocols></SetNetworkProtocols>`,
			NSDevice, Escape(p.Name), p.Enabled, &ports), nil)
}
