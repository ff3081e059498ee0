package paper

import (
	"fmt"
	"slices"
	"strings"

	"github.com/go-pdf/fpdf"
	"github.com/google/uuid"

	"unlatch/core/decide/handover"
)

// camera writes the page of a camera or recorder.
func (w *writer) camera(c *handover.Camera) {
	w.page()
	w.head(c.Title, 0, 80)
	const picture = 104.0
	top, height := w.y, picture*9/16
	right := margin + picture + 6
	width := w.w - margin - right
	down := top
	if c.Kind == "camera" {
		w.picture(w.pictureOf(c.Picture, c.PictureWhy), margin, top, picture, height, w.l.Text("paper.no_picture"))
		w.at(margin, top+height+3.6, quiet, w.l.Text("paper.picture_camera"))
		down = top + height + 5
	} else {
		right, width = margin, w.width()-40
	}
	via := ""
	if c.Via != uuid.Nil {
		via = c.Via.String()
		if r := w.Pack.Camera(c.Via); r != nil {
			via = r.Title
		}
		via = w.l.Text("paper.via_channel", "recorder", via, "n", c.Channel)
	}
	state, _ := w.state(c)
	down = max(down, w.pairs(right, top-1, width, []pair{
		{w.l.Text("paper.state"), state, false},
		{w.l.Text("paper.address"), c.Address, true}, {w.l.Text("paper.via"), via, false},
		{w.l.Text("paper.hardware_address"), c.MAC, true}, {w.l.Text("paper.maker"), c.Maker, false},
		{w.l.Text("paper.model"), c.Model, false}, {w.l.Text("paper.serial"), c.Serial, true},
		{w.l.Text("paper.firmware"), c.Firmware, true}, {w.l.Text("paper.ports"), portWords(c.Ports), true},
		{w.l.Text("paper.sign_in"), w.signIn(c.SignIn), false}}))
	w.y = down + 2
	w.streams(c)
	w.reach(c)
	w.placements(c)
	if len(c.Notes) > 0 {
		w.head(w.l.Text("paper.notes"), 1, 12)
		for _, n := range c.Notes {
			w.para(small, n)
		}
	}
}

// state says in words whether a device is finished, or which latch it waits at.
func (w *writer) state(c *handover.Camera) (words string, finished bool) {
	if c.Latch == "" {
		return w.l.Text("paper.done"), true
	}
	return w.l.Text("paper.waits_at", "latch", w.l.Text("latch."+c.Latch)), false
}

// codeSide is how large the code is that leads to a device, in millimetres.
const codeSide = 22.0

// reach writes the URLs of a device with the code that leads to it in Unlatch beside them.
func (w *writer) reach(c *handover.Camera) {
	link := w.link(c.ID)
	if len(c.Streams) == 0 && link == "" {
		return
	}
	w.head(w.l.Text("paper.urls"), 1, codeSide+4)
	top, width := w.y, w.width()-24
	if link != "" {
		w.code(w.w-margin-codeSide, top-6, codeSide, link)
		st := style{sans, 6.5, soft}
		for i, l := range w.wrap(st, w.l.Text("paper.qr"), codeSide, 3) {
			w.at(w.w-margin-codeSide+1, top-6+codeSide+2.4+float64(i)*2.8, st, l)
		}
		width -= codeSide + 4
	}
	for _, s := range c.Streams {
		w.room(5)
		w.at(margin, w.y+3.8, quiet, w.shorten(quiet, w.role(s.Role), 23))
		for _, l := range w.wrap(code, s.URL, width, 4) {
			w.room(4.6)
			w.y += 4.6
			w.at(margin+24, w.y-0.8, code, l)
		}
	}
	if link != "" && w.y >= top { // still on the same page
		w.y = max(w.y, top+codeSide-6+8)
	}
}

func portWords(list []handover.Port) string {
	var out []string
	for _, p := range list {
		out = append(out, fmt.Sprintf("%d %s", p.Number, p.Is))
	}
	return strings.Join(out, ", ")
}

// streams shows what was planned against what was measured, with the bitrate second by second.
func (w *writer) streams(c *handover.Camera) {
	if len(c.Streams) == 0 {
		return
	}
	w.head(w.l.Text("paper.streams"), 1, 24)
	rows := [][]cell{}
	for _, s := range c.Streams {
		planned := s.Planned
		if planned == "" {
			planned = w.l.Text("paper.nothing_planned")
		}
		measured, transport := tinted(w.l.Text("paper.not_measured"), stuck), ""
		if m := s.Measured; m != nil {
			measured, transport = text(w.measured(m)), m.Transport
		}
		rows = append(rows, []cell{text(w.role(s.Role)), coded(planned), measured, text(transport)})
	}
	w.table([]string{w.l.Text("paper.stream"), w.l.Text("paper.planned"), w.l.Text("paper.measured"), w.l.Text("paper.transport")},
		[]float64{2, 4, 5, 1.4}, rows)
	w.plots(c)
}

func (w *writer) role(role string) string {
	if w.l.Has("role." + role) {
		return w.l.Text("role." + role)
	}
	return role
}

// measured writes what came of a stream in one line.
func (w *writer) measured(m *handover.Measured) string {
	parts := []string{m.Codec, fmt.Sprintf("%d×%d", m.Width, m.Height), w.l.Number(m.FPS, 1) + " fps", w.l.Number(m.Kbps, 0) + " kbit/s"}
	if m.GOPSeconds > 0 {
		parts = append(parts, "GOP "+w.l.Number(m.GOPSeconds, 1)+" s")
	}
	if m.Audio != "" {
		parts = append(parts, m.Audio)
	}
	return strings.Join(parts, " · ")
}

// plots draws the bitrate of each second of the proofs, side by side.
func (w *writer) plots(c *handover.Camera) {
	const height, between = 13.0, 8.0
	var list []handover.Stream
	for _, s := range c.Streams {
		if s.Measured != nil && len(s.Measured.PerSecondKbps) > 1 {
			list = append(list, s)
		}
	}
	if len(list) == 0 {
		return
	}
	list = list[:min(3, len(list))]
	w.room(height + 12)
	width := (w.width() - between*float64(len(list)-1)) / float64(len(list))
	if len(list) == 1 {
		width = w.width() / 2
	}
	for i, s := range list {
		x := margin + float64(i)*(width+between)
		m := s.Measured
		most := max(1, slices.Max(m.PerSecondKbps))
		step := width / float64(len(m.PerSecondKbps))
		w.fillColor(works)
		for n, k := range m.PerSecondKbps {
			bar := height * float64(k) / float64(most)
			w.pdf.Rect(x+float64(n)*step+step*0.1, w.y+height-bar, step*0.8, bar, "F")
		}
		w.lineColor(hair)
		w.pdf.Line(x, w.y+height, x+width, w.y+height)
		caption := w.role(s.Role) + ": " + w.l.Text("paper.proof_plot", "seconds", len(m.PerSecondKbps), "most", most)
		w.at(x, w.y+height+4, quiet, w.shorten(quiet, caption, width))
	}
	w.gap(height + 7)
}

// placements shows where the camera stands, with the target's own picture.
func (w *writer) placements(c *handover.Camera) {
	if len(c.Placements) == 0 {
		return
	}
	w.head(w.l.Text("paper.placements"), 1, 24)
	rows := [][]cell{}
	for _, p := range c.Placements {
		state := tinted(w.l.Text("paper."+p.State), works)
		if p.State != "confirmed" {
			state = tinted(w.l.Text("paper."+p.State), brass)
		}
		rows = append(rows, []cell{text(p.Name), text(p.Slot), text(strings.Join(p.Gives, ", ")), state})
	}
	w.table([]string{w.l.Text("paper.target"), w.l.Text("paper.slot"), w.l.Text("paper.stream"), w.l.Text("paper.state")},
		[]float64{3, 2, 1.5, 4}, rows)
	const between = 4.0
	width := (w.width() - 3*between) / 4
	height := width * 9 / 16
	n := 0
	for _, p := range c.Placements {
		pic := w.Pictures[p.Picture]
		if pic == nil || n == 4 {
			continue
		}
		if n == 0 {
			w.room(height + 6)
		}
		x := margin + float64(n)*(width+between)
		w.picture(pic, x, w.y, width, height, "")
		caption := w.l.Text("paper.picture_target", "target", p.Name)
		w.at(x, w.y+height+3.6, quiet, w.shorten(quiet, caption, width))
		n++
	}
	if n > 0 {
		w.gap(height + 6)
	}
}

// polygon fills a polygon of x and y in turn.
func (w *writer) polygon(points []float64) {
	list := make([]fpdf.PointType, len(points)/2)
	for i := range list {
		list[i] = fpdf.PointType{X: points[2*i], Y: points[2*i+1]}
	}
	w.pdf.Polygon(list, "F")
}
