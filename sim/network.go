package sim

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"unlatch/core/wire/onvif"
)

// network is a device's address setting, kept over restarts of the stand-ins.
type network struct {
	Addr    netip.Addr
	Bits    int
	DHCP    bool
	Gateway netip.Addr
	Claimed []claimed // accounts made since the factory
	DNS     []string
	NTP     string
	Host    string
	Zone    string
	Clock   *int  // seconds its clock is wrong by, once somebody has set it
	Streams *bool // whether its stream service is on, once somebody has switched it
}

// claimed is an account with its secret in the open: this is a stand-in's own memory.
type claimed struct{ Name, Secret, Level string }

// networkOperation answers the network part of the device service.
func (d *device) networkOperation(o operation) (string, *fault) {
	d.world.mu.Lock()
	n := d.net
	d.world.mu.Unlock()
	switch o.name {
	case "GetNetworkInterfaces":
		use := fmt.Sprintf("<T:Address>%s</T:Address><T:PrefixLength>%d</T:PrefixLength>", n.Addr, n.Bits)
		kind := "Manual"
		if n.DHCP {
			kind = "FromDHCP"
		}
		return fmt.Sprintf(`<X:NetworkInterfaces token="eth0"><T:Enabled>true</T:Enabled><T:Info><T:Name>eth0</T:Name>`+
			`<T:HwAddress>%s</T:HwAddress></T:Info>`+
			`<T:IPv4><T:Enabled>true</T:Enabled><T:Config><T:%s>%s</T:%s><T:DHCP>%t</T:DHCP></T:Config></T:IPv4>`+
			`</X:NetworkInterfaces>`, d.MAC, kind, use, kind, n.DHCP), nil
	case "SetNetworkInterfaces":
		return d.setNetwork(o, n)
	case "GetNetworkDefaultGateway":
		if !n.Gateway.IsValid() {
			return "<X:NetworkGateway/>", nil
		}
		return "<X:NetworkGateway><T:IPv4Address>" + n.Gateway.String() + "</T:IPv4Address></X:NetworkGateway>", nil
	case "SetNetworkDefaultGateway":
		a, err := netip.ParseAddr(o.arg("IPv4Address"))
		if err != nil {
			return "", invalid("ter:InvalidGatewayAddress", "The gateway is not an address")
		}
		n.Gateway = a
		d.setNet(n)
		return "", nil
	case "GetDNS":
		var b strings.Builder
		for _, s := range n.DNS {
			b.WriteString("<T:DNSManual><T:Type>IPv4</T:Type><T:IPv4Address>" + s + "</T:IPv4Address></T:DNSManual>")
		}
		return fmt.Sprintf("<X:DNSInformation><T:FromDHCP>%t</T:FromDHCP>%s</X:DNSInformation>", len(n.DNS) == 0, &b), nil
	case "SetDNS":
		if n.DNS = o.args("IPv4Address"); o.arg("FromDHCP") != "true" && len(n.DNS) == 0 {
			return "", invalid("ter:InvalidIPv4Address", "There is no name server")
		}
		d.setNet(n)
		return "", nil
	case "GetNTP":
		if n.NTP == "" {
			return "<X:NTPInformation><T:FromDHCP>true</T:FromDHCP></X:NTPInformation>", nil
		}
		kind := "DNSname"
		if _, err := netip.ParseAddr(n.NTP); err == nil {
			kind = "IPv4Address"
		}
		return fmt.Sprintf("<X:NTPInformation><T:FromDHCP>false</T:FromDHCP><T:NTPManual><T:%s>%s</T:%s></T:NTPManual></X:NTPInformation>",
			kind, onvif.Escape(n.NTP), kind), nil
	case "SetNTP":
		n.NTP = o.arg("IPv4Address") + o.arg("DNSname")
		d.setNet(n)
		return "", nil
	case "GetHostname":
		return "<X:HostnameInformation><T:FromDHCP>false</T:FromDHCP><T:Name>" + onvif.Escape(n.Host) + "</T:Name></X:HostnameInformation>", nil
	case "SetHostname":
		if n.Host = o.arg("Name"); !hostName.MatchString(n.Host) {
			return "", invalid("ter:InvalidHostname", "The host name is not valid")
		}
		d.setNet(n)
		return "", nil
	case "SetSystemDateAndTime":
		return d.setClock(o, n)
	case "SetNetworkProtocols":
		return d.setProtocols(o, n)
	case "SystemReboot":
		d.world.restart(d)
		return "<X:Message>Restarting</X:Message>", nil
	}
	return d.userOperation(o, n)
}

// setProtocols switches the stream service; what else is named stays as it is.
func (d *device) setProtocols(o operation, n network) (string, *fault) {
	if o.arg("Name") != "RTSP" {
		return "", invalid("ter:ServiceNotSupported", "The protocol cannot be switched")
	}
	if d.Defects.KeepsStreams {
		return "", nil
	}
	on := o.arg("Enabled") == "true"
	if on != d.streaming() {
		n.Streams = &on
		d.setNet(n)
		if err := d.switchStreams(on); err != nil {
			return "", &fault{"S:Receiver", "ter:Action", "", "The stream service does not start"}
		}
	}
	return "", nil
}

// streaming reports whether the stream service is on.
func (d *device) streaming() bool {
	d.world.mu.Lock()
	defer d.world.mu.Unlock()
	if d.net.Streams != nil {
		return *d.net.Streams
	}
	return !d.Defects.StreamClosed
}

func (d *device) switchStreams(on bool) error {
	if on {
		return d.openStreams(d.world.ctx, d.world.group)
	}
	if d.streams != nil {
		d.streams.Close()
	}
	return nil
}

var hostName = regexp.MustCompile(`^[A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?$`)

// setClock takes a time, or the time server's word for it.
func (d *device) setClock(o operation, n network) (string, *fault) {
	offset := 0
	if o.arg("DateTimeType") != "NTP" {
		var f [6]int
		for i, name := range []string{"Year", "Month", "Day", "Hour", "Minute", "Second"} {
			v, err := strconv.Atoi(o.arg(name))
			if err != nil {
				return "", invalid("ter:InvalidDateTime", "The time cannot be read")
			}
			f[i] = v
		}
		offset = int(time.Until(time.Date(f[0], time.Month(f[1]), f[2], f[3], f[4], f[5], 0, time.UTC)).Round(time.Second).Seconds())
	} else if n.NTP == "" {
		return "", invalid("ter:NtpServerUndefined", "There is no time server")
	}
	n.Clock = &offset
	if z := o.arg("TZ"); z != "" {
		n.Zone = z
	}
	d.setNet(n)
	return "", nil
}

func (d *device) setNet(n network) {
	d.world.mu.Lock()
	d.net = n
	d.world.mu.Unlock()
}

func (d *device) setNetwork(o operation, n network) (string, *fault) {
	if d.Defects.RefusesAddress {
		return "", &fault{"S:Sender", "ter:OperationProhibited", "", "The address is locked on this device"}
	}
	n.DHCP = o.arg("DHCP") == "true"
	if n.DHCP {
		n.Addr = d.Lease
		if !n.Addr.IsValid() {
			n.Addr = d.Address
		}
	} else {
		a, err := netip.ParseAddr(o.arg("Address"))
		bits, berr := strconv.Atoi(o.arg("PrefixLength"))
		if err != nil || berr != nil || !a.Is4() || !a.IsLoopback() || bits < 1 || bits > 30 {
			return "", invalid("ter:InvalidIPv4Address", "The address is not valid")
		}
		n.Addr, n.Bits = a, bits
	}
	d.setNet(n)
	if d.maker.reboots {
		return "<X:RebootNeeded>true</X:RebootNeeded>", nil
	}
	d.world.restart(d)
	return "<X:RebootNeeded>false</X:RebootNeeded>", nil
}

// Restart takes a device down as a power cut does, and brings it up again.
func (w *World) Restart(name string) { w.restart(w.named(name)) }

// restart takes a device down and brings it up again at the address that is set by now, after the time that it needs.
func (w *World) restart(d *device) {
	if d.restarting.Swap(true) {
		return // it is going down already
	}
	w.group.Go(func() error {
		select {
		case <-time.After(200 * time.Millisecond): // the answer goes out first
		case <-w.ctx.Done():
			return nil
		}
		d.announce("Bye")
		d.stop()
		w.mu.Lock()
		fresh := d.again()
		w.mu.Unlock()
		if !d.Defects.LosesAddress {
			fresh.Address = fresh.net.Addr
		}
		if d.Defects.OtherMAC != "" {
			fresh.MAC = d.Defects.OtherMAC
		}
		select {
		case <-time.After(time.Duration(max(d.Defects.RestartSeconds*1000, 300)) * time.Millisecond):
		case <-w.ctx.Done():
			return nil
		}
		if err := w.replace(d, fresh); err != nil {
			w.options.Log.Warn("a stand-in did not come back", "device", d.Name, "err", err)
			return nil
		}
		w.mu.Lock()
		defer w.mu.Unlock()
		return w.keepNetworks()
	})
}

func (w *World) networksFile() string { return filepath.Join(w.options.State, "networks.json") }

// keepNetworks writes down where each device was put; the caller holds mu.
func (w *World) keepNetworks() error {
	if w.options.State == "" {
		return nil
	}
	all := map[string]network{}
	for _, d := range w.devices {
		all[d.endpoint] = d.net
	}
	raw, err := json.Marshal(all)
	return errors.Join(err, os.MkdirAll(w.options.State, 0o700), os.WriteFile(w.networksFile(), raw, 0o600))
}

// readNetworks puts devices where they were put before.
func (w *World) readNetworks() error {
	all := map[string]network{}
	if w.options.State != "" {
		raw, err := os.ReadFile(w.networksFile())
		if err == nil {
			err = json.Unmarshal(raw, &all)
		}
		if err != nil && !errors.Is(err, os.ErrNotExist) {
			return fmt.Errorf("where the stand-ins were put cannot be read (%w); delete %s to start them as the scenario has them", err,
				w.networksFile())
		}
	}
	for _, d := range w.devices {
		d.net = network{Addr: d.Address, Bits: 24, DHCP: d.Lease.IsValid()}
		if n, ok := all[d.endpoint]; ok {
			d.net, d.Address = n, n.Addr
		}
	}
	return nil
}

// userOperation answers the accounts part of the device service.
func (d *device) userOperation(o operation, n network) (string, *fault) {
	switch o.name {
	case "GetUsers":
		var b strings.Builder
		for _, u := range d.accounts() {
			fmt.Fprintf(&b, "<X:User><T:Username>%s</T:Username><T:UserLevel>%s</T:UserLevel></X:User>", onvif.Escape(u.Name), u.Level)
		}
		return b.String(), nil
	case "SetUser":
		u := claimed{Name: o.arg("Username"), Secret: o.arg("Password"), Level: o.arg("UserLevel")}
		if len(u.Secret) < 8 {
			return "", invalid("ter:PasswordTooWeak", "The password is too weak: at least 8 characters")
		}
		if !slices.ContainsFunc(d.accounts(), func(k claimed) bool { return k.Name == u.Name }) {
			return "", invalid("ter:UsernameMissing", "There is no such user")
		}
		n.Claimed = append(slices.DeleteFunc(slices.Clone(n.Claimed), func(k claimed) bool { return k.Name == u.Name }), u)
		d.setNet(n)
		d.world.mu.Lock()
		defer d.world.mu.Unlock()
		d.world.keepNetworks()
		return "", nil
	case "CreateUsers":
		u := claimed{Name: o.arg("Username"), Secret: o.arg("Password"), Level: o.arg("UserLevel")}
		if len(u.Secret) < 8 {
			return "", invalid("ter:PasswordTooWeak", "The password is too weak: at least 8 characters")
		}
		for _, known := range d.accounts() {
			if known.Name == u.Name {
				return "", invalid("ter:UsernameClash", "There is such a user already")
			}
		}
		n.Claimed = append(slices.Clone(n.Claimed), u)
		d.setNet(n)
		d.world.mu.Lock()
		defer d.world.mu.Unlock()
		d.world.keepNetworks()
		return "", nil
	case "DeleteUsers":
		name := o.arg("Username")
		if !slices.ContainsFunc(n.Claimed, func(k claimed) bool { return k.Name == name }) {
			return "", invalid("ter:UsernameMissing", "There is no such user")
		}
		n.Claimed = slices.DeleteFunc(slices.Clone(n.Claimed), func(k claimed) bool { return k.Name == name })
		d.setNet(n)
		d.world.mu.Lock()
		defer d.world.mu.Unlock()
		d.world.keepNetworks()
		return "", nil
	}
	return unsupported(o)
}

// accounts returns the scenario's users and those made since.
func (d *device) accounts() []claimed {
	d.world.mu.Lock()
	defer d.world.mu.Unlock()
	var out []claimed
	for _, u := range d.Users {
		if !slices.ContainsFunc(d.net.Claimed, func(k claimed) bool { return k.Name == u.Name }) { // given another password since
			out = append(out, claimed{u.Name, u.Secret.Reveal(), u.Level})
		}
	}
	return append(out, d.net.Claimed...)
}

// secret returns the password of a user; the lookup that httpauth.Check wants.
func (d *device) secret(user string) (string, bool) {
	for _, u := range d.accounts() {
		if u.Name == user {
			return u.Secret, true
		}
	}
	return "", false
}
