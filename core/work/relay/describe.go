package relay

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"unlatch/core/ground/wiretext"
	"unlatch/core/stream/media"
	"unlatch/core/wire/player"
	"unlatch/core/work/fanout"
)

// describe returns the description (RFC 8866) of a stream. Track n is named "track<n>", as package rtsp has it.
func describe(c *fanout.Consumer) string {
	tracks := slices.Clone(c.Tracks())
	for i, t := range tracks {
		if c.Session().Carried() && t.Codec == "H264" {
			tracks[i].Fmtp = maps.Clone(t.Fmtp)
			if tracks[i].Fmtp == nil {
				tracks[i].Fmtp = map[string]string{}
			}
			tracks[i].Fmtp["packetization-mode"] = "1" // its units are cut (RFC 6184 §6.3)
		}
	}
	return descriptionOf(tracks)
}

func descriptionOf(tracks []player.Track) string {
	var b strings.Builder
	b.WriteString("v=0\r\no=- 0 0 IN IP4 0.0.0.0\r\ns=Unlatch relay\r\nc=IN IP4 0.0.0.0\r\nt=0 0\r\na=control:*\r\na=range:npt=0-\r\n")
	for i, t := range tracks {
		fmt.Fprintf(&b, "m=%s 0 RTP/AVP %d\r\na=control:track%d\r\n", t.Kind, t.Payload, i+1)
		if t.Codec != "" {
			b.WriteString(rtpmap(t.Track))
		}
		if len(t.Fmtp) > 0 {
			var list []string
			for _, name := range slices.Sorted(maps.Keys(t.Fmtp)) {
				list = append(list, wiretext.Line(name, 100)+"="+wiretext.Line(t.Fmtp[name], 4000))
			}
			fmt.Fprintf(&b, "a=fmtp:%d %s\r\n", t.Payload, strings.Join(list, ";"))
		}
	}
	return b.String()
}

func rtpmap(t media.Track) string {
	channels := ""
	if t.Channels > 1 {
		channels = fmt.Sprintf("/%d", t.Channels)
	}
	return fmt.Sprintf("a=rtpmap:%d %s/%d%s\r\n", t.Payload, t.Codec, t.ClockRate, channels)
}
