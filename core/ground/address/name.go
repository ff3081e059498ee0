package address

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"unlatch/core/ground/trouble"
)

// MaxAddresses bounds the addresses that a name may lead to.
const MaxAddresses = 16

// lookupWait is how long a name server gets to answer.
const lookupWait = 5 * time.Second

// HostName reports whether text is a host name (RFC 1123 §2.1) and no address in numbers.
func HostName(text string) bool {
	text = strings.TrimSuffix(text, ".")
	if len(text) == 0 || len(text) > 253 {
		return false
	}
	labels := strings.Split(text, ".")
	for _, l := range labels {
		if len(l) == 0 || len(l) > 63 || l[0] == '-' || l[len(l)-1] == '-' || strings.Trim(strings.ToLower(l),
			"abcdefghijklmnopqrstuvwxyz0123456789-") != "" {
			return false
		}
	}
	last := labels[len(labels)-1]
	return strings.Trim(last, "0123456789") != "" // a name that ends in a number would be read as an address
}

// A Resolver looks names up; *net.Resolver is one.
type Resolver interface {
	LookupNetIP(ctx context.Context, network, host string) ([]netip.Addr, error)
}

// NameServer returns a resolver that asks one server, an address with a port, instead of those of this machine.
func NameServer(at string) Resolver {
	return &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, network, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, network, at)
	}}
}

// A NoAddressError means that a name leads nowhere, by the name server that was asked.
type NoAddressError struct {
	Name string
	Err  error
}

func (e *NoAddressError) Error() string {
	if dns := new(net.DNSError); errors.As(e.Err, &dns) {
		by := ""
		if dns.Server != "" {
			by = fmt.Sprintf(" (the name server %s)", dns.Server)
		}
		return fmt.Sprintf("no address is known for %s: %s%s", e.Name, dns.Err, by)
	}
	if e.Err != nil {
		return fmt.Sprintf("no address is known for %s: %v", e.Name, e.Err)
	}
	return "no address is known for " + e.Name
}

// Unwrap returns what the name server has said.
func (e *NoAddressError) Unwrap() error { return e.Err }

// A TooManyAddressesError means that a name leads to more addresses than a person could look through.
type TooManyAddressesError struct {
	Name  string
	Count int
}

func (e *TooManyAddressesError) Error() string {
	return fmt.Sprintf("%s leads to %d addresses; up to %d can be looked at", e.Name, e.Count, MaxAddresses)
}

// Lookup returns the addresses that a name leads to, in order and each once. Groups and the unspecified address are no places that can
// be connected to, and are left out. Without any it returns a *NoAddressError, with too many a *TooManyAddressesError.
func Lookup(ctx context.Context, r Resolver, name string) ([]netip.Addr, error) {
	ctx, done := context.WithTimeout(ctx, lookupWait)
	defer done()
	list, err := r.LookupNetIP(ctx, "ip", name)
	if err != nil {
		return nil, &NoAddressError{Name: name, Err: err}
	}
	var out []netip.Addr
	for _, a := range list {
		if a = a.Unmap().WithZone(""); a.IsValid() && !a.IsUnspecified() && !a.IsMulticast() {
			out = append(out, a)
		}
	}
	slices.SortFunc(out, netip.Addr.Compare)
	out = slices.Compact(out)
	switch {
	case len(out) == 0:
		return nil, &NoAddressError{Name: name}
	case len(out) > MaxAddresses:
		return nil, &TooManyAddressesError{Name: name, Count: len(out)}
	}
	return out, nil
}

// A MovedNameError means that nothing answers at the addresses that a person has taken for a name, and that the name leads elsewhere now.
type MovedNameError struct {
	Name     string
	Was, Now []netip.Addr
}

func (e *MovedNameError) Error() string {
	return fmt.Sprintf("%s leads to %s now; it led to %s when that was looked at, and nothing answers there", e.Name, listed(e.Now),
		listed(e.Was))
}

// Trouble implements trouble.Troubled.
func (e *MovedNameError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.NameMoved, Facts: trouble.Facts{"name": e.Name, "now": listed(e.Now), "was": listed(e.Was)}}
}

func listed(list []netip.Addr) string {
	var text []string
	for _, a := range list {
		text = append(text, a.String())
	}
	return strings.Join(text, ", ")
}

// dialName connects to the addresses that are pinned for a name, the first that answers. Only when none does is the name looked up again:
// where it leads elsewhere by now, a *MovedNameError says so, and nothing is sent there.
func (g *Guard) dialName(ctx context.Context, network, name, port string, pinned []netip.Addr) (net.Conn, error) {
	var first error
	for _, a := range pinned {
		conn, err := g.dial(ctx, network, net.JoinHostPort(a.String(), port))
		if err == nil {
			return conn, nil
		}
		if first == nil {
			first = err
		}
		if ctx.Err() != nil {
			return nil, first
		}
	}
	r := g.Resolver
	if r == nil {
		r = net.DefaultResolver
	}
	now, err := Lookup(ctx, r, name)
	if err == nil && !slices.Equal(now, pinned) {
		return nil, &MovedNameError{Name: name, Was: pinned, Now: now}
	}
	return nil, first
}
