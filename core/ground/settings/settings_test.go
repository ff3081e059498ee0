package settings_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/settings"
	"unlatch/core/ground/yamlfile"
)

var known = []settings.Setting{
	{Name: "listen", Usage: "address and port to serve on", Default: "127.0.0.1:8470"},
	{Name: "data", Usage: "folder for database and key file", Default: ".unlatch"},
	{Name: "tls", Usage: "serve by TLS on loopback too", Default: "false"},
	{Name: "trusted-proxy", Usage: "address of a proxy", List: true},
	{Name: "database", Usage: "address of a database", Secret: true},
}

func TestAFileIsReadWithThePlaceOfEachValue(t *testing.T) {
	got, err := settings.Read([]byte("# a note\nlisten: 0.0.0.0:443\ntrusted-proxy: [192.0.2.1, 192.0.2.2]\ntls: true\n"+
		"database: postgres://u:p@h/d\n"), known)
	require.NoError(t, err)
	require.Len(t, got, 4)
	assert.Equal(t, []string{"0.0.0.0:443"}, got[0].Texts)
	assert.Equal(t, []int{2, 9}, []int{got[0].Line, got[0].Column})
	assert.Equal(t, []string{"192.0.2.1", "192.0.2.2"}, got[1].Texts)
	assert.Equal(t, []string{"true"}, got[2].Texts)
	assert.Equal(t, []string{"database"}, settings.Secrets(got))
	assert.EqualError(t, got[0].At("is no address"), "line 2, column 9: listen: is no address")
}

func TestAFileThatSetsNothingIsRight(t *testing.T) {
	for _, raw := range []string{"", "\n\n", "# only a note\n  # and another\n"} {
		got, err := settings.Read([]byte(raw), known)
		require.NoError(t, err, raw)
		assert.Empty(t, got)
	}
}

func TestWhatIsWrongIsToldWithItsPlace(t *testing.T) {
	for raw, want := range map[string]string{
		"data: x\nlistn: y\n":                       `line 2, column 1: there is no setting "listn"; did you mean listen?`,
		"trusted_proxy: 192.0.2.1\n":                `line 1, column 1: there is no setting "trusted_proxy"; did you mean trusted-proxy?`,
		"colour: red\n":                             `line 1, column 1: there is no setting "colour"`,
		"data: x\ntrusted-proxy:\n\t- 192.0.2.1\n":  "line 3, column 1: the line begins with a tab: YAML is indented by spaces",
		"data: x\ndata: y\n":                        "line 2, column 1: data is set twice; the first time in line 1",
		"data:\n":                                   "line 1, column 6: data has no value: write one, or begin the line with #",
		"data: [a, b]\n":                            "line 1, column 7: data is one text",
		"data: {a: b}\n":                            "line 1, column 7: data is one text",
		"trusted-proxy: {a: b}\n":                   "line 1, column 16: trusted-proxy is a list",
		"data: &a x\nlisten: *a\n":                  "line 1, column 7: a configuration file has no anchors or aliases",
		"- data\n":                                  "line 1, column 1: a configuration file begins with a key and a colon, such as name:",
		"data: " + strings.Repeat("x", 3000) + "\n": "line 1, column 7: data is too long",
		strings.Repeat("#", settings.MostBytes) + "\ndata: x\n": "a configuration file has at most 65536 bytes",
	} {
		_, err := settings.Read([]byte(raw), known)
		assert.EqualError(t, err, want, raw)
		var at *yamlfile.Error
		assert.ErrorAs(t, err, &at)
	}
	_, err := settings.Read([]byte("data: 'x\n"), known)
	assert.ErrorContains(t, err, "line ")
}

func TestTheWrittenFileSetsNothingAndNamesEverything(t *testing.T) {
	raw := settings.Write(known)
	got, err := settings.Read(raw, known)
	require.NoError(t, err)
	assert.Empty(t, got)
	for _, s := range known {
		assert.Contains(t, string(raw), "\n#"+s.Name+":")
	}
	// With the comment signs of its settings taken away it sets each of them to its default.
	for _, s := range known {
		raw = []byte(strings.Replace(string(raw), "\n#"+s.Name+":", "\n"+s.Name+":", 1))
	}
	got, err = settings.Read(raw, known)
	require.NoError(t, err)
	require.Len(t, got, len(known))
	for _, v := range got {
		assert.Equal(t, v.Default, strings.Join(v.Texts, ","), v.Name)
	}
}

func FuzzRead(f *testing.F) {
	f.Add("listen: 0.0.0.0:443\ntrusted-proxy: [a, b]\n")
	f.Add("data:\n\tx")
	f.Fuzz(func(t *testing.T, raw string) {
		values, err := settings.Read([]byte(raw), known)
		if err != nil {
			assert.Empty(t, values)
		}
		for _, v := range values {
			assert.Positive(t, v.Line)
		}
	})
}

func ExampleRead() {
	known := []settings.Setting{{Name: "listen"}}
	_, err := settings.Read([]byte("listne: 127.0.0.1:8470\n"), known)
	fmt.Println(err)
	// Output: line 1, column 1: there is no setting "listne"; did you mean listen?
}
