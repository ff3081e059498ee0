// Package simtest starts stand-ins for tests, with the encoded pictures kept between runs.
package simtest

import (
	"context"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"unlatch/sim"
	"unlatch/sim/scene"
)

// MediaDir returns the folder of encoded clips in the source tree that the test runs in.
func MediaDir(t testing.TB) string {
	dir, err := os.Getwd()
	require.NoError(t, err)
	for {
		if _, err := os.Stat(filepath.Join(dir, "go.mod")); err == nil {
			return filepath.Join(dir, ".unlatch", "media")
		}
		if dir == filepath.Dir(dir) {
			return t.TempDir()
		}
		dir = filepath.Dir(dir)
	}
}

// Start runs a scenario until the test ends.
func Start(t testing.TB, scenario string) *sim.World {
	t.Helper()
	s, err := sim.ParseScenario([]byte(scenario))
	require.NoError(t, err)
	w, err := sim.Start(context.Background(), s, sim.Options{Media: &scene.Library{Dir: MediaDir(t)}})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, w.Stop()) })
	return w
}

// Serve serves HTTP at a loopback address, on a port of its own, until the test ends. It returns the URL.
func Serve(t testing.TB, at string, h http.HandlerFunc) string {
	t.Helper()
	l, err := net.Listen("tcp4", at+":0")
	require.NoError(t, err)
	s := httptest.NewUnstartedServer(h)
	s.Listener.Close()
	s.Listener = l
	s.Start()
	t.Cleanup(s.Close)
	return s.URL
}
