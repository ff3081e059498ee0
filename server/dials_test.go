package server

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The web process dials no device and asks no network: it has that done by an agent.
func TestTheWebProcessDialsNothing(t *testing.T) {
	t.Parallel()
	dials := regexp.MustCompile(`\bDial|net\.Listen|http\.(Get|Post|Client)|netconfig\.(Free|Do)|address\.Interfaces|\b(onvif|rtsp|prove|player|picture|pathprobe)\.(New|Dial|Open)|discovery\.(Sweep|Watch|Locate)`)
	files, err := filepath.Glob("*.go")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, f := range files {
		if strings.HasSuffix(f, "_test.go") {
			continue
		}
		raw, err := os.ReadFile(f)
		require.NoError(t, err)
		assert.Empty(t, dials.FindAllString(string(raw), -1), f)
	}
}
