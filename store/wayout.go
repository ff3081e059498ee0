package store

import (
	"context"
	"net/netip"
	"net/url"
	"slices"
	"strings"

	"github.com/google/uuid"

	"unlatch/core/ground/address"
)

// A WayOut is a site with all that work on it may connect to.
type WayOut struct {
	Site
	Consented []netip.Addr     // strays that may be connected to now
	Targets   []netip.AddrPort // the places beyond the ranges that targets may be reached at
	// Names are the addresses that a person has taken for the names of targets, in order.
	Names map[string][]netip.Addr
}

// Guard returns the guard that lets out to that and to nothing else.
func (w WayOut) Guard() *address.Guard {
	return &address.Guard{Allowed: w.Ranges, Consented: w.Consented, Targets: w.Targets, Names: w.Names}
}

// WayOut returns a site with its way out, in one statement.
func (s Sites) WayOut(ctx context.Context, id uuid.UUID) (WayOut, error) {
	var (
		row struct {
			siteRow
			Answers []byte `db:"answers"`
		}
		strays []struct {
			Addr string `json:"addr"`
		}
		reach []reachRow
		r     reading
	)
	r.ask(&strays, "SELECT DISTINCT c.addr FROM consents c JOIN devices d ON d.id = c.device_id WHERE d.site_id = $1 AND c.until > now()")
	r.ask(&reach, "SELECT address, unnest(reach) AS at FROM targets WHERE site_id = $1 OR shared")
	if err := s.on(ctx).GetContext(ctx, &row, siteQuery(", "+r.sql()+" AS answers")+" WHERE s.id = $1", id); err != nil {
		return WayOut{}, notFoundIfNone(err)
	}
	site, err := row.site()
	if err == nil {
		err = r.read(row.Answers)
	}
	if err != nil {
		return WayOut{}, err
	}
	out := WayOut{Site: site, Names: namedIn(reach)}
	for _, x := range strays {
		if a, err := netip.ParseAddr(x.Addr); err == nil {
			out.Consented = append(out.Consented, a)
		}
	}
	for _, x := range reach {
		out.Targets = append(out.Targets, x.At)
	}
	return out, nil
}

// A reachRow is one place that a target may be reached at, with the address of the target as a person has written it.
type reachRow struct {
	Address string         `json:"address"`
	At      netip.AddrPort `json:"at"`
}

// namedIn returns the addresses that were taken for names.
func namedIn(rows []reachRow) map[string][]netip.Addr {
	out := map[string][]netip.Addr{}
	for _, r := range rows {
		u, err := url.Parse(r.Address)
		if err != nil {
			continue
		}
		if name := strings.ToLower(u.Hostname()); address.HostName(name) {
			out[name] = append(out[name], r.At.Addr())
		}
	}
	for name, list := range out { // two targets on one host have taken their addresses each
		slices.SortFunc(list, netip.Addr.Compare)
		out[name] = slices.Compact(list)
	}
	return out
}
