package onvif

import (
	"context"
	"fmt"
	"strings"
	"unlatch/core/stream/camera"
)

// NSPTZ is the PTZ service (ONVIF PTZ Service Specification).
const NSPTZ = "http://www.onvif.org/ver20/ptz/wsdl"

// A PTZ is what a camera says of its moving parts.
type PTZ struct {
	Absolute bool // it can be sent to a position
	At       *camera.Position
	Moving   bool
}

// NoPTZError is a camera that cannot be moved, or not so that it is sure to look where it did before.
type NoPTZError struct{ Why string }

func (e *NoPTZError) Error() string { return e.Why }

// PTZ asks whether a camera moves and where it looks (ONVIF PTZ Service §5.2.1, §5.3.5). profile is the token of one of its media
// profiles. A camera without moving parts gives a *NoPTZError.
func (c *Client) PTZ(ctx context.Context, profile string) (p PTZ, err error) {
	if _, err := c.Services(ctx); err != nil {
		return p, err
	}
	if c.services[NSPTZ] == "" {
		return p, &NoPTZError{"the camera has no moving parts: it names no PTZ service"}
	}
	var nodes struct {
		Nodes []struct {
			Spaces struct {
				Absolute []struct{} `xml:"AbsolutePanTiltPositionSpace"`
			} `xml:"SupportedPTZSpaces"`
		} `xml:"PTZNode"`
	}
	if err := c.ptz(ctx, "GetNodes", "", &nodes); err != nil {
		return p, err
	}
	if len(nodes.Nodes) > maxProfiles {
		return p, &LimitError{What: "more than 16 PTZ nodes"}
	}
	for _, n := range nodes.Nodes {
		p.Absolute = p.Absolute || len(n.Spaces.Absolute) > 0
	}
	p.At, p.Moving, err = c.Looks(ctx, profile)
	return p, err
}

// Looks asks where a camera looks now; nil where it does not say.
func (c *Client) Looks(ctx context.Context, profile string) (at *camera.Position, moving bool, err error) {
	var out struct {
		Status struct {
			PanTilt *struct {
				X float64 `xml:"x,attr"`
				Y float64 `xml:"y,attr"`
			} `xml:"Position>PanTilt"`
			Zoom struct {
				X float64 `xml:"x,attr"`
			} `xml:"Position>Zoom"`
			Moves string `xml:"MoveStatus>PanTilt"`
		} `xml:"PTZStatus"`
	}
	if err := c.ptz(ctx, "GetStatus", profileToken(profile), &out); err != nil {
		return nil, false, err
	}
	moving = strings.EqualFold(strings.TrimSpace(out.Status.Moves), "MOVING")
	if pt := out.Status.PanTilt; pt != nil && within(pt.X) && within(pt.Y) && within(out.Status.Zoom.X) {
		at = &camera.Position{Pan: pt.X, Tilt: pt.Y, Zoom: out.Status.Zoom.X}
	}
	return at, moving, nil
}

// within reports whether a coordinate can be one; it is false for what is no number.
func within(x float64) bool { return x >= -1 && x <= 1 }

// MoveTo sends a camera to a position (ONVIF PTZ Service §5.3.1).
func (c *Client) MoveTo(ctx context.Context, profile string, to camera.Position) error {
	return c.ptz(ctx, "AbsoluteMove", profileToken(profile)+
		fmt.Sprintf(`<Position><tt:PanTilt x="%g" y="%g"/><tt:Zoom x="%g"/></Position>`, to.Pan, to.Tilt, to.Zoom), nil)
}

func profileToken(token string) string { return "<ProfileToken>" + Escape(token) + "</ProfileToken>" }

func (c *Client) ptz(ctx context.Context, name, body string, into any) error {
	address, err := c.service(ctx, NSPTZ)
	if err != nil {
		return err
	}
	return c.Call(ctx, address, NSPTZ+"/"+name, "<"+name+` xmlns="`+NSPTZ+`">`+body+"</"+name+">", into)
}
