package recipe

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestExpand(t *testing.T) {
	for _, c := range []struct {
		shape string
		v     Values
		want  string
	}{
		{"/vista/ch{channel}/{tier:primary|secondary|tertiary}", Values{Channel: 3, Stream: 2}, "/vista/ch3/secondary"},
		{"/lantern/{channel*8+stream}?glow=live", Values{Channel: 2, Stream: 1}, "/lantern/17?glow=live"},
		{"/cam{channel:03}/{(stream-1)*10}", Values{Channel: 7, Stream: 3}, "/cam007/20"},
		{"/live[/{cast:unicast|multicast}]/{channel-1}", Values{Channel: 1, Stream: 1}, "/live/0"},
		{"/live[/{cast:unicast|multicast}]/{channel-1}", Values{Channel: 1, Stream: 1, Optional: 1, Multicast: true}, "/live/multicast/0"},
		{"/odd{{x}}[[1]]", Values{Channel: 1, Stream: 1}, "/odd{x}[1]"},
		{"", Values{Channel: 1, Stream: 1}, ""},
	} {
		got, err := MustParse(c.shape).Expand(c.v)
		require.NoError(t, err, c.shape)
		assert.Equal(t, c.want, got)
		back := MustParse(c.shape).Invert(got)
		assert.NotEmpty(t, back, c.shape)
	}
	for _, v := range []Values{{Channel: 0, Stream: 1}, {Channel: 1, Stream: 3}, {Channel: 999, Stream: 1}} {
		_, err := MustParse("/{channel}/{tier:a|b}").Expand(v)
		assert.ErrorAs(t, err, new(*ValueError))
	}
}

func TestInvert(t *testing.T) {
	for _, c := range []struct {
		shape, path string
		want        []Values
	}{
		{"/ch{channel}/{tier:main|sub}", "/ch12/sub", []Values{{Channel: 12, Stream: 2}}},
		{"/ch{channel}/{tier:main|sub}", "/ch12/Sub", nil},
		{"/ch{channel:02}/{tier:main|sub}", "/ch1/sub", nil},
		{"/ch{channel}/{tier:main|sub}", "/ch01/sub", nil},
		{"/{channel*100+stream}", "/302", []Values{{Channel: 3, Stream: 2}}},
		{"/{channel*2+stream}", "/5", []Values{{Channel: 1, Stream: 3}, {Channel: 2, Stream: 1}}},
		{"/{channel}{stream}", "/12", []Values{{Channel: 1, Stream: 2}}},
		{"/fixed", "/fixed", []Values{{Channel: 1, Stream: 1}}},
		{"/a[?x={stream}]", "/a?x=2", []Values{{Channel: 1, Stream: 2, Optional: 1}}},
		{"/{tier:a|ab}b", "/abb", []Values{{Channel: 1, Stream: 2}}},
	} {
		assert.Equal(t, c.want, MustParse(c.shape).Invert(c.path), "%s in %s", c.path, c.shape)
	}
}

func TestSyntaxErrorsSayWhere(t *testing.T) {
	for shape, column := range map[string]int{
		"/{channel": 10, "/{nonsense}": 3, "/a b": 3, "/}": 2, "/[a": 4, "/[a[b]]": 4, "/{channel:5}": 11, "/{tier:a|a}": 8,
		"/{tier:}": 0, "/{3}": 4, "/{channel+}": 11,
		"/{(channel}": 11, "/{cast:a}": 8, "/{channel*9999999}": 11, "/[]": 4, "/{tier:a|b|c|d}": 8,
	} {
		_, err := Parse(shape)
		if column == 0 {
			continue
		}
		var syntax *SyntaxError
		require.ErrorAs(t, err, &syntax, shape)
		assert.Equal(t, column, syntax.Column, "%s: %v", shape, err)
	}
	_, err := Parse(strings.Repeat("[a]", 5))
	assert.ErrorContains(t, err, "optional")
	_, err = Parse("/{" + strings.Repeat("(", 100) + "channel" + strings.Repeat(")", 100) + "}")
	assert.ErrorContains(t, err, "too deep")
	_, err = Parse("/{channel" + strings.Repeat("+channel", 20) + "}")
	assert.ErrorContains(t, err, "too many parts")
}

// grow makes a random template.
func grow(r *rand.Rand) string {
	numbers := []string{"channel", "stream", "channel-1", "stream-1", "channel*8+stream", "(channel-1)*16+stream-1",
		"channel*100+stream", "channel:02", "stream:02", "channel*3"}
	words := []string{"{tier:main|sub}", "{tier:a|b|c}", "{tier:A1|B2|C3}", "{cast:uni|multi}"}
	literals := []string{"/", "/live", "?x=", "&stream=", "/cam", ".", "-", "{{", "]]", "/Ä"}
	var b strings.Builder
	b.WriteString("/")
	for range 1 + r.IntN(6) {
		switch r.IntN(4) {
		case 0:
			b.WriteString("{" + numbers[r.IntN(len(numbers))] + "}")
		case 1:
			b.WriteString(words[r.IntN(len(words))])
		case 2:
			b.WriteString("[" + literals[r.IntN(4)] + "{" + numbers[r.IntN(2)] + "}]")
		default:
			b.WriteString(literals[r.IntN(len(literals))])
		}
	}
	return b.String()
}

// What expands from values inverts to them, and everything that a path inverts to expands to that path: over thousands of random templates.
func TestExpansionAndInversionAreExact(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	checked := 0
	for range 4000 {
		shape := grow(r)
		tpl, err := Parse(shape)
		if err != nil {
			continue // too many optional parts
		}
		v := Values{Channel: 1, Stream: 1 + r.IntN(tpl.Streams()), Optional: r.IntN(1 << tpl.optional)}
		if tpl.HasChannel() {
			v.Channel = 1 + r.IntN(40)
		}
		if tpl.HasCast() {
			v.Multicast = r.IntN(2) == 1
		}
		path, err := tpl.Expand(v)
		if err != nil {
			continue // a number below zero
		}
		back := tpl.Invert(path)
		checked++
		hit := false
		for _, got := range back {
			again, err := tpl.Expand(got)
			require.NoError(t, err, "%s %+v", shape, got)
			require.Equal(t, path, again, "%s %+v", shape, got)
			hit = hit || tpl.same(got, v)
		}
		require.True(t, hit, "%s made %s of %+v, and inverts it to %+v", shape, path, v, back)
	}
	assert.Greater(t, checked, 2500)
}

// same compares values in what the template uses with these optional parts: what stands only in a part that is left out cannot be read
// back.
func (t Template) same(a, b Values) bool {
	if a.Optional != b.Optional {
		return false
	}
	pa, _ := t.Expand(a)
	pb, _ := t.Expand(b)
	return pa == pb
}

func TestLearnFromOne(t *testing.T) {
	for path, want := range map[string]string{
		"/vista/ch1/primary":         "/vista/ch{channel}/{tier:primary|secondary|tertiary}",
		"/strongroom/3/0":            "/strongroom/{channel}/{stream-1}",
		"/media?channel=2&subtype=1": "/media?channel={channel}&subtype={stream}",
		"/Camera07/Main":             "/Camera{channel:02}/{tier:Main|Sub|Third}",
		"/feeds/301":                 "/feeds/{channel*100+stream}",
		"/x{1}/unicast/cam4/stream2": "/x{{1}}/{cast:unicast|multicast}/cam{channel}/stream{stream}",
	} {
		got := Learn([]string{path})
		require.NotEmpty(t, got, path)
		assert.Equal(t, want, got[0].Shape, "%s: %+v", path, got[:min(len(got), 3)])
		assert.NotEmpty(t, got[0].Why)
		for _, p := range got {
			back, err := p.Path.Expand(p.Values[0])
			require.NoError(t, err)
			assert.Equal(t, path, back, "%s explains the URL it was learned from", p.Shape)
		}
	}
	assert.Empty(t, Learn([]string{"/nothing/to/learn"}))
	assert.Empty(t, Learn(nil))
}

func TestSeveralSettleWhatOneLeavesOpen(t *testing.T) {
	for _, c := range []struct {
		paths []string
		want  string
	}{
		{[]string{"/lantern/9?glow=live", "/lantern/17?glow=live", "/lantern/10?glow=live"}, "/lantern/{channel*8+stream}?glow=live"},
		{[]string{"/strongroom/1/0", "/strongroom/2/0", "/strongroom/2/1"}, "/strongroom/{channel}/{stream-1}"},
		{[]string{"/v2/cam1", "/v2/cam2"}, "/v2/cam{channel}"},
		{[]string{"/x/01/main", "/x/12/sub"}, "/x/{channel:02}/{tier:main|sub|third}"},
	} {
		got := Learn(c.paths)
		require.NotEmpty(t, got, c.paths)
		assert.Equal(t, c.want, got[0].Shape, "%+v", got[:min(len(got), 4)])
		assert.Len(t, got[0].Values, len(c.paths))
	}
	assert.Empty(t, Learn([]string{"/a/1", "/b/2"}), "two shapes are no one recipe")
	assert.Empty(t, Learn([]string{"/a/1", "/a/1"}), "the same twice teaches nothing")
}

const book = `name: Works
recipes:
  - name: Corvane cameras
    path: /vista/ch{channel}/{tier:primary|secondary}
    maker: corvane*
    confidence: sure
  - {name: Any, path: "/live/{stream}", note: "<script>alert(1)</script>"}
`

func TestBook(t *testing.T) {
	b, err := ReadBook([]byte(book))
	require.NoError(t, err)
	require.Len(t, b.Recipes, 2)
	assert.Equal(t, "<script>alert(1)</script>", b.Recipes[1].Note, "a note is text, whatever stands in it")
	raw, err := b.Write()
	require.NoError(t, err)
	again, err := ReadBook(raw)
	require.NoError(t, err)
	assert.Equal(t, b, again, "what is written is read back")

	known := Device{Maker: "Corvane", Model: "V4"}
	assert.Greater(t, b.Recipes[0].Rank(known), b.Recipes[1].Rank(known))
	assert.Zero(t, b.Recipes[0].Rank(Device{Maker: "Lumenhythe"}))

	other, err := ReadBook([]byte(strings.Replace(book, "primary|secondary", "one|two", 1) + "  - {name: New, path: /new}\n"))
	require.NoError(t, err)
	added, conflicts := b.Merge(other)
	assert.Equal(t, "New", added[0].Name)
	require.Len(t, conflicts, 1)
	assert.Equal(t, "Corvane cameras", conflicts[0].Ours.Name)
	assert.Len(t, b.Recipes, 3)
	added, conflicts = b.Merge(b)
	assert.Empty(t, added)
	assert.Empty(t, conflicts)
}

func TestBookErrorsSayLineAndColumn(t *testing.T) {
	for raw, want := range map[string]string{
		"":                                       "line 1, column 1",
		"name: x\nrecipes:\n  - path: /{channel": "line 3, column 20",
		"name: x\nrecipes:\n  - {name: a, path: \"/{oops}\"}": "line 3, column 24",
		"name: x\nrecipes: 3":                            "line 2, column 10",
		"name: x\nwrong: y":                              "line 2, column 1",
		"name: x\nrecipes:\n  - name: a":                 "line 3, column 5",
		"name: x\nrecipes:\n  - path: ch1":               "line 3, column 11",
		"name: x\nrecipes:\n  - {path: /a, port: 99999}": "line 3, column 22",
		"recipes: []":                                    "line 1, column 1",
		"name: [\n":                                      "line",
		"a: &a [x,x]\nname: *a":                          "anchors",
	} {
		_, err := ReadBook([]byte(raw))
		var e *BookError
		require.True(t, errors.As(err, &e), "%q: %v", raw, err)
		assert.Contains(t, e.Error(), want, "%q", raw)
	}
	_, err := ReadBook(make([]byte, MaxBook+1))
	assert.Error(t, err)
	deep := "name: x\nrecipes: " + strings.Repeat("[", 5000) + strings.Repeat("]", 5000)
	_, err = ReadBook([]byte(deep))
	assert.Error(t, err)
}

func TestMatch(t *testing.T) {
	for _, c := range []struct {
		pattern, text string
		want          bool
	}{{"corvane*", "Corvane Ltd", true}, {"v?", "V4", true}, {"v?", "V44", false}, {"*dome*", "L2 Dome", true}, {"", "", true}, {"*", "",
		true}, {"a*b*c", "axxbyyc", true}, {"a*b*c", "axxbyy", false}} {
		assert.Equal(t, c.want, Match(c.pattern, c.text), "%s in %s", c.pattern, c.text)
	}
	assert.False(t, Match(strings.Repeat("*a", 500)+"b", strings.Repeat("a", 5000)), "and soon")
}

func FuzzTemplate(f *testing.F) {
	f.Add("/a{channel*8+stream}[?x={stream:02}]", "/a17?x=01")
	f.Add("/{tier:a|b}{cast:c|d}", "/ac")
	f.Fuzz(func(t *testing.T, shape, path string) {
		tpl, err := Parse(shape)
		if err != nil {
			return
		}
		for _, v := range tpl.Invert(path) {
			if got, err := tpl.Expand(v); err != nil || got != path {
				t.Fatalf("%q inverts %q to %+v, which makes %q (%v)", shape, path, v, got, err)
			}
		}
		if got, err := tpl.Expand(Values{Channel: 2, Stream: 1}); err == nil && len(tpl.Invert(got)) == 0 && len(got) <= MaxLength {
			t.Fatalf("%q makes %q and does not know it", shape, got)
		}
	})
}

func FuzzBook(f *testing.F) {
	f.Add([]byte(book))
	f.Fuzz(func(t *testing.T, raw []byte) {
		b, err := ReadBook(raw)
		if err != nil {
			return
		}
		out, err := b.Write()
		if err != nil {
			t.Fatal(err)
		}
		if _, err := ReadBook(out); err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
	})
}

func FuzzLearn(f *testing.F) {
	f.Add("/a/1/main", "/a/2/main")
	f.Fuzz(func(t *testing.T, a, b string) {
		for _, p := range Learn([]string{a, b}) {
			for i, path := range []string{a, b} {
				if got, err := p.Path.Expand(p.Values[i]); err != nil || got != path {
					t.Fatalf("%s does not explain %q: %q, %v", p.Shape, path, got, err)
				}
			}
		}
	})
}

func ExampleTemplate_Expand() {
	t := MustParse("/lantern/{channel*8+stream}?glow=live")
	for _, v := range t.All(2, false) {
		path, _ := t.Expand(v)
		fmt.Println(v.Channel, v.Stream, path)
	}
	// Output:
	// 1 1 /lantern/9?glow=live
	// 1 2 /lantern/10?glow=live
	// 1 3 /lantern/11?glow=live
	// 2 1 /lantern/17?glow=live
	// 2 2 /lantern/18?glow=live
	// 2 3 /lantern/19?glow=live
}

// The schema that is given to others names the same fields as the reader knows.
func TestSchemaNamesTheSameFields(t *testing.T) {
	raw, err := os.ReadFile("../../../docs/path-book.schema.json")
	require.NoError(t, err)
	var schema struct {
		Properties struct {
			Recipes struct {
				Items struct{ Properties map[string]any }
			}
		}
	}
	require.NoError(t, json.Unmarshal(raw, &schema))
	fields := schema.Properties.Recipes.Items.Properties
	assert.Len(t, fields, 10)
	for name := range fields {
		value := map[string]string{"port": "8554", "path": "/x", "purpose": "mjpeg", "confidence": "likely"}[name]
		if value == "" {
			value = "text"
		}
		raw := "name: x\nrecipes:\n  - {" + name + ": " + value
		if name != "path" {
			raw += ", path: /x"
		}
		_, err := ReadBook([]byte(raw + "}"))
		assert.NoError(t, err, name)
	}
}

func TestShippedBooks(t *testing.T) {
	for _, b := range Shipped() {
		assert.NotEmpty(t, b.Recipes, b.Name)
		for _, r := range b.Recipes {
			for _, v := range r.Path.All(2, false) {
				path, err := r.Path.Expand(v)
				require.NoError(t, err, r.Name)
				assert.Contains(t, r.Path.Invert(path), v, r.Name)
			}
		}
	}
}
