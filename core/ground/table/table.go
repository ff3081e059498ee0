// Package table reads tables that people bring along as CSV, in the encodings and forms in which spreadsheets write them, and finds
// their columns.
package table

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
)

// Limits of a table.
const (
	MaxBytes = 8 << 20
	maxRows  = 20000
)

// An Error says what is wrong with a table, and where. It repeats nothing of what stands in it: that may be a password.
type Error struct {
	Line    int // counted from 1; 0 for the whole
	Problem string
	Fix     string
}

func (e *Error) Error() string {
	if e.Line == 0 {
		return e.Problem + "; " + e.Fix
	}
	return fmt.Sprintf("line %d: %s; %s", e.Line, e.Problem, e.Fix)
}

// CSV reads a CSV file (RFC 4180) as spreadsheets write them: parted by commas, semicolons or tabs, in UTF-8, UTF-16 or
// Windows-1252.
func CSV(raw []byte) (cells [][]string, err error) {
	if len(raw) > MaxBytes {
		return nil, &Error{Problem: fmt.Sprintf("the file is larger than %d MB", MaxBytes>>20),
			Fix: "save the list alone, without pictures and other sheets"}
	}
	text := decode(raw)
	r := csv.NewReader(strings.NewReader(text))
	r.Comma, r.FieldsPerRecord, r.LazyQuotes = separator(text), -1, true
	for {
		record, err := r.Read()
		if err == io.EOF {
			return cells, nil
		}
		if err != nil {
			return nil, &Error{Problem: "the file cannot be read as CSV: " + err.Error(), Fix: "save it again as CSV or XLSX"}
		}
		cells = append(cells, record)
		if err := Check(cells); err != nil {
			return nil, err
		}
	}
}

// Check refuses a table with too many rows.
func Check(cells [][]string) error {
	if len(cells) > maxRows+1 {
		return &Error{Problem: fmt.Sprintf("the list has more than %d rows", maxRows), Fix: "bring the rows of this site alone"}
	}
	return nil
}

// Columns finds the row of headings, the first with at least two of the words by which columns are known, or with one that stands alone. It
// returns which column is what and the index of the row after; nil where no row has headings.
func Columns(cells [][]string, headings map[string][]string) (map[int]string, int) {
	for i, record := range cells[:min(len(cells), 20)] {
		columns := map[int]string{}
		taken := map[string]bool{}
		for n, text := range record {
			word := strings.ToLower(strings.Trim(Clean(text), ":. "))
			for column, words := range headings {
				if slices.Contains(words, word) && !taken[column] {
					columns[n], taken[column] = column, true
				}
			}
		}
		if len(columns) >= 2 || len(columns) == 1 && len(record) == 1 {
			return columns, i + 1
		}
	}
	return nil, 0
}

// Clean makes one line of a cell, and takes a formula for the text that it is: nothing is ever computed.
func Clean(s string) string {
	s = strings.Join(strings.Fields(strings.ToValidUTF8(s, "·")), " ")
	if r := []rune(s); len(r) > 200 {
		s = string(r[:200])
	}
	return s
}

// Inert returns a cell that no spreadsheet takes for a formula.
func Inert(cell string) string {
	if cell != "" && strings.ContainsRune("=+-@\t\r", rune(cell[0])) {
		return "'" + cell
	}
	return cell
}

func decode(raw []byte) string {
	switch {
	case bytes.HasPrefix(raw, []byte{0xff, 0xfe}), bytes.HasPrefix(raw, []byte{0xfe, 0xff}):
		if out, err := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewDecoder().Bytes(raw); err == nil {
			return string(out)
		}
	case utf8.Valid(raw):
		return strings.TrimPrefix(string(raw), "\ufeff")
	}
	out, err := charmap.Windows1252.NewDecoder().Bytes(raw)
	if err != nil {
		return strings.ToValidUTF8(string(raw), "·")
	}
	return string(out)
}

// separator returns the one that the first line has most of.
func separator(text string) rune {
	line, _, _ := strings.Cut(text, "\n")
	best, most := ',', strings.Count(line, ",")
	for _, c := range ";\t" {
		if n := strings.Count(line, string(c)); n > most {
			best, most = c, n
		}
	}
	return best
}
