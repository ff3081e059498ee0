package machine

import (
	"context"
	"crypto/rand"
	"errors"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/net/ipv4"

	"unlatch/core/ground/address"
	"unlatch/core/ground/wiretext"
)

// A Card is a network interface that is up.
type Card struct {
	address.Interface
	Wireless bool `json:"wireless,omitempty"`
	// MulticastProblem is why multicast does not work on it, "" where it does, or where it was not tried.
	MulticastProblem string `json:"multicast_problem,omitempty"`
}

// A Route is how a range is reached.
type Route struct {
	Range string `json:"range"`
	// Card is the interface that leads there, "" where nothing does.
	Card string `json:"card,omitempty"`
	// Beyond says that the range lies behind a router: multicast, and with it every announcement, ends there.
	Beyond bool `json:"beyond,omitempty"`
}

func cards() []Card {
	list, _ := address.Interfaces()
	out := make([]Card, len(list))
	for i, n := range list {
		out[i] = Card{Interface: n, Wireless: wireless(n.Name)}
	}
	return out
}

// wireless reports whether a card is one of a radio: the kernel keeps a folder for it.
func wireless(card string) bool {
	_, err := os.Stat(filepath.Join("/sys/class/net", filepath.Base(card), "wireless"))
	return err == nil
}

// testGroup is in the block for organisations (RFC 2365 §6.2). A datagram to it with TTL 0 does not leave the computer.
var testGroup = net.IPv4(239, 255, 77, 77)

// hearWait is how long the own datagram may take. It never leaves the computer.
const hearWait = 500 * time.Millisecond

// multicastProblem joins a group on a card and sends a datagram of its own to it, which the system loops back. It returns why that is not
// heard, or "" if it is: then the system's firewall lets multicast in on that card.
func multicastProblem(ctx context.Context, card address.Interface) string {
	i, err := net.InterfaceByName(card.Name)
	if err != nil {
		return wiretext.Line(err.Error(), 200)
	}
	if i.Flags&net.FlagMulticast == 0 && !card.Loopback {
		return "it carries no multicast"
	}
	err = hearsItself(ctx, i)
	var slow net.Error
	switch {
	case err == nil:
		return ""
	case errors.As(err, &slow) && slow.Timeout():
		return "a datagram to a group is not heard back: a firewall on this machine drops it"
	}
	return wiretext.Line(err.Error(), 200)
}

func hearsItself(ctx context.Context, card *net.Interface) error {
	listener, err := new(net.ListenConfig).ListenPacket(ctx, "udp4", ":0")
	if err != nil {
		return err
	}
	defer listener.Close()
	in := ipv4.NewPacketConn(listener)
	if err := in.JoinGroup(card, &net.UDPAddr{IP: testGroup}); err != nil {
		return err
	}
	sender, err := new(net.ListenConfig).ListenPacket(ctx, "udp4", ":0")
	if err != nil {
		return err
	}
	defer sender.Close()
	out := ipv4.NewPacketConn(sender)
	if err := errors.Join(out.SetMulticastInterface(card), out.SetMulticastTTL(0), out.SetMulticastLoopback(true)); err != nil {
		return err
	}
	word := []byte(rand.Text())
	to := &net.UDPAddr{IP: testGroup, Port: listener.LocalAddr().(*net.UDPAddr).Port}
	if _, err := sender.WriteTo(word, to); err != nil {
		return err
	}
	if err := listener.SetReadDeadline(time.Now().Add(hearWait)); err != nil {
		return err
	}
	for buf := make([]byte, 64); ; {
		n, _, err := listener.ReadFrom(buf)
		if err != nil {
			return err
		}
		if string(buf[:n]) == string(word) {
			return nil
		}
	}
}

// routes asks the system which way the first address of each range is reached; nothing is sent.
func routes(ranges address.Ranges, cards []Card) (out []Route) {
	for _, r := range ranges.Prefixes() {
		route := Route{Range: r.String()}
		to := r.Addr()
		if r.Bits() < to.BitLen()-1 {
			to = to.Next() // the first is the network itself
		}
		conn, err := net.Dial("udp", netip.AddrPortFrom(to, 9).String())
		if err == nil {
			own := conn.LocalAddr().(*net.UDPAddr).AddrPort().Addr()
			conn.Close()
			route.Card, route.Beyond = leads(own.Unmap(), to, cards)
		}
		out = append(out, route)
	}
	return out
}

// leads returns the card that has an own address, and whether an address lies outside all of its networks.
func leads(own, to netip.Addr, cards []Card) (card string, beyond bool) {
	for _, c := range cards {
		beyond := !c.Loopback
		has := c.Loopback && own.IsLoopback()
		for _, p := range c.Prefixes {
			has = has || p.Addr() == own
			beyond = beyond && !p.Contains(to)
		}
		if has {
			return c.Name, beyond
		}
	}
	return "", false
}
