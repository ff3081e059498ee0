package face

import (
	"fmt"
	"math"
	"strings"

	"unlatch/core/wire/onvif"
)

// profiles2 answers GetProfiles of Media2: with the configurations that are asked for (ONVIF Media2 Service Specification §5.2.2).
func (f *Face) profiles2(o operation) (string, *fault) {
	if t := o.arg("Token"); t != "" && t != profileToken {
		return "", noProfile()
	}
	types := strings.Join(o.args("Type"), " ")
	wanted := func(kind string) bool { return strings.Contains(types, "All") || strings.Contains(types, kind) }
	var b strings.Builder
	if wanted("VideoSource") {
		b.WriteString(`<x:VideoSource token="` + viewToken + `">` + f.viewOf() + `</x:VideoSource>`)
	}
	if wanted("AudioSource") && f.Stream.hasSound() {
		b.WriteString(`<x:AudioSource token="` + hearing + `">` + hearingOf() + `</x:AudioSource>`)
	}
	if wanted("VideoEncoder") {
		b.WriteString(`<x:VideoEncoder token="` + encoderToken + `"` + f.encoder2() + `</x:VideoEncoder>`)
	}
	if wanted("AudioEncoder") && f.Stream.hasSound() {
		b.WriteString(`<x:AudioEncoder token="` + soundToken + `">` + f.sound2() + `</x:AudioEncoder>`)
	}
	configurations := ""
	if b.Len() > 0 {
		configurations = "<x:Configurations>" + b.String() + "</x:Configurations>"
	}
	return `<x:Profiles token="` + profileToken + `" fixed="true"><x:Name>` + onvif.Escape(f.Name) + `</x:Name>` + configurations +
		`</x:Profiles>`, nil
}

// encoder2 is the encoder's configuration as Media2 has it, from behind its token on.
func (f *Face) encoder2() string {
	s := f.Stream
	gop := ""
	if s.Codec == "H.264" || s.Codec == "H.265" {
		gop = fmt.Sprintf(` GovLength="%d" Profile="%s"`, s.gop(), profile2(s))
	}
	return fmt.Sprintf(`%s><t:Name>encoder</t:Name><t:UseCount>1</t:UseCount><t:Encoding>%s</t:Encoding><t:Resolution><t:Width>%d</t:Width>`+
		`<t:Height>%d</t:Height></t:Resolution><t:RateControl><t:FrameRateLimit>%g</t:FrameRateLimit><t:BitrateLimit>%d</t:BitrateLimit>`+
		`</t:RateControl><t:Quality>1</t:Quality>`, gop, encodings2[s.Codec], s.Width, s.Height, math.Round(s.FPS*100)/100, s.bitrate())
}

// profile2 is a profile in the words of Media2.
func profile2(s Stream) string {
	if s.Codec == "H.265" {
		if s.Profile == "Main 10" {
			return "Main10"
		}
		return "Main"
	}
	return profile264(s.Profile)
}

// options2 says what the encoder can be set to: what it is.
func (f *Face) options2(operation) (string, *fault) {
	s := f.Stream
	gop := ""
	if s.Codec == "H.264" || s.Codec == "H.265" {
		gop = fmt.Sprintf(` GovLengthRange="%[1]d %[1]d" ProfilesSupported="%[2]s"`, s.gop(), profile2(s))
	}
	return fmt.Sprintf(`<x:Options%[1]s FrameRatesSupported="%[2]g" ConstantBitRateSupported="false"><t:Encoding>%[3]s</t:Encoding>`+
		`<t:QualityRange><t:Min>1</t:Min><t:Max>1</t:Max></t:QualityRange><t:ResolutionsAvailable><t:Width>%[4]d</t:Width>`+
		`<t:Height>%[5]d</t:Height></t:ResolutionsAvailable><t:BitrateRange><t:Min>%[6]d</t:Min><t:Max>%[6]d</t:Max></t:BitrateRange>`+
		`</x:Options>`, gop, math.Round(s.FPS*100)/100, encodings2[s.Codec], s.Width, s.Height, s.bitrate()), nil
}

// encodingOfSound is the sound in the words of both services.
func (s Stream) encodingOfSound() (media, media2 string) {
	switch {
	case s.Sound == "AAC":
		return "AAC", "MP4A-LATM"
	case strings.HasPrefix(s.Sound, "G.726"):
		return "G726", "G726"
	}
	return "G711", "PCMU"
}

// sound1 is the sound encoder's configuration as Media has it. Rates are those that are usual: what is heard is not measured.
func (f *Face) sound1() string {
	media, _ := f.Stream.encodingOfSound()
	return `<t:Name>sound</t:Name><t:UseCount>1</t:UseCount><t:Encoding>` + media + `</t:Encoding><t:Bitrate>64</t:Bitrate>` +
		`<t:SampleRate>8</t:SampleRate>` + noGroup + `<t:SessionTimeout>PT60S</t:SessionTimeout>`
}

// sound2 is the same as Media2 has it.
func (f *Face) sound2() string {
	_, media2 := f.Stream.encodingOfSound()
	return `<t:Name>sound</t:Name><t:UseCount>1</t:UseCount><t:Encoding>` + media2 + `</t:Encoding><t:Bitrate>64</t:Bitrate>` +
		`<t:SampleRate>8</t:SampleRate>`
}

// hearingOf is the configuration of the sound's source.
func hearingOf() string {
	return `<t:Name>hearing</t:Name><t:UseCount>1</t:UseCount><t:SourceToken>` + microphone + `</t:SourceToken>`
}

func (f *Face) audioSources(operation) (string, *fault) {
	if !f.Stream.hasSound() {
		return "", nil
	}
	return `<x:AudioSources token="` + microphone + `"><t:Channels>1</t:Channels></x:AudioSources>`, nil
}

func (f *Face) audioSource(operation) (string, *fault) {
	if !f.Stream.hasSound() {
		return "", nil
	}
	return `<x:Configurations token="` + hearing + `">` + hearingOf() + `</x:Configurations>`, nil
}

func (f *Face) audioEncoder(operation) (string, *fault) {
	if !f.Stream.hasSound() {
		return "", nil
	}
	return `<x:Configurations token="` + soundToken + `">` + f.sound1() + `</x:Configurations>`, nil
}
