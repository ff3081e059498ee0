package jobs

import (
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/google/uuid"

	"unlatch/core/address"
	"unlatch/core/linkbudget"
	"unlatch/store"
)

// links are the link budgets of the sites that this process works on.
type links struct {
	mu   sync.Mutex
	have map[uuid.UUID]*linkbudget.Budget
}

// of is the budget of a site: what a person has set, or what the interface that leads there carries.
func (l *links) of(site store.Site) *linkbudget.Budget {
	kbps := site.LinkMbps * 1000
	if kbps == 0 {
		kbps = linkbudget.Of(carries(site.Ranges))
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	b := l.have[site.ID]
	if b == nil {
		if l.have == nil {
			l.have = map[uuid.UUID]*linkbudget.Budget{}
		}
		b = linkbudget.New(kbps)
		l.have[site.ID] = b
	}
	b.Set(kbps)
	return b
}

// loopbackMbps is what this machine carries to itself; the kernel tells no speed for it.
const loopbackMbps = 10_000

// carries is the speed in Mbit/s of the interface whose network touches the ranges; 0 where none does, or it tells none.
func carries(ranges address.Ranges) int {
	list, err := address.Interfaces()
	if err != nil {
		return 0
	}
	for _, i := range list {
		touches := slices.ContainsFunc(ranges.Prefixes(), func(r netip.Prefix) bool {
			return slices.ContainsFunc(i.Prefixes, func(p netip.Prefix) bool { return p.Masked().Overlaps(r) })
		})
		switch {
		case !touches:
		case i.Loopback:
			return loopbackMbps
		default:
			return speed(i.Name)
		}
	}
	return 0
}

// speed is what the kernel says that an interface carries, in Mbit/s; 0 where it says nothing, as of a wireless one.
func speed(name string) int {
	raw, err := os.ReadFile(filepath.Join("/sys/class/net", filepath.Base(name), "speed"))
	if err != nil {
		return 0
	}
	n, err := strconv.Atoi(strings.TrimSpace(string(raw)))
	if err != nil || n < 0 {
		return 0
	}
	return n
}
