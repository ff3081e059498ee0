package core

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// arrows says what each part may import of the product itself, and core of anything else. Tests are free.
var arrows = map[string][]string{
	"core":          {"core"},
	"core/ground":   {"core/ground"},
	"core/stream":   {"core/ground", "core/stream"},
	"core/wire":     {"core/ground", "core/stream", "core/wire"},
	"core/decide":   {"core/ground", "core/stream", "core/wire", "core/decide"},
	"core/work":     {"core/ground", "core/stream", "core/wire", "core/decide", "core/work"},
	"store/cluster": {},
	"store/backup":  {"core", "store/cluster"},
	"store/forward": {},
	"store":         {"core"},
	"jobs":          {"core", "store"},
	"signon":        {"core"},
	"server":        {"core", "store", "store/forward", "jobs", "signon"},
	"sim":           {"core", "sim"},
	"demo":          {"core", "store", "jobs", "sim"},
	"web":           {},
}

// small are the few libraries that core uses besides the standard library.
var small = []string{"golang.org/x/", "github.com/google/uuid", "go.yaml.in/yaml/", "github.com/eclipse/paho.mqtt.golang",
	"github.com/wneessen/go-mail", "github.com/go-pdf/fpdf", "github.com/boombuler/barcode", "github.com/xuri/excelize/v2",
	"github.com/pion/", "github.com/hashicorp/yamux", "filippo.io/age", "github.com/santhosh-tekuri/jsonschema/v6"}

func TestArrowsPointOneWay(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}} {{join .Imports " "}}`, "unlatch/...").CombinedOutput()
	require.NoError(t, err, "%s", out)
	checked := map[string]bool{}
	for _, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		fields := strings.Fields(line)
		from := strings.TrimPrefix(fields[0], "unlatch/")
		part := partOf(from)
		if part == "" {
			continue
		}
		checked[part] = true
		assert.True(t, part != "core" || from == "core", "%s stands in none of core's rooms", from)
		inCore := strings.HasPrefix(part, "core/")
		for _, to := range fields[1:] {
			if own, ok := strings.CutPrefix(to, "unlatch/"); ok {
				to := partOf(own)
				room, _, _ := strings.Cut(to, "/")
				assert.True(t, slices.Contains(arrows[part], to) || room != "store" && slices.Contains(arrows[part], room), "%s imports %s", from, own)
			} else if inCore && strings.Contains(strings.Split(to, "/")[0], ".") {
				assert.True(t, startsWithAny(to, small), "%s imports %s: core knows only the standard library and small codecs", from, to)
			} else if inCore {
				assert.NotContains(t, []string{"database/sql", "html/template"}, to, "%s", from)
			}
		}
	}
	assert.Len(t, checked, len(arrows), "a part has gone or been renamed: %v", checked)
}

// partOf returns the longest part that a package lies in; "" for cmd, e2e, bench and test support, which may import anything.
func partOf(pkg string) string {
	best := ""
	for p := range arrows {
		if (pkg == p || strings.HasPrefix(pkg, p+"/")) && len(p) > len(best) {
			best = p
		}
	}
	if strings.HasSuffix(pkg, "test") {
		return ""
	}
	return best
}

func startsWithAny(s string, list []string) bool {
	for _, p := range list {
		if strings.HasPrefix(s, p) {
			return true
		}
	}
	return false
}

// How things are stored is the store's to know.
func TestCoreKnowsNoColumns(t *testing.T) {
	require.NoError(t, filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || filepath.Ext(path) != ".go" || strings.HasSuffix(path, "_test.go") {
			return err
		}
		raw, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.NotContains(t, string(raw), `db:"`, path)
		return nil
	}))
}
