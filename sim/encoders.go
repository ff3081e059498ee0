package sim

import (
	"bytes"
	"context"
	"encoding/xml"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"unlatch/core/wire/onvif"
	"unlatch/sim/scene"
)

// encoderSizes are what every encoder offers beside its own, the scene drawn anew for each.
var encoderSizes = [][2]int{{1280, 720}, {640, 480}, {640, 360}, {320, 180}, {160, 90}}

// offeredSizes returns the sizes that the device offers: those of all, and those that it was delivered with.
func (d *device) offeredSizes() [][2]int {
	out := slices.Clone(encoderSizes)
	for _, f := range d.feeds() {
		if size := [2]int{f.Width, f.Height}; !slices.Contains(out, size) {
			out = append(out, size)
		}
	}
	return out
}

// discreteRates are the frame rates of devices that offer no range.
var discreteRates = []int{5, 10, 12, 15, 25}

// encoderOptions answers GetVideoEncoderConfigurationOptions in the form of ver10 or of Media2.
func (d *device) encoderOptions(media2 bool) string {
	var sizes strings.Builder
	for _, s := range d.offeredSizes() {
		fmt.Fprintf(&sizes, "<T:ResolutionsAvailable><T:Width>%d</T:Width><T:Height>%d</T:Height></T:ResolutionsAvailable>", s[0], s[1])
	}
	const bitrate = "<T:BitrateRange><T:Min>32</T:Min><T:Max>8192</T:Max></T:BitrateRange>"
	if media2 {
		rates := strings.Trim(fmt.Sprint(discreteRates), "[]")
		var b strings.Builder
		for _, codec := range []string{"H264", "H265"} {
			fmt.Fprintf(&b,
				`<X:Options GovLengthRange="1 200" FrameRatesSupported="%s" ProfilesSupported="Main" ConstantBitRateSupported="%t">`+
					`<T:Encoding>%s</T:Encoding>`+
					`<T:QualityRange><T:Min>1</T:Min><T:Max>10</T:Max>`+
					`</T:QualityRange>%s%s</X:Options>`, rates, d.Defects.Encoder != "vbr", codec, &sizes, bitrate)
		}
		return b.String()
	}
	const rate = "<T:FrameRateRange><T:Min>1</T:Min><T:Max>25</T:Max></T:FrameRateRange><T:EncodingIntervalRange><T:Min>1</T:Min>" +
		"<T:Max>1</T:Max></T:EncodingIntervalRange>"
	const gov = "<T:GovLengthRange><T:Min>1</T:Min><T:Max>200</T:Max></T:GovLengthRange>"
	h264 := gov + rate +
		"<T:H264ProfilesSupported>Baseline</T:H264ProfilesSupported><T:H264ProfilesSupported>Main</T:H264ProfilesSupported>"
	return fmt.Sprintf("<X:Options><T:QualityRange><T:Min>1</T:Min><T:Max>10</T:Max></T:QualityRange><T:JPEG>%[1]s%[2]s</T:JPEG>"+
		"<T:H264>%[1]s%[3]s</T:H264>"+
		"<T:Extension><T:JPEG>%[1]s%[2]s%[4]s</T:JPEG><T:H264>%[1]s%[3]s%[4]s</T:H264></T:Extension></X:Options>", &sizes, rate, h264,
		bitrate)
}

// wantedEncoder is a setting as it is sent.
type wantedEncoder struct {
	Token    string  `xml:"token,attr"`
	Gov      int     `xml:"GovLength,attr"`
	Encoding string  `xml:"Encoding"`
	Width    int     `xml:"Resolution>Width"`
	Height   int     `xml:"Resolution>Height"`
	FPS      float64 `xml:"RateControl>FrameRateLimit"`
	Kbps     int     `xml:"RateControl>BitrateLimit"`
	GovH264  int     `xml:"H264>GovLength"`
	Profile  string  `xml:"H264>H264Profile"`
	Cast     *struct {
		Group string `xml:"Address>IPv4Address"`
		Port  int    `xml:"Port"`
		TTL   int    `xml:"TTL"`
		Auto  bool   `xml:"AutoStart"`
	} `xml:"Multicast"`
}

// setEncoder answers SetVideoEncoderConfiguration: the stream is encoded anew, and who asks for it from now on gets that.
func (d *device) setEncoder(o operation) (string, *fault) {
	var w wantedEncoder
	if !element(o.body, "Configuration", &w) {
		return "", invalid("ter:ConfigModify", "There is no configuration")
	}
	var i int
	if _, err := fmt.Sscanf(w.Token, "enc_%d", &i); err != nil || i < 0 || i >= len(d.configured()) {
		return "", invalid("ter:NoConfig", "There is no such configuration")
	}
	codec, known := map[string]scene.Codec{"H264": scene.H264, "H265": scene.H265, "JPEG": scene.JPEG}[w.Encoding]
	offered := slices.Contains(d.offeredSizes(), [2]int{w.Width, w.Height}) && w.FPS >= 1 && w.FPS <= 25 && w.Kbps >= 32 && w.Kbps <= 8192
	switch {
	case d.Defects.Encoder == "refuses", !known, !offered, codec == scene.H265 && !d.maker.media2 && !d.Defects.Media2Only:
		return "", invalid("ter:ConfigModify", "The parameters are not valid")
	case d.Defects.Encoder == "ignores":
		return "", nil
	}
	list := slices.Clone(d.configured())
	f := &list[i]
	f.Codec, f.Width, f.Height, f.FPS, f.Kbps, f.GOP = codec, w.Width, w.Height, int(w.FPS), w.Kbps, max(w.Gov, w.GovH264, 1)
	f.Smart, f.Changes = false, [2]int{}
	if p := strings.ToLower(w.Profile); p == "baseline" || p == "main" {
		f.Profile = p
	}
	if f.Cast != nil && w.Cast != nil {
		cast := *f.Cast
		cast.Port, cast.TTL, cast.Auto = w.Cast.Port, w.Cast.TTL, w.Cast.Auto
		var err error
		if cast.Group, err = netip.ParseAddr(w.Cast.Group); err != nil || !cast.Group.IsMulticast() {
			return "", invalid("ter:ConfigModify", "The group is not valid")
		}
		f.Cast = &cast
	}
	switch d.Defects.Encoder {
	case "clamps":
		f.FPS, f.Kbps = min(f.FPS, 10), max(f.Kbps/2, 32)
	case "shares":
		if i == 0 && len(list) > 1 {
			list[1].FPS = max(1, list[1].FPS/2)
		}
	case "budget":
		withinBudget(list, i)
	}
	return "", d.resend(list)
}

// pixelBudget is how many pixels a second an encoder with a budget gets through, for all streams together.
const pixelBudget = 11_500_000

// withinBudget slows the other streams down until all fit, and then the one that was set.
func withinBudget(list []feed, set int) {
	total := func() (n int) {
		for _, f := range list {
			n += f.Width * f.Height * f.FPS
		}
		return n
	}
	for j := len(list) - 1; j >= 0; j-- {
		for j != set && total() > pixelBudget && list[j].FPS > 1 {
			list[j].FPS--
		}
	}
	for total() > pixelBudget && list[set].FPS > 1 {
		list[set].FPS--
	}
}

// configured returns the streams as the device says they are, which is what it sends unless it has a defect.
func (d *device) configured() []feed {
	shown := d.shown.Load()
	if shown == nil || d.Defects.Encoder == "forgets" && d.shownFor.Add(-1) < 0 {
		return d.sending()
	}
	return *shown
}

// forgetsAfter is how often a device that forgets still says what it was set to.
const forgetsAfter = 4

// resend sends streams as they are set from now on: they are encoded anew, and who asks for one gets that.
func (d *device) resend(list []feed) *fault {
	ctx, cancel := context.WithTimeout(d.world.ctx, 30*time.Second)
	defer cancel()
	for j := range list {
		f := &list[j]
		f.format.Codec, f.format.Width, f.format.Height, f.format.FPS, f.format.Kbps, f.format.GOP, f.format.Profile, f.format.Smart =
			f.Codec, f.Width, f.Height, f.FPS, f.Kbps, f.GOP, f.Profile, f.Smart
		clip, err := d.world.options.Media.Clip(ctx, f.format)
		if err != nil {
			return &fault{"S:Receiver", "ter:Action", "", onvif.Escape(err.Error())}
		}
		f.clip = clip
		if f.Changes[0] == 0 {
			f.other = nil
		}
	}
	switch d.Defects.Encoder {
	case "reboots":
		d.shown.Store(&list)
	case "forgets":
		d.shownFor.Store(forgetsAfter)
		d.shown.Store(&list)
	case "restarts":
		d.sends.Store(&list)
		d.world.restart(d)
	case "drops":
		d.sends.Store(&list)
		d.streams.Drop()
	default:
		d.sends.Store(&list)
	}
	return nil
}

// makeProfile puts a spare encoder into a profile of a name; the first that is left where i is below 0.
func (d *device) makeProfile(name string, i int) (int, *fault) {
	list := slices.Clone(d.configured())
	if i < 0 {
		i = slices.IndexFunc(list, func(f feed) bool { return !f.there() })
	}
	if i < 0 || i >= len(list) || list[i].there() || name == "" {
		return 0, invalid("ter:MaxNVTProfiles", "There is no room for another profile")
	}
	list[i].profile = name
	return i, d.resend(list)
}

// deleteProfile takes a profile away that somebody made.
func (d *device) deleteProfile(token string) (string, *fault) {
	list := slices.Clone(d.configured())
	var i int
	if _, err := fmt.Sscanf(token, "prof_%d", &i); err != nil || i < 0 || i >= len(list) || list[i].profile == "" {
		return "", invalid("ter:DeletionOfFixedProfile", "The profile cannot be taken away")
	}
	list[i].profile = ""
	return "", d.resend(list)
}

// setSound gives the stream of a token another sound, "" for none.
func (d *device) setSound(token, form, sound string) (string, *fault) {
	list := slices.Clone(d.configured())
	var i int
	if _, err := fmt.Sscanf(token, form, &i); err != nil || i < 0 || i >= len(list) {
		return "", invalid("ter:NoProfile", "There is no such profile")
	}
	list[i].Audio = sound
	return "", d.resend(list)
}

// setAudioEncoder answers SetAudioEncoderConfiguration.
func (d *device) setAudioEncoder(o operation) (string, *fault) {
	var w struct {
		Token    string `xml:"token,attr"`
		Encoding string `xml:"Encoding"`
	}
	sound := ""
	if element(o.body, "Configuration", &w) {
		sound = map[string]string{"G711": "true", "PCMU": "true", "AAC": "aac", "MP4A-LATM": "aac"}[w.Encoding]
	}
	if sound == "" {
		return "", invalid("ter:ConfigModify", "There is no such sound")
	}
	return d.setSound(w.Token, "aenc_%d", sound)
}

// element reads the first element with a local name.
func element(body []byte, name string, into any) bool {
	dec := xml.NewDecoder(bytes.NewReader(body))
	for {
		t, err := dec.Token()
		if err != nil {
			return false
		}
		if start, ok := t.(xml.StartElement); ok && start.Name.Local == name {
			return dec.DecodeElement(into, &start) == nil
		}
	}
}
