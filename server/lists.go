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
		Summary: "Import an address list, CSV or XLSX", MaxBodyBytes: table.MaxBytes + 1<<20},
		func(ctx context.Context, in *struct {
			SitePath
			Body struct {
				Content []byte `json:"content" doc:"the file, base64"`
			}
		}) (*struct{ Body listView }, error) {
			rows, warnings, err := readList(in.Body.Content)
			if err != nil {
				return nil, s.explain(err)
			}
			if _, err := s.do(ctx, act.ImportList{Site: in.Site, Rows: rows}); err != nil {
				return nil, err
			}
			v, err := s.matchList(ctx, in.Site)
			v.Warnings = append(v.Warnings, warnings...)
			return &struct{ Body listView }{v}, s.explain(err)
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

// readList tells the two kinds of file by their first bytes: an XLSX file is a ZIP archive. It is read row by row.
func readList(raw []byte) ([]addresslist.Row, []string, error) {
	if !bytes.HasPrefix(raw, []byte("PK\x03\x04")) {
		return addresslist.ParseCSV(raw)
	}
	if err := checkZip(raw); err != nil {
		return nil, nil, err
	}
	f, err := excelize.OpenReader(bytes.NewReader(raw), excelize.Options{UnzipSizeLimit: maxUnzipped, UnzipXMLSizeLimit: maxSheetXML,
		RawCellValue: true})
	if err != nil {
		return nil, nil, errSheet
	}
	defer f.Close()
	var first error
	for _, name := range f.GetSheetList() { // the first sheet that holds a list
		cells, err := sheetRows(f, name)
		if err == nil {
			var rows []addresslist.Row
			var warnings []string
			if rows, warnings, err = addresslist.Parse(cells); err == nil {
				return rows, warnings, nil
			}
		}
		if first == nil {
			first = err
		}
	}
	if first == nil {
		first = &table.Error{Problem: "the file has no sheet", Fix: "save it again as XLSX or CSV"}
	}
	return nil, nil, first
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
