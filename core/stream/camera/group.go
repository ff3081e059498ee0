package camera

import (
	"fmt"
	"net/netip"
	"slices"
)

// A GroupSetting is how a stream is sent to a group, by the device's own word (ONVIF: tt:MulticastConfiguration).
type GroupSetting struct {
	Addr netip.Addr `json:"addr,omitzero"` // the group; invalid where there is none
	Port int        `json:"port"`
	TTL  int        `json:"ttl"`
	Auto bool       `json:"auto,omitempty"` // it is sent all the time, also after a restart
}

// Group returns the group with its port; invalid where the setting names none.
func (s GroupSetting) Group() netip.AddrPort {
	if !s.Addr.IsMulticast() || s.Port < 1 || s.Port > 65535 {
		return netip.AddrPort{}
	}
	return netip.AddrPortFrom(s.Addr.Unmap(), uint16(s.Port))
}

func (s GroupSetting) String() string {
	if !s.Group().IsValid() {
		return "no group"
	}
	text := fmt.Sprintf("%s, TTL %d", s.Group(), s.TTL)
	if s.Auto {
		text += ", always on"
	}
	return text
}

// A GroupSender is one source of a group.
type GroupSender struct {
	From    netip.AddrPort `json:"from"`
	TTL     int            `json:"ttl"` // as it arrived
	Packets int            `json:"packets"`
	Lost    int            `json:"lost"` // of RTP
	Kbps    float64        `json:"kbps"` // kbit/s of UDP payload
	Kind    string         `json:"kind"` // "H.264 in RTP", "MPEG-TS" …
}

// GroupHeard is what came on a group.
type GroupHeard struct {
	Group     netip.AddrPort `json:"group"`
	Source    netip.Addr     `json:"source,omitzero"` // of a source-specific join
	Interface string         `json:"interface,omitempty"`
	ForMS     int            `json:"for_ms"`
	Senders   []GroupSender  `json:"senders"` // the loudest first
}

// Of returns what a device sends to the group; ok is false for nothing.
func (h *GroupHeard) Of(device netip.Addr) (s GroupSender, ok bool) {
	if h == nil {
		return s, false
	}
	i := slices.IndexFunc(h.Senders, func(s GroupSender) bool { return s.From.Addr() == device })
	if i < 0 {
		return s, false
	}
	return h.Senders[i], true
}
