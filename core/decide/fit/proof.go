package fit

import (
	"net/netip"

	"unlatch/core/decide/proof"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
)

// OfProof returns a stream as it was proven. What the proof does not know stays open.
func OfProof(p proof.Proof, role string, u streamurl.URL, in signin.SignIn) Stream {
	s := Stream{Role: role, Transport: p.Transport, TLS: p.TLS != nil, Port: u.DialPort(), Scheme: p.Auth, Password: in.Secret.Reveal(),
		Audio: "none"}
	if u.Datagrams() {
		s.Scheme = "" // nobody is asked, so nobody is signed in to
	}
	if a, err := netip.ParseAddr(u.Host); u.Datagrams() && (err != nil || !a.IsMulticast()) {
		s.Transport = ToOne
	}
	if v := p.Video; v != nil {
		s.Codec, s.Profile, s.Width, s.Height = v.Codec, v.Profile, v.Width, v.Height
		s.FPS, s.Kbps, s.GOPSeconds = v.FPS, v.BitrateKbps, v.GOPSeconds
		if v.Keyframes == v.Frames {
			s.GOPSeconds = 0 // every frame is a key frame: no interval is too long
		}
	}
	if p.Audio != nil {
		s.Audio = p.Audio.Codec
	}
	return s
}
