// Package netconfig gives a device another address and finds it again there, by its identity and not by the address: a device
// that answers at the new address may be somebody else's.
package netconfig

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"strconv"
	"syscall"
	"time"

	"unlatch/core/ground/address"
	"unlatch/core/ground/exchange"
	"unlatch/core/ground/signin"
	"unlatch/core/stream/camera"
	"unlatch/core/wire/onvif"
)

// Wait is how long a device gets to come back. Cameras take up to two minutes to restart.
const Wait = 2 * time.Minute

// A Request is one device's new address.
type Request struct {
	Dial     address.Dialer
	Service  string // address of the device service now
	SignIn   signin.SignIn
	Pin      string       // SHA-256 of the certificate that it is known by, in hex; "" for none
	Leave    signin.Leave // is asked before the sign-in goes out
	Endpoint string       // endpoint reference: by it the device is known again
	To       camera.Network
	Wait     time.Duration // 0 means Wait
	Log      *exchange.Log
	// Intend is told what is set before anything is sent, so that it can be kept for undo; an error of it ends the work. May be nil.
	Intend func(before camera.Network) error
	// Begun is what was set before an earlier attempt that was cut off; nil for none. Then the device may have gone to its new address
	// already.
	Begun *camera.Network
	// Locate finds the device where DHCP has put it.
	Locate func(ctx context.Context) (netip.Addr, error)
	// Doing is told what happens now; may be nil.
	Doing func(string)
}

// An Outcome is what was done. Before is known as soon as it was read, also when the rest failed: it is what undo sends.
type Outcome struct {
	Before, After camera.Network
	Service       string // address of the device service at the new address
	Steps         []camera.NetworkStep
}

// An OccupiedError means that something answers at the new address already. Nothing was sent.
type OccupiedError struct {
	Addr netip.Addr
	Port int
}

func (e *OccupiedError) Error() string {
	return fmt.Sprintf("something answers at %s already (port %d)", e.Addr, e.Port)
}

// A StayedError means that the device took the new address and still answers at the old one.
type StayedError struct{ Old, New netip.Addr }

func (e *StayedError) Error() string {
	return fmt.Sprintf("the device accepted %s and came back at %s", e.New, e.Old)
}

// A LostError means that the device accepted the address and was not heard since.
type LostError struct {
	New  netip.Addr
	Wait time.Duration
}

func (e *LostError) Error() string {
	return fmt.Sprintf("the device was sent to %s and did not come back within %s", e.New, e.Wait)
}

// An ImpostorError means that another device answers at the new address.
type ImpostorError struct {
	Addr netip.Addr
	Is   string
}

func (e *ImpostorError) Error() string {
	return fmt.Sprintf("another device (%s) answers at %s", e.Is, e.Addr)
}

// leaving reports whether the device answers at another address than it shall have: one that has taken the setting and tells it already
// goes a moment later.
func (w *work) leaving() bool {
	u, err := url.Parse(w.Service)
	if err != nil || w.To.DHCP {
		return false
	}
	at, err := netip.ParseAddr(u.Hostname())
	return err == nil && at != w.To.Addr
}

// Do sends the setting and waits until the device is found again.
func Do(ctx context.Context, r Request) (Outcome, error) {
	if r.Wait == 0 {
		r.Wait = Wait
	}
	w := &work{Request: r, mark: time.Now()}
	err := w.do(ctx)
	return w.out, err
}

type work struct {
	Request
	out  Outcome
	mark time.Time
}

func (w *work) step(name string) {
	now := time.Now()
	w.out.Steps = append(w.out.Steps, camera.NetworkStep{Name: name, MS: float64(now.Sub(w.mark).Microseconds()) / 1000})
	w.mark = now
}

func (w *work) doing(what string) {
	if w.Doing != nil {
		w.Doing(what)
	}
}

func (w *work) client(service string) *onvif.Client {
	return onvif.New(service, onvif.Options{Dial: w.Dial, SignIn: w.SignIn, Leave: w.Leave, Pin: w.Pin, Log: w.Log,
		Timeout: 3 * time.Second})
}

func (w *work) do(ctx context.Context) error {
	err := w.set(ctx)
	if w.Begun == nil || ctx.Err() != nil || !w.mayHaveGone(err) {
		return err
	}
	w.out.Before = *w.Begun
	return w.await(ctx) // it was sent away, and is looked for where it was sent to
}

// mayHaveGone reports whether an error may come of the device going to its new address while it is asked at the old one: it has gone with
// its answer, or answers at the new one already.
func (w *work) mayHaveGone(err error) bool {
	var occupied *OccupiedError
	return errors.As(err, new(net.Error)) || errors.As(err, new(*goneError)) || errors.As(err, &occupied) && occupied.Addr == w.To.Addr
}

// A goneError means that no device service answers where the device was.
type goneError struct{ error }

func (e *goneError) Unwrap() error { return e.error }

// set reads what is set, and sends what is not so yet.
func (w *work) set(ctx context.Context) error {
	c := w.client(w.Service)
	defer c.Close()
	if _, err := c.Clock(ctx); err != nil {
		return &goneError{err}
	}
	ifaces, err := c.Interfaces(ctx)
	if err != nil {
		return err
	}
	i, err := w.choose(ifaces)
	if err != nil {
		return err
	}
	gateway, err := c.Gateway(ctx)
	if err != nil {
		return err
	}
	w.out.Before = camera.Network{Addr: i.Addr, Bits: i.Bits, DHCP: i.DHCP, Gateway: gateway}
	if err := w.readAlso(ctx, c, &w.out.Before); err != nil {
		return err
	}
	w.step("read the old setting")
	now := w.out.Before
	same := w.To.Addr == i.Addr && w.To.Bits == i.Bits && (!w.To.Gateway.IsValid() || w.To.Gateway == gateway)
	stays := i.DHCP == w.To.DHCP && (w.To.DHCP || same)
	switch {
	case w.Begun != nil:
		w.out.Before = *w.Begun
	case w.Intend != nil && (!stays || w.To.Clock || len(w.To.Changed(now.HostSettings)) > 0):
		if err := w.Intend(now); err != nil {
			return err
		}
	}
	if err := w.sendHostSettings(ctx, c); err != nil {
		return err
	}
	if stays && w.leaving() {
		return w.await(ctx)
	}
	if stays {
		w.out.After, w.out.Service = now, w.Service
		return w.readAlso(ctx, c, &w.out.After)
	}
	if !w.To.DHCP && w.To.Addr != i.Addr {
		w.doing("looking whether " + w.To.Addr.String() + " is free")
		if err := Free(ctx, w.Dial, w.To.Addr); err != nil {
			return err
		}
		w.step("look whether the new address is free")
	}
	return w.send(ctx, c, i)
}

// choose takes the interface that carries the address at which the device answers.
func (w *work) choose(ifaces []onvif.Interface) (onvif.Interface, error) {
	if u, err := url.Parse(w.Service); err == nil {
		for _, i := range ifaces {
			if i.Addr.String() == u.Hostname() {
				return i, nil
			}
		}
	}
	if len(ifaces) == 1 {
		return ifaces[0], nil
	}
	return onvif.Interface{}, &onvif.Fault{Codes: []string{"Receiver"},
		Reason: fmt.Sprintf("the device names %d network interfaces and none with its address", len(ifaces))}
}

func (w *work) send(ctx context.Context, c *onvif.Client, i onvif.Interface) error {
	w.doing("sending the new address")
	if w.To.Gateway.IsValid() && w.To.Gateway != w.out.Before.Gateway {
		if err := c.SetGateway(ctx, w.To.Gateway); err != nil {
			return err
		}
		w.step("send the gateway")
	}
	reboot, err := c.SetInterface(ctx, onvif.Interface{Token: i.Token, DHCP: w.To.DHCP, Addr: w.To.Addr, Bits: w.To.Bits})
	if err != nil && !leftWithAnswer(err) {
		return err
	}
	w.step("send the address")
	if reboot {
		w.doing("restarting it")
		if err := c.Reboot(ctx); err != nil && !leftWithAnswer(err) {
			return err
		}
		w.step("restart")
	}
	return w.await(ctx)
}

// leftWithAnswer reports whether an error means that the device went away with its answer, as many do that change their address at once.
func leftWithAnswer(err error) bool {
	var netErr net.Error
	return errors.As(err, &netErr) && !errors.Is(err, syscall.ECONNREFUSED) || errors.Is(err, syscall.ECONNRESET)
}

// await looks for the device at its new address until it answers there as itself.
func (w *work) await(ctx context.Context) error {
	w.doing("waiting for it to come back")
	deadline := time.Now().Add(w.Wait)
	// A device that was told to go still answers for a moment: it has stayed only if it does so for good.
	var impostor error
	for time.Now().Before(deadline) {
		at, err := w.where(ctx)
		if err == nil {
			var is string
			if w.out.Service, is, err = w.whoAnswers(ctx, at); err == nil && is == w.Endpoint {
				if done, cerr := w.confirm(ctx, at); done || cerr != nil && ctx.Err() != nil {
					return cerr
				}
			}
			impostor = nil
			if err == nil && is != "" && is != w.Endpoint {
				impostor = &ImpostorError{Addr: at, Is: is}
			}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(400 * time.Millisecond):
		}
	}
	w.step("waited in vain")
	if impostor != nil {
		return impostor
	}
	if old := w.out.Before.Addr; old.IsValid() {
		if _, is, err := w.whoAnswers(ctx, old); err == nil && is == w.Endpoint {
			return &StayedError{Old: old, New: w.To.Addr}
		}
	}
	return &LostError{New: w.To.Addr, Wait: w.Wait}
}

func (w *work) where(ctx context.Context) (netip.Addr, error) {
	if !w.To.DHCP {
		return w.To.Addr, nil
	}
	return w.Locate(ctx)
}

// whoAnswers asks the device service at an address for its endpoint reference.
func (w *work) whoAnswers(ctx context.Context, at netip.Addr) (service, is string, err error) {
	u, err := url.Parse(w.Service)
	if err != nil || !at.IsValid() {
		return "", "", errors.New("no address")
	}
	port := u.Port()
	u.Host = at.String()
	if port != "" {
		u.Host = net.JoinHostPort(at.String(), port)
	}
	c := w.client(u.String())
	defer c.Close()
	is, err = c.Endpoint(ctx)
	return u.String(), is, err
}

// confirm reads the setting back: what the device says now, not what was sent. A device that has not restarted yet still answers at
// the old address and names another one: it is not done.
func (w *work) confirm(ctx context.Context, at netip.Addr) (done bool, err error) {
	c := w.client(w.out.Service)
	defer c.Close()
	if _, err := c.Clock(ctx); err != nil {
		return false, err
	}
	ifaces, err := c.Interfaces(ctx)
	if err != nil {
		return false, err
	}
	for _, i := range ifaces {
		if i.Addr != at || i.DHCP != w.To.DHCP {
			continue
		}
		gateway, err := c.Gateway(ctx)
		if err != nil {
			return false, err
		}
		w.out.After = camera.Network{Addr: i.Addr, Bits: i.Bits, DHCP: i.DHCP, Gateway: gateway}
		if err := w.readAlso(ctx, c, &w.out.After); err != nil {
			return false, err
		}
		w.step("found again")
		return true, nil
	}
	return false, nil
}

// liveness are the ports at which something alive mostly answers.
var liveness = []int{80, 443, 554, 8080, 8554}

// Free looks whether anything answers at an address: a port that takes a connection, or, off this machine, one that refuses it.
// It returns an *OccupiedError, or nil where all was silent.
func Free(ctx context.Context, dial address.Dialer, a netip.Addr) error {
	ctx, cancel := context.WithTimeout(ctx, 700*time.Millisecond)
	defer cancel()
	found := make(chan error, len(liveness))
	for _, port := range liveness {
		go func() {
			c, err := dial.DialContext(ctx, "tcp", net.JoinHostPort(a.String(), strconv.Itoa(port)))
			var scope *address.OutOfScopeError
			switch {
			case err == nil:
				c.Close()
				found <- &OccupiedError{a, port}
			case errors.As(err, &scope):
				found <- err
			case errors.Is(err, syscall.ECONNREFUSED) && !a.IsLoopback():
				found <- &OccupiedError{a, port}
			default:
				found <- nil
			}
		}()
	}
	for range liveness {
		if err := <-found; err != nil {
			return err
		}
	}
	return nil
}
