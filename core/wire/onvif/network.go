package onvif

import (
	"context"
	"fmt"
	"net/netip"
	"strings"
)

// An Interface is a device's network interface (Core Specification §8.2.9): what is set, and by which way.
type Interface struct {
	Token string     `json:"token"`
	MAC   string     `json:"mac,omitempty"`
	DHCP  bool       `json:"dhcp"`
	Addr  netip.Addr `json:"addr"` // the address in use
	Bits  int        `json:"bits"` // its prefix length
}

// Interfaces asks for GetNetworkInterfaces. Interfaces without IPv4 are left out.
func (c *Client) Interfaces(ctx context.Context) ([]Interface, error) {
	type prefixed struct {
		Addr string `xml:"Address"`
		Bits int    `xml:"PrefixLength"`
	}
	var out struct {
		List []struct {
			Token string `xml:"token,attr"`
			MAC   string `xml:"Info>HwAddress"`
			IPv4  *struct {
				DHCP     bool      `xml:"Config>DHCP"`
				Manual   *prefixed `xml:"Config>Manual"`
				FromDHCP *prefixed `xml:"Config>FromDHCP"`
			} `xml:"IPv4"`
		} `xml:"NetworkInterfaces"`
	}
	if err := c.Call(ctx, c.device, NSDevice+"/GetNetworkInterfaces", `<GetNetworkInterfaces xmlns="`+NSDevice+`"/>`, &out); err != nil {
		return nil, err
	}
	var list []Interface
	for _, x := range out.List {
		if x.IPv4 == nil || len(list) == 16 {
			continue
		}
		i := Interface{Token: x.Token, MAC: strings.ToLower(clip(x.MAC)), DHCP: x.IPv4.DHCP}
		use := x.IPv4.Manual
		if i.DHCP && x.IPv4.FromDHCP != nil || use == nil {
			use = x.IPv4.FromDHCP
		}
		if use != nil {
			i.Addr, _ = netip.ParseAddr(strings.TrimSpace(use.Addr))
			i.Bits = use.Bits
		}
		list = append(list, i)
	}
	return list, nil
}

// SetInterface gives an interface a static address, or with i.DHCP puts it to DHCP (Core Specification §8.2.10). reboot tells that
// the device wants a restart before it takes effect. The device may be gone before it answers.
func (c *Client) SetInterface(ctx context.Context, i Interface) (reboot bool, err error) {
	ipv4 := `<tt:Enabled>true</tt:Enabled><tt:DHCP>true</tt:DHCP>`
	if !i.DHCP {
		ipv4 = fmt.Sprintf(`<tt:Enabled>true</tt:Enabled><tt:Manual><tt:Address>%s</tt:Address><tt:PrefixLength>%d</tt:PrefixLength>`+
			`</tt:Manual><tt:DHCP>false</tt:DHCP>`, i.Addr, i.Bits)
	}
	var out struct {
		Reboot bool `xml:"RebootNeeded"`
	}
	err = c.Call(ctx, c.device, NSDevice+"/SetNetworkInterfaces",
		`<SetNetworkInterfaces xmlns="`+NSDevice+`"><InterfaceToken>`+Escape(i.Token)+
			`</InterfaceToken><NetworkInterface><tt:Enabled>true</tt:Enabled><tt:IPv4>`+ipv4+`</tt:IPv4></NetworkInterface>`+
			`</SetNetworkInterfaces>`, &out)
	return out.Reboot, err
}

// Gateway asks for the default gateway (Core Specification §8.2.15); the zero Addr where there is none.
func (c *Client) Gateway(ctx context.Context) (netip.Addr, error) {
	var out struct {
		Addrs []string `xml:"NetworkGateway>IPv4Address"`
	}
	if err := c.Call(ctx, c.device, NSDevice+"/GetNetworkDefaultGateway", `<GetNetworkDefaultGateway xmlns="`+NSDevice+`"/>`,
		&out); err != nil {
		return netip.Addr{}, err
	}
	for _, a := range out.Addrs {
		if p, err := netip.ParseAddr(strings.TrimSpace(a)); err == nil && !p.IsUnspecified() {
			return p, nil
		}
	}
	return netip.Addr{}, nil
}

// SetGateway sets it (Core Specification §8.2.16).
func (c *Client) SetGateway(ctx context.Context, a netip.Addr) error {
	return c.Call(ctx, c.device, NSDevice+"/SetNetworkDefaultGateway",
		`<SetNetworkDefaultGateway xmlns="`+NSDevice+`"><IPv4Address>`+a.String()+`</IPv4Address></SetNetworkDefaultGateway>`, nil)
}

// Reboot restarts the device (Core Specification §8.3.10).
func (c *Client) Reboot(ctx context.Context) error {
	return c.Call(ctx, c.device, NSDevice+"/SystemReboot", `<SystemReboot xmlns="`+NSDevice+`"/>`, nil)
}

// Endpoint asks for the device's endpoint reference (Core Specification §8.3.15; needs no sign-in): who answers here? It is
// returned in the form that WS-Discovery uses, "urn:uuid:...".
func (c *Client) Endpoint(ctx context.Context) (string, error) {
	var out struct {
		GUID string `xml:"GUID"`
	}
	if err := c.Call(ctx, c.device, NSDevice+"/GetEndpointReference", `<GetEndpointReference xmlns="`+NSDevice+`"/>`, &out); err != nil {
		return "", err
	}
	guid := clip(out.GUID)
	if guid != "" && !strings.Contains(guid, ":") {
		guid = "urn:uuid:" + guid
	}
	return guid, nil
}
