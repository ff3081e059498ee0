package streamurl

import (
	"net/netip"
	"regexp"
	"strings"
)

// datagrams is the URL of a stream that is sent to a group or to an address, as players write it.
var datagrams = regexp.MustCompile(`(?i)^(udp|rtp)\s*:\s*[/\\]{2}(?:([0-9.]+)?@)?([0-9.]+|\[[0-9a-f:]+\])?:?(\d*)/?$`)

// ofDatagrams takes the URL of a stream in datagrams, and reports whether it is one. An rtp:// before an address that is no group is a
// misspelt rtsp:// as a rule, unless an @ stands there.
func (r *repairer) ofDatagrams() bool {
	m := datagrams.FindStringSubmatch(r.text)
	if m == nil {
		return false
	}
	scheme, at := strings.ToLower(m[1]), strings.Contains(r.text, "@")
	a, err := netip.ParseAddr(strings.Trim(m[3], "[]"))
	if m[3] != "" && err != nil || !a.IsMulticast() && !at && scheme == "rtp" {
		return false
	}
	if m[4] == "" {
		r.problem = "it has no port"
		if a.IsMulticast() {
			r.problem = "it names the multicast group " + a.String() + " and no port"
		}
		r.fix = "write it like udp://@239.1.2.4:20000, or paste the rtsp:// URL of the camera that sends to the group"
		r.whole = true
		return true
	}
	r.text, r.whole = scheme+"://"+m[2]+"@"+m[3]+":"+m[4], true
	return true
}
