package onvif

import (
	"cmp"
	"context"
	"net/netip"
	"slices"
	"strings"

	"unlatch/core/streamurl"
)

// Tiers of a camera's streams, from the largest picture down.
var Tiers = []string{"main", "sub", "third"}

// A Stream is one stream that a device names, with the settings that it claims for it.
type Stream struct {
	Channel   int     `json:"channel" doc:"video source, counted from 1"`
	Tier      string  `json:"tier" enum:"main,sub,third"`
	Profile   string  `json:"profile" doc:"media profile token"`
	Name      string  `json:"name,omitempty"`
	URL       string  `json:"url" doc:"without a sign-in"`
	Service   string  `json:"service" enum:"media,media2,recipe" doc:"who named the URL"`
	Corrected string  `json:"corrected,omitempty" doc:"the address that the device named, where it could not be used"`
	Reserve   string  `json:"reserve,omitempty" doc:"the URL at the device's own address, where it names another host for its streams"`
	Claimed   Claimed `json:"claimed"`
}

// Claimed is a video encoder configuration as the device states it; it is compared with what is measured.
type Claimed struct {
	Codec       string  `json:"codec"`
	Width       int     `json:"width"`
	Height      int     `json:"height"`
	FPS         float64 `json:"fps"`
	BitrateKbps int     `json:"bitrate_kbps"`
	GOPFrames   int     `json:"gop_frames"`
}

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
	Rate      struct {
		FPS     float64 `xml:"FrameRateLimit"`
		Bitrate int     `xml:"BitrateLimit"`
	} `xml:"RateControl"`
}

// Streams asks for the device's profiles and their RTSP URLs: over Media2 where the device has it, else over Media
// (ONVIF Media Service §5.2, §5.11.1; Media2 Service §5.2, §5.9.1). For each video source the largest picture is
// main, the next sub, the next third. On an error the streams that were found until then are returned too; given as have, they are
// not asked for again where their profiles are as they were.
func (c *Client) Streams(ctx context.Context, have ...Stream) ([]Stream, error) {
	if c.services == nil {
		if _, err := c.Services(ctx); err != nil {
			return nil, err
		}
	}
	kind, ns := "media2", NSMedia2
	if c.services[NSMedia2] == "" {
		kind, ns = "media", NSMedia
	}
	address, err := c.service(ctx, ns)
	if err != nil {
		return nil, err
	}
	profiles, err := c.profiles(ctx, address, ns)
	if err != nil {
		return nil, err
	}
	var out []Stream
	for _, p := range rank(profiles) {
		if i := slices.IndexFunc(have, func(h Stream) bool {
			return h.Profile == p.Profile && h.Channel == p.Channel && h.Claimed == p.Claimed && h.URL != ""
		}); i >= 0 {
			out = append(out, have[i])
			continue
		}
		uri, err := c.streamURI(ctx, address, ns, p.Profile)
		if err != nil {
			return out, err
		}
		if err := c.usable(uri, &p); err != nil {
			return out, err
		}
		p.Service = kind
		out = append(out, p)
	}
	return out, nil
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

// rank turns profiles with a picture into streams, tiered by picture size within each video source.
func rank(profiles []profile) []Stream {
	var sources []string
	bySource := map[string][]Stream{}
	for _, p := range profiles {
		source, enc := p.Source, p.Encoder
		if p.Configs != nil {
			source, enc = p.Configs.Source, p.Configs.Encoder
		}
		if enc == nil || enc.Width <= 0 || enc.Height <= 0 {
			continue
		}
		if _, known := bySource[source]; !known {
			sources = append(sources, source)
		}
		bySource[source] = append(bySource[source], Stream{
			Profile: p.Token, Name: clip(p.Name),
			Claimed: Claimed{Codec: codecName(enc.Encoding), Width: enc.Width, Height: enc.Height, FPS: enc.Rate.FPS,
				BitrateKbps: enc.Rate.Bitrate, GOPFrames: max(enc.GovAttr, enc.GovLength)},
		})
	}
	var out []Stream
	for i, source := range sources {
		streams := bySource[source]
		slices.SortStableFunc(streams, func(a, b Stream) int {
			return cmp.Compare(b.Claimed.Width*b.Claimed.Height, a.Claimed.Width*a.Claimed.Height)
		})
		for n, s := range streams[:min(len(streams), len(Tiers))] {
			s.Channel, s.Tier = i+1, Tiers[n]
			out = append(out, s)
		}
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
	}
	return clip(encoding)
}

func (c *Client) streamURI(ctx context.Context, address, ns, token string) (string, error) {
	body := `<GetStreamUri xmlns="` + ns + `"><Protocol>RTSP</Protocol><ProfileToken>` + Escape(token) + `</ProfileToken></GetStreamUri>`
	if ns == NSMedia {
		body = `<GetStreamUri xmlns="` + ns + `"><StreamSetup><tt:Stream>RTP-Unicast</tt:Stream><tt:Transport><tt:Protocol>RTSP</tt:Protocol></tt:Transport></StreamSetup>` +
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
func (c *Client) usable(uri string, s *Stream) error {
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
	if err := c.Call(ctx, address, ns+"/GetSnapshotUri", `<GetSnapshotUri xmlns="`+ns+`"><ProfileToken>`+Escape(token)+`</ProfileToken></GetSnapshotUri>`, &out); err != nil {
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
