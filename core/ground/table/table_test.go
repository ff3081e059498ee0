package table_test

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"unlatch/core/ground/table"
)

func TestCSVAsSpreadsheetsWriteIt(t *testing.T) {
	want := [][]string{{"Name", "Bühne"}, {"a", "b"}}
	const text = "Name,Bühne\na,b\n"
	semicolons := strings.ReplaceAll(text, ",", ";")
	latin, err := charmap.Windows1252.NewEncoder().String(semicolons)
	require.NoError(t, err)
	little, err := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().String(strings.ReplaceAll(text, ",", "\t"))
	require.NoError(t, err)
	big, err := unicode.UTF16(unicode.BigEndian, unicode.UseBOM).NewEncoder().String(text)
	require.NoError(t, err)
	for name, raw := range map[string]string{
		"commas": text, "semicolons": semicolons, "with a mark": "\ufeff" +
			text, "Windows-1252": latin, "UTF-16 with tabs": little, "UTF-16, the other way": big,
		"with carriage returns": strings.ReplaceAll(text, "\n", "\r\n"), "quoted": "Name,\"Bühne\"\na,\"b\"\n",
	} {
		got, err := table.CSV([]byte(raw))
		require.NoError(t, err, name)
		assert.Equal(t, want, got, name)
	}
	got, err := table.CSV([]byte("one,two,three\nshort\n\"a, b\",\"line\nbreak\"\n"))
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"one", "two", "three"}, {"short"}, {"a, b", "line\nbreak"}}, got, "rows may be of different lengths")
}

func TestTablesAreBounded(t *testing.T) {
	_, err := table.CSV(make([]byte, table.MaxBytes+1))
	var bad *table.Error
	require.True(t, errors.As(err, &bad))
	assert.Contains(t, bad.Error(), "larger than 8 MB; save")
	_, err = table.CSV([]byte(strings.Repeat("a\n", 20_001)))
	require.NoError(t, err, "as many rows and a row of headings")
	_, err = table.CSV([]byte(strings.Repeat("a\n", 20_002)))
	assert.ErrorContains(t, err, "more than 20000 rows")
	assert.Equal(t, "line 3: no address; give one", (&table.Error{Line: 3, Problem: "no address", Fix: "give one"}).Error())
}

func TestColumns(t *testing.T) {
	words := map[string][]string{"name": {"name", "camera"}, "address": {"ip", "address"}}
	for name, c := range map[string]struct {
		cells [][]string
		want  map[int]string
		next  int
	}{
		"in the first row": {[][]string{{"Name", "IP"}, {"a", "192.0.2.7"}}, map[int]string{0: "name", 1: "address"}, 1},
		"below a title": {[][]string{{"Tarnside Museum"}, {"", "Camera:", " IP "}}, map[int]string{1: "name", 2: "address"},
			2},
		"one column alone":            {[][]string{{"address"}, {"192.0.2.7"}}, map[int]string{0: "address"}, 1},
		"a word twice":                {[][]string{{"ip", "name", "address"}}, map[int]string{0: "address", 1: "name"}, 1},
		"one word among others":       {[][]string{{"name", "colour"}, {"a", "b"}}, nil, 0},
		"none":                        {[][]string{{"a", "b"}}, nil, 0},
		"headings far below the rest": {append(make([][]string, 20), []string{"name", "ip"}), nil, 0},
	} {
		got, next := table.Columns(c.cells, words)
		assert.Equal(t, c.want, got, name)
		assert.Equal(t, c.next, next, name)
	}
}

func TestCleanMakesOneLine(t *testing.T) {
	assert.Equal(t, "East door", table.Clean("  East\n\tdoor "))
	assert.Equal(t, "=1+1", table.Clean("=1+1"), "a formula is text")
	assert.Equal(t, "a·b", table.Clean("a\xffb"))
	assert.Len(t, []rune(table.Clean(strings.Repeat("ü", 300))), 200)
}

// Whatever stands in a file, it is read within its bounds or refused.
func FuzzCSV(f *testing.F) {
	f.Add([]byte("name,ip\na,192.0.2.7\n"))
	f.Add([]byte("\xff\xfea\x00,\x00b\x00"))
	f.Add([]byte("\"open"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		cells, err := table.CSV(raw)
		if err != nil {
			return
		}
		for _, row := range cells {
			for _, cell := range row {
				if c := table.Clean(cell); strings.ContainsAny(c, "\n\r\t") {
					t.Fatalf("%q is more than one line", c)
				}
			}
		}
		table.Columns(cells, map[string][]string{"name": {"name"}})
	})
}
