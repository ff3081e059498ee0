package bringup

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"reflect"
	"strconv"

	"unlatch/core/decide/evidence"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/discovery"
	"unlatch/core/wire/netconfig"
)

// SetAddress gives the device another address, and reports whether it has it: what the move has closed is then to be opened again. A job
// that was killed after the device had gone finds it at the new address and sends only what is not so yet.
func (w *Work) SetAddress(ctx context.Context, to camera.Network) (moved bool, err error) {
	if a := w.d.Status.Addressed; a != nil && !a.Pending && a.Diagnosis == nil && reflect.DeepEqual(a.To, to) &&
		a.Before.Addr == w.d.Status.Device.Addr && a.After.Addr != a.Before.Addr {
		mine, err := w.mine(ctx, evidence.KindAddressed, "")
		if err != nil {
			return false, err
		}
		if mine { // the work was killed after the device had gone, and before where it answers now was recorded
			return true, addressChange{w}.sightAt(ctx, a.After.Addr, serviceAt(w.d.Status.Device.XAddr, a.After.Addr))
		}
	}
	out, err := addressChange{w}.move(ctx, to)
	diagnosis, err := Explain(ctx, err, w.facts(w.d.Status.Device.XAddr, "the device service", ""))
	if err != nil {
		return false, err
	}
	if diagnosis == nil && reflect.DeepEqual(out.Before, out.After) && !(addressChange{w}).moving() {
		return true, nil // all was so already: an earlier change is what undo takes back
	}
	body := evidence.Addressed{Before: out.Before, To: to, After: out.After, Steps: out.Steps, Diagnosis: diagnosis}
	if err := w.Keep(ctx, Finding{Body: body}); err != nil || diagnosis != nil {
		return false, err
	}
	err = addressChange{w}.sightAt(ctx, out.After.Addr, out.Service)
	return err == nil, err
}

// An addressChange gives a device another address and finds it again.
type addressChange struct{ *Work }

// sightAt records that the device itself has answered at an address: what was heard at the old one is history.
func (w addressChange) sightAt(ctx context.Context, addr netip.Addr, service string) error {
	dev := w.d.Status.Device
	_, err := w.Record.Sight(ctx, sighting.Sighting{Method: sighting.WSDiscovery, At: w.now(), Addr: addr, Endpoint: w.d.Endpoint,
		Kind: dev.Kind, Name: dev.Name, Hardware: dev.Hardware, XAddr: service})
	return err
}

// serviceAt returns the address of a device service, at another address of the device.
func serviceAt(service string, addr netip.Addr) string {
	u, err := url.Parse(service)
	if err != nil {
		return service
	}
	u.Host = net.JoinHostPort(addr.String(), cmp.Or(u.Port(), strconv.Itoa(streamurl.DefaultPort(u.Scheme))))
	return u.String()
}

// moving reports whether the device's move was recorded as begun and not as ended.
func (w addressChange) moving() bool { a := w.d.Status.Addressed; return a != nil && a.Pending }

func (w addressChange) move(ctx context.Context, to camera.Network) (netconfig.Outcome, error) {
	if w.d.Status.SignedIn == nil {
		return netconfig.Outcome{}, errors.New("it has not been signed in to; open its latches first")
	}
	if w.d.Endpoint == "" {
		return netconfig.Outcome{}, errors.New("it has told no endpoint reference, so it could not be recognised at its new address")
	}
	in, err := w.signInOf(ctx, w.d)
	if err != nil {
		return netconfig.Outcome{}, err
	}
	var begun *camera.Network
	if a := w.d.Status.Addressed; w.moving() && reflect.DeepEqual(a.To, to) {
		begun = &a.Before
	}
	return netconfig.Do(ctx, netconfig.Request{
		Begun: begun,
		Intend: func(before camera.Network) error {
			body := evidence.Addressed{Pending: true, Before: before, To: to, Steps: []camera.NetworkStep{}}
			if err := w.keep(ctx, Finding{Body: body}); err != nil {
				return &OwnError{err}
			}
			w.d.Status.Addressed = &body
			return nil
		},
		Dial: w.Guard, Service: w.d.Status.Device.XAddr, Pin: w.pin(), SignIn: in, Leave: w.Leave(w.d.Status.SignedIn.SignIn,
			signin.DeviceService),
		Endpoint: w.d.Endpoint, To: to, Log: w.log,
		Locate: func(ctx context.Context) (netip.Addr, error) {
			return discovery.Locate(ctx, w.Guard.Allowed, w.d.Endpoint)
		},
		Doing: func(what string) {
			w.Report.Doing(fmt.Sprintf("%s: %s", w.d.Title, what))
		},
	})
}
