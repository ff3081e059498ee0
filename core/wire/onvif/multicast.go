package onvif

import (
	"context"
	"fmt"
	"unlatch/core/stream/camera"
)

// SetMulticast sets the group, port and TTL to which an encoder's pictures are sent, and leaves the rest of it as it is (ONVIF
// Media Service §5.5.6; Media2 Service §5.3.6).
func (c *Client) SetMulticast(ctx context.Context, e EncoderOf, s camera.GroupSetting) error {
	to := e.Encoder
	to.Multicast = multicastXML(s)
	return c.SetEncoder(ctx, to)
}

func multicastXML(s camera.GroupSetting) string {
	kind, address := "IPv4", "<tt:IPv4Address>"+s.Addr.String()+"</tt:IPv4Address>"
	switch {
	case !s.Addr.IsValid(): // what undo puts back where there was no group
		address = "<tt:IPv4Address>0.0.0.0</tt:IPv4Address>"
	case s.Addr.Is6():
		kind, address = "IPv6", "<tt:IPv6Address>"+s.Addr.String()+"</tt:IPv6Address>"
	}
	return fmt.Sprintf("<tt:Multicast><tt:Address><tt:Type>%s</tt:Type>%s</tt:Address><tt:Port>%d</tt:Port><tt:TTL>%d</tt:TTL>"+
		"<tt:AutoStart>%t</tt:AutoStart></tt:Multicast>", kind, address, s.Port, s.TTL, s.Auto)
}

// SendToGroup has a device send the pictures of a profile to its group, or end that (ONVIF Media Service §5.20, Media2 Service §5.11).
func (c *Client) SendToGroup(ctx context.Context, profile string, on bool) error {
	_, ns, address, err := c.media(ctx)
	if err != nil {
		return err
	}
	name := "StopMulticastStreaming"
	if on {
		name = "StartMulticastStreaming"
	}
	return c.Call(ctx, address, ns+"/"+name, "<"+name+` xmlns="`+ns+`">`+profileToken(profile)+"</"+name+">", nil)
}
