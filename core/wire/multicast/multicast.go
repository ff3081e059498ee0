// Package multicast proves streams that are sent to a group: whether the group really carries them, from whom, and from where. It listens
// and asks nobody; and it plans groups for many cameras, so that no two share one.
package multicast

import (
	"fmt"
	"net/netip"
	"slices"
	"unlatch/core/stream/camera"
)

// Administered is the block of groups for use within an organisation (RFC 2365 §6): what lies outside may be somebody else's.
var Administered = netip.MustParsePrefix("239.0.0.0/8")

// UsualPool is offered for groups: the local scope (RFC 2365 §6.1). UsualPort is even, as RTP wants it (RFC 3550 §11).
var UsualPool = netip.MustParsePrefix("239.255.0.0/16")

const (
	UsualPort = 50000
	UsualTTL  = 4 // the packets cross a few routers of the site and do not leave it
)

// A Wish is one stream that shall have a group of its own.
type Wish struct {
	ID  string
	Now camera.GroupSetting
}

// An Assignment is one line of a plan.
type Assignment struct {
	ID   string
	Old  camera.GroupSetting
	New  camera.GroupSetting
	Keep bool // its group is its own already and stays
}

// A PlanError says why no plan can be made.
type PlanError struct{ Problem, Fix string }

func (e *PlanError) Error() string { return e.Problem + "; " + e.Fix }

// Plan gives each stream a group of its own from the pool, all on one port. A stream whose group lies in the pool and is nobody else's
// keeps it. taken are the groups of all streams that are not planned. No two of the groups look alike to a switch, which knows the last 23
// bits of a group alone (RFC 1112 §6.4), and none looks like the block that switches send everywhere (224.0.0.0/24, RFC 4541 §2.1.2).
func Plan(wishes []Wish, taken []netip.Addr, pool netip.Prefix, port, ttl int) ([]Assignment, error) {
	switch {
	case !pool.IsValid() || !pool.Addr().Is4() || !pool.Addr().IsMulticast():
		return nil, &PlanError{"the pool is no range of IPv4 groups", "type it like 239.255.0.0/16"}
	case !Administered.Overlaps(pool) || pool.Bits() < Administered.Bits():
		return nil, &PlanError{pool.String() + " is not all in 239.0.0.0/8", "take a range there: groups outside may be somebody else's"}
	case port < 1024 || port > 65534 || port%2 != 0:
		return nil, &PlanError{fmt.Sprintf("%d is no port for RTP", port), "take an even one from 1024 on, such as 50000"}
	case ttl < 1 || ttl > 255:
		return nil, &PlanError{fmt.Sprintf("a TTL of %d cannot be", ttl), "1 stays in the subnet, 4 is usual, 255 is the most"}
	}
	pool = pool.Masked()
	used := map[uint32]bool{}
	for _, a := range taken {
		used[onTheWire(a)] = true
	}
	out := make([]Assignment, len(wishes))
	for i, w := range wishes {
		out[i] = Assignment{ID: w.ID, Old: w.Now}
		group := w.Now.Group()
		if group.IsValid() && group.Addr().Is4() && pool.Contains(group.Addr()) && !everywhere(group.Addr()) && !used[onTheWire(group.Addr())] {
			used[onTheWire(group.Addr())] = true
			out[i].New, out[i].Keep = w.Now, int(group.Port()) == port && w.Now.TTL == ttl
			out[i].New.Port, out[i].New.TTL = port, ttl
		}
	}
	next := pool.Addr()
	for i := range out {
		if out[i].New.Addr.IsValid() {
			continue
		}
		for next = next.Next(); pool.Contains(next) && (used[onTheWire(next)] || everywhere(next)); {
			next = next.Next()
		}
		if !pool.Contains(next) {
			return nil, &PlanError{fmt.Sprintf("%s has no group for %d of the %d streams", pool, len(out)-i, len(out)), "take a wider range"}
		}
		used[onTheWire(next)] = true
		out[i].New = camera.GroupSetting{Addr: next, Port: port, TTL: ttl, Auto: out[i].Old.Auto}
	}
	return out, nil
}

// onTheWire returns the bits of a group by which Ethernet addresses it.
func onTheWire(a netip.Addr) uint32 {
	b := a.As16()
	return uint32(b[13]&0x7f)<<16 | uint32(b[14])<<8 | uint32(b[15])
}

// everywhere reports whether a switch would take a group for one of the control block, which it sends to all ports.
func everywhere(a netip.Addr) bool { return onTheWire(a)>>8 == 0 }

// Same returns the streams of a list that share a group and a port with another device's, by place.
func Same(list []netip.AddrPort, device func(i int) string) (clashes map[int][]int) {
	clashes = map[int][]int{}
	for i, a := range list {
		for j, b := range list {
			if i != j && a.IsValid() && a == b && device(i) != device(j) {
				clashes[i] = append(clashes[i], j)
			}
		}
		slices.Sort(clashes[i])
	}
	return clashes
}
