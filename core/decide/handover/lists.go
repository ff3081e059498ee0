package handover

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"

	"unlatch/core/decide/camlist"
	"unlatch/core/decide/words"
	"unlatch/core/ground/table"
)

// Templates of the lists for players. No sign-in stands in them: a player asks for it.
const (
	m3u = `#EXTM3U
{{range .Cameras}}#EXTINF:-1,{{m3u .Name}}
{{m3u .%[1]s.URL}}
{{end}}`
	xspf = `<?xml version="1.0" encoding="UTF-8"?>
<playlist version="1" xmlns="http://xspf.org/ns/0/"><title>{{xml .Site}}</title><trackList>
{{range .Cameras}}<track><location>{{xml .%[1]s.URL}}</location><title>{{xml .Name}}</title></track>
{{end}}</trackList></playlist>
`
)

// DataFiles makes the files of a pack that follow from it alone: the pack as JSON, tables, lists for players, templates and books.
func DataFiles(ctx context.Context, p *Pack, l *words.Language) (out []File, err error) {
	raw, err := p.Write()
	if err != nil {
		return nil, err
	}
	out = append(out, File{Path: DataFile, Type: "application/json", Data: raw})
	tables := sheets(p, l)
	book, err := workbook(tables, l)
	if err != nil {
		return nil, err
	}
	out = append(out, book)
	csvs, err := csvFiles(tables)
	if err != nil {
		return nil, err
	}
	players, err := lists(ctx, p)
	if err != nil {
		return nil, err
	}
	return append(append(append(out, csvs...), players...), textFiles(p)...), nil
}

// lists makes the lists for players, one each for main and sub streams.
func lists(ctx context.Context, p *Pack) (out []File, err error) {
	var cameras []camlist.Camera
	for _, c := range p.Cameras {
		if c.Kind != "camera" || len(c.Streams) == 0 {
			continue
		}
		x := camlist.Camera{Number: len(cameras) + 1, ID: c.ID.String(), Name: c.Title, Address: c.Address}
		for _, s := range c.Streams {
			x.Streams = append(x.Streams, camlist.Stream{Role: s.Role, URL: s.URL})
		}
		cameras = append(cameras, x)
	}
	for _, l := range []struct{ file, media, template, role string }{
		{"lists/main.m3u", "audio/x-mpegurl", m3u, "Main"}, {"lists/sub.m3u", "audio/x-mpegurl", m3u, "Sub"},
		{"lists/main.xspf", "application/xspf+xml", xspf, "Main"}, {"lists/sub.xspf", "application/xspf+xml", xspf, "Sub"},
	} {
		text, err := camlist.Render(ctx, camlist.Source{Text: fmt.Sprintf(l.template, l.role)}, p.Site.Name, cameras)
		if err != nil {
			return nil, fmt.Errorf("making %s: %w", l.file, err)
		}
		out = append(out, File{Path: l.file, Type: l.media, Data: text})
	}
	return out, nil
}

// csvFiles makes one CSV file a sheet (RFC 4180). Cells that a spreadsheet would take for a formula are made inert.
func csvFiles(sheets []Sheet) (out []File, err error) {
	for _, s := range sheets {
		var b bytes.Buffer
		w := csv.NewWriter(&b)
		w.UseCRLF = true
		head := make([]string, len(s.Columns))
		for i, c := range s.Columns {
			head[i] = c.Title
		}
		w.Write(head)
		for _, row := range s.Rows {
			cells := make([]string, len(row))
			for i, v := range row {
				cells[i] = csvCell(v)
			}
			w.Write(cells)
		}
		w.Flush()
		if err := w.Error(); err != nil {
			return nil, err
		}
		out = append(out, File{Path: "tables/" + s.Name + ".csv", Type: "text/csv; charset=utf-8", Data: b.Bytes()})
	}
	return out, nil
}

// csvCell writes a cell for programs: numbers with a point, whatever the language.
func csvCell(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return table.Inert(v)
	case float64:
		return words.Plain(v)
	}
	return fmt.Sprint(v)
}

// templateFiles are the texts of template targets, as they were written, and the books that the site uses.
func textFiles(p *Pack) (out []File) {
	for _, t := range p.Targets {
		if text := t.Settings["text"]; t.Kind == "template" && text != "" {
			out = append(out, File{Path: fmt.Sprintf("templates/%s-%s.txt", plainName(t.Name), t.ID.String()[:8]),
				Type: "text/plain; charset=utf-8", Data: []byte(text)})
		}
	}
	for _, b := range p.Books {
		out = append(out, File{Path: b.File, Type: "application/yaml", Data: b.text})
	}
	return out
}
