package bringup

import (
	"context"
	"fmt"
	"net/netip"

	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/identity"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/streamurl"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/pathprobe"
)

// A reachStep asks the ports of a device.
type reachStep struct{ *Work }

// reach asks the device's clock: harmless, needs no sign-in, and the skew is wanted for signing in.
func (w reachStep) reach(ctx context.Context) error {
	if w.d.Status.Device.XAddr == "" {
		return w.reachStream(ctx)
	}
	body, err := w.ask(ctx)
	if err != nil {
		return err
	}
	return w.Keep(ctx, Finding{Body: body})
}

// ask asks the device's clock anew, whatever is known, and returns what is recorded of the answer. The first certificate that the device
// shows is kept.
func (w reachStep) ask(ctx context.Context) (evidence.Reached, error) {
	at := w.d.Status.Device.XAddr
	w.client.clocked = false
	c, err := w.service(ctx)
	diagnosis, err := Explain(ctx, err, w.facts(at, "the device service", ""))
	if err != nil {
		return evidence.Reached{}, err
	}
	before, known := knownAgain(&w.d.Status, w.d.Via != nil)
	body := evidence.Reached{Addr: w.d.Status.Device.Addr, Service: c.Address(), TLS: c.Certificate(), SkewMS: c.Skew().Milliseconds(),
		Before: before, Known: known, Diagnosis: diagnosis}
	body.Redirected = body.Service != at
	if diagnosis == nil {
		err = proveStep(w).know(ctx, body.TLS)
	}
	return body, err
}

// reachStream asks the stream service of a device that has no device service how it judges requests.
func (w reachStep) reachStream(ctx context.Context) error {
	body := evidence.Reached{Addr: w.d.Status.Device.Addr}
	port := streamPort(w.d.Status.Device.Ports)
	if u, given := byHandStep(w).stream(); given && port == 0 {
		return byHandStep(w).reach(ctx, u)
	}
	if port == 0 {
		body.Diagnosis = &diagnose.Diagnosis{Cause: trouble.NotONVIF,
			Summary: fmt.Sprintf("%s has no device service that answers, and no stream port is known.", w.d.Addr),
			Fix:     "Switch ONVIF or RTSP on in the device's network settings, then sweep again.",
			Seen:    "no port answered GetSystemDateAndTime, and none spoke RTSP"}
		return w.Keep(ctx, Finding{Body: body})
	}
	at := "rtsp://" + netip.AddrPortFrom(body.Addr, port).String()
	c, err := w.Finder(at)
	if err != nil {
		return err
	}
	defer c.Close()
	server, err := c.Ask(ctx)
	facts := diagnose.Facts{Host: w.d.Addr, Port: int(port), Asking: "the stream service"}
	if body.Diagnosis, err = Explain(ctx, err, facts); err != nil {
		return err
	}
	if body.Diagnosis == nil {
		body.Stream, body.StreamServer = at, &server
	}
	return w.Keep(ctx, Finding{Body: body})
}

// streamPort returns the port at which something spoke RTSP; what the device itself has named goes before what was found open.
func streamPort(ports []sighting.Port) (open uint16) {
	for _, p := range ports {
		if p.Speaks != "rtsp" {
			continue
		}
		if p.Named {
			return p.Number
		}
		if open == 0 {
			open = p.Number
		}
	}
	return open
}

// Finder looks for paths at a stream service.
func (w *Work) Finder(at string) (*pathprobe.Finder, error) {
	u, err := streamurl.Parse(at)
	return &pathprobe.Finder{Dial: w.Guard, At: u, Log: w.log, Doing: func(path string) {
		w.Report.Doing(fmt.Sprintf("%s: trying %s", w.d.Title, path))
	}}, err
}

// knownAgain says where a device was before, when it has moved, and by what it is known again at its new address. One that is reached
// through a recorder does not move by itself.
func knownAgain(st *latch.Status, reachedThrough bool) (before *netip.Addr, known string) {
	here := st.Device.Addr
	if st.Before.IsValid() && st.Before != here {
		before = &st.Before
	} else if r := st.Reached; r != nil && r.Addr.IsValid() && r.Addr != here {
		before = &r.Addr
	}
	if before == nil || reachedThrough {
		return nil, ""
	}
	var was, is identity.Device
	for _, s := range st.Heard {
		d := &was
		if s.Addr == here {
			d = &is
		}
		if s.Certificate != "" {
			d.Certificate = s.Certificate
		}
		if s.MAC != "" && s.Method == sighting.Neighbours { // an announcement tells whatever it likes
			d.MAC = s.MAC
		}
	}
	if in := st.SignedIn; in != nil && in.MAC != "" {
		was.MAC = in.MAC
	}
	return before, identity.KnownAgain(was, is)
}
