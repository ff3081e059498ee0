// Package paper writes the papers of a handover pack: the handover itself and labels, as PDF.
//
// The library that writes PDF sets bookmarks, links, a title and a language, and knows no tags: a picture has its alternative text printed
// below it in place of a tag. Letters that the typeface lacks are set in another face, and what no face has is written by its name.
package paper

import (
	"fmt"
	"io"
	"strings"

	"github.com/google/uuid"

	"unlatch/core/decide/handover"
	"unlatch/core/decide/words"
)

// A Picture is one that stands on a paper.
type Picture struct {
	Name          string // which is the same for the same picture
	Data          []byte // JPEG or PNG; nil where there is none, and once a paper holds it
	Width, Height int
	Why           string // message below "paper" of why there is none
}

// A Firm is whose paper it is.
type Firm struct {
	Name string
	Mark *Picture
}

// A Paper is what the handover is written from.
type Paper struct {
	Pack     *handover.Pack
	Manifest handover.Manifest // of its files only the content's hash counts
	Firm     Firm
	Size     Size
	Language *words.Language
	Base     string              // the address of Unlatch, for links to cameras; "" for none
	Pictures map[string]*Picture // by path in the pack
}

// writer writes one handover.
type writer struct {
	*sheet
	Paper
}

// Write writes the handover.
func (p Paper) Write(out io.Writer) error {
	name := p.Language.Text("paper.of", "site", p.Pack.Site.Name)
	w := &writer{newSheet(p.Size, p.Language, name, p.Manifest.At), p}
	w.pdf.SetAuthor(p.Firm.Name, true)
	w.cover(name)
	contents := w.keepContents()
	w.page()
	w.summary()
	w.network()
	w.plans()
	w.lineUp()
	for i := range p.Pack.Cameras {
		w.camera(&p.Pack.Cameras[i])
	}
	w.targets()
	w.capacity()
	w.outside()
	w.findings()
	w.how()
	w.signOff()
	footer := strings.Join([]string{p.Pack.Site.Name, p.Language.Text("paper.version", "n", p.Manifest.Number), p.Firm.Name}, " · ")
	return w.finish(out, contents, strings.TrimSuffix(footer, " · "))
}

// keepContents keeps as many pages for the contents as they will take: the sections, the cameras, the targets and the site plans.
func (w *writer) keepContents() (pages []int) {
	const sections = 10
	lines := sections + len(w.Pack.Cameras) + len(w.Pack.Targets) + len(w.Pack.SitePlans)
	per := 2 * w.perColumn()
	for range (lines + per - 1) / per {
		w.page()
		pages = append(pages, w.pdf.PageNo())
	}
	return pages
}

func (w *writer) cover(name string) {
	w.page()
	w.fillColor(ink)
	w.pdf.Rect(0, 0, 6, w.h, "F")
	x := margin + 6
	width := w.w - x - margin
	if m := w.Firm.Mark; m != nil && m.Data != nil {
		h := min(24.0, 70*float64(m.Height)/float64(max(1, m.Width)))
		w.picture(m, x, 28, 70*min(1, h*float64(m.Width)/float64(max(1, m.Height))/70), h, "")
	}
	w.at(x, 62, strong, w.Firm.Name)
	y := 104.0
	w.at(x, y, style{sans, 13, soft}, w.l.Text("paper.title"))
	for _, l := range w.wrap(title, w.Pack.Site.Name, width, 4) {
		y += 13
		w.at(x, y, title, l)
	}
	y += 14
	w.lineColor(ink)
	w.pdf.SetLineWidth(0.5)
	w.pdf.Line(x, y, w.w-margin, y)
	m := w.Manifest
	agreed := w.l.Text("paper.nothing_agreed")
	if b := m.Baseline; b != nil {
		agreed = w.l.Text("paper.agreed", "name", b.Name, "at", w.l.Time(b.At))
	}
	for _, t := range []string{w.l.Text("paper.version", "n", m.Number), w.l.Text("paper.made", "at", w.l.Time(m.At), "by", m.By), agreed} {
		y += 8
		w.at(x, y, style{sans, 11, ink}, w.shorten(style{sans, 11, ink}, t, width))
	}
	w.at(x, w.h-margin-9, quiet, w.l.Text("paper.content_hash"))
	w.at(x, w.h-margin-4, tiny, m.Content)
}

func (w *writer) summary() {
	w.head(w.l.Text("paper.summary"), 0, 40)
	cameras, finished := w.Pack.Count()
	open, waived := 0, 0
	for _, f := range w.Pack.Findings {
		if len(f.Things) > 0 {
			open++
		}
		if len(f.Waived) > 0 {
			waived++
		}
	}
	// What the eye finds first: how many, in large.
	x := margin
	for _, n := range []struct {
		text string
		n    int
	}{{w.l.Count("paper.counts", cameras), cameras}, {w.l.Count("paper.count_targets", len(w.Pack.Targets)), len(w.Pack.Targets)}} {
		w.at(x, w.y+11, style{bold, 26, ink}, w.l.Number(float64(n.n), 0))
		_, label, _ := strings.Cut(n.text, " ")
		w.at(x, w.y+17, quiet, label)
		x += 44
	}
	w.gap(24)
	sayings := []string{}
	if finished > 0 {
		sayings = append(sayings, w.l.Count("paper.works", finished))
	}
	if left := cameras - finished; left > 0 {
		sayings = append(sayings, w.l.Count("paper.not_works", left))
	}
	if open > 0 {
		sayings = append(sayings, w.l.Count("paper.open_findings", open))
	} else {
		sayings = append(sayings, w.l.Text("paper.all_mended"))
	}
	if waived > 0 {
		sayings = append(sayings, w.l.Count("paper.waived_findings", waived))
	}
	for _, t := range sayings {
		w.para(style{sans, 11, ink}, t)
		w.gap(1)
	}
	w.gap(3)
	if len(w.Pack.Checklist) > 0 {
		w.head(w.l.Text("paper.checklist"), 1, 12)
		rows := [][]cell{}
		for _, x := range w.Pack.Checklist {
			state := tinted(w.l.Text("paper.not_done"), stuck)
			by := ""
			if x.Done {
				state, by = tinted(w.l.Text("paper.done"), works), w.l.Text("paper.by_evidence")
			}
			if a := x.Attested; a != nil {
				by = w.l.Text("paper.attested_by", "by", a.By, "at", w.l.Date(a.At))
			}
			rows = append(rows, []cell{text(x.Title), state, text(by)})
		}
		w.table([]string{w.l.Text("paper.checklist"), w.l.Text("paper.state"), w.l.Text("paper.waiver_by")}, []float64{5, 1.3, 3}, rows)
	}
}

// lineUp shows all cameras with their pictures, three in a row.
func (w *writer) lineUp() {
	if len(w.Pack.Cameras) == 0 {
		return
	}
	w.page()
	w.head(w.l.Text("paper.lineup"), 0, 50)
	const perRow, between = 4, 4.0
	width := (w.width() - between*(perRow-1)) / perRow
	height := width * 9 / 16
	n := 0
	for i := range w.Pack.Cameras {
		c := &w.Pack.Cameras[i]
		if c.Kind != "camera" {
			continue
		}
		if n%perRow == 0 && w.room(height+14) {
			w.gap(2)
		}
		x := margin + float64(n%perRow)*(width+between)
		w.picture(w.pictureOf(c.Picture, c.PictureWhy), x, w.y, width, height, w.l.Text("paper.no_picture"))
		w.at(x, w.y+height+3.8, style{bold, 8, ink}, w.shorten(style{bold, 8, ink}, c.Title, width))
		state, finished := w.state(c)
		st := style{sans, 7.5, works}
		if !finished {
			st.color = stuck
		}
		w.at(x, w.y+height+7.2, tiny, c.Address)
		w.at(x, w.y+height+10.4, st, w.shorten(st, state, width))
		if n++; n%perRow == 0 {
			w.gap(height + 14)
		}
	}
	if n%perRow != 0 {
		w.gap(height + 14)
	}
}

// pictureOf returns a picture of the pack; one without data that says why, where there is none.
func (w *writer) pictureOf(path, why string) *Picture {
	if p := w.Pictures[path]; p != nil {
		return p
	}
	return &Picture{Why: why}
}

// page of a camera in Unlatch.
func (w *writer) link(id uuid.UUID) string {
	if w.Base == "" {
		return ""
	}
	return fmt.Sprintf("%s/sites/%s?device=%s", strings.TrimSuffix(w.Base, "/"), w.Pack.Site.ID, id)
}
