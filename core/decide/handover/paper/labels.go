package paper

import (
	"fmt"
	"io"
	"time"

	"unlatch/core/decide/handover"
	"unlatch/core/decide/words"
)

// A LabelSheet is a sheet of labels: how many stand on it, how large they are and where the first begins, in millimetres.
type LabelSheet struct {
	Name    string  `json:"name"`
	Paper   Size    `json:"paper" enum:"A4,Letter"`
	Columns int     `json:"columns" minimum:"1" maximum:"10"`
	Rows    int     `json:"rows" minimum:"1" maximum:"30"`
	Width   float64 `json:"width_mm" minimum:"20" maximum:"210"`
	Height  float64 `json:"height_mm" minimum:"12" maximum:"290"`
	Left    float64 `json:"left_mm" minimum:"0" maximum:"100"`
	Top     float64 `json:"top_mm" minimum:"0" maximum:"100"`
	GapX    float64 `json:"gap_x_mm" minimum:"0" maximum:"50"`
	GapY    float64 `json:"gap_y_mm" minimum:"0" maximum:"50"`
}

// LabelSheets are the usual sizes, by their measure.
var LabelSheets = []LabelSheet{
	{"70 × 37 mm, 24 on A4", A4, 3, 8, 70, 37, 0, 0.5, 0, 0},
	{"63.5 × 38.1 mm, 21 on A4", A4, 3, 7, 63.5, 38.1, 7.2, 15.1, 2.5, 0},
	{"99.1 × 38.1 mm, 14 on A4", A4, 2, 7, 99.1, 38.1, 4.6, 15.1, 2.5, 0},
	{"48.5 × 25.4 mm, 40 on A4", A4, 4, 10, 48.5, 25.4, 8, 21.5, 0, 0},
	{"2⅝ × 1 in, 30 on Letter", Letter, 3, 10, 66.7, 25.4, 4.8, 12.7, 3.2, 0},
	{"4 × 2 in, 10 on Letter", Letter, 2, 5, 101.6, 50.8, 4, 12.7, 4.8, 0},
}

// Check returns an error where the labels do not fit onto their paper.
func (s LabelSheet) Check() error {
	w, h := 210.0, 297.0
	if s.Paper == Letter {
		w, h = 215.9, 279.4
	}
	const tolerance = 0.5
	switch {
	case s.Columns < 1 || s.Rows < 1 || s.Columns > 10 || s.Rows > 30:
		return fmt.Errorf("a sheet has 1 to 10 columns and 1 to 30 rows of labels")
	case s.Width < 20 || s.Height < 12:
		return fmt.Errorf("a label is 20 mm wide and 12 mm high at least")
	case s.Left < 0 || s.Top < 0 || s.GapX < 0 || s.GapY < 0:
		return fmt.Errorf("margins and gaps are not below zero")
	case s.Left+float64(s.Columns)*s.Width+float64(s.Columns-1)*s.GapX > w+tolerance:
		return fmt.Errorf("%d labels of %g mm are wider than the paper (%g mm)", s.Columns, s.Width, w)
	case s.Top+float64(s.Rows)*s.Height+float64(s.Rows-1)*s.GapY > h+tolerance:
		return fmt.Errorf("%d labels of %g mm are higher than the paper (%g mm)", s.Rows, s.Height, h)
	}
	return nil
}

// WriteLabels writes one label for each camera and recorder that has an address of its own: name, address, hardware address and the code
// that leads to it.
func (p Paper) WriteLabels(out io.Writer, on LabelSheet) error {
	if err := on.Check(); err != nil {
		return err
	}
	s := newSheet(on.Paper, p.Language, p.Language.Text("paper.labels"), p.Manifest.At)
	w := &writer{s, p}
	i := 0
	for n := range p.Pack.Cameras {
		c := &p.Pack.Cameras[n]
		if c.Channel > 0 {
			continue
		}
		if i%(on.Columns*on.Rows) == 0 {
			s.page()
		}
		at := i % (on.Columns * on.Rows)
		x := on.Left + float64(at%on.Columns)*(on.Width+on.GapX)
		y := on.Top + float64(at/on.Columns)*(on.Height+on.GapY)
		w.label(c, x, y, on.Width, on.Height)
		i++
	}
	if i == 0 {
		s.page()
	}
	return s.pdf.Output(out)
}

// label writes one label.
func (w *writer) label(c *handover.Camera, x, y, width, height float64) {
	const pad = 2.5
	side := min(height-2*pad, width*0.42)
	text := width - 2*pad
	if link := w.link(c.ID); link != "" {
		w.code(x+width-pad-side, y+(height-side)/2, side, link)
		text -= side + 1.5
	}
	name := style{bold, 9, ink}
	most := 2
	if height < 30 {
		name.size, most = 8, 1
	}
	at := y + pad
	for _, l := range w.wrap(name, c.Title, text, most) {
		at += name.height()
		w.at(x+pad, at, name, l)
	}
	at += 1
	for _, t := range []string{c.Address, c.MAC, c.Serial} {
		if t == "" || at+3.4 > y+height-1 {
			continue
		}
		at += 3.6
		w.at(x+pad, at, tiny, w.shorten(tiny, t, text))
	}
}

// NewLabels returns what labels alone are written from.
func NewLabels(p *handover.Pack, l *words.Language, base string, at time.Time) Paper {
	return Paper{Pack: p, Language: l, Base: base, Manifest: handover.Manifest{At: at}}
}
