package recipe

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// yard is a book with one command, whose lines a test replaces.
const yard = `name: Yard
commands:
  - name: Lamp
    does: Sets the lamp.
    maker: "corvane*"
    values: [{name: way, one_of: ["on", "off"], sent_as: ["1", "0"]}, {name: level, from: 1, to: 9}, {name: label, text: 40}]
    token: {path: /page, after: 'value="', before: '"'}
    set:
      - {path: "/lamp/{label}?l={level}", headers: {X-Label: "{label}"}, form: {way: "{way}", t: "{token}"},
         ok: {status: [200], contains: OK}}
      - {method: PUT, path: /lamp, json: '{"a": ["{label}", "{level:raw}"], "b": "{way}{level}"}'}
      - {path: /lamp, xml: "<a b='{label}'>{way}</a>"}
    read: {path: /lamp, find: [{value: way, json: /w}, {value: level, json: /l/0}, {value: label, after: "label=", before: ";"}]}
`

func TestACommandIsRead(t *testing.T) {
	b, err := ReadBook([]byte(yard))
	require.NoError(t, err)
	require.Len(t, b.Commands, 1)
	raw, err := b.Write()
	require.NoError(t, err)
	again, err := ReadBook(raw)
	require.NoError(t, err, string(raw))
	assert.Equal(t, b.Commands, again.Commands, "what is written is read back")
	kind := Kind{Makers: []string{"", "Corvane"}, Model: "V4"}
	assert.True(t, b.Commands[0].Fits(kind))
	assert.False(t, b.Commands[0].Fits(Kind{Makers: []string{""}}), "what is not known fits nothing")
	b.Commands[0].Firmware = "4.*"
	assert.False(t, b.Commands[0].Fits(kind))
}

// Whatever values and tokens hold, the requests stay as many as they are, with the lines that they have.
func TestValuesBecomeNoOtherRequest(t *testing.T) {
	b, err := ReadBook([]byte(yard))
	require.NoError(t, err)
	c := b.Commands[0]
	fill := func(label, token string) ([]Exact, error) {
		return c.Fill(c.Set, map[string]string{"way": "on", "level": "3", "label": label}, token)
	}
	got, err := fill(`a&b=c/../d?e#f "q' <x>%`, `to"k&x=1`)
	require.NoError(t, err)
	require.Len(t, got, 3)
	assert.Equal(t, `/lamp/a&b=c%2F..%2Fd%3Fe%23f%20%22q%27%20%3Cx%3E%25?l=3`, got[0].Target)
	assert.Equal(t, "way=1&t=to%22k%26x%3D1", string(got[0].Body))
	assert.Equal(t, `{"a": ["a\u0026b=c/../d?e#f \"q' \u003cx\u003e%", 3], "b": "13"}`, string(got[1].Body))
	assert.Equal(t, "<a b='a&amp;b=c/../d?e#f &#34;q&#39; &lt;x&gt;%'>1</a>", string(got[2].Body))
	for _, x := range got {
		text := x.String("192.0.2.7")
		head, _, _ := strings.Cut(text, "\n\n")
		assert.LessOrEqual(t, strings.Count(head, "\n"), 5, text)
	}
	for _, label := range []string{"a\r\nX-Evil: 1", "a\nb", "tab\t", strings.Repeat("x", 41)} {
		_, err := fill(label, "t")
		assert.ErrorAs(t, err, new(*SettingError), "%q", label)
	}
	_, err = fill("Zürich", "t")
	assert.ErrorAs(t, err, new(*SettingError), "a header takes ASCII alone")
	_, err = fill("a", "to\r\nken")
	assert.ErrorAs(t, err, new(*SettingError))
	for _, bad := range []map[string]string{{"way": "dim", "level": "3", "label": ""}, {"way": "on", "level": "10", "label": ""},
		{"way": "on", "level": "3; rm", "label": ""}, {"way": "on", "level": "3"}, {"way": "on", "level": "3", "label": "", "x": "1"}} {
		_, err := c.Fill(c.Set, bad, "t")
		assert.ErrorAs(t, err, new(*SettingError), "%v", bad)
	}
}

func TestValuesAreReadBack(t *testing.T) {
	b, err := ReadBook([]byte(strings.Replace(yard, `{value: label, after: "label=", before: ";"}`, "{value: label, json: /n}", 1)))
	require.NoError(t, err)
	c := b.Commands[0]
	got, err := c.ReadValues([]byte(`{"w": 1, "l": [4], "n": "Yard & gate"}`))
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"way": "on", "level": "4", "label": "Yard & gate"}, got)
	assert.True(t, c.Same(got, map[string]string{"way": "on", "level": "4.0", "label": "Yard & gate"}))
	assert.Equal(t, "way on, level 4, label Yard & gate", c.InWords(got))
	for _, page := range []string{"", "<html>", `{"w": 1}`, `{"w": 1, "l": 4, "n": "a"}`, `{"w": {}, "l": [4], "n": "a"}`,
		`{"w": 1, "l": [4], "n": "` + strings.Repeat("a", 500) + `"}`, `{"w": 1, "l": [4], "n": "a\nb"}`} {
		_, err := c.ReadValues([]byte(page))
		assert.ErrorAs(t, err, new(*NotFoundError), page)
	}
	token, err := c.ReadToken([]byte(`<input value="ab&amp;c">`))
	require.NoError(t, err)
	assert.Equal(t, "ab&c", token)
}

// Mistakes have their line, and a command that could do harm is none.
func TestMistakesInCommands(t *testing.T) {
	for _, c := range []struct{ from, to, says string }{
		{`maker: "corvane*"`, "", "for which maker"},
		{"does: Sets the lamp.", "does: [a]", "line 4, column 11: this is one text"},
		{"read: {path: /lamp", "reed: {path: /lamp", `line 13, column 5: a command has no "reed"`},
		{`, {value: label, after: "label=", before: ";"}`, "", "read does not find label: what was before could not be put back"},
		{"{value: way, json: /w}", "{value: wey, json: /w}", "read does not find way"},
		{"path: /lamp, xml", "path: http://192.0.2.9/lamp, xml", "stays on the device's own web side"},
		{"path: /lamp, xml", "path: //192.0.2.9/lamp, xml", "stays on the device's own web side"},
		{"{X-Label: ", "{Authorization: ", `does not set the header "Authorization"`},
		{"{X-Label: ", "{\"X: a\\r\\nB\": ", "does not set the header"},
		{`"{way}{level}"`, `"{wey}"`, "{wey} is no value"},
		{"from: 1, to: 9", "from: 9, to: 1", "a value needs its bounds"},
		{"from: 1, to: 9", "from: 1, to: 9, text: 3", "not two of them"},
		{"name: level", "name: Level", "small letters"},
		{`sent_as: ["1", "0"]`, `sent_as: ["1"]`, "one spelling for each"},
		{"    token: {path: /page, after: 'value=\"', before: '\"'}\n", "", "none is used that is not read"},
		{`json: '{"a": [`, `json: '{"a": `, "the json cannot be read"},
		{"<a b='{label}'>{way}</a>", "<a>{way}</b>", "the xml cannot be read"},
		{"method: PUT", "method: TRACE", "the method is"},
		{"does: Sets the lamp.", "does: a\n    mends: [{cause: readable, set: {way: dim, level: 1, label: a}}]", "way is one of on, off"},
		{"does: Sets the lamp.", "does: a\n    not_with: [{command: Lamp, when: {way: on}, is: {way: on}}]", "is not with itself"},
		{"does: Sets the lamp.", "does: a\n    not_with: [{command: Moon, when: {way: on}, is: {way: on}}]", `"Moon", which is not in the book`},
		{"{way}</a>", "{way}" + strings.Repeat("x", 20<<10) + "</a>", "longer than"},
	} {
		require.Contains(t, yard, c.from)
		_, err := ReadBook([]byte(strings.Replace(yard, c.from, c.to, 1)))
		var bad *BookError
		require.ErrorAs(t, err, &bad, "%s", c.to)
		assert.Contains(t, err.Error(), c.says)
		assert.Positive(t, bad.Line)
	}
	_, err := ReadBook([]byte(yard + strings.Repeat("#", 10<<20)))
	assert.ErrorContains(t, err, "at most")
}

// Two commands that switch each other would never come to an end.
func TestCommandsThatSwitchEachOther(t *testing.T) {
	book := func(set string) string {
		one := `  - {name: %s, does: a, maker: b, values: [{name: way, one_of: ["on", "off"]}], set: [{path: "/%[1]s?{way}"}],
     read: {path: /r, find: [{value: way, after: "%[1]s=", before: ";"}]},
     not_with: [{command: %s, when: {way: "on"}, is: {way: "on"}, set: {way: "%s"}}]}
`
		return "name: Ways\ncommands:\n" + fmt.Sprintf(one, "one", "two", set) + fmt.Sprintf(one, "two", "one", set)
	}
	_, err := ReadBook([]byte(book("off")))
	require.NoError(t, err)
	_, err = ReadBook([]byte(book("on")))
	assert.ErrorContains(t, err, "what it must not be")
	loop := strings.ReplaceAll(book("off"), `when: {way: "on"}`, `when: {way: "off"}`)
	_, err = ReadBook([]byte(loop))
	assert.ErrorContains(t, err, "switch each other without end")
}

func FuzzCommandPages(f *testing.F) {
	b, err := ReadBook([]byte(yard))
	require.NoError(f, err)
	f.Add([]byte(`{"w": 1, "l": [4], "n": "a"}`))
	f.Add([]byte(`label=;value="`))
	f.Fuzz(func(t *testing.T, page []byte) {
		c := b.Commands[0]
		if got, err := c.ReadValues(page); err == nil {
			c.Check(got)
		}
		if token, err := c.ReadToken(page); err == nil {
			assert.LessOrEqual(t, len(token), mostFound+400)
		}
	})
}
