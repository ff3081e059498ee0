package wiretext_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/wiretext"
)

type answer struct {
	Name  string
	Inner *struct{ Topics []string }
	Map   map[string]string
	Count int
}

// No text of an answer keeps a control character, wherever it stands and whenever its field was added.
func TestEveryTextIsCleaned(t *testing.T) {
	var a answer
	require.NoError(t, json.Unmarshal([]byte(`{"Name":"a\u0000b\u202e","Inner":{"Topics":["x\u0007","`+strings.Repeat("y", 5000)+
		`"]},"Map":{"k\u0000":"v\u001b[2J"},"Count":7}`), &a))
	wiretext.Every(&a)
	raw, err := json.Marshal(a)
	require.NoError(t, err)
	for _, bad := range []string{`\u0000`, `\u0007`, `\u001b`, "\u202e"} {
		assert.NotContains(t, string(raw), bad)
	}
	assert.LessOrEqual(t, len(a.Inner.Topics[1]), wiretext.MostField+10)
	assert.Equal(t, 7, a.Count)
	assert.Len(t, a.Map, 1)
	wiretext.Every(&answer{})
}

func ExampleEvery() {
	a := struct{ Says string }{"ready\x00\x1b[2J"}
	wiretext.Every(&a)
	fmt.Println(a.Says)
	// Output: ready··[2J
}
