package server

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// undialled are the packages that speak to devices and targets: the web process uses their types and calls none of their functions that
// connect. A nil list means that nothing of the package may be imported.
var undialled = map[string][]string{
	"net":                                 {"Dial", "DialTimeout", "Listen", "ListenPacket", "DialTCP", "DialUDP"},
	"net/http":                            {"Get", "Post", "PostForm", "Head", "NewRequest", "NewRequestWithContext"},
	"crypto/tls":                          {"Dial", "DialWithDialer", "Client"},
	"github.com/eclipse/paho.mqtt.golang": nil,
	"unlatch/core/ground/address":         {"Interfaces"},
	"unlatch/core/wire/netconfig":         {"Free", "Do"},
	"unlatch/core/wire/discovery":         {"Sweep", "Watch", "Locate"},
	"unlatch/core/wire/onvif":             nil,
	"unlatch/core/wire/rtsp":              nil,
	"unlatch/core/wire/player":            nil,
	"unlatch/core/wire/picture":           {"New", "Fetch"},
	"unlatch/core/wire/bridge":            {"New"},
	"unlatch/core/wire/multicast":         {"Listen", "Measure"},
	"unlatch/core/work/prove":             {"Prove"},
}

// dials returns what a file does that connects to anything.
func dials(f *ast.File) (out []string) {
	names := map[string]string{} // of packages in this file, to their paths
	for _, x := range f.Imports {
		path, _ := strconv.Unquote(x.Path.Value)
		name := path[strings.LastIndexByte(path, '/')+1:]
		if x.Name != nil {
			name = x.Name.Name
		}
		names[name] = path
		if calls, listed := undialled[path]; listed && calls == nil {
			out = append(out, "imports "+path)
		}
	}
	ast.Inspect(f, func(n ast.Node) bool {
		call, ok := n.(*ast.CallExpr)
		if !ok {
			return true
		}
		sel, ok := call.Fun.(*ast.SelectorExpr)
		if !ok {
			return true
		}
		if id, ok := sel.X.(*ast.Ident); ok && slices.Contains(undialled[names[id.Name]], sel.Sel.Name) {
			out = append(out, "calls "+id.Name+"."+sel.Sel.Name)
		} else if strings.HasPrefix(sel.Sel.Name, "Dial") && !(ok && names[id.Name] != "") {
			out = append(out, "calls a method "+sel.Sel.Name)
		}
		return true
	})
	return out
}

// The web process dials no device and asks no network: it has that done by an agent.
func TestTheWebProcessDialsNothing(t *testing.T) {
	t.Parallel()
	files, err := filepath.Glob("*.go")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, name := range files {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		f, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
		require.NoError(t, err)
		assert.Empty(t, dials(f), name)
	}
	for text, want := range map[string]string{
		`import "unlatch/core/wire/rtsp"`:                                            "imports unlatch/core/wire/rtsp",
		`import n "net"; func f() { n.Dial("tcp", "x") }`:                            "calls n.Dial",
		`import "unlatch/core/wire/bridge"; func f() { bridge.New("", bridge.O{}) }`: "calls bridge.New",
		`func f(g guard) { g.DialContext(nil, "tcp", "x") }`:                         "calls a method DialContext",
	} {
		f, err := parser.ParseFile(token.NewFileSet(), "x.go", "package x; "+text, 0)
		require.NoError(t, err, text)
		assert.Equal(t, []string{want}, dials(f))
	}
}
