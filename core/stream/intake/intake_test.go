package intake

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/yamlfile"
	"unlatch/core/stream/tuning"
)

func TestReadBook(t *testing.T) {
	b, err := ReadBook([]byte(`
name: Works
intakes:
  - name: Panel
    roles: [sub]
    codecs: [h264, mjpeg]
    sizes: [640x360, 320x180]
    max_size: 1280x720
    fps: {min: 5, max: 10}
    kbps: 1500
    tls: no
    ports: [554, 8554]
    password: {max_length: 8, characters: a-z0-9}
    requires: [address]
  - name: Desk
    schemes: digest
`))
	require.NoError(t, err)
	p, ok := b.Find("panel")
	require.True(t, ok)
	assert.Equal(t, Intake{Name: "Panel", Roles: []string{"sub"}, Codecs: []string{"H.264", "MJPEG"}, Sizes: []tuning.Size{{Width: 640,
		Height: 360}, {Width: 320, Height: 180}},
		MaxSize: tuning.Size{Width: 1280, Height: 720}, FPS: Range{5, 10}, Kbps: Range{Max: 1500}, TLS: "no", Ports: []int{554, 8554},
		Password: Password{8, "a-z0-9"}, Requires: []string{"address"}}, p)
	assert.Equal(t, []string{"digest"}, b.Intakes[1].Schemes)
	one, err := ReadBook([]byte("name: Alone\nfps: 10\n"))
	require.NoError(t, err)
	assert.Equal(t, []Intake{{Name: "Alone", FPS: Range{Max: 10}}}, one.Intakes)
	assert.GreaterOrEqual(t, len(Shipped().Intakes), 10)
}

func TestBooksThatCannotBeRead(t *testing.T) {
	for text, want := range map[string]string{
		"":                                 "line 1, column 1: an intake book is empty",
		"[]":                               "line 1, column 1: an intake book begins with a key and a colon, such as name:",
		"name: x\nintakes: 3":              "line 2, column 10: intakes is a list",
		"name: x\ncolour: red":             `line 2, column 1: an intake has no "colour"`,
		"intakes: []\nlist: 1":             `line 2, column 1: an intake book has no "list"`,
		"intakes: []":                      "an intake book needs a name",
		"fps: 10":                          "the intake has no name",
		"name: x\nfps: fast":               "line 2, column 6: fps is a number from 0 to 240",
		"name: x\nfps: {min: 20, max: 10}": "line 2, column 6: fps: min 20 is larger than max 10",
		"name: x\nfps: {mean: 20}":         `line 2, column 7: fps has no "mean"`,
		"name: x\ncodecs: [h266]":          `line 2, column 10: there is no codec "h266"`,
		"name: x\nsizes: [0x0]":            "from 16 to 16384 pixels",
		"name: x\nmin_size: 640x480\nmax_size: 320x240": "min_size 640x480 is larger",
		"name: x\nports: [99999]":                       "ports is a number from 0 to 65535",
		"name: x\nports: [1.5]":                         "ports is a whole number",
		"name: x\ntls: maybe":                           "tls is yes or no",
		"name: x\npassword: {characters: z-a}":          "characters are those",
		"name: x\nroles: [fourth]":                      `roles has no "fourth"`,
		"name: &a x\nnote: *a":                          "no anchors or aliases",
		"name: x\n\tfps: 1":                             "line 2",
		"name: x\nintakes: [{name: A}, {name: a}]":      `"a" stands in the book twice`,
		strings.Repeat("a", MaxBook+1):                  "at most 1048576 bytes",
	} {
		_, err := ReadBook([]byte(text))
		var e *yamlfile.Error
		require.ErrorAs(t, err, &e, text[:min(len(text), 60)])
		assert.Contains(t, err.Error(), want)
	}
}

func TestPasswords(t *testing.T) {
	p := Password{MaxLength: 8, Characters: `a-z0-9_.[]\-`}
	for secret, takes := range map[string]bool{"": true, "abc123": true, "a_b.c-": true, "abcdefghi": false, "Abc": false, "a b": false,
		"[a]": true, "ä": false} {
		assert.Equal(t, takes, p.Takes(secret), secret)
	}
	assert.True(t, Password{}.Takes(strings.Repeat("ä", 500)))
}

func FuzzReadBook(f *testing.F) {
	f.Add([]byte("name: x\nintakes: [{name: A, fps: {max: 10}, codecs: [h264]}]"))
	f.Add([]byte("name: Alone\npassword: {characters: 'a-z'}"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		b, err := ReadBook(raw)
		if err != nil {
			return
		}
		for _, x := range b.Intakes {
			x.Password.Takes("abc")
			if x.FPS.Max > 0 && !x.FPS.Has(x.FPS.Nearest(25)) {
				t.Fatalf("%+v", x.FPS)
			}
		}
	})
}
