package sim

import (
	"fmt"
	"strings"
)

// A maker is a dialect: ports, path shape, sign-in and XML prefixes of one invented maker's devices.
type maker struct {
	name       string // as the devices spell it
	web        int
	rtsp       int
	server     string
	media2     bool
	mute       bool     // has no device service
	pictures   string   // where its pictures over HTTP are; "" for none
	stale      int      // seconds for which a nonce of its streams is good; 0 for ever
	apart      bool     // its streams take no administrator: they have users of their own, of which there are none at first
	reboots    bool     // wants a restart before a new address takes effect
	httpAuth   []string // challenge schemes of its web side; none means WS-UsernameToken
	streamAuth []string
	path       func(channel, stream int) string
	prefixes   [4]string // SOAP, device, service at hand, schema
}

var makers = map[string]maker{
	"corvane": {
		name: "Corvane", web: 80, rtsp: 554, server: "Corvane-Media/2.4", pictures: "/vista/still",
		streamAuth: []string{"MD5"},
		path: func(ch, st int) string {
			return fmt.Sprintf("/vista/ch%d/%s", ch, []string{"primary", "secondary", "tertiary"}[st%3])
		},
		prefixes: [4]string{"env", "tds", "trt", "tt"},
	},
	"lumenhythe": {
		name: "Lumenhythe", web: 8080, rtsp: 8554, server: "lhd 7", pictures: "/lantern/glint", stale: 5, media2: true, reboots: true,
		httpAuth:   []string{"SHA-256", "MD5"},
		streamAuth: []string{"SHA-256", "MD5"},
		path:       func(ch, st int) string { return fmt.Sprintf("/lantern/%d?glow=live", ch*8+st+1) },
		prefixes:   [4]string{"SOAP-ENV", "ns2", "ns7", "ns1"},
	},
	"ostrel": {
		name: "Ostrel", web: 8080, rtsp: 7554, server: "Ostrel stream 3", mute: true, pictures: "/orrery/plate",
		streamAuth: []string{"basic"},
		path:       func(_, st int) string { return "/orrery/" + []string{"crown", "belt", "hem"}[st%3] },
		prefixes:   [4]string{"s", "d", "x", "t"},
	},
	"brackwell": {
		name: "Brackwell", web: 80, rtsp: 5540, server: "Brackwell flow 5", pictures: "/Weir/Still", apart: true,
		httpAuth:   []string{"MD5"},
		streamAuth: []string{"MD5"},
		path: func(ch, st int) string {
			return fmt.Sprintf("/Weir?Sluice=%d&Flow=%s", ch, []string{"Flood", "Trickle", "Seep"}[st%3])
		},
		prefixes: [4]string{"S11", "dev", "svc", "sch"},
	},
	"doorstead": {
		name: "Doorstead", web: 80, rtsp: 554, server: "Doorstead call", pictures: "/porch/glance",
		httpAuth:   []string{"MD5"},
		streamAuth: []string{"MD5"},
		path:       func(_, st int) string { return "/porch/" + []string{"wide", "narrow", "least"}[st%3] },
		prefixes:   [4]string{"SOAP", "td", "tr", "ts"},
	},
	// Things that answer discovery and are no cameras: printers, lamps, computers.
	"plain": {name: "Plain", web: 8080, server: "plain", prefixes: [4]string{"s", "d", "x", "t"}},
	"holloway": {
		name: "Holloway", web: 8080, rtsp: 554, server: "Holloway",
		httpAuth:   []string{"MD5"},
		streamAuth: []string{"MD5"},
		path:       func(ch, st int) string { return fmt.Sprintf("/strongroom/%d/%d", ch, st) },
		prefixes:   [4]string{"s", "d", "x", "onvif"},
	},
}

// spellings are the makers' prefixes, made once: a thousand stand-ins answer one probe.
var spellings = func() map[string]*strings.Replacer {
	out := map[string]*strings.Replacer{}
	for _, m := range makers {
		var pairs []string
		for i, p := range []string{"S", "D", "X", "T"} {
			own := m.prefixes[i]
			// Elements, declarations, and names in content, as fault codes have them.
			pairs = append(pairs, "<"+p+":", "<"+own+":", "</"+p+":", "</"+own+":", " xmlns:"+p+"=", " xmlns:"+own+"=", ">"+p+":", ">"+own+":")
		}
		out[m.name] = strings.NewReplacer(pairs...)
	}
	return out
}()

// dialect writes XML that this package composes with the prefixes S:, D:, X: and T: in the maker's own prefixes.
func (m maker) dialect(xml string) string { return spellings[m.name].Replace(xml) }

// challenges returns the WWW-Authenticate lines for a realm and nonce.
func challenges(schemes []string, realm, nonce string) (out []string) {
	for _, s := range schemes {
		switch s {
		case "basic":
			out = append(out, `Basic realm="`+realm+`"`)
		case "MD5":
			out = append(out, `Digest realm="`+realm+`", nonce="`+nonce+`", qop="auth"`)
		default:
			out = append(out, `Digest realm="`+realm+`", nonce="`+nonce+`", qop="auth", algorithm=`+s)
		}
	}
	return out
}
