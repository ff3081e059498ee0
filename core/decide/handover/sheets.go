package handover

import (
	"archive/zip"
	"bytes"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/xuri/excelize/v2"

	"unlatch/core/decide/words"
)

// A Sheet is a table of the pack. Cells are text, numbers (int and float64), yes or no, or times; nil is an empty cell.
type Sheet struct {
	Name    string // of the file and, in the language of the pack, of the sheet
	Columns []Column
	Rows    [][]any
}

// A Column is one of a sheet.
type Column struct {
	Title string
	Width float64 // in characters
}

// sheets makes the tables of a pack.
func sheets(p *Pack, l *words.Language) []Sheet {
	return []Sheet{camerasSheet(p, l), streamsSheet(p, l), placementsSheet(p, l), targetsSheet(p, l), slotsSheet(p, l), outsideSheet(p, l),
		findingsSheet(p, l), checklistSheet(p, l)}
}

// columns names columns by their messages under paper: "name 24".
func columns(l *words.Language, list ...string) (out []Column) {
	for _, x := range list {
		var key string
		width := 14.0
		fmt.Sscan(x, &key, &width)
		unit := ""
		if key, unit, _ = strings.Cut(key, ":"); unit != "" {
			unit = " (" + unit + ")"
		}
		out = append(out, Column{Title: l.Text("paper."+key) + unit, Width: width})
	}
	return out
}

func camerasSheet(p *Pack, l *words.Language) Sheet {
	s := Sheet{Name: "cameras", Columns: columns(l, "name 28", "kind", "address 16", "hardware_address 19", "maker 16", "model 18",
		"serial 20", "firmware 14", "via 24", "sign_in 28", "ports 30", "state 16", "notes 40")}
	for _, c := range p.Cameras {
		state := l.Text("paper.done")
		if c.Latch != "" {
			state = l.Text("latch." + c.Latch)
		}
		s.Rows = append(s.Rows, []any{c.Title, l.Text("paper.legend." + c.Kind), c.Address, c.MAC, c.Maker, c.Model, c.Serial, c.Firmware,
			p.viaWords(c, l), signInWords(c.SignIn), portWords(c.Ports), state, strings.Join(c.Notes, "; ")})
	}
	return s
}

// viaWords says which recorder a camera is reached through.
func (p *Pack) viaWords(c Camera, l *words.Language) string {
	if c.Via == uuid.Nil {
		return ""
	}
	name := c.Via.String()
	if r := p.Camera(c.Via); r != nil {
		name = r.Title
	}
	return l.Text("paper.via_channel", "recorder", name, "n", c.Channel)
}

func signInWords(s *SignIn) string {
	if s == nil {
		return ""
	}
	return fmt.Sprintf("%s (%s)", s.Label, s.User)
}

func portWords(list []Port) string {
	var out []string
	for _, p := range list {
		out = append(out, fmt.Sprintf("%d %s", p.Number, p.Is))
	}
	return strings.Join(out, ", ")
}

func streamsSheet(p *Pack, l *words.Language) Sheet {
	s := Sheet{Name: "streams", Columns: columns(l, "camera 28", "stream 10", "urls 50", "planned 34", "codec", "width:px", "height:px",
		"rate:fps", "bitrate:kbit/s", "key_frames:s", "sound", "transport", "measured_on 18")}
	for _, c := range p.Cameras {
		for _, x := range c.Streams {
			row := []any{c.Title, x.Role, x.URL, x.Planned}
			if m := x.Measured; m != nil {
				row = append(row, m.Codec, m.Width, m.Height, m.FPS, m.Kbps, m.GOPSeconds, m.Audio, m.Transport, timeOrNil(m.At))
			} else {
				row = append(row, nil, nil, nil, nil, nil, nil, nil, nil, nil)
			}
			s.Rows = append(s.Rows, row)
		}
	}
	return s
}

func timeOrNil(t time.Time) any {
	if t.IsZero() {
		return nil
	}
	return t
}

func placementsSheet(p *Pack, l *words.Language) Sheet {
	s := Sheet{Name: "placements", Columns: columns(l, "camera 28", "target 28", "slot", "streams 16", "state 30", "report 40")}
	for _, c := range p.Cameras {
		for _, x := range c.Placements {
			s.Rows = append(s.Rows, []any{c.Title, x.Name, x.Slot, strings.Join(x.Gives, ", "), l.Text("paper." + x.State), x.Report})
		}
	}
	return s
}

func targetsSheet(p *Pack, l *words.Language) Sheet {
	s := Sheet{Name: "targets", Columns: columns(l, "name 28", "kind", "address 30", "maker", "model", "sign_in 28", "load:kbit/s",
		"limit:kbit/s", "days")}
	for _, t := range p.Targets {
		s.Rows = append(s.Rows, []any{t.Name, or(t.Is, t.Kind), t.Address, t.Maker, t.Model, signInWords(t.SignIn), numberOrNil(t.LoadKbps),
			numberOrNil(t.LimitKbps), numberOrNil(t.Days)})
	}
	return s
}

func numberOrNil(v float64) any {
	if v == 0 {
		return nil
	}
	return v
}

func slotsSheet(p *Pack, l *words.Language) Sheet {
	s := Sheet{Name: "slots", Columns: columns(l, "target 28", "position", "slot", "camera 28", "state 30", "schedule 40")}
	for _, t := range p.Targets {
		for i, x := range t.Slots {
			name := x.Name
			if c := p.Camera(x.Camera); c != nil {
				name = c.Title
			}
			s.Rows = append(s.Rows, []any{t.Name, i + 1, or(x.Label, x.Token), name, x.State, ScheduleWords(x.Schedule, l)})
		}
	}
	return s
}

func outsideSheet(p *Pack, l *words.Language) Sheet {
	s := Sheet{Name: "outside", Columns: columns(l, "outside_address 30", "outside_port", "inside 24", "camera 28")}
	for _, m := range p.Outside.Form.Maps {
		title := ""
		if c := p.Camera(m.Device); c != nil {
			title = c.Title
		}
		s.Rows = append(s.Rows, []any{strings.Join(p.Outside.Form.Addresses, ", "), m.Port, m.Inside, title})
	}
	return s
}

func findingsSheet(p *Pack, l *words.Language) Sheet {
	s := Sheet{Name: "findings", Columns: columns(l, "findings 50", "of_device 28", "detail 20", "state 14", "waiver_by 20", "reason 50")}
	for _, f := range p.Findings {
		for _, t := range slices.Concat(f.Things, f.Waived) {
			row := []any{l.Count("finding."+string(f.Cause)+".title", 1, "thing", t.Title), t.Title, t.Detail}
			if w := t.Waiver; w != nil {
				row = append(row, l.Text("paper.waived"), w.By, w.Reason)
			} else {
				row = append(row, l.Text("paper.finding_open"), "", "")
			}
			s.Rows = append(s.Rows, row)
		}
	}
	return s
}

func checklistSheet(p *Pack, l *words.Language) Sheet {
	s := Sheet{Name: "checklist", Columns: columns(l, "checklist 60", "state 12", "waiver_by 20", "measured_on 18")}
	for _, x := range p.Checklist {
		row := []any{x.Title, l.Text("paper.not_done"), "", nil}
		switch {
		case x.Attested != nil:
			row = []any{x.Title, l.Text("paper.done"), x.Attested.By, timeOrNil(x.Attested.At)}
		case x.Done:
			row = []any{x.Title, l.Text("paper.done"), l.Text("paper.by_evidence"), nil}
		}
		s.Rows = append(s.Rows, row)
	}
	return s
}

// longestCell is how many UTF-16 units a cell of a workbook holds.
const longestCell = 32767

// workbook makes one XLSX workbook of all tables: typed cells, a filter on each sheet, the heading frozen. Text is text and never a
// formula, whatever it begins with.
func workbook(list []Sheet, l *words.Language) (File, error) {
	f := excelize.NewFile()
	defer f.Close()
	head, err := f.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true},
		Border: []excelize.Border{{Type: "bottom", Color: "5B6B63", Style: 1}}})
	if err != nil {
		return File{}, err
	}
	date, err := f.NewStyle(&excelize.Style{NumFmt: 22})
	if err != nil {
		return File{}, err
	}
	for i, s := range list {
		name := l.Text("sheet." + s.Name)
		if i == 0 {
			err = f.SetSheetName("Sheet1", name)
		} else {
			_, err = f.NewSheet(name)
		}
		if err != nil {
			return File{}, err
		}
		if err := writeSheet(f, name, s, head, date); err != nil {
			return File{}, err
		}
	}
	// The library writes its own time of making otherwise.
	const never = "2000-01-01T00:00:00Z"
	if err := f.SetDocProps(&excelize.DocProperties{Created: never, Modified: never, Creator: "Unlatch"}); err != nil {
		return File{}, err
	}
	var b bytes.Buffer
	if err := f.Write(&b); err != nil {
		return File{}, err
	}
	data, err := inOrder(b.Bytes())
	return File{Path: TablesFile, Type: "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet", Data: data}, err
}

// inOrder writes a zip file anew with its files in the order of their names: the library writes them in another order each time.
func inOrder(raw []byte) ([]byte, error) {
	z, err := zip.NewReader(bytes.NewReader(raw), int64(len(raw)))
	if err != nil {
		return nil, err
	}
	slices.SortFunc(z.File, func(a, b *zip.File) int { return strings.Compare(a.Name, b.Name) })
	var b bytes.Buffer
	out := zip.NewWriter(&b)
	for _, f := range z.File {
		f.Modified = time.Time{}
		if err := out.Copy(f); err != nil {
			return nil, err
		}
	}
	if err := out.Close(); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

func writeSheet(f *excelize.File, name string, s Sheet, head, date int) error {
	w, err := f.NewStreamWriter(name)
	if err != nil {
		return err
	}
	for i, c := range s.Columns {
		if err := w.SetColWidth(i+1, i+1, c.Width); err != nil {
			return err
		}
	}
	if err := w.SetPanes(&excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2", ActivePane: "bottomLeft"}); err != nil {
		return err
	}
	cells := make([]any, len(s.Columns))
	for i, c := range s.Columns {
		cells[i] = excelize.Cell{StyleID: head, Value: c.Title}
	}
	if err := w.SetRow("A1", cells); err != nil {
		return err
	}
	for n, row := range s.Rows {
		cells := make([]any, len(row))
		for i, v := range row {
			switch v := v.(type) {
			case string:
				cells[i] = cut(v)
			case time.Time:
				cells[i] = excelize.Cell{StyleID: date, Value: v}
			default:
				cells[i] = v
			}
		}
		if err := w.SetRow(fmt.Sprintf("A%d", n+2), cells); err != nil {
			return err
		}
	}
	if err := w.Flush(); err != nil {
		return err
	}
	last, err := excelize.CoordinatesToCellName(len(s.Columns), len(s.Rows)+1)
	if err != nil {
		return err
	}
	return f.AutoFilter(name, "A1:"+last, nil)
}

// cut shortens a text to what a cell holds.
func cut(s string) string {
	n := 0
	for i, r := range s {
		if n++; r > 0xffff {
			n++
		}
		if n > longestCell {
			return s[:i]
		}
	}
	return s
}
