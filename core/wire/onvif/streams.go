package onvif

import (
	"cmp"
	"context"
	"net/netip"
	"slices"
	"strings"

	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/camera"
)

// profile reads both the Media (ver10) and the Media2 (ver20) form: they differ in where the encoder's settings sit.
type profile struct {
	Token   string   `xml:"token,attr"`
	Name    string   `xml:"Name"`
	Source  string   `xml:"VideoSourceConfiguration>SourceToken"`
	Encoder *encoder `xml:"VideoEncoderConfiguration"`
	Configs *struct {
		Source  string   `xml:"VideoSource>SourceToken"`
		Encoder *encoder `xml:"VideoEncoder"`
	} `xml:"Configurations"`
}

type encoder struct {
	Encoding  string `xml:"Encoding"`
	Width     int    `xml:"Resolution>Width"`
	Height    int    `xml:"Resolution>Height"`
	GovAttr   int    `xml:"GovLength,attr"`
	GovLength int    `xml:"H264>GovLength"`
	GovMPEG4  int    `xml:"MPEG4>GovLength"`
	Rate      struct {
		FPS     float64 `xml:"FrameRateLimit"`
		Bitrate int     `xml:"BitrateLimit"`
	} `xml:"RateControl"`
}

// Profiles asks for the device's media profiles with a picture, over Media2 where the device has it, else over Media (ONVIF Media Service
// §5.2; Media2 Service §5.2). They come without roles and URLs; see StreamURL.
func (c *Client) Profiles(ctx context.Context) ([]camera.Stream, error) {
	kind, ns, address, err := c.media(ctx)
	if err != nil {
		return nil, err
	}
	profiles, err := c.profiles(ctx, address, ns)
	return streams(profiles, kind), err
}

// StreamURL asks for a profile's RTSP URL (ONVIF Media Service §5.11.1; Media2 Service §5.9.1) and puts it into the stream, see usable.
func (c *Client) StreamURL(ctx context.Context, s *camera.Stream) error {
	_, ns, address, err := c.media(ctx)
	if err != nil {
		return err
	}
	uri, err := c.streamURI(ctx, address, ns, s.Token)
	if err != nil {
		return err
	}
	return c.usable(uri, s)
}

// media returns the media service to use, with its short name and namespace.
func (c *Client) media(ctx context.Context) (kind, ns, address string, err error) {
	if _, err := c.Services(ctx); err != nil {
		return "", "", "", err
	}
	kind, ns = "media2", NSMedia2
	if c.services[NSMedia2] == "" {
		kind, ns = "media", NSMedia
	}
	address, err = c.service(ctx, ns)
	return kind, ns, address, err
}

func (c *Client) profiles(ctx context.Context, address, ns string) ([]profile, error) {
	body := `<GetProfiles xmlns="` + ns + `"/>`
	if ns == NSMedia2 {
		body = `<GetProfiles xmlns="` + ns + `"><Type>VideoSource</Type><Type>VideoEncoder</Type></GetProfiles>`
	}
	var out struct {
		Profiles []profile `xml:"Profiles"`
	}
	err := c.Call(ctx, address, ns+"/GetProfiles", body, &out)
	if len(out.Profiles) > 256 {
		return nil, &LimitError{What: "more than 256 media profiles"}
	}
	return out.Profiles, err
}

// streams turns profiles with a picture into streams. Video sources are numbered in the order in which they come.
func streams(profiles []profile, service string) (out []camera.Stream) {
	var sources []string
	for _, p := range profiles {
		source, enc := p.Source, p.Encoder
		if p.Configs != nil {
			source, enc = p.Configs.Source, p.Configs.Encoder
		}
		if enc == nil || enc.Width <= 0 || enc.Height <= 0 {
			continue
		}
		if !slices.Contains(sources, source) {
			sources = append(sources, source)
		}
		out = append(out, camera.Stream{
			Channel: slices.Index(sources, source) + 1, Token: p.Token, Name: clip(p.Name), Service: service,
			Claimed: camera.Settings{Codec: codecName(enc.Encoding), Width: enc.Width, Height: enc.Height, FPS: enc.Rate.FPS,
				BitrateKbps: enc.Rate.Bitrate, GOPFrames: max(enc.GovAttr, enc.GovLength, enc.GovMPEG4)},
		})
	}
	return out
}

func codecName(encoding string) string {
	switch strings.ToUpper(strings.TrimSpace(encoding)) {
	case "H264":
		return "H.264"
	case "H265":
		return "H.265"
	case "JPEG":
		return "MJPEG"
	case "MPEG4", "MPV4-ES": // ver10 and Media2
		return "MPEG-4"
	}
	return clip(encoding)
}

func (c *Client) streamURI(ctx context.Context, address, ns, token string) (string, error) {
	body := `<GetStreamUri xmlns="` + ns + `"><Protocol>RTSP</Protocol><ProfileToken>` + Escape(token) + `</ProfileToken></GetStreamUri>`
	if ns == NSMedia {
		body = `<GetStreamUri xmlns="` + ns +
			`"><StreamSetup><tt:Stream>RTP-Unicast</tt:Stream><tt:Transport><tt:Protocol>RTSP</tt:Protocol></tt:Transport></StreamSetup>` +
			`<ProfileToken>` + Escape(token) + `</ProfileToken></GetStreamUri>`
	}
	var out struct {
		Media  string `xml:"MediaUri>Uri"`
		Media2 string `xml:"Uri"`
	}
	err := c.Call(ctx, address, ns+"/GetStreamUri", body, &out)
	return strings.TrimSpace(cmp.Or(out.Media2, out.Media)), err
}

// usable reads a URL that the device gave for a stream. A sign-in in it is dropped, and so is a query parameter that holds one: it would be
// kept and shown with the URL. A host that the device names and that is in scope, a streamer apart or a second address, is taken at its
// word, with the device's own in reserve; any other is replaced by the host at which the device answers. s gets the URL, the reserve
// and what was changed.
func (c *Client) usable(uri string, s *camera.Stream) error {
	u, err := streamurl.Parse(uri)
	if err != nil {
		return err
	}
	var notes []string
	if u.DropSecrets() {
		notes = append(notes, "a password in its query")
	}
	own, changed, err := c.reachable(u.String())
	if err != nil {
		return err
	}
	s.URL = u.String()
	if changed {
		o, err := streamurl.Parse(own)
		if err != nil {
			return err
		}
		at := u
		at.Host = o.Host
		named, perr := netip.ParseAddr(u.Host)
		if perr == nil && c.inScope != nil && c.inScope(named) {
			s.Reserve = at.String()
		} else {
			s.URL, notes = at.String(), append([]string{u.Host}, notes...)
		}
	}
	s.Corrected = strings.Join(notes, ", ")
	return nil
}

// SnapshotURL asks for the address of a profile's still picture (Media Service §5.13.1, Media2 Service §5.9.4); "" where the device has
// none.
func (c *Client) SnapshotURL(ctx context.Context, token string) (string, error) {
	ns := NSMedia2
	address, err := c.service(ctx, ns)
	if err != nil {
		if ns = NSMedia; c.services != nil {
			address, err = c.service(ctx, ns)
		}
		if err != nil {
			return "", err
		}
	}
	var out struct {
		Media  string `xml:"MediaUri>Uri"`
		Media2 string `xml:"Uri"`
	}
	if err := c.Call(ctx, address, ns+"/GetSnapshotUri",
		`<GetSnapshotUri xmlns="`+ns+`"><ProfileToken>`+Escape(token)+`</ProfileToken></GetSnapshotUri>`, &out); err != nil {
		return "", err
	}
	uri := strings.TrimSpace(cmp.Or(out.Media2, out.Media))
	if uri == "" {
		return "", nil
	}
	u, err := streamurl.Parse(uri)
	if err != nil {
		return "", err
	}
	u.DropSecrets()
	uri, _, err = c.reachable(u.String())
	return uri, err
}
