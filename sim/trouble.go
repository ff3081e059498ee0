package sim

import (
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"unlatch/sim/targets"
)

// A Trouble is something that happens to a stand-in while it runs, as it happens to devices in life.
type Trouble struct {
	Kind string `json:"kind"`
	// Name is the stand-in that it happens to; of a slot, the camera in it.
	Name string `json:"name"`
	// To is what some kinds want besides: another address, firmware, password, stand-in or target.
	To string `json:"to,omitempty"`
}

// A trouble does what a kind says.
type trouble struct {
	wants string // what To is; "" for nothing
	do    func(w *World, d *device, to string) error
}

// TroubleKinds returns the kinds with what each wants besides a name.
func TroubleKinds() map[string]string {
	out := map[string]string{}
	for kind, t := range troubles() {
		out[kind] = t.wants
	}
	return out
}

func troubles() map[string]trouble {
	return map[string]trouble{
		"address":  {"the new address", (*World).giveAddress},
		"reset":    {"", (*World).reset},
		"password": {"the new password", (*World).changePassword},
		"firmware": {"the new firmware", (*World).update},
		"settings": {"", (*World).otherSettings},
		"slow":     {"", (*World).slow},
		"clock":    {"", (*World).wrongClock},
		"cover":    {"", obstacle("cover")},
		"black":    {"", obstacle("black")},
		"blur":     {"", obstacle("blur")},
		"turn":     {"", obstacle("turn")},
		"clear":    {"", obstacle("")},
		"swap":     {"the other camera", (*World).swap},
		"off":      {"", (*World).powerOff},
		"on":       {"", (*World).powerOn},
	}
}

// Trouble makes trouble. Emptying a slot and cutting a switch concern no single device: "slot" takes the camera Name off the target To, and
// "cut" and "mend" take all devices of the subnet Name, such as 127.40.1.64/27, off the network and bring them back.
func (w *World) Trouble(t Trouble) error {
	switch t.Kind {
	case "slot":
		return w.emptySlot(t.Name, t.To)
	case "cut", "mend":
		return w.cut(t.Name, t.Kind == "cut")
	}
	x, ok := troubles()[t.Kind]
	if !ok {
		kinds := append(slices.Collect(maps.Keys(troubles())), "slot", "cut", "mend")
		slices.Sort(kinds)
		return fmt.Errorf("there is no trouble %q; there are: %s", t.Kind, strings.Join(kinds, ", "))
	}
	d, err := w.find(t.Name)
	if err != nil {
		return err
	}
	if x.wants != "" && t.To == "" {
		return fmt.Errorf("%s wants %s", t.Kind, x.wants)
	}
	return x.do(w, d, t.To)
}

// find returns a device by its name or its address.
func (w *World) find(name string) (*device, error) {
	for _, d := range w.all() {
		if strings.EqualFold(d.Name, name) || d.Address.String() == name {
			return d, nil
		}
	}
	return nil, fmt.Errorf("no stand-in is called %q, or is at that address", name)
}

func (w *World) giveAddress(d *device, to string) error {
	a, err := netip.ParseAddr(to)
	if err != nil || !a.Is4() || !a.IsLoopback() {
		return fmt.Errorf("%q is no loopback address", to)
	}
	w.mu.Lock()
	d.net.Addr = a
	w.mu.Unlock()
	w.restart(d)
	return nil
}

// changed restarts a device with something changed of it before it comes up.
func (w *World) changed(d *device, change func(*device)) error {
	if d.restarting.Swap(true) {
		return errors.New("it is restarting already")
	}
	d.stop()
	w.mu.Lock()
	fresh := d.again()
	w.mu.Unlock()
	change(fresh)
	return w.replace(d, fresh)
}

// reset gives a device back what it had from the factory: no account, and every stream at half its rate.
func (w *World) reset(d *device, _ string) error {
	list, err := w.slowed(d, 2)
	if err != nil {
		return err
	}
	return w.changed(d, func(fresh *device) {
		fresh.Users, fresh.net.Claimed = nil, nil
		fresh.sends.Store(&list)
	})
}

func (w *World) changePassword(d *device, to string) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(d.Users) == 0 {
		return errors.New("it has no user")
	}
	u := d.Users[0]
	n := d.net
	n.Claimed = append(slices.DeleteFunc(slices.Clone(n.Claimed), func(c claimed) bool { return c.Name == u.Name }),
		claimed{u.Name, to, u.Level})
	d.net = n
	return nil
}

func (w *World) update(d *device, to string) error {
	return w.changed(d, func(fresh *device) { fresh.Firmware = to })
}

// otherSettings is somebody who sets every stream to half its rate on the device's own page.
func (w *World) otherSettings(d *device, _ string) error {
	list, err := w.slowed(d, 2)
	if err != nil {
		return err
	}
	d.sends.Store(&list)
	return nil
}

// slow is a link or an encoder that brings a third of the pictures that the device says it sends.
func (w *World) slow(d *device, _ string) error {
	says := slices.Clone(d.configured())
	list, err := w.slowed(d, 3)
	if err != nil {
		return err
	}
	d.shownFor.Store(1 << 40)
	d.shown.Store(&says)
	d.sends.Store(&list)
	return nil
}

// slowed returns the streams of a device with so many times fewer pictures a second, and as many key frames as before.
func (w *World) slowed(d *device, times int) ([]feed, error) {
	list := slices.Clone(d.configured())
	for i := range list {
		list[i].FPS, list[i].GOP = max(1, list[i].FPS/times), max(1, list[i].GOP/times)
	}
	return list, w.encodeAgain(d, list)
}

// wrongClock sets a device's clock an hour back.
func (w *World) wrongClock(d *device, _ string) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	back := -3600
	d.net.Clock = &back
	return nil
}

// obstacle has all pictures of a device drawn with something before the lens, or with nothing again.
func obstacle(what string) func(*World, *device, string) error {
	return func(w *World, d *device, _ string) error {
		list := slices.Clone(d.sending())
		for i := range list {
			list[i].format.Obstacle = what
		}
		if err := w.encodeAgain(d, list); err != nil {
			return err
		}
		d.sends.Store(&list)
		return nil
	}
}

// swap has two cameras look at what the other looked at: somebody has put them up in each other's place.
func (w *World) swap(d *device, to string) error {
	other, err := w.find(to)
	if err != nil {
		return err
	}
	mine, theirs := slices.Clone(d.sending()), slices.Clone(other.sending())
	if len(mine) == 0 || len(theirs) == 0 {
		return errors.New("one of the two sends no picture")
	}
	here, there := mine[0].format.Scene, theirs[0].format.Scene
	for i := range mine {
		mine[i].format.Scene = there
	}
	for i := range theirs {
		theirs[i].format.Scene = here
	}
	if err := errors.Join(w.encodeAgain(d, mine), w.encodeAgain(other, theirs)); err != nil {
		return err
	}
	d.sends.Store(&mine)
	other.sends.Store(&theirs)
	return nil
}

// encodeAgain makes the clips of streams whose settings have changed.
func (w *World) encodeAgain(d *device, list []feed) error {
	for i := range list {
		f := &list[i]
		f.format.FPS, f.format.GOP = f.FPS, f.GOP
		clip, err := w.options.Media.Clip(w.ctx, f.format)
		if err != nil {
			return fmt.Errorf("drawing %s: %w", d.Name, err)
		}
		f.clip = clip
	}
	return nil
}

// powerOff takes a device off the network until somebody switches it on.
func (w *World) powerOff(d *device, _ string) error {
	if d.restarting.Swap(true) {
		return errors.New("it is down already")
	}
	d.stop()
	return nil
}

func (w *World) powerOn(d *device, _ string) error {
	if !d.restarting.Load() && d.web != nil { // one without a web side was never plugged in
		return errors.New("it is up already")
	}
	w.mu.Lock()
	fresh := d.again()
	w.mu.Unlock()
	return w.replace(d, fresh)
}

// cut takes all devices of a subnet off the network, as a switch does that has lost its power, or brings them back.
func (w *World) cut(subnet string, down bool) error {
	p, err := netip.ParsePrefix(subnet)
	if err != nil {
		return fmt.Errorf("%q is no subnet; write one such as 127.40.1.64/27", subnet)
	}
	n := 0
	for _, d := range w.all() {
		if !p.Contains(d.Address) || d.restarting.Load() == down {
			continue
		}
		n++
		if down {
			err = w.powerOff(d, "")
		} else {
			err = w.powerOn(d, "")
		}
		if err != nil {
			return fmt.Errorf("%s: %w", d.Name, err)
		}
	}
	if n == 0 {
		return fmt.Errorf("no stand-in of %s can be cut off or brought back", subnet)
	}
	return nil
}

// emptySlot takes a camera off a target behind everybody's back.
func (w *World) emptySlot(camera, from string) error {
	d, err := w.find(camera)
	if err != nil {
		return err
	}
	b, ok := w.targets[from].(*targets.Bridge)
	if !ok {
		return fmt.Errorf("no bridge of the scenario is called %q", from)
	}
	if !b.Forget(d.endpoint) {
		return fmt.Errorf("%s does not have %s", from, camera)
	}
	return nil
}

// ForgetAfter has a bridge forget what it is given a while after it was given it, as many times as it is given it.
func (w *World) ForgetAfter(target string, after time.Duration, times int) {
	w.targets[target].(*targets.Bridge).ForgetAfter(after, times)
}
