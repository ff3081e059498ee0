package recipe

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A command is learned from two requests that worked, whatever the form of their bodies.
func TestACommandIsLearned(t *testing.T) {
	for name, c := range map[string]struct {
		first, second Example
		set           Request
		find          Find
		values        []string
	}{
		"a form": {
			Example{"POST /vista/setup HTTP/1.1\r\nHost: 192.0.2.7\r\nAuthorization: Digest x\r\nCookie: a=b\r\n\r\nsigning=digest&keep=1",
				`{"streams": {"keep": "1", "signing": "digest"}}`},
			Example{"POST /vista/setup HTTP/1.1\nHost: 192.0.2.8\n\nsigning=basic&keep=1", `{"streams": {"keep": "1", "signing": "basic"}}`},
			Request{Path: "/vista/setup", Form: []Field{{"signing", "{signing}"}, {"keep", "1"}}},
			Find{Value: "signing", JSON: "/streams/signing"}, []string{"digest", "basic"},
		},
		"a query of a curl command": {
			Example{`curl 'http://192.0.2.7:8080/orrery/desk?plate=320x180&x=1' -u fitter:secret -H 'Accept: */*'`, "plate=320x180\r\nend"},
			Example{`curl "http://192.0.2.7:8080/orrery/desk?plate=640x360&x=1" -H 'Accept: */*'`, "plate=640x360\r\nend"},
			Request{Path: "/orrery/desk?plate={plate}&x=1"}, Find{Value: "plate", After: "te=", Before: "\r"}, []string{"320x180", "640x360"},
		},
		"JSON": {
			Example{"PUT /a HTTP/1.1\n\n{\"veil\": true, \"names\": [\"x\", \"y\"]}", "<state><veil>true</veil></state>"},
			Example{"PUT /a HTTP/1.1\n\n{\"veil\": false, \"names\": [\"x\", \"y\"]}", "<state><veil>false</veil></state>"},
			Request{Method: "PUT", Path: "/a", JSON: `{"veil": "{veil:raw}", "names": ["x", "y"]}`},
			Find{Value: "veil", After: "il>", Before: "</veil><"}, []string{"true", "false"},
		},
		"XML": {
			Example{"PUT /Weir/Gate HTTP/1.1\n\n<Gate><Service>On</Service></Gate>", "Service=On;"},
			Example{"PUT /Weir/Gate HTTP/1.1\n\n<Gate><Service>Off</Service></Gate>", "Service=Off;"},
			Request{Method: "PUT", Path: "/Weir/Gate", XML: "<Gate><Service>{service}</Service></Gate>"},
			Find{Value: "service", After: "ce=", Before: ";"}, []string{"On", "Off"},
		},
	} {
		t.Run(name, func(t *testing.T) {
			got, varies, err := Lesson{First: c.first, Second: c.second, PagePath: "/page"}.Learn()
			require.NoError(t, err)
			require.Len(t, varies, 1)
			assert.Equal(t, []Request{c.set}, got.Set)
			require.Len(t, got.Read.Find, 1)
			assert.Equal(t, c.find, got.Read.Find[0])
			assert.Equal(t, c.values, got.Values[0].OneOf)
			got.Name, got.Does, got.Maker = "Learned", "Does it.", "c*"
			raw, err := (&Book{Name: "Learned here", Commands: []Command{*got}}).Write()
			require.NoError(t, err)
			_, err = ReadBook(raw)
			assert.NoError(t, err, "what is learned is a command: %s", raw)
			assert.NotContains(t, string(raw), "secret")
		})
	}
}

func TestATokenIsLearned(t *testing.T) {
	l := Lesson{
		First:     Example{"POST /set HTTP/1.1\n\nglow=aa11&veil=on", "veil=on;"},
		Second:    Example{"POST /set HTTP/1.1\n\nglow=bb22&veil=off", "veil=off;"},
		PagePath:  "/page",
		Tokens:    []string{"form glow"},
		TokenPath: "/setup", TokenPage: `<input name="glow" value="bb22">`,
	}
	c, varies, err := l.Learn()
	require.NoError(t, err)
	require.Len(t, varies, 2)
	assert.True(t, varies[0].Token)
	require.NotNil(t, c.Token)
	token, err := c.ReadToken([]byte(`<input name="glow" value="cc33">`))
	require.NoError(t, err)
	assert.Equal(t, "cc33", token)
	assert.Equal(t, []Field{{"glow", "{token}"}, {"veil", "{veil}"}}, c.Set[0].Form)
	l.Fixed = []string{"form glow"}
	l.Tokens = nil
	c, _, err = l.Learn()
	require.NoError(t, err)
	assert.Equal(t, "aa11", c.Set[0].Form[0].Value)
}

func TestWhatCannotBeLearned(t *testing.T) {
	ok := Example{Request: "POST /a HTTP/1.1\n\nx=1"}
	for says, other := range map[string]string{
		"begins like POST": "hello",
		"not of one form":  "POST /b HTTP/1.1\n\ny=1",
		"do not differ":    "POST /a HTTP/1.1\n\nx=1",
		"holds a password": "POST /a HTTP/1.1\n\npassword=1",
		"at most 64 kB":    "POST /a HTTP/1.1\n\nx=" + strings.Repeat("1", 70<<10),
		"device's own web": "POST a HTTP/1.1\n\nx=2",
	} {
		_, _, err := Lesson{First: ok, Second: Example{Request: other}}.Learn()
		var bad *LearnError
		require.ErrorAs(t, err, &bad, says)
		assert.Contains(t, bad.Problem, says)
	}
}

func FuzzLearnCommand(f *testing.F) {
	f.Add("POST /a HTTP/1.1\n\nx=1", "POST /a HTTP/1.1\n\nx=2", `{"x": "1"}`, `{"x": "2"}`)
	f.Add("curl 'http://a/b?c=1' -d '{\"a\": 1}'", "curl 'http://a/b?c=2' -d '{\"a\": 2}'", "c=1", "c=2")
	f.Fuzz(func(t *testing.T, a, b, c, d string) {
		got, _, err := Lesson{First: Example{a, c}, Second: Example{b, d}, PagePath: "/p"}.Learn()
		if err == nil {
			assert.NotEmpty(t, got.Set)
		}
	})
}
