package server

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/ground/address"
	"unlatch/core/stream/camera"
	"unlatch/core/wire/netconfig"
	"unlatch/jobs"
	"unlatch/store"
)

// networkBody is how a site's addresses are laid out, as a person types it.
type networkBody struct {
	Pool     string `json:"pool" doc:"for cameras: ranges, parted by commas"`
	DHCP     string `json:"dhcp" doc:"what the DHCP server gives out"`
	Gateway  string `json:"gateway"`
	Bits     int    `json:"bits" minimum:"0" maximum:"32" doc:"prefix length"`
	DNS      string `json:"dns,omitempty" doc:"name servers, parted by commas"`
	NTP      string `json:"ntp,omitempty" doc:"time server"`
	TimeZone string `json:"time_zone,omitempty" doc:"in the POSIX form"`
}

// addrList reads addresses that are parted by commas or blanks.
func addrList(text string) (out []netip.Addr, err error) {
	for _, f := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' || r == ';' }) {
		a, err := netip.ParseAddr(f)
		if err != nil || !a.Is4() {
			return nil, &address.PlanError{Field: "dns", Problem: fmt.Sprintf("the name server %q is not an address", f),
				Fix: "type them like 192.0.2.53, 198.51.100.53"}
		}
		out = append(out, a)
	}
	return out, nil
}

func (b networkBody) read() (address.Network, error) {
	var n address.Network
	var err error
	if n.Pool, err = address.Parse(b.Pool); err != nil {
		return n, err
	}
	if n.DHCP, err = address.Parse(b.DHCP); err != nil {
		return n, err
	}
	if n.DNS, err = addrList(b.DNS); err != nil {
		return n, err
	}
	n.Bits, n.NTP, n.TimeZone = b.Bits, strings.TrimSpace(b.NTP), strings.TrimSpace(b.TimeZone)
	if g := strings.TrimSpace(b.Gateway); g != "" {
		if n.Gateway, err = netip.ParseAddr(g); err != nil {
			return n, &address.PlanError{Field: "gateway", Problem: fmt.Sprintf("the gateway %q is not an address", g),
				Fix: "type it like 192.0.2.1, or leave it out"}
		}
	}
	return n, nil
}

func viewOfNetwork(n address.Network) networkBody {
	v := networkBody{Pool: strings.Join(n.Pool.Spans(), ", "), DHCP: strings.Join(n.DHCP.Spans(), ", "), Bits: n.Bits, NTP: n.NTP,
		TimeZone: n.TimeZone}
	var servers []string
	for _, a := range n.DNS {
		servers = append(servers, a.String())
	}
	v.DNS = strings.Join(servers, ", ")
	if n.Gateway.IsValid() {
		v.Gateway = n.Gateway.String()
	}
	return v
}

type assignmentView struct {
	Device  uuid.UUID `json:"device"`
	Name    string    `json:"name"`
	Old     string    `json:"old"`
	New     string    `json:"new"`
	Keep    bool      `json:"keep" doc:"it lies in the pool already and stays"`
	Problem string    `json:"problem,omitempty" doc:"why this line cannot be sent as it is"`
	Host    string    `json:"host" doc:"the host name that its name makes"`
	SkewMS  int64     `json:"skew_ms,omitempty" doc:"by how much its clock is ahead, where that is more than a few seconds"`
}

type planOut struct {
	Body struct {
		Assignments []assignmentView `json:"assignments"`
	}
}

type addressBody struct {
	Device   uuid.UUID `json:"device"`
	Address  string    `json:"address,omitempty"`
	DHCP     bool      `json:"dhcp,omitempty"`
	Bits     int       `json:"bits,omitempty" maximum:"30"`
	Gateway  string    `json:"gateway,omitempty"`
	DNS      string    `json:"dns,omitempty"`
	NoDNS    bool      `json:"no_dns,omitempty" doc:"no name servers by hand: undo of the first that were set"`
	NoNTP    bool      `json:"no_ntp,omitempty" doc:"no time server by hand"`
	NTP      string    `json:"ntp,omitempty" maxLength:"120"`
	Host     string    `json:"host,omitempty" maxLength:"63"`
	TimeZone string    `json:"time_zone,omitempty" maxLength:"120"`
	Clock    bool      `json:"clock,omitempty" doc:"set its clock right"`
}

type applyBody struct {
	Title   string        `json:"title,omitempty" maxLength:"120"`
	Lines   []addressBody `json:"lines" minItems:"1" maxItems:"5000"`
	Network *networkBody  `json:"network,omitempty" doc:"how the site's addresses are laid out, to be kept"`
	Strict  bool          `json:"strict,omitempty" doc:"refuse everything where one device cannot be moved, rather than leave it out"`
}

// addressPlans serve plans of addresses, and send them.
type addressPlans struct {
	resource
	agent jobs.Agent
}

func (s addressPlans) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "plan-addresses", Metadata: reads, Method: "POST", Path: "/api/sites/{site}/address-plan",
		Summary: "Plan addresses for devices; nothing is sent"},
		func(ctx context.Context, in *struct {
			SitePath
			Body struct {
				Devices []uuid.UUID `json:"devices" minItems:"1" maxItems:"5000"`
				Order   string      `json:"order" enum:"name,address,heard"`
				Network networkBody `json:"network"`
			}
		}) (*planOut, error) {
			n, err := in.Body.Network.read()
			if err != nil {
				return nil, s.explain(err)
			}
			return s.plan(ctx, in.Site, in.Body.Devices, in.Body.Order, n)
		})
	register(s, api, huma.Operation{OperationID: "apply-addresses", Method: "POST", Path: "/api/sites/{site}/addresses",
		Summary: "Send addresses to devices and find them again", DefaultStatus: 202},
		func(ctx context.Context, in *struct {
			SitePath
			TryQuery
			Body applyBody
		}) (*runOut, error) {
			return s.apply(ctx, in.Site, in.TryQuery, in.Body)
		})
}

// plan makes the plan and looks at each new address live. Nothing is kept.
func (s addressPlans) plan(ctx context.Context, id uuid.UUID, devices []uuid.UUID, order string, n address.Network) (*planOut, error) {
	site, err := s.store.Sites.Get(ctx, id)
	if err != nil {
		return nil, s.explain(err)
	}
	all, err := s.store.Devices.List(ctx, id)
	if err != nil {
		return nil, s.explain(err)
	}
	var picked []*store.Device
	var taken []netip.Addr
	for i := range all {
		if slices.Contains(devices, all[i].ID) {
			picked = append(picked, &all[i])
		} else if a := all[i].Status.Device.Addr; a.IsValid() {
			taken = append(taken, a)
		}
	}
	sortDevices(picked, order)
	wishes := make([]address.Wish, len(picked))
	for i, d := range picked {
		wishes[i] = address.Wish{ID: d.ID.String(), Current: d.Status.Device.Addr}
	}
	plan, err := n.Plan(site.Ranges, wishes, taken)
	if err != nil {
		return nil, s.explain(err)
	}
	out := &planOut{}
	out.Body.Assignments = make([]assignmentView, len(plan))
	var ask []netip.Addr
	for i, a := range plan {
		v := assignmentView{Device: picked[i].ID, Name: picked[i].Title(), Old: a.Old.String(), New: a.New.String(), Keep: a.Keep,
			Problem: act.CannotMove(picked[i].Latch()), Host: netconfig.HostName(picked[i].Title())}
		if r := picked[i].Status.Reached; r != nil && r.ClockWrong() {
			v.SkewMS = r.SkewMS
		}
		if !a.Keep && v.Problem == "" {
			ask = append(ask, a.New)
		}
		out.Body.Assignments[i] = v
	}
	occupied, err := s.agent.Taken(ctx, site, ask)
	if err != nil {
		return nil, s.explain(err)
	}
	for i, a := range plan {
		if port, ok := occupied[a.New]; ok && !a.Keep && out.Body.Assignments[i].Problem == "" {
			out.Body.Assignments[i].Problem = fmt.Sprintf("Something answers there already, on port %d", port)
		}
	}
	return out, nil
}

func sortDevices(list []*store.Device, order string) {
	slices.SortStableFunc(list, func(a, b *store.Device) int {
		switch order {
		case "name":
			return strings.Compare(strings.ToLower(a.Title()), strings.ToLower(b.Title()))
		case "heard":
			return a.Created.Compare(b.Created)
		}
		return a.Status.Device.Addr.Compare(b.Status.Device.Addr)
	})
}

// setting reads one line of an address plan.
func (l addressBody) setting() (camera.Network, error) {
	to := camera.Network{DHCP: l.DHCP, Bits: l.Bits, HostSettings: camera.HostSettings{NTP: strings.TrimSpace(l.NTP),
		Host: l.Host, TimeZone: strings.TrimSpace(l.TimeZone), Clock: l.Clock, NoDNS: l.NoDNS, NoNTP: l.NoNTP}}
	var err error
	if to.DNS, err = addrList(l.DNS); err != nil {
		return to, err
	}
	if !l.DHCP {
		if to.Addr, err = netip.ParseAddr(l.Address); err != nil || l.Bits < 8 {
			return to, problem(422, "bad_address", fmt.Sprintf("%q with /%d is no address to give.", l.Address, l.Bits),
				"Type an address and a mask.")
		}
	}
	if l.Gateway != "" {
		if to.Gateway, err = netip.ParseAddr(l.Gateway); err != nil {
			return to, problem(422, "bad_address", fmt.Sprintf("The gateway %q is not an address.", l.Gateway),
				"Type it like 192.0.2.1, or leave it out.")
		}
	}
	return to, nil
}

func (s addressPlans) apply(ctx context.Context, site uuid.UUID, try TryQuery, in applyBody) (*runOut, error) {
	a := act.GiveAddresses{Site: site, Title: in.Title, Strict: in.Strict}
	for _, l := range in.Lines {
		to, err := l.setting()
		if err != nil {
			return nil, s.explain(err)
		}
		a.Lines = append(a.Lines, act.AddressLine{Device: l.Device, To: to})
	}
	if in.Network != nil {
		n, err := in.Network.read()
		if err != nil {
			return nil, s.explain(err)
		}
		a.Network = &n
	}
	return s.tryOrBegin(ctx, try, a)
}
