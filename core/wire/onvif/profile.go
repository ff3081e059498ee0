package onvif

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"unlatch/core/stream/tuning"
)

// maxConfigurations bounds how many encoders, overlays and the like a device may list.
const maxConfigurations = 256

// VideoEncoders asks for all encoder configurations of the device, those among them that no profile uses (ONVIF Media Service §5.5.2;
// Media2 Service §5.3.2).
func (c *Client) VideoEncoders(ctx context.Context) (list []tuning.Encoder, err error) {
	_, ns, address, err := c.media(ctx)
	if err != nil {
		return nil, err
	}
	var out struct {
		List []encoderXML `xml:"Configurations"`
	}
	if err := c.Call(ctx, address, ns+"/GetVideoEncoderConfigurations", `<GetVideoEncoderConfigurations xmlns="`+ns+`"/>`, &out); err != nil {
		return nil, err
	}
	if len(out.List) > maxConfigurations {
		return nil, &LimitError{What: "more than 256 encoders"}
	}
	for i := range out.List {
		list = append(list, out.List[i].encoder())
	}
	return list, nil
}

// Instances asks how many streams a video source can be sent as at once (ONVIF Media Service §5.5.9,
// GetGuaranteedNumberOfVideoEncoderInstances; Media2 Service §5.3.7, GetVideoEncoderInstances). source is the token of a video source
// configuration.
func (c *Client) Instances(ctx context.Context, source string) (int, error) {
	_, ns, address, err := c.media(ctx)
	if err != nil {
		return 0, err
	}
	name := "GetGuaranteedNumberOfVideoEncoderInstances"
	if ns == NSMedia2 {
		name = "GetVideoEncoderInstances"
	}
	var out struct {
		Old int `xml:"TotalNumber"`
		New int `xml:"Info>Total"`
	}
	err = c.Call(ctx, address, ns+"/"+name, fmt.Sprintf(`<%s xmlns="%s"><ConfigurationToken>%s</ConfigurationToken></%s>`, name, ns,
		Escape(source), name), &out)
	if n := cmp.Or(out.New, out.Old); n > 0 && n <= maxConfigurations {
		return n, err
	}
	return 0, err
}

// CreateProfile makes a media profile of a video source and an encoder configuration, and returns its token (ONVIF Media Service §5.2.1,
// §5.2.5, §5.2.7; Media2 Service §5.2.1). In the Media service of ver10 it takes three calls: one that fails leaves an empty profile,
// which the next try finds by its name.
func (c *Client) CreateProfile(ctx context.Context, name, source, encoder string) (token string, err error) {
	_, ns, address, err := c.media(ctx)
	if err != nil {
		return "", err
	}
	if ns == NSMedia2 {
		var out struct {
			Token string `xml:"Token"`
		}
		err := c.Call(ctx, address, ns+"/CreateProfile",
			fmt.Sprintf(`<CreateProfile xmlns="%s"><Name>%s</Name><Configuration><Type>VideoSource</Type>`+
				`<Token>%s</Token></Configuration><Configuration><Type>VideoEncoder</Type><Token>%s</Token></Configuration></CreateProfile>`, ns,
				Escape(name), Escape(source), Escape(encoder)), &out)
		return strings.TrimSpace(out.Token), err
	}
	var out struct {
		Profile struct {
			Token string `xml:"token,attr"`
		} `xml:"Profile"`
	}
	if err := c.Call(ctx, address, ns+"/CreateProfile", fmt.Sprintf(`<CreateProfile xmlns="%s"><Name>%s</Name></CreateProfile>`, ns,
		Escape(name)), &out); err != nil {
		return "", err
	}
	token = out.Profile.Token
	for _, x := range [][2]string{{"AddVideoSourceConfiguration", source}, {"AddVideoEncoderConfiguration", encoder}} {
		if err := c.Call(ctx, address, ns+"/"+x[0],
			fmt.Sprintf(`<%s xmlns="%s"><ProfileToken>%s</ProfileToken><ConfigurationToken>%s</ConfigurationToken></%s>`,
				x[0], ns, Escape(token), Escape(x[1]), x[0]), nil); err != nil {
			return token, err
		}
	}
	return token, nil
}

// ProfileNames returns the tokens of all media profiles by their names, those without a picture among them.
func (c *Client) ProfileNames(ctx context.Context) (map[string]string, error) {
	_, ns, address, err := c.media(ctx)
	if err != nil {
		return nil, err
	}
	list, err := c.profiles(ctx, address, ns)
	out := map[string]string{}
	for _, p := range list {
		out[p.Name] = p.Token
	}
	return out, err
}

// DeleteProfile takes a media profile away (ONVIF Media Service §5.2.13; Media2 Service §5.2.5).
func (c *Client) DeleteProfile(ctx context.Context, token string) error {
	_, ns, address, err := c.media(ctx)
	if err != nil {
		return err
	}
	name := "ProfileToken"
	if ns == NSMedia2 {
		name = "Token"
	}
	return c.Call(ctx, address, ns+"/DeleteProfile", fmt.Sprintf(`<DeleteProfile xmlns="%s"><%s>%s</%s></DeleteProfile>`, ns, name,
		Escape(token), name), nil)
}

// audioCodecs are the audio codecs as they are measured, by the words of the two services.
var audioCodecs = map[string]string{"G711": "G.711", "PCMU": "G.711", "PCMA": "G.711", "G726": "G.726", "AAC": "AAC", "MP4A-LATM": "AAC",
	"MPEG4-GENERIC": "AAC", "G722": "G.722", "OPUS": "Opus"}

func audioCodecName(word string) string {
	word = strings.ToUpper(strings.TrimSpace(word))
	return cmp.Or(audioCodecs[word], clip(word))
}

// AudioOptions asks which codecs an audio encoder offers, as they are measured (ONVIF Media Service §5.7.5; Media2 Service §5.3.11).
func (c *Client) AudioOptions(ctx context.Context, e EncoderOf) (codecs []string, err error) {
	_, ns, address, err := c.media(ctx)
	if err != nil {
		return nil, err
	}
	var out struct {
		Old []string `xml:"Options>Options>Encoding"`
		New []string `xml:"Options>Encoding"`
	}
	err = c.Call(ctx, address, ns+"/GetAudioEncoderConfigurationOptions", fmt.Sprintf(`<GetAudioEncoderConfigurationOptions xmlns="%s">`+
		`<ConfigurationToken>%s</ConfigurationToken><ProfileToken>%s</ProfileToken></GetAudioEncoderConfigurationOptions>`, ns,
		Escape(e.AudioToken), Escape(e.Profile)), &out)
	for _, word := range append(out.Old, out.New...) {
		if name := audioCodecName(word); name != "" && !slices.Contains(codecs, name) && len(codecs) < maxProfiles {
			codecs = append(codecs, name)
		}
	}
	return codecs, err
}

// SetAudio gives a stream's sound another codec, or takes it away where the codec is "none" (ONVIF Media Service §5.7.6, §5.2.12; Media2
// Service §5.3.12, §5.2.4).
func (c *Client) SetAudio(ctx context.Context, e EncoderOf, codec string) error {
	_, ns, address, err := c.media(ctx)
	if err != nil {
		return err
	}
	switch {
	case codec == "none" && ns == NSMedia2:
		return c.Call(ctx, address, ns+"/RemoveConfiguration", fmt.Sprintf(`<RemoveConfiguration xmlns="%s"><ProfileToken>%s</ProfileToken>`+
			`<Configuration><Type>AudioEncoder</Type></Configuration></RemoveConfiguration>`, ns, Escape(e.Profile)), nil)
	case codec == "none":
		return c.Call(ctx, address, ns+"/RemoveAudioEncoderConfiguration", fmt.Sprintf(`<RemoveAudioEncoderConfiguration xmlns="%s">`+
			`<ProfileToken>%s</ProfileToken></RemoveAudioEncoderConfiguration>`, ns, Escape(e.Profile)), nil)
	}
	words := map[string]string{"g.711": "G711", "g.726": "G726", "aac": "AAC"}
	end := "<ForcePersistence>true</ForcePersistence>"
	rest := "<tt:SessionTimeout>PT60S</tt:SessionTimeout>"
	if ns == NSMedia2 {
		words, end, rest = map[string]string{"g.711": "PCMU", "g.726": "G726", "aac": "MP4A-LATM", "g.722": "G722", "opus": "OPUS"}, "", ""
	}
	word, ok := words[strings.ToLower(codec)]
	if !ok {
		word = codec
	}
	return c.Call(ctx, address, ns+"/SetAudioEncoderConfiguration",
		fmt.Sprintf(`<SetAudioEncoderConfiguration xmlns="%s"><Configuration token="%s">`+
			`<tt:Name>audio</tt:Name><tt:UseCount>1</tt:UseCount><tt:Encoding>%s</tt:Encoding><tt:Bitrate>64</tt:Bitrate>`+
			`<tt:SampleRate>8</tt:SampleRate>%s`+
			`</Configuration>%s</SetAudioEncoderConfiguration>`, ns, Escape(e.AudioToken), Escape(word), rest, end), nil)
}

// AddAudio gives a stream the sound of an audio encoder, which undoes its removal (ONVIF Media Service §5.2.11; Media2 Service §5.2.3).
func (c *Client) AddAudio(ctx context.Context, profile, token string) error {
	_, ns, address, err := c.media(ctx)
	if err != nil {
		return err
	}
	if ns == NSMedia2 {
		return c.Call(ctx, address, ns+"/AddConfiguration",
			fmt.Sprintf(`<AddConfiguration xmlns="%s"><ProfileToken>%s</ProfileToken><Configuration>`+
				`<Type>AudioEncoder</Type><Token>%s</Token></Configuration></AddConfiguration>`, ns, Escape(profile), Escape(token)), nil)
	}
	return c.Call(ctx, address, ns+"/AddAudioEncoderConfiguration",
		fmt.Sprintf(`<AddAudioEncoderConfiguration xmlns="%s"><ProfileToken>%s</ProfileToken>`+
			`<ConfigurationToken>%s</ConfigurationToken></AddAudioEncoderConfiguration>`, ns, Escape(profile), Escape(token)), nil)
}
