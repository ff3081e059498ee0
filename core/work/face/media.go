package face

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"unlatch/core/wire/onvif"
)

// Tokens of what a face has: one of each.
const (
	profileToken = "main"
	sourceToken  = "source"
	viewToken    = "view"
	encoderToken = "encoder"
	microphone   = "microphone"
	hearing      = "hearing"
	soundToken   = "sound"
)

// mediaOperations are those of Media (ONVIF Media Service Specification, ver10). H.265 is not in it: a face with such a stream has its
// profile in Media2 alone.
var mediaOperations = map[string]func(f *Face, o operation) (string, *fault){
	"GetServiceCapabilities": func(*Face, operation) (string, *fault) { return mediaCapabilities("x"), nil },
	"GetProfiles": func(f *Face, _ operation) (string, *fault) {
		if !f.Stream.inMedia1() {
			return "", nil
		}
		return f.profile1("Profiles"), nil
	},
	"GetProfile": func(f *Face, o operation) (string, *fault) {
		if o.arg("ProfileToken") != profileToken || !f.Stream.inMedia1() {
			return "", noProfile()
		}
		return f.profile1("Profile"), nil
	},
	"GetVideoSources":                         (*Face).videoSources,
	"GetVideoSourceConfigurations":            viewAs("Configurations"),
	"GetVideoSourceConfiguration":             viewAs("Configuration"),
	"GetCompatibleVideoSourceConfigurations":  viewAs("Configurations"),
	"GetVideoEncoderConfigurations":           encoderAs("Configurations"),
	"GetVideoEncoderConfiguration":            encoderAs("Configuration"),
	"GetCompatibleVideoEncoderConfigurations": encoderAs("Configurations"),
	"GetVideoEncoderConfigurationOptions":     (*Face).options1,
	"GetGuaranteedNumberOfVideoEncoderInstances": func(*Face, operation) (string, *fault) {
		return "<x:TotalNumber>1</x:TotalNumber>", nil
	},
	"GetAudioSources":               (*Face).audioSources,
	"GetAudioSourceConfigurations":  (*Face).audioSource,
	"GetAudioEncoderConfigurations": (*Face).audioEncoder,
	"GetStreamUri": func(f *Face, o operation) (string, *fault) {
		if bad := f.streamAsked(o); bad != nil {
			return "", bad
		}
		return "<x:MediaUri><t:Uri>" + onvif.Escape(f.Stream.URI) + "</t:Uri><t:InvalidAfterConnect>false</t:InvalidAfterConnect>" +
			"<t:InvalidAfterReboot>false</t:InvalidAfterReboot><t:Timeout>PT0S</t:Timeout></x:MediaUri>", nil
	},
	"GetSnapshotUri": func(f *Face, o operation) (string, *fault) {
		if bad := f.pictureAsked(o); bad != nil {
			return "", bad
		}
		return "<x:MediaUri><t:Uri>" + f.snapshotURI() + "</t:Uri><t:InvalidAfterConnect>false</t:InvalidAfterConnect>" +
			"<t:InvalidAfterReboot>false</t:InvalidAfterReboot><t:Timeout>PT0S</t:Timeout></x:MediaUri>", nil
	},
	"SetVideoEncoderConfiguration": (*Face).setEncoder,
	"SetSynchronizationPoint":      synchronize,
}

// media2Operations are those of Media2 (ONVIF Media2 Service Specification, ver20).
var media2Operations = map[string]func(f *Face, o operation) (string, *fault){
	"GetServiceCapabilities":       func(*Face, operation) (string, *fault) { return media2Capabilities("x"), nil },
	"GetProfiles":                  (*Face).profiles2,
	"GetVideoSourceConfigurations": viewAs("Configurations"),
	"GetVideoEncoderConfigurations": func(f *Face, _ operation) (string, *fault) {
		return `<x:Configurations token="` + encoderToken + `"` + f.encoder2() + "</x:Configurations>", nil
	},
	"GetVideoEncoderConfigurationOptions": (*Face).options2,
	"GetVideoEncoderInstances": func(f *Face, _ operation) (string, *fault) {
		return "<x:Info><x:Codec><x:Encoding>" + encodings2[f.Stream.Codec] + "</x:Encoding><x:Number>1</x:Number></x:Codec>" +
			"<x:Total>1</x:Total></x:Info>", nil
	},
	"GetAudioEncoderConfigurations": func(f *Face, _ operation) (string, *fault) {
		if !f.Stream.hasSound() {
			return "", nil
		}
		return `<x:Configurations token="` + soundToken + `">` + f.sound2() + "</x:Configurations>", nil
	},
	"GetStreamUri": func(f *Face, o operation) (string, *fault) {
		if bad := f.streamAsked(o); bad != nil {
			return "", bad
		}
		return "<x:Uri>" + onvif.Escape(f.Stream.URI) + "</x:Uri>", nil
	},
	"GetSnapshotUri": func(f *Face, o operation) (string, *fault) {
		if bad := f.pictureAsked(o); bad != nil {
			return "", bad
		}
		return "<x:Uri>" + f.snapshotURI() + "</x:Uri>", nil
	},
	"SetVideoEncoderConfiguration": (*Face).setEncoder,
	"SetSynchronizationPoint":      synchronize,
}

func noProfile() *fault { return invalid("ter:NoProfile", "There is no profile with that token.") }

// synchronize answers SetSynchronizationPoint: what is served on begins with a key frame for everybody.
func synchronize(_ *Face, o operation) (string, *fault) {
	if o.arg("ProfileToken") != profileToken {
		return "", noProfile()
	}
	return "", nil
}

// streamAsked judges a request for the stream's URI.
func (f *Face) streamAsked(o operation) *fault {
	if o.arg("ProfileToken") != profileToken {
		return noProfile()
	}
	multicast := strings.EqualFold(o.arg("Stream"), "RTP-Multicast") || strings.EqualFold(o.arg("Protocol"), "RtspMulticast")
	if multicast || strings.EqualFold(o.arg("Protocol"), "HTTP") || strings.EqualFold(o.arg("Protocol"), "RtspOverHttp") {
		return invalid("ter:InvalidStreamSetup", "The stream is to be had by RTSP, over TCP or in datagrams to one taker.")
	}
	return nil
}

func (f *Face) pictureAsked(o operation) *fault {
	switch {
	case o.arg("ProfileToken") != profileToken:
		return noProfile()
	case f.Snapshot == nil:
		return &fault{"s:Receiver", "ter:ActionNotSupported", "", "There is no snapshot."}
	}
	return nil
}

func (f *Face) snapshotURI() string { return "http://" + f.At.String() + snapshotPath }

// mediaCapabilities are those of Media; prefix is that of its namespace.
func mediaCapabilities(prefix string) string {
	return ns(prefix, onvif.NSMedia, `<%[1]s:Capabilities%[2]s SnapshotUri="true" Rotation="false" OSD="false">`+
		`<%[1]s:ProfileCapabilities MaximumNumberOfProfiles="1"/><%[1]s:StreamingCapabilities RTPMulticast="false" RTP_TCP="true" `+
		`RTP_RTSP_TCP="true" NonAggregateControl="false"/></%[1]s:Capabilities>`)
}

// media2Capabilities are those of Media2.
func media2Capabilities(prefix string) string {
	return ns(prefix, onvif.NSMedia2, `<%[1]s:Capabilities%[2]s SnapshotUri="true" Rotation="false" OSD="false">`+
		`<%[1]s:ProfileCapabilities MaximumNumberOfProfiles="1" ConfigurationsSupported="VideoSource VideoEncoder AudioEncoder"/>`+
		`<%[1]s:StreamingCapabilities RTSPStreaming="true" RTPMulticast="false" RTP_RTSP_TCP="true" NonAggregateControl="false"/>`+
		`</%[1]s:Capabilities>`)
}

// ns writes XML with a prefix, which is declared where it is not that of the service itself.
func ns(prefix, namespace, format string) string {
	declared := ""
	if prefix != "x" {
		declared = ` xmlns:` + prefix + `="` + namespace + `"`
	}
	return fmt.Sprintf(format, prefix, declared)
}

// encodings1 and encodings2 are how Media and Media2 call codecs.
var (
	encodings1 = map[string]string{"H.264": "H264", "MJPEG": "JPEG", "MPEG-4": "MPEG4"}
	encodings2 = map[string]string{"H.264": "H264", "H.265": "H265", "MJPEG": "JPEG", "MPEG-4": "MPV4-ES"}
)

func (s Stream) inMedia1() bool { return encodings1[s.Codec] != "" }

func (s Stream) hasSound() bool { return s.Sound != "" && s.Sound != "none" }

// frames is the frame rate as a whole number, which Media knows alone.
func (s Stream) frames() int { return max(1, int(math.Round(s.FPS))) }

func (s Stream) bitrate() int { return max(1, int(math.Round(s.Kbps))) }

// gop is the number of frames between key frames.
func (s Stream) gop() int { return max(1, s.GOP) }

// profile1 is the profile as Media has it.
func (f *Face) profile1(element string) string {
	sound := ""
	if f.Stream.hasSound() {
		sound = `<t:AudioSourceConfiguration token="` + hearing + `">` + hearingOf() + `</t:AudioSourceConfiguration>`
	}
	heard := ""
	if f.Stream.hasSound() {
		heard = `<t:AudioEncoderConfiguration token="` + soundToken + `">` + f.sound1() + `</t:AudioEncoderConfiguration>`
	}
	return fmt.Sprintf(`<x:%[1]s token="%[2]s" fixed="true"><t:Name>%[3]s</t:Name><t:VideoSourceConfiguration token="%[4]s">%[5]s`+
		`</t:VideoSourceConfiguration>%[6]s<t:VideoEncoderConfiguration token="%[7]s">%[8]s</t:VideoEncoderConfiguration>%[9]s</x:%[1]s>`,
		element, profileToken, onvif.Escape(f.Name), viewToken, f.viewOf(), sound, encoderToken, f.encoderOf(), heard)
}

// viewOf is the video source's configuration: all of the picture.
func (f *Face) viewOf() string {
	return fmt.Sprintf(`<t:Name>view</t:Name><t:UseCount>1</t:UseCount><t:SourceToken>%s</t:SourceToken>`+
		`<t:Bounds x="0" y="0" width="%d" height="%d"/>`, sourceToken, f.Stream.Width, f.Stream.Height)
}

// viewAs answers for the configurations of the video source.
func viewAs(element string) func(f *Face, o operation) (string, *fault) {
	return func(f *Face, o operation) (string, *fault) {
		if t := o.arg("ConfigurationToken"); t != "" && t != viewToken {
			return "", invalid("ter:NoConfig", "There is no configuration with that token.")
		}
		return `<x:` + element + ` token="` + viewToken + `">` + f.viewOf() + `</x:` + element + `>`, nil
	}
}

func (f *Face) videoSources(operation) (string, *fault) {
	return fmt.Sprintf(`<x:VideoSources token="%s"><t:Framerate>%g</t:Framerate><t:Resolution><t:Width>%d</t:Width><t:Height>%d</t:Height>`+
		`</t:Resolution></x:VideoSources>`, sourceToken, f.Stream.FPS, f.Stream.Width, f.Stream.Height), nil
}

// noGroup is where a stream would be sent to a group: nowhere.
const noGroup = `<t:Multicast><t:Address><t:Type>IPv4</t:Type><t:IPv4Address>0.0.0.0</t:IPv4Address></t:Address><t:Port>0</t:Port>` +
	`<t:TTL>1</t:TTL><t:AutoStart>false</t:AutoStart></t:Multicast>`

// encoderOf is the encoder's configuration as Media has it.
func (f *Face) encoderOf() string {
	s := f.Stream
	kind := ""
	if s.Codec == "H.264" {
		kind = fmt.Sprintf("<t:H264><t:GovLength>%d</t:GovLength><t:H264Profile>%s</t:H264Profile></t:H264>", s.gop(), profile264(s.Profile))
	}
	return fmt.Sprintf(`<t:Name>encoder</t:Name><t:UseCount>1</t:UseCount><t:Encoding>%s</t:Encoding><t:Resolution><t:Width>%d</t:Width>`+
		`<t:Height>%d</t:Height></t:Resolution><t:Quality>1</t:Quality><t:RateControl><t:FrameRateLimit>%d</t:FrameRateLimit>`+
		`<t:EncodingInterval>1</t:EncodingInterval><t:BitrateLimit>%d</t:BitrateLimit></t:RateControl>%s%s`+
		`<t:SessionTimeout>PT60S</t:SessionTimeout>`, encodings1[s.Codec], s.Width, s.Height, s.frames(), s.bitrate(), kind, noGroup)
}

// profile264 is a profile of H.264 in the words of Media, which knows four.
func profile264(name string) string {
	switch {
	case strings.Contains(name, "Baseline"):
		return "Baseline"
	case strings.HasPrefix(name, "High"):
		return "High"
	case name == "Extended":
		return "Extended"
	}
	return "Main"
}

// encoderAs answers for the configurations of the encoder.
func encoderAs(element string) func(f *Face, o operation) (string, *fault) {
	return func(f *Face, o operation) (string, *fault) {
		switch t := o.arg("ConfigurationToken"); {
		case t != "" && t != encoderToken || element == "Configuration" && !f.Stream.inMedia1():
			return "", invalid("ter:NoConfig", "There is no configuration with that token.")
		case !f.Stream.inMedia1():
			return "", nil
		}
		return `<x:` + element + ` token="` + encoderToken + `">` + f.encoderOf() + `</x:` + element + `>`, nil
	}
}

// options1 says what the encoder can be set to: what it is.
func (f *Face) options1(operation) (string, *fault) {
	s := f.Stream
	size := fmt.Sprintf("<t:ResolutionsAvailable><t:Width>%d</t:Width><t:Height>%d</t:Height></t:ResolutionsAvailable>", s.Width, s.Height)
	rates := span("FrameRateRange", s.frames()) + span("EncodingIntervalRange", 1)
	kind := ""
	switch s.Codec {
	case "H.264":
		kind = "<t:H264>" + size + span("GovLengthRange", s.gop()) + rates + "<t:H264ProfilesSupported>" + profile264(s.Profile) +
			"</t:H264ProfilesSupported></t:H264>"
	case "MJPEG":
		kind = "<t:JPEG>" + size + rates + "</t:JPEG>"
	}
	return "<x:Options>" + span("QualityRange", 1) + kind + "</x:Options>", nil
}

// span is a range of one value.
func span(element string, v int) string {
	return fmt.Sprintf("<t:%[1]s><t:Min>%[2]d</t:Min><t:Max>%[2]d</t:Max></t:%[1]s>", element, v)
}

// setEncoder takes a setting that is what the encoder has already, as many clients write back what they have read. Any other is refused:
// the stream is the camera's.
func (f *Face) setEncoder(o operation) (string, *fault) {
	s := f.Stream
	same := func(name string, has int) bool {
		v := o.arg(name)
		n, err := strconv.ParseFloat(v, 64)
		return v == "" || err == nil && int(math.Round(n)) == has
	}
	encoding := o.arg("Encoding")
	if (encoding == "" || encoding == encodings1[s.Codec] || encoding == encodings2[s.Codec]) && same("Width", s.Width) &&
		same("Height", s.Height) && same("FrameRateLimit", s.frames()) {
		return "", nil
	}
	return "", invalid("ter:ConfigModify", "The settings of this stream are read-only: it is served on as the camera sends it.")
}
