package paper

import (
	"fmt"
	"math"
	"net/netip"
	"slices"
	"strings"

	"unlatch/core/decide/handover"
	"unlatch/core/wire/target"
)

// network shows the address field: each range as squares, and what stands in them.
func (w *writer) network() {
	w.page()
	s := w.Pack.Site
	w.head(w.l.Text("paper.network"), 0, 60)
	w.y = w.pairs(margin, w.y, w.width(), []pair{
		{w.l.Text("paper.ranges"), strings.Join(s.Ranges, ", "), true}, {w.l.Text("paper.gateway"), s.Gateway, true},
		{w.l.Text("paper.pool"), strings.Join(s.Pool, ", "), true}, {w.l.Text("paper.dhcp"), strings.Join(s.DHCP, ", "), true},
		{w.l.Text("paper.dns"), strings.Join(s.DNS, ", "), true}, {w.l.Text("paper.ntp"), s.NTP, true}})
	w.gap(4)
	w.para(quiet, w.l.Text("paper.network_field"))
	w.gap(2)
	w.legend()
	nets := map[netip.Prefix]map[byte]string{}
	for _, c := range w.Pack.Cameras {
		a, err := netip.ParseAddr(c.Address)
		if err != nil || !a.Is4() || c.Channel > 0 {
			continue
		}
		net := netip.PrefixFrom(a, 24).Masked()
		if nets[net] == nil {
			nets[net] = map[byte]string{}
		}
		nets[net][a.As4()[3]] = c.Kind
	}
	var order []netip.Prefix
	for n := range nets {
		order = append(order, n)
	}
	slices.SortFunc(order, func(a, b netip.Prefix) int { return a.Addr().Compare(b.Addr()) })
	for _, n := range order {
		w.field(n, nets[n])
	}
	rows := [][]cell{}
	for _, c := range w.Pack.Cameras {
		rows = append(rows, []cell{coded(c.Address), text(c.Title), coded(c.MAC), text(strings.TrimSpace(c.Maker + " " + c.Model)),
			coded(ports(c))})
	}
	w.table([]string{w.l.Text("paper.address"), w.l.Text("paper.name"), w.l.Text("paper.hardware_address"), w.l.Text("paper.model"),
		w.l.Text("paper.ports")}, []float64{2, 3.4, 2.3, 3, 2.6}, rows)
}

func ports(c handover.Camera) string {
	var out []string
	for _, p := range c.Ports {
		out = append(out, fmt.Sprint(p.Number))
	}
	return strings.Join(out, " ")
}

func (w *writer) legend() {
	x := margin
	for _, l := range []struct {
		key string
		c   color
	}{{"camera", works}, {"recorder", ink}, {"free", well}} {
		w.fillColor(l.c)
		w.pdf.Rect(x, w.y, 3.4, 3.4, "F")
		label := w.l.Text("paper.legend." + l.key)
		w.at(x+5, w.y+2.9, quiet, label)
		x += 10 + w.measure(quiet, label)
	}
	w.gap(7)
}

// field draws one /24 as 8 rows of 32 squares.
func (w *writer) field(net netip.Prefix, taken map[byte]string) {
	const side, step = 4.6, 5.2
	w.room(8*step + 10)
	w.at(margin, w.y+3.5, strong, net.String())
	w.gap(6)
	for i := range 256 {
		c := well
		switch taken[byte(i)] {
		case "camera":
			c = works
		case "recorder":
			c = ink
		}
		x, y := margin+float64(i%32)*step, w.y+float64(i/32)*step
		w.fillColor(c)
		w.pdf.Rect(x, y, side, side, "F")
		if taken[byte(i)] != "" {
			st := style{mono, 5.5, white}
			label := fmt.Sprint(i)
			w.at(x+(side-w.measure(st, label))/2, y+3.1, st, label)
		}
	}
	w.gap(8*step + 4)
}

// plans shows the site plans with where each camera hangs and which way it looks.
func (w *writer) plans() {
	for _, p := range w.Pack.SitePlans {
		pic := w.Pictures[p.Picture]
		if pic == nil || p.Width == 0 || p.Height == 0 {
			continue
		}
		w.page()
		w.head(w.l.Text("paper.plan")+": "+p.Name, 0, 60)
		scale := min(w.width()/float64(p.Width), (w.bottom()-w.y-50)/float64(p.Height))
		width, height := float64(p.Width)*scale, float64(p.Height)*scale
		w.picture(pic, margin, w.y, width, height, "")
		w.lineColor(hair)
		w.pdf.Rect(margin, w.y, width, height, "D")
		top := w.y
		rows := [][]cell{}
		for i, m := range p.Marks {
			x, y := margin+m.X*width, top+m.Y*height
			if m.Direction != nil {
				w.sight(x, y, *m.Direction, m.View)
			}
			w.fillColor(ink)
			w.pdf.Circle(x, y, 2.4, "F")
			label := fmt.Sprint(i + 1)
			st := style{bold, 6.5, white}
			w.at(x-w.measure(st, label)/2, y+0.85, st, label)
			if c := w.Pack.Camera(m.Device); c != nil {
				rows = append(rows, []cell{number(label), text(c.Title), coded(c.Address), text(strings.TrimSpace(c.Maker + " " + c.Model))})
			}
		}
		w.y = top + height + 4
		w.table([]string{"", w.l.Text("paper.camera"), w.l.Text("paper.address"), w.l.Text("paper.model")}, []float64{0.5, 4, 2.5, 3}, rows)
	}
}

// sight draws which way a camera looks and how wide, as a wedge. Degrees run clockwise from the top of the picture.
func (w *writer) sight(x, y, direction, view float64) {
	const reach = 13.0
	if view <= 0 || view > 360 {
		view = 70
	}
	view = min(view, 180) // a wider one would cover the plan
	points := []float64{x, y}
	const steps = 12
	for i := range steps + 1 {
		a := (direction - view/2 + view*float64(i)/steps - 90) * math.Pi / 180
		points = append(points, x+reach*math.Cos(a), y+reach*math.Sin(a))
	}
	w.pdf.SetAlpha(0.35, "Normal")
	w.fillColor(works)
	w.polygon(points)
	w.pdf.SetAlpha(1, "Normal")
}

func (w *writer) targets() {
	if len(w.Pack.Targets) == 0 {
		return
	}
	w.page()
	w.head(w.l.Text("paper.targets"), 0, 30)
	for _, t := range w.Pack.Targets {
		w.head(t.Name, 1, 30)
		load := ""
		if t.LoadKbps > 0 {
			load = mbit(w, t.LoadKbps)
			if t.LimitKbps > 0 {
				load += " / " + mbit(w, t.LimitKbps)
			}
		}
		days := ""
		if t.Days > 0 {
			days = w.l.Text("paper.days_word", "n", t.Days)
		}
		kind := t.Is
		if kind == "" {
			kind = t.Kind
		}
		w.y = w.pairs(margin, w.y, w.width(), []pair{{w.l.Text("paper.kind"), strings.TrimSpace(kind + " " + t.Maker + " " + t.Model), false},
			{w.l.Text("paper.address"), t.Address, true}, {w.l.Text("paper.sign_in"), w.signIn(t.SignIn), false},
			{w.l.Text("paper.load"), load, false}, {w.l.Text("paper.days"), days, false}})
		w.gap(2)
		rows, free := [][]cell{}, 0
		for i, s := range t.Slots {
			if s.Is == target.Free {
				free++
				continue
			}
			name := s.Name
			if c := w.Pack.Camera(s.Camera); c != nil {
				name = c.Title
			}
			label := s.Label
			if label == "" {
				label = s.Token
			}
			rows = append(rows, []cell{number(fmt.Sprint(i + 1)), text(label), text(name), text(s.State),
				text(handover.ScheduleWords(s.Schedule, w.l))})
		}
		if len(t.Slots) == 0 {
			for _, c := range w.Pack.Cameras {
				for _, p := range c.Placements {
					if p.Target == t.ID {
						rows = append(rows, []cell{number(fmt.Sprint(len(rows) + 1)), text(p.Slot), text(c.Title),
							text(w.l.Text("paper." + p.State)), text("")})
					}
				}
			}
		}
		w.table([]string{w.l.Text("paper.position"), w.l.Text("paper.slot"), w.l.Text("paper.camera"), w.l.Text("paper.state"),
			w.l.Text("paper.schedule")}, []float64{0.8, 2, 3, 3, 2}, rows)
		if free > 0 {
			w.para(quiet, w.l.Count("paper.free_slots", free))
		}
	}
}

func mbit(w *writer, kbps float64) string { return w.l.Number(kbps/1000, 1) + " Mbit/s" }

func (w *writer) capacity() {
	c := w.Pack.Capacity
	if c == nil {
		return
	}
	w.head(w.l.Text("paper.capacity"), 0, 40)
	days := ""
	if c.Cost.Days > 0 {
		days = w.l.Number(c.Cost.Days, 1)
	}
	const terabyte = 1e12
	w.y = w.pairs(margin, w.y, w.width(), []pair{
		{w.l.Text("paper.usable"), fmt.Sprintf("%s (%s TB)", c.Form.Disks, w.l.Number(float64(c.Cost.UsableBytes)/terabyte, 2)), false},
		{w.l.Text("paper.per_day"), w.l.Number(c.Cost.BytesPerDay/1e9, 1) + " GB", false},
		{w.l.Text("paper.days"), days, false},
		{w.l.Text("paper.recorder_load"), w.l.Number(c.Cost.InboundMbps, 1) + " Mbit/s", false}})
	w.gap(4)
}

func (w *writer) outside() {
	w.head(w.l.Text("paper.outside"), 0, 30)
	f := w.Pack.Outside.Form
	if len(f.Maps) == 0 {
		w.para(body, w.l.Text("paper.outside_none"))
	} else {
		rows := [][]cell{}
		for _, m := range f.Maps {
			name := ""
			if c := w.Pack.Camera(m.Device); c != nil {
				name = c.Title
			}
			rows = append(rows, []cell{number(fmt.Sprint(m.Port)), coded(m.Inside), text(name)})
		}
		w.para(body, w.l.Text("paper.outside_address")+": "+strings.Join(f.Addresses, ", "))
		w.gap(2)
		w.table([]string{w.l.Text("paper.outside_port"), w.l.Text("paper.inside"), w.l.Text("paper.camera")}, []float64{1, 2, 3}, rows)
	}
	if len(w.Pack.Outside.Never) > 0 {
		w.gap(2)
		w.head(w.l.Text("paper.never"), 1, 20)
		for _, n := range w.Pack.Outside.Never {
			w.para(small, n)
		}
	}
}

func (w *writer) findings() {
	w.page()
	w.head(w.l.Text("paper.findings"), 0, 30)
	if len(w.Pack.Findings) == 0 {
		w.para(body, w.l.Text("paper.no_findings"))
		return
	}
	for _, f := range w.Pack.Findings {
		all := len(f.Things) + len(f.Waived)
		first := ""
		if all > 0 {
			first = slices.Concat(f.Things, f.Waived)[0].Title
		}
		w.head(w.l.Count("finding."+string(f.Cause)+".title", all, "thing", first), 1, 16)
		w.para(quiet, w.l.Text("finding."+string(f.Cause)+".do"))
		w.gap(1.5)
		rows := [][]cell{}
		for _, t := range slices.Concat(f.Things, f.Waived) {
			state := tinted(w.l.Text("paper.finding_open"), stuck)
			if t.Waiver != nil {
				state = tinted(w.l.Text("paper.waived_by", "by", t.Waiver.By, "at", w.l.Date(t.Waiver.At), "reason", t.Waiver.Reason), brass)
			}
			rows = append(rows, []cell{text(t.Title), text(w.detail(string(f.Cause), t.Detail)), state})
		}
		w.table([]string{w.l.Text("paper.of_device"), w.l.Text("paper.detail"), w.l.Text("paper.state")}, []float64{2, 2, 4}, rows)
	}
}

// detail writes the fact that shows a finding; the name of a latch in the language of the paper.
func (w *writer) detail(cause, detail string) string {
	if cause == "unfinished" {
		return w.l.Text("latch." + detail)
	}
	return detail
}

func (w *writer) how() {
	w.head(w.l.Text("paper.how"), 0, 60)
	if w.Base != "" {
		w.y = w.pairs(margin, w.y, w.width(), []pair{{w.l.Text("paper.how_unlatch"), fmt.Sprintf("%s/sites/%s", strings.TrimSuffix(w.Base, "/"),
			w.Pack.Site.ID), true}})
		w.gap(2)
	}
	rows := [][]cell{}
	for _, c := range w.Pack.Cameras {
		if c.Web != "" {
			rows = append(rows, []cell{text(c.Title), coded(c.Web), text(w.signIn(c.SignIn))})
		}
	}
	if len(rows) > 0 {
		w.table([]string{w.l.Text("paper.how_pages"), w.l.Text("paper.address"), w.l.Text("paper.sign_in")}, []float64{3, 4, 4}, rows)
	}
	if s := w.Manifest.Sealed; s != nil {
		w.para(body, w.l.Text("paper.how_sealed", "file", handover.SealedFile))
		who := strings.Join(s.Recipients, ", ")
		if s.Passphrase {
			who = w.l.Text("paper.passphrase")
		}
		w.para(tiny, w.l.Text("paper.sealed_to", "who", who))
	} else {
		w.para(body, w.l.Text("paper.how_not_sealed"))
	}
}

// signIn names a sign-in by its entry of the keyring.
func (w *writer) signIn(s *handover.SignIn) string {
	if s == nil {
		return ""
	}
	return fmt.Sprintf("%s (%s)", s.Label, s.User)
}

func (w *writer) signOff() {
	w.page()
	w.head(w.l.Text("paper.sign_off"), 0, 80)
	w.para(style{sans, 11, ink}, w.l.Text("paper.sign_off_text"))
	w.gap(4)
	w.y = w.pairs(margin, w.y, w.width(), []pair{{w.l.Text("paper.title"), w.Pack.Site.Name, false},
		{w.l.Text("paper.version", "n", w.Manifest.Number), w.l.Time(w.Manifest.At), false}})
	w.gap(2)
	w.at(margin, w.y+4, quiet, w.l.Text("paper.content_hash"))
	w.at(margin, w.y+9, tiny, w.Manifest.Content)
	w.gap(34)
	for _, label := range []string{"sign_name", "sign_date", "sign_signature"} {
		w.lineColor(ink)
		w.pdf.SetLineWidth(0.3)
		w.pdf.Line(margin, w.y, margin+100, w.y)
		w.at(margin, w.y+4.5, quiet, w.l.Text("paper."+label))
		w.gap(24)
	}
}
