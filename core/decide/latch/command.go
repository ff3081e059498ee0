package latch

import (
	"fmt"
	"slices"

	"unlatch/core/decide/evidence"
	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/recipe"
	"unlatch/core/stream/sighting"
)

// CommandKind returns what is known of what the device is, for commands of its maker.
func (s *Status) CommandKind() recipe.Kind {
	k := recipe.Kind{Makers: []string{s.Device.Maker, s.Device.Name}, Model: s.Device.Hardware}
	if in := s.SignedIn; in != nil && in.Info.Manufacturer != "" {
		k.Makers, k.Model, k.Firmware = append(k.Makers, in.Info.Manufacturer), in.Info.Model, in.Info.Firmware
	}
	if r := s.Reached; r != nil && r.StreamServer != nil {
		k.Makers = append(k.Makers, r.StreamServer.Server)
	}
	return k
}

// CommandStanding returns the newest record of a command that stands on the device or was begun; nil where there is none of the name.
func (s *Status) CommandStanding(name string) *evidence.Commanded {
	i := slices.IndexFunc(s.Commanded, func(b evidence.Commanded) bool { return b.Command.Name == name })
	if i < 0 {
		return nil
	}
	return &s.Commanded[i]
}

// OwnPage returns where the device's own page is, as scheme, host and port: where it was found, else where its device service is, else its
// first web port. ok is false where none is known.
func (s *Status) OwnPage() (at string, ok bool) {
	named := []string{s.Device.XAddr}
	if s.Web != nil {
		named = []string{s.Web.URL, s.Device.XAddr}
	}
	for _, at := range named {
		if u, err := streamurl.Parse(at); err == nil && u.HTTP() && u.Host == s.Device.Addr.String() {
			return fmt.Sprintf("%s://%s", u.Scheme, u.HostPort()), true
		}
	}
	ports := s.WebPorts()
	if len(ports) == 0 {
		return "", false
	}
	scheme := "http"
	if ports[0].Speaks == "https" {
		scheme = "https"
	}
	return fmt.Sprintf("%s://%s:%d", scheme, s.Device.Addr, ports[0].Number), true
}

// WebPorts returns the ports at which the device speaks HTTP, plain or over TLS.
func (s *Status) WebPorts() (out []sighting.Port) {
	for _, p := range s.Device.Ports {
		if p.Speaks == "http" || p.Speaks == "device service" || p.Speaks == "https" {
			out = append(out, p)
		}
	}
	return out
}
