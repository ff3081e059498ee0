package paper

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/go-pdf/fpdf"

	"unlatch/core/decide/words"
)

// Sizes in millimetres.
const (
	margin = 16.0
	foot   = 14.0 // below the text
	line   = 5.0  // of body text
)

// A color is one of the paper's, as red, green and blue.
type color [3]int

var (
	ink   = color{0x15, 0x30, 0x2a}
	soft  = color{0x4a, 0x62, 0x5a}
	hair  = color{0xcd, 0xd8, 0xd2}
	well  = color{0xe7, 0xec, 0xe9}
	works = color{0x1a, 0x75, 0x64}
	stuck = color{0xa8, 0x37, 0x1f}
	brass = color{0x7d, 0x5a, 0x10}
	white = color{0xff, 0xff, 0xff}
)

// A style is how text is set.
type style struct {
	face  face
	size  float64 // in points
	color color
}

var (
	body    = style{sans, 9.5, ink}
	quiet   = style{sans, 8.5, soft}
	strong  = style{bold, 9.5, ink}
	small   = style{sans, 8, ink}
	code    = style{mono, 8.5, ink}
	tiny    = style{mono, 7.5, soft}
	title   = style{bold, 28, ink}
	heading = style{bold, 16, ink}
	sub     = style{bold, 11, ink}
)

// height returns how high a line of a style is, in millimetres.
func (s style) height() float64 { return s.size * 0.49 }

// A sheet is the paper being written, with where the next line goes.
type sheet struct {
	pdf    *fpdf.Fpdf
	l      *words.Language
	w, h   float64
	y      float64
	loaded map[face]bool
	images map[string]bool
	marks  []mark // for the contents
}

// A mark is a heading of the contents.
type mark struct {
	text string
	page int
	link int
}

// Size is that of the paper.
type Size string

// The sizes.
const (
	A4     Size = "A4"
	Letter Size = "Letter"
)

// newSheet begins a paper. at is the time of making, which stands in the file.
func newSheet(size Size, l *words.Language, name string, at time.Time) *sheet {
	pdf := fpdf.New("P", "mm", string(size), "")
	pdf.SetCompression(true)
	pdf.SetCatalogSort(true)
	pdf.SetCreationDate(at.UTC())
	pdf.SetModificationDate(at.UTC())
	pdf.SetProducer("Unlatch", true)
	pdf.SetTitle(name, true)
	pdf.SetLang(l.Tag)
	pdf.SetAutoPageBreak(false, 0)
	pdf.SetMargins(margin, margin, margin)
	pdf.SetDisplayMode("fullwidth", "SinglePage")
	s := &sheet{pdf: pdf, l: l, loaded: map[face]bool{}, images: map[string]bool{}}
	s.w, s.h = pdf.GetPageSize()
	return s
}

// width is that of the text.
func (s *sheet) width() float64 { return s.w - 2*margin }

// page begins a new page.
func (s *sheet) page() {
	s.pdf.AddPage()
	s.y = margin
}

// bottom is where the text ends.
func (s *sheet) bottom() float64 { return s.h - margin - foot + 6 }

// room begins a new page where less than a height is left, and reports whether it did.
func (s *sheet) room(height float64) bool {
	if s.y+height <= s.bottom() {
		return false
	}
	s.page()
	return true
}

// use selects a face.
func (s *sheet) use(f face, size float64) {
	if !s.loaded[f] {
		s.loaded[f] = true
		s.pdf.AddUTF8FontFromBytes(string(f), "", f.data())
	}
	s.pdf.SetFont(string(f), "", size)
}

// measure returns how wide a line is.
func (s *sheet) measure(st style, text string) (w float64) {
	for _, r := range runs(st.face, text) {
		s.use(r.face, st.size)
		w += s.pdf.GetStringWidth(r.text)
	}
	return w
}

// at writes a line with its baseline at y.
func (s *sheet) at(x, y float64, st style, text string) {
	s.pdf.SetTextColor(st.color[0], st.color[1], st.color[2])
	for _, r := range runs(st.face, visible(text)) {
		s.use(r.face, st.size)
		s.pdf.Text(x, y, r.text)
		x += s.pdf.GetStringWidth(r.text)
	}
}

// rightAt writes a line that ends at x.
func (s *sheet) rightAt(x, y float64, st style, text string) {
	s.at(x-s.measure(st, visible(text)), y, st, text)
}

// wrap breaks a text into lines of a width. A word that is longer than a line is broken too. Beyond most lines the rest is cut.
func (s *sheet) wrap(st style, text string, width float64, most int) []string {
	text = visible(text)
	if text == "" {
		return nil
	}
	if s.measure(st, text) <= width {
		return []string{text}
	}
	var out []string
	current := ""
	for _, word := range strings.Fields(text) {
		next := word
		if current != "" {
			next = current + " " + word
		}
		if s.measure(st, next) <= width {
			current = next
			continue
		}
		if current != "" {
			out = append(out, current)
		}
		for s.measure(st, word) > width {
			head := s.fitting(st, word, width)
			out, word = append(out, head), word[len(head):]
		}
		current = word
	}
	if current != "" {
		out = append(out, current)
	}
	if len(out) > most {
		out = out[:most]
		out[most-1] = s.shorten(st, out[most-1]+" …", width)
	}
	return out
}

// fitting returns the part of a word that fits into a width, one letter at least.
func (s *sheet) fitting(st style, word string, width float64) string {
	end := 0
	for i, r := range word {
		next := i + len(string(r))
		if end > 0 && s.measure(st, word[:next]) > width {
			break
		}
		end = next
	}
	return word[:end]
}

// shorten cuts a line to a width, with an ellipsis.
func (s *sheet) shorten(st style, text string, width float64) string {
	text = visible(text)
	if s.measure(st, text) <= width {
		return text
	}
	text = strings.TrimSuffix(text, "…")
	for text != "" && s.measure(st, text+"…") > width {
		r := []rune(text)
		text = string(r[:len(r)-1])
	}
	return strings.TrimRight(text, " ") + "…"
}

// para writes a text over the width of the page, and over more pages where it has to.
func (s *sheet) para(st style, text string) {
	for _, l := range s.wrap(st, text, s.width(), 200) {
		s.room(st.height())
		s.y += st.height()
		s.at(margin, s.y-1.2, st, l)
	}
}

// gap leaves some room.
func (s *sheet) gap(mm float64) { s.y += mm }

// rule draws a hairline over the width of the text.
func (s *sheet) rule() {
	s.lineColor(hair)
	s.pdf.SetLineWidth(0.2)
	s.pdf.Line(margin, s.y, s.w-margin, s.y)
}

func (s *sheet) lineColor(c color) { s.pdf.SetDrawColor(c[0], c[1], c[2]) }
func (s *sheet) fillColor(c color) { s.pdf.SetFillColor(c[0], c[1], c[2]) }

// head writes a heading, which stands in the contents and among the bookmarks, on the same page as what follows.
func (s *sheet) head(text string, level int, keep float64) {
	st := heading
	if level > 0 {
		st = sub
	}
	lines := s.wrap(st, text, s.width(), 3)
	s.room(float64(len(lines))*st.height() + keep)
	if s.y > margin {
		s.gap(4)
	}
	s.mark(text, level)
	for _, l := range lines {
		s.y += st.height()
		s.at(margin, s.y-1.5, st, l)
	}
	s.gap(1.5)
	if level == 0 {
		s.lineColor(ink)
		s.pdf.SetLineWidth(0.4)
		s.pdf.Line(margin, s.y, s.w-margin, s.y)
		s.gap(3)
	}
}

// mark sets a bookmark here. A place of the highest level stands in the contents too.
func (s *sheet) mark(text string, level int) {
	text = visible(text)
	s.use(sans, 9)
	s.pdf.Bookmark(text, level, s.y)
	if level > 0 {
		return
	}
	link := s.pdf.AddLink()
	s.pdf.SetLink(link, s.y, s.pdf.PageNo())
	s.marks = append(s.marks, mark{text, s.pdf.PageNo(), link})
}

// A pair is a label with its value.
type pair struct {
	label, value string
	code         bool
}

// pairs writes labels with their values into a column from x, and returns how far down it came.
func (s *sheet) pairs(x, y, width float64, list []pair) float64 {
	labels := 0.0
	for _, p := range list {
		if p.value != "" {
			labels = max(labels, s.measure(quiet, visible(p.label)))
		}
	}
	labels = min(labels+3, width*0.45)
	for _, p := range list {
		if p.value == "" {
			continue
		}
		st := body
		if p.code {
			st = code
		}
		s.at(x, y+line-1.5, quiet, s.shorten(quiet, p.label, labels-1))
		for _, l := range s.wrap(st, p.value, width-labels, 4) {
			y += line
			s.at(x+labels, y-1.5, st, l)
		}
		y += 0.3
	}
	return y
}

// A cell is one of a table.
type cell struct {
	text  string
	code  bool
	right bool
	color *color
}

func text(s string) cell            { return cell{text: s} }
func coded(s string) cell           { return cell{text: s, code: true} }
func number(s string) cell          { return cell{text: s, right: true} }
func tinted(s string, c color) cell { return cell{text: s, color: &c} }

// table writes rows in columns, whose widths are shares of the text's. The heading is written again on each page.
func (s *sheet) table(heads []string, shares []float64, rows [][]cell) {
	if len(rows) == 0 {
		return
	}
	sum := 0.0
	for _, x := range shares {
		sum += x
	}
	widths := make([]float64, len(shares))
	for i, x := range shares {
		widths[i] = x / sum * s.width()
	}
	top := func() {
		x := margin
		for i, h := range heads {
			s.at(x, s.y+3.6, quiet, s.shorten(quiet, h, widths[i]-2))
			x += widths[i]
		}
		s.gap(5)
		s.rule()
	}
	s.room(14)
	top()
	for _, row := range rows {
		height := 0.0
		lines := make([][]string, len(row))
		for i, c := range row {
			lines[i] = s.wrap(c.style(), c.text, widths[i]-2.5, 8)
			height = max(height, float64(len(lines[i]))*4.4+1.6)
		}
		if s.room(height) {
			top()
		}
		x := margin
		for i, c := range row {
			for n, l := range lines[i] {
				at := s.y + 4.1 + float64(n)*4.4
				if c.right {
					s.rightAt(x+widths[i]-2.5, at, c.style(), l)
				} else {
					s.at(x, at, c.style(), l)
				}
			}
			x += widths[i]
		}
		s.gap(height)
		s.rule()
	}
	s.gap(2)
}

func (c cell) style() style {
	st := small
	if c.code {
		st = style{mono, 7.5, ink}
	}
	if c.color != nil {
		st.color = *c.color
	}
	return st
}

// picture draws a JPEG or PNG picture into a box, as large as it fits. A picture that cannot be read leaves the box with the reason.
func (s *sheet) picture(p *Picture, x, y, w, h float64, none string) {
	if p == nil || p.Data == nil && !s.images[p.Name] {
		s.fillColor(well)
		s.pdf.Rect(x, y, w, h, "F")
		if p != nil && p.Why != "" {
			none = s.l.Text("paper." + p.Why)
		}
		st := quiet
		lines := s.wrap(st, none, w-4, 3)
		for i, l := range lines {
			s.at(x+(w-s.measure(st, l))/2, y+h/2+1+float64(i)*st.height()-float64(len(lines)-1)*st.height()/2, st, l)
		}
		return
	}
	if !s.images[p.Name] {
		s.images[p.Name] = true
		kind := "JPG"
		if bytes.HasPrefix(p.Data, []byte("\x89PNG")) {
			kind = "PNG"
		}
		info := s.pdf.RegisterImageOptionsReader(p.Name, fpdf.ImageOptions{ImageType: kind}, bytes.NewReader(p.Data))
		if err := inOrderOf(info, len(s.images)); err != nil {
			s.pdf.SetError(err)
			return
		}
		p.Data = nil // the paper holds it now: of thousands of pictures one copy is enough
	}
	scale := min(w/float64(p.Width), h/float64(p.Height))
	pw, ph := float64(p.Width)*scale, float64(p.Height)*scale
	s.pdf.ImageOptions(p.Name, x+(w-pw)/2, y+(h-ph)/2, pw, ph, false, fpdf.ImageOptions{}, 0, "")
}

// finish writes the contents onto the pages that were kept for them, the foot of each page, and the whole paper.
func (s *sheet) finish(w io.Writer, contents []int, footer string) error {
	s.contents(contents)
	n := s.pdf.PageCount()
	for i := 2; i <= n; i++ { // the cover has none
		s.pdf.SetPage(i)
		y := s.h - margin + 4
		s.at(margin, y, quiet, s.shorten(quiet, footer, s.width()-40))
		s.rightAt(s.w-margin, y, quiet, s.l.Text("paper.page", "n", i, "of", n))
	}
	s.pdf.SetPage(n)
	if err := s.pdf.Output(w); err != nil {
		return fmt.Errorf("writing the paper: %w", err)
	}
	return nil
}

// perColumn is how many lines of the contents stand in one of the two columns of a page.
func (s *sheet) perColumn() int { return int((s.bottom() - margin - 16) / 5.2) }

// contents writes the contents onto pages that were kept.
func (s *sheet) contents(pages []int) {
	if len(pages) == 0 {
		return
	}
	column := (s.width() - 8) / 2
	n := s.perColumn()
	for i, m := range s.marks {
		at := i / n
		if at/2 >= len(pages) {
			return
		}
		s.pdf.SetPage(pages[at/2])
		x := margin + float64(at%2)*(column+8)
		y := margin + 16 + float64(i%n)*5.2
		s.at(x, y+3.6, body, s.shorten(body, m.text, column-10))
		s.rightAt(x+column, y+3.6, quiet, s.l.Number(float64(m.page), 0))
		s.pdf.Link(x, y, column, 5.2, m.link)
	}
	for i, p := range pages {
		s.pdf.SetPage(p)
		if i == 0 {
			s.at(margin, margin+heading.height(), heading, s.l.Text("paper.contents"))
		}
	}
}
