package diagnose

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"unlatch/core/ground/trouble"
	"unlatch/core/stream/camera"
	"unlatch/core/wire/multicast"
)

// A Cast is what is known of a stream that is sent to a group.
type Cast struct {
	Device     netip.Addr
	Says       camera.GroupSetting
	Sends      bool // it says that it sends with nobody asking
	Bare, RTSP *camera.GroupHeard
	RTSPGroup  netip.AddrPort
	SameAs     []Other // devices that are set to the same group and port
}

// An Other is another device.
type Other struct {
	Name string
	Addr netip.Addr
}

// Multicast lists what an installer should act on at a stream that is sent to a group, most urgent first.
func Multicast(c Cast) (out []Diagnosis) {
	add := func(d Diagnosis) { out = append(out, d) }
	group := c.Says.Group()
	if len(c.SameAs) > 0 {
		var names []string
		for _, o := range c.SameAs {
			names = append(names, o.Name)
		}
		add(Diagnosis{Cause: trouble.GroupClash,
			Summary: fmt.Sprintf("%s is the group of %s too: who joins it gets both pictures mixed, or the wrong one.", group,
				strings.Join(names, " and ")),
			Fix: "Give each stream a group of its own."})
	}
	bare, carries := c.Bare.Of(c.Device)
	asked, byRTSP := c.RTSP.Of(c.Device)
	if carries && byRTSP && c.RTSPGroup != group {
		add(Diagnosis{Cause: trouble.GroupDouble,
			Summary: fmt.Sprintf("It sends this stream twice: to %s all the time, and to %s for whoever asks by RTSP.", group, c.RTSPGroup),
			Fix:     "Stop the one that nobody uses: it loads the camera and every switch on the way.",
			Seen:    fmt.Sprintf("%.0f kbit/s and %.0f kbit/s from %s", bare.Kbps, asked.Kbps, c.Device)})
	}
	if c.Sends && c.Bare != nil && !carries {
		add(Diagnosis{Cause: trouble.GroupSilent, Summary: fmt.Sprintf("It says that it sends to %s, and nothing of it arrives here.", group),
			Fix: "Look at the switches on the way: one that watches IGMP needs a querier in this subnet, and some drop groups altogether. " +
				"A firewall of this machine is the other usual reason.",
			Seen: fmt.Sprintf("no packet from %s in %d ms on %s", c.Device, c.Bare.ForMS, interfaceName(c.Bare.Interface))})
	}
	if c.RTSP != nil && !byRTSP {
		add(Diagnosis{Cause: trouble.GroupRTSPSilent,
			Summary: fmt.Sprintf("It accepts to send to %s when asked by RTSP, and nothing of it arrives here.", c.RTSPGroup),
			Fix:     "Look at the switches on the way, and at the firewall of this machine."})
	}
	told := map[netip.AddrPort]bool{}
	for _, h := range []*camera.GroupHeard{c.Bare, c.RTSP} {
		if h == nil {
			continue
		}
		for _, s := range h.Senders {
			from := netip.AddrPortFrom(s.From.Addr(), h.Group.Port())
			same := slices.ContainsFunc(c.SameAs, func(o Other) bool { return o.Addr == s.From.Addr() })
			if s.From.Addr() != c.Device && s.Packets > 1 && !same && !told[from] {
				told[from] = true
				add(Diagnosis{Cause: trouble.GroupShared, Summary: fmt.Sprintf("%s sends to %s too.", s.From.Addr(), h.Group),
					Fix:  "Give this stream another group, or find out what that is.",
					Seen: fmt.Sprintf("%s, %d packets, %.0f kbit/s", s.Kind, s.Packets, s.Kbps)})
			}
		}
	}
	if group.IsValid() && group.Addr().Is4() && !multicast.Administered.Contains(group.Addr()) {
		add(Diagnosis{Cause: trouble.GroupOutside,
			Summary: fmt.Sprintf("%s lies outside 239.0.0.0/8: it may be assigned to something else.", group.Addr()),
			Fix:     "Give it a group in 239.0.0.0/8, which is free for use within a site."})
	}
	return out
}

func interfaceName(card string) string {
	if card == "" {
		return "the card that the system chose"
	}
	return card
}
