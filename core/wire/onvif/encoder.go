package onvif

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"unlatch/core/stream/camera"
	"unlatch/core/stream/tuning"
)

// Bounds on what a device offers.
const (
	maxSizes    = 256
	maxProfiles = 16
	maxRates    = 64
)

// encoderXML is a video encoder configuration in the form of Media (ver10) and of Media2 (ver20): they differ in where profile and
// key-frame interval stand.
type encoderXML struct {
	Token     string  `xml:"token,attr"`
	GovAttr   int     `xml:"GovLength,attr"`
	Profile   string  `xml:"Profile,attr"`
	Name      string  `xml:"Name"`
	UseCount  int     `xml:"UseCount"`
	Encoding  string  `xml:"Encoding"`
	Width     int     `xml:"Resolution>Width"`
	Height    int     `xml:"Resolution>Height"`
	Quality   float64 `xml:"Quality"`
	GovH264   int     `xml:"H264>GovLength"`
	ProfH264  string  `xml:"H264>H264Profile"`
	GovMPEG4  int     `xml:"MPEG4>GovLength"`
	ProfMPEG4 string  `xml:"MPEG4>Mpeg4Profile"`
	Rate      struct {
		Constant string  `xml:"ConstantBitRate,attr"`
		FPS      float64 `xml:"FrameRateLimit"`
		Interval int     `xml:"EncodingInterval"`
		Bitrate  int     `xml:"BitrateLimit"`
	} `xml:"RateControl"`
	Multicast struct {
		Type string `xml:"Address>Type"`
		IPv4 string `xml:"Address>IPv4Address"`
		IPv6 string `xml:"Address>IPv6Address"`
		Port int    `xml:"Port"`
		TTL  int    `xml:"TTL"`
		Auto bool   `xml:"AutoStart"`
	} `xml:"Multicast"`
	Session string `xml:"SessionTimeout"`
}

func (x *encoderXML) encoder() tuning.Encoder {
	e := tuning.Encoder{Token: x.Token, Name: clip(x.Name), UseCount: x.UseCount, Codec: codecName(x.Encoding), Width: x.Width,
		Height: x.Height,
		FPS:    x.Rate.FPS, Kbps: x.Rate.Bitrate, GOPFrames: max(x.GovAttr, x.GovH264, x.GovMPEG4), Quality: x.Quality,
		Interval:   x.Rate.Interval,
		SessionFor: clip(x.Session)}
	e.Profile = profileNames[x.Profile+x.ProfH264+x.ProfMPEG4]
	if e.Profile == "" {
		e.Profile = clip(x.Profile + x.ProfH264 + x.ProfMPEG4)
	}
	switch x.Rate.Constant {
	case "true", "1":
		e.Control = "cbr"
	case "false", "0":
		e.Control = "vbr"
	}
	if m := x.Multicast; m.Port > 0 || m.IPv4 != "" || m.IPv6 != "" {
		kind, address := "IPv4", "<tt:IPv4Address>"+Escape(clip(m.IPv4))+"</tt:IPv4Address>"
		if m.Type == "IPv6" {
			kind, address = "IPv6", "<tt:IPv6Address>"+Escape(clip(m.IPv6))+"</tt:IPv6Address>"
		}
		e.Multicast = fmt.Sprintf("<tt:Multicast><tt:Address><tt:Type>%s</tt:Type>%s</tt:Address><tt:Port>%d</tt:Port><tt:TTL>%d</tt:TTL>"+
			"<tt:AutoStart>%t</tt:AutoStart></tt:Multicast>", kind, address, m.Port, m.TTL, m.Auto)
	}
	return e
}

// setting returns how the encoder is sent to a group.
func (x *encoderXML) setting() camera.GroupSetting {
	m := x.Multicast
	s := camera.GroupSetting{Port: min(max(m.Port, 0), 65535), TTL: min(max(m.TTL, 0), 255), Auto: m.Auto}
	if a, err := netip.ParseAddr(strings.TrimSpace(cmp.Or(m.IPv4, m.IPv6))); err == nil && a.IsMulticast() && a.Zone() == "" {
		s.Addr = a
	}
	return s
}

// profileNames are the profiles as they are measured, by the words of the two services.
var profileNames = map[string]string{"Baseline": "Baseline", "Main": "Main", "High": "High", "Extended": "Extended", "SP": "Simple",
	"ASP":    "Advanced Simple",
	"Simple": "Simple", "AdvancedSimple": "Advanced Simple", "Main10": "Main 10"}

// profileWord returns a profile as a service spells it.
func profileWord(profile string, media2 bool) string {
	switch profile {
	case "Simple":
		return map[bool]string{true: "Simple", false: "SP"}[media2]
	case "Advanced Simple":
		return map[bool]string{true: "AdvancedSimple", false: "ASP"}[media2]
	case "Constrained Baseline":
		return "Baseline"
	}
	return strings.ReplaceAll(profile, " ", "")
}

// An EncoderOf is the encoder of a media profile.
type EncoderOf struct {
	Profile     string // its token
	ProfileName string
	Fixed       bool   // the profile cannot be taken away
	Source      string // token of its video source configuration
	AudioToken  string // of its audio encoder; "" where it has none
	AudioCodec  string
	Group       camera.GroupSetting // how it is sent to a group
	tuning.Encoder
}

// Encoders asks for the encoders of all media profiles with a picture, whole (ONVIF Media Service §5.2; Media2 Service §5.2).
func (c *Client) Encoders(ctx context.Context) ([]EncoderOf, error) {
	_, ns, address, err := c.media(ctx)
	if err != nil {
		return nil, err
	}
	body := `<GetProfiles xmlns="` + ns + `"/>`
	if ns == NSMedia2 {
		body = `<GetProfiles xmlns="` + ns + `"><Type>VideoSource</Type><Type>VideoEncoder</Type><Type>AudioEncoder</Type></GetProfiles>`
	}
	type audio struct {
		Token    string `xml:"token,attr"`
		Encoding string `xml:"Encoding"`
	}
	type source struct {
		Token string `xml:"token,attr"`
	}
	var out struct {
		Profiles []struct {
			Token   string      `xml:"token,attr"`
			Fixed   string      `xml:"fixed,attr"`
			Name    string      `xml:"Name"`
			Source  source      `xml:"VideoSourceConfiguration"`
			Source2 source      `xml:"Configurations>VideoSource"`
			Encoder *encoderXML `xml:"VideoEncoderConfiguration"`
			Second  *encoderXML `xml:"Configurations>VideoEncoder"`
			Audio   audio       `xml:"AudioEncoderConfiguration"`
			Audio2  audio       `xml:"Configurations>AudioEncoder"`
		} `xml:"Profiles"`
	}
	if err := c.Call(ctx, address, ns+"/GetProfiles", body, &out); err != nil {
		return nil, err
	}
	if len(out.Profiles) > 256 {
		return nil, &LimitError{What: "more than 256 media profiles"}
	}
	var list []EncoderOf
	for _, p := range out.Profiles {
		x := p.Encoder
		if x == nil {
			x = p.Second
		}
		if x != nil && x.Width > 0 && x.Height > 0 {
			list = append(list, EncoderOf{Profile: p.Token, ProfileName: clip(p.Name), Fixed: p.Fixed == "true" || p.Fixed == "1",
				Source: cmp.Or(p.Source2.Token, p.Source.Token), AudioToken: cmp.Or(p.Audio2.Token, p.Audio.Token),
				AudioCodec: audioCodecName(cmp.Or(p.Audio2.Encoding, p.Audio.Encoding)), Group: x.setting(), Encoder: x.encoder()})
		}
	}
	return list, nil
}

type spanXML struct {
	Min float64 `xml:"Min"`
	Max float64 `xml:"Max"`
}

// span puts a range the right way round; what lies below nought is none.
func (s spanXML) span() tuning.Span {
	low, high := max(0, min(s.Min, s.Max)), max(0, s.Min, s.Max)
	return tuning.Span{Min: low, Max: high}
}

type sizeXML struct {
	Width  int `xml:"Width"`
	Height int `xml:"Height"`
}

func sizesOf(list []sizeXML) (out []tuning.Size) {
	for _, s := range list {
		if s.Width > 0 && s.Height > 0 && s.Width <= 16384 && s.Height <= 16384 && len(out) < maxSizes {
			out = append(out, tuning.Size{Width: s.Width, Height: s.Height})
		}
	}
	return out
}

func profilesOf(words []string) (out []string) {
	for _, w := range words {
		name := profileNames[strings.TrimSpace(w)]
		if name == "" {
			name = clip(w)
		}
		if name != "" && len(out) < maxProfiles {
			out = append(out, name)
		}
	}
	return out
}

// codecOptionsXML are the options of one codec in the Media service of ver10.
type codecOptionsXML struct {
	Sizes   []sizeXML `xml:"ResolutionsAvailable"`
	Gov     spanXML   `xml:"GovLengthRange"`
	FPS     spanXML   `xml:"FrameRateRange"`
	H264    []string  `xml:"H264ProfilesSupported"`
	MPEG4   []string  `xml:"Mpeg4ProfilesSupported"`
	Bitrate spanXML   `xml:"BitrateRange"`
}

func (x codecOptionsXML) options(codec string, quality tuning.Span, extension *codecOptionsXML) tuning.CodecOptions {
	o := tuning.CodecOptions{Codec: codec, Sizes: sizesOf(x.Sizes), FPSSpan: x.FPS.span(), GOP: x.Gov.span(), Quality: quality,
		Kbps:     x.Bitrate.span(),
		Profiles: profilesOf(append(x.H264, x.MPEG4...))}
	if extension != nil {
		o.Kbps = extension.Bitrate.span()
	}
	return o
}

// EncoderOptions asks what an encoder offers (ONVIF Media Service §5.5.5; Media2 Service §5.3.5).
func (c *Client) EncoderOptions(ctx context.Context, e EncoderOf) (tuning.Options, error) {
	_, ns, address, err := c.media(ctx)
	if err != nil {
		return tuning.Options{}, err
	}
	body := fmt.Sprintf(`<GetVideoEncoderConfigurationOptions xmlns="%s"><ConfigurationToken>%s</ConfigurationToken>`+
		`<ProfileToken>%s</ProfileToken>`+
		`</GetVideoEncoderConfigurationOptions>`, ns, Escape(e.Token), Escape(e.Profile))
	if ns == NSMedia2 {
		return c.options2(ctx, address, body)
	}
	var out struct {
		Options struct {
			Quality   spanXML          `xml:"QualityRange"`
			JPEG      *codecOptionsXML `xml:"JPEG"`
			MPEG4     *codecOptionsXML `xml:"MPEG4"`
			H264      *codecOptionsXML `xml:"H264"`
			Extension struct {
				JPEG  *codecOptionsXML `xml:"JPEG"`
				MPEG4 *codecOptionsXML `xml:"MPEG4"`
				H264  *codecOptionsXML `xml:"H264"`
			} `xml:"Extension"`
		} `xml:"Options"`
	}
	if err := c.Call(ctx, address, ns+"/GetVideoEncoderConfigurationOptions", body, &out); err != nil {
		return tuning.Options{}, err
	}
	var o tuning.Options
	quality := out.Options.Quality.span()
	for _, x := range []struct {
		codec           string
		has, additional *codecOptionsXML
	}{{"H.264", out.Options.H264, out.Options.Extension.H264}, {"MJPEG", out.Options.JPEG, out.Options.Extension.JPEG},
		{"MPEG-4", out.Options.MPEG4, out.Options.Extension.MPEG4}} {
		if x.has != nil {
			o.Codecs = append(o.Codecs, x.has.options(x.codec, quality, x.additional))
		}
	}
	return o, nil
}

// options2 reads the options of Media2: a set for each codec, its lists in attributes.
func (c *Client) options2(ctx context.Context, address, body string) (o tuning.Options, err error) {
	var out struct {
		Options []struct {
			CBR      string    `xml:"ConstantBitRateSupported,attr"`
			Profiles string    `xml:"ProfilesSupported,attr"`
			Rates    string    `xml:"FrameRatesSupported,attr"`
			Gov      string    `xml:"GovLengthRange,attr"`
			Encoding string    `xml:"Encoding"`
			Quality  spanXML   `xml:"QualityRange"`
			Sizes    []sizeXML `xml:"ResolutionsAvailable"`
			Bitrate  spanXML   `xml:"BitrateRange"`
		} `xml:"Options"`
	}
	if err := c.Call(ctx, address, NSMedia2+"/GetVideoEncoderConfigurationOptions", body, &out); err != nil {
		return o, err
	}
	if len(out.Options) > 16 {
		return o, &LimitError{What: "options of more than 16 codecs"}
	}
	for _, x := range out.Options {
		one := tuning.CodecOptions{Codec: codecName(x.Encoding), Sizes: sizesOf(x.Sizes),
			Profiles: profilesOf(strings.Fields(x.Profiles)), Kbps: x.Bitrate.span(),
			Quality: x.Quality.span(), CBR: x.CBR == "true" || x.CBR == "1"}
		for _, f := range strings.Fields(x.Rates) {
			if v, err := strconv.ParseFloat(f, 64); err == nil && v > 0 && v <= 240 && len(one.FPS) < maxRates {
				one.FPS = append(one.FPS, v)
			}
		}
		if gov := strings.Fields(x.Gov); len(gov) > 0 {
			low, _ := strconv.ParseFloat(gov[0], 64)
			high, _ := strconv.ParseFloat(gov[len(gov)-1], 64)
			one.GOP = spanXML{low, high}.span()
		}
		o.Codecs = append(o.Codecs, one)
	}
	return o, nil
}

// SetEncoder sends an encoder's setting, whole and to stay (ONVIF Media Service §5.5.6; Media2 Service §5.3.6).
func (c *Client) SetEncoder(ctx context.Context, e tuning.Encoder) error {
	_, ns, address, err := c.media(ctx)
	if err != nil {
		return err
	}
	var b strings.Builder
	media2 := ns == NSMedia2
	encoding := map[string]string{"H.264": "H264", "H.265": "H265", "MJPEG": "JPEG", "MPEG-4": "MPEG4"}[e.Codec]
	if encoding == "MPEG4" && media2 {
		encoding = "MPV4-ES"
	}
	if encoding == "" {
		encoding = e.Codec
	}
	attributes := ""
	if media2 {
		if e.GOPFrames > 0 {
			attributes += fmt.Sprintf(` GovLength="%d"`, e.GOPFrames)
		}
		if e.Profile != "" {
			attributes += fmt.Sprintf(` Profile="%s"`, Escape(profileWord(e.Profile, true)))
		}
	}
	fmt.Fprintf(&b,
		`<SetVideoEncoderConfiguration xmlns="%s"><Configuration token="%s"%s><tt:Name>%s</tt:Name><tt:UseCount>%d</tt:UseCount>`+
			`<tt:Encoding>%s</tt:Encoding><tt:Resolution><tt:Width>%d</tt:Width><tt:Height>%d</tt:Height></tt:Resolution>`, ns,
		Escape(e.Token), attributes,
		Escape(e.Name), e.UseCount, Escape(encoding), e.Width, e.Height)
	if media2 {
		constant := ""
		if e.Control != "" {
			constant = fmt.Sprintf(` ConstantBitRate="%t"`, e.Control == "cbr")
		}
		fmt.Fprintf(&b,
			`<tt:RateControl%s><tt:FrameRateLimit>%g</tt:FrameRateLimit><tt:BitrateLimit>%d</tt:BitrateLimit></tt:RateControl>%s`+
				`<tt:Quality>%g</tt:Quality></Configuration></SetVideoEncoderConfiguration>`, constant, e.FPS, e.Kbps, e.Multicast, e.Quality)
		return c.Call(ctx, address, ns+"/SetVideoEncoderConfiguration", b.String(), nil)
	}
	fmt.Fprintf(&b,
		`<tt:Quality>%g</tt:Quality><tt:RateControl><tt:FrameRateLimit>%.0f</tt:FrameRateLimit><tt:EncodingInterval>%d</tt:EncodingInterval>`+
			`<tt:BitrateLimit>%d</tt:BitrateLimit></tt:RateControl>`, e.Quality, e.FPS, max(1, e.Interval), e.Kbps)
	switch encoding {
	case "H264":
		fmt.Fprintf(&b, `<tt:H264><tt:GovLength>%d</tt:GovLength><tt:H264Profile>%s</tt:H264Profile></tt:H264>`, e.GOPFrames,
			Escape(profileWord(e.Profile, false)))
	case "MPEG4":
		fmt.Fprintf(&b, `<tt:MPEG4><tt:GovLength>%d</tt:GovLength><tt:Mpeg4Profile>%s</tt:Mpeg4Profile></tt:MPEG4>`, e.GOPFrames,
			Escape(profileWord(e.Profile, false)))
	}
	session := e.SessionFor
	if session == "" {
		session = "PT60S"
	}
	fmt.Fprintf(&b,
		`%s<tt:SessionTimeout>%s</tt:SessionTimeout></Configuration><ForcePersistence>true</ForcePersistence></SetVideoEncoderConfiguration>`,
		e.Multicast, Escape(session))
	return c.Call(ctx, address, ns+"/SetVideoEncoderConfiguration", b.String(), nil)
}
