package server

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"
	"github.com/xuri/excelize/v2"

	"unlatch/core/decide/act"
	"unlatch/core/decide/addresslist"
	"unlatch/core/decide/handover"
	"unlatch/core/ground/table"
	"unlatch/store"
)

type listView struct {
	Rows     int                `json:"rows" doc:"rows of the list; 0 for no list"`
	Result   addresslist.Result `json:"result"`
	Warnings []string           `json:"warnings" doc:"lines that were read in part, right after an import"`
}

// lists serve lists of cameras that are brought.
type lists struct{ resource }

func (s lists) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "get-address-list", Method: "GET", Path: "/api/sites/{site}/address-list",
		Summary: "The site's address list, matched against what was heard"},
		func(ctx context.Context, in *SitePath) (*struct{ Body listView }, error) {
			v, err := s.matchList(ctx, in.Site)
			return &struct{ Body listView }{v}, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "import-address-list", Method: "PUT", Path: "/api/sites/{site}/address-list",
		Summary: "Import an address list: CSV, XLSX, M3U, or the data of a handover pack", MaxBodyBytes: table.MaxBytes + 1<<20},
		func(ctx context.Context, in *struct {
			SitePath
			Body struct {
				Content []byte   `json:"content" doc:"the file, base64"`
				Columns []string `json:"columns,omitempty" maxItems:"64" doc:"what they hold; missing to tell it by what stands in them"`
			}
		}) (*struct{ Body listView }, error) {
			l, err := readList(in.Body.Content, in.Body.Columns)
			if err != nil {
				return nil, s.explain(err)
			}
			if _, err := s.do(ctx, act.ImportList{Site: in.Site, Rows: l.rows}); err != nil {
				return nil, err
			}
			v, err := s.matchList(ctx, in.Site)
			v.Warnings = append(v.Warnings, l.warnings...)
			return &struct{ Body listView }{v}, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "read-address-list", Metadata: reads, Method: "POST",
		Path: "/api/sites/{site}/address-list/columns", MaxBodyBytes: table.MaxBytes + 1<<20,
		Summary: "How a list would be read: what its columns hold, and how many devices it expects; nothing is kept"},
		func(_ context.Context, in *struct {
			SitePath
			Body struct {
				Content []byte   `json:"content" doc:"the file, base64"`
				Columns []string `json:"columns,omitempty" maxItems:"64"`
			}
		}) (*struct{ Body columnsView }, error) {
			l, err := readList(in.Body.Content, in.Body.Columns)
			if err != nil && l.cells == nil {
				return nil, s.explain(err)
			}
			return &struct{ Body columnsView }{l.view(err)}, nil
		})
	register(s, api, huma.Operation{OperationID: "remove-address-list", Method: "DELETE", Path: "/api/sites/{site}/address-list",
		Summary: "Remove the site's address list"},
		func(ctx context.Context, in *SitePath) (*struct{}, error) {
			return s.keep(ctx, act.RemoveList{Site: in.Site})
		})
	register(s, api, huma.Operation{OperationID: "use-listed-names", Method: "POST", Path: "/api/sites/{site}/address-list/names",
		Summary: "Name found devices as the list does"},
		func(ctx context.Context, in *SitePath) (*struct {
			Body struct {
				Named int `json:"named"`
			}
		}, error) {
			out := &struct {
				Body struct {
					Named int `json:"named"`
				}
			}{}
			v, err := s.matchList(ctx, in.Site)
			if err != nil {
				return nil, s.explain(err)
			}
			names := map[uuid.UUID]string{}
			for _, f := range v.Result.Found {
				if id, err := uuid.Parse(f.Device); err == nil && f.Row.Name != "" {
					names[id] = f.Row.Name
				}
			}
			out.Body.Named = len(names)
			_, err = s.do(ctx, act.NameDevices{Site: in.Site, Names: names})
			return out, err
		})
}

// Bounds on a spreadsheet, whose file may be a thousand times smaller than what it unpacks to.
const (
	maxUnzipped = 48 << 20
	maxSheetXML = 8 << 20 // of a part that is kept in memory; larger ones go to a temporary file
	maxColumns  = 64
	maxCells    = 1 << 20
)

// A broughtList is a list as somebody has brought it: a sheet, whose columns can be read otherwise, or rows that say themselves what they
// are.
type broughtList struct {
	cells    [][]string
	layout   addresslist.Layout
	rows     []addresslist.Row
	warnings []string
}

// readList recognises the kinds of file by their first bytes: an XLSX file is a ZIP archive, a list for players names itself, and a
// pack's data is JSON. Everything else is CSV. columns says what the columns of a sheet hold; nil means that they are recognised by their
// contents.
func readList(raw []byte, columns []string) (l broughtList, err error) {
	switch {
	case bytes.HasPrefix(raw, []byte("PK\x03\x04")):
		l.cells, err = spreadsheet(raw)
	case addresslist.IsM3U(raw):
		l.rows, l.warnings, err = addresslist.ParseM3U(raw)
		return l, err
	case bytes.HasPrefix(bytes.TrimSpace(raw), []byte("{")):
		l.rows, err = packList(raw)
		return l, err
	default:
		l.cells, err = table.CSV(raw)
	}
	if err != nil {
		return l, err
	}
	l.layout = addresslist.Detect(l.cells)
	if columns != nil {
		l.layout.Columns = columns
	}
	l.rows, l.warnings, err = addresslist.ParseAs(l.cells, l.layout)
	return l, err
}

// packList reads the devices of a handover pack's handover.json.
func packList(raw []byte) (rows []addresslist.Row, err error) {
	p, err := handover.ReadPack(raw)
	if err != nil {
		return nil, &table.Error{Problem: err.Error(), Fix: "bring handover.json of a pack as it was made"}
	}
	for i, c := range p.Cameras {
		if c.Channel == 0 {
			rows = append(rows, addresslist.Row{Line: i + 1, Name: table.Clean(c.Title), Addr: c.Address, MAC: c.MAC, Serial: c.Serial})
		}
	}
	if len(rows) == 0 {
		err = &table.Error{Problem: "the pack has no device", Fix: "check that it is the right one"}
	}
	return rows, err
}

// spreadsheet reads the first sheet of a workbook that holds a list, row by row.
func spreadsheet(raw []byte) ([][]string, error) {
	if err := checkZip(raw); err != nil {
		return nil, err
	}
	f, err := excelize.OpenReader(bytes.NewReader(raw), excelize.Options{UnzipSizeLimit: maxUnzipped, UnzipXMLSizeLimit: maxSheetXML,
		RawCellValue: true})
	if err != nil {
		return nil, errSheet
	}
	defer f.Close()
	var first [][]string
	var failed error
	for _, name := range f.GetSheetList() {
		cells, err := sheetRows(f, name)
		if err != nil {
			if failed == nil {
				failed = err
			}
			continue
		}
		if _, _, err = addresslist.Parse(cells); err == nil {
			return cells, nil
		}
		if first == nil {
			first = cells
		}
	}
	switch {
	case first != nil: // whoever brought it may say what its columns hold
		return first, nil
	case failed != nil:
		return nil, failed
	}
	return nil, &table.Error{Problem: "the file has no sheet", Fix: "save it again as XLSX or CSV"}
}

// columnView is a column of a list, with what it is taken for.
type columnView struct {
	Is      string   `json:"is" enum:",name,addr,mac,serial,note" doc:"empty for one that is left out"`
	Heading string   `json:"heading"`
	Samples []string `json:"samples" doc:"what stands in its first rows"`
}

// columnsView is how a list would be read.
type columnsView struct {
	Columns  []columnView `json:"columns" doc:"none for a file that says itself what it holds"`
	Rows     int          `json:"rows" doc:"that would be expected"`
	Warnings []string     `json:"warnings"`
	Problem  string       `json:"problem,omitempty" doc:"why it cannot be read like that"`
}

// samples is how many rows are shown of a column.
const samples = 4

func (l broughtList) view(err error) columnsView {
	v := columnsView{Columns: []columnView{}, Rows: len(l.rows), Warnings: append([]string{}, l.warnings...)}
	if err != nil {
		v.Problem = sentence(err.Error())
	}
	width := 0
	for _, row := range l.cells {
		width = max(width, len(row))
	}
	for n := range min(width, maxColumns) {
		c := columnView{Samples: []string{}}
		if n < len(l.layout.Columns) {
			c.Is = l.layout.Columns[n]
		}
		if l.layout.Start > 0 && n < len(l.cells[l.layout.Start-1]) {
			c.Heading = table.Clean(l.cells[l.layout.Start-1][n])
		}
		for _, row := range l.cells[l.layout.Start:] {
			if n < len(row) && table.Clean(row[n]) != "" && len(c.Samples) < samples {
				c.Samples = append(c.Samples, table.Clean(row[n]))
			}
		}
		v.Columns = append(v.Columns, c)
	}
	return v
}

var errSheet = &table.Error{Problem: "the file cannot be read as a spreadsheet", Fix: "save it again as XLSX or CSV"}

// checkZip refuses an archive that unpacks to more than any list does, before anything of it is unpacked.
func checkZip(raw []byte) error {
	z, err := zip.NewReader(bytes.NewReader(raw), int64(len(raw)))
	if err != nil {
		return errSheet
	}
	var sum uint64
	for _, f := range z.File {
		if sum += f.UncompressedSize64; sum > maxUnzipped || f.UncompressedSize64 > maxUnzipped {
			return &table.Error{Problem: fmt.Sprintf("the file unpacks to more than %d MB", maxUnzipped>>20),
				Fix: "save the list alone, without pictures and other sheets"}
		}
	}
	return nil
}

// sheetRows reads one sheet, row by row: a list that is too long ends it early.
func sheetRows(f *excelize.File, name string) (cells [][]string, err error) {
	rows, err := f.Rows(name)
	if err != nil {
		return nil, errSheet
	}
	defer rows.Close()
	n := 0
	for rows.Next() {
		row, err := rows.Columns()
		if err != nil {
			return nil, errSheet
		}
		row = row[:min(len(row), maxColumns)]
		if n += len(row) + 1; n > maxCells {
			return nil, &table.Error{Problem: "the sheet has more cells than any list", Fix: "bring the rows of this site alone"}
		}
		cells = append(cells, slices.Clone(row))
		if err := table.Check(cells); err != nil {
			return nil, err
		}
	}
	if rows.Error() != nil {
		return nil, errSheet
	}
	return cells, nil
}

func (s lists) matchList(ctx context.Context, site uuid.UUID) (listView, error) {
	v := listView{Warnings: []string{}}
	rows, err := s.store.Sites.Expected(ctx, site)
	if err != nil {
		return v, err
	}
	devices, err := s.store.Devices.List(ctx, site)
	if err != nil {
		return v, err
	}
	v.Rows = len(rows)
	v.Result = addresslist.Match(rows, heardOf(devices))
	return v, nil
}

func heardOf(devices []store.Device) []addresslist.Heard {
	var out []addresslist.Heard
	for i := range devices {
		d := &devices[i]
		h := addresslist.Heard{ID: d.ID.String(), Name: d.Title(), Addr: d.Addr, MAC: d.MAC.String, Serial: d.Serial.String}
		if in := d.Status.SignedIn; in != nil && in.Info.Serial != "" {
			h.Serial = in.Info.Serial
		}
		out = append(out, h)
	}
	return out
}

func listProblem(err error) *Problem {
	var l *table.Error
	if !errors.As(err, &l) {
		return nil
	}
	where := ""
	if l.Line > 0 {
		where = fmt.Sprintf("Line %d: ", l.Line)
	}
	return problem(422, "bad_list", where+sentence(l.Problem), sentence(l.Fix))
}
